package cli

import (
	"context"
	"os"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

// gatewayDelivery lets a gateway fetch its configuration, and shows what it runs.
func (a *app) gatewayDelivery() *cobra.Command {
	var script, reload, address string
	var end bool
	cmd := &cobra.Command{
		Use:   "delivery GATEWAY",
		Short: "Let a gateway fetch its configuration, and show which version it runs",
		Args:  exactly("GATEWAY"),
		Long: `With --script, writes a script for the gateway that fetches its configuration
(that of wardicon gateway config), puts each changed file into place whole or not at all, and
runs --reload if something has changed. Run it there as root by a timer. It holds a token for
this gateway alone; making another ends the one before, and --end takes it away.

Without, shows when the gateway asked last, and whether it runs what is on record.`,
		Example: `  wardicon gateway delivery Norrvik --script norrvik-fetch.sh \
      --reload "swanctl --load-all --noprompt && systemctl restart openvpn-server@norrvik-udp-1194"
  wardicon gateway delivery Norrvik
  wardicon gateway delivery Norrvik --end`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				g, err := findGateway(ctx, c, args[0])
				if err != nil {
					return err
				}
				switch {
				case end:
					if err := a.sure("Take the token of %s away?", g.Name); err != nil {
						return err
					}
					return c.EndDelivery(ctx, g.ID)
				case script != "":
					if err := unused(script); err != nil {
						return err
					}
					if address == "" {
						address = a.connection().Service
					}
					made, err := c.NewDelivery(ctx, g.ID, reload, address)
					if err != nil {
						return err
					}
					if err := os.WriteFile(script, []byte(made.Script), 0o700); err != nil {
						return err
					}
					a.say(
						"%s fetches from %s; only root of %s may read it",
						script,
						made.URL,
						g.Name,
					)
					return nil
				}
				d, err := c.Delivery(ctx, g.ID)
				if err != nil {
					return err
				}
				return a.print(d, func(table.Writer) { a.sayDelivery(g.Name, d) })
			})
		},
	}
	cmd.Flags().StringVar(&script, "script", "", "new file to write the script to")
	cmd.Flags().StringVar(&reload, "reload", "", "command that reloads the gateway's daemons")
	cmd.Flags().StringVar(&address, "from", "",
		"address of the service as the gateway reaches it (default: the one that you use)")
	cmd.Flags().BoolVar(&end, "end", false, "take the token away")
	return cmd
}

func (a *app) sayDelivery(name string, d api.Delivery) {
	switch {
	case d.Seen == nil:
		a.say("%s has not asked for its configuration yet", name)
	case d.Runs == "":
		a.say("%s asked first %s", name, d.Seen.Local().Format(moment))
	case d.Runs == d.Offered:
		a.say(
			"%s runs what was on record %s (version %.8s)",
			name,
			d.Seen.Local().Format(moment),
			d.Runs,
		)
	default:
		a.say("%s asked %s and runs version %.8s; %.8s is on record", name,
			d.Seen.Local().Format(moment), d.Runs, d.Offered)
	}
}
