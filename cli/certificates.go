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

	"wardicon/client"
	"wardicon/core/pki"
	"wardicon/core/view"
	"wardicon/core/vpn"
)

func findAuthority(ctx context.Context, c *client.Client, ref string) (view.Authority, error) {
	return byRef(ctx, c.Authorities, "authority", "au", "name", ref)
}

func authorityNoun() noun[view.Authority] {
	return noun[view.Authority]{
		name: "authority", plural: "authorities", title: "name",
		about: `An authority vouches for certificates. Make one here, or bring one in: with its key
to issue here, without it where signing is done elsewhere. Keys are sealed and never
come back.`,
		example: `"Harbour authority" --certificate harbour.pem --key-file harbour.key`,
		fields: []field{
			{flag: "name", path: "name", help: "another name"},
			{flag: "certificate", path: "certificate", kind: fileField, help: "file with its certificate and those above it, PEM"},
			{flag: "key-file", path: "key", kind: secretField, help: "file with its private key, PEM; - reads standard input"},
			{flag: "device-days", path: "device_days", kind: numberField, help: "days that a device's certificate is valid (365)"},
			{flag: "gateway-days", path: "gateway_days", kind: numberField, help: "days that a gateway's certificate is valid (397)"},
			{flag: "list", path: "lists", kind: listField, help: "web address of its revocation list, as certificates shall name it"},
			{flag: "retired", path: "retired", kind: boolField, help: "it is still believed, and issues no more"},
			{flag: "note", path: "note", help: "note for operators"},
		},
		records: func(c *client.Client) client.Noun[view.Authority] { return c.Authorities }, find: findAuthority,
		stamp:   func(a view.Authority) vpn.Stamp { return a.Stamp },
		ref:     func(a view.Authority) string { return a.Name },
		columns: []string{"name", "ends", "key", "certificates", "revoked"}, filters: []string{"name"},
		row: func(a view.Authority) table.Row {
			key := "not here"
			switch {
			case a.Retired:
				key = "retired"
			case a.KeySet:
				key = "stored"
			}
			return table.Row{a.Name, a.Ends.Local().Format(time.DateOnly), key, a.Certificates, a.Revoked}
		},
	}
}

func (a *app) authorityCommands() *cobra.Command {
	root := command(a, authorityNoun())
	var n view.NewAuthority
	kind := "p256"
	cmd := &cobra.Command{
		Use: "make NAME", Short: "Make an authority with its key", Args: exactly("NAME"),
		Long: `Makes a key and an authority that vouches for itself. With --issuing a root is made, and
below it the authority of that name, which issues: the root can then be retired. Both
keys are sealed in the service.`,
		Example: "  wardicon authority make \"Skerry Line\" --issuing\n  wardicon authority make \"Skerry Line devices\" --kind rsa3072 --permit skerryline.example --list http://lists.skerryline.example/devices.crl",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				n.Name, n.Kind = args[0], pki.KeyChoice(kind)
				list, err := c.MakeAuthority(ctx, n)
				if err != nil {
					return err
				}
				return a.print(list, func(table.Writer) {
					for _, made := range list.Items {
						a.say("made the authority %s, valid until %s", made.Name, made.Ends.Local().Format(time.DateOnly))
					}
				})
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&kind, "kind", "p256", "kind of key: p256, p384 or rsa3072")
	f.BoolVar(&n.Issuing, "issuing", false, "make a root, and below it the authority that issues")
	f.IntVar(&n.Years, "years", 10, "years that it is valid")
	f.StringSliceVar(&n.Permitted, "permit", nil, "domain or network that it is bound to")
	f.StringSliceVar(&n.Excluded, "exclude", nil, "domain or network that it may not vouch for")
	f.StringSliceVar(&n.Lists, "list", nil, "web address of its revocation list")
	root.AddCommand(cmd)
	return root
}

func (a *app) certificateCommands() *cobra.Command {
	root := &cobra.Command{
		Use: "certificate", Short: "Issue certificates to devices, find them and take them back",
		Long:    "Certificates that the authorities on record have issued. Each authority's revocation list is\nserved at /lists/ID.crl of the service, to whoever asks.",
		Example: "  wardicon certificate issue \"Engine laptop 1\" --authority \"Skerry Line\"\n  wardicon certificate list --filter days=60\n  wardicon certificate revoke --device \"Engine laptop 1\" --reason key-compromise",
	}
	root.AddCommand(a.certificateList(), a.certificateShow(), a.certificateIssue(), a.certificateSign(), a.certificateRevoke(), a.endings())
	return root
}

func (a *app) certificateList() *cobra.Command {
	var q client.Query
	cmd := &cobra.Command{
		Use: "list", Short: "List certificates, those that end first before the others", Args: exactly(),
		Long:    "Lists what was issued. A search looks into subjects, names, serial numbers and devices.\nFilters: authority_id, device_id, gateway_id, usage, serial, revoked, days (ends within so many),\nends_after (a day such as 2027-01-31).",
		Example: "  wardicon certificate list --filter days=60,revoked=false\n  wardicon certificate list --search engine --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Certificates(ctx, q)
				if err != nil {
					return err
				}
				if err := a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("id", "subject", "names", "for", "authority", "ends", "state"))
					w.SetColumnConfigs([]table.ColumnConfig{wrapped(3, 44)})
					for _, r := range page.Items {
						w.AppendRow(table.Row{r.ID, r.Subject, strings.Join(r.Names, ", "), string(r.Usage), r.Authority, r.To.Local().Format(time.DateOnly), state(r)})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", counted(len(page.Items), q.Offset, page.Total, "certificates"))
				}
				return nil
			})
		},
	}
	pageFlags(cmd, &q)
	cmd.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions such as days=60")
	return cmd
}

// endings is the calendar of what ends.
func (a *app) endings() *cobra.Command {
	days := 60
	cmd := &cobra.Command{
		Use: "calendar", Short: "List what ends soon: authorities and certificates", Args: exactly(),
		Long:    "Lists what ends within some days, and what has ended in the last 30. The service writes a\nwarning into its log 60, 30 and 7 days ahead. Exits 1 where something has ended.",
		Example: "  wardicon certificate calendar\n  wardicon certificate calendar --days 365 --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.Endings(ctx, days)
				if err != nil {
					return err
				}
				if err := a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("ends", "days", "what", "of"))
					for _, e := range list.Items {
						w.AppendRow(table.Row{e.Ends.Local().Format(time.DateOnly), e.Days, e.What, e.Noun + " " + e.Name})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" && len(list.Items) == 0 {
					a.say("nothing ends within %d days", days)
				}
				if slices.ContainsFunc(list.Items, func(e view.Ending) bool { return e.Days < 0 }) {
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
func state(c view.Certificate) string {
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
				var w view.Withdrawn
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
