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
		name: "pattern", plural: "patterns", title: "name",
		about: `A pattern says how a class of devices connects: which protocols in which order, to
which gateways, with what inside the tunnel, and when. Try one before anything is
kept, then roll it out to make or change the profiles of all devices of its class.`,
		example: `"Deck phones" --group deck --platform android --protocol ikev2 --protocol l2tp \
      --gateways nearest --connect always --naming "{organisation} {city}"`,
		fields: []field{
			{flag: "group", path: "groups", kind: listField, help: "class: people of this group; none means all"},
			{flag: "name", path: "name", help: "another name"},
			{flag: "platform", path: "platforms", kind: listField, help: "class: devices of this platform; none means all"},
			{flag: "protocol", path: "protocols", kind: listField, help: "protocols in order of preference: ikev2, tls, sstp, l2tp, pptp; those left out are not used"},
			{flag: "gateways", path: "gateways", help: "listed (the first that works), nearest, fastest (by the answer times that were measured), or each"},
			{flag: "fallback", path: "fallback", kind: boolField, help: "a second gateway where the first does not answer: in the same file where its format can, else by a connection of its own"},
			{flag: "gateway", path: "gateway_ids", kind: listField, resolve: gatewayID, help: "gateways to choose from, in order; none means all"},
			{flag: "tunnel", path: "tunnel", help: "full or split; empty goes by the gateway"},
			{flag: "route", path: "routes", kind: listField, help: "network for a split tunnel; none takes the gateway's"},
			{flag: "dns", path: "dns", kind: listField, help: "DNS server; none takes the gateway's"},
			{flag: "domain", path: "domains", kind: listField, help: "inside domain; none takes the gateway's"},
			{flag: "ipv6", path: "ipv6", help: "carried, refused or left"},
			{flag: "connect", path: "connect", help: "by-hand, at-sign-in, on-demand or always"},
			{flag: "trusted-network", path: "demand.networks", kind: listField, help: "on demand: name of a wireless network in which no connection is wanted"},
			{flag: "trusted-suffix", path: "demand.suffixes", kind: listField, help: "on demand: DNS suffix of a network in which no connection is wanted"},
			{flag: "demand-domain", path: "demand.domains", kind: listField, help: "on demand: domain whose names make the device connect"},
			{flag: "probe", path: "demand.probe", help: "on demand: web address inside; while it answers no connection is wanted"},
			{flag: "interface", path: "demand.interface", help: "on demand: only over wifi, cellular or ethernet"},
			{flag: "reconnect", path: "reconnect", kind: boolField, help: "connect again by itself after a break"},
			{flag: "unmetered", path: "unmetered", kind: boolField, help: "connect by itself only where traffic is not metered"},
			{flag: "proxy-script", path: "proxy.script", help: "address of a proxy auto-configuration script"},
			{flag: "proxy", path: "proxy.server", help: "web proxy as host:port"},
			{flag: "proxy-bypass", path: "proxy.bypass", kind: listField, help: "host or domain that is reached without the proxy"},
			{flag: "password", path: "password", help: "saved or asked"},
			{flag: "scope", path: "scope", help: "person or machine"},
			{flag: "naming", path: "naming", help: "name of connections, with {organisation}, {gateway}, {city}, {protocol}, {person}, {device}"},
			{flag: "note", path: "note", help: "note for operators"},
		},
		records: func(c *client.Client) client.Noun[api.Pattern] { return c.Patterns }, find: findPattern,
		meta:    func(p api.Pattern) vpn.Meta { return p.Meta },
		ref:     func(p api.Pattern) string { return p.Name },
		columns: []string{"name", "groups", "platforms", "protocols", "gateways", "connects", "profiles"}, filters: []string{"name"},
		row: func(p api.Pattern) table.Row {
			return table.Row{p.Name, cmp.Or(strings.Join(p.Groups, ", "), "all"), cmp.Or(words(p.Platforms), "all"), cmp.Or(words(p.Protocols), "strongest first"), cmp.Or(string(p.Gateways), "listed"), cmp.Or(string(p.Connect), "by-hand"), p.Profiles}
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
		Use: "try PATTERN", Short: "Show what a pattern would make of its devices", Args: exactly("PATTERN"),
		Long: `Plans every device of the pattern's class, a page at a time, and shows gateway,
protocol, file and findings with the reasons. Nothing is kept. Flags change the
pattern for this one look.`,
		Example: "  wardicon pattern try \"Deck phones\"\n  wardicon pattern try \"Deck phones\" --gateways each --output json",
	}
	from := n.fieldFlags(cmd)
	cmd.Flags().IntVar(&limit, "limit", 50, "devices at the most")
	cmd.Flags().IntVar(&offset, "offset", 0, "devices to pass over")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.with(cmd, func(ctx context.Context, c *client.Client) error {
			p, err := findPattern(ctx, c, args[0])
			if err != nil {
				return err
			}
			patch, err := a.patch(ctx, cmd, c, n.fields, *from)
			if err != nil {
				return err
			}
			page, err := c.Prospects(ctx, p.ID, patch, limit, offset)
			if err != nil {
				return err
			}
			if err := a.print(page, func(w table.Writer) {
				w.AppendHeader(heads("device", "release", "gateway", "protocol", "file", "state", "findings", "why"))
				w.SetColumnConfigs([]table.ColumnConfig{wrapped(7, 22), wrapped(8, 60)})
				for _, one := range page.Items {
					protocol := one.Protocol.Title()
					if !one.Works {
						protocol += ", blocked"
					}
					w.AppendRow(table.Row{one.Device, one.Release, one.Gateway, protocol, cmp.Or(string(one.Format), "by hand"), one.State, tally(one.Tally), reasons(one)})
				}
			}); err != nil {
				return err
			}
			if a.output == "table" {
				a.say("%s in the class", counted(min(limit, page.Total-offset), offset, page.Total, "devices"))
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
		if one.Reason != "comes later in the order" {
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
		Use: "roll-out PATTERN", Short: "Make or change the profiles of all devices of a pattern", Args: exactly("PATTERN"),
		Long: `Makes a profile for each device of the pattern's class, or changes the one that is
there. What was set manually on a profile stays. It is a job of the service:
it goes on after a restart, and wardicon job cancel ends it.`,
		Example: "  wardicon pattern roll-out \"Deck phones\"",
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.with(cmd, func(ctx context.Context, c *client.Client) error {
			p, err := findPattern(ctx, c, args[0])
			if err != nil {
				return err
			}
			j, err := c.RollOut(ctx, p.ID)
			if err == nil && !background {
				j, err = a.wait(ctx, c, j)
			}
			if err != nil {
				return err
			}
			if err := a.print(j, func(w table.Writer) { jobTable(w, j) }); err != nil {
				return err
			}
			if j.State == api.Failed {
				return errFindings
			}
			return nil
		})
	}
	cmd.Flags().BoolVar(&background, "background", false, "do not wait for the end")
	return cmd
}
