package ovpn

import (
	"bytes"
	"encoding/base64"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Detect tells a client file by its name or by two options that all have.
func Detect(name string, data []byte) bool {
	head := data[:min(len(data), 8192)]
	ending := strings.ToLower(filepath.Ext(name))
	return ending == ".ovpn" ||
		ending != ".json" && bytes.Contains(head, []byte("remote ")) &&
			(bytes.Contains(head, []byte("client\n")) || bytes.Contains(head, []byte("tls-client")))
}

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

	block   *vpn.Remote // of a <connection> block that is open
	blocks  []vpn.Remote
	ignored []string // options that the file itself tells clients to pass over
	pulls   bool     // the gateway may say more: pull, or client
	closed  bool     // its identity is under a passphrase
	apart   []vpn.Field
	exit    format.Position
	broken  bool // the client refuses it, and this is said
	mode    bool // it begins a TLS session: client or tls-client
	first   map[string]format.Position
	words   map[string][]string // of each option, where it stands last
}

// Read takes a client file apart, with the files that it names. It always answers; what
// is wrong is in the notes.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	r := &reader{
		file:      name,
		beside:    beside,
		parts:     map[string]inline{},
		positions: map[vpn.Field]format.Position{},
		transport: vpn.UDP,
		endless:   true,
		first:     map[string]format.Position{},
		words:     map[string][]string{},
	}
	r.s = &vpn.TLSSetting{Remotes: []vpn.Remote{}, Ciphers: []string{}}
	r.c = vpn.Connection{
		Protocol:     vpn.TLS,
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopePerson,
		Tunnel:       vpn.TunnelSplit,
		Routes:       []string{},
		DNS:          []string{},
		Domains:      []string{},
		TLS:          r.s,
	}
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
	if r.block != nil && strings.HasPrefix(trimmed, "</connection>") {
		if r.block.Address == "" {
			r.Note(format.OptionConflict, r.tagAt, "<connection> without a remote")
			r.broken = true
		} else {
			r.blocks = append(r.blocks, *r.block)
		}
		r.block = nil
		return true
	}
	if strings.HasPrefix(trimmed, "<") &&
		strings.HasSuffix(strings.TrimRight(trimmed, " \t"), ">") {
		r.tag, r.tagAt = strings.Trim(trimmed, "<> \t"), at
		if r.tag == "connection" {
			r.tag, r.block = "", &vpn.Remote{}
			return true
		}
		r.tagAt.Path = r.tag
		if !slices.Contains(
			[]string{
				"ca",
				"cert",
				"key",
				"tls-auth",
				"tls-crypt",
				"tls-crypt-v2",
				"auth-user-pass",
				"dh",
				"pkcs12",
				"extra-certs",
				"crl-verify",
				"http-proxy-user-pass",
				"peer-fingerprint",
				"verify-hash",
				"secret",
			},
			r.tag,
		) {
			r.Note(format.OptionUnknown, at, "<%s>", r.tag)
		}
		if options[r.tag] == kept {
			r.Left("<"+r.tag+">", at)
		}
		return true
	}
	words, err := format.Words(line, "#;", true)
	if err != nil {
		r.Note(format.Unreadable, at, "%s", err)
		return false
	}
	if len(words) > 0 {
		// As on a command line, options may have two dashes before them (openvpn(8), OPTIONS).
		name := strings.TrimPrefix(words[0], "--")
		at.Path = name
		r.option(at, name, words[1:])
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
	if _, again := r.first[name]; !again {
		r.first[name] = at
	}
	if options[name] != windows && !r.form(at, name, words) {
		if r.broken = true; name != "remote" {
			return
		}
	}
	r.words[name] = words
	switch name {
	case "client", "pull":
		r.pulls = true
		r.mode = r.mode || name == "client"
	case "tls-client":
		r.mode = true
	case "ignore-unknown-option":
		r.ignored = append(r.ignored, words...)
	case "setenv", "setenv-safe":
		switch word(0) {
		case "opt": // the option after it, where the client knows it
			if len(words) > 1 && options[words[1]] != removed {
				r.ignored = append(r.ignored, words[1])
				at.Path = words[1]
				r.option(at, words[1], words[2:])
			}
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
		if r.block != nil && r.block.Address != "" {
			r.Note(format.OptionConflict, at, "two remotes in one <connection>")
			return
		}
		remote := vpn.Remote{Address: word(0)}
		if r.block != nil {
			remote = *r.block
			remote.Address = word(0)
		}
		if p := word(1); p != "" {
			remote.Port = r.number(at, p, 65535)
		}
		if p := word(2); p != "" {
			remote.Transport = r.protocol(at, p)
		}
		if expected, _ := vpn.HostProblem(remote.Address); expected != "" {
			r.Note(format.KeyMalformed, at, "the remote %q, expected %s", remote.Address, expected)
		}
		if r.block != nil {
			*r.block = remote
			return
		}
		r.s.Remotes = append(r.s.Remotes, remote)
	case "port", "rport":
		if r.block != nil {
			r.block.Port = r.number(at, word(0), 65535)
			return
		}
		r.port = r.number(at, word(0), 65535)
	case "proto":
		if r.block != nil {
			r.block.Transport = r.protocol(at, word(0))
			return
		}
		r.transport = r.protocol(at, word(0))
	case "connect-retry-max":
		r.endless = false
	case "explicit-exit-notify":
		r.exit = at
	case "keepalive", "ping":
		r.s.Keepalive = r.number(at, word(0), 3600)
		place(vpn.FieldKeepalive)
	case "remote-cert-tls":
		if word(0) == "client" {
			r.Fixable(format.OptionConflict, at, "remote-cert-tls server",
				"remote-cert-tls client: the gateway's certificate is a server's")
		}
		r.role = true
		place(vpn.FieldProtocol)
	case "ns-cert-type":
		r.role = true
		r.Fixable(
			format.DirectiveOutdated,
			at,
			"remote-cert-tls "+word(0),
			"ns-cert-type; remote-cert-tls came after it",
		)
		place(vpn.FieldProtocol)
	case "tls-remote":
		r.Fixable(format.OptionUnknown, at, "verify-x509-name "+Quote(word(0))+" name",
			"tls-remote; verify-x509-name came after it")
		r.s.ServerName = word(0)
		place(vpn.FieldServerName)
	case "dev", "dev-type":
		if strings.HasPrefix(word(0), "tap") {
			r.Note(format.DeviceTap, at, "%s %s", name, word(0))
		}
	case "route-nopull":
		r.nopull = at
	case "secret":
		r.Note(
			format.DirectiveOutdated,
			at,
			"secret: one static key for everything; current clients want certificates",
		)
	case "verify-x509-name":
		place(vpn.FieldServerName)
		if word(1) == "name" {
			r.s.ServerName = word(0)
			break
		}
		r.Left(strings.TrimSpace("verify-x509-name "+word(0)+" "+word(1)), at)
		r.apart = append(r.apart, vpn.FieldServerName)
	case "tls-version-min":
		r.s.MinTLS = word(0)
		place(vpn.FieldMinTLS)
	case "data-ciphers", "ncp-ciphers":
		if name == "ncp-ciphers" {
			r.Fixable(
				format.DirectiveOutdated,
				at,
				"data-ciphers "+word(0),
				"ncp-ciphers; data-ciphers came after it",
			)
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
		for _, flag := range words {
			if !slices.Contains(redirectFlags, flag) {
				r.Note(format.OptionValue, at, "redirect-gateway has no flag %q", flag)
			}
			if flag == "!ipv4" || flag == "local" || flag == "autolocal" || flag == "block-local" ||
				flag == "bypass-dhcp" || flag == "bypass-dns" {
				r.Left("redirect-gateway "+flag, at)
			}
		}
		r.six = slices.Contains(words, "ipv6")
		r.redirect = at
		place(vpn.FieldTunnel)
		place(vpn.FieldIPv6)
	case "pull-filter":
		switch {
		case word(0) == "ignore" && strings.HasPrefix(word(1), "redirect-gateway"):
			r.nopull = at
		default:
			r.Left("pull-filter "+word(0)+" "+word(1), at)
		}
		place(vpn.FieldTunnel)
	case "block-ipv6":
		r.blockIPv6 = true
	case "route", "route-ipv6":
		place(vpn.FieldRoutes)
		hop := words[min(len(words), 2):] // gateway and metric
		if name == "route-ipv6" {
			hop = words[min(len(words), 1):]
		}
		if len(hop) > 0 && !slices.Contains(throughTunnel, hop[0]) {
			r.Left(name+" "+strings.Join(words, " "), at)
			return
		}
		if len(hop) > 1 {
			r.Left(name+" "+word(0)+", metric "+hop[1], at)
		}
		if name == "route" {
			r.route(at, word(0), word(1))
			return
		}
		if _, err := netip.ParsePrefix(word(0)); err != nil {
			r.Note(format.KeyMalformed, at, "%q, expected a network in CIDR form", word(0))
			return
		}
		r.c.Routes = append(r.c.Routes, word(0))
	case "dhcp-option":
		switch word(0) {
		case "DNS", "DNS6":
			r.c.DNS = append(r.c.DNS, word(1))
			place(vpn.FieldDNS)
		case "DOMAIN", "DOMAIN-SEARCH", "ADAPTER_DOMAIN_SUFFIX":
			r.c.Domains = append(r.c.Domains, word(1))
			place(vpn.FieldDomains)
		case "WINS",
			"NBT",
			"DISABLE-NBT",
			"PROXY_HTTP",
			"PROXY_HTTPS",
			"PROXY_BYPASS",
			"PROXY_AUTO_CONFIG_URL":
			r.Left("dhcp-option "+word(0), at)
		default:
			r.Note(format.DNSIgnored, at, "dhcp-option %s", word(0))
			r.Left("dhcp-option "+word(0), at)
		}
	case "key-direction":
		r.direction = word(0)
	case "auth-user-pass":
		r.user, r.userAt = true, at
		r.named(at, name, word(0))
	case "pkcs12":
		if word(0) != "" && word(0) != "[inline]" {
			if data, ok := r.beside.Get(base(word(0))); ok {
				r.parts[name] = inline{base64.StdEncoding.EncodeToString(data), at}
				r.Pieces = append(r.Pieces, base(word(0)))
			} else {
				r.Absent(word(0), at)
			}
		}
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
		r.Left(strings.TrimSpace(name+" "+word(0)), at)
	default:
		r.other(at, name, words)
	}
}

// throughTunnel are the words for the gateway of a route that leads through the tunnel.
var throughTunnel = []string{"vpn_gateway", "default"}

var redirectFlags = []string{
	"def1", "local", "autolocal", "bypass-dhcp", "bypass-dns", "block-local", "ipv6", "!ipv4",
}

// ownScripts are those that distributions ship beside the client, for the name servers.
var ownScripts = regexp.MustCompile(
	`^/etc/openvpn/(?:scripts/)?update-(?:resolv-conf|systemd-resolved)(?:\.sh)?$`,
)

// other says of an option that is not read what clients do with it.
func (r *reader) other(at format.Position, name string, words []string) {
	c, known := options[name]
	if known && c == local {
		return
	}
	switch {
	case c == removed && known:
		r.Fixable(format.OptionUnknown, at, "", "%s; current clients no longer know it", name)
	case !known:
		if !slices.Contains(r.ignored, name) {
			r.Note(format.OptionUnknown, at, "%s", name)
		}
	case name == "script-security" && len(words) == 1 && strings.Trim(words[0], "012") == "",
		c == program && len(words) == 1 && ownScripts.MatchString(words[0]):
		r.Left(strings.Join(append([]string{name}, words...), " "), at)
	case c == program:
		r.Note(format.RunsProgram, at, "%s; it is not imported", name)
	case c == outdated && name == "secret":
		r.Note(format.DirectiveOutdated, at,
			"secret: one static key for everything; current clients want certificates")
	case c == outdated:
		r.Fixable(format.DirectiveOutdated, at, "", "%s", name)
	case c == gateway:
		r.Note(format.OptionConflict, at, "%s is an option of gateways", name)
	case c == windows:
		if !slices.Contains(r.ignored, name) {
			r.Note(format.OptionWindows, at, "%s", name)
		}
	case c == kept:
		name = format.Shown(name, strings.Join(words[:min(1, len(words))], " "))
	}
	r.Left(name, at)
}

// together notes options that do not go together, as the client refuses them.
func (r *reader) together() {
	tcp := func(o vpn.Remote) bool { return o.Transport == vpn.TCP }
	anyTCP := slices.ContainsFunc(r.s.Remotes, tcp)
	allTCP := anyTCP && !slices.ContainsFunc(r.s.Remotes,
		func(o vpn.Remote) bool { return !tcp(o) })
	has := func(name string) bool { _, ok := r.first[name]; return ok }
	switch {
	case has("fragment") && anyTCP:
		r.Note(format.OptionConflict, r.first["fragment"], "fragment with a remote over TCP")
	case has("http-proxy") && !allTCP && len(r.blocks) == 0:
		r.Note(format.OptionConflict, r.first["http-proxy"], "http-proxy with a remote over UDP")
	}
	if r.exit.Line > 0 && anyTCP {
		r.Note(
			format.OptionOlder,
			r.exit,
			"explicit-exit-notify with a remote over TCP, before 2.6",
		)
	}
	if at, ok := r.first["lport"]; ok && has("nobind") {
		r.Note(format.OptionConflict, at, "lport with nobind")
	}
	if at, ok := r.first["auth-user-pass"]; ok && !r.pulls {
		r.Note(format.OptionConflict, at, "auth-user-pass without client or pull")
	}
	if !r.mode && !has("secret") {
		r.Note(format.OptionConflict, format.Position{File: r.file, Line: 1, Column: 1},
			"neither client nor tls-client")
	}
}

// named takes the text of a file beside into the parts.
func (r *reader) named(at format.Position, option, name string) {
	if name == "" || name == "[inline]" {
		return
	}
	if text := r.Fetch(r.beside, name, at); text != "" {
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

// protocol reads a transport: udp, tcp or tcp-client, each also with 4 or 6 for the kind of
// address.
func (r *reader) protocol(at format.Position, v string) vpn.Transport {
	switch strings.TrimRight(strings.TrimSuffix(v, "-client"), "46") {
	case "udp":
		return vpn.UDP
	case "tcp":
		return vpn.TCP
	}
	r.Note(format.OptionValue, at, "the protocol %q, expected udp or tcp-client", v)
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
		r.Note(
			format.KeyMalformed,
			at,
			"route %q %q, expected an address and a mask",
			address,
			netmask,
		)
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
	if len(r.blocks) > 0 { // the client tries the blocks alone
		r.s.Remotes = r.blocks
	}
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
	if len(r.s.Remotes) == 0 && r.broken {
		return // which is said
	}
	if len(r.s.Remotes) == 0 {
		r.Note(format.Unreadable, start, "no remote: this is no client's file")
		return
	}
	r.together()
	r.apartOptions()
	r.c.Server, r.c.Reconnect = r.s.Remotes[0].Address, r.endless
	if r.c.Tunnel == vpn.TunnelSplit && r.pulls && r.nopull.Line == 0 {
		r.c.Tunnel = vpn.TunnelPushed
	}
	if at, ok := r.first["block-ipv6"]; ok && r.c.Tunnel != vpn.TunnelFull {
		r.Left("block-ipv6", at)
	}
	if r.c.Tunnel == vpn.TunnelFull {
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
	} else {
		r.c.Identity = r.Enrolled()
	}
	if p, ok := r.parts["pkcs12"]; ok {
		r.bag(p)
	}
	if !r.role {
		r.Note(format.RoleUnchecked, start, "no remote-cert-tls")
	}
	if r.redirect.Line > 0 && r.nopull.Line > 0 {
		r.Note(
			format.RoutesConflict,
			r.nopull,
			"%s against redirect-gateway in line %d",
			r.nopull.Path,
			r.redirect.Line,
		)
	}
	if r.c.Name == "" { // clients go by the name of the file then
		r.c.Name = strings.TrimSuffix(filepath.Base(r.file), filepath.Ext(r.file))
	}
	r.control()
	r.signIn()
	switch {
	case (r.c.Identity != nil || r.closed) && r.user:
		r.s.Auth = vpn.TLSCertificatePassword
	case r.c.Identity != nil:
		r.s.Auth = vpn.TLSCertificate
	case r.user:
		r.s.Auth = vpn.TLSPassword
	default:
		r.s.Auth = vpn.TLSCertificate
	}
	for _, f := range []vpn.Field{vpn.FieldAuth, vpn.FieldProtocol, vpn.FieldName, vpn.FieldTunnel,
		vpn.FieldRoutes, vpn.FieldDNS, vpn.FieldDomains, vpn.FieldAuthority, vpn.FieldIdentity,
		vpn.FieldCiphers} {
		if _, ok := r.positions[f]; !ok {
			r.positions[f] = start
		}
	}
	apart := r.apart
	if r.closed {
		apart = append(apart, vpn.FieldIdentity)
	}
	r.Add(format.Located{Connection: r.c, Positions: r.positions, Apart: apart})
}

// bag takes certificate and key out of a PKCS#12 file, inline or beside.
func (r *reader) bag(p inline) {
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(p.text), ""))
	if err != nil {
		r.Note(format.KeyMalformed, p.at, "pkcs12: not in base64")
		return
	}
	id, err := r.Unpacked(data, secret.Text{})
	switch {
	case pki.WrongPassphrase(err):
		r.Note(format.NotYetRead, p.at, "a PKCS#12 identity whose passphrase is prompted for")
		r.Left("pkcs12, under a passphrase", p.at)
		r.closed = true
	case err != nil:
		r.Note(format.KeyMalformed, p.at, "pkcs12: %s", err)
	default:
		r.Note(format.PrivateKeyClear, p.at, "a private key")
		r.c.Identity = id
		r.positions[vpn.FieldIdentity] = p.at
		// the client takes the authorities from there (openvpn(8), --pkcs12)
		if r.c.Authority == "" {
			if chain, err := pki.Certificates(id.Certificate); err == nil && len(chain) > 1 {
				r.c.Authority = pki.Bundle(chain[1:]...)
				r.positions[vpn.FieldAuthority] = p.at
			}
		}
	}
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
			r.positions[vpn.FieldLogin] = r.userAt
			r.positions[vpn.FieldPassword] = r.userAt
			r.positions[vpn.FieldPasswordMode] = r.userAt
		}
		return
	}
	lines := strings.Split(strings.ReplaceAll(p.text, "\r\n", "\n"), "\n")
	r.user = true
	r.c.Login = lines[0]
	r.positions[vpn.FieldLogin] = p.at
	r.positions[vpn.FieldPassword] = p.at
	r.positions[vpn.FieldPasswordMode] = p.at
	if len(lines) > 1 && lines[1] != "" {
		r.c.Password, r.c.PasswordMode = secret.New(lines[1]), vpn.PasswordSaved
		r.Note(format.SecretClear, p.at, "the password")
	}
}
