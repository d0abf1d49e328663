package ovpn

import (
	"bytes"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Detect tells a client file by its name or by two options that all have.
func Detect(name string, data []byte) bool {
	head := data[:min(len(data), 8192)]
	ending := strings.ToLower(filepath.Ext(name))
	return ending == ".ovpn" || ending != ".json" && bytes.Contains(head, []byte("remote ")) && (bytes.Contains(head, []byte("client\n")) || bytes.Contains(head, []byte("tls-client")))
}

// harmless are options that change nothing that is read here.
var harmless = []string{
	"client", "tls-client", "pull", "nobind", "persist-tun", "persist-key", "resolv-retry", "ignore-unknown-option", "verb", "mute", "auth-nocache", "remote-random", "float",
	"tun-mtu", "mssfix", "fragment", "reneg-sec", "explicit-exit-notify", "user", "group", "status", "log", "log-append", "connect-retry", "connect-timeout", "server-poll-timeout", "sndbuf", "rcvbuf",
	"tls-cipher", "tls-ciphersuites", "remote-cert-ku", "remote-cert-eku", "hand-window", "push-peer-info", "topology", "route-delay", "route-method", "register-dns", "block-outside-dns",
	"data-ciphers-fallback", "auth-retry", "mute-replay-warnings", "route-metric", "tls-version-max", "tls-groups", "ecdh-curve", "allow-pull-fqdn",
	"remap-usr1", "ping-timer-rem", "nice", "chroot", "writepid", "daemon", "syslog", "http-proxy", "socks-proxy",
}

// commands are options that run programs on the device.
var commands = []string{"up", "down", "route-up", "route-pre-down", "ipchange", "tls-verify", "plugin", "script-security", "iproute", "auth-user-pass-verify", "client-connect"}

// outdated are options that current clients no longer know, and that nothing replaces.
var outdated = []string{"comp-noadapt", "max-routes", "keysize", "no-iv", "no-replay", "key-method", "tls-auth-legacy", "ncp-disable", "link-mtu", "ifconfig-pool-linear", "client-cert-not-required", "dhcp-release", "prng", "engine"}

type inline struct {
	text string
	at   format.Position
}

type reader struct {
	format.Reading
	file      string
	beside    format.Beside
	c         vpn.Connection
	s         *vpn.TLSSetting
	parts     map[string]inline
	positions map[vpn.Field]format.Position
	port      int
	transport vpn.Transport
	direction string
	blockIPv6 bool
	six       bool
	role      bool // the gateway's certificate has to be a server's
	nopull    format.Position
	redirect  format.Position
	user      bool
	userAt    format.Position
	endless   bool
	tag       string
	tagAt     format.Position
	body      strings.Builder
}

// Read takes a client file apart, with the files that it names. It always answers; what
// is wrong is in the notes.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	r := &reader{file: name, beside: beside, parts: map[string]inline{}, positions: map[vpn.Field]format.Position{}, transport: vpn.UDP, endless: true}
	r.s = &vpn.TLSSetting{Remotes: []vpn.Remote{}, Ciphers: []string{}}
	r.c = vpn.Connection{Protocol: vpn.TLS, PasswordMode: vpn.PasswordPrompted, Scope: vpn.ScopePerson, Tunnel: vpn.TunnelSplit, Routes: []string{}, DNS: []string{}, Domains: []string{}, TLS: r.s}
	if r.Lines(name, data, r.line) {
		if r.tag != "" {
			r.Note(format.BlockOpen, r.tagAt, "<%s> does not end", r.tag)
		} else {
			r.settle()
		}
	}
	return r.Reading
}

func (r *reader) line(at format.Position, line string) bool {
	trimmed := strings.TrimLeft(line, " \t")
	if r.tag != "" {
		if strings.HasPrefix(trimmed, "</"+r.tag+">") {
			if _, twice := r.parts[r.tag]; twice {
				r.Note(format.KeyTwice, r.tagAt, "<%s>", r.tag)
			}
			if strings.TrimSpace(r.body.String()) == "" {
				r.Note(format.BlockEmpty, r.tagAt, "<%s> is empty", r.tag)
			}
			r.parts[r.tag] = inline{r.body.String(), r.tagAt}
			r.tag = ""
			r.body.Reset()
			return true
		}
		r.body.WriteString(line + "\n")
		return true
	}
	if strings.HasPrefix(trimmed, "<") && strings.HasSuffix(strings.TrimRight(trimmed, " \t"), ">") {
		r.tag, r.tagAt = strings.Trim(trimmed, "<> \t"), at
		r.tagAt.Path = r.tag
		if !slices.Contains([]string{"ca", "cert", "key", "tls-auth", "tls-crypt", "tls-crypt-v2", "auth-user-pass", "connection", "dh", "pkcs12", "extra-certs", "crl-verify"}, r.tag) {
			r.Note(format.KeyUnknown, at, "<%s>", r.tag)
		}
		return true
	}
	words, err := format.Words(line, "#;", true)
	if err != nil {
		r.Note(format.Unreadable, at, "%s", err)
		return false
	}
	if len(words) > 0 {
		at.Path = words[0]
		r.option(at, words[0], words[1:])
	}
	return true
}

func (r *reader) option(at format.Position, name string, words []string) {
	word := func(i int) string {
		if i < len(words) {
			return words[i]
		}
		return ""
	}
	place := func(f vpn.Field) {
		if _, ok := r.positions[f]; !ok {
			r.positions[f] = at
		}
	}
	switch name {
	case "setenv":
		switch word(0) {
		case "FRIENDLY_NAME":
			r.c.Name = word(1)
			place(vpn.FieldName)
		case "UV_ID":
			r.c.UUID = word(1)
		case "UV_ORGANISATION":
			r.c.Organisation = word(1)
		}
	case "remote":
		place(vpn.FieldRemotes)
		place(vpn.FieldServer)
		remote := vpn.Remote{Address: word(0)}
		if p := word(1); p != "" {
			remote.Port = r.number(at, p, 65535)
		}
		if p := word(2); p != "" {
			remote.Transport = transport(p)
		}
		if expected, _ := vpn.HostProblem(remote.Address); expected != "" {
			r.Note(format.KeyMalformed, at, "the remote %q, expected %s", remote.Address, expected)
		}
		r.s.Remotes = append(r.s.Remotes, remote)
	case "port", "rport":
		r.port = r.number(at, word(0), 65535)
	case "proto":
		r.transport = transport(word(0))
	case "connect-retry-max":
		r.endless = false
	case "keepalive", "ping":
		r.s.Keepalive = r.number(at, word(0), 3600)
		place(vpn.FieldKeepalive)
	case "ping-restart", "ping-exit":
	case "remote-cert-tls":
		r.role = true
		place(vpn.FieldProtocol)
	case "ns-cert-type":
		r.role = true
		r.Fixable(format.DirectiveOutdated, at, "remote-cert-tls "+word(0), "ns-cert-type; remote-cert-tls came after it")
		place(vpn.FieldProtocol)
	case "tls-remote":
		r.Note(format.DirectiveOutdated, at, "tls-remote; verify-x509-name came after it")
		r.s.ServerName = word(0)
		place(vpn.FieldServerName)
	case "dev", "dev-type":
		if strings.HasPrefix(word(0), "tap") {
			r.Note(format.DeviceTap, at, "%s %s", name, word(0))
		}
	case "route-nopull":
		r.nopull = at
	case "secret":
		r.Note(format.DirectiveOutdated, at, "secret: one static key for everything; current clients want certificates")
	case "verify-x509-name":
		r.s.ServerName = word(0)
		place(vpn.FieldServerName)
	case "tls-version-min":
		r.s.MinTLS = word(0)
		place(vpn.FieldMinTLS)
	case "data-ciphers", "ncp-ciphers":
		if name == "ncp-ciphers" {
			r.Fixable(format.DirectiveOutdated, at, "data-ciphers "+word(0), "ncp-ciphers; data-ciphers came after it")
		}
		r.s.Ciphers = strings.Split(word(0), ":")
		place(vpn.FieldCiphers)
	case "cipher":
		if len(r.s.Ciphers) == 0 {
			r.s.Ciphers = []string{word(0)}
		}
		place(vpn.FieldCiphers)
	case "auth":
		r.s.Digest = word(0)
		place(vpn.FieldDigest)
	case "redirect-gateway":
		r.c.Tunnel = vpn.TunnelFull
		r.six = slices.Contains(words, "ipv6")
		r.redirect = at
		place(vpn.FieldTunnel)
	case "pull-filter":
		if word(0) == "ignore" && strings.HasPrefix(word(1), "redirect-gateway") {
			r.nopull = at
		}
		place(vpn.FieldTunnel)
	case "block-ipv6":
		r.blockIPv6 = true
	case "route":
		r.route(at, word(0), word(1))
		place(vpn.FieldRoutes)
	case "route-ipv6":
		if _, err := netip.ParsePrefix(word(0)); err != nil {
			r.Note(format.KeyMalformed, at, "%q, expected a network in CIDR form", word(0))
			return
		}
		r.c.Routes = append(r.c.Routes, word(0))
		place(vpn.FieldRoutes)
	case "dhcp-option":
		switch word(0) {
		case "DNS", "DNS6":
			r.c.DNS = append(r.c.DNS, word(1))
			place(vpn.FieldDNS)
		case "DOMAIN", "DOMAIN-SEARCH", "ADAPTER_DOMAIN_SUFFIX":
			r.c.Domains = append(r.c.Domains, word(1))
			place(vpn.FieldDomains)
		case "WINS", "NBT", "DISABLE-NBT", "PROXY_HTTP", "PROXY_HTTPS", "PROXY_BYPASS", "PROXY_AUTO_CONFIG_URL":
		default:
			r.Note(format.DNSIgnored, at, "dhcp-option %s", word(0))
		}
	case "key-direction":
		r.direction = word(0)
	case "auth-user-pass":
		r.user, r.userAt = true, at
		r.named(at, name, word(0))
	case "ca", "cert", "key", "tls-auth", "tls-crypt", "tls-crypt-v2":
		if name == "tls-auth" && word(1) != "" {
			r.direction = word(1)
		}
		r.named(at, name, word(0))
	case "comp-lzo", "compress":
		if word(0) == "no" || word(0) == "stub-v2" || word(0) == "migrate" {
			break // framing alone
		}
		r.Fixable(format.TunnelCompressed, at, "", "%s", strings.TrimSpace(name+" "+word(0)))
	default:
		switch {
		case slices.Contains(commands, name):
			r.Note(format.RunsProgram, at, "%s; it is not imported", name)
		case slices.Contains(outdated, name):
			r.Fixable(format.DirectiveOutdated, at, "", "%s", name)
		case !isOption(name):
			r.Note(format.KeyUnknown, at, "%s", name)
		}
	}
}

// named takes the text of a file beside into the parts.
func (r *reader) named(at format.Position, option, name string) {
	if name == "" || name == "[inline]" {
		return
	}
	if text := r.Fetch(r.beside, base(name), at); text != "" {
		r.parts[option] = inline{text, at}
	}
}

func (r *reader) number(at format.Position, v string, limit int) int {
	n, err := strconv.Atoi(v)
	if err != nil || n < 0 || n > limit {
		r.Note(format.KeyMalformed, at, "%q, expected a number up to %d", v, limit)
		return 0
	}
	return n
}

func transport(v string) vpn.Transport {
	if strings.HasPrefix(v, "tcp") {
		return vpn.TCP
	}
	return vpn.UDP
}

func (r *reader) route(at format.Position, address, netmask string) {
	a, err := netip.ParseAddr(address)
	if netmask == "" || netmask == "default" {
		netmask = "255.255.255.255"
	}
	m, err2 := netip.ParseAddr(netmask)
	if err != nil || err2 != nil || !a.Is4() || !m.Is4() {
		r.Note(format.KeyMalformed, at, "route %q %q, expected an address and a mask", address, netmask)
		return
	}
	for bits := range 33 {
		if mask(bits) == m.String() {
			r.c.Routes = append(r.c.Routes, netip.PrefixFrom(a, bits).String())
			return
		}
	}
	r.Note(format.KeyMalformed, at, "%q is no mask", netmask)
}

func (r *reader) settle() {
	start := format.Position{File: r.file, Line: 1, Column: 1}
	for i := range r.s.Remotes {
		if r.s.Remotes[i].Port == 0 {
			r.s.Remotes[i].Port = r.port
		}
		if r.s.Remotes[i].Port == 0 {
			r.s.Remotes[i].Port = 1194
		}
		if r.s.Remotes[i].Transport == "" {
			r.s.Remotes[i].Transport = r.transport
		}
	}
	if len(r.s.Remotes) == 0 {
		r.Note(format.Unreadable, start, "no remote: this is no client's file")
		return
	}
	r.c.Server, r.c.Reconnect = r.s.Remotes[0].Address, r.endless
	if r.c.Tunnel == vpn.TunnelFull {
		r.c.Routes = []string{}
		switch {
		case r.blockIPv6:
			r.c.IPv6 = vpn.IPv6Refused
		case r.six:
			r.c.IPv6 = vpn.IPv6Carried
		}
	}
	if p, ok := r.parts["ca"]; ok {
		r.c.Authority = r.Anchored(p.text, p.at)
		r.positions[vpn.FieldAuthority] = p.at
	}
	if p, ok := r.parts["cert"]; ok {
		r.c.Identity = r.Identified(p.text, r.parts["key"].text, p.at)
		r.positions[vpn.FieldIdentity] = p.at
	}
	if !r.role {
		r.Note(format.RoleUnchecked, start, "no remote-cert-tls")
	}
	if r.redirect.Line > 0 && r.nopull.Line > 0 {
		r.Note(format.RoutesConflict, r.nopull, "%s against redirect-gateway in line %d", r.nopull.Path, r.redirect.Line)
	}
	if r.c.Name == "" { // clients go by the name of the file then
		r.c.Name = strings.TrimSuffix(filepath.Base(r.file), filepath.Ext(r.file))
	}
	r.control()
	r.signIn()
	switch {
	case r.c.Identity != nil && r.user:
		r.s.Auth = vpn.TLSCertificatePassword
	case r.c.Identity != nil:
		r.s.Auth = vpn.TLSCertificate
	case r.user:
		r.s.Auth = vpn.TLSPassword
	default:
		r.s.Auth = vpn.TLSCertificate
	}
	for _, f := range []vpn.Field{vpn.FieldAuth, vpn.FieldProtocol, vpn.FieldName, vpn.FieldTunnel, vpn.FieldRoutes, vpn.FieldDNS, vpn.FieldDomains, vpn.FieldAuthority, vpn.FieldIdentity, vpn.FieldCiphers} {
		if _, ok := r.positions[f]; !ok {
			r.positions[f] = start
		}
	}
	r.Add(format.Located{Connection: r.c, Positions: r.positions})
}

func (r *reader) control() {
	for _, kind := range []vpn.ControlKind{vpn.ControlCryptV2, vpn.ControlCrypt, vpn.ControlAuth} {
		option := controls[kind]
		p, ok := r.parts[option]
		if !ok {
			continue
		}
		tidy, sound := vpn.TidyControlKey(kind, p.text)
		if !sound && strings.TrimSpace(p.text) != "" {
			r.Note(format.ControlMalformed, p.at, "the key of the control channel has another form")
		}
		if r.s.Control != nil {
			r.Note(format.ControlTwice, p.at, "%s beside another kind", option)
			continue
		}
		r.s.Control = &vpn.ControlWrap{Kind: kind, Key: secret.New(tidy)}
		if kind == vpn.ControlAuth {
			r.s.Control.Direction = r.direction
		}
		r.Note(format.SecretClear, p.at, "the key of the control channel")
		r.positions[vpn.FieldControl] = p.at
	}
}

func (r *reader) signIn() {
	p, ok := r.parts["auth-user-pass"]
	if !ok {
		if r.user {
			r.positions[vpn.FieldLogin], r.positions[vpn.FieldPassword], r.positions[vpn.FieldPasswordMode] = r.userAt, r.userAt, r.userAt
		}
		return
	}
	lines := strings.Split(strings.ReplaceAll(p.text, "\r\n", "\n"), "\n")
	r.user = true
	r.c.Login = lines[0]
	r.positions[vpn.FieldLogin], r.positions[vpn.FieldPassword], r.positions[vpn.FieldPasswordMode] = p.at, p.at, p.at
	if len(lines) > 1 && lines[1] != "" {
		r.c.Password, r.c.PasswordMode = secret.New(lines[1]), vpn.PasswordSaved
		r.Note(format.SecretClear, p.at, "the password")
	}
}
