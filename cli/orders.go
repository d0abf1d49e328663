package cli

import (
	"context"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

// orderWait is how long an order is waited for.
const orderWait = 3 * time.Minute

// certificateOrder has an ACME CA issue a gateway's certificate.
func (a *app) certificateOrder() *cobra.Command {
	var request string
	o := api.NewOrder{}
	cmd := &cobra.Command{
		Use:   "order GATEWAY",
		Short: "Have an ACME CA issue a gateway's certificate, and renew it",
		Args:  exactly("GATEWAY"),
		Long: `Sends a gateway's signing request (PKCS #10) to the ACME CA of the service (serve
--acme-directory), and again ahead of each expiry: the key stays on the gateway. The CA checks that the
names are under control: with http-01 it reads an address below http://NAME/.well-known/acme-challenge/,
which has to redirect to this service; with dns-01 it looks up _acme-challenge.NAME, which has to be a
CNAME into the zone that this service answers (serve --look-zone). "certificate orders" says what has to
stand where. The certificate goes onto the gateway's record, and to the gateway with its configuration.`,
		Example: "  openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout norrvik.key -subj / " +
			"-addext subjectAltName=DNS:norrvik.skerryline.example -out norrvik.csr\n" +
			"  wardicon certificate order Norrvik --request norrvik.csr --challenge http-01",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				data, err := a.read(request)
				if err != nil {
					return err
				}
				g, err := findGateway(ctx, c, args[0])
				if err != nil {
					return err
				}
				o.Request = string(data)
				placed, err := c.PlaceOrder(ctx, g.ID, o)
				if err != nil {
					return err
				}
				for end := time.Now().Add(orderWait); placed.State == api.OrderWaiting && time.Now().Before(end); {
					time.Sleep(250 * time.Millisecond)
					if placed, err = c.Order(ctx, g.ID); err != nil {
						return err
					}
				}
				if err := a.print(placed, func(w table.Writer) { orderRows(w, placed) }); err != nil {
					return err
				}
				if placed.State == api.OrderFailed {
					return errFindings
				}
				return nil
			})
		},
	}
	cmd.Flags().
		StringVar(&request, "request", "", "file with the signing request, - for standard input")
	cmd.Flags().StringVar(&o.Challenge, "challenge", api.ChallengeHTTP, "http-01 or dns-01")
	_ = cmd.MarkFlagRequired("request")
	return cmd
}

func orderRows(w table.Writer, o api.Order) {
	rows := []table.Row{
		{"gateway", o.Gateway},
		{"names", strings.Join(o.Names, ", ")},
		{"state", o.State},
	}
	if o.Problem != "" {
		rows = append(rows, table.Row{"the CA said", o.Problem})
	}
	if o.Expires != nil {
		rows = append(rows, table.Row{"expires", o.Expires.Local().Format(time.DateTime)})
	}
	rows = append(
		rows,
		table.Row{
			map[bool]string{true: "tried again", false: "renewed"}[o.State == api.OrderFailed],
			o.Next.Local().Format(time.DateTime),
		},
	)
	for _, line := range o.Setup {
		rows = append(rows, table.Row{"needed", line})
	}
	w.AppendRows(rows)
}

// certificateOrders lists the orders, and ends one.
func (a *app) certificateOrders() *cobra.Command {
	var end string
	cmd := &cobra.Command{
		Use:     "orders",
		Short:   "List the gateways whose certificates an ACME CA issues, or end one",
		Args:    exactly(),
		Long:    "Lists the orders at the ACME CA with what it said last. One that failed is tried again.",
		Example: "  wardicon certificate orders\n  wardicon certificate orders --end Norrvik",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if end != "" {
					g, err := findGateway(ctx, c, end)
					if err != nil {
						return err
					}
					if err := c.EndOrder(ctx, g.ID); err != nil {
						return err
					}
				}
				list, err := c.Orders(ctx)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(
						heads(
							"gateway",
							"names",
							"challenge",
							"state",
							"expires",
							"next",
							"the CA said",
						),
					)
					for _, o := range list.Items {
						expires := ""
						if o.Expires != nil {
							expires = o.Expires.Local().Format(time.DateOnly)
						}
						w.AppendRow(
							table.Row{
								o.Gateway,
								strings.Join(o.Names, ", "),
								o.Challenge,
								o.State,
								expires,
								o.Next.Local().Format(time.DateTime),
								o.Problem,
							},
						)
					}
				})
			})
		},
	}
	cmd.Flags().StringVar(&end, "end", "", "gateway whose certificate is renewed no longer")
	return cmd
}
