package uci

import (
	"cmp"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/daemons"
	"wardicon/core/format/ovpn"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// option is what a batch sets, with its place.
type option struct {
	values []string
	list   bool
	at     format.Position
}

type reader struct {
	format.Reading
	file   string
	beside format.Beside
	set    map[string]*option
	order  []string
	read   map[string]bool // the paths that somebody asked for
	taken  map[string]bool // the sections that became connections, or parts of them

	form     bool // of a file, not a batch
	pack     string
	section  string
	last     map[string]string // the section that was added last, by its type
	sections int
	apart    bool // the IPsec half of a connection
}

// Read takes a batch apart, with the files that it names. It always answers; what is
// wrong is in the notes.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	r := &reader{file: name, beside: beside, set: map[string]*option{},
		read: map[string]bool{}, taken: map[string]bool{}, last: map[string]string{}}
	if !r.Lines(name, data, r.line) {
		return r.Reading
	}
	found := false
	for _, path := range r.order {
		o := r.set[path]
		switch {
		case r.Full():
		case strings.Count(path, ".") != 1 || o.list:
		case strings.HasPrefix(path, "network.") && o.values[0] == "interface":
			found = true
			if proto := r.get(path + ".proto"); !r.form || proto == "l2tp" || proto == "pptp" ||
				proto == "sstp" {
				r.network(path)
			}
		case strings.HasPrefix(path, "openvpn.") && o.values[0] == "openvpn":
			found = true
			r.tls(path)
		}
	}
	r.account()
	if len(r.Connections) == 0 && r.form {
		r.Note(
			format.NotYetRead,
			format.Position{File: name, Line: 1, Column: 1},
			"settings of a router without a connection",
		)
		return r.Reading
	}
	if !found {
		r.Note(
			format.Unreadable,
			format.Position{File: name, Line: 1, Column: 1},
			"no interface and no tunnel is set",
		)
	}
	return r.Reading
}

func (r *reader) line(at format.Position, line string) bool {
	line = strings.TrimSpace(line)
	command, rest, _ := strings.Cut(line, " ")
	if command == "uci" { // as a shell runs it
		rest = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(rest), "-q "))
		command, rest, _ = strings.Cut(rest, " ")
	}
	switch command {
	case "", "commit", "delete":
		return true
	case "del_list", "rename", "reorder", "revert":
		r.Left(line, at)
		return true
	case "add":
		return r.added(at, rest)
	case "package", "config", "option", "list":
		return r.stanza(at, command, rest)
	case "set", "add_list":
	default:
		if strings.HasPrefix(command, "#") {
			return true
		}
		r.Note(format.Unreadable, at, "%q, expected set, add, add_list, delete or commit", command)
		return false
	}
	path, raw, ok := strings.Cut(strings.TrimSpace(rest), "=")
	if !ok {
		r.Note(format.Unreadable, at, "%s without a value", command)
		return false
	}
	value, err := unquote(raw)
	if err != nil {
		r.Note(format.Unreadable, at, "%s: %s", path, err)
		return false
	}
	r.put(at, r.named(path), value, command == "add_list")
	return true
}

// added makes a section without a name.
func (r *reader) added(at format.Position, rest string) bool {
	words := strings.Fields(rest)
	if len(words) != 2 {
		r.Note(format.Unreadable, at, "add %s, expected a file and a type of section", rest)
		return false
	}
	r.sections++
	r.last[words[0]+".@"+words[1]] = fmt.Sprintf("%s.section%d", words[0], r.sections)
	r.put(at, r.last[words[0]+".@"+words[1]], words[1], false)
	return true
}

// named puts the name of a section that was just added into a path: network.@route[-1].target.
func (r *reader) named(path string) string {
	section, rest, ok := strings.Cut(path, "[-1]")
	if name := r.last[section]; ok && name != "" {
		return name + rest
	}
	return path
}

// unquote reads a word as a shell would: single quotes as they are, double quotes and
// bare text with backslashes.
func unquote(raw string) (string, error) {
	var b strings.Builder
	quote := byte(0)
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		switch {
		case quote == '\'' && c != '\'':
			b.WriteByte(c)
		case c == '\\':
			if i++; i == len(raw) {
				return "", fmt.Errorf("a backslash at the end")
			}
			b.WriteByte(raw[i])
		case quote != 0 && c == quote:
			quote = 0
		case quote == '"':
			b.WriteByte(c)
		case c == '\'' || c == '"':
			quote = c
		case c == ' ' || c == '\t' || c == ';' || c == '#':
			return "", fmt.Errorf("something after the value")
		default:
			b.WriteByte(c)
		}
	}
	if quote != 0 {
		return "", fmt.Errorf("a quote that does not end")
	}
	return b.String(), nil
}

func (r *reader) get(path string) string {
	r.read[path] = true
	if o := r.set[path]; o != nil && len(o.values) > 0 {
		return o.values[len(o.values)-1]
	}
	return ""
}

func (r *reader) list(path string) []string {
	r.read[path] = true
	if o := r.set[path]; o != nil {
		return o.values
	}
	return []string{}
}

// at tells where an option stands; one that is missing is missing in its section.
func (r *reader) at(path string) format.Position {
	if o := r.set[path]; o != nil {
		return o.at
	}
	at := format.Position{File: r.file, Line: 1, Column: 1}
	if section := path[:max(0, strings.LastIndex(path, "."))]; r.set[section] != nil {
		at = r.set[section].at
	}
	at.Path = path
	return at
}

func (r *reader) positions(keys map[vpn.Field]string) map[vpn.Field]format.Position {
	m := map[vpn.Field]format.Position{}
	for field, key := range keys {
		m[field] = r.at(key)
	}
	return m
}

func (r *reader) tls(path string) {
	if r.form && r.get(path+".config") == "" {
		r.inside(path)
		return
	}
	whole := r.get(path + ".config")
	name := filepath.Base(whole)
	read := ovpn.Read
	if own := strings.TrimSuffix(name, filepath.Ext(name)) + ".ovpn"; own != name {
		if _, ok := r.beside.Get(own); ok {
			name, read = own, daemons.Read
		}
	}
	if _, here := r.beside.Get(name); !here {
		// A package's own examples are switched off, and name files that nobody made.
		if r.get(path+".enabled") != "0" {
			r.Absent(whole, r.at(path+".config"))
		}
		r.Left("config "+whole, r.at(path+".config"))
		return
	}
	text := r.Fetch(r.beside, name, r.at(path+".config"))
	if text == "" {
		return
	}
	inner := read(name, []byte(text), r.beside)
	r.taken[path] = true
	_, section, _ := strings.Cut(path, ".")
	r.zone(section)
	r.Notes = append(r.Notes, inner.Notes...)
	r.NotCarried = append(r.NotCarried, inner.NotCarried...)
	r.Pieces = append(r.Pieces, inner.Pieces...)
	for _, one := range inner.Connections {
		one.Connection.Scope, one.Connection.Site = vpn.ScopeMachine, r.site(path)
		if r.get(path+".enabled") == "1" {
			one.Connection.Connect = vpn.Always
		}
		r.Add(one)
	}
}

func (r *reader) network(path string) {
	_, section, _ := strings.Cut(path, ".")
	r.taken[path] = true
	r.zone(section)
	if peer := r.get(path + ".peerdns"); peer == "0" && r.set[path+".dns"] == nil {
		r.Left("peerdns 0, no name servers of the gateway", r.at(path+".peerdns"))
	} else if peer != "0" && r.set[path+".dns"] != nil {
		r.Left("the gateway's name servers beside these", r.at(path+".dns"))
	}
	c := vpn.Connection{
		Name: cmp.Or(
			r.get(path+".title"),
			strings.TrimPrefix(path, "network."),
		),
		UUID:         strings.ToUpper(r.get(path + ".uuid")),
		Server:       r.get(path + ".server"),
		Login:        r.get(path + ".username"),
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopeMachine,
		Tunnel:       vpn.TunnelSplit,
		Routes:       []string{},
		DNS:          r.list(path + ".dns"),
		Domains:      r.list(path + ".dns_search"),
	}
	if _, ok := r.set[path+".password"]; ok {
		c.Password, c.PasswordMode = secret.New(r.get(path+".password")), vpn.PasswordSaved
		r.Note(format.SecretClear, r.at(path+".password"), "the password")
	}
	if r.get(path+".auto") != "0" { // as OpenWrt assumes
		c.Connect = vpn.Always
	}
	if r.get(path+".defaultroute") != "0" {
		c.Tunnel = vpn.TunnelFull
	}
	if r.get(path+".ipv6") == "1" {
		c.IPv6 = vpn.IPv6Carried
	}
	for _, key := range r.order {
		o := r.set[key]
		if strings.HasPrefix(key, "network.") && strings.HasSuffix(key, ".target") &&
			r.get(
				strings.TrimSuffix(key, "target")+"interface",
			) == section {
			r.taken[strings.TrimSuffix(key, ".target")] = true
			target := r.target(key)
			if _, err := netip.ParsePrefix(target); err != nil {
				r.Note(
					format.KeyMalformed,
					o.at,
					"the target %q, expected a network in CIDR form",
					target,
				)
				continue
			}
			c.Routes = append(c.Routes, target)
		}
	}
	c.Site = r.site(path)
	ppp := daemons.Options(&r.Reading, r.at(path+".pppd_options"), r.get(path+".pppd_options"))
	switch proto := r.get(path + ".proto"); proto {
	case "l2tp":
		c.Protocol = vpn.L2TP
		if !r.ipsec(&c, path) {
			return
		}
		c.L2TP.PPP = ppp.Methods
	case "pptp":
		if !strings.Contains(r.get(path+".pppd_options"), "mppe") {
			ppp.MPPE = systemMPPE
		}
		c.Protocol, c.PPTP = vpn.PPTP, &vpn.PPTPSetting{
			PPP:         ppp.Methods,
			MPPE:        ppp.MPPE,
			PPTPOptions: vpn.PPTPOptions{Stateful: ppp.Stateful},
		}
	case "sstp":
		c.Protocol, c.SSTP = vpn.SSTP, &vpn.SSTPSetting{PPP: ppp.Methods, Port: 443}
		if host, port, ok := vpn.SplitPort(c.Server); ok {
			c.Server, c.SSTP.Port = host, port
		}
		daemons.Program(&r.Reading, r.at(path+".sstp_options"),
			strings.Fields(r.get(path+".sstp_options")))
		if _, file, ok := strings.Cut(r.get(path+".sstp_options"), "--ca-cert "); ok {
			c.Authority = r.Anchored(
				r.Fetch(r.beside, file, r.at(path+".sstp_options")),
				r.at(path+".sstp_options"),
			)
		}
	default:
		r.Note(format.Unrelated, r.at(path+".proto"), "an interface of the protocol %q", proto)
		return
	}
	var apart []vpn.Field
	if r.apart {
		apart, r.apart = []vpn.Field{vpn.FieldPSK}, false
	}
	routes := path + "_r1.target"
	if r.set[routes] == nil {
		routes = path + ".defaultroute"
	}
	r.Add(format.Located{
		Connection: c,
		Positions: r.positions(map[vpn.Field]string{
			vpn.FieldName:      path + ".title",
			vpn.FieldUUID:      path + ".uuid",
			vpn.FieldServer:    path + ".server",
			vpn.FieldPort:      path + ".server",
			vpn.FieldLogin:     path + ".username",
			vpn.FieldPassword:  path + ".password",
			vpn.FieldProtocol:  path + ".proto",
			vpn.FieldPPP:       path + ".pppd_options",
			vpn.FieldMPPE:      path + ".pppd_options",
			vpn.FieldTunnel:    path + ".defaultroute",
			vpn.FieldDNS:       path + ".dns",
			vpn.FieldDomains:   path + ".dns_search",
			vpn.FieldRoutes:    routes,
			vpn.FieldPSK:       path + ".proto",
			vpn.FieldConnect:   path + ".auto",
			vpn.FieldIPv6:      path + ".ipv6",
			vpn.FieldAuthority: path + ".sstp_options",
		}),
		Apart: apart,
	})
}

// site reads the networks behind the router that the firewall's zone of a section is for.
func (r *reader) site(path string) *vpn.Site {
	_, section, _ := strings.Cut(path, ".")
	zone := "firewall." + section
	s := &vpn.Site{Networks: []string{}}
	for _, part := range []struct {
		list       []string
		masquerade bool
	}{{r.list(zone + "_in.dest_ip"), false}, {r.list(zone + ".masq_src"), true}} {
		for _, v := range part.list {
			p, err := netip.ParsePrefix(v)
			if err != nil {
				r.Note(
					format.KeyMalformed,
					r.at(zone),
					"the site's network %q, expected a network in CIDR form",
					v,
				)
				continue
			}
			s.Networks, s.Masquerade = append(s.Networks, p.String()), part.masquerade
		}
	}
	if len(s.Networks) == 0 {
		return nil
	}
	return s
}

// ipsec reads the half below L2TP, which stands beside.
func (r *reader) ipsec(c *vpn.Connection, path string) bool {
	name := strings.TrimSuffix(r.file, filepath.Ext(r.file)) + ".conf"
	here := false
	if r.form { // /etc/config/network, and the IKE daemon's own file in /etc
		for _, name = range []string{"swanctl.conf", "ipsec.conf"} {
			if _, here = r.beside.Get(name); here {
				break
			}
		}
	}
	if r.form && !here {
		r.Note(format.NotYetRead, r.at(path+".proto"),
			"L2TP whose IPsec half is elsewhere, if it "+
				"has one")
		c.L2TP = &vpn.L2TPSetting{Auth: vpn.MachinePSK, IKE: []string{}, ESP: []string{}}
		r.apart = true
		return true
	}
	text := r.Fetch(r.beside, name, r.at(path+".proto"))
	if text == "" {
		return false
	}
	inner := daemons.Read(name, []byte(text), r.beside)
	r.NotCarried = append(r.NotCarried, inner.NotCarried...)
	for _, n := range inner.Notes {
		if n.Kind != format.FileMissing {
			r.Notes = append(r.Notes, n)
		}
	}
	inner.Connections = slices.DeleteFunc(inner.Connections, func(l format.Located) bool {
		return l.Connection.L2TP == nil || r.form && l.Connection.Server != c.Server
	})
	if len(inner.Connections) != 1 {
		r.Note(
			format.KeyMalformed,
			r.at(path+".proto"),
			"%s does not hold the IPsec half of L2TP",
			name,
		)
		return false
	}
	c.L2TP, c.Authority, c.Identity =
		inner.Connections[0].Connection.L2TP, inner.Connections[0].Connection.Authority,
		inner.Connections[0].Connection.Identity
	return true
}
