package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

// offboardCommands are for people who leave and devices that are lost.
func (a *app) offboardCommands() *cobra.Command {
	root := &cobra.Command{
		Use: "offboard",
		Short: "Close links, revoke certificates and list what is left to do when someone leaves " +
			"or a device is lost",
		Long: `For a person who leaves or a device that is lost: closes open links, revokes
certificates, builds no more parcels, and keeps a list of what is left to do at gateways and on
devices.`,
		Example: "  wardicon offboard person \"Bo Ravn\" --dry-run\n  wardicon offboard device " +
			"\"Purser laptop 1\" --why lost\n  wardicon offboard list --filter open=true",
	}
	return group(root, a.offboard("person"), a.offboard("device"), a.offboardings(), a.tick())
}

func (a *app) offboard(noun string) *cobra.Command {
	var why string
	var dry bool
	cmd := &cobra.Command{
		Use: noun + " " + strings.ToUpper(
			noun,
		),
		Short: "Offboard a " + noun,
		Args:  exactly(strings.ToUpper(noun)),
		Long: "Closes the links of a " + noun + ", revokes its certificates, builds no more " +
			"parcels, and lists what is left to do. --dry-run only shows what the " + noun +
			" holds.",
		Example: "  wardicon offboard " + noun + " NAME --dry-run",
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
				if dry {
					h, err := c.Holdings(ctx, noun, id, vpn.OffboardReason(why))
					if err != nil {
						return err
					}
					return a.print(h, func(w table.Writer) { a.holdings(w, h) })
				}
				if err := a.sure(
					"Close the links of %s, revoke its certificates and build no more parcels for "+
						"it?",
					args[0],
				); err != nil {
					return err
				}
				w, err := c.Offboard(ctx, noun, id, vpn.OffboardReason(why))
				if err != nil {
					return err
				}
				return a.print(w, func(rows table.Writer) {
					a.say(
						"%s is offboarded (%s): %s closed, %s revoked (%s)\n",
						w.Name,
						w.Why,
						plural(w.Recalled, "link"),
						plural(w.Revoked, "certificate"),
						w.ID,
					)
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
	cmd.Flags().
		BoolVar(&dry, "dry-run", false, "only show what it holds and what would be left to do")
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
		a.say(
			"  link         %s to %s, %s, until %s",
			l.Device,
			l.Gateway,
			l.State,
			l.Expires.Local().Format(moment),
		)
	}
	for _, one := range h.Certificates {
		a.say(
			"  certificate  %s of %s, until %s",
			one.Subject,
			one.Device,
			one.To.Local().Format(moment),
		)
	}
	for _, one := range h.Accounts {
		a.say("  account      %s", one.Login)
	}
	for _, k := range h.Shared {
		a.say(
			"  shared key   %s of %s (%s), with %d profiles of others",
			k.What,
			k.Gateway,
			k.Protocol.Title(),
			k.Others,
		)
	}
	a.say("\nleft to do by hand after the offboarding")
	items(w, h.Items)
}

func items(w table.Writer, list []api.Item) {
	w.AppendHeader(heads("item", "what", "why", "done"))
	for i, one := range list {
		done := ""
		if one.Done != nil {
			done = one.Done.Local().Format(moment) + " by " + one.By
		}
		w.AppendRow(table.Row{i + 1, one.What, one.Why, done})
	}
}

func (a *app) offboardings() *cobra.Command {
	return list(a, listing[api.Offboarding]{
		short:   "List offboardings, newest first",
		plural:  "offboardings",
		about:   "Lists offboardings with what is left to do.",
		example: "  wardicon offboard list --filter open=true",
		filters: []string{"open (true or false)", "object (the ID of a person or device)"},
		columns: []string{"name", "why", "when", "by", "left to do", "id"},
		load: func(ctx context.Context, c *client.Client,
			q client.Query) (api.Page[api.Offboarding], error) {
			return c.Offboardings(ctx, q)
		},
		row: func(o api.Offboarding) table.Row {
			left := fmt.Sprintf("%d of %d", o.Open, len(o.Items))
			return table.Row{
				o.Name,
				o.Why,
				o.Created.Local().Format(moment),
				o.Operator,
				left,
				o.ID,
			}
		},
	})
}

func (a *app) tick() *cobra.Command {
	var undone bool
	cmd := &cobra.Command{
		Use:     "done ID ITEM",
		Short:   "Mark an item as done",
		Args:    exactly("ID", "ITEM"),
		Long:    "Marks an item of an offboarding as done, by its number.",
		Example: "  wardicon offboard done wd-4xk7q2m9h3vw8tzp 2",
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
	cmd.Flags().BoolVar(&undone, "undone", false, "mark it as not done")
	return cmd
}
