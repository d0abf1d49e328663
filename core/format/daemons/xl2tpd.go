package daemons

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// lacHead begins a client's side, lnsHead a gateway's (xl2tpd.conf(5)).
var (
	lacHead = format.NewSign(`^[ \t]*\[lac[ \t]+\S`, "[lac")
	lnsHead = format.NewSign(`^[ \t]*\[(lns|global)\b`, "[lns", "[global")
)

// lacKeys are the keys of a client's section with the values that change nothing, as in known.
var lacKeys = map[string]string{
	"lns": "-", "name": "-", "pppoptfile": "-", "autodial": "no", "redial": "no",
	"redial timeout": "*", "max redials": "*", "ppp debug": "*", "length bit": "*",
	// what the other side must prove itself by counts only with "require authentication"
	"require chap": "*", "refuse chap": "-", "require pap": "*", "refuse pap": "-",
	"require authentication": "no", "refuse authentication": "*", "hostname": "*", "local ip": "-",
	"remote ip": "-", "challenge": "no", "tunnel rws": "*", "flow bit": "*", "exclusive": "*",
	"bps": "*", "tx bps": "*", "rx bps": "*", "call rws": "*", "hidden bit": "*",
	"proxy authentication": "-", "defaultroute": "-", "peers": "-", "rmax": "*", "rtimeout": "*",
	"assign ip": "*", "unix authentication": "no", "pass peer": "*", "cap bps": "*",
}

// lacs reads the clients' sections of xl2tpd.conf: IPsec below them is configured elsewhere.
func (r *reader) lacs(data []byte) {
	type section map[string]setting
	var order []string
	all, current := map[string]section{}, ""
	r.Lines(r.file, data, func(at format.Position, line string) bool {
		text, _, _ := strings.Cut(line, ";")
		text = strings.TrimSpace(text)
		switch {
		case text == "":
		case strings.HasPrefix(text, "["):
			kind, name, _ := strings.Cut(strings.Trim(text, "[]"), " ")
			if current = ""; kind != "lac" {
				break
			}
			current = strings.TrimSpace(name)
			if all[current] == nil {
				all[current] = section{}
				r.begun[current] = at
				order = append(order, current)
			}
		case current == "":
		default:
			key, value, ok := strings.Cut(text, "=")
			if !ok {
				r.Note(format.Unreadable, at, "%q, expected key = value", text)
				return false
			}
			key = strings.Join(strings.Fields(strings.ToLower(key)), " ")
			at.Path = "lac " + current + "." + key
			all[current][key] = setting{strings.TrimSpace(value), at}
		}
		return true
	})
	below := r.ikeBeside()
	for _, name := range order {
		if len(order) > 1 && name == "default" {
			continue
		}
		r.lac(name, all[name], below)
	}
	for _, in := range below { // what else it says
		r.Connections = append(r.Connections, in.Connections...)
		r.Notes = append(r.Notes, in.Notes...)
		r.NotCarried = append(r.NotCarried, in.NotCarried...)
		r.Pieces = append(append(r.Pieces, in.file), in.Pieces...)
	}
	if len(order) == 0 {
		r.Note(format.NotYetRead, format.Position{File: r.file, Line: 1, Column: 1},
			"a configuration of the L2TP daemon without a client's section")
	}
}

func (r *reader) lac(name string, s map[string]setting, below []*reader) {
	start := r.begun[name]
	at := func(key string) format.Position {
		if v, ok := s[key]; ok {
			return v.at
		}
		return start
	}
	l := &link{PPP: NewPPP(), tunnel: vpn.TunnelSplit, routes: []string{},
		at: map[string]format.Position{}}
	inner := &reader{stem: r.stem, beside: r.beside}
	if file := s["pppoptfile"].text; file != "" {
		if text := r.Fetch(r.beside, file, at("pppoptfile")); text != "" {
			inner.file = path.Base(file)
			l = inner.options([]byte(text))
		}
	}
	for key, method := range map[string]suite.PPPMethod{
		"refuse pap": suite.PAP, "refuse chap": suite.CHAP,
	} {
		if s[key].text == "yes" {
			l.Methods = slices.DeleteFunc(l.Methods,
				func(m suite.PPPMethod) bool { return m == method })
		}
	}
	if s["defaultroute"].text == "yes" {
		l.tunnel = vpn.TunnelFull
	}
	c := vpn.Connection{
		Name:         name,
		Protocol:     vpn.L2TP,
		Server:       s["lns"].text,
		Login:        cmp.Or(l.login, s["name"].text),
		Password:     l.password,
		PasswordMode: l.keep(),
		Scope:        vpn.ScopeMachine,
		Tunnel:       l.tunnel,
		Routes:       l.routes,
		DNS:          []string{},
		Domains:      []string{},
		Reconnect:    s["redial"].text == "yes",
		L2TP: &vpn.L2TPSetting{
			Auth: vpn.MachinePSK,
			PPP:  l.Methods,
			IKE:  []string{},
			ESP:  []string{},
		},
	}
	if s["autodial"].text == "yes" {
		c.Connect = vpn.Always
	}
	positions := belowL2TP(&c, below)
	user := at("name")
	if where, ok := l.at["user"]; ok {
		user = where
	}
	if !l.saved {
		if password, ok := inner.stored(c.Login, l.remote, user); ok {
			c.Password, c.PasswordMode = password, vpn.PasswordSaved
		}
	}
	r.Notes = append(r.Notes, inner.Notes...)
	r.NotCarried = append(r.NotCarried, inner.NotCarried...)
	r.Pieces = append(r.Pieces, inner.Pieces...)
	if c.Server == "" {
		r.Note(format.KeyMalformed, start, "[lac %s] without lns, the address of the gateway", name)
	}
	for _, key := range slices.Sorted(maps.Keys(s)) {
		v := s[key]
		switch idle, here := lacKeys[key]; {
		case !here:
			r.Note(format.OptionUnknown, v.at, "%s", key)
			r.Left(key, v.at)
		case idle == "*" || idle == v.text || slices.Contains([]string{"lns", "name", "pppoptfile",
			"autodial", "redial", "refuse pap", "refuse chap", "defaultroute"}, key):
		default:
			r.Left(key+" = "+v.text, v.at)
		}
	}
	apart := []vpn.Field{vpn.FieldRoutes}
	if positions == nil {
		positions = map[vpn.Field]format.Position{vpn.FieldPSK: at("lns")}
		apart = append(apart, vpn.FieldPSK, vpn.FieldIdentity)
	}
	maps.Copy(positions, map[vpn.Field]format.Position{
		vpn.FieldServer: at("lns"), vpn.FieldLogin: user, vpn.FieldPassword: user,
		vpn.FieldProtocol: at("lns"), vpn.FieldPPP: at("refuse pap"), vpn.FieldName: at("lns"),
		vpn.FieldTunnel: at("defaultroute"), vpn.FieldConnect: at("autodial"),
	})
	r.Add(format.Located{Connection: c, Positions: positions, Apart: apart})
}

// ikeFiles are the IKE daemon's files that may stand beside.
var ikeFiles = []string{"swanctl.conf", "ipsec.conf"}

// ikeBeside reads the IKE daemon's files beside.
func (r *reader) ikeBeside() (list []*reader) {
	for _, name := range ikeFiles {
		data, ok := r.beside.Get(name)
		if !ok {
			continue
		}
		in := &reader{
			file: name, stem: strings.TrimSuffix(name, ".conf"), beside: r.beside, below: true,
			set: map[string]setting{}, begun: map[string]format.Position{}, read: map[string]bool{},
		}
		if sections.In(data) {
			in.daemon(data)
		} else {
			in.stroke(data)
		}
		list = append(list, in)
	}
	return list
}

// belowL2TP adds what the IKE daemon's files say of the same gateway, with its places; they are nil
// where none does. What was added is no connection of its own any more.
func belowL2TP(c *vpn.Connection, files []*reader) map[vpn.Field]format.Position {
	for _, in := range files {
		for i, l := range in.Connections {
			half := l.Connection
			if half.L2TP == nil ||
				half.Server != c.Server && !slices.Contains(half.Addresses, c.Server) {
				continue
			}
			ppp := c.L2TP.PPP
			c.L2TP, c.Authority, c.Identity = half.L2TP, half.Authority, half.Identity
			c.L2TP.PPP, c.Addresses = ppp, half.Addresses
			in.Connections = slices.Delete(in.Connections, i, i+1)
			return l.Positions
		}
	}
	return nil
}
