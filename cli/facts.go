package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/drift"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

func (a *app) facts() []*cobra.Command {
	list := []*cobra.Command{a.overview(), a.rules(), a.platforms(), a.audit(), a.newSecret(), a.whereami(), a.catalogue()}
	for _, c := range list {
		c.GroupID = "facts"
	}
	return list
}

func (a *app) overview() *cobra.Command {
	return &cobra.Command{
		Use: "overview", Short: "Sum up the fleet and its findings", Args: exactly(), Long: "Shows how many records there are and which rules find something.", Example: "  wardicon overview",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				o, err := c.Overview(ctx)
				if err != nil {
					return err
				}
				return a.print(o, func(w table.Writer) {
					a.say("%s: %d gateways, %d people, %d devices, %d profiles, %d parcels", o.Organisation.Name, o.Counts.Gateways, o.Counts.People, o.Counts.Devices, o.Counts.Profiles, o.Counts.Parcels)
					a.say("profiles: %d with an error, %d with a warning, %d clean, %d still to be checked", o.Counts.Blocked, o.Counts.Warned, o.Counts.Clean, o.Counts.Due)
					a.say("gateways: %d as on record, %d differ, %d silent, %d not resolved, %d not asked", o.Answers["sound"], o.Answers["differs"], o.Answers["silent"], o.Answers["unresolved"], o.Answers["unprobed"])
					for _, p := range o.Probes {
						if p.State != drift.Sound {
							a.say("  %s: %s", p.Gateway, p.State)
						}
					}
					if o.Reports > 0 {
						a.say("reports: %d that nobody dealt with (wardicon report list --filter open=yes)", o.Reports)
					}
					a.say("")
					w.AppendHeader(heads("severity", "rule", "what it finds", "profiles"))
					for _, r := range o.Rules {
						w.AppendRow(table.Row{r.Severity, r.Rule, r.Title, r.Profiles})
					}
				})
			})
		},
	}
}

func (a *app) platforms() *cobra.Command {
	return &cobra.Command{
		Use: "platforms [PLATFORM RELEASE]", Short: "Show which release has which protocol, and why", Args: cobra.MaximumNArgs(2),
		Long: `Shows which release comes to which protocol, and how. With a platform and a release it
tells all that is known of that one: how it comes to each protocol, what it takes, and
where that is from. Facts that could not be tried where Wardicon is made are marked.`,
		Example: "  wardicon platforms\n  wardicon platforms android 14",
		RunE: func(_ *cobra.Command, args []string) error {
			switch len(args) {
			case 1:
				return usage("found a platform without its release, expected both, such as android 14")
			case 2:
				return a.release(vpn.Platform(args[0]), args[1])
			}
			return a.print(api.Items[platform.Row]{Items: platform.Table}, func(w table.Writer) {
				head := heads("platform", "releases")
				for _, p := range vpn.Protocols {
					head = append(head, p.Title())
				}
				w.AppendHeader(head)
				w.SetColumnConfigs([]table.ColumnConfig{wrapped(2, 24)})
				for _, r := range platform.Table {
					row := table.Row{r.Title, strings.Join(r.Releases, " ")}
					for _, p := range vpn.Protocols {
						row = append(row, r.Can[p].Support)
					}
					w.AppendRow(row)
				}
			})
		},
	}
}

// release tells all that is known of one release.
func (a *app) release(p vpn.Platform, release string) error {
	found, ok := platform.Find(p, release)
	if !ok {
		return usage("there is no platform %q, expected one of %v", p, vpn.Platforms)
	}
	return a.print(found.Row, func(w table.Writer) {
		if found.Exact {
			a.say("%s\n", found.Title)
		} else {
			a.say("%s is not in the table; it is judged by %s.\n", found.Title, found.By)
		}
		w.AppendHeader(heads("protocol", "support", "proof", "takes", "note", "source", "tried here"))
		w.SetColumnConfigs([]table.ColumnConfig{wrapped(3, 24), wrapped(4, 24), wrapped(5, 36), wrapped(6, 36)})
		for _, protocol := range vpn.Protocols {
			can := found.Ability(protocol)
			formats := make([]string, len(can.Formats))
			for i, f := range can.Formats {
				formats[i] = string(f)
			}
			takes, tried := strings.Join(formats, ", "), "yes"
			if takes == "" && can.Support.Usable() {
				takes = "typed by hand"
			}
			if can.Unconfirmed {
				tried = "no"
			}
			w.AppendRow(table.Row{protocol.Title(), can.Support, proofs(can), takes, can.Note, can.Source, tried})
		}
	})
}

func (a *app) audit() *cobra.Command {
	var q client.Query
	cmd := &cobra.Command{
		Use: "audit", Short: "List who did and saw what, newest first", Args: exactly(),
		Long: "Lists the audit log. It never holds a secret, and its lines can be neither changed nor removed.\nFilters: operator, action, noun, object, days, since and before (a day or an instant).", Example: "  wardicon audit --search reveal\n  wardicon audit --filter operator=pilot,days=7",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Audit(ctx, q)
				if err != nil {
					return err
				}
				if err := a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("when", "operator", "action", "noun", "object", "detail"))
					for _, d := range page.Items {
						w.AppendRow(table.Row{d.At.Local().Format("2006-01-02 15:04:05"), d.Operator, d.Action, d.Noun, d.Object, d.Detail})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", countedPage(page, q.Offset, "lines"))
				}
				return nil
			})
		},
	}
	pageFlags(cmd, &q)
	auditFilter(cmd, &q)
	cmd.AddCommand(a.auditVerify(), a.auditExport())
	return cmd
}

func auditFilter(cmd *cobra.Command, q *client.Query) {
	cmd.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions such as noun=gateway,since=2026-11-01")
}

func (a *app) newSecret() *cobra.Command {
	var bits int
	cmd := &cobra.Command{
		Use: "new-secret", Short: "Make a key or password that is easy to type", Args: exactly(),
		Long: `Makes a random secret of small letters and digits that cannot be taken for one
another (no 0 and O, no 1, l and I), in groups of five, and says how strong it is. It is
kept nowhere; with the default form only the secret goes to standard output.`,
		Example: "  wardicon new-secret > norrvik.psk\n  wardicon new-secret --bits 128 --output json",
		RunE: func(*cobra.Command, []string) error {
			made, n, err := secret.Make(rand.Reader, bits)
			if err != nil {
				return usage("--bits: %v", err)
			}
			if err := a.print(api.NewSecret{Secret: made.Reveal(), Bits: n}, func(table.Writer) { a.say("%s", made.Reveal()) }); err != nil {
				return err
			}
			if a.output == "table" {
				_, err = fmt.Fprintf(a.Err, "%d random bits\n", n)
			}
			return err
		},
	}
	cmd.Flags().IntVar(&bits, "bits", 100, "random bits at the least")
	return cmd
}

// proofs lists the ways in which a release can prove who connects.
func proofs(a platform.Ability) string {
	var list []string
	for _, v := range a.Machine {
		list = append(list, string(v))
	}
	for _, v := range a.IKEv2 {
		list = append(list, string(v))
	}
	for _, v := range a.TLS {
		list = append(list, string(v))
	}
	if len(list) == 0 {
		for _, v := range a.PPP {
			list = append(list, string(v))
		}
	}
	return strings.Join(list, ", ")
}
