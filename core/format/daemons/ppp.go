package daemons

import (
	"cmp"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// link is what the options of pppd say.
type link struct {
	login    string
	password secret.Text
	saved    bool
	PPP
	tunnel  vpn.Tunnel
	routes  []string
	persist bool
	pty     string
	remote  string // how the gateway is called
	at      map[string]format.Position
}

func (l *link) keep() vpn.PasswordMode {
	if l.saved {
		return vpn.PasswordSaved
	}
	return vpn.PasswordPrompted
}

// harmless are options of pppd that change nothing that is read here.
var harmless = []string{
	"noauth",
	"auth",
	"ipparam",
	"usepeerdns",
	"nodefaultroute",
	"nobsdcomp",
	"nodeflate",
	"lock",
	"debug",
	"nodetach",
	"updetach",
	"noipdefault",
	"ipcp-accept-local",
	"ipcp-accept-remote",
	"lcp-echo-interval",
	"lcp-echo-failure",
	"maxfail",
	"holdoff",
	"logfile",
	"sstp-sock",
	"novj",
	"novjccomp",
	"hide-password",
	"connect-delay",
	"nomppe-stateful",
	"linkname",
	"unit",
	"default-asyncmap",
	"asyncmap",
	"crtscts",
	"local",
	"modem",
}

// unread are options that concern the connection, and that it has no place for.
var unread = []string{
	"domain", "mtu", "mru", "plugin", "noccp", "noipv6", "ipv6", "+ipv6", "require-pap",
	"require-chap", "require-mschap", "require-mschap-v2", "require-eap", "noip", "nomppe",
	"nomppe-40", "nomppe-128", "ms-dns", "ms-wins", "idle", "demand", "connect", "disconnect",
	"init", "welcome", "file", "call", "cert", "key", "ca", "capath", "crl", "need-peer-eap",
	"defaultroute6", "defroute-metric", "maxconnect", "active-filter", "pass-filter", "proxyarp",
}

// pppOption tells a file of options of pppd by what stands in nearly each.
var pppOption = regexp.MustCompile(`(?m)^(noauth|refuse-(pap|chap|mschap|eap)|require-mschap-v2|` +
	`require-mppe(-128)?|usepeerdns|ipcp-accept-(local|remote)|lcp-echo-interval \d+)\s*$`)

// options reads a file of options of pppd.
func (r *reader) options(data []byte) *link {
	l := &link{
		PPP:    NewPPP(),
		tunnel: vpn.TunnelSplit,
		routes: []string{},
		at:     map[string]format.Position{},
	}
	r.Lines(r.file, data, func(at format.Position, line string) bool {
		switch {
		case strings.HasPrefix(line, "# name = "):
			r.name = line[len("# name = "):]
			return true
		case strings.HasPrefix(line, "# uuid = "):
			r.uuid = line[len("# uuid = "):]
			return true
		}
		words, err := format.Words(line, "#", false)
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
	case "name":
		l.login = cmp.Or(l.login, words[0])
	case "remotename":
		l.remote = words[0]
	case "defaultroute", "replacedefaultroute":
		l.tunnel = vpn.TunnelFull
	case "persist":
		l.persist = true
	default:
		switch {
		case l.Take(name) || slices.Contains(harmless, name):
		case slices.Contains(unread, name):
			r.Left(strings.TrimSpace(name+" "+words[0]), at)
		default:
			r.Note(format.KeyUnknown, at, "%s", name)
			r.Left(name, at)
		}
	}
}

// peer reads a peer of pppd: PPTP or SSTP.
func (r *reader) peer(data []byte) {
	l := r.options(data)
	start := format.Position{File: r.file, Line: 1, Column: 1}
	connect := vpn.Connect("")
	if _, always := r.beside.Get(r.stem + unitFile); always {
		connect = vpn.Always
	}
	c := vpn.Connection{
		Connect:      connect,
		Name:         cmp.Or(r.name, r.stem),
		UUID:         strings.ToUpper(r.uuid),
		Login:        l.login,
		Password:     l.password,
		PasswordMode: l.keep(),
		Scope:        vpn.ScopeMachine,
		Tunnel:       l.tunnel,
		Routes:       l.routes,
		DNS:          []string{},
		Domains:      []string{},
		Reconnect:    l.persist,
	}
	c.Site = r.site(format.Position{File: r.stem + siteFile, Line: 1}, false)
	words := strings.Fields(l.pty)
	switch {
	case len(words) >= 2 && words[0] == "pptp":
		c.Protocol, c.PPTP = vpn.PPTP, &vpn.PPTPSetting{
			PPP:      l.Methods,
			MPPE:     l.MPPE,
			Stateful: l.Stateful,
		}
		c.Server = words[1]
	case len(words) >= 2 && words[0] == "sstpc":
		c.Protocol, c.SSTP = vpn.SSTP, &vpn.SSTPSetting{PPP: l.Methods, Port: 443}
		c.Server = words[len(words)-1]
		if host, port, ok := vpn.SplitPort(c.Server); ok {
			c.Server, c.SSTP.Port = host, port
		}
		if i := slices.Index(words, "--ca-cert"); i >= 0 && i+1 < len(words) {
			c.Authority = r.Anchored(r.Fetch(r.beside, words[i+1], l.at["pty"]), l.at["pty"])
		}
		if slices.Contains(words, "--cert-warn") {
			r.Note(format.CheckSwitchedOff, l.at["pty"], "--cert-warn")
		}
	case l.pty == "":
		r.Note(format.NotYetRead, start, "options of pppd without the connection that they are for")
		return
	default:
		r.Note(format.NotYetRead, start, "a peer of pppd without pptp or sstpc below it")
		return
	}
	if !l.saved && c.Login != "" {
		if password, ok := r.stored(c.Login, l.remote, l.at["user"]); ok {
			c.Password, c.PasswordMode = password, vpn.PasswordSaved
		}
	}
	if expected, _ := vpn.HostProblem(c.Server); expected != "" {
		r.Note(format.KeyMalformed, l.at["pty"], "the server %q, expected %s", c.Server, expected)
	}
	positions := map[vpn.Field]format.Position{}
	for field, key := range map[vpn.Field]string{
		vpn.FieldServer:    "pty",
		vpn.FieldProtocol:  "pty",
		vpn.FieldPort:      "pty",
		vpn.FieldAuthority: "pty",
		vpn.FieldLogin:     "user",
		vpn.FieldPassword:  "password",
		vpn.FieldPPP:       "refuse-pap",
		vpn.FieldMPPE:      "require-mppe-128",
		vpn.FieldTunnel:    "defaultroute",
		vpn.FieldReconnect: "persist",
	} {
		positions[field] = start
		if at, ok := l.at[key]; ok {
			positions[field] = at
		}
	}
	r.Add(format.Located{Connection: c, Positions: positions})
}
