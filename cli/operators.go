package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/service"
)

const moment = "2006-01-02 15:04 MST"

func findOperator(ctx context.Context, c *client.Client, name string) (api.Operator, error) {
	page, err := c.Operators(ctx, client.Query{Filter: map[string]string{"name": name}, Limit: 2})
	if err != nil {
		return api.Operator{}, err
	}
	if len(page.Items) != 1 {
		return api.Operator{}, fmt.Errorf(
			"there is no operator %q; wardicon operator list shows them",
			name,
		)
	}
	return page.Items[0], nil
}

// operatorCommands are those of who can sign in.
func (a *app) operatorCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "operator",
		Short: "Manage who can sign in, and with which role (owners only)",
		Long: `Operators have a role. An auditor reads everything but secrets; an issuer does the
daily work on records, plans, parcels and certificates; an owner also manages operators,
authorities, signing, mail and the severity of rules. An issuer can be confined to groups of people and
to gateways: everything else they only read, as an auditor does. A new operator gets a password for the
first sign-in, which must then be changed.`,
		Example: "  wardicon operator add pilot --role issuer --group crew\n  wardicon operator change pilot " +
			"--role auditor\n  wardicon operator reset pilot",
	}
	operators := list(a, listing[api.Operator]{
		short:   "List operators",
		about:   "Lists operators with role, state, second factor and last sign-in.",
		plural:  "operators",
		example: "  wardicon operator list",
		columns: []string{
			"name",
			"role",
			"confined to",
			"state",
			"second factor",
			"last sign-in",
			"sessions",
		},
		load: func(ctx context.Context, c *client.Client, q client.Query) (api.Page[api.Operator],
			error) {
			return c.Operators(ctx, q)
		},
		row: func(o api.Operator) table.Row {
			last := "never"
			if o.SignedIn != nil {
				last = o.SignedIn.Local().Format(moment)
			}
			factor := map[bool]string{true: "on", false: "off"}[o.SecondFactor || o.Passkeys]
			within := strings.TrimPrefix(o.Confined.String(), ", confined to ")
			return table.Row{o.Name, o.Role, within, operatorState(o), factor, last, o.Sessions}
		},
	})
	role := "issuer"
	var bounds bounds
	add := &cobra.Command{
		Use:     "add NAME",
		Short:   "Add an operator",
		Args:    exactly("NAME"),
		Long:    "Adds an operator and prints a password for the first sign-in, once.",
		Example: "  wardicon operator add pilot --role issuer",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				confined, err := bounds.confinement(ctx, c, cmd, nil)
				if err != nil {
					return err
				}
				made, err := c.AddOperator(ctx, args[0], role, confined)
				return a.firstPassword(made, err)
			})
		},
	}
	add.Flags().StringVar(&role, "role", "issuer", "owner, issuer or auditor")
	bounds.flags(add)
	return group(root, operators, add, a.operatorChange(), a.operatorReset(),
		a.approvalCommands(), &cobra.Command{
			Use:   "remove NAME",
			Short: "Remove an operator",
			Args:  exactly("NAME"),
			Long: "Removes an operator and ends all sessions and tokens. The audit log keeps the " +
				"entries.",
			Example: "  wardicon operator remove pilot",
			RunE: func(cmd *cobra.Command, args []string) error {
				return a.with(cmd, func(ctx context.Context, c *client.Client) error {
					o, err := findOperator(ctx, c, args[0])
					if err != nil {
						return err
					}
					if err := a.sure("Remove the operator %s?", o.Name); err != nil {
						return err
					}
					if err := c.RemoveOperator(ctx, o.ID); err != nil {
						return err
					}
					a.say("%s is removed", o.Name)
					return nil
				})
			},
		})
}

// bounds are what an issuer is confined to, by names.
type bounds struct{ groups, gateways []string }

func (b *bounds) flags(cmd *cobra.Command) {
	cmd.Flags().
		StringSliceVar(&b.groups, "group", nil, "confine their changes to people in this group, "+
			"with their devices, accounts and profiles")
	cmd.Flags().
		StringSliceVar(&b.gateways, "gateway", nil, "confine their changes to this gateway and its "+
			"profiles")
}

// confinement takes over what was given into what there was, and finds the gateways; nil where nothing
// was given.
func (b *bounds) confinement(
	ctx context.Context, c *client.Client, cmd *cobra.Command, was *api.Confinement,
) (*api.Confinement, error) {
	groups, gateways := cmd.Flags().Changed("group"), cmd.Flags().Changed("gateway")
	if !groups && !gateways {
		return nil, nil
	}
	out := &api.Confinement{Groups: b.groups}
	if was != nil && !groups {
		out.Groups = was.Groups
	}
	if was != nil && !gateways {
		out.Gateways = was.Gateways
	}
	for _, name := range b.gateways {
		g, err := findGateway(ctx, c, name)
		if err != nil {
			return nil, err
		}
		out.Gateways = append(out.Gateways, g.ID)
	}
	return out, nil
}

func operatorState(o api.Operator) string {
	switch {
	case o.Disabled:
		return "disabled"
	case o.MustChange:
		return "must change the password"
	}
	return "can sign in"
}

func (a *app) firstPassword(made api.NewOperator, err error) error {
	if err != nil {
		return err
	}
	return a.print(made, func(table.Writer) {
		a.say(
			"%s (%s) signs in for the first time with\n\n  %s\n\nand then chooses a password. It "+
				"is not shown again.",
			made.Operator.Name,
			made.Operator.Role,
			made.Password,
		)
	})
}

func (a *app) operatorChange() *cobra.Command {
	var role string
	var disabled, free bool
	var bounds bounds
	cmd := &cobra.Command{
		Use:   "change NAME",
		Short: "Change an operator's role, disable or enable it",
		Args:  exactly("NAME"),
		Long: "Changes role or state, and ends all sessions and tokens of the operator. The " +
			"last owner cannot be removed.",
		Example: "  wardicon operator change pilot --role auditor\n  wardicon operator change " +
			"pilot --disabled",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				o, err := findOperator(ctx, c, args[0])
				if err != nil {
					return err
				}
				if cmd.Flags().Changed("role") {
					o.Role = role
				}
				if cmd.Flags().Changed("disabled") {
					o.Disabled = disabled
				}
				confined, err := bounds.confinement(ctx, c, cmd, o.Confined)
				if err != nil {
					return err
				}
				if free {
					confined = &api.Confinement{Groups: []string{}, Gateways: []string{}}
				}
				if o, err = c.ChangeOperator(ctx, o.ID, o.Role, o.Disabled, confined); err != nil {
					return err
				}
				return a.print(
					o,
					func(table.Writer) { a.say("%s: %s%s, %s", o.Name, o.Role, o.Confined, operatorState(o)) },
				)
			})
		},
	}
	cmd.Flags().StringVar(&role, "role", "", "owner, issuer or auditor")
	cmd.Flags().BoolVar(&disabled, "disabled", false, "disable sign-in")
	bounds.flags(cmd)
	cmd.Flags().BoolVar(&free, "unconfined", false, "confine their changes no longer")
	for _, other := range []string{"group", "gateway"} {
		cmd.MarkFlagsMutuallyExclusive("unconfined", other)
	}
	return cmd
}

// operatorReset works through the service for owners, and on the data folder for whoever has that.
func (a *app) operatorReset() *cobra.Command {
	h := host{}
	cmd := &cobra.Command{
		Use:   "reset NAME",
		Short: "Reset an operator's password and second factor",
		Args:  exactly("NAME"),
		Long: `For an operator who has lost password or second factor. Owners do this through the
service. If no owner can sign in, run it on the server with --data: it needs read access to the
data folder and the master key.`,
		Example: "  wardicon operator reset pilot\n  wardicon operator reset harbourmaster " +
			"--data /var/lib/wardicon",
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("data") {
				svc, s, err := a.open(cmd.Context(), h, slog.New(slog.DiscardHandler))
				if err != nil {
					return err
				}
				made, err := svc.RecoverOperator(service.As(cmd.Context(), "server"), args[0])
				if closed := s.Close(); err == nil {
					err = closed
				}
				return a.firstPassword(made, err)
			}
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				o, err := findOperator(ctx, c, args[0])
				if err != nil {
					return err
				}
				if err := a.sure("Reset password and second factor of %s?", o.Name); err != nil {
					return err
				}
				made, err := c.ResetOperator(ctx, o.ID)
				return a.firstPassword(made, err)
			})
		},
	}
	h.dataFlags(cmd)
	return cmd
}

// ownCommands are those of one's own sign-in.
func (a *app) ownCommands() []*cobra.Command {
	password := &cobra.Command{
		Use:   "password",
		Short: "Change your password",
		Args:  exactly(),
		Long: "Prompts for the old password and twice for the new one; without a terminal they " +
			"are read from three lines of standard input. Your other sessions end.",
		Example: "  wardicon me password",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				said, err := a.promptAll(
					"Current password",
					"New password (at least 15 characters)",
					"Repeat",
				)
				if err != nil {
					return err
				}
				if !said[1].Equal(said[2]) {
					return usage("the two new passwords differ")
				}
				if err := c.ChangePassword(ctx, said[0], said[1]); err != nil {
					return err
				}
				a.say("the password is changed; your other sessions have ended")
				return nil
			})
		},
	}
	return []*cobra.Command{password, a.factorCommands(), a.sessionCommands(), a.tokenCommands()}
}

func (a *app) factorCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "second-factor",
		Short: "Turn your second factor on or off",
		Long: "A second factor is a code of six digits that changes every thirty seconds (RFC " +
			"6238), from an app on your phone.",
		Example: "  wardicon me second-factor on\n  wardicon me second-factor off",
	}
	return group(root, &cobra.Command{
		Use:   "on",
		Short: "Turn the second factor on",
		Args:  exactly(),
		Long: "Prints the key for your app and prompts for a first code; from then on every " +
			"sign-in requires one.",
		Example: "  wardicon me second-factor on",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				f, err := c.OfferFactor(ctx)
				if err != nil {
					return err
				}
				a.say("key for the app  %s\nas a URI         %s\n", f.Key, f.Address)
				code, err := a.ask("Code that the app shows now")
				if err != nil {
					return err
				}
				if err := c.ConfirmFactor(ctx, strings.TrimSpace(code.Reveal())); err != nil {
					return err
				}
				a.say("the second factor is on; your other sessions have ended")
				return nil
			})
		},
	}, &cobra.Command{
		Use:     "off",
		Short:   "Turn the second factor off",
		Args:    exactly(),
		Long:    "Prompts for your password.",
		Example: "  wardicon me second-factor off",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				password, err := a.ask("Password")
				if err != nil {
					return err
				}
				c.Prove = a.having(password)
				if err := c.DropFactor(ctx, password); err != nil {
					return err
				}
				a.say("the second factor is off")
				return nil
			})
		},
	})
}

func (a *app) sessionCommands() *cobra.Command {
	var all bool
	list := &cobra.Command{
		Use:   "list",
		Short: "List your open sessions and tokens",
		Args:  exactly(),
		Long: "Lists your sessions in the console and on the command line, and your tokens. " +
			"Owners see those of all operators with --all.",
		Example: "  wardicon me session list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.Sessions(ctx, all)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(
						heads(
							"operator",
							"what",
							"role",
							"from",
							"program",
							"opened",
							"used",
							"expires",
							"id",
						),
					)
					for _, s := range list.Items {
						what := map[string]string{
							"cookie": "console",
							"token":  "command line",
						}[s.Kind]
						if s.Name != "" {
							what = "token " + s.Name
						}
						if s.Current {
							what += " (this one)"
						}
						used := "never"
						if s.Used != nil {
							used = s.Used.Local().Format(moment)
						}
						w.AppendRow(
							table.Row{
								s.Operator,
								what,
								s.Role,
								cmp.Or(strings.Join(s.Addresses, " "), s.Origin),
								s.Client,
								s.Created.Local().Format(moment),
								used,
								s.Expires.Local().Format(time.DateOnly),
								s.ID,
							},
						)
					}
				})
			})
		},
	}
	list.Flags().BoolVar(&all, "all", false, "those of all operators (owners only)")
	return group(&cobra.Command{
		Use:     "session",
		Short:   "List and end sessions and tokens",
		Long:    "Sessions of the console and the command line, and tokens of programs.",
		Example: "  wardicon me session list\n  wardicon me session end se-4xk7q2m9h3vw8tzp",
	}, list, &cobra.Command{
		Use:     "end ID",
		Short:   "End a session or token",
		Args:    exactly("ID"),
		Long:    "Ends one of your own; an owner can end any.",
		Example: "  wardicon me session end se-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if err := a.sure("End the session or token %s?", args[0]); err != nil {
					return err
				}
				if err := c.EndSession(ctx, args[0]); err != nil {
					return err
				}
				a.say("%s has ended", args[0])
				return nil
			})
		},
	})
}

func (a *app) tokenCommands() *cobra.Command {
	role, days := service.RoleAuditor, 90
	var networks []string
	cmd := &cobra.Command{
		Use:   "token NAME",
		Short: "Create a token for a program",
		Args:  exactly("NAME"),
		Long: `Creates a token that a program sends as "Authorization: Bearer TOKEN", and prints
it once. It has a role, at most yours, and expires. "wardicon me session list" shows its last use;
"wardicon me session end" ends it.`,
		Example: "  wardicon me token inventory --role auditor --days 365",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				made, err := c.AddToken(ctx, args[0], role, days, networks...)
				if err != nil {
					return err
				}
				return a.print(made, func(table.Writer) { a.say("%s", made.Bearer) })
			})
		},
	}
	cmd.Flags().StringVar(&role, "role", role, "its role: auditor, issuer or owner")
	cmd.Flags().IntVar(&days, "days", days, "days until it expires, at most 365")
	cmd.Flags().
		StringSliceVar(&networks, "network", nil, "network that it may be used from, CIDR (repeat "+
			"for several; default: any)")
	return cmd
}

// auditVerify walks the audit log.
func (a *app) auditVerify() *cobra.Command {
	var head string
	cmd := &cobra.Command{
		Use:   "verify",
		Short: "Verify that the audit log was not changed",
		Args:  exactly(),
		Long: `Each entry is chained to the one before it by a digest under the master key.
Verifies the whole log and prints its head. Keep the head elsewhere and pass it with --head next
time, so that entries removed at the end are noticed. Exits 1 if an entry was changed or removed.`,
		Example: "  wardicon audit verify\n  wardicon audit verify --head 5f0c…",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				p, err := c.VerifyAudit(ctx, head)
				if err != nil {
					return err
				}
				if err := a.print(p, func(table.Writer) {
					switch {
					case p.Cut:
						a.say("entries were removed at the end of the log, or its head was changed")
					case !p.Sound:
						a.say("entry %d was changed, or the one before it was removed", p.First)
					case !p.Held:
						a.say("the given head is not in the log: entries were removed")
					default:
						a.say("%d entries are unchanged\nhead %s", p.Lines, p.Head)
					}
				}); err != nil {
					return err
				}
				if !p.Sound || !p.Held {
					return errFindings
				}
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&head, "head", "", "the head of an earlier verification")
	return cmd
}

// auditExport writes the log as JSON lines.
func (a *app) auditExport() *cobra.Command {
	q := client.Query{Limit: 500}
	cmd := &cobra.Command{
		Use:   "export",
		Short: "Export the audit log as JSON lines, newest first",
		Args:  exactly(),
		Long:  "Writes one JSON object per line.",
		Example: "  wardicon audit export > audit.jsonl\n  wardicon audit export --filter " +
			"since=2026-11-01,before=2026-12-01",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				enc := json.NewEncoder(a.Out)
				enc.SetEscapeHTML(false)
				below := int64(0)
				for ; ; q.Offset += q.Limit {
					page, err := c.Audit(ctx, q)
					if err != nil {
						return err
					}
					for _, d := range page.Items {
						if below != 0 && d.Seq >= below {
							continue // lines that were added meanwhile have moved the pages
						}
						if err := enc.Encode(d); err != nil {
							return err
						}
						below = d.Seq
					}
					if len(page.Items) < q.Limit {
						return nil
					}
				}
			})
		},
	}
	cmd.Flags().StringVar(&q.Search, "search", "", "text to search for")
	cmd.Flags().
		StringToStringVar(&q.Filter, "filter", nil, "conditions: "+strings.Join(auditFilters, ", "))
	return cmd
}
