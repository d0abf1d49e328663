package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/rows"
)

// tableFlags say how a table of records is read.
type tableFlags struct {
	noun, key string
	columns   []string
}

func (f *tableFlags) on(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.noun, "rows", "people",
		"what the rows of a table are: people or gateways")
	cmd.Flags().StringVar(&f.key, "key", "",
		"field that matches rows to records: name, mail or login (default: the most "+
			"telling one that has a column)")
	cmd.Flags().StringArrayVar(&f.columns, "map", nil,
		"field of a column, such as \"E-Mail=mail\"; may be repeated (default: as the last time, "+
			"or "+
			"by the names of the columns)")
}

// mapping reads the flags; nil where there are none.
func (f *tableFlags) mapping() (rows.Mapping, error) {
	if f.columns == nil {
		return nil, nil
	}
	m := rows.Mapping{}
	for _, one := range f.columns {
		at := strings.LastIndex(one, "=")
		if at < 1 {
			return nil, usage("--map: found %q, expected COLUMN=FIELD, such as E-Mail=mail", one)
		}
		m[one[:at]] = one[at+1:]
	}
	return m, nil
}

// importTable previews a table of records, and imports it unless it is a dry run.
func (a *app) importTable(
	ctx context.Context,
	c *client.Client,
	file string,
	data []byte,
	f tableFlags,
	dry, background bool,
) error {
	m, err := f.mapping()
	if err != nil {
		return err
	}
	i, err := c.ShowImport(ctx, filepath.Base(file), data, rows.Noun(f.noun), m, f.key)
	if err != nil {
		return err
	}
	wrong := i.Rows[api.RowWrong]
	some := i.Rows[api.RowAdd]+i.Rows[api.RowChange] > 0
	if dry || !some || a.output == "table" {
		page, err := c.ImportRows(ctx, i.ID, client.Query{Limit: 50, Filter: shownRows(wrong)})
		if err != nil {
			return err
		}
		if dry || !some {
			if err := a.print(imported{i, page.Items}, func(w table.Writer) {
				a.sayImport(i)
				rowTable(w, page.Items)
			}); err != nil {
				return err
			}
			if a.output == "table" {
				a.say("%s", countedPage(page, 0, "rows shown here"))
				a.say("Nothing was imported%s.", map[bool]string{true: " (--dry-run)"}[dry])
			}
			if wrong > 0 {
				return errFindings
			}
			return nil
		}
		a.sayImport(i)
		for _, r := range page.Items {
			for _, p := range r.Problems {
				a.say("%s", problemText(p))
			}
		}
	}
	if wrong > 0 {
		if err := a.sure("Import the other rows without the %d wrong ones?", wrong); err != nil {
			return err
		}
	}
	j, err := c.SetImport(ctx, i.ID, api.ImportDone)
	if err := a.follow(ctx, c, j, err, background); err != nil {
		return err
	}
	if a.output == "table" {
		a.say("wardicon import undo %s takes it back, for 30 days.", i.ID)
	}
	if wrong > 0 {
		return errFindings
	}
	return nil
}

// tables takes the tables of records out of the files of a command.
func (a *app) tables(args []string) (tables, others []string, err error) {
	for _, arg := range args {
		info, err := os.Stat(arg)
		if err != nil || info.IsDir() || info.Size() > rows.MaxBytes {
			others = append(others, arg)
			continue
		}
		data, err := os.ReadFile(arg)
		if err != nil {
			return nil, nil, err
		}
		if rows.Is(arg, data) {
			tables = append(tables, arg)
		} else {
			others = append(others, arg)
		}
	}
	return tables, others, nil
}

// imported is an import as it is printed.
type imported struct {
	api.RecordImport
	Items []api.ImportRow `json:"items"`
}

// shownRows shows what is wrong first.
func shownRows(wrong int) map[string]string {
	if wrong > 0 {
		return map[string]string{"outcome": string(api.RowWrong)}
	}
	return nil
}

func (a *app) sayImport(i api.RecordImport) {
	a.say("%s: %s in %s, matched by %s", i.File, i.Kind, i.Encoding, i.Key)
	for _, column := range i.Columns {
		field := i.Mapping[column]
		if field == "" {
			field = "not imported"
		}
		a.say("  %s → %s", column, field)
	}
	var counts []string
	for _, outcome := range slices.Sorted(maps.Keys(i.Rows)) {
		text := string(outcome)
		if outcome == api.RowAdd || outcome == api.RowChange {
			text = "to " + text
		}
		counts = append(counts, fmt.Sprintf("%d %s", i.Rows[outcome], text))
	}
	a.say("%s: %s", plural(i.Total(), "row"), strings.Join(counts, ", "))
}

func problemText(p api.RowProblem) string {
	at := fmt.Sprintf("line %d", p.Line)
	if p.Column > 0 {
		at += fmt.Sprintf(", column %d", p.Column)
	}
	if p.Name != "" {
		at += " (" + p.Name + ")"
	}
	text := fmt.Sprintf("%s: found %s, expected %s", at, p.Found, p.Expected)
	if p.Fix != "" {
		text += "; " + p.Fix
	}
	return text
}

func rowTable(w table.Writer, list []api.ImportRow) {
	w.AppendHeader(heads("line", "row", "outcome", "what"))
	for _, r := range list {
		what := slices.Clone(r.Changes)
		for _, p := range r.Problems {
			what = append(what, problemText(p))
		}
		w.AppendRow(table.Row{r.Line, r.Title, r.Outcome, strings.Join(what, "\n")})
	}
}

// importHistory are the commands on imports of tables that were made.
func (a *app) importHistory() []*cobra.Command {
	undo := &cobra.Command{
		Use:   "undo ID",
		Short: "Undo an import of a table",
		Args:  exactly("ID"),
		Long: `Removes what an import has added and puts back what it has changed. What was
changed or used since stays, and is listed by wardicon import rows.`,
		Example: "  wardicon import undo im-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				i, err := c.RecordImport(ctx, args[0])
				if err != nil {
					return err
				}
				n := i.Rows[api.RowAdded] + i.Rows[api.RowChanged]
				if err := a.sure("Undo the import of %s of "+
					"%s?", plural(n, "row"), i.File); err != nil {
					return err
				}
				j, err := c.SetImport(ctx, args[0], api.ImportUndone)
				return a.follow(ctx, c, j, err, false)
			})
		},
	}
	imports := list(a, listing[api.RecordImport]{
		short:   "List imports of tables",
		about:   "Lists tables that were previewed or imported, newest first.",
		example: "  wardicon import list\n  wardicon import list --filter state=imported",
		plural:  "imports",
		filters: []string{"state", "noun"},
		columns: []string{"file", "rows of", "state", "rows", "by", "created", "id"},
		load: func(ctx context.Context, c *client.Client, q client.Query) (
			api.Page[api.RecordImport], error,
		) {
			return c.RecordImports(ctx, q)
		},
		row: func(i api.RecordImport) table.Row {
			return table.Row{i.File, i.Noun, i.State, i.Total(), i.Operator,
				i.Created.Local().Format(time.DateTime + " MST"), i.ID}
		},
	})
	var outcome string
	shown := &cobra.Command{
		Use:     "rows ID",
		Short:   "List the rows of an import",
		Args:    exactly("ID"),
		Long:    "Lists the rows of a table with what became of each, or what is wrong with it.",
		Example: "  wardicon import rows im-4xk7q2m9h3vw8tzp --outcome wrong",
	}
	var q client.Query
	shown.RunE = func(cmd *cobra.Command, args []string) error {
		return a.with(cmd, func(ctx context.Context, c *client.Client) error {
			if outcome != "" {
				q.Filter = map[string]string{"outcome": outcome}
			}
			page, err := c.ImportRows(ctx, args[0], q)
			if err != nil {
				return err
			}
			if err := a.print(page, func(w table.Writer) { rowTable(w, page.Items) }); err != nil {
				return err
			}
			if a.output == "table" {
				a.say("%s", countedPage(page, q.Offset, "rows"))
			}
			return nil
		})
	}
	shown.Flags().StringVar(&outcome, "outcome", "",
		"only rows of one outcome: add, change, same, wrong, added, changed, refused, undone or "+
			"kept")
	pageFlags(shown, &q)
	return []*cobra.Command{imports, shown, undo}
}
