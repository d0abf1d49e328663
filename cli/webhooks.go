package cli

import (
	"cmp"
	"context"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
)

// webhookCommands are those of what others are told of what happens.
func (a *app) webhookCommands() *cobra.Command {
	root := &cobra.Command{
		Use:   "webhook",
		Short: "Tell other services what happens",
		Long: `A webhook is an address that is called with what happens, as JSON, in the order in
which it happens. Calls are signed with a key of the webhook (HTTP Message Signatures, RFC 9421,
hmac-sha256), repeated for two days where they are not taken, and never lost. What comes twice has
the same Idempotency-Key. An answer 410 turns the webhook off.

Events: ` + strings.Join(api.Events, ", ") + `.`,
		Example: `  wardicon service webhook add Tickets --url https://tickets.skerryline.example/vpn \
      --event report.received,profile.blocked,certificate.expiring
  wardicon service webhook list
  wardicon service webhook calls Tickets`,
	}
	return group(root, a.webhookList(), a.webhookAdd(), a.webhookChange(), a.webhookTry(),
		a.webhookCalls(), a.webhookRemove())
}

func findWebhook(ctx context.Context, c *client.Client, ref string) (api.Webhook, error) {
	list, err := c.Webhooks(ctx)
	for _, h := range list.Items {
		if h.ID == ref || strings.EqualFold(h.Name, ref) {
			return h, nil
		}
	}
	if err == nil {
		err = missing("there is no webhook %s", ref)
	}
	return api.Webhook{}, err
}

func (a *app) sayWebhooks(w table.Writer, list ...api.Webhook) {
	w.AppendHeader(heads("id", "name", "url", "events", "state", "waiting"))
	for _, h := range list {
		state := cmp.Or(h.Problem, "fine")
		if h.Disabled {
			state = strings.TrimSuffix("off, "+h.Problem, ", ")
		}
		w.AppendRow(table.Row{h.ID, h.Name, h.URL, strings.Join(h.Events, " "), state, h.Waiting})
	}
}

func (a *app) webhookList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List webhooks (owners only)", Args: exactly(),
		Long:    "Lists webhooks with what they are told of, and why the last call failed.",
		Example: "  wardicon service webhook list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				list, err := c.Webhooks(ctx)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) { a.sayWebhooks(w, list.Items...) })
			})
		},
	}
}

func (a *app) webhookAdd() *cobra.Command {
	var h api.Webhook
	var untested bool
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Add a webhook (owners only)", Args: exactly("NAME"),
		Long: "Adds a webhook once it has taken a call with the event test. The key that its " +
			"calls are\nsigned with is shown once.",
		Example: "  wardicon service webhook add Tickets --url https://tickets.skerryline.example/vpn " +
			"\\\n      --event report.received,profile.blocked",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				h.Name = args[0]
				made, err := c.AddWebhook(ctx, h, untested)
				if err != nil {
					return err
				}
				return a.print(made, func(w table.Writer) {
					a.sayWebhooks(w, made.Webhook)
					a.say("Its key, which is not shown again: %s", made.Key)
				})
			})
		},
	}
	cmd.Flags().StringVar(&h.URL, "url", "", "address that is called")
	cmd.Flags().StringSliceVar(&h.Events, "event", nil, "what it is told of")
	cmd.Flags().BoolVar(&untested, "untested", false, "do not test whether it answers")
	return cmd
}

func (a *app) webhookChange() *cobra.Command {
	var events []string
	var disabled bool
	cmd := &cobra.Command{
		Use: "change WEBHOOK", Short: "Change what a webhook is told of (owners only)",
		Args: exactly("WEBHOOK"), Long: "Changes the given values; the others are kept.",
		Example: "  wardicon service webhook change Tickets --disabled",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				h, err := findWebhook(ctx, c, args[0])
				if err != nil {
					return err
				}
				if cmd.Flags().Changed("event") {
					h.Events = events
				}
				if cmd.Flags().Changed("disabled") {
					h.Disabled = disabled
				}
				if h, err = c.ChangeWebhook(ctx, h.ID, h.Events, h.Disabled); err != nil {
					return err
				}
				return a.print(h, func(w table.Writer) { a.sayWebhooks(w, h) })
			})
		},
	}
	cmd.Flags().StringSliceVar(&events, "event", nil, "what it is told of")
	cmd.Flags().BoolVar(&disabled, "disabled", false, "tell it nothing for now")
	return cmd
}

func (a *app) webhookTry() *cobra.Command {
	return &cobra.Command{
		Use: "try WEBHOOK", Short: "Call a webhook with a test (owners only)",
		Args: exactly("WEBHOOK"), Long: "Calls a webhook with the event test, and says what it answers.",
		Example: "  wardicon service webhook try Tickets",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				h, err := findWebhook(ctx, c, args[0])
				if err == nil {
					err = c.TryWebhook(ctx, h.ID)
				}
				if err == nil {
					a.say("%s has taken the test", h.Name)
				}
				return err
			})
		},
	}
}

func (a *app) webhookCalls() *cobra.Command {
	return &cobra.Command{
		Use: "calls WEBHOOK", Short: "List the last calls of a webhook (owners only)",
		Args: exactly("WEBHOOK"), Long: "Lists the last 100 calls, the newest first.",
		Example: "  wardicon service webhook calls Tickets",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				h, err := findWebhook(ctx, c, args[0])
				if err != nil {
					return err
				}
				list, err := c.WebhookCalls(ctx, h.ID)
				if err != nil {
					return err
				}
				return a.print(list, func(w table.Writer) {
					w.AppendHeader(heads("number", "event", "of", "at", "tries", "state"))
					for _, x := range list.Items {
						state := "given up: " + x.Problem
						if x.Done != nil {
							state = "taken " + x.Done.Local().Format(moment)
						} else if x.Due != nil {
							due := "again " + x.Due.Local().Format(moment)
							state = strings.TrimSuffix(due+": "+x.Problem, ": ")
						}
						w.AppendRow(table.Row{x.Number, x.Event, x.Name,
							x.Created.Local().Format(moment), x.Tries, state})
					}
				})
			})
		},
	}
}

func (a *app) webhookRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove WEBHOOK", Short: "Remove a webhook (owners only)", Args: exactly("WEBHOOK"),
		Long:    "Removes a webhook with the calls that were still to come.",
		Example: "  wardicon service webhook remove Tickets",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				h, err := findWebhook(ctx, c, args[0])
				if err != nil {
					return err
				}
				if err := a.sure("Remove the webhook %s?", h.Name); err != nil {
					return err
				}
				if err := c.RemoveWebhook(ctx, h.ID); err != nil {
					return err
				}
				a.say("the webhook %s is removed", h.Name)
				return nil
			})
		},
	}
}
