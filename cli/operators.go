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

const moment = "2006-01-02 15:04"

func findOperator(ctx context.Context, c *client.Client, name string) (api.Operator, error) {
	page, err := c.Operators(ctx, client.Query{Filter: map[string]string{"name": name}, Limit: 2})
	if err != nil {
		return api.Operator{}, err
	}
	if len(page.Items) != 1 {
		return api.Operator{}, fmt.Errorf("operator: found nobody called %q; wardicon operator list shows them", name)
	}
	return page.Items[0], nil
}

// operatorCommands are those of who can sign in.
func (a *app) operatorCommands() *cobra.Command {
	root := &cobra.Command{
		Use: "operator", Short: "Say who can sign in, and what they may do (owners only)", GroupID: "run",
		Long: `Operators have a role. An auditor looks, and sees no secrets; an issuer does the daily work: records, plans,
parcels, certificates; an owner decides who the others are, on authorities, on what signs parcels, on mail and on the
severity of rules. A new one gets a password for the first sign-in, which must then be changed.`,
		Example: "  wardicon operator add pilot --role issuer\n  wardicon operator change pilot --role auditor\n  wardicon operator reset pilot",
	}
	var q client.Query
	list := &cobra.Command{
		Use: "list", Short: "List who can sign in", Args: exactly(), Long: "Lists operators with role, state, second factor and when they were here last.", Example: "  wardicon operator list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Operators(ctx, q)
				if err != nil {
					return err
				}
				return a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("name", "role", "state", "second factor", "last here", "sessions"))
					for _, o := range page.Items {
						last := "never"
						if o.SignedIn != nil {
							last = o.SignedIn.Local().Format(moment)
						}
						w.AppendRow(table.Row{o.Name, o.Role, operatorState(o), map[bool]string{true: "on", false: "off"}[o.SecondFactor], last, o.Sessions})
					}
				})
			})
		},
	}
	pageFlags(list, &q)
	role := "issuer"
	add := &cobra.Command{
		Use: "add NAME", Short: "Add an operator", Args: exactly("NAME"), Long: "Adds an operator and prints a password for the first sign-in, once.", Example: "  wardicon operator add pilot --role issuer",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				made, err := c.AddOperator(ctx, args[0], role)
				return a.firstPassword(made, err)
			})
		},
	}
	add.Flags().StringVar(&role, "role", "issuer", "owner, issuer or auditor")
	return group(root, list, add, a.operatorChange(), a.operatorReset(), &cobra.Command{
		Use: "remove NAME", Short: "Remove an operator", Args: exactly("NAME"), Long: "Removes an operator; sessions and tokens end. What was done stays in the audit log.", Example: "  wardicon operator remove pilot",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				o, err := findOperator(ctx, c, args[0])
				if err != nil {
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

func operatorState(o api.Operator) string {
	switch {
	case o.Disabled:
		return "shut out"
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
		a.say("%s (%s) signs in for the first time with\n\n  %s\n\nand then chooses a password. It is not shown again.", made.Operator.Name, made.Operator.Role, made.Password)
	})
}

func (a *app) operatorChange() *cobra.Command {
	var role string
	var disabled bool
	cmd := &cobra.Command{
		Use: "change NAME", Short: "Give an operator another role, or shut it out", Args: exactly("NAME"), Long: "Changes role or state; sessions and tokens of the operator end. There is always an owner left.",
		Example: "  wardicon operator change pilot --role auditor\n  wardicon operator change pilot --disabled",
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
				if o, err = c.ChangeOperator(ctx, o.ID, o.Role, o.Disabled); err != nil {
					return err
				}
				return a.print(o, func(table.Writer) { a.say("%s: %s, %s", o.Name, o.Role, operatorState(o)) })
			})
		},
	}
	cmd.Flags().StringVar(&role, "role", "", "owner, issuer or auditor")
	cmd.Flags().BoolVar(&disabled, "disabled", false, "it cannot sign in")
	return cmd
}

// operatorReset works through the service for owners, and on the data folder for whoever has that.
func (a *app) operatorReset() *cobra.Command {
	h := host{}
	cmd := &cobra.Command{
		Use: "reset NAME", Short: "Give an operator a new first password, without a second factor", Args: exactly("NAME"),
		Long: `For somebody who has lost password or second factor. An owner does it through the service. When no owner can sign
in, do it on the server with --data: whoever reads the data folder and the master key may.`,
		Example: "  wardicon operator reset pilot\n  wardicon operator reset harbourmaster --data /var/lib/wardicon",
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
		Use: "password", Short: "Change your password", Args: exactly(), GroupID: "run",
		Long:    "Asks for the old password and twice for the new one; without a terminal they are three lines of standard input. Your other sessions end.",
		Example: "  wardicon password",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				said, err := a.promptAll("Password until now", "New password (at least 15 characters)", "The same again")
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
		Use: "second-factor", Short: "Ask for a code beside your password, or no more", GroupID: "run",
		Long:    "A second factor is a code of six digits that changes every thirty seconds (RFC 6238), from an app on your phone.",
		Example: "  wardicon second-factor on\n  wardicon second-factor off",
	}
	return group(root, &cobra.Command{
		Use: "on", Short: "Set a second factor up", Args: exactly(), Long: "Prints the key for your app and asks for a first code; from then on one is asked for at every sign-in.", Example: "  wardicon second-factor on",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				f, err := c.OfferFactor(ctx)
				if err != nil {
					return err
				}
				a.say("key for the app  %s\nas an address    %s\n", f.Key, f.Address)
				code, err := a.ask("Code that the app shows now")
				if err != nil {
					return err
				}
				if err := c.ConfirmFactor(ctx, strings.TrimSpace(code.Reveal())); err != nil {
					return err
				}
				a.say("a code is asked for from now on; your other sessions have ended")
				return nil
			})
		},
	}, &cobra.Command{
		Use: "off", Short: "Take the second factor away", Args: exactly(), Long: "Asks for your password.", Example: "  wardicon second-factor off",
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
				a.say("only the password is asked for from now on")
				return nil
			})
		},
	})
}

func (a *app) sessionCommands() *cobra.Command {
	var all bool
	list := &cobra.Command{
		Use: "list", Short: "List your open sessions and tokens", Args: exactly(), Long: "Lists what is signed in as you: consoles, command lines and programs. An owner sees those of all with --all.", Example: "  wardicon session list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.Sessions(ctx, all)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("operator", "what", "role", "from", "program", "opened", "used", "expires", "id"))
					for _, s := range list.Items {
						what := map[string]string{"cookie": "console", "token": "command line"}[s.Kind]
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
						w.AppendRow(table.Row{s.Operator, what, s.Role, cmp.Or(strings.Join(s.Addresses, " "), s.Origin), s.Client, s.Created.Local().Format(moment), used, s.Expires.Local().Format(time.DateOnly), s.ID})
					}
				})
			})
		},
	}
	list.Flags().BoolVar(&all, "all", false, "those of all operators (owners only)")
	return group(&cobra.Command{
		Use: "session", Short: "See what is signed in, and end it", GroupID: "run", Long: "Sessions of the console and the command line, and tokens of programs.", Example: "  wardicon session list\n  wardicon session end se-4xk7q2m9h3vw8tzp",
	}, list, &cobra.Command{
		Use: "end ID", Short: "End a session or token", Args: exactly("ID"), Long: "Ends one of your own; an owner can end any.", Example: "  wardicon session end se-4xk7q2m9h3vw8tzp",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
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
		Use: "token NAME", Short: "Make a token for a program", Args: exactly("NAME"), GroupID: "run",
		Long: `Makes a token that a program sends as "Authorization: Bearer TOKEN", and prints it once. It has a role of its
own, no more than yours, and an end. "wardicon session list" shows when it was used last; "session end" ends it.`,
		Example: "  wardicon token inventory --role auditor --days 365",
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
	cmd.Flags().StringVar(&role, "role", role, "what it may do at the most: auditor, issuer or owner")
	cmd.Flags().IntVar(&days, "days", days, "days until it ends, 365 at the most")
	cmd.Flags().StringSliceVar(&networks, "network", nil, "network that it may come from, CIDR (several: repeat); without one any")
	return cmd
}

// auditVerify walks the audit log.
func (a *app) auditVerify() *cobra.Command {
	var head string
	cmd := &cobra.Command{
		Use: "verify", Short: "Hold that the audit log is as it was written", Args: exactly(),
		Long: `Each line of the log is chained to the one before it by a digest under the master key. Verifying walks the whole
log and prints its head. Note the head elsewhere, and give it with --head the next time: lines that were cut off at the
end are noticed then. Exits 1 where a line is not as it was written.`,
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
						a.say("lines were cut off at the end of the log, or its head was changed")
					case !p.Sound:
						a.say("line %d is not as it was written, or lacks the one before it", p.First)
					case !p.Held:
						a.say("the head that was noted is not in the log: lines are gone")
					default:
						a.say("%d lines are as they were written\nhead %s", p.Lines, p.Head)
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
	cmd.Flags().StringVar(&head, "head", "", "a head that was noted before")
	return cmd
}

// auditExport writes the log as JSON lines.
func (a *app) auditExport() *cobra.Command {
	q := client.Query{Limit: 500}
	cmd := &cobra.Command{
		Use: "export", Short: "Write the audit log as JSON lines, newest first", Args: exactly(), Long: "Writes one JSON object a line, for other programs.", Example: "  wardicon audit export > audit.jsonl\n  wardicon audit export --filter since=2026-11-01,before=2026-12-01",
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
	cmd.Flags().StringVar(&q.Search, "search", "", "text to look for")
	auditFilter(cmd, &q)
	return cmd
}
