package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/pki"
)

func (a *app) certificateCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "certificate",
		Short: "Issue, list, renew and revoke certificates",
		Long: `Certificates that the authorities on record have issued. The CRL of each is served
at /lists/ID.crl, the delta CRL at /lists/ID.delta.crl, without sign-in. Where a CA's key is kept
elsewhere, "request" creates the signing request, and "answer" imports the certificate.`,
		Example: `  wardicon certificate issue "Engine laptop 1" --authority "Skerry Line"
  wardicon certificate bundle Norrvik --authority "Skerry Line" --out norrvik
  wardicon certificate enrol "Engine laptop 1" --authority "Skerry Line"
  wardicon certificate list --filter days=60
  wardicon certificate chain --gateway Norrvik
  wardicon certificate revoke --device "Engine laptop 1" --reason key-compromise`,
	}
	return group(
		root,
		a.certificateList(),
		a.certificateShow(),
		a.certificateChain(),
		a.certificateIssue(),
		a.certificateSign(),
		a.certificateBundle(),
		a.certificateBring(),
		a.certificateDrop(),
		a.certificateRequest(),
		a.certificateRequests(),
		a.certificateAnswer(),
		a.certificateForget(),
		a.certificateRevoke(),
		a.enrol(),
		a.enrolments(),
		a.certificateOrder(),
		a.certificateOrders(),
		a.expiries(),
	)
}

func (a *app) certificateList() *cobra.Command {
	return list(a, listing[api.Certificate]{
		short: "List certificates, first to expire first",
		about: "Lists issued certificates. --search looks at subjects, names, serial numbers " +
			"and devices.",
		example: "  wardicon certificate list --filter days=60,revoked=false\n  wardicon " +
			"certificate list --search engine --output json",
		filters: []string{
			"authority",
			"device",
			"gateway",
			"usage",
			"serial",
			"revoked (true or false)",
			"days (expires within so many)",
			"expires_after (a date such as 2027-01-31)",
		},
		plural:  "certificates",
		columns: []string{"id", "subject", "names", "for", "authority", "expires", "state"},

		load: func(ctx context.Context, c *client.Client,
			q client.Query) (api.Page[api.Certificate], error) {
			return c.Certificates(ctx, q)
		},
		row: func(r api.Certificate) table.Row {
			return table.Row{
				r.ID, r.Subject, strings.Join(r.Names, ", "), string(r.Usage), r.Authority,
				r.To.Local().Format(time.DateOnly), state(r),
			}
		},
	})
}

// expiries is the calendar of what ends.
func (a *app) expiries() *cobra.Command {
	days := 60
	cmd := &cobra.Command{
		Use:   "calendar",
		Short: "List authorities and certificates that expire soon",
		Args:  exactly(),
		Long: "Lists what expires soon, and what has expired in the last 30 days. The service " +
			"logs a warning\n60, 30 and 7 days before. Exits 1 if something has expired.",
		Example: "  wardicon certificate calendar\n  wardicon certificate calendar --days 365 " +
			"--output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.Expiries(ctx, days)
				if err != nil {
					return err
				}
				if err := a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("expires", "days", "what", "of"))
					for _, e := range list.Items {
						w.AppendRow(
							table.Row{
								e.Expires.Local().Format(time.DateOnly),
								e.Days,
								e.What,
								e.Noun + " " + e.Name,
							},
						)
					}
				}); err != nil {
					return err
				}
				if a.output == "table" && len(list.Items) == 0 {
					a.say("nothing expires within %d days", days)
				}
				if slices.ContainsFunc(list.Items, func(e api.Expiry) bool { return e.Days < 0 }) {
					return errFindings
				}
				return nil
			})
		},
	}
	cmd.Flags().IntVar(&days, "days", 60, "number of days to look ahead")
	return cmd
}

// state words whether a certificate is good.
func state(c api.Certificate) string {
	switch {
	case c.Revoked != nil:
		return fmt.Sprintf("revoked on %s, %s", c.Revoked.Local().Format(time.DateOnly), c.Reason)
	case time.Now().After(c.To):
		return "expired"
	}
	return "valid"
}

func (a *app) certificateShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show ID",
		Short: "Show a certificate",
		Args:  exactly("ID"),
		Long: "Shows the fields of a certificate, who had it issued, and the certificate as " +
			"PEM.",
		Example: "  wardicon certificate show ce-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				r, err := c.Certificate(ctx, args[0])
				if err != nil {
					return err
				}
				return a.print(r, func(table.Writer) {
					a.say(
						"%s (%s), by %s\n  names   %s\n  serial  %s\n  valid   %s to %s\n  state  "+
							" %s\n  issued  %s by %s\n\n%s",
						r.Subject,
						r.Usage,
						r.Authority,
						strings.Join(r.Names, ", "),
						r.Serial,
						r.From.Local().
							Format(time.DateOnly),
						r.To.Local().Format(time.DateOnly),
						state(r),
						r.Created.Local().Format(time.DateTime),
						r.Operator,
						strings.TrimSpace(r.PEM),
					)
				})
			})
		},
	}
}

func (a *app) certificateIssue() *cobra.Command {
	var authority string
	var names []string
	var days int
	cmd := &cobra.Command{
		Use:   "issue DEVICE",
		Short: "Create a key and a certificate for a device",
		Args:  exactly("DEVICE"),
		Long: `Creates a key of a type that the device supports, has the CA issue a certificate
for it, and stores both with the device. The old certificate stays valid until it is revoked, so
that the device keeps working until it has its new parcel. Without --name the certificate gets a
name below the organisation's domain.`,
		Example: "  wardicon certificate issue \"Engine laptop 1\" --authority \"Skerry " +
			"Line\"\n  wardicon certificate issue \"Bridge tablet 1\" --authority \"Skerry " +
			"Line\" --name ada@skerryline.example --days 90",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				d, by, err := issuing(ctx, c, args[0], authority)
				if err != nil {
					return err
				}
				r, err := c.IssueToDevice(ctx, d.ID, by.ID, names, days)
				if err != nil {
					return err
				}
				return a.print(r, func(table.Writer) {
					a.say(
						"%s has a certificate for %s, valid until %s (%s)",
						d.Name,
						strings.Join(r.Names, ", "),
						r.To.Local().Format(time.DateOnly),
						r.ID,
					)
				})
			})
		},
	}
	cmd.Flags().StringVar(&authority, "authority", "", "authority that issues it")
	cmd.Flags().
		StringSliceVar(&names, "name", nil, "host name or email address that both sides check")
	cmd.Flags().IntVar(&days, "days", 0, "days that it is valid (default: the authority's setting)")
	return cmd
}

func (a *app) certificateSign() *cobra.Command {
	var authority, request, to string
	var days int
	cmd := &cobra.Command{
		Use:   "sign GATEWAY",
		Short: "Sign a gateway's certificate request",
		Args:  exactly("GATEWAY"),
		Long: `Signs a certificate signing request (PKCS #10): the key never leaves the gateway.
Names in the request must be those of the gateway's record; without any, the certificate gets
those of the record. The output has the certificate and the intermediates, as the gateway presents
them.`,
		Example: "  openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout " +
			"norrvik.key -subj /CN=norrvik -out norrvik.csr\n  wardicon certificate sign Norrvik " +
			"--authority \"Skerry Line\" --request norrvik.csr --out norrvik.pem",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if authority == "" || request == "" {
					return usage(
						"found %q and %q, expected --authority and --request",
						authority,
						request,
					)
				}
				data, err := a.read(request)
				if err != nil {
					return err
				}
				g, err := findGateway(ctx, c, args[0])
				if err != nil {
					return err
				}
				by, err := findAuthority(ctx, c, authority)
				if err != nil {
					return err
				}
				out, err := c.IssueToGateway(ctx, g.ID, by.ID, string(data), days)
				if err != nil {
					return err
				}
				if to != "" {
					if err := os.WriteFile(to, []byte(out.Chain), 0o644); err != nil {
						return err
					}
				}
				return a.print(out, func(table.Writer) {
					if to == "" {
						a.say("%s", strings.TrimSpace(out.Chain))
						return
					}
					r := out.Certificate
					a.say(
						"%s has a certificate for %s, valid until %s (%s), in %s",
						g.Name,
						strings.Join(r.Names, ", "),
						r.To.Local().Format(time.DateOnly),
						r.ID,
						to,
					)
				})
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&authority, "authority", "", "authority that issues it")
	f.StringVar(&request, "request", "", "file with the signing request; - reads standard input")
	f.StringVar(&to, "out", "", "file to write the certificate to (standard output)")
	f.IntVar(&days, "days", 0, "days that it is valid (default: the authority's setting)")
	return cmd
}

func (a *app) certificateRevoke() *cobra.Command {
	var device, reason string
	cmd := &cobra.Command{
		Use:   "revoke [ID]",
		Short: "Revoke a certificate, or all of a device",
		Args: func(_ *cobra.Command, args []string) error {
			if (len(args) == 1) == (device != "") || len(args) > 1 {
				return usage("found %s, expected either the id of a certificate or --device",
					plural(len(args), "argument"))
			}
			return nil
		},
		Long: `Puts a certificate, or all of a device, on the CRL and removes it from the device's
record. Lists the profiles that used it. It cannot be undone.`,
		Example: "  wardicon certificate revoke ce-4xk7q2m9h3vw8tzp --reason superseded\n  " +
			"wardicon certificate revoke --device \"Engine laptop 1\" --reason key-compromise",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if err := a.sure(
					"Revoke %s for good?",
					cmp.Or(device, strings.Join(args, " ")),
				); err != nil {
					return err
				}
				var w api.Revocation
				var err error
				if device == "" {
					w, err = c.Revoke(ctx, args[0], pki.Reason(reason))
				} else {
					d, found := findDevice(ctx, c, device)
					if found != nil {
						return found
					}
					w, err = c.RevokeDevice(ctx, d.ID, pki.Reason(reason))
				}
				if err != nil {
					return err
				}
				return a.print(w, func(table.Writer) {
					for _, r := range w.Certificates {
						a.say("revoked  %s, %s", r.Subject, strings.Join(r.Names, ", "))
					}
					for _, p := range w.Profiles {
						a.say("needs a new certificate  %s", p)
					}
					if len(w.Certificates) == 0 {
						a.say("there was nothing to revoke")
					}
				})
			})
		},
	}
	cmd.Flags().StringVar(&device, "device", "", "revoke all certificates of a device")
	cmd.Flags().
		StringVar(&reason, "reason", "unspecified", "unspecified, key-compromise, superseded or "+
			"ceased")
	return cmd
}

// issuing finds the device that a certificate is for and the authority that issues it.
func issuing(
	ctx context.Context,
	c *client.Client,
	device, authority string,
) (d api.Device, by api.Authority, err error) {
	if authority == "" {
		return d, by, usage(
			"--authority: found nothing, expected the name of an authority; wardicon authority " +
				"list shows them",
		)
	}
	if d, err = findDevice(ctx, c, device); err == nil {
		by, err = findAuthority(ctx, c, authority)
	}
	return d, by, err
}
