package cli

import (
	"context"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

// offboardCommands are for people who leave and devices that are lost.
func (a *app) offboardCommands() *cobra.Command {
	root := &cobra.Command{
		Use: "offboard", Short: "Close links, revoke certificates and list what is left to do when someone leaves or a device is lost", GroupID: "work",
		Long: `One step for a person who leaves or a device that is lost: it closes open links, takes certificates back, has nothing
more built for the devices, and keeps a list of what people have to do at gateways and with the devices.`,
		Example: "  wardicon offboard person \"Bo Ravn\" --look\n  wardicon offboard device \"Purser laptop 1\" --why lost\n  wardicon offboard list --filter open=true",
	}
	return group(root, a.offboard("person"), a.offboard("device"), a.offboardings(), a.tick())
}

func (a *app) offboard(noun string) *cobra.Command {
	var why string
	var look bool
	cmd := &cobra.Command{
		Use: noun + " " + strings.ToUpper(noun), Short: "Offboard a " + noun, Args: exactly(strings.ToUpper(noun)),
		Long:    "Closes the links of a " + noun + ", takes its certificates back, has nothing more built, and lists what is still to be done. With --look it only tells what the " + noun + " holds.",
		Example: "  wardicon offboard " + noun + " NAME --look",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				var id string
				if noun == "person" {
					p, err := findPerson(ctx, c, args[0])
					if err != nil {
						return err
					}
					id = p.ID
				} else {
					d, err := findDevice(ctx, c, args[0])
					if err != nil {
						return err
					}
					id = d.ID
				}
				if look {
					h, err := c.Holdings(ctx, noun, id, vpn.OffboardReason(why))
					if err != nil {
						return err
					}
					return a.print(h, func(w table.Writer) { a.holdings(w, h) })
				}
				w, err := c.Offboard(ctx, noun, id, vpn.OffboardReason(why))
				if err != nil {
					return err
				}
				return a.print(w, func(rows table.Writer) {
					a.say("%s is offboarded (%s): %d links closed, %d certificates taken back (%s)\n", w.Name, w.Why, w.Recalled, w.Revoked, w.ID)
					items(rows, w.Items)
				})
			})
		},
	}
	first := string(vpn.Left)
	if noun == "device" {
		first = string(vpn.Lost)
	}
	cmd.Flags().StringVar(&why, "why", first, "lost, left or retired; a person has left")
	cmd.Flags().BoolVar(&look, "look", false, "only tell what it holds and what would be to be done")
	return cmd
}

func (a *app) holdings(w table.Writer, h api.Holdings) {
	a.say("%s holds", h.Name)
	for _, d := range h.Devices {
		a.say("  device       %s (%s %s)", d.Name, d.Platform, d.Release)
	}
	for _, p := range h.Profiles {
		a.say("  profile      %s to %s", p.Device, p.Gateway)
	}
	for _, l := range h.Links {
		a.say("  link         %s to %s, %s, until %s", l.Device, l.Gateway, l.State, l.Expires.Local().Format(moment))
	}
	for _, one := range h.Certificates {
		a.say("  certificate  %s of %s, until %s", one.Subject, one.Device, one.To.Local().Format(moment))
	}
	for _, one := range h.Accounts {
		a.say("  account      %s", one.Login)
	}
	for _, k := range h.Shared {
		a.say("  shared key   %s of %s (%s), with %d profiles of others", k.What, k.Gateway, k.Protocol.Title(), k.Others)
	}
	a.say("\nto be done by people, once it is offboarded")
	items(w, h.Items)
}

func items(w table.Writer, list []api.Item) {
	w.AppendHeader(heads("item", "what", "why", "done"))
	for i, one := range list {
		done := ""
		if one.Done != nil {
			done = one.Done.Local().Format(moment) + " by " + one.By
		}
		w.AppendRow(table.Row{i + 1, text.WrapSoft(one.What, 60), text.WrapSoft(one.Why, 50), done})
	}
}

func (a *app) offboardings() *cobra.Command {
	var q client.Query
	cmd := &cobra.Command{
		Use: "list", Short: "List who left and what was lost, newest first", Args: exactly(),
		Long: "Lists offboardings with what is still to be done.\nFilters: open (true or false), object.", Example: "  wardicon offboard list --filter open=true",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				page, err := c.Offboardings(ctx, q)
				if err != nil {
					return err
				}
				return a.print(page, func(w table.Writer) {
					w.AppendHeader(heads("name", "why", "when", "by", "to be done", "id"))
					for _, one := range page.Items {
						w.AppendRow(table.Row{one.Name, one.Why, one.Created.Local().Format(moment), one.Operator, strconv.Itoa(one.Open) + " of " + strconv.Itoa(len(one.Items)), one.ID})
					}
				})
			})
		},
	}
	pageFlags(cmd, &q)
	cmd.Flags().StringToStringVar(&q.Filter, "filter", nil, "conditions such as open=true")
	return cmd
}

func (a *app) tick() *cobra.Command {
	var undone bool
	cmd := &cobra.Command{
		Use: "done ID ITEM", Short: "Say that an item is done", Args: exactly("ID", "ITEM"), Long: "Ticks an item of an offboarding off, by its number.", Example: "  wardicon offboard done wd-4xk7q2m9h3vw8tzp 2",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.with(cmd, func(ctx context.Context, c *client.Client) error {
				n, err := strconv.Atoi(args[1])
				if err != nil || n < 1 {
					return usage("ITEM: found %q, expected its number, from 1", args[1])
				}
				w, err := c.TickItem(ctx, args[0], n-1, !undone)
				if err != nil {
					return err
				}
				return a.print(w, func(rows table.Writer) { items(rows, w.Items) })
			})
		},
	}
	cmd.Flags().BoolVar(&undone, "undone", false, "it is not done after all")
	return cmd
}
