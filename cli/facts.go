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

func (a *app) overview() *cobra.Command {
	return &cobra.Command{
		Use:   "overview",
		Short: "Show an overview of records and findings",
		Args:  exactly(),
		Long: "Shows the number of records, the state of profiles and gateways, and the rules " +
			"with findings.",
		Example: "  wardicon overview",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				o, err := c.Overview(ctx)
				if err != nil {
					return err
				}
				return a.print(o, func(w table.Writer) {
					a.say(
						"%s: %d gateways, %d people, %d devices, %d profiles, %d parcels",
						o.Organisation.Name,
						o.Counts.Gateways,
						o.Counts.People,
						o.Counts.Devices,
						o.Counts.Profiles,
						o.Counts.Parcels,
					)
					a.say(
						"profiles: %d with errors, %d with warnings, %d clean, %d not checked yet",
						o.Counts.Blocked,
						o.Counts.Warned,
						o.Counts.Clean,
						o.Counts.Due,
					)
					a.say(
						"gateways: %d match their record, %d differ from it, %d no response, %d "+
							"not resolved, %d not probed",
						o.Answers["matches"],
						o.Answers["differs"],
						o.Answers["no-response"],
						o.Answers["unresolved"],
						o.Answers["unprobed"],
					)
					for _, p := range o.Probes {
						if p.State != drift.Matches {
							a.say("  %s: %s", p.Gateway, p.State)
						}
					}
					if o.Reports > 0 {
						a.say(
							"problem reports: %d open (wardicon handover problem list --filter "+
								"open=true)",
							o.Reports,
						)
					}
					a.say("")
					w.AppendHeader(heads("severity", "rule", "title", "profiles"))
					for _, r := range o.Rules {
						w.AppendRow(table.Row{r.Severity, r.Rule, r.Title, r.Profiles})
					}
				})
			})
		},
	}
}

func (a *app) platforms() *cobra.Command {
	root := &cobra.Command{
		Use:   "platform",
		Short: "Show which operating-system release supports which protocol",
		Long: "What each platform and release supports, with the source of each fact. No " +
			"service is needed.",
		Example: "  wardicon platform list\n  wardicon platform show android 14",
	}
	show := &cobra.Command{
		Use:   "show PLATFORM RELEASE",
		Short: "Show what a release supports",
		Args:  exactly("PLATFORM", "RELEASE"),
		Long: `Shows how a release supports each protocol, which authentication and algorithms it
accepts, and the source of each fact. Facts that were not verified on a real device are marked.`,
		Example: "  wardicon platform show android 14",
		RunE: func(_ *cobra.Command, args []string) error {
			return a.release(vpn.Platform(args[0]), args[1])
		},
	}
	return group(root, show, &cobra.Command{
		Use:     "list",
		Short:   "List platforms with the protocols that their releases support",
		Args:    exactly(),
		Long:    "Lists platforms and the protocols that each range of releases supports.",
		Example: "  wardicon platform list",
		RunE: func(_ *cobra.Command, _ []string) error {
			return a.print(api.Items[platform.Row]{Items: platform.Table}, func(w table.Writer) {
				head := heads("platform", "releases")
				for _, p := range vpn.Protocols {
					head = append(head, p.Title())
				}
				w.AppendHeader(head)
				for _, r := range platform.Table {
					row := table.Row{r.Title, strings.Join(r.Releases, " ")}
					for _, p := range vpn.Protocols {
						row = append(row, r.Can[p].Support)
					}
					w.AppendRow(row)
				}
			})
		},
	})
}

// release tells all that is known of one release.
func (a *app) release(p vpn.Platform, release string) error {
	found, ok := platform.Find(p, release)
	if !ok {
		return missing("there is no platform %q, expected one of %v", p, vpn.Platforms)
	}
	return a.print(found.Row, func(w table.Writer) {
		if found.Exact {
			a.say("%s\n", found.Title)
		} else {
			a.say("%s is not in the table; it is treated like %s.\n", found.Title, found.By)
		}
		w.AppendHeader(heads("protocol", "support", "proof", "takes", "note", "source", "verified"))
		for _, protocol := range vpn.Protocols {
			can := found.Ability(protocol)
			formats := make([]string, len(can.Formats))
			for i, f := range can.Formats {
				formats[i] = string(f)
			}
			takes, tried := strings.Join(formats, ", "), "yes"
			if takes == "" && can.Support.Usable() {
				takes = "set up manually"
			}
			if can.Unconfirmed {
				tried = "no"
			}
			w.AppendRow(
				table.Row{
					protocol.Title(),
					can.Support,
					proofs(can),
					takes,
					can.Note,
					can.Source,
					tried,
				},
			)
		}
	})
}

func (a *app) audit() *cobra.Command {
	root := &cobra.Command{
		Use:   "audit",
		Short: "Read, verify and export the audit log",
		Long: "The audit log says who did what and who saw which secret. Entries can be " +
			"neither changed nor removed.",
		Example: "  wardicon audit list --filter operator=pilot,days=7\n  wardicon audit verify",
	}
	entries := list(a, listing[api.AuditEntry]{
		short:  "List audit entries, newest first",
		about:  "Lists audit entries. None of them holds a secret.",
		plural: "entries",
		example: "  wardicon audit list --search reveal\n  wardicon audit list --filter " +
			"operator=pilot,days=7",
		filters: auditFilters,
		columns: []string{"when", "operator", "action", "noun", "object", "detail"},
		load: func(ctx context.Context, c *client.Client, q client.Query) (api.Page[api.AuditEntry],
			error) {
			return c.Audit(ctx, q)
		},
		row: func(e api.AuditEntry) table.Row {
			return table.Row{
				e.At.Local().Format("2006-01-02 15:04:05 MST"),
				e.Operator,
				e.Action,
				e.Noun,
				e.Object,
				e.Detail,
			}
		},
	})
	return group(root, entries, a.auditVerify(), a.auditExport())
}

// auditFilters are the conditions that the audit log is listed by.
var auditFilters = []string{
	"operator",
	"action",
	"noun",
	"object",
	"days",
	"since and before (a date or a time)",
}

func (a *app) newSecret() *cobra.Command {
	var bits int
	cmd := &cobra.Command{
		Use:   "new-secret",
		Short: "Generate a key or password that is easy to type",
		Args:  exactly(),
		Long: `Generates a random secret of lower-case letters and digits that are not easily
confused (no 0 and O, no 1, l and I), in groups of five, and shows its strength. It is not stored;
with the default output format only the secret goes to standard output.`,
		Example: "  wardicon new-secret > norrvik.psk\n  wardicon new-secret --bits 128 --output " +
			"json",
		RunE: func(*cobra.Command, []string) error {
			made, n, err := secret.Make(rand.Reader, bits)
			if err != nil {
				return usage("--bits: %v", err)
			}
			if err := a.print(
				api.NewSecret{Secret: made.Reveal(), Bits: n},
				func(table.Writer) { a.say("%s", made.Reveal()) },
			); err != nil {
				return err
			}
			if a.output == "table" {
				_, err = fmt.Fprintf(a.Err, "%d random bits\n", n)
			}
			return err
		},
	}
	cmd.Flags().IntVar(&bits, "bits", 100, "minimum number of random bits")
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
