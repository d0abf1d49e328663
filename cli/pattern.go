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
		about: `A pattern sets how a class of devices connects: protocols in order of preference, gateways, networks in the
tunnel, and when to connect. Try it first without changing anything, then roll it out to create or change
the profiles of all devices of the class.`,
		example: `"Deck phones" --group deck --platform android --protocol ikev2 --protocol l2tp \
      --gateways nearest --connect always --naming "{organisation} {city}"`,
		fields: []field{
			{flag: "group", path: "groups", kind: listField, help: "devices of people in this group; none means all"},
			{flag: "name", path: "name", help: "new name"},
			{flag: "platform", path: "platforms", kind: listField, help: "devices of this platform; none means all"},
			{flag: "protocol", path: "protocols", kind: listField, help: "protocols in order of preference: ikev2, tls, sstp, l2tp, pptp; others are not used"},
			{flag: "gateways", path: "gateways", help: "listed (the first that works), nearest, fastest (by measured response time), or each"},
			{flag: "fallback", path: "fallback", kind: boolField, help: "add a second gateway for when the first does not respond: in the same file if the format supports it, else as its own connection"},
			{flag: "gateway", path: "gateway_ids", kind: listField, resolve: gatewayID, help: "gateways to choose from, in order; none means all"},
			{flag: "tunnel", path: "tunnel", help: "full or split; empty follows the gateway"},
			{flag: "route", path: "routes", kind: listField, help: "network for a split tunnel; none uses the gateway's"},
			{flag: "dns", path: "dns", kind: listField, help: "DNS server; none uses the gateway's"},
			{flag: "domain", path: "domains", kind: listField, help: "internal domain; none uses the gateway's"},
			{flag: "ipv6", path: "ipv6", help: "carried, refused or left"},
			{flag: "connect", path: "connect", help: "by-hand, at-sign-in, on-demand or always"},
			{flag: "trusted-network", path: "demand.networks", kind: listField, help: "on demand: name of a wireless network where the device stays disconnected"},
			{flag: "trusted-suffix", path: "demand.suffixes", kind: listField, help: "on demand: DNS suffix of a network where the device stays disconnected"},
			{flag: "demand-domain", path: "demand.domains", kind: listField, help: "on demand: domain whose lookup makes the device connect"},
			{flag: "probe", path: "demand.probe", help: "on demand: internal URL; while it responds the device stays disconnected"},
			{flag: "interface", path: "demand.interface", help: "on demand: only over wifi, cellular or ethernet"},
			{flag: "reconnect", path: "reconnect", kind: boolField, help: "reconnect automatically"},
			{flag: "unmetered", path: "unmetered", kind: boolField, help: "connect automatically only on unmetered networks"},
			{flag: "proxy-script", path: "proxy.script", help: "URL of a proxy auto-configuration script"},
			{flag: "proxy", path: "proxy.server", help: "web proxy as host:port"},
			{flag: "proxy-bypass", path: "proxy.bypass", kind: listField, help: "host or domain that bypasses the proxy"},
			{flag: "password", path: "password", help: "saved or asked"},
			{flag: "scope", path: "scope", help: "person or machine"},
			{flag: "naming", path: "naming", help: "template for connection names, with {organisation}, {gateway}, {city}, {protocol}, {person}, {device}"},
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
		Use: "try PATTERN", Short: "Show the effect of a pattern on its devices", Args: exactly("PATTERN"),
		Long: `Plans every device of the pattern, a page at a time, and shows gateway, protocol, file format and findings
with the reasons. Nothing is changed. Flags change the pattern for this one try.`,
		Example: "  wardicon pattern try \"Deck phones\"\n  wardicon pattern try \"Deck phones\" --gateways each --output json",
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
				a.say("%s", countedPage(page, offset, "devices"))
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
		Use: "roll-out PATTERN", Short: "Create or change the profiles of all devices of a pattern", Args: exactly("PATTERN"),
		Long: `Creates a profile for each device of the pattern, or changes the existing one. What is set manually on a
profile is kept. It is a job of the service: it continues after a restart; wardicon job cancel stops it.`,
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
	cmd.Flags().BoolVar(&background, "background", false, "do not wait until it is done")
	return cmd
}
