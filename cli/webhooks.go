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
		Short: "Notify other services of events",
		Long: `A webhook is a URL that receives events as JSON, in order. Deliveries are signed with a
key of the webhook (HTTP Message Signatures, RFC 9421, hmac-sha256), retried for two days until they
are accepted, and never lost. A repeated delivery has the same Idempotency-Key. A response 410
disables the webhook.

Events: ` + strings.Join(api.Events, ", ") + `.`,
		Example: `  wardicon service webhook add Tickets --url https://tickets.skerryline.example/vpn \
      --event report.received,profile.blocked,certificate.expiring
  wardicon service webhook list
  wardicon service webhook deliveries Tickets`,
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
		Long:    "Lists webhooks with their events, and why the last delivery failed.",
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
		Long: "Adds a webhook once it has accepted a delivery of the event test. The key that " +
			"its deliveries\nare signed with is shown once.",
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
					a.say("Signing key, shown only now: %s", made.Key)
				})
			})
		},
	}
	cmd.Flags().StringVar(&h.URL, "url", "", "URL that receives the events")
	cmd.Flags().StringSliceVar(&h.Events, "event", nil, "events that it receives")
	cmd.Flags().BoolVar(&untested, "untested", false, "add it without a test")
	return cmd
}

func (a *app) webhookChange() *cobra.Command {
	var events []string
	var disabled bool
	cmd := &cobra.Command{
		Use: "change WEBHOOK", Short: "Change the events of a webhook (owners only)",
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
	cmd.Flags().StringSliceVar(&events, "event", nil, "events that it receives")
	cmd.Flags().BoolVar(&disabled, "disabled", false, "send it nothing for now")
	return cmd
}

func (a *app) webhookTry() *cobra.Command {
	return &cobra.Command{
		Use: "try WEBHOOK", Short: "Send a webhook a test event (owners only)",
		Args: exactly("WEBHOOK"), Long: "Sends the event test, and shows the response.",
		Example: "  wardicon service webhook try Tickets",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				h, err := findWebhook(ctx, c, args[0])
				if err == nil {
					err = c.TryWebhook(ctx, h.ID)
				}
				if err == nil {
					a.say("%s accepted the test event", h.Name)
				}
				return err
			})
		},
	}
}

func (a *app) webhookCalls() *cobra.Command {
	return &cobra.Command{
		Use: "deliveries WEBHOOK", Short: "List the last deliveries of a webhook (owners only)",
		Args: exactly("WEBHOOK"), Long: "Lists the last 100 deliveries, newest first.",
		Example: "  wardicon service webhook deliveries Tickets",
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
						state := "failed: " + x.Problem
						if x.Done != nil {
							state = "accepted " + x.Done.Local().Format(moment)
						} else if x.Due != nil {
							due := "retry " + x.Due.Local().Format(moment)
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
		Long:    "Removes a webhook and its pending deliveries.",
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
