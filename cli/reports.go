package cli

import (
	"context"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

func (a *app) problemReports() *cobra.Command {
	root := &cobra.Command{
		Use:   "problem",
		Short: "Read the problems that people report",
		Long: "People report problems on their page. Each report names the likeliest cause; " +
			"secrets in it are masked.",
		Example: "  wardicon handover problem list --filter open=true\n  wardicon handover " +
			"problem close rp-abc",
	}
	reports := list(a, listing[api.Report]{
		short:   "List problem reports, newest first",
		about:   "Lists the problems that people reported.",
		plural:  "problem reports",
		example: "  wardicon handover problem list --filter open=true",
		filters: []string{"open (true or false)", "profile"},
		columns: []string{"when", "person", "profile", "likeliest cause", "message", "id"},
		load: func(ctx context.Context, c *client.Client, q client.Query) (api.Page[api.Report],
			error) {
			return c.Reports(ctx, q)
		},
		row: func(r api.Report) table.Row {
			return table.Row{
				r.Created.Local().Format(moment),
				r.Person,
				r.Device + "/" + r.Gateway,
				r.Cause,
				r.Message,
				r.ID,
			}
		},
	})
	return group(root, reports, &cobra.Command{
		Use:     "close ID",
		Short:   "Close a problem report",
		Args:    exactly("ID"),
		Long:    "Marks a problem report as resolved.",
		Example: "  wardicon handover problem close rp-abc",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(
				cmd,
				func(ctx context.Context, c *client.Client) error {
					return c.CloseReport(ctx, args[0])
				},
			)
		},
	})
}
