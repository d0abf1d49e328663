package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/vpn"
)

func (a *app) plan() *cobra.Command {
	var preferences vpn.Preferences
	cmd := &cobra.Command{
		Use:   "plan DEVICE GATEWAY",
		Short: "Plan and check the connection of a device to a gateway",
		Args:  exactly("DEVICE", "GATEWAY"),
		Long: `Plans how a device connects to a gateway, with the reason for every choice, and
checks the result. If the two have a profile, that profile is planned. Nothing is changed. Exits 1
on errors and warnings.`,
		Example: `  wardicon plan "Planner Mac 1" Norrvik
  wardicon plan "Purser laptop 2" Tallholm --tunnel full --output json`,
	}
	tunnel := cmd.Flags().String("tunnel", "", "full or split")
	password := cmd.Flags().String("password", "", "saved or asked")
	scope := cmd.Flags().String("scope", "", "person or machine")
	protocol := cmd.Flags().String("protocol", "", "ikev2, tls, sstp, l2tp or pptp")
	cmd.Flags().
		StringVar(&preferences.Format, "format", "", "file format, if the device supports several")
	cmd.Flags().StringVar(&preferences.Name, "connection", "", "name of the connection")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.with(cmd, func(ctx context.Context, c *client.Client) error {
			preferences.Tunnel, preferences.Password, preferences.Scope = vpn.Tunnel(
				*tunnel,
			), vpn.PasswordMode(
				*password,
			), vpn.Scope(
				*scope,
			)
			preferences.Protocol = vpn.Protocol(*protocol)
			var planned api.Planned
			kept, err := profileOf(ctx, c, args[0], args[1])
			var none *api.Problem
			switch {
			case err == nil && preferences.IsZero():
				planned, err = c.Plan(ctx, kept.ID)
			case err == nil || errors.As(err, &none) && none.Status == 404:
				planned, err = a.try(ctx, c, args[0], args[1], preferences)
			}
			if err != nil {
				return err
			}
			if err := a.print(planned, func(w table.Writer) {
				a.say("%s (%s)\n", planned.Title, planned.Release)
				w.AppendHeader(heads("choice", "value", "reason"))
				for _, choice := range planned.Choices {
					w.AppendRow(table.Row{choice.Title, choice.Value, choice.Reason})
				}
			}); err != nil {
				return err
			}
			if a.output == "table" {
				if len(planned.Agreements) > 0 {
					a.say("\nboth sides negotiate")
					a.agreements("  ", planned.Agreements)
				}
				for _, by := range planned.Switchovers {
					a.say("\nwith the new value of the switchover %s", by.Name)
				}
				if len(planned.Passed) > 0 {
					a.say("\nnot chosen")
				}
				for _, p := range planned.Passed {
					a.say("  %-11s %s", p.Protocol.Title(), p.Reason)
				}
				a.say("")
				a.brokenChains("", planned.Chains)
				a.findings(planned.Findings)
			}
			return failed(planned.Findings, vpn.Warning)
		})
	}
	return cmd
}

func (a *app) try(
	ctx context.Context,
	c *client.Client,
	device, gateway string,
	preferences vpn.Preferences,
) (api.Planned, error) {
	d, err := findDevice(ctx, c, device)
	if err != nil {
		return api.Planned{}, err
	}
	g, err := findGateway(ctx, c, gateway)
	if err != nil {
		return api.Planned{}, err
	}
	return c.Try(ctx, d.ID, g.ID, preferences)
}

// agreements prints what both sides negotiate, or what would bring them together.
func (a *app) agreements(indent string, list []check.Agreement) {
	for _, g := range list {
		switch {
		case g.Chosen == "":
			a.say("%s%s: nothing in common. %s", indent, g.Title, g.Change)
		default:
			a.say("%s%s: %s", indent, g.Title, strings.TrimSuffix(g.Chosen+". "+g.Change, ". "))
		}
	}
}

// findings prints findings for a reader, most severe first.
func (a *app) findings(list []check.Finding) {
	for _, same := range alike(list) {
		f := same[0]
		where := string(f.Field)
		if f.Position != nil {
			var places []string
			for _, one := range same {
				places = append(places, one.Position.String())
			}
			where = strings.Join(places, ", ")
		}
		pad := strings.Repeat(" ", max(0, len("warning ")-len(f.Severity)))
		a.say("%s%s %s", a.severity(f.Severity), pad, f.Title)
		lines := []string{where + ": " + f.Found, f.Why, "fix: " + f.Fix + "  [" + f.Rule + "]"}
		if o := f.Override; o != nil {
			lines = append(
				lines,
				fmt.Sprintf(
					"error overridden until %s: %s (%s)",
					o.Until.Local().Format(time.DateOnly),
					o.Reason,
					o.Operator,
				),
			)
		}
		for _, line := range lines {
			a.say("%s", a.wrap(line, "         "))
		}
	}
	a.say("findings: %s", tally(check.Count(list)))
}

// alike puts findings together that say the same of three places or more, where the first of them
// stands.
func alike(list []check.Finding) (groups [][]check.Finding) {
	const few = 3
	says := func(f check.Finding) string { return f.Rule + "\x00" + f.Found + "\x00" + f.Fix }
	many := map[string]int{}
	for _, f := range list {
		if f.Position != nil && f.Override == nil {
			many[says(f)]++
		}
	}
	at := map[string]int{}
	for _, f := range list {
		i, there := at[says(f)]
		switch {
		case f.Position == nil || f.Override != nil || many[says(f)] < few:
			groups = append(groups, []check.Finding{f})
		case there:
			groups[i] = append(groups[i], f)
		default:
			at[says(f)] = len(groups)
			groups = append(groups, []check.Finding{f})
		}
	}
	return groups
}

// failed makes a command exit 1 when there is a finding of a severity, or a worse one.
func failed(list []check.Finding, least vpn.Severity) error {
	order := []vpn.Severity{vpn.Error, vpn.Warning, vpn.Note}
	if slices.ContainsFunc(
		list,
		func(f check.Finding) bool {
			return slices.Index(order,
				f.Severity) <= slices.Index(order, least)
		},
	) {
		return errFindings
	}
	return nil
}

func (a *app) preview() *cobra.Command {
	var byHand, reveal bool
	cmd := &cobra.Command{
		Use:   "preview PROFILE",
		Short: "Show the files of a profile with secrets hidden",
		Args:  exactly("PROFILE"),
		Long: `Shows the files that would be built from a profile, without building a parcel.
Secrets are hidden unless --reveal is given, which is recorded in the audit log.`,
		Example: `  wardicon profile preview "Planner Mac 1/Norrvik"
  wardicon profile preview "Deck phone 1/Norrvik" --by-hand --output json`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				p, err := findProfile(ctx, c, args[0])
				if err != nil {
					return err
				}
				files, err := c.Preview(ctx, p.ID, byHand, reveal)
				if err != nil {
					return err
				}
				return a.print(files, func(table.Writer) {
					for _, f := range files.Items {
						if ending := filepath.Ext(f.Name); ending != ".html" && ending != ".p12" {
							a.say("── %s ── %s\n\n%s", f.Name, f.Purpose, f.Text)
						}
					}
				})
			})
		},
	}
	cmd.Flags().BoolVar(&byHand, "by-hand", false, "only the card, with the steps for manual setup")
	cmd.Flags().BoolVar(&reveal, "reveal", false, "show secrets; recorded in the audit log")
	return cmd
}

func (a *app) build() *cobra.Command {
	var byHand bool
	var to string
	cmd := &cobra.Command{
		Use:   "build PROFILE",
		Short: "Build a parcel and save its files",
		Args:  exactly("PROFILE"),
		Long: `Builds the parcel of a profile: the file that the device imports, the removal
script and the card. An error prevents the build (exit 1). Files are saved with mode 0600 in a
folder named after the device, or in --out; existing files are not overwritten.`,
		Example: `  wardicon build "Purser laptop 1/Norrvik" --out parcels
  wardicon build "Planner Mac 1/Norrvik" --by-hand`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				p, err := findProfile(ctx, c, args[0])
				if err != nil {
					return err
				}
				parcel, err := c.Build(ctx, p.ID, byHand)
				if err != nil {
					return err
				}
				if to == "" {
					to = format.FileName(p.Device, "")
				}
				if err := a.save(ctx, c, parcel, to); err != nil {
					return err
				}
				return a.print(parcel, func(w table.Writer) {
					w.AppendHeader(heads("file", "purpose"))
					for _, f := range parcel.Files {
						w.AppendRow(table.Row{filepath.Join(to, f.Name), f.Purpose})
					}
				})
			})
		},
	}
	cmd.Flags().BoolVar(&byHand, "by-hand", false, "only the card, with the steps for manual setup")
	cmd.Flags().
		StringVar(&to, "out", "", "folder to save to; created if missing (default: the device's "+
			"name)")
	return cmd
}

func (a *app) save(ctx context.Context, c *client.Client, parcel api.Parcel, to string) error {
	files := slices.Clone(parcel.Files)
	for i := range files {
		var err error
		if files[i].Content, err = c.Fetch(ctx, parcel.ID, files[i].Name); err != nil {
			return err
		}
	}
	return keep(to, files)
}

// besideFile looks up files in the folder of another one.
func besideFile(name string) format.Beside {
	if name == "-" {
		return nil
	}
	return func(other string) ([]byte, bool) {
		f, err := os.Open(filepath.Join(filepath.Dir(name), filepath.Base(other)))
		if err != nil {
			return nil, false
		}
		data, err := io.ReadAll(io.LimitReader(f, maxRead))
		return data, errors.Join(err, f.Close()) == nil
	}
}

// maxRead bounds a file that is read: one more byte than any reader takes, so that the
// reader itself refuses what is too large.
const maxRead = format.MaxFile + 1
