package cli

import (
	"context"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/client"
)

// handoverCommands are those of parcels on their way.
func (a *app) handoverCommands() *cobra.Command {
	root := &cobra.Command{
		Use: "handover", Short: "Give a parcel to its person by a link and a passcode", GroupID: "work",
		Long: `A link leads to the newest parcel of a profile. It ends after some days and some openings, asks for a passcode that you
tell another way, and is closed for good after ten wrong ones. Neither link nor passcode can be read back.`,
		Example: "  wardicon handover make \"Planner Mac 1/Norrvik\"\n  wardicon handover list --filter state=made\n  wardicon handover recall ho-4xk7q2m9h3vw8tzp",
	}
	var days, openings int
	made := &cobra.Command{
		Use: "make PROFILE", Short: "Make a link to the newest parcel of a profile", Args: exactly("PROFILE"),
		Long:    "Prints the link and the passcode, once. The parcel must be built, and as it would be built now.",
		Example: "  wardicon handover make \"Planner Mac 1/Norrvik\" --days 3 --openings 1",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				p, err := findProfile(ctx, c, args[0])
				if err != nil {
					return err
				}
				n, err := c.MakeHandover(ctx, p.ID, days, openings)
				if err != nil {
					return err
				}
				return a.print(n, func(table.Writer) {
					a.say("link      %s%s\npasscode  %s\n\nfor %s, %s, until %s or %d openings (%s). Tell the passcode another way than the link.", c.Address(), n.Path, n.Passcode,
						n.Handover.Device, n.Handover.Person, n.Handover.Expires.Local().Format(moment), n.Handover.Most, n.Handover.ID)
				})
			})
		},
	}
	made.ValidArgsFunction = profileNoun().complete(a)
	made.Flags().IntVar(&days, "days", 0, "days until the link ends (7)")
	made.Flags().IntVar(&openings, "openings", 0, "openings that it allows (3)")
	var q client.Query
	list := &cobra.Command{
		Use: "list", Short: "List parcels on their way, newest first", Args: exactly(),
		Long:    "Lists handovers with their state: made, opened, fetched, expired, used-up, locked, recalled.\nFilters: state, profile_id, device_id, person_id.",
		Example: "  wardicon handover list --filter state=made\n  wardicon handover list --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Handovers(ctx, q)
				if err != nil {
					return err
				}
				if err := a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("device", "gateway", "person", "state", "openings", "ends", "id"))
					for _, h := range page.Items {
						w.AppendRow(table.Row{h.Device, h.Gateway, h.Person, h.State, fmt.Sprintf("%d of %d", h.Openings, h.Most), h.Expires.Local().Format(moment), h.ID})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", counted(len(page.Items), q.Offset, page.Total, "handovers"))
				}
				return nil
			})
		},
	}
	pageFlags(list, &q)
	list.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions such as state=made")
	return group(root, made, list, &cobra.Command{
		Use: "recall ID", Short: "Close a link at once", Args: exactly("ID"), Long: "Closes a link, and shuts out whoever has it open. What was fetched is fetched.", Example: "  wardicon handover recall ho-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				h, err := c.RecallHandover(ctx, args[0])
				if err != nil {
					return err
				}
				return a.print(h, func(table.Writer) { a.say("the link for %s is closed; it was opened %d times", h.Device, h.Openings) })
			})
		},
	})
}
