package cli

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

func findAuthority(ctx context.Context, c *client.Client, ref string) (api.Authority, error) {
	return byRef(ctx, c.Authorities, "authority", "au", "name", ref)
}

func authorityNoun() noun[api.Authority] {
	return noun[api.Authority]{
		name:  "authority",
		title: "name",
		about: `A certificate authority (CA) issues certificates. Create one here, or import one:
with its key to issue here, without it where signing is done elsewhere. Private keys are sealed
and cannot be read back, except by "authority export".`,
		example: `"Harbour authority" --certificate harbour.pem --key-file harbour.key`,
		fields: []field{
			{flag: "name", path: "name"},
			{flag: "certificate", path: "certificate", kind: fileField},
			{flag: "key-file", path: "key", kind: fileField},
			{flag: "key-uri", path: "key_uri"},
			{flag: "device-days", path: "device_days"},
			{flag: "gateway-days", path: "gateway_days"},
			{flag: "renew-days", path: "renew_days"},
			{flag: "device-limit", path: "device_limit"},
			{flag: "day-limit", path: "day_limit"},
			{flag: "list", path: "lists"},
			{flag: "delta", path: "deltas"},
			{flag: "responder", path: "responders"},
			{flag: "retired", path: "retired"},
			{flag: "note", path: "note"},
		},
		find: findAuthority,
		meta: func(a api.Authority) vpn.Meta { return a.Meta },
		ref:  func(a api.Authority) string { return a.Name },
		columns: []string{
			"name",
			"expires",
			"key",
			"certificates",
			"revoked",
		},
		filters: []string{"name"},
		row: func(a api.Authority) table.Row {
			key := "elsewhere"
			switch {
			case a.Successor != "":
				key = "retired, rolling over to " + a.Successor
			case a.Retired:
				key = "retired"
			case a.KeyURI != "":
				key = "in a token"
			case a.KeySet:
				key = "stored"
			}
			return table.Row{
				a.Name,
				a.Expires.Local().Format(time.DateOnly),
				key,
				a.Certificates,
				a.Revoked,
			}
		},
	}
}

func (a *app) authorityCommands() *cobra.Command {
	root := command(a, authorityNoun())
	var n api.NewAuthority
	kind := "p256"
	cmd := &cobra.Command{
		Use:   "make NAME",
		Short: "Create a certificate authority",
		Args:  exactly("NAME"),
		Long: `Creates a key and a self-signed CA. With --issuing a root is created, and below it
the issuing CA of that name: the root can then be retired. Both keys are sealed in the service, or
made in a token (PKCS #11) that they never leave.`,
		Example: "  wardicon authority make \"Skerry Line\" --issuing\n  wardicon authority make " +
			"\"Skerry Line devices\" --kind rsa3072 --permit skerryline.example --list " +
			"http://lists.skerryline.example/devices.crl",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				n.Name, n.Kind = args[0], pki.KeyChoice(kind)
				list, err := c.MakeAuthority(ctx, n)
				if err != nil {
					return err
				}
				return a.print(list, func(table.Writer) {
					for _, made := range list.Items {
						a.say(
							"created the authority %s, valid until %s",
							made.Name,
							made.Expires.Local().Format(time.DateOnly),
						)
					}
				})
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&kind, "kind", "p256", "key type: p256, p384 or rsa3072")
	f.StringVar(&n.Token, "token", "", "token of the service in which the keys are made, and stay")
	f.BoolVar(&n.Issuing, "issuing", false, "create a root, and below it the issuing CA")
	f.IntVar(&n.Years, "years", 10, "years that it is valid")
	f.StringSliceVar(
		&n.Permitted,
		"permit",
		nil,
		"domain or network that it is limited to (permitted subtree)",
	)
	f.StringSliceVar(
		&n.Excluded,
		"exclude",
		nil,
		"domain or network that it must not issue for (excluded subtree)",
	)
	f.StringSliceVar(&n.Lists, "list", nil, "URL of its CRL")
	root.AddCommand(
		cmd,
		a.authorityTake(),
		a.authorityExport(),
		a.authorityRollOver(),
		a.authorityRenew(),
		a.authorityTokens(),
	)
	return root
}

// materialFlags are those of a file of certificates.
type materialFlags struct{ key, passphrase string }

func (m *materialFlags) on(cmd *cobra.Command) {
	cmd.Flags().StringVar(&m.key, "key-file", "", "file with the private key, if it is separate")
	cmd.Flags().
		StringVar(&m.passphrase, "passphrase-file", "", "file with the passphrase of a PKCS #12 "+
			"file; - reads standard input")
}

// material reads a file of certificates from anywhere.
func (a *app) material(name string, flags materialFlags) (m api.Material, err error) {
	if m.File, err = a.read(name); err != nil {
		return m, err
	}
	if flags.key != "" {
		if m.Key, err = a.read(flags.key); err != nil {
			return m, err
		}
	}
	if flags.passphrase != "" {
		text, err := a.readSecret(flags.passphrase)
		m.Passphrase = secret.New(text)
		return m, err
	}
	return m, nil
}

func (a *app) authorityTake() *cobra.Command {
	var name string
	var flags materialFlags
	cmd := &cobra.Command{
		Use:   "import FILE",
		Short: "Import a certificate authority from PEM, DER, PKCS #7 or PKCS #12",
		Args:  exactly("FILE"),
		Long: `Imports a CA: with its key to issue here, without it where signing is done
elsewhere. The file must have the chain up to the root.`,
		Example: "  wardicon authority import harbour.p12 --passphrase-file secret.txt\n  " +
			"wardicon authority import chain.pem --key-file harbour.key --name \"Harbour " +
			"authority\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				m, err := a.material(args[0], flags)
				if err != nil {
					return err
				}
				row, err := c.TakeAuthority(ctx, name, m)
				if err != nil {
					return err
				}
				return a.print(row, func(table.Writer) {
					with := "without its key: signing is done elsewhere"
					if row.KeySet {
						with = "with its key"
					}
					a.say(
						"%s is on record, valid until %s, %s",
						row.Name,
						row.Expires.Local().Format(time.DateOnly),
						with,
					)
				})
			})
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "unique name (that of the certificate)")
	flags.on(cmd)
	return cmd
}

func (a *app) authorityTokens() *cobra.Command {
	return &cobra.Command{
		Use:   "tokens",
		Short: "List the tokens of the service that keys are in",
		Args:  exactly(),
		Long: "Lists the tokens (PKCS #11) that the service was started with. Exits 1 if one of " +
			"them is not available.",
		Example: "  wardicon authority tokens",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.KeyTokens(ctx)
				if err != nil {
					return err
				}
				away := false
				if err := a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("token", "state"))
					for _, t := range list.Items {
						state := "available"
						switch {
						case t.Why != "":
							state = t.Why
						case !t.Available:
							state = "not asked yet"
						}
						w.AppendRow(table.Row{t.Name, state})
					}
				}); err != nil {
					return err
				}
				for _, t := range list.Items {
					away = away || t.Why != ""
				}
				if away {
					return errFindings
				}
				return nil
			})
		},
	}
}

func (a *app) authorityExport() *cobra.Command {
	var to string
	cmd := &cobra.Command{
		Use:   "export AUTHORITY",
		Short: "Export a certificate authority with its key (owners only)",
		Args:  exactly("AUTHORITY"),
		Long: `Writes an authority with its key as PKCS #12, encrypted with a passphrase that is
prompted for twice. Without a terminal it is read from two lines of standard input. The export is
recorded in the audit log.`,
		Example: "  wardicon authority export \"Skerry Line\" --out skerry-line.p12",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if to == "" {
					return usage("--out: found nothing, expected the file to write")
				}
				if _, err := os.Lstat(to); err == nil {
					return usage("--out: %s is there already; remove it or choose another name", to)
				}
				row, err := findAuthority(ctx, c, args[0])
				if err != nil {
					return err
				}
				said, err := a.promptTwice("Passphrase of the file")
				if err != nil {
					return err
				}
				out, err := c.ExportAuthority(ctx, row.ID, said[0], said[1])
				if err != nil {
					return err
				}
				if err := keep(
					filepath.Dir(to),
					[]format.File{{Name: filepath.Base(to), Content: out.Content}},
				); err != nil {
					return err
				}
				a.say("%s with its key is in %s", row.Name, to)
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&to, "out", "", "file to write; an existing file is not overwritten")
	return cmd
}

func (a *app) authorityRollOver() *cobra.Command {
	var to string
	var finish, undo, anyway bool
	cmd := &cobra.Command{
		Use:   "roll-over AUTHORITY",
		Short: "Roll over from a certificate authority to its successor",
		Args:  exactly("AUTHORITY"),
		Long: `With --successor the rollover begins: offers that name the old CA name the new one
too, parcels carry both, and the old one stops issuing. Then renew the certificates, hand over the
parcels and install the gateways' new certificates; without a flag the command shows what still
depends on the old CA. --finish removes the old CA from the offers, --undo the new one. The old CA
stays on record and its CRL is served.`,
		Example: "  wardicon authority roll-over \"Skerry Line\" --successor \"Skerry Line " +
			"2\"\n  wardicon authority renew \"Skerry Line\" --all\n  wardicon authority " +
			"roll-over \"Skerry Line\"\n  wardicon authority roll-over \"Skerry Line\" --finish",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				old, err := findAuthority(ctx, c, args[0])
				if err != nil {
					return err
				}
				var at api.Rollover
				switch {
				case to != "":
					next, found := findAuthority(ctx, c, to)
					if found != nil {
						return found
					}
					at, err = c.RollOver(ctx, old.ID, "begin", next.ID, false)
				case finish:
					if err := a.sure("Finish the rollover of %s?", old.Name); err != nil {
						return err
					}
					at, err = c.RollOver(ctx, old.ID, "finish", "", anyway)
				case undo:
					at, err = c.RollOver(ctx, old.ID, "undo", "", false)
				default:
					at, err = c.Rollover(ctx, old.ID)
				}
				if err != nil {
					return err
				}
				return a.print(at, func(w table.Writer) { a.rollover(w, at) })
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&to, "successor", "", "begin the rollover to this CA")
	f.BoolVar(&finish, "finish", false, "trust only the new one")
	f.BoolVar(&undo, "undo", false, "trust only the old one again")
	f.BoolVar(&anyway, "force", false, "finish although some still depend on the old one")
	cmd.MarkFlagsMutuallyExclusive("successor", "finish", "undo")
	return cmd
}

func (a *app) rollover(w table.Writer, at api.Rollover) {
	if at.To.ID == "" {
		a.say("%s issues again, and nothing names a successor", at.From.Name)
		return
	}
	a.say("from %s to %s", at.From.Name, at.To.Name)
	if at.Finished {
		a.say("nothing depends on %s any more", at.From.Name)
		return
	}
	a.say(
		"  %-5d devices with a certificate of the old one\n  %-5d gateways that present a "+
			"certificate of the old one\n  %-5d profiles without a parcel that has both\n",
		at.Devices,
		at.Servers,
		at.Parcels,
	)
	w.AppendHeader(heads("gateway", "offers name", "shows"))
	for _, g := range at.Gateways {
		w.AppendRow(
			table.Row{
				g.Name,
				map[bool]string{true: "both", false: "the old one"}[g.Both],
				map[bool]string{true: "one of the old", false: "none of the old"}[g.Old],
			},
		)
	}
}

func (a *app) authorityRenew() *cobra.Command {
	var days int
	var all bool
	cmd := &cobra.Command{
		Use:   "renew AUTHORITY",
		Short: "Renew device certificates that expire soon",
		Args:  exactly("AUTHORITY"),
		Long: `Starts a job that renews device certificates before they expire, by this CA or its
successor; where the key is elsewhere, signing requests are created. The old certificates stay
valid. The service also does this every day, as set by --renew-days.`,
		Example: "  wardicon authority renew \"Skerry Line\" --days 60\n  wardicon authority " +
			"renew \"Skerry Line\" --all",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				row, err := findAuthority(ctx, c, args[0])
				if err != nil {
					return err
				}
				if all {
					days = -1
				}
				j, err := c.Renew(ctx, row.ID, days)
				return a.follow(ctx, c, j, err, false)
			})
		},
	}
	cmd.Flags().
		IntVar(&days, "days", 0, "renew certificates that expire within so many days (default: "+
			"the authority's setting)")
	cmd.Flags().BoolVar(&all, "all", false, "renew all, whenever they expire")
	cmd.MarkFlagsMutuallyExclusive("days", "all")
	return cmd
}
