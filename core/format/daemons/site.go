package daemons

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/shell"
	"wardicon/core/vpn"
)

const (
	siteFile    = "-site.nft"
	siteSystem  = "-site.conf"
	siteUnit    = "-site.service"
	siteChanges = "-site.sh"
	siteMark    = "# site = "

	// of OpenWrt's packet filter, one folder for each of its chains
	filterFolder = "/usr/share/nftables.d/chain-pre/"
)

// outlet is what the interfaces of a tunnel are called. IPsec has one only where the daemon
// does ESP itself; in the kernel packets are told by their path.
func outlet(c vpn.Connection) string {
	switch {
	case c.TLS != nil:
		return `"tun*"`
	case c.IKEv2 != nil:
		return `"ipsec*"`
	}
	return `"ppp*"`
}

// siteTable is the table of the packet filter that rules a connection's site.
func siteTable(name string) string { return "site_" + strings.ReplaceAll(name, "-", "_") }

// set writes networks as an anonymous set, without those that lie inside others.
func set(list []string) string {
	var kept []netip.Prefix
	for _, v := range list {
		p, _ := netip.ParsePrefix(v) // looked at before
		p = p.Masked()
		if slices.ContainsFunc(
			kept,
			func(k netip.Prefix) bool { return k.Overlaps(p) && k.Bits() <= p.Bits() },
		) {
			continue
		}
		kept = append(slices.DeleteFunc(kept, p.Overlaps), p)
	}
	words := make([]string, len(kept))
	for i, p := range kept {
		words[i] = p.String()
	}
	return "{ " + strings.Join(words, ", ") + " }"
}

// forwarding is what the filter does with what the site sends and what is sent to it:
// traffic for the networks behind the gateway is the site's alone, and comes from there
// only through the tunnel.
type forwarding struct {
	forward []string // rules of a chain at the hook forward
	leaving []string // rules at the hook postrouting, behind address translation
	nat     []string // rules of a chain of the kind nat at that hook
}

func forwardingOf(c vpn.Connection) (f forwarding) {
	out, ipsec := outlet(c), c.IKEv2 != nil
	add := func(to *[]string, text string, args ...any) {
		*to = append(*to,
			fmt.Sprintf(text, args...))
	}
	four, six := format.Families(c.Site.Networks)
	four2, six2 := format.Families(c.Routes)
	for _, v := range []struct {
		family       string
		site, behind []string
	}{{"ip", four, four2}, {"ip6", six, six2}} {
		if len(v.site) == 0 || c.Tunnel == vpn.TunnelSplit && len(v.behind) == 0 {
			continue
		}
		site := set(v.site)
		from, to := v.family+" saddr "+site, v.family+" daddr "+site
		add(&f.forward, "%s %s accept", from, to)
		if c.Tunnel == vpn.TunnelFull {
			add(&f.forward, "%s saddr != %s %s daddr != %[2]s drop", v.family, site, v.family)
			switch {
			case c.Site.Masquerade:
				add(&f.forward, "%s ct state new drop", to)
			case ipsec:
				add(&f.forward, "%s iifname != %s meta secpath missing ct state new drop", to, out)
			default:
				add(&f.forward, "%s iifname != %s ct state new drop", to, out)
			}
			if c.Site.Masquerade && !ipsec {
				add(&f.nat, "%s oifname %s masquerade", from, out)
			}
			add(&f.forward, "%s tcp flags syn tcp option maxseg size set rt mtu", from)
			continue
		}
		behind := set(v.behind)
		leave, enter := from+" "+v.family+" daddr "+behind, v.family+" saddr "+behind+" "+to
		add(&f.forward, "%s tcp flags syn tcp option maxseg size set rt mtu", leave)
		switch {
		case ipsec: // whether IPsec takes it is known only behind address translation
			add(&f.forward, "%s accept", leave)
			add(
				&f.leaving,
				"%s daddr %s ct original %[1]s saddr %[3]s oifname != %[4]s rt ipsec missing drop",
				v.family,
				behind,
				site,
				out,
			)
		default:
			add(&f.forward, "%s oifname %s accept", leave, out)
		}
		switch {
		case c.Site.Masquerade:
			add(&f.forward, "%s ct state established,related accept", enter)
			if !ipsec {
				add(&f.nat, "%s oifname %s masquerade", leave, out)
			}
		case ipsec:
			add(&f.forward, "%s meta secpath exists accept", enter)
			fallthrough
		default:
			add(&f.forward, "%s iifname %s accept", enter, out)
		}
		add(&f.forward, "%s daddr %s drop", v.family, behind)
		add(&f.forward, "%s saddr %s drop", v.family, behind)
	}
	return f
}

// chain writes a chain with its rules; empty where there are none.
func chain(name, kind string, rules []string) string {
	if len(rules) == 0 {
		return ""
	}
	return "chain " + name + " {\n\ttype " + kind + "; policy accept;\n\t" + strings.Join(
		rules,
		"\n\t",
	) + "\n}\n"
}

// site makes what lets a whole site through a router's connection, and what nothing but
// the site gets through.
func site(
	c vpn.Connection,
) (files []format.File, places []shell.Placement, units []string, apply, revoke []string) {
	name := format.FileName(c.Name, "")
	add := func(ending, purpose, content string, p shell.Placement) {
		p.File = format.FileName(c.Name, ending)
		media := "text/plain; charset=utf-8"
		if strings.HasSuffix(ending, ".sh") {
			media = "text/x-shellscript; charset=utf-8"
		}
		files = append(
			files,
			format.File{Name: p.File, MediaType: media, Purpose: purpose, Content: []byte(content)},
		)
		places = append(places, p)
	}
	if c.IKEv2 != nil && c.Site != nil && c.Site.Masquerade {
		add(
			siteChanges,
			"Lets the site leave by the address that the gateway gives",
			changes(c, name),
			shell.Placement{Path: changesOf(name), Mode: "0755"},
		)
		revoke = append(
			revoke,
			"nft delete table inet "+siteTable(name)+"_nat > /dev/null 2>&1 || true",
		)
	}
	if c.RouterFilter {
		m, r := routerFilter(c, name, add)
		return files, places, nil, m, append(revoke, r...)
	}
	if c.Site == nil {
		return files, places, nil, nil, revoke
	}
	f, table := forwardingOf(c), siteTable(name)
	body := chain(
		"forwarded",
		"filter hook forward priority filter",
		f.forward,
	) + chain(
		"leaving",
		"filter hook postrouting priority 110",
		f.leaving,
	) + chain(
		"translated",
		"nat hook postrouting priority srcnat",
		f.nat,
	)
	rules := fmt.Sprintf(
		"#!/usr/sbin/nft -f\n# What goes between the site behind this machine and the connection "+
			"%s.\n%s%s\ntable inet %s\ndelete table inet %[4]s\ntable inet %[4]s {\n%s}\n",
		name,
		siteMark,
		strings.Join(c.Site.Networks, ", "),
		table,
		"\t"+strings.TrimSuffix(strings.ReplaceAll(body, "\n", "\n\t"), "\t"),
	)
	path, unit := "/etc/"+format.FileName(c.Name, siteFile), format.FileName(c.Name, siteUnit)
	add(
		siteFile,
		"Rules for what the site sends and gets",
		rules,
		shell.Placement{Path: path, Mode: "0644"},
	)
	system := "# The machine forwards for the site behind it.\nnet.ipv4.ip_forward = 1\n"
	if _, six := format.Families(c.Site.Networks); len(six) > 0 {
		system += "net.ipv6.conf.all.forwarding = 1\n"
	}
	add(
		siteSystem,
		"Lets the machine forward",
		system,
		shell.Placement{Path: "/etc/sysctl.d/" + format.FileName(c.Name, siteSystem), Mode: "0644"},
	)
	text := "[Unit]\nDescription=Rules for the site behind " + name +
		"\nBefore=network-pre.target\nWants=network-pre.target\n\n[Service]\nType=oneshot\n" +
		"RemainAfterExit=yes\nExecStart=/usr/sbin/nft -f " + path +
		"\n\n[Install]\nWantedBy=multi-user.target\n"
	add(
		siteUnit,
		"Unit that sets the rules with the system",
		text,
		shell.Placement{Path: "/etc/systemd/system/" + unit, Mode: "0644"},
	)
	apply = []string{
		"nft -f " + path,
		"sysctl -q -p /etc/sysctl.d/" + format.FileName(c.Name, siteSystem),
	}
	return files, places, []string{
			unit,
		}, apply, append(
			revoke,
			"nft delete table inet "+table+" > /dev/null 2>&1 || true",
		)
}

// withSite adds to a job what is needed for the site.
func withSite(c vpn.Connection, job *shell.Job) []format.File {
	files, places, units, apply, revoke := site(c)
	if c.Site != nil && !c.RouterFilter {
		job.Programs = append(job.Programs, shell.Program{Name: "nft", Packages: "nftables"})
	}
	job.Placements, job.Units = append(job.Placements, places...), append(job.Units, units...)
	job.Apply, job.Revoke = slices.Concat(apply, job.Apply), slices.Concat(job.Revoke, revoke)
	return files
}

// translatable refuses what the script that the IKE daemon runs cannot translate.
func translatable(c vpn.Connection) error {
	if c.Site == nil || !c.Site.Masquerade || c.IKEv2 == nil {
		return nil
	}
	if _, six := format.Families(append(slices.Clone(c.Site.Networks), c.Routes...)); len(six) > 0 {
		return &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldSite,
			Found:    "masquerading of " + six[0] + " over IKEv2",
			Expected: "networks of IPv4, or a site without masquerading",
		}
	}
	return nil
}

// routerFilter makes what OpenWrt's own packet filter takes up for IPsec: what IPsec takes
// is left as it is, and for a site what may be forwarded.
func routerFilter(
	c vpn.Connection,
	name string,
	add func(ending, purpose, content string, p shell.Placement),
) (apply, revoke []string) {
	const purpose = "Rules for the router's packet filter"
	add(
		"-nat.nft",
		purpose,
		"rt ipsec exists accept comment \""+name+"\"\n",
		shell.Placement{
			Path: filterFolder + "srcnat/" + format.FileName(c.Name, "-nat.nft"),
			Mode: "0644",
		},
	)
	older := []string{"iptables -t nat -%s POSTROUTING -m policy --dir out --pol ipsec -j ACCEPT"}
	if c.Site != nil {
		f := forwardingOf(c)
		add(
			siteFile,
			purpose,
			siteMark+strings.Join(c.Site.Networks, ", ")+"\n"+strings.Join(f.forward, "\n")+"\n",
			shell.Placement{
				Path: filterFolder + "forward/" + format.FileName(c.Name, siteFile),
				Mode: "0644",
			},
		)
		if len(f.leaving) > 0 {
			add(
				"-leaving.nft",
				purpose,
				chain(siteTable(name), "filter hook postrouting priority 110", f.leaving),
				shell.Placement{
					Path: "/etc/nftables.d/" + format.FileName(c.Name, "-leaving.nft"),
					Mode: "0644",
				},
			)
		}
		four, _ := format.Families(c.Site.Networks)
		if !c.Site.Masquerade {
			for _, v := range four {
				older = append(
					older,
					"iptables -%s FORWARD -d "+v+" -m policy --dir in --pol ipsec -j ACCEPT",
				)
			}
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# begin %s\n", name)
	for _, rule := range older {
		fmt.Fprintf(&b, "%s 2> /dev/null || %s\n", fmt.Sprintf(rule, "C"), fmt.Sprintf(rule, "I"))
	}
	fmt.Fprintf(&b, "# end %s\n", name)
	add(
		"-filter.user",
		"Rules for the packet filter of older routers",
		b.String(),
		shell.Placement{Path: "/etc/firewall.user", Mode: "0644", Merge: name, Sign: "#"},
	)
	for _, rule := range older {
		revoke = append(revoke, fmt.Sprintf(rule, "D")+" 2> /dev/null || true")
	}
	reload := []string{"if [ -x /etc/init.d/firewall ]; then /etc/init.d/firewall reload; fi"}
	return reload, revoke
}

// changesOf is where the IKE daemon finds what to run when the connection comes up or goes.
func changesOf(name string) string { return "/etc/swanctl/" + name + siteChanges }

// changes makes the script that the IKE daemon runs when the connection comes up or goes:
// the address that the gateway gives is known only then.
func changes(c vpn.Connection, name string) string {
	table := siteTable(name) + "_nat"
	var up, old []string
	four, _ := format.Families(c.Site.Networks)
	to, dest := "", ""
	if c.Tunnel == vpn.TunnelSplit {
		behind, _ := format.Families(c.Routes)
		to = " ip daddr " + set(behind)
		dest = " -d " + strings.Join(behind, ",")
	} else {
		to = " ip daddr != " + set(four)
	}
	up = append(
		up,
		fmt.Sprintf(
			"add rule inet %s leaving ip saddr %s%s snat ip to $address",
			table,
			set(four),
			to,
		),
	)
	old = append(
		old,
		"POSTROUTING -s "+strings.Join(four, ",")+dest+" -j SNAT --out-source $address",
	)
	return fmt.Sprintf(`#!/bin/sh
# The IKE daemon runs this when the connection %[1]s comes up or goes: the site behind the
# router leaves by the address that the gateway has given.
PATH=/usr/sbin:/sbin:/usr/bin:/bin
address=${PLUTO_MY_SOURCEIP4_1:-${PLUTO_MY_SOURCEIP:-}}
case $address in ""|*[!0-9.]*) exit 0 ;; esac
case $PLUTO_VERB in
up-*)
	if command -v nft > /dev/null; then
		nft "table inet %[2]s; delete table inet %[2]s; add table inet %[2]s;
			add chain inet %[2]s leaving { type nat hook postrouting priority 99; }; %[3]s"
	else
		iptables -t nat -C %[4]s 2> /dev/null || iptables -t nat -I %[4]s
	fi
	;;
down-*)
	if command -v nft > /dev/null; then
		nft delete table inet %[2]s
	else
		iptables -t nat -D %[4]s
	fi
	;;
esac
`, name, table, strings.Join(up, "; "), strings.Join(old, "; "))
}

// site reads the networks behind the router, from the rules beside a connection.
func (r *reader) site(at format.Position, script bool) *vpn.Site {
	data, ok := r.beside.Get(r.stem + siteFile)
	if !ok {
		return nil
	}
	s := &vpn.Site{
		Networks:   []string{},
		Masquerade: script || strings.Contains(string(data), " masquerade\n"),
	}
	for line := range strings.SplitSeq(string(data), "\n") {
		rest, ok := strings.CutPrefix(strings.TrimSpace(line), siteMark)
		if !ok {
			continue
		}
		for v := range strings.SplitSeq(rest, ",") {
			if p, err := netip.ParsePrefix(
				strings.TrimSpace(v),
			); err == nil &&
				len(s.Networks) < 64 {
				s.Networks = append(s.Networks, p.String())
			} else {
				r.Note(format.KeyMalformed, at, "the site's network %q", strings.TrimSpace(v))
			}
		}
	}
	return s
}
