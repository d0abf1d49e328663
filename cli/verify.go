package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/pki"
	"wardicon/core/signature"
)

// verify tells who signed files and whether they were changed.
func (a *app) verify() *cobra.Command {
	var authority string
	cmd := &cobra.Command{
		Use:   "verify FILE...",
		Short: "Verify the signature of a parcel's files",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("found no file, expected FILE...")
			}
			return nil
		},
		Long: `Verifies the signature of an Apple profile, and that of other files by the signed
list of digests next to them. The signer is verified against the CAs in the file of --authority,
or against those of the service that you are signed in to. With --authority no service is needed.
Exits 1 if a file does not verify.`,
		Example: "  wardicon verify parcels/norrvik.mobileconfig\n  wardicon verify parcels/* " +
			"--authority skerry-line.pem",
		RunE: func(cmd *cobra.Command, args []string) error {
			anchors, from, err := a.believed(cmd, authority)
			if err != nil {
				return err
			}
			proofs := api.Items[signature.Proof]{}
			sound := true
			for _, name := range args {
				data, err := a.read(name)
				if err != nil {
					return err
				}
				p := signature.Of(
					filepath.Base(name),
					data,
					neighbours(name),
					besideFile(name),
					anchors,
					time.Now(),
				)
				proofs.Items, sound = append(proofs.Items, p), sound && p.Sound()
			}
			if err := a.print(proofs, func(table.Writer) {
				said := ""
				for _, p := range proofs.Items {
					a.proof(p, p.List != "" && p.List == said && p.Sound())
					said = p.List
				}
				a.say("%s", from)
			}); err != nil {
				return err
			}
			if !sound {
				return errFindings
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&authority, "authority", "", "file with the trusted CAs, PEM")
	return cmd
}

// believed are the authorities that signers are held against, with a word on where they are from.
func (a *app) believed(
	cmd *cobra.Command,
	file string,
) (anchors []*x509.Certificate, from string, err error) {
	if file != "" {
		data, err := a.read(file)
		if err != nil {
			return nil, "", err
		}
		bag := pki.Open(data)
		if len(bag.Certificates) == 0 {
			return nil, "", usage("--authority: %s has no certificate", file)
		}
		return bag.Certificates, "signers were verified against " + file, nil
	}
	if a.connection().Token == "" {
		return nil, "signers were not verified: sign in, or give --authority", nil
	}
	err = a.with(cmd, func(ctx context.Context, c *client.Client) error {
		for offset := 0; ; offset += 200 {
			page, err := c.Authorities.List(ctx, client.Query{Limit: 200, Offset: offset})
			if err != nil {
				return err
			}
			for _, row := range page.Items {
				list, err := pki.Certificates(row.Certificate)
				if err != nil {
					return err
				}
				anchors = append(anchors, list...)
			}
			if len(page.Items) < 200 {
				return nil
			}
		}
	})
	var away *client.UnreachableError
	var problem *api.Problem
	if errors.As(err, &away) || errors.As(err, &problem) {
		return nil, "signers were not verified: the service does not list its CAs (" + err.Error() +
			")", nil
	}
	return anchors, "signers were verified against the CAs of the service", err
}

// neighbours are the names of the files beside one.
func neighbours(name string) (names []string) {
	list, err := os.ReadDir(filepath.Dir(name))
	if err != nil {
		return nil
	}
	for _, e := range list {
		names = append(names, e.Name())
	}
	return names
}

// proof prints what can be said of a file; brief where the list was told of already.
func (a *app) proof(p signature.Proof, brief bool) {
	mark := "✓"
	if !p.Sound() {
		mark = "✗"
	}
	a.say("%s %s", mark, p.Name)
	if brief {
		return
	}
	if p.List != "" {
		a.say("    listed in %s, with %d files", p.List, len(p.Files))
	}
	switch {
	case p.Fits && p.At != nil:
		a.say(
			"    signed by %s on %s; not changed since",
			p.Signer,
			p.At.Local().Format(time.DateTime),
		)
	case p.Fits:
		a.say("    signed by %s; not changed since", p.Signer)
	case p.Signed && p.Signer != "":
		a.say("    has a signature in the name of %s that does not match", p.Signer)
	case p.List != "" && !p.Signed:
		a.say("    the list is not signed")
	}
	if p.Signed && len(p.Links) > 0 {
		var up []string
		for _, l := range p.Links {
			up = append(up, l.Subject)
		}
		word := "not verified against a CA"
		if p.Trusted {
			word = "believed"
		} else if p.Asked {
			word = "not trusted"
		}
		a.say("    chain: %s (%s)", strings.Join(up, " → "), word)
	}
	for _, f := range p.Faults {
		a.say("    %s", f)
	}
}
