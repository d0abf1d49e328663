package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/client"
)

func (a *app) probe() *cobra.Command {
	var port int
	cmd := &cobra.Command{
		Use: "probe GATEWAY", Short: "Ask a gateway on the network what it takes by IKEv2", Args: exactly("GATEWAY"),
		Long: `Lets the service ask a gateway on record for the beginning of IKEv2, suite by suite: those of the record, and usual ones.
It sends at most four packets a second and never goes on to a sign-in. What differs from the record is listed (exit 1).
Other protocols are not asked.`,
		Example: "  wardicon probe Brattvik\n  wardicon probe Brattvik --output json",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				g, err := findGateway(ctx, c, args[0])
				if err != nil {
					return err
				}
				p, err := c.Probe(ctx, g.ID, port)
				if err != nil {
					return err
				}
				if err := a.print(p, func(w table.Writer) {
					w.AppendHeader(heads("address", "answers in", "takes", "refuses"))
					w.SetColumnConfigs([]table.ColumnConfig{wrapped(3, 60), wrapped(4, 60)})
					for _, r := range p.IKEv2 {
						answers := "no answer"
						if r.Answered {
							answers = fmt.Sprintf("%.1f ms", r.Milliseconds)
						}
						w.AppendRow(table.Row{r.Address, answers, strings.Join(r.Taken, ", "), strings.Join(r.Refused, ", ")})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					for _, r := range p.IKEv2 {
						for _, n := range r.Notes {
							a.say("note: %s: %s", r.Address, n)
						}
					}
					for _, d := range p.Differences {
						a.say("differs: %s", d)
					}
				}
				if len(p.Differences) > 0 {
					return errFindings
				}
				return nil
			})
		},
	}
	cmd.ValidArgsFunction = gatewayNoun().complete(a)
	cmd.Flags().IntVar(&port, "port", 0, "port that answers IKE (500)")
	return cmd
}
