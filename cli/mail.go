package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

// mailCommands are those of how emails are sent.
func (a *app) mailCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "mail",
		Short: "Configure outgoing email, and show the mail queue",
		Long: `The service sends emails, such as links and reminders of expiry, through your mail
server, over TLS only. Emails stay queued while the server cannot be reached; one that the server
rejects is retried for two days.`,
		Example: "  wardicon service mail set --server mail.skerryline.example --from " +
			"wardicon@skerryline.example --login wardicon --password-file secret.txt --reminder " +
			"ada@skerryline.example\n  wardicon service mail test ada@skerryline.example\n  " +
			"wardicon service mail queue",
	}
	return group(root, a.mailShow(), a.mailSet(), a.mailTry(), a.mailSend(), a.mailQueue())
}

func (a *app) showMail(m vpn.Mail) error {
	return a.print(m, func(table.Writer) {
		if m.Server == "" {
			a.say("no mail server is set: no emails are sent")
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
		a.say(
			"emails go from %s through %s (%s), %s\nreminders go to %s",
			m.From,
			at,
			m.Security,
			login,
			strings.Join(append([]string{}, m.Reminders...), ", "),
		)
	})
}

func (a *app) mailShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show",
		Short:   "Show the mail settings",
		Args:    exactly(),
		Long:    "Shows server, sender and recipients of reminders.",
		Example: "  wardicon service mail show",
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
	var files outside
	var security string
	cmd := &cobra.Command{
		Use:   "set",
		Short: "Change the mail settings (owners only)",
		Args:  exactly(),
		Long: "Changes the given fields; the others are kept. An empty --server stops all " +
			"emails.",
		Example: "  wardicon service mail set --server mail.skerryline.example --from " +
			"wardicon@skerryline.example --reminder ada@skerryline.example",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				m, err := c.Mail(ctx)
				if err != nil {
					return err
				}
				if err := a.given(cmd, map[string]func(){
					"server":   func() { m.Server = given.Server },
					"port":     func() { m.Port = given.Port },
					"login":    func() { m.Login = given.Login },
					"from":     func() { m.From = given.From },
					"security": func() { m.Security = vpn.MailSecurity(security) },
					"reminder": func() { m.Reminders = given.Reminders },
				}, files, &m.Authority, &m.Password); err != nil {
					return err
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
	f.StringVar(&files.secret, "password-file", "", "file with the password, - for standard input")
	f.StringVar(&given.From, "from", "", "email address of the sender")
	f.StringVar(
		&files.authority,
		"authority",
		"",
		"file with the authorities of the server's certificate, PEM (those of the system)",
	)
	f.StringSliceVar(
		&given.Reminders,
		"reminder",
		nil,
		"email address that gets reminders of expiry",
	)
	return cmd
}

func (a *app) mailTry() *cobra.Command {
	return &cobra.Command{
		Use:     "test ADDRESS",
		Short:   "Send a test email (owners only)",
		Args:    exactly("ADDRESS"),
		Long:    "Sends a short test email and shows the response of the server.",
		Example: "  wardicon service mail test ada@skerryline.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				if err := c.TryMail(ctx, args[0]); err != nil {
					return err
				}
				a.say("the server accepted the email to %s", args[0])
				return nil
			})
		},
	}
}

func (a *app) mailSend() *cobra.Command {
	return &cobra.Command{
		Use:     "send",
		Short:   "Send queued emails now",
		Args:    exactly(),
		Long:    "Sends all queued emails now, for example after an outage of the mail server.",
		Example: "  wardicon service mail send",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				sending, err := c.SendEmails(ctx)
				if err != nil {
					return err
				}
				return a.print(
					sending,
					func(table.Writer) {
						a.say("%d queued emails are being sent",
							sending.Waiting)
					},
				)
			})
		},
	}
}

func (a *app) mailQueue() *cobra.Command {
	return list(a, listing[api.Email]{
		use:     "queue",
		short:   "List queued and sent emails, newest first",
		plural:  "emails",
		about:   "Lists emails by kind, recipient and state; their text is not kept.",
		example: "  wardicon service mail queue --filter state=failed",
		filters: []string{"state (waiting, sent, failed)", "kind", "to"},
		columns: []string{"created", "kind", "to", "subject", "state"},
		load: func(ctx context.Context, c *client.Client, q client.Query) (api.Page[api.Email],
			error) {
			return c.Emails(ctx, q)
		},
		row: func(m api.Email) table.Row {
			state := m.State
			switch {
			case m.Sent != nil:
				state = "sent " + m.Sent.Local().Format(moment)
			case m.Problem != "":
				state += ": " + m.Problem
			}
			return table.Row{m.Created.Local().Format(moment), m.Kind, m.To, m.Subject, state}
		},
	})
}
