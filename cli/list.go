package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/rows"
)

// listing is a list as a command shows it: a page at a time, searched, sorted and filtered by the
// service.
type listing[Row any] struct {
	use, short     string // use is "list" where it is empty
	about, example string
	plural         string
	filters        []string // records are named without "_id", and given by name or ID
	columns        []string
	load           func(ctx context.Context, c *client.Client, q client.Query) (api.Page[Row],
		error)
	row func(Row) table.Row
}

// list makes the command of a listing.
func list[Row any](a *app, l listing[Row]) *cobra.Command {
	var q client.Query
	var all bool
	use := l.use
	if use == "" {
		use = "list"
	}
	about := l.about
	if len(l.filters) > 0 {
		about += "\nFilters: " + strings.Join(l.filters, ", ") + "."
	}
	cmd := &cobra.Command{
		Use:     use,
		Short:   l.short,
		Args:    exactly(),
		Long:    about,
		Example: l.example,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				query, err := named(ctx, c, q)
				if err != nil {
					return err
				}
				var page api.Page[Row]
				if all {
					page, err = everything(ctx, c, query, l.load)
				} else {
					page, err = l.load(ctx, c, query)
				}
				if err != nil {
					return err
				}
				if a.output == "csv" {
					return writeCSV(a.Out, page.Items)
				}
				if err := a.print(page, func(w table.Writer) {
					if len(page.Items) == 0 {
						return
					}
					w.AppendHeader(heads(l.columns...))
					for _, r := range page.Items {
						w.AppendRow(l.row(r))
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", countedPage(page, q.Offset, l.plural))
				}
				return nil
			})
		},
	}
	pageFlags(cmd, &q)
	cmd.Flags().
		BoolVar(&all, "all", false, "every row, not one page (with -o csv: for a spreadsheet)")
	cmd.Annotations = map[string]string{"output": "csv"}
	if len(l.filters) > 0 {
		first, _, _ := strings.Cut(l.filters[0], " ")
		cmd.Flags().
			StringToStringVar(&q.Filter, "filter", nil, "condition KEY=VALUE, such as "+first+
				"=VALUE (repeat for several)")
	}
	return cmd
}

// onePage is how many rows a whole list is read by.
const onePage = 500

// everything reads all pages of a list.
func everything[Row any](
	ctx context.Context,
	c *client.Client,
	q client.Query,
	load func(ctx context.Context, c *client.Client, q client.Query) (api.Page[Row], error),
) (api.Page[Row], error) {
	whole := api.Page[Row]{Items: []Row{}}
	q.Limit = onePage
	for {
		page, err := load(ctx, c, q)
		if err != nil {
			return whole, err
		}
		whole.Items = append(whole.Items, page.Items...)
		whole.Total = len(whole.Items)
		if len(page.Items) < onePage {
			return whole, nil
		}
		q.Offset += onePage
	}
}

func writeCSV[Row any](w io.Writer, list []Row) error {
	records := make([]json.RawMessage, len(list))
	for i, row := range list {
		data, err := json.Marshal(row)
		if err != nil {
			return err
		}
		records[i] = data
	}
	return rows.WriteCSV(w, records)
}

func pageFlags(cmd *cobra.Command, q *client.Query) {
	cmd.Flags().StringVar(&q.Search, "search", "", "text to search for")
	cmd.Flags().StringVar(&q.Sort, "sort", "", "field to sort by; -FIELD sorts descending")
	cmd.Flags().IntVar(&q.Limit, "limit", 50, "maximum rows")
	cmd.Flags().IntVar(&q.Offset, "offset", 0, "rows to skip")
}

// references are the filters that name a record, with what finds its identifier.
var references = map[string]func(ctx context.Context, c *client.Client, ref string) (string, error){
	"gateway": gatewayID,
	"person":  personID,
	"device":  deviceID,
	"account": accountID,
	"pattern": patternID,
	"profile": func(ctx context.Context, c *client.Client, ref string) (string, error) {
		p, err := findProfile(ctx, c, ref)
		return p.ID, err
	},
	"authority": func(ctx context.Context, c *client.Client, ref string) (string, error) {
		a, err := findAuthority(ctx, c, ref)
		return a.ID, err
	},
}

// named replaces names of records in filters by the identifiers that the service filters by.
func named(ctx context.Context, c *client.Client, q client.Query) (client.Query, error) {
	filter := make(map[string]string, len(q.Filter))
	for key, value := range q.Filter {
		if find, ok := references[key]; ok {
			id, err := find(ctx, c, value)
			if err != nil {
				return q, err
			}
			key, value = key+"_id", id
		}
		filter[key] = value
	}
	q.Filter = filter
	return q, nil
}

// shownFilters are the service's filters as the command line names them.
func shownFilters(filters []string) []string {
	shown := slices.Clone(filters)
	for i, f := range shown {
		if short, ok := strings.CutSuffix(f, "_id"); ok && references[short] != nil {
			shown[i] = short
		}
	}
	return shown
}

// countedPage words how much of a list is shown; what a filter matches is counted to a bound.
func countedPage[Row any](page api.Page[Row], offset int, plural string) string {
	shown := len(page.Items)
	switch {
	case page.More:
		return fmt.Sprintf(
			"%d to %d of more than %d %s",
			offset+1,
			offset+shown,
			page.Total,
			plural,
		)
	case page.Total == 0:
		return "no " + plural
	case page.Total == 1 && shown == 1:
		return "1 " + singular(plural)
	case shown == page.Total:
		return fmt.Sprintf("%d %s", page.Total, plural)
	}
	return fmt.Sprintf("%d to %d of %d %s", offset+1, offset+shown, page.Total, plural)
}

// singular is the singular of a plural that is a noun of ours.
func singular(plural string) string {
	switch {
	case plural == "people":
		return "person"
	case strings.HasSuffix(plural, "ies"):
		return strings.TrimSuffix(plural, "ies") + "y"
	}
	return strings.TrimSuffix(plural, "s")
}
