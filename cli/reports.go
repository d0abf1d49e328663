package cli

import (
	"context"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/client"
)

func (a *app) reportCommands() *cobra.Command {
	root := &cobra.Command{
		Use: "report", Short: "What people said does not work", Long: "People can say on their page what does not work. Each report names the likeliest cause; secrets in it are masked.",
		Example: "  wardicon report list --filter open=yes\n  wardicon report close rp-abc",
	}
	var q client.Query
	list := &cobra.Command{
		Use: "list", Short: "List reports, newest first", Args: exactly(), Long: "Lists reports, newest first; those that nobody dealt with by --filter open=yes.", Example: "  wardicon report list --filter open=yes",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Reports(ctx, q)
				if err != nil {
					return err
				}
				return a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("at", "person", "profile", "likeliest cause", "said", "id"))
					w.SetColumnConfigs([]table.ColumnConfig{wrapped(4, 40), wrapped(5, 50)})
					for _, r := range page.Items {
						w.AppendRow(table.Row{r.Created.Local().Format(time.DateTime), r.Person, r.Device + "/" + r.Gateway, r.Cause, r.Message, r.ID})
					}
				})
			})
		},
	}
	pageFlags(list, &q)
	list.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions: profile_id, open")
	return group(root, list, &cobra.Command{
		Use: "close ID", Short: "Note that a report was dealt with", Args: exactly("ID"), Long: "Notes that a report was dealt with.", Example: "  wardicon report close rp-abc",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error { return c.CloseReport(ctx, args[0]) })
		},
	})
}
