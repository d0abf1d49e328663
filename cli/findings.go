package cli

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/check"
	"wardicon/core/vpn"
)

func (a *app) rules() *cobra.Command {
	root := &cobra.Command{
		Use:   "rule",
		Short: "List and explain the rules of the checks, and set their severity",
		Long:  "A rule finds one kind of error. Listing and explaining rules needs no service.",
		Example: "  wardicon rule list\n  wardicon rule show edge-space\n  wardicon rule set " +
			"psk-short error",
	}
	here := false
	list := &cobra.Command{
		Use:   "list",
		Short: "List the rules",
		Args:  exactly(),
		Long: "Lists the rules with their severity. --effective shows the severities that are " +
			"set at the service.",
		Example: "  wardicon rule list\n  wardicon rule list --effective",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if here {
				return a.rulesHere(cmd)
			}
			return a.print(api.Items[check.Rule]{Items: check.Register}, func(w table.Writer) {
				w.AppendHeader(heads("rule", "severity", "title"))
				for _, r := range check.Register {
					w.AppendRow(table.Row{r.Code, r.Severity, r.Title})
				}
			})
		},
	}
	list.Flags().BoolVar(&here, "effective", false, "the severities that are set at the service")
	show := &cobra.Command{
		Use:   "show CODE",
		Short: "Explain a rule",
		Args:  exactly("CODE"),
		Long: "Shows why a rule matters, how to fix what it finds, an example that it finds " +
			"and one that it accepts.",
		Example: "  wardicon rule show edge-space",
		RunE: func(_ *cobra.Command, args []string) error {
			r, ok := check.Lookup(args[0])
			if !ok {
				return missing("there is no rule %q; wardicon rule list shows them", args[0])
			}
			return a.print(r, func(table.Writer) {
				a.say(
					"%s: %s (%s)\n\n  why        %s\n  recipient  %s\n  fix        %s\n  finds    "+
						"  %s\n  accepts    %s\n  source     %s",
					r.Code,
					r.Title,
					r.Severity,
					r.Why,
					r.Plain,
					r.Fix,
					r.Bad.Text,
					r.Good.Text,
					r.Source,
				)
			})
		},
	}
	return group(root, list, show, &cobra.Command{
		Use:   "set CODE SEVERITY",
		Short: "Set the severity of a rule",
		Args:  exactly("CODE", "SEVERITY"),
		Long: "Sets the severity of a rule: error, warning, note, off, or default. Every " +
			"profile is checked again; the change is recorded in the audit log.",
		Example: "  wardicon rule set psk-short error\n  wardicon rule set name-lacks-gateway " +
			"off\n  wardicon rule set psk-short default",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				severity := vpn.Severity(args[1])
				if severity == "default" {
					severity = ""
				}
				r, err := c.SetSeverity(ctx, args[0], severity)
				if err != nil {
					return err
				}
				return a.print(r, func(table.Writer) {
					if r.Set == "" {
						a.say("%s has its default severity, %s", r.Code, r.Severity)
					} else {
						a.say("%s is set to %s (default %s)", r.Code, r.Set, r.Severity)
					}
				})
			})
		},
	})
}

// rulesHere lists the rules as the service takes them.
func (a *app) rulesHere(cmd *cobra.Command) error {
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		list, err := c.Rules(ctx)
		if err != nil {
			return err
		}
		return a.print(list, func(w table.Writer) {
			w.AppendHeader(heads("rule", "severity", "here", "title"))
			for _, r := range list.Items {
				w.AppendRow(table.Row{r.Code, r.Severity, cmp.Or(r.Set, r.Severity), r.Title})
			}
		})
	})
}

func (a *app) findingCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "finding",
		Short: "List, count, fix and override findings",
		Long:  "Findings of all profiles and gateways.",
		Example: "  wardicon finding sums\n  wardicon finding list --filter rule=edge-space\n  " +
			"wardicon finding fix edge-space",
	}
	findings := list(a, listing[api.FleetFinding]{
		short:  "List findings, the most severe first",
		about:  "Lists the findings of all profiles.",
		plural: "findings",
		example: "  wardicon finding list --filter severity=error\n  wardicon finding list " +
			"--filter days=7 --sort -since --output json",
		filters: []string{
			"rule",
			"severity",
			"gateway",
			"person",
			"device",
			"profile",
			"days (first found within so many)",
			"fixable (true or false)",
			"overridden (true or false)",
		},
		columns: []string{"severity", "rule", "found", "device", "gateway", "since"},
		load: func(ctx context.Context, c *client.Client,
			q client.Query) (api.Page[api.FleetFinding], error) {
			return c.Findings(ctx, q)
		},
		row: func(f api.FleetFinding) table.Row {
			severity := any(f.Severity)
			if f.Overridden {
				severity = string(f.Severity) + " (overridden)"
			}
			return table.Row{
				severity,
				f.Rule,
				string(f.Field) + ": " + f.Found,
				cmp.Or(f.Device, "all"),
				f.Gateway,
				f.Since.Local().Format(time.DateOnly),
			}
		},
	})
	by, days := "rule", 7
	sums := &cobra.Command{
		Use:     "sums",
		Short:   "Count findings by rule, gateway or person",
		Args:    exactly(),
		Long:    "Counts findings, with how many are new and how many are gone.",
		Example: "  wardicon finding sums --by gateway --days 7",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.FindingSums(ctx, by, days)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(
						heads(
							by,
							"errors",
							"warnings",
							"notes",
							"profiles",
							"new",
							"resolved",
							"fixable",
						),
					)
					for _, s := range list.Items {
						title := s.Title
						if by == "rule" {
							title = s.Key
						}
						w.AppendRow(
							table.Row{
								title,
								s.Tally.Errors,
								s.Tally.Warnings,
								s.Tally.Notes,
								s.Profiles,
								s.New,
								s.Ended,
								s.Fixable,
							},
						)
					}
				})
			})
		},
	}
	sums.Flags().StringVar(&by, "by", by, "rule, gateway or person")
	sums.Flags().
		IntVar(&days, "days", days, "number of days to look back for new and resolved findings")
	var dry bool
	fix := &cobra.Command{
		Use:   "fix RULE",
		Short: "Apply the automatic fixes of a rule",
		Args:  exactly("RULE"),
		Long: "Fixes all findings of a rule that can be fixed automatically, as a job. " +
			"--dry-run only shows the changes.\nEach change is recorded in the audit log.",
		Example: "  wardicon finding fix edge-space --dry-run\n  wardicon finding fix edge-space " +
			"--yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if dry {
					page, err := c.Fixes(ctx, args[0])
					if err != nil {
						return err
					}
					return a.print(page, func(w table.Writer) {
						w.AppendHeader(heads("record", "name", "field", "from", "to"))
						for _, m := range page.Items {
							w.AppendRow(
								table.Row{
									m.Noun,
									m.Name,
									m.Pointer[1:],
									fmt.Sprintf("%q", m.From),
									fmt.Sprintf("%q", m.To),
								},
							)
						}
						if len(page.Items) == 0 {
							a.say("no finding of %s can be fixed automatically", args[0])
						}
					})
				}
				if err := a.sure("Fix all findings of %s on the records?", args[0]); err != nil {
					return err
				}
				j, err := c.FixAll(ctx, args[0])
				return a.follow(ctx, c, j, err, false)
			})
		},
	}
	fix.Flags().BoolVar(&dry, "dry-run", false, "only show the changes")
	return group(root, findings, sums, fix, a.override())
}

func (a *app) override() *cobra.Command {
	var reason, until string
	var end bool
	cmd := &cobra.Command{
		Use:   "override PROFILE RULE",
		Short: "Override an error on one profile temporarily, with a reason and an end date",
		Args:  exactly("PROFILE", "RULE"),
		Long: "Treats an error as a warning on one profile until a date, so that its parcel " +
			"can be built.\nReason and date are shown with the profile and recorded in the audit " +
			"log. --end removes the override.",
		Example: "  wardicon finding override \"Deck phone 1/Norrvik\" address-unusable --reason " +
			"\"test bench\" --until 2027-01-31\n  wardicon finding override \"Deck phone " +
			"1/Norrvik\" address-unusable --end",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				p, err := findProfile(ctx, c, args[0])
				if err != nil {
					return err
				}
				if end {
					return c.EndOverride(ctx, p.ID, args[1])
				}
				day, err := time.ParseInLocation(time.DateOnly, until, time.Local)
				if err != nil {
					return usage("--until: found %q, expected a date such as 2027-01-31", until)
				}
				o, err := c.Override(ctx, p.ID, args[1], reason, day)
				if err != nil {
					return err
				}
				return a.print(o, func(table.Writer) {
					a.say(
						"%s is overridden until %s: %s",
						o.Rule,
						o.Until.Local().Format(time.DateOnly),
						o.Reason,
					)
				})
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "reason for the override")
	cmd.Flags().StringVar(&until, "until", "", "last day of the override, such as 2027-01-31")
	cmd.Flags().BoolVar(&end, "end", false, "remove the override")
	return cmd
}
