package keyfile

import (
	"encoding/base64"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/format/ovpn"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// places says where each field stands, by protocol; the empty protocol holds for all.
var places = map[vpn.Protocol]map[vpn.Field][2]string{
	"": {
		vpn.FieldName: {
			"connection",
			"id",
		},
		vpn.FieldUUID:   {"connection", "uuid"},
		vpn.FieldServer: {"vpn", "gateway"},
		vpn.FieldLogin:  {"vpn", "user"},
		vpn.FieldPassword: {
			"vpn-secrets",
			"password",
		},
		vpn.FieldPasswordMode: {"vpn", "password-flags"},
		vpn.FieldDNS:          {"ipv4", "dns"},
		vpn.FieldDomains:      {"ipv4", "dns-search"},
		vpn.FieldRoutes: {
			"ipv4",
			"route1",
		},
		vpn.FieldTunnel:   {"ipv4", "never-default"},
		vpn.FieldPPP:      {"vpn", "service-type"},
		vpn.FieldProtocol: {"vpn", "service-type"},
	},
	vpn.L2TP: {
		vpn.FieldPSK: {
			"vpn-secrets",
			"ipsec-psk",
		},
		vpn.FieldIKE:  {"vpn", "ipsec-ike"},
		vpn.FieldESP:  {"vpn", "ipsec-esp"},
		vpn.FieldAuth: {"vpn", "machine-auth-type"},
		vpn.FieldAuthority: {
			"vpn",
			"machine-ca",
		},
		vpn.FieldIdentity: {"vpn", "machine-cert"},
		vpn.FieldGroup:    {"vpn", "ipsec-group-name"},
	},
	vpn.IKEv2: {
		vpn.FieldServer: {
			"vpn",
			"address",
		},
		vpn.FieldPSK:  {"vpn-secrets", "password"},
		vpn.FieldIKE:  {"vpn", "ike"},
		vpn.FieldESP:  {"vpn", "esp"},
		vpn.FieldAuth: {"vpn", "method"},
		vpn.FieldAuthority: {
			"vpn",
			"certificate",
		},
		vpn.FieldIdentity: {"vpn", "usercert"},
		vpn.FieldLocalID:  {"vpn", "local-identity"},
		vpn.FieldRemoteID: {"vpn", "remote-identity"},
	},
	vpn.PPTP: {vpn.FieldMPPE: {"vpn", "require-mppe-128"}},
	vpn.SSTP: {vpn.FieldPort: {"vpn", "gateway"}, vpn.FieldAuthority: {"vpn", "ca-cert"}},
	vpn.TLS: {
		vpn.FieldServer: {
			"vpn",
			"remote",
		},
		vpn.FieldRemotes:   {"vpn", "remote"},
		vpn.FieldLogin:     {"vpn", "username"},
		vpn.FieldAuth:      {"vpn", "connection-type"},
		vpn.FieldAuthority: {"vpn", "ca"},
		vpn.FieldIdentity: {
			"vpn",
			"cert",
		},
		vpn.FieldControl:    {"vpn", "ta"},
		vpn.FieldCiphers:    {"vpn", "data-ciphers"},
		vpn.FieldDigest:     {"vpn", "auth"},
		vpn.FieldMinTLS:     {"vpn", "tls-version-min"},
		vpn.FieldServerName: {"vpn", "verify-x509-name"},
		vpn.FieldKeepalive:  {"vpn", "ping"},
	},
}

func (r *reader) settle() {
	start := format.Position{File: r.file, Line: 1, Column: 1}
	if len(r.groups["connection"]) == 0 {
		r.Note(format.Unreadable, start, "no group [connection]")
		return
	}
	// Without a type NetworkManager takes the one whose group is there.
	kind := r.text("connection", "type")
	if kind == "" && r.text("vpn", "service-type") != "" {
		kind = "vpn"
	}
	bare := kind == "" && r.groups["vpn"] != nil
	if format.Meant(kind, []string{"vpn"}) != "" || bare {
		r.Note(format.KeyMalformed, r.where("connection", "type"), "type %q, expected vpn", kind)
		return
	}
	if kind != "vpn" {
		r.Note(format.Unrelated, r.where("connection", "type"), "a connection of type %q", kind)
		return
	}
	c := vpn.Connection{
		Name: r.text(
			"connection",
			"id",
		),
		UUID:  strings.ToUpper(r.text("connection", "uuid")),
		Scope: vpn.ScopeMachine,
		Server: r.text(
			"vpn",
			"gateway",
		),
		PasswordMode: vpn.PasswordPrompted,
		Tunnel:       vpn.TunnelFull,
		Reconnect:    r.yes("vpn", "persistent"),
		DNS: append(
			r.list("ipv4", "dns"),
			r.list("ipv6", "dns")...),
		Domains: append(r.list("ipv4", "dns-search"), r.list("ipv6", "dns-search")...),
		Routes:  r.routes("ipv4"),
	}
	if _, always := r.beside.Get(strings.TrimSuffix(r.file, ".nmconnection") + alwaysFile); always {
		c.Connect = vpn.Always
	}
	login := "user"
	service := r.text("vpn", "service-type")
	r.plugin(strings.TrimPrefix(service, servicePrefix))
	switch s := r.text("vpn", "service-type"); s {
	case services[vpn.L2TP]:
		c.Protocol = vpn.L2TP
		r.l2tp(&c)
	case services[vpn.IKEv2]:
		c.Protocol = vpn.IKEv2
		r.ikev2(&c)
	case services[vpn.PPTP]:
		c.Protocol = vpn.PPTP
		r.pptp(&c)
	case services[vpn.SSTP]:
		c.Protocol = vpn.SSTP
		r.sstp(&c)
	case services[vpn.TLS]:
		c.Protocol, login = vpn.TLS, "username"
		r.tls(&c)
	case "":
		r.Note(
			format.KeyMalformed,
			r.where("vpn", "service-type"),
			"no service-type in [vpn]: NetworkManager does not know which kind of VPN this is",
		)
		return
	default:
		all := slices.Collect(maps.Values(services))
		if right := format.Meant(s, all); right != "" {
			r.Note(
				format.KeyMalformed,
				r.where("vpn", "service-type"),
				"service %q, expected %s",
				s,
				right,
			)
		} else {
			r.Note(format.NotYetRead, r.where("vpn", "service-type"), "service %q", s)
		}
		r.Left("a connection of the service "+s, r.where("vpn", "service-type"))
		return
	}
	r.methods()
	if id := r.text("connection", "uuid"); len(id) != 36 || uuid.Validate(id) != nil {
		r.Note(format.KeyMalformed, r.where("connection", "uuid"), "uuid is not a UUID")
	}
	if r.text("connection", "permissions") != "" {
		c.Scope = vpn.ScopePerson
	}
	if r.yes("ipv4", "never-default") {
		c.Tunnel = vpn.TunnelSplit
	}
	r.yes("ipv6", "never-default")
	routes := r.routes("ipv6")
	switch method := r.text("ipv6", "method"); {
	case method == "disabled" || method == "ignore":
		for _, route := range routes {
			r.Left("the route "+route+" where IPv6 is "+method, r.where("ipv6", "method"))
		}
	default:
		c.Routes = append(c.Routes, routes...)
		// Without a method NetworkManager takes auto.
		if _, six := format.Families(c.DNS); method == "auto" || len(six)+len(routes) > 0 {
			c.IPv6 = vpn.IPv6Carried
		}
	}
	if script := r.text("proxy", "pac-url"); script != "" {
		c.Proxy = &vpn.Proxy{Script: script, Bypass: []string{}}
	}
	if c.NeedsPassword() {
		c.Login = r.text("vpn", login)
		if password, ok := r.get("vpn-secrets", "password"); ok {
			c.Password, c.PasswordMode = secret.New(
				r.text("vpn-secrets", "password"),
			), vpn.PasswordSaved
			r.Note(format.SecretClear, password.at, "the password")
		}
	}
	positions := map[vpn.Field]format.Position{}
	for _, p := range []vpn.Protocol{"", c.Protocol} {
		for field, key := range places[p] {
			positions[field] = r.where(key[0], key[1])
		}
	}
	r.Add(format.Located{Connection: c, Positions: positions, Apart: r.apart})
}

// servicePrefix begins the names of the plugins' services.
const servicePrefix = "org.freedesktop.NetworkManager."

// methods holds what NetworkManager itself reads to its words (nm-settings-keyfile(5)); a word that
// it does not know makes it refuse the file.
func (r *reader) methods() {
	for _, group := range []string{"ipv4", "ipv6"} {
		words := []string{"auto", "manual", "link-local", "shared", "disabled"}
		if group == "ipv6" {
			words = append(words, "dhcp", "ignore")
		}
		word := r.text(group, "method")
		if word != "" && !slices.Contains(words, word) {
			r.Note(
				format.OptionValue,
				r.where(group, "method"),
				"method=%s in [%s], expected %s",
				word,
				group,
				format.Choice(words),
			)
		}
		r.excluded(group, word)
	}
}

// excluded tells of keys that do not go with the method of their group: NetworkManager refuses the
// whole file (nm-settings-keyfile(5), ipv4.method and ipv6.method).
func (r *reader) excluded(group, method string) {
	none := []string{}
	switch {
	case method == "manual":
		if r.first(group, "address") == "" {
			r.Note(format.OptionConflict, r.where(group, "method"),
				"method=manual in [%s] and no address1", group)
		}
	case method == "shared" && group == "ipv4":
		none = []string{"dns", "dns-search"}
	case slices.Contains([]string{"disabled", "ignore", "link-local"}, method):
		none = []string{"dns", "dns-search", "address"}
	}
	for _, name := range none {
		if key := r.first(group, name); key != "" {
			r.Note(format.OptionConflict, r.where(group, key),
				"%s in [%s], whose method is %s", key, group, method)
		}
	}
}

// first finds the key of a list that has values, which is written in the plural and with a number
// as well.
func (r *reader) first(group, name string) string {
	for _, key := range []string{name, name + "1", name + "es", name + "es1"} {
		if v, ok := r.groups[group][key]; ok && strings.Trim(v.raw, "; ") != "" {
			return key
		}
	}
	return ""
}

// pem reads the files that three keys name.
func (r *reader) pem(c *vpn.Connection, authority, certificate, key string) {
	fetch := func(name string) string {
		return r.Fetch(r.beside, r.text("vpn", name), r.where("vpn", name))
	}
	c.Authority = r.Anchored(fetch(authority), r.where("vpn", authority))
	if cert, own := fetch(certificate), fetch(key); cert != "" && own != "" {
		c.Identity = r.Identified(cert, own, r.where("vpn", certificate))
	}
}

func (r *reader) ppp() []suite.PPPMethod {
	list := []suite.PPPMethod{}
	for _, refusal := range refusals {
		if !r.yes("vpn", refusal.key) {
			list = append(list, refusal.method)
		}
	}
	return list
}

func (r *reader) l2tp(c *vpn.Connection) {
	if !r.yes("vpn", "ipsec-enabled") {
		r.Note(
			format.Unprotected,
			r.where("vpn", "ipsec-enabled"),
			"L2TP without IPsec; expected ipsec-enabled=yes",
		)
		return
	}
	l := &vpn.L2TPSetting{
		Auth:        vpn.MachinePSK,
		PPP:         r.ppp(),
		IKE:         r.proposals("ipsec-ike", ","),
		ESP:         r.proposals("ipsec-esp", ","),
		L2TPOptions: vpn.L2TPOptions{Group: r.text("vpn", "ipsec-group-name")},
	}
	c.L2TP = l
	if r.text("vpn", "machine-auth-type") == "tls" {
		l.Auth, l.RemoteID = vpn.MachineCertificate, strings.Trim(
			r.text("vpn", "ipsec-remote-id"),
			`"`,
		)
	}
	r.pem(c, "machine-ca", "machine-cert", "machine-key")
	group := "vpn-secrets"
	if _, ok := r.get(group, "ipsec-psk"); !ok {
		group = "vpn" // where older releases of the plugin kept it
	}
	v, ok := r.get(group, "ipsec-psk")
	if !ok {
		return
	}
	r.Note(format.SecretClear, v.at, "the pre-shared key")
	psk := r.text(group, "ipsec-psk")
	if encoded, is := strings.CutPrefix(psk, "0s"); is {
		data, err := base64.StdEncoding.DecodeString(encoded)
		if err != nil || !utf8.Valid(data) {
			r.Note(
				format.KeyMalformed,
				v.at,
				"what follows 0s in ipsec-psk is not base64 of a text",
			)
		}
		psk = string(data)
	}
	l.PSK = secret.New(psk)
}

func (r *reader) ikev2(c *vpn.Connection) {
	s := &vpn.IKEv2Setting{
		LocalID:  r.text("vpn", "local-identity"),
		RemoteID: r.text("vpn", "remote-identity"),
		IKE:      r.proposals("ike", ";"),
		ESP:      r.proposals("esp", ";"),
	}
	c.IKEv2, c.Server = s, r.text("vpn", "address")
	if r.text("vpn", "proposal") == "no" && len(s.IKE)+len(s.ESP) > 0 {
		r.Note(format.ProposalIgnored, r.where("vpn", "proposal"), "proposal=no beside ike or esp")
	}
	if !r.yes("vpn", "virtual") {
		r.Note(format.AddressLacking, r.where("vpn", "virtual"), "virtual=%s, expected yes",
			r.text("vpn", "virtual"))
	}
	for _, network := range r.list("vpn", "remote-ts") {
		if _, err := netip.ParsePrefix(network); err != nil {
			r.Note(
				format.KeyMalformed,
				r.where("vpn", "remote-ts"),
				"remote-ts %q, expected a network "+
					"in CIDR form",
				network,
			)
			continue
		}
		r.Left("remote-ts "+network, r.where("vpn", "remote-ts"))
	}
	for _, one := range s.IKE {
		if p, err := suite.Parse(one); err == nil && p.LacksPRF() {
			r.Note(format.PRFMissing, r.where("vpn", "ike"), "%s", one)
		}
	}
	method := r.text("vpn", "method")
	for auth, name := range methods {
		if name == method ||
			auth == vpn.IKEv2Certificate &&
				slices.Contains([]string{"key", "agent", "smartcard"}, method) {
			s.Auth = auth
		}
	}
	if s.Auth == "" {
		r.Note(
			format.KeyMalformed,
			r.where("vpn", "method"),
			"method is %q, expected eap, eap-tls, cert or psk",
			method,
		)
	}
	r.pem(c, "certificate", "usercert", "userkey")
	if v, ok := r.get("vpn-secrets", "password"); ok && s.Auth == vpn.IKEv2PSK {
		s.PSK = secret.New(r.text("vpn-secrets", "password"))
		if n := len(s.PSK.Reveal()); n > 0 && n < leastPSK {
			r.Note(
				format.SecretRefused,
				v.at,
				"%d characters, and the plugin takes no fewer than %d",
				n,
				leastPSK,
			)
		}
		r.Note(format.SecretClear, v.at, "the pre-shared key")
	}
}

// leastPSK is the shortest pre-shared key that the plugin for IKEv2 takes
// (NetworkManager-strongswan 1.5, "pre-shared key is too short").
const leastPSK = 20

func (r *reader) pptp(c *vpn.Connection) {
	c.PPTP = &vpn.PPTPSetting{
		PPP:         r.ppp(),
		MPPE:        []suite.MPPE{},
		PPTPOptions: vpn.PPTPOptions{Stateful: r.yes("vpn", "mppe-stateful")},
	}
	both := r.yes("vpn", "require-mppe")
	for _, m := range []suite.MPPE{"128", "40"} {
		if r.yes("vpn", "require-mppe-"+string(m)) || both {
			c.PPTP.MPPE = append(c.PPTP.MPPE, m)
		}
	}
}

func (r *reader) sstp(c *vpn.Connection) {
	c.SSTP = &vpn.SSTPSetting{Port: 443, PPP: r.ppp()}
	if host, port, ok := vpn.SplitPort(c.Server); ok {
		c.Server, c.SSTP.Port = host, port
	}
	r.pem(c, "ca-cert", "tls-user-cert", "tls-user-key")
	if r.yes("vpn", "ignore-cert-warn") {
		r.Fixable(
			format.CheckSwitchedOff,
			r.where("vpn", "ignore-cert-warn"),
			"ignore-cert-warn=no",
			"ignore-cert-warn=yes",
		)
	}
}

func (r *reader) tls(c *vpn.Connection) {
	s := &vpn.TLSSetting{
		Remotes: []vpn.Remote{},
		Ciphers: []string{},
		TLSOptions: vpn.TLSOptions{
			Digest: r.text("vpn", "auth"),
			MinTLS: r.text("vpn", "tls-version-min"),
		},
	}
	c.TLS = s
	for entry := range strings.SplitSeq(r.text("vpn", "remote"), ",") {
		if remote, ok := splitRemote(strings.TrimSpace(entry)); ok {
			s.Remotes = append(s.Remotes, remote)
		} else {
			r.Note(
				format.KeyMalformed,
				r.where("vpn", "remote"),
				"the remote %q, expected host:port:protocol",
				entry,
			)
			host, _, _ := strings.Cut(strings.TrimSpace(entry), ":")
			s.Remotes = append(s.Remotes, vpn.Remote{Address: host, Port: 1194, Transport: vpn.UDP})
		}
	}
	if len(s.Remotes) > 0 {
		c.Server = s.Remotes[0].Address
	}
	kind := r.text("vpn", "connection-type")
	for auth, name := range kinds {
		if name == kind {
			s.Auth = auth
		}
	}
	if s.Auth == "" {
		r.Note(
			format.KeyMalformed,
			r.where("vpn", "connection-type"),
			"connection-type is %q, expected tls, password-tls or password",
			kind,
		)
		s.Auth = vpn.TLSPassword
	}
	r.pem(c, "ca", "cert", "key")
	r.tunnelOptions()
	for kind, key := range controls {
		if name := r.text("vpn", key); name != "" {
			if text := r.Fetch(r.beside, name, r.where("vpn", key)); text != "" {
				tidy, ok := vpn.TidyControlKey(kind, text)
				if !ok {
					r.Note(
						format.KeyMalformed,
						r.where("vpn", key),
						"the key of the control channel has another form",
					)
				}
				s.Control = &vpn.ControlWrap{Kind: kind, Key: secret.New(tidy)}
				r.Note(format.SecretClear, r.where("vpn", key), "the key of the control channel")
				if kind == vpn.ControlAuth {
					s.Control.Direction = r.text("vpn", "ta-dir")
				}
			}
		}
	}
	if list := r.text("vpn", "data-ciphers"); list != "" {
		s.Ciphers = strings.Split(list, ":")
	} else if one := r.text("vpn", "cipher"); one != "" {
		s.Ciphers = []string{one}
	}
	check := r.text("vpn", "verify-x509-name")
	if name, ok := strings.CutPrefix(check, "name:"); ok {
		s.ServerName = name
	} else if check != "" {
		r.Left("verify-x509-name="+check, r.where("vpn", "verify-x509-name"))
		r.apart = append(r.apart, vpn.FieldServerName)
	}
	n, _ := strconv.Atoi(r.text("vpn", "ping"))
	s.Keepalive = max(n, 0)
}

// compressing are the words that switch compression on, of either kind.
var compressing = []string{"yes", "adaptive", "lzo", "lz4", "lz4-v2"}

// tunnelOptions holds what the plugin hands to the client to the client's own words.
func (r *reader) tunnelOptions() {
	note := func(kind format.NoteKind, key, found string, args ...any) {
		r.Note(kind, r.where("vpn", key), found, args...)
	}
	for _, key := range []string{"cipher", "data-ciphers", "tls-cipher"} {
		if list := r.text("vpn", key); list != "" {
			if fault := ovpn.Refused(key, list); fault != "" {
				note(format.OptionValue, key, "%s", fault)
			}
		}
	}
	if auth := r.text("vpn", "auth"); auth != "" && !ovpn.KnownDigest(auth) {
		kind := format.KeyUnknown
		if r.text("vpn", "ta") != "" {
			kind = format.OptionValue
		}
		note(kind, "auth", "auth %q, a digest that the client does not know", auth)
	}
	if r.text("vpn", "remote-cert-tls") == "client" {
		r.Fixable(
			format.OptionConflict,
			r.where("vpn", "remote-cert-tls"),
			"remote-cert-tls=server",
			"remote-cert-tls=client: the gateway's certificate is a server's",
		)
	}
	kind, _, typed := strings.Cut(r.text("vpn", "verify-x509-name"), ":")
	if typed && !slices.Contains([]string{"name", "subject", "name-prefix"}, kind) {
		note(format.OptionValue, "verify-x509-name", "verify-x509-name of the kind %q", kind)
	}
	if r.text("vpn", "dev-type") == "tap" || strings.HasPrefix(r.text("vpn", "dev"), "tap") {
		note(format.DeviceTap, "dev", "dev=%s", r.text("vpn", "dev"))
	}
	for _, key := range []string{"comp-lzo", "compress"} {
		if word := r.text("vpn", key); slices.Contains(compressing, word) {
			r.Fixable(format.TunnelCompressed, r.where("vpn", key), "", "%s=%s", key, word)
			r.Left(key+"="+word, r.where("vpn", key))
		}
	}
	if _, ok := r.groups["vpn"]["keysize"]; ok {
		note(format.OptionUnknown, "keysize", "keysize; current clients no longer know it")
		r.Left("keysize", r.where("vpn", "keysize"))
	}
	udp := r.text("vpn", "proto-tcp") != "yes" && !strings.Contains(r.text("vpn", "remote"), ":tcp")
	if r.text("vpn", "proxy-type") == "http" && udp {
		note(format.OptionConflict, "proxy-type", "an HTTP proxy with a remote over UDP")
		r.Left("proxy-type=http", r.where("vpn", "proxy-type"))
	}
	if kinds := slices.DeleteFunc([]string{"ta", "tls-crypt", "tls-crypt-v2"},
		func(key string) bool { return r.text("vpn", key) == "" }); len(kinds) > 1 {
		note(format.ControlTwice, kinds[1], "%s beside another kind", kinds[1])
	}
}

// splitRemote splits host:port:protocol; port and protocol may be left out.
func splitRemote(entry string) (vpn.Remote, bool) {
	r := vpn.Remote{Port: 1194, Transport: vpn.UDP}
	for _, t := range []string{"udp", "tcp", "udp4", "tcp4", "udp6", "tcp6", "tcp-client"} {
		if rest, ok := strings.CutSuffix(entry, ":"+t); ok {
			entry, r.Transport = rest, vpn.Transport(t[:3])
			break
		}
	}
	if host, port, ok := vpn.SplitPort(entry); ok {
		r.Address, r.Port = host, port
		return r, true
	}
	expected, _ := vpn.HostProblem(entry)
	r.Address = entry
	return r, expected == ""
}

func (r *reader) proposals(key, separator string) []string {
	list := []string{}
	v, ok := r.get("vpn", key)
	if !ok {
		return list
	}
	for text := range strings.SplitSeq(strings.TrimSuffix(r.text("vpn", key), "!"), separator) {
		if text == "" {
			continue
		}
		p, err := suite.Parse(text)
		if err != nil {
			r.Note(format.KeyMalformed, v.at, "%s", err)
			continue
		}
		list = append(list, p.String())
	}
	return list
}
