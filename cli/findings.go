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
	here := false
	cmd := &cobra.Command{
		Use: "rules [CODE]", Short: "List the rules of the checks, or explain one", Args: cobra.MaximumNArgs(1),
		Long:    "Lists the rules, or tells all about one: why it matters, how to fix it, an example that it finds and one that it leaves alone.\n--here asks the service for the severities that were set there.",
		Example: "  wardicon rules\n  wardicon rules edge-space\n  wardicon rules set psk-short error",
		RunE: func(cmd *cobra.Command, args []string) error {
			if here && len(args) == 0 {
				return a.rulesHere(cmd)
			}
			if len(args) == 1 {
				r, ok := check.Lookup(args[0])
				if !ok {
					return usage("there is no rule %q; wardicon rules lists them", args[0])
				}
				return a.print(r, func(table.Writer) {
					a.say("%s: %s (%s)\n\n  why     %s\n  people  %s\n  fix    %s\n  finds   %s\n  not     %s\n  source  %s", r.Code, r.Title, r.Severity, r.Why, r.Plain, r.Fix, r.Bad.Text, r.Good.Text, r.Source)
				})
			}
			return a.print(api.Items[check.Rule]{Items: check.Register}, func(w table.Writer) {
				w.AppendHeader(heads("rule", "severity", "what it finds"))
				for _, r := range check.Register {
					w.AppendRow(table.Row{r.Code, r.Severity, r.Title})
				}
			})
		},
	}
	cmd.Flags().BoolVar(&here, "here", false, "with the severities that were set; asks the service")
	cmd.AddCommand(&cobra.Command{
		Use: "set CODE SEVERITY", Short: "Set how severe a rule is for the whole fleet", Args: exactly("CODE", "SEVERITY"),
		Long:    "Sets the severity of a rule: error, warning, note, off, or own for what the rule has\nby itself. Every profile is checked again; the change is written to the audit log.",
		Example: "  wardicon rules set psk-short error\n  wardicon rules set name-lacks-gateway off\n  wardicon rules set psk-short own",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				severity := vpn.Severity(args[1])
				if severity == "own" {
					severity = ""
				}
				r, err := c.SetSeverity(ctx, args[0], severity)
				if err != nil {
					return err
				}
				return a.print(r, func(table.Writer) {
					if r.Set == "" {
						a.say("%s is a %s, as by itself", r.Code, r.Severity)
					} else {
						a.say("%s is set to %s (by itself %s)", r.Code, r.Set, r.Severity)
					}
				})
			})
		},
	})
	return cmd
}

// rulesHere lists the rules as the service takes them.
func (a *app) rulesHere(cmd *cobra.Command) error {
	return a.with(cmd, func(ctx context.Context, c *client.Client) error {
		list, err := c.Rules(ctx)
		if err != nil {
			return err
		}
		return a.print(list, func(w table.Writer) {
			w.AppendHeader(heads("rule", "severity", "here", "what it finds"))
			for _, r := range list.Items {
				w.AppendRow(table.Row{r.Code, r.Severity, cmp.Or(r.Set, r.Severity), r.Title})
			}
		})
	})
}

func (a *app) findingList() *cobra.Command {
	root := &cobra.Command{
		Use: "finding", Short: "Work through the findings of the whole fleet", Long: "Lists and counts what is wrong all over the fleet, and fixes what is mechanical.",
		Example: "  wardicon finding sums\n  wardicon finding list --filter rule=edge-space\n  wardicon finding fix edge-space",
	}
	var q client.Query
	list := &cobra.Command{
		Use: "list", Short: "List findings, the most severe first", Args: exactly(),
		Long:    "Lists findings over all profiles. Filters: rule, severity, gateway_id, person_id, device_id,\nprofile_id, days (found first within so many), fixable, passed.",
		Example: "  wardicon finding list --filter severity=error\n  wardicon finding list --filter days=7 --sort -since --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Findings(ctx, q)
				if err != nil {
					return err
				}
				if err := a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("severity", "rule", "found", "device", "gateway", "since"))
					w.SetColumnConfigs([]table.ColumnConfig{wrapped(3, 52)})
					for _, f := range page.Items {
						severity := string(f.Severity)
						if f.Passed {
							severity += " (passed)"
						}
						w.AppendRow(table.Row{severity, f.Rule, string(f.Field) + ": " + f.Found, cmp.Or(f.Device, "all"), f.Gateway, f.Since.Local().Format(time.DateOnly)})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", countedPage(page, q.Offset, "findings"))
				}
				return nil
			})
		},
	}
	pageFlags(list, &q)
	list.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions such as rule=edge-space")
	by, days := "rule", 7
	sums := &cobra.Command{
		Use: "sums", Short: "Count findings by rule, gateway or person", Args: exactly(), Long: "Counts findings, with what is new and what has ended since some days ago.", Example: "  wardicon finding sums --by gateway --days 7",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.FindingSums(ctx, by, days)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(heads(by, "errors", "warnings", "notes", "profiles", "new", "ended", "fixable"))
					for _, s := range list.Items {
						title := s.Title
						if by == "rule" {
							title = s.Key
						}
						w.AppendRow(table.Row{title, s.Tally.Errors, s.Tally.Warnings, s.Tally.Notes, s.Profiles, s.New, s.Ended, s.Fixable})
					}
				})
			})
		},
	}
	sums.Flags().StringVar(&by, "by", by, "rule, gateway or person")
	sums.Flags().IntVar(&days, "days", days, "how far new and ended look back")
	var yes bool
	fix := &cobra.Command{
		Use: "fix RULE", Short: "Show, and with --yes carry out, the mechanical fixes of a rule", Args: exactly("RULE"),
		Long:    "Shows what would be changed on which records to fix all findings of a rule, where the fix\nis mechanical. With --yes it is done, as a job; each change is written to the audit log.",
		Example: "  wardicon finding fix edge-space\n  wardicon finding fix edge-space --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if !yes {
					page, err := c.Fixes(ctx, args[0])
					if err != nil {
						return err
					}
					return a.print(page, func(w table.Writer) {
						w.AppendHeader(heads("record", "name", "field", "from", "to"))
						for _, m := range page.Items {
							w.AppendRow(table.Row{m.Noun, m.Name, m.Pointer[1:], fmt.Sprintf("%q", m.From), fmt.Sprintf("%q", m.To)})
						}
						if len(page.Items) == 0 {
							a.say("nothing of %s can be fixed mechanically", args[0])
						}
					})
				}
				j, err := c.FixAll(ctx, args[0])
				if err == nil {
					j, err = a.wait(ctx, c, j)
				}
				if err != nil {
					return err
				}
				return a.print(j, func(w table.Writer) { jobTable(w, j) })
			})
		},
	}
	fix.Flags().BoolVar(&yes, "yes", false, "carry it out")
	return group(root, list, sums, fix)
}

func (a *app) override() *cobra.Command {
	var reason, until string
	var end bool
	cmd := &cobra.Command{
		Use: "override PROFILE RULE", Short: "Let an error pass on one profile, for a reason and a time", Args: exactly("PROFILE", "RULE"),
		Long:    "Lets an error pass as a warning on one profile until a day, so that its parcel can be\nbuilt. Reason and day are shown wherever the profile is, and written to the audit log.\n--end takes it back.",
		Example: "  wardicon override \"Deck phone 1/Norrvik\" address-unusable --reason \"test bench\" --until 2027-01-31\n  wardicon override \"Deck phone 1/Norrvik\" address-unusable --end",
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
					return usage("--until: found %q, expected a day such as 2027-01-31", until)
				}
				o, err := c.Override(ctx, p.ID, args[1], reason, day)
				if err != nil {
					return err
				}
				return a.print(o, func(table.Writer) {
					a.say("%s passes until %s: %s", o.Rule, o.Until.Local().Format(time.DateOnly), o.Reason)
				})
			})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why the error may pass")
	cmd.Flags().StringVar(&until, "until", "", "day on which it blocks again, such as 2027-01-31")
	cmd.Flags().BoolVar(&end, "end", false, "take an override back")
	return cmd
}

func (a *app) take() *cobra.Command {
	var person string
	var keep bool
	cmd := &cobra.Command{
		Use: "take FILE|FOLDER…", Short: "Take gateways and accounts out of files into the records", Args: cobra.MinimumNArgs(1),
		Long:    "Reads files as wardicon check does and shows which gateways, offers and accounts they name\nthat the records lack. With --keep these are added. Accounts are added for the person\nthat --person names.",
		Example: "  wardicon take old-profiles/\n  wardicon take ada.mobileconfig --person \"Ada Fjell\" --keep",
		RunE: func(cmd *cobra.Command, args []string) error {
			files, err := a.gather(args)
			if err != nil {
				return err
			}
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				id := ""
				if person != "" {
					p, err := findPerson(ctx, c, person)
					if err != nil {
						return err
					}
					id = p.ID
				}
				taken, err := c.Take(ctx, files, id, keep)
				if err != nil {
					return err
				}
				return a.print(taken, func(w table.Writer) {
					w.AppendHeader(heads("record", "state", "name", "detail"))
					for _, f := range taken.Items {
						w.AppendRow(table.Row{f.Noun, f.State, f.Name, f.Detail})
					}
					if !taken.Kept {
						a.say("Nothing is kept yet; --keep adds it.\n")
					}
				})
			})
		},
	}
	cmd.Flags().StringVar(&person, "person", "", "name or id of the person whose accounts these are")
	cmd.Flags().BoolVar(&keep, "keep", false, "add it to the records")
	return cmd
}
