package cli

import (
	"context"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

// enrol lets a device ask for its certificate itself.
func (a *app) enrol() *cobra.Command {
	var authority string
	var hours int
	cmd := &cobra.Command{
		Use:   "enrol DEVICE",
		Short: "Let a device get a certificate for a key that it makes itself",
		Long: `Creates an enrolment secret with which the device gets one certificate by EST (RFC 7030,
as the password) or SCEP (RFC 8894, as the challenge password), for a key that never leaves it. The
secret is shown once; hand it over by a way that nobody else reads. The same request again gets
the same certificate. With its certificate the device renews it by itself.`,
		Args: exactly("DEVICE"),
		Example: "  wardicon certificate enrol \"Engine laptop 1\" --authority \"Skerry Line\"\n" +
			"  wardicon certificate enrol \"Engine laptop 1\" --authority \"Skerry Line\" --hours 8",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				d, by, err := issuing(ctx, c, args[0], authority)
				if err != nil {
					return err
				}
				made, err := c.MakeEnrolment(ctx, d.ID, by.ID, hours)
				if err != nil {
					return err
				}
				return a.print(made, func(w table.Writer) {
					w.AppendRows([]table.Row{
						{"device", made.Device}, {"CA", made.Authority}, {"secret", made.Secret},
						{"expires", made.Expires.Local().Format(time.DateTime)},
						{"EST", made.EST}, {"SCEP", made.SCEP}, {"id", made.ID},
					})
				})
			})
		},
	}
	cmd.Flags().StringVar(&authority, "authority", "", "CA that issues the certificate")
	cmd.Flags().IntVar(&hours, "hours", 0, "hours that the secret is valid for; 0 means 72")
	return cmd
}

// enrolments lists a device's enrolment secrets, and revokes one.
func (a *app) enrolments() *cobra.Command {
	var end string
	cmd := &cobra.Command{
		Use:     "enrolments DEVICE",
		Short:   "List a device's enrolment secrets, or revoke one",
		Long:    "Lists the enrolment secrets of a device, without their values.",
		Args:    exactly("DEVICE"),
		Example: "  wardicon certificate enrolments \"Engine laptop 1\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if end != "" {
					if err := c.EndEnrolment(ctx, end); err != nil {
						return err
					}
				}
				d, err := findDevice(ctx, c, args[0])
				if err != nil {
					return err
				}
				list, err := c.Enrolments(ctx, d.ID)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("id", "CA", "expires", "by", "state"))
					for _, e := range list.Items {
						w.AppendRow(table.Row{e.ID, e.Authority,
							e.Expires.Local().Format(time.DateTime), e.Operator, enrolState(e)})
					}
				})
			})
		},
	}
	cmd.Flags().StringVar(&end, "end", "", "revoke the secret with this identifier")
	return cmd
}

func enrolState(e api.Enrolment) string {
	switch {
	case e.Used != nil:
		return "used on " + e.Used.Local().Format(time.DateTime) + ", serial number " + e.Serial
	case e.Expires.Before(time.Now()):
		return "expired"
	}
	return "not used"
}
