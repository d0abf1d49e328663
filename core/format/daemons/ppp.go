package daemons

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// link is what the options of pppd say.
type link struct {
	login    string
	password secret.Text
	saved    bool
	ppp      []suite.PPPMethod
	mppe     []suite.MPPE
	stateful bool
	tunnel   vpn.Tunnel
	routes   []string
	persist  bool
	pty      string
	at       map[string]format.Position
}

func (l *link) keep() vpn.Keep {
	if l.saved {
		return vpn.KeepSaved
	}
	return vpn.KeepAsked
}

// harmless are options of pppd that change nothing that is read here.
var harmless = []string{
	"noauth", "auth", "ipparam", "mtu", "mru", "usepeerdns", "nodefaultroute", "nobsdcomp", "nodeflate", "noccp", "lock", "debug", "nodetach", "updetach", "noipdefault", "ipcp-accept-local", "ipcp-accept-remote",
	"lcp-echo-interval", "lcp-echo-failure", "maxfail", "holdoff", "remotename", "name", "logfile", "file", "plugin", "sstp-sock", "novj", "novjccomp", "hide-password", "connect-delay", "nomppe-stateful", "linkname", "unit",
	"replacedefaultroute", "noipv6", "+ipv6", "default-asyncmap", "asyncmap", "crtscts", "local", "modem",
}

// options reads a file of options of pppd.
func (r *reader) options(data []byte) *link {
	l := &link{ppp: slices.Clone(suite.PPPMethods), mppe: []suite.MPPE{}, tunnel: vpn.TunnelSplit, routes: []string{}, at: map[string]format.Position{}}
	r.Lines(r.file, data, func(at format.Position, line string) bool {
		switch {
		case strings.HasPrefix(line, "# name = "):
			r.name = line[len("# name = "):]
			return true
		case strings.HasPrefix(line, "# uuid = "):
			r.uuid = line[len("# uuid = "):]
			return true
		}
		words, err := split(line)
		if err != nil {
			r.Note(format.Unreadable, at, "%s", err)
			return false
		}
		if len(words) == 0 {
			return true
		}
		at.Path = words[0]
		if _, twice := l.at[words[0]]; twice {
			r.Note(format.KeyTwice, at, "%s", words[0])
		}
		l.at[words[0]] = at
		l.option(r, at, words[0], append(words[1:], ""))
		return true
	})
	if data, ok := r.beside.Get(r.stem + routesFile); ok {
		for line := range strings.SplitSeq(string(data), "\n") {
			words := strings.Fields(line)
			if len(words) > 4 && words[0] == "ip" && words[3] == "replace" {
				if p, err := netip.ParsePrefix(words[4]); err == nil {
					l.routes = append(l.routes, p.String())
				}
			}
		}
	}
	return l
}

func (l *link) option(r *reader, at format.Position, name string, words []string) {
	switch name {
	case "pty":
		l.pty = words[0]
	case "user":
		l.login = words[0]
	case "password":
		l.password, l.saved = secret.New(words[0]), true
		r.Note(format.SecretClear, at, "the password")
	case "defaultroute":
		l.tunnel = vpn.TunnelFull
	case "persist":
		l.persist = true
	case "mppe-stateful":
		l.stateful = true
	case "require-mppe":
		l.mppe = []suite.MPPE{"128", "40"}
	case "require-mppe-128", "require-mppe-40":
		l.mppe = append(l.mppe, suite.MPPE(name[len("require-mppe-"):]))
	default:
		for _, refusal := range refusals {
			if refusal.option == name {
				l.ppp = slices.DeleteFunc(l.ppp, func(m suite.PPPMethod) bool { return m == refusal.method })
				return
			}
		}
		if !slices.Contains(harmless, name) {
			r.Note(format.KeyUnknown, at, "%s", name)
		}
	}
}

// split cuts a line of options into words as pppd does: quotes of both kinds, and a
// backslash before a character that is meant.
func split(line string) ([]string, error) {
	var words []string
	var word strings.Builder
	in, quote := false, byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case c == '\\':
			if i++; i == len(line) {
				return nil, fmt.Errorf("a backslash at the end of the line")
			}
			word.WriteByte(line[i])
			in = true
		case quote != 0 && c == quote:
			quote = 0
		case quote != 0:
			word.WriteByte(c)
		case c == '"' || c == '\'':
			quote, in = c, true
		case c == ' ' || c == '\t':
			if in {
				words, in = append(words, word.String()), false
				word.Reset()
			}
		case c == '#' && !in:
			return words, nil
		default:
			word.WriteByte(c)
			in = true
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("a quote that does not end")
	}
	if in {
		words = append(words, word.String())
	}
	return words, nil
}

// peer reads a peer of pppd: PPTP or SSTP.
func (r *reader) peer(data []byte) {
	l := r.options(data)
	start := format.Position{File: r.file, Line: 1, Column: 1}
	c := vpn.Connection{
		Name: or(r.name, r.stem), UUID: strings.ToUpper(r.uuid), Login: l.login, Password: l.password, Keep: l.keep(), Scope: vpn.ScopeMachine, Tunnel: l.tunnel, Routes: l.routes,
		DNS: []string{}, Domains: []string{}, Reconnect: l.persist,
	}
	words := strings.Fields(l.pty)
	switch {
	case len(words) >= 2 && words[0] == "pptp":
		c.Protocol, c.PPTP = vpn.PPTP, &vpn.PPTPSetting{PPP: l.ppp, MPPE: l.mppe, Stateful: l.stateful}
		c.Server = words[1]
	case len(words) >= 2 && words[0] == "sstpc":
		c.Protocol, c.SSTP = vpn.SSTP, &vpn.SSTPSetting{PPP: l.ppp, Port: 443}
		c.Server = words[len(words)-1]
		if host, port, ok := vpn.SplitPort(c.Server); ok {
			c.Server, c.SSTP.Port = host, port
		}
		if i := slices.Index(words, "--ca-cert"); i >= 0 && i+1 < len(words) {
			c.Authority = r.Anchored(r.Fetch(r.beside, words[i+1], l.at["pty"]), l.at["pty"])
		}
		if slices.Contains(words, "--cert-warn") {
			r.Note(format.KeyMalformed, l.at["pty"], "the gateway's certificate is not checked (--cert-warn)")
		}
	default:
		r.Note(format.NotYetRead, start, "a peer of pppd without pptp or sstpc below it")
		return
	}
	if expected, _ := vpn.HostProblem(c.Server); expected != "" {
		r.Note(format.KeyMalformed, l.at["pty"], "the server %q, expected %s", c.Server, expected)
	}
	positions := map[vpn.Field]format.Position{}
	for field, key := range map[vpn.Field]string{
		vpn.FieldServer: "pty", vpn.FieldProtocol: "pty", vpn.FieldPort: "pty", vpn.FieldAuthority: "pty", vpn.FieldLogin: "user", vpn.FieldPassword: "password", vpn.FieldPPP: "refuse-pap",
		vpn.FieldMPPE: "require-mppe-128", vpn.FieldTunnel: "defaultroute", vpn.FieldReconnect: "persist",
	} {
		positions[field] = start
		if at, ok := l.at[key]; ok {
			positions[field] = at
		}
	}
	r.Connections = append(r.Connections, format.Located{Connection: c, Positions: positions})
}
