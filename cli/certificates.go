package cli

import (
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
		Use: "certificate", Short: "Issue certificates to devices and gateways, find them and take them back", GroupID: "records",
		Long: `Certificates that the authorities on record have issued. Each authority's revocation list is
served at /lists/ID.crl of the service, to whoever asks, and what was revoked lately at
/lists/ID.delta.crl. Where an authority's key is kept elsewhere, "request" makes what is to be
signed there, and "answer" takes in what comes back.`,
		Example: `  wardicon certificate issue "Engine laptop 1" --authority "Skerry Line"
  wardicon certificate bundle Norrvik --authority "Skerry Line" --to norrvik
  wardicon certificate list --filter days=60
  wardicon certificate chain --gateway Norrvik
  wardicon certificate revoke --device "Engine laptop 1" --reason key-compromise`,
	}
	return group(root, a.certificateList(), a.certificateShow(), a.certificateChain(), a.certificateIssue(), a.certificateSign(), a.certificateBundle(), a.certificateBring(), a.certificateRequest(), a.certificateRequests(), a.certificateAnswer(), a.certificateForget(),
		a.certificateRevoke(), a.expiries())
}

func (a *app) certificateList() *cobra.Command {
	var q client.Query
	cmd := &cobra.Command{
		Use: "list", Short: "List certificates, those that end first before the others", Args: exactly(),
		Long:    "Lists what was issued. A search looks into subjects, names, serial numbers and devices.\nFilters: authority_id, device_id, gateway_id, usage, serial, revoked, days (ends within so many),\nexpires_after (a day such as 2027-01-31).",
		Example: "  wardicon certificate list --filter days=60,revoked=false\n  wardicon certificate list --search engine --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Certificates(ctx, q)
				if err != nil {
					return err
				}
				if err := a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("id", "subject", "names", "for", "authority", "expires", "state"))
					w.SetColumnConfigs([]table.ColumnConfig{wrapped(3, 44)})
					for _, r := range page.Items {
						w.AppendRow(table.Row{r.ID, r.Subject, strings.Join(r.Names, ", "), string(r.Usage), r.Authority, r.To.Local().Format(time.DateOnly), state(r)})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", countedPage(page, q.Offset, "certificates"))
				}
				return nil
			})
		},
	}
	pageFlags(cmd, &q)
	cmd.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions such as days=60")
	return cmd
}

// expiries is the calendar of what ends.
func (a *app) expiries() *cobra.Command {
	days := 60
	cmd := &cobra.Command{
		Use: "calendar", Short: "List what ends soon: authorities and certificates", Args: exactly(),
		Long:    "Lists what ends within some days, and what has ended in the last 30. The service writes a\nwarning into its log 60, 30 and 7 days ahead. Exits 1 where something has ended.",
		Example: "  wardicon certificate calendar\n  wardicon certificate calendar --days 365 --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.Expiries(ctx, days)
				if err != nil {
					return err
				}
				if err := a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("expires", "days", "what", "of"))
					for _, e := range list.Items {
						w.AppendRow(table.Row{e.Expires.Local().Format(time.DateOnly), e.Days, e.What, e.Noun + " " + e.Name})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" && len(list.Items) == 0 {
					a.say("nothing ends within %d days", days)
				}
				if slices.ContainsFunc(list.Items, func(e api.Expiry) bool { return e.Days < 0 }) {
					return errFindings
				}
				return nil
			})
		},
	}
	cmd.Flags().IntVar(&days, "days", 60, "how many days to look ahead")
	return cmd
}

// state words whether a certificate is good.
func state(c api.Certificate) string {
	switch {
	case c.Revoked != nil:
		return fmt.Sprintf("revoked on %s, %s", c.Revoked.Local().Format(time.DateOnly), c.Reason)
	case time.Now().After(c.To):
		return "ended"
	}
	return "valid"
}

func (a *app) certificateShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Show a certificate", Args: exactly("ID"), Long: "Shows what a certificate says, who had it issued, and the certificate itself in PEM form.", Example: "  wardicon certificate show ce-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				r, err := c.Certificate(ctx, args[0])
				if err != nil {
					return err
				}
				return a.print(r, func(table.Writer) {
					a.say("%s (%s), by %s\n  names   %s\n  serial  %s\n  valid   %s to %s\n  state   %s\n  issued  %s by %s\n\n%s", r.Subject, r.Usage, r.Authority, strings.Join(r.Names, ", "), r.Serial,
						r.From.Local().Format(time.DateOnly), r.To.Local().Format(time.DateOnly), state(r), r.Created.Local().Format(time.DateTime), r.Operator, strings.TrimSpace(r.PEM))
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
		Use: "issue DEVICE", Short: "Make a key and a certificate for a device", Args: exactly("DEVICE"),
		Long: `Makes a key of a kind that the device can use, has the authority sign its certificate, and
gives both to the device in the place of what it had. The old one stays valid until it is
revoked, so that the device keeps working until its new parcel is there. Without --name it
gets a name of its own under the organisation's domain.`,
		Example: "  wardicon certificate issue \"Engine laptop 1\" --authority \"Skerry Line\"\n  wardicon certificate issue \"Bridge tablet 1\" --authority \"Skerry Line\" --name ada@skerryline.example --days 90",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if authority == "" {
					return usage("--authority: found nothing, expected the name of an authority; wardicon authority list shows them")
				}
				d, err := findDevice(ctx, c, args[0])
				if err != nil {
					return err
				}
				by, err := findAuthority(ctx, c, authority)
				if err != nil {
					return err
				}
				r, err := c.IssueToDevice(ctx, d.ID, by.ID, names, days)
				if err != nil {
					return err
				}
				return a.print(r, func(table.Writer) {
					a.say("%s has a certificate for %s, valid until %s (%s)", d.Name, strings.Join(r.Names, ", "), r.To.Local().Format(time.DateOnly), r.ID)
				})
			})
		},
	}
	cmd.Flags().StringVar(&authority, "authority", "", "authority that signs")
	cmd.Flags().StringSliceVar(&names, "name", nil, "host name or mail address that both sides check")
	cmd.Flags().IntVar(&days, "days", 0, "days that it is valid (as the authority says)")
	return cmd
}

func (a *app) certificateSign() *cobra.Command {
	var authority, request, to string
	var days int
	cmd := &cobra.Command{
		Use: "sign GATEWAY", Short: "Sign what a gateway asks for", Args: exactly("GATEWAY"),
		Long: `Signs a gateway's request (PKCS #10): its key never leaves the gateway. Names in the request must
be names of the gateway's record; without any it gets those of the record. The certificate comes
with those between it and its root, as the gateway sends them.`,
		Example: "  openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout norrvik.key -subj /CN=norrvik -out norrvik.csr\n  wardicon certificate sign Norrvik --authority \"Skerry Line\" --request norrvik.csr --to norrvik.pem",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if authority == "" || request == "" {
					return usage("found %q and %q, expected --authority and --request", authority, request)
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
					a.say("%s has a certificate for %s, valid until %s (%s), in %s", g.Name, strings.Join(r.Names, ", "), r.To.Local().Format(time.DateOnly), r.ID, to)
				})
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&authority, "authority", "", "authority that signs")
	f.StringVar(&request, "request", "", "file with the signing request; - reads standard input")
	f.StringVar(&to, "to", "", "file to write the certificate to (standard output)")
	f.IntVar(&days, "days", 0, "days that it is valid (as the authority says)")
	return cmd
}

func (a *app) certificateRevoke() *cobra.Command {
	var device, reason string
	cmd := &cobra.Command{
		Use: "revoke [ID]", Short: "Take a certificate back for good, or all of a device",
		Args: func(_ *cobra.Command, args []string) error {
			if (len(args) == 1) == (device != "") || len(args) > 1 {
				return usage("found %d arguments, expected either the id of a certificate or --device", len(args))
			}
			return nil
		},
		Long: `Puts a certificate, or all of a device, on its authority's revocation list; the device loses
the certificate in its record. What stood on it is listed. It cannot be undone.`,
		Example: "  wardicon certificate revoke ce-4xk7q2m9h3vw8tzp --reason superseded\n  wardicon certificate revoke --device \"Engine laptop 1\" --reason key-compromise",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
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
	cmd.Flags().StringVar(&reason, "reason", "unspecified", "unspecified, key-compromise, superseded or ceased")
	return cmd
}
