package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/client"
	"wardicon/core/format"
	"wardicon/core/pki"
)

// certificateBundle hands a gateway what it needs.
func (a *app) certificateBundle() *cobra.Command {
	var authority, kind, to string
	var days int
	cmd := &cobra.Command{
		Use:   "bundle GATEWAY",
		Short: "Create a key and a certificate for a gateway, in the formats that daemons read",
		Args:  exactly("GATEWAY"),
		Long: `Creates a key and a certificate with the names of the gateway's record, and saves
them as PEM, DER, PKCS #7 and PKCS #12. The service does not keep the key: move the folder to the
gateway and delete it here. Where the key can stay on the gateway, sign its request instead
(wardicon certificate sign).`,
		Example: "  wardicon certificate bundle Norrvik --authority \"Skerry Line\" --out norrvik",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if authority == "" || to == "" {
					return usage("found %q and %q, expected --authority and --out", authority, to)
				}
				if err := unused(to); err != nil {
					return err
				}
				if err := os.MkdirAll(
					to,
					0o700,
				); err != nil { // before the key is made: it is handed out once
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
				out, err := c.IssueGatewayBundle(ctx, g.ID, by.ID, pki.KeyChoice(kind), days)
				if err != nil {
					return err
				}
				files := []format.File{
					{
						Name:    format.FileName(g.Name, "-passphrase.txt"),
						Content: []byte(out.Passphrase + "\n"),
					},
				}
				for _, f := range out.Files {
					files = append(files, format.File{Name: f.Name, Content: f.Content})
				}
				if err := keep(to, files); err != nil {
					return err
				}
				out.Passphrase = "in " + filepath.Join(to, files[0].Name)
				out.Archive = nil
				for i := range out.Files {
					out.Files[i].Content = nil // keys do not go to the terminal
				}
				return a.print(out, func(w table.Writer) {
					r := out.Certificate
					a.say(
						"%s has a certificate for %s, valid until %s (%s)\n",
						g.Name,
						strings.Join(r.Names, ", "),
						r.To.Local().Format(time.DateOnly),
						r.ID,
					)
					w.AppendHeader(heads("file", "contents"))
					for _, f := range out.Files {
						w.AppendRow(table.Row{filepath.Join(to, f.Name), f.Purpose})
					}
					w.AppendRow(
						table.Row{
							filepath.Join(to, files[0].Name),
							"Passphrase of the PKCS #12 file",
						},
					)
				})
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&authority, "authority", "", "authority that issues it")
	f.StringVar(&kind, "kind", "p256", "key type: p256, p384 or rsa3072")
	f.StringVar(&to, "out", "", "new folder to save to")
	f.IntVar(&days, "days", 0, "days that it is valid (default: the authority's setting)")
	return cmd
}

// certificateBring takes in a certificate that others issued.
func (a *app) certificateBring() *cobra.Command {
	var gateway, device string
	var flags materialFlags
	cmd := &cobra.Command{
		Use:   "import FILE",
		Short: "Import a certificate that was issued elsewhere, of a gateway or a device",
		Args:  exactly("FILE"),
		Long: `--gateway records the certificate that a gateway presents, so that it is checked
against the CAs that devices trust, and its expiry is watched; the file must not have a key.
--device imports a device's certificate and key, for example from PKCS #12.`,
		Example: "  wardicon certificate import norrvik.pem --gateway Norrvik\n  wardicon " +
			"certificate import laptop.p12 --device \"Engine laptop 1\" --passphrase-file " +
			"secret.txt",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				m, err := a.material(args[0], flags)
				if err != nil {
					return err
				}
				switch {
				case gateway != "":
					g, err := findGateway(ctx, c, gateway)
					if err != nil {
						return err
					}
					if _, err := c.TakeGatewayCertificate(ctx, g.ID, m); err != nil {
						return err
					}
					return a.chain(ctx, c, "gateway", g.ID)
				case device != "":
					d, err := findDevice(ctx, c, device)
					if err != nil {
						return err
					}
					if _, err := c.TakeDeviceCertificate(ctx, d.ID, m); err != nil {
						return err
					}
					return a.chain(ctx, c, "device", d.ID)
				}
				return usage("found neither --gateway nor --device, expected one of them")
			})
		},
	}
	cmd.Flags().StringVar(&gateway, "gateway", "", "the gateway that presents it")
	cmd.Flags().StringVar(&device, "device", "", "the device that authenticates with it")
	cmd.MarkFlagsMutuallyExclusive("gateway", "device")
	flags.on(cmd)
	return cmd
}

func (a *app) certificateDrop() *cobra.Command {
	return &cobra.Command{
		Use:   "drop DEVICE SERIAL",
		Short: "Remove a certificate and its key from a device",
		Args:  exactly("DEVICE", "SERIAL"),
		Long: `Removes one of a device's certificates with its key from the record, such as one of
another CA that no gateway trusts any more. It is not revoked by that.`,
		Example: "  wardicon certificate drop \"Engine laptop 1\" 3f0c81d2a97e",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				d, err := findDevice(ctx, c, args[0])
				if err != nil {
					return err
				}
				if err := a.sure("Remove the certificate %s and its key from %s?", args[1],
					d.Name); err != nil {
					return err
				}
				if _, err := c.DropDeviceCertificate(ctx, d.ID, args[1]); err != nil {
					return err
				}
				a.say("the certificate %s is removed from %s", args[1], d.Name)
				return nil
			})
		},
	}
}

func (a *app) certificateChain() *cobra.Command {
	var gateway, device, authority string
	cmd := &cobra.Command{
		Use:   "chain [ID]",
		Short: "Show the chain of a certificate, and the link at fault",
		Long: `Shows the chain from a certificate to its root: an issued one by its ID, or that of
a gateway, a device or an authority. A gateway's chain is verified against the CAs of its offers.
Exits 1 if a link is at fault.`,
		Example: "  wardicon certificate chain --gateway Norrvik\n  wardicon certificate chain " +
			"ce-4xk7q2m9h3vw8tzp",
		Args: func(_ *cobra.Command, args []string) error {
			n := len(args)
			for _, v := range []string{gateway, device, authority} {
				if v != "" {
					n++
				}
			}
			if n != 1 {
				return usage(
					"found %d of them, expected an ID, --gateway, --device or --authority",
					n,
				)
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				switch {
				case gateway != "":
					g, err := findGateway(ctx, c, gateway)
					if err != nil {
						return err
					}
					return a.chain(ctx, c, "gateway", g.ID)
				case device != "":
					d, err := findDevice(ctx, c, device)
					if err != nil {
						return err
					}
					return a.chain(ctx, c, "device", d.ID)
				case authority != "":
					by, err := findAuthority(ctx, c, authority)
					if err != nil {
						return err
					}
					return a.chain(ctx, c, "authority", by.ID)
				}
				return a.chain(ctx, c, "certificate", args[0])
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&gateway, "gateway", "", "the certificate that a gateway presents")
	f.StringVar(&device, "device", "", "the certificate of a device")
	f.StringVar(&authority, "authority", "", "the certificate of an authority")
	return cmd
}

// chain prints a chain, and tells by its end whether a link is at fault.
func (a *app) chain(ctx context.Context, c *client.Client, noun, id string) error {
	drawn, err := c.Chain(ctx, noun, id)
	if err != nil {
		return err
	}
	if err := a.print(drawn, func(table.Writer) {
		if len(drawn.Links) == 0 {
			a.say("%s %s has no certificate", noun, drawn.Name)
			return
		}
		a.links(drawn.Links)
		for _, other := range drawn.Others {
			a.say("")
			a.links(other)
		}
		if len(drawn.Against) > 0 {
			a.say("\nverified against %s", strings.Join(drawn.Against, ", "))
		}
	}); err != nil {
		return err
	}
	for _, l := range slices.Concat(append(drawn.Others, drawn.Links)...) {
		if l.Fault != "" {
			return errFindings
		}
	}
	return nil
}

// links draws a chain, a certificate a step.
func (a *app) links(list []pki.Link) {
	for i, l := range list {
		indent := strings.Repeat("   ", i)
		if i > 0 {
			indent = strings.Repeat("   ", i-1) + "└─ "
		}
		a.say("%s%s", indent, linkTitle(l))
		below := strings.Repeat("   ", i)
		switch {
		case l.Fault != "":
			a.say("%s   ✗ %s", below, l.Fault)
		case l.Root:
			a.say("%s   ✓ self-signed", below)
		default:
			a.say("%s   ✓ signed by %s", below, l.Issuer)
		}
	}
}

func linkTitle(l pki.Link) string {
	if l.Missing {
		return l.Subject
	}
	title := fmt.Sprintf(
		"%s  (%s, %s, until %s)",
		l.Subject,
		l.Usage,
		l.Key,
		l.To.Local().Format(time.DateOnly),
	)
	if len(l.Names) > 0 {
		title += "  " + strings.Join(l.Names, ", ")
	}
	return title
}

// handed writes a text to a file, or to standard output.
func (a *app) handed(to, text, said string) error {
	if to == "" {
		a.say("%s", strings.TrimSpace(text))
		return nil
	}
	if err := keep(
		filepath.Dir(to),
		[]format.File{{Name: filepath.Base(to), Content: []byte(text)}},
	); err != nil {
		return err
	}
	a.say("%s", said)
	return nil
}

// unused refuses a folder that has something in it.
func unused(folder string) error {
	if there, err := os.ReadDir(folder); err == nil && len(there) > 0 {
		return usage("--out: the folder %s is not empty; choose another one", folder)
	}
	return nil
}
