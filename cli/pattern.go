package cli

import (
	"cmp"
	"context"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
)

func patternNoun() noun[api.Pattern] {
	return noun[api.Pattern]{
		name:  "pattern",
		title: "name",
		about: `A pattern sets how a class of devices connects: protocols in order of preference,
gateways, networks in the tunnel, and when to connect. Try it first without changing anything,
then roll it out to create or change the profiles of all devices of the class.`,
		example: `"Deck phones" --group deck --platform android --protocol ikev2 --protocol l2tp \
      --gateways nearest --connect always --naming "{organisation} {city}"`,
		fields: []field{
			{flag: "group", path: "groups"},
			{flag: "name", path: "name"},
			{flag: "platform", path: "platforms"},
			{flag: "protocol", path: "protocols"},
			{flag: "gateways", path: "gateways"},
			{flag: "fallback", path: "fallback"},
			{flag: "gateway", path: "gateway_ids", refers: toGateway},
			{flag: "tunnel", path: "tunnel"},
			{flag: "route", path: "routes"},
			{flag: "dns", path: "dns"},
			{flag: "domain", path: "domains"},
			{flag: "ipv6", path: "ipv6"},
			{flag: "connect", path: "connect"},
			{flag: "trusted-network", path: "demand.networks"},
			{flag: "trusted-suffix", path: "demand.suffixes"},
			{flag: "demand-domain", path: "demand.domains"},
			{flag: "probe", path: "demand.probe"},
			{flag: "interface", path: "demand.interface"},
			{flag: "reconnect", path: "reconnect"},
			{flag: "unmetered", path: "unmetered"},
			{flag: "proxy-script", path: "proxy.script"},
			{flag: "proxy", path: "proxy.server"},
			{flag: "proxy-bypass", path: "proxy.bypass"},
			{flag: "password", path: "password"},
			{flag: "scope", path: "scope"},
			{flag: "naming", path: "naming"},
			{flag: "require-rehearsal", path: "require_rehearsal"},
			{flag: "note", path: "note"},
		},
		find: findPattern,
		meta: func(p api.Pattern) vpn.Meta { return p.Meta },
		ref:  func(p api.Pattern) string { return p.Name },
		columns: []string{
			"name",
			"groups",
			"platforms",
			"protocols",
			"gateways",
			"connects",
			"profiles",
		},
		filters: []string{"name"},
		row: func(p api.Pattern) table.Row {
			return table.Row{
				p.Name,
				cmp.Or(strings.Join(p.Groups, ", "), "all"),
				cmp.Or(words(p.Platforms), "all"),
				cmp.Or(words(p.Protocols), "strongest first"),
				cmp.Or(string(p.Gateways), "listed"),
				cmp.Or(string(p.Connect), "by-hand"),
				p.Profiles,
			}
		},
	}
}

func words[T ~string](list []T) string {
	parts := make([]string, len(list))
	for i, v := range list {
		parts[i] = string(v)
	}
	return strings.Join(parts, ", ")
}

// patternCommands are those of every noun, and trying and rolling out.
func (a *app) patternCommands() *cobra.Command {
	n := patternNoun()
	root := command(a, n)
	try := a.tryPattern(n)
	roll := a.rollOut()
	for _, c := range []*cobra.Command{try, roll} {
		c.ValidArgsFunction = n.complete(a)
		root.AddCommand(c)
	}
	return root
}

func (a *app) tryPattern(n noun[api.Pattern]) *cobra.Command {
	var limit, offset int
	cmd := &cobra.Command{
		Use:   "try PATTERN",
		Short: "Show the effect of a pattern on its devices",
		Args:  exactly("PATTERN"),
		Long: `Plans every device of the pattern, a page at a time, and shows gateway, protocol,
file format and findings with the reasons. Nothing is changed. Flags change the pattern for this
one try.`,
		Example: "  wardicon pattern try \"Deck phones\"\n  wardicon pattern try \"Deck phones\" " +
			"--gateways each --output json",
	}
	from := n.fieldFlags(cmd)
	cmd.Flags().IntVar(&limit, "limit", 50, "maximum devices")
	cmd.Flags().IntVar(&offset, "offset", 0, "devices to skip")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.with(cmd, func(ctx context.Context, c *client.Client) error {
			p, err := findPattern(ctx, c, args[0])
			if err != nil {
				return err
			}
			patch, err := n.patch(ctx, a, cmd, c, *from)
			if err != nil {
				return err
			}
			page, err := c.Prospects(ctx, p.ID, patch, limit, offset)
			if err != nil {
				return err
			}
			if err := a.print(page, func(w table.Writer) {
				w.AppendHeader(
					heads(
						"device",
						"release",
						"gateway",
						"protocol",
						"file",
						"state",
						"findings",
						"why",
					),
				)
				for _, one := range page.Items {
					protocol := one.Protocol.Title()
					if !one.Works {
						protocol += ", blocked"
					}
					w.AppendRow(
						table.Row{
							one.Device,
							one.Release,
							one.Gateway,
							protocol,
							cmp.Or(string(one.Format), "by hand"),
							one.State,
							tally(one.Tally),
							reasons(one),
						},
					)
				}
			}); err != nil {
				return err
			}
			if a.output == "table" {
				a.say("%s of %s", plural(len(page.Items), "profile"),
					plural(page.Total, "device"))
			}
			return nil
		})
	}
	return cmd
}

// reasons words why this gateway, which protocols were passed over, and what is unmet.
func reasons(p api.Prospect) string {
	parts := []string{p.Why}
	for _, one := range p.Passed {
		if one.Reason != "lower in the order of preference" {
			parts = append(parts, one.Protocol.Title()+": "+one.Reason)
		}
	}
	for _, one := range p.Unmet {
		parts = append(parts, one.Wanted+"; "+one.Reason)
	}
	return strings.Join(parts, "; ")
}

func (a *app) rollOut() *cobra.Command {
	var background bool
	cmd := &cobra.Command{
		Use:   "roll-out PATTERN",
		Short: "Create or change the profiles of all devices of a pattern",
		Args:  exactly("PATTERN"),
		Long: `Creates a profile for each device of the pattern, or changes the existing one. What
is set manually on a profile is kept. It is a job of the service: it continues after a restart;
wardicon job cancel stops it.`,
		Example: "  wardicon pattern roll-out \"Deck phones\"",
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.with(cmd, func(ctx context.Context, c *client.Client) error {
			p, err := findPattern(ctx, c, args[0])
			if err != nil {
				return err
			}
			j, err := c.RollOut(ctx, p.ID)
			return a.follow(ctx, c, j, err, background)
		})
	}
	cmd.Flags().BoolVar(&background, "background", false, "do not wait until it is done")
	return cmd
}
