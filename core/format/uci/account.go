package uci

import (
	"slices"
	"strings"

	"wardicon/core/format"
)

// idle are options that change nothing about a connection, with the values at which they do not:
// "*" is any (OpenWrt, Network configuration and Protocol options of ppp, l2tp, pptp and sstp).
var idle = map[string]string{
	"checkup_interval": "*", "delegate": "*", "disabled": "0", "auto": "1",
	"defaultroute": "1", "ipv6": "0 auto", "peerdns": "1", "keepalive": "*", "log_level": "*",
	"force_link": "*", "demand": "0", "metric": "0", "debug": "*", "enabled": "*", "hostname": "*",
	"unixauth": "*",
}

// ordinary are protocols of interfaces that are no tunnel of a client.
var ordinary = strings.Fields(`static dhcp dhcpv6 none ppp pppoe pppoa ncm qmi mbim wwan 3g
	directip hnet relay`)

// account tells of all that nobody asked for: in the sections of connections, and in a batch in all
// others too, since it changes the router.
func (r *reader) account() {
	told := map[string]bool{}
	for _, path := range r.order {
		o := r.set[path]
		pack, rest, _ := strings.Cut(path, ".")
		name, key, option := strings.Cut(rest, ".")
		section := pack + "." + name
		switch {
		case r.read[path]:
		case r.taken[section]:
			value := o.values[len(o.values)-1]
			if option && idle[key] != "*" && !slices.Contains(strings.Fields(idle[key]), value) {
				r.Left(format.Shown(key, value), o.at)
			}
		case told[section]:
		case r.form:
			proto := r.get(section + ".proto")
			if told[section] = true; proto != "" && !slices.Contains(ordinary, proto) {
				r.Left("an interface of the protocol "+proto, o.at)
			}
		default:
			told[section] = true
			r.Left("the section "+section, o.at)
		}
	}
}

// zone marks the sections of the firewall that Write makes for a connection.
func (r *reader) zone(section string) {
	for _, end := range []string{"", "_lan", "_in"} {
		at := "firewall." + section + end
		r.taken[at] = true
		for _, path := range r.order {
			if rest, ok := strings.CutPrefix(path, at+"."); ok && slices.Contains(made, rest) {
				r.read[path] = true
			}
		}
	}
}

// made are the options that Write gives to a firewall's zone, forwarding and rule.
var made = strings.Fields(`name device network input output forward masq mtu_fix masq_src src dest
	proto target dest_ip`)
