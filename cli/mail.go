package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// mailCommands are those of how emails are sent.
func (a *app) mailCommands() *cobra.Command {
	root := &cobra.Command{
		Use: "mail", Short: "Say how emails are sent, and see which were", GroupID: "run",
		Long: `The service sends emails, such as reminders of what ends soon, through your mail server: by TLS or
not at all. Emails wait where the server cannot be reached, and are tried again for two days.`,
		Example: "  wardicon mail set --server mail.skerryline.example --from wardicon@skerryline.example --login wardicon --password-file secret.txt --reminder ada@skerryline.example\n  wardicon mail try ada@skerryline.example\n  wardicon mail queue",
	}
	return group(root, a.mailShow(), a.mailSet(), a.mailTry(), a.mailSend(), a.mailQueue())
}

func (a *app) showMail(m vpn.Mail) error {
	return a.print(m, func(table.Writer) {
		if m.Server == "" {
			a.say("no mail server is set: emails are not sent")
			return
		}
		at := m.Server
		if m.Port != 0 {
			at = fmt.Sprintf("%s:%d", m.Server, m.Port)
		}
		login := "without signing in"
		if m.Login != "" {
			login = "as " + m.Login
		}
		a.say("emails go from %s through %s (%s), %s\nreminders go to %s", m.From, at, m.Security, login, strings.Join(append([]string{}, m.Reminders...), ", "))
	})
}

func (a *app) mailShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show how emails are sent", Args: exactly(), Long: "Shows server, sender and who gets reminders.", Example: "  wardicon mail show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				m, err := c.Mail(ctx)
				if err != nil {
					return err
				}
				return a.showMail(m)
			})
		},
	}
}

func (a *app) mailSet() *cobra.Command {
	var given vpn.Mail
	var file, authority, security string
	cmd := &cobra.Command{
		Use: "set", Short: "Change how emails are sent (owners only)", Args: exactly(), Long: "Changes the fields that are given; the others stay. An empty --server sends no emails any more.",
		Example: "  wardicon mail set --server mail.skerryline.example --from wardicon@skerryline.example --reminder ada@skerryline.example",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				m, err := c.Mail(ctx)
				if err != nil {
					return err
				}
				changed := cmd.Flags().Changed
				for name, copied := range map[string]func(){
					"server": func() { m.Server = given.Server }, "port": func() { m.Port = given.Port }, "login": func() { m.Login = given.Login }, "from": func() { m.From = given.From },
					"security": func() { m.Security = vpn.MailSecurity(security) }, "reminder": func() { m.Reminders = given.Reminders },
				} {
					if changed(name) {
						copied()
					}
				}
				if changed("authority") {
					data, err := a.read(authority)
					if err != nil {
						return err
					}
					m.Authority = string(data)
				}
				if file != "" {
					text, err := a.readSecret(file)
					if err != nil {
						return err
					}
					password := secret.New(text)
					m.Password = &password
				}
				if m, err = c.SetMail(ctx, m, m.Login == ""); err != nil {
					return err
				}
				return a.showMail(m)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&given.Server, "server", "", "host name of the mail server")
	f.IntVar(&given.Port, "port", 0, "port (587 for starttls, 465 for tls)")
	f.StringVar(&security, "security", "starttls", "how TLS begins: starttls or tls")
	f.StringVar(&given.Login, "login", "", "login at the server")
	f.StringVar(&file, "password-file", "", "file with the password, - for standard input")
	f.StringVar(&given.From, "from", "", "mail address of the sender")
	f.StringVar(&authority, "authority", "", "file with the authorities of the server's certificate, PEM (those of the system)")
	f.StringSliceVar(&given.Reminders, "reminder", nil, "mail address that is told what ends soon")
	return cmd
}

func (a *app) mailTry() *cobra.Command {
	return &cobra.Command{
		Use: "try ADDRESS", Short: "Send an email at once, to see that it can be done (owners only)", Args: exactly("ADDRESS"), Long: "Sends a short email and says what the server answers.", Example: "  wardicon mail try ada@skerryline.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if err := c.TryMail(ctx, args[0]); err != nil {
					return err
				}
				a.say("the server took an email to %s", args[0])
				return nil
			})
		},
	}
}

func (a *app) mailSend() *cobra.Command {
	return &cobra.Command{
		Use: "send", Short: "Send queued emails now", Args: exactly(),
		Long:    "Sends every queued email at once, such as after an outage of the mail server.",
		Example: "  wardicon mail send",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				sending, err := c.SendEmails(ctx)
				if err != nil {
					return err
				}
				return a.print(sending, func(table.Writer) { a.say("%d queued emails are being sent", sending.Waiting) })
			})
		},
	}
}

func (a *app) mailQueue() *cobra.Command {
	var q client.Query
	cmd := &cobra.Command{
		Use: "queue", Short: "List emails that were sent or are to be, newest first", Args: exactly(),
		Long: "Lists emails by kind, receiver and state; what they said is not kept.\nFilters: state (waiting, sent, failed), kind, to.", Example: "  wardicon mail queue --filter state=failed",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Emails(ctx, q)
				if err != nil {
					return err
				}
				if err := a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("made", "kind", "to", "subject", "state"))
					w.SetColumnConfigs([]table.ColumnConfig{wrapped(4, 50), wrapped(5, 60)})
					for _, l := range page.Items {
						state := l.State
						switch {
						case l.Sent != nil:
							state = "sent " + l.Sent.Local().Format(time.DateTime)
						case l.Problem != "":
							state += ": " + l.Problem
						}
						w.AppendRow(table.Row{l.Created.Local().Format(time.DateTime), l.Kind, l.To, l.Subject, state})
					}
				}); err != nil {
					return err
				}
				if a.output == "table" {
					a.say("%s", countedPage(page, q.Offset, "emails"))
				}
				return nil
			})
		},
	}
	pageFlags(cmd, &q)
	cmd.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions such as state=failed")
	return cmd
}
