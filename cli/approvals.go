package cli

import (
	"context"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

// approvalCommands are those of what takes two operators.
func (a *app) approvalCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "approval",
		Short: "Approve what takes two operators",
		Long: `With "wardicon organisation change --four-eyes", two operators are needed to export
the key of a CA or the archive of a group, to override an error temporarily, and to change the
severity of a rule. The first one tries, which asks for the approval; another one grants it within
24 hours, and the first one does it again within an hour.`,
		Example: "  wardicon operator approval list\n" +
			"  wardicon operator approval grant ap-4xk7q2m9h3vw8tzp",
	}
	return group(root, a.approvalList(), a.approvalDecide("grant", "Say yes to", true),
		a.approvalDecide("refuse", "Say no to", false))
}

func (a *app) approvalList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List what operators want to do that takes two", Args: exactly(),
		Long:    "Lists what was asked in the last 90 days, the newest first.",
		Example: "  wardicon operator approval list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.Approvals(ctx)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) { sayApprovals(w, list.Items...) })
			})
		},
	}
}

func sayApprovals(w table.Writer, list ...api.Approval) {
	w.AppendHeader(heads("id", "asked", "by", "what", "state"))
	for _, x := range list {
		state := "waits for another " + x.Role
		switch {
		case x.Used != nil:
			state = "done, granted by " + x.By
		case x.Decided != nil && x.Granted:
			state = "granted by " + x.By
		case x.Decided != nil:
			state = "refused by " + x.By
		case time.Since(x.Created) > 24*time.Hour:
			state = "expired"
		}
		w.AppendRow(table.Row{x.ID, x.Created.Local().Format(moment), x.Operator, x.What, state})
	}
}

func (a *app) approvalDecide(name, does string, granted bool) *cobra.Command {
	return &cobra.Command{
		Use: name + " ID", Short: does + " what another operator wants to do", Args: exactly("ID"),
		Long:    does + " what another operator wants to do; it needs your password again.",
		Example: "  wardicon operator approval " + name + " ap-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				x, err := c.Decide(ctx, args[0], granted)
				if err != nil {
					return err
				}
				return a.print(x, func(w table.Writer) { sayApprovals(w, x) })
			})
		},
	}
}
