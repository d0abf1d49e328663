// Package ovpn writes and reads the client files of the TLS tunnel (.ovpn), as
// openvpn(8) defines them: in one piece, as a folder with files beside, and as the one
// small file that desk phones take.
package ovpn

import (
	"fmt"
	"net/netip"
	"path"
	"strings"

	"wardicon/core/format"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

const (
	title      = ".ovpn file"
	phoneTitle = title + " for a desk phone"
	maxOption  = 250       // bytes; the daemon cuts a parameter at 256
	phoneLimit = 16 << 10  // bytes that desk phones take
	LoginFile  = "-in.txt" // login and password, beside the file
)

var protocols = []vpn.Protocol{vpn.TLS}

// Codec is the file in one piece.
var Codec = format.Codec{
	Name:      platform.OVPN,
	Title:     title,
	Protocols: protocols,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
	Write:     func(c vpn.Connection) ([]format.File, error) { return write(c, true, nil) },
}

// Folder is the file with keys and certificates beside it.
var Folder = format.Codec{
	Name:      platform.OVPNFolder,
	Title:     title + " with files beside",
	Protocols: protocols,
	Carried:   Carried,
	Detect:    func(string, []byte) bool { return false },
	Read:      Read,
	Write:     func(c vpn.Connection) ([]format.File, error) { return write(c, false, nil) },
}

// Phone is the file for desk phones: in one piece, nothing asked, not large.
var Phone = format.Codec{
	Name:      platform.PhoneOVPN,
	Title:     phoneTitle,
	Protocols: protocols,
	Carried:   carriedPhone,
	Detect:    func(string, []byte) bool { return false },
	Write:     writePhone,
	Read:      readPhone,
}

// Carried reduces a connection to what the file says. A password that is asked for is
// asked for together with the login.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Identifier, c.Scope, c.Reconnect = "", vpn.ScopePerson, whole.Reconnect
	c.Routes, c.DNS = format.FourFirst(c.Routes), format.FourFirst(c.DNS)
	if c.PasswordMode == vpn.PasswordPrompted {
		c.Login = ""
	}
	if c.Tunnel == vpn.TunnelFull &&
		(whole.IPv6 == vpn.IPv6Carried || whole.IPv6 == vpn.IPv6Refused) {
		c.IPv6 = whole.IPv6
	}
	return c
}

func carriedPhone(c vpn.Connection) vpn.Connection {
	c.Reconnect = true // a phone never gives up
	c = Carried(c)
	c.Connect = vpn.Always
	if c.TLS != nil && c.TLS.Keepalive == 0 {
		c.TLS.Keepalive = phoneKeepalive
	}
	return c
}

// readPhone reads the file as a desk phone does, which connects whenever it can.
func readPhone(name string, data []byte, beside format.Beside) format.Reading {
	r := Read(name, data, beside)
	for i := range r.Connections {
		r.Connections[i].Connection.Connect = vpn.Always
	}
	return r
}

// phoneKeepalive keeps the mapping of a home router open, in seconds: calls over SIP
// would be lost behind a closed one.
const phoneKeepalive = 15

func writePhone(c vpn.Connection) ([]format.File, error) {
	c = c.Clone()
	c.Connect, c.LoginBeside = vpn.Always, false
	if c.TLS != nil && c.TLS.Keepalive == 0 {
		c.TLS.Keepalive = phoneKeepalive
	}
	if c.NeedsPassword() && format.Ask(c).PasswordMode == vpn.PasswordPrompted {
		return nil, &format.UnfitError{
			Format:   phoneTitle,
			Field:    vpn.FieldPasswordMode,
			Found:    "a password that is prompted for",
			Expected: "a saved one, because nobody can be prompted",
		}
	}
	files, err := write(c, true, nil)
	if err == nil && len(files[0].Content) > phoneLimit {
		return nil, &format.UnfitError{
			Format: phoneTitle,
			Field:  vpn.FieldFile,
			Found:  fmt.Sprintf("%d bytes", len(files[0].Content)),
			Expected: fmt.Sprintf(
				"at most %d; shorter chains and keys make it smaller",
				phoneLimit,
			),
		}
	}
	return files, err
}

// controls are the options and tags for the ways of wrapping the control channel.
var controls = map[vpn.ControlKind]string{
	vpn.ControlAuth:    "tls-auth",
	vpn.ControlCrypt:   "tls-crypt",
	vpn.ControlCryptV2: "tls-crypt-v2",
}

// nextRemote is how long one remote is waited for before the next is tried, in seconds;
// the client's own 120 are longer than people wait.
const nextRemote = 10

// Own says where a device keeps the key that it makes itself, and the certificate that it gets.
type Own struct{ Certificate, Key string }

// WriteOwn writes the file of a device that makes its key itself: it names both, and has the CAs
// between the certificate and its root inside.
func WriteOwn(c vpn.Connection, at Own) ([]format.File, error) { return write(c, true, &at) }

type writer struct {
	strings.Builder
	own    *Own
	base   string // name of the files beside, without an ending
	inline bool
	beside []format.File
	err    error
}

func write(c vpn.Connection, inline bool, own *Own) ([]format.File, error) {
	var can []format.Feature
	if own != nil {
		can = []format.Feature{format.Enrols}
	}
	if err := format.Sound(title, c, protocols, can...); err != nil {
		return nil, err
	}
	c = format.Ask(c)
	s := c.TLS
	if len(s.Remotes) == 0 {
		return nil, &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldRemotes,
			Found:    "no remote",
			Expected: "at least one",
		}
	}
	w := &writer{base: c.Name, inline: inline, own: own}
	w.option(vpn.FieldName, "setenv", "FRIENDLY_NAME", c.Name)
	w.option(vpn.FieldUUID, "setenv", "UV_ID", strings.ToUpper(c.UUID))
	if c.Organisation != "" {
		w.option(vpn.FieldName, "setenv", "UV_ORGANISATION", c.Organisation)
	}
	w.line("client")
	w.line("dev tun")
	for _, r := range s.Remotes {
		if err := format.Host(title, vpn.FieldRemotes, r.Address); err != nil {
			return nil, err
		}
		proto := "udp"
		if r.Transport == vpn.TCP {
			proto = "tcp"
		}
		w.line(fmt.Sprintf("remote %s %d %s", r.Address, r.Port, proto))
	}
	if len(s.Remotes) > 1 {
		w.line(fmt.Sprintf("connect-timeout %d", nextRemote))
	}
	w.line("nobind")
	w.line("persist-tun")
	w.line("resolv-retry infinite")
	if !c.Reconnect && c.Connect != vpn.Always {
		w.line("connect-retry-max 3")
	}
	w.line("verb 3")
	if s.Keepalive > 0 {
		w.line(fmt.Sprintf("keepalive %d %d", s.Keepalive, 4*s.Keepalive))
	}
	w.tls(s)
	w.traffic(c)
	w.material(c)
	if w.err != nil {
		return nil, w.err
	}
	return append([]format.File{
		{
			Name: format.FileName(
				c.Name,
				".ovpn",
			),
			MediaType: "application/x-openvpn-profile",
			Private:   true,
			Purpose:   "Profile: open it with the client of the TLS tunnel",
			Content:   []byte(w.String()),
		},
	}, w.beside...), nil
}

func (w *writer) line(text string) { w.WriteString(text + "\n") }

// option writes one option with its parameters quoted.
func (w *writer) option(field vpn.Field, name string, parameters ...string) {
	line := name
	for _, p := range parameters {
		if len(p) > maxOption || len(line)+len(p) > maxOption {
			w.err = &format.UnfitError{
				Format:   title,
				Field:    field,
				Found:    fmt.Sprintf("%d bytes", len(p)),
				Expected: fmt.Sprintf("at most %d in a line", maxOption),
			}
			return
		}
		line += " " + Quote(p)
	}
	if len(line) > maxOption {
		w.err = &format.UnfitError{
			Format:   title,
			Field:    field,
			Found:    fmt.Sprintf("a line of %d bytes", len(line)),
			Expected: fmt.Sprintf("at most %d", maxOption),
		}
	}
	w.line(line)
}

func plain(r rune) bool {
	return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
		strings.ContainsRune("._:/@+-", r)
}

// Quote writes a parameter: plain where every sign is harmless, in double quotes with
// backslashes before quotes and backslashes elsewhere (openvpn(8), COMMAND LINE).
func Quote(v string) string {
	if v != "" && !strings.ContainsFunc(v, func(r rune) bool { return !plain(r) }) {
		return v
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) + `"`
}

func (w *writer) tls(s *vpn.TLSSetting) {
	w.line("remote-cert-tls server")
	if s.ServerName != "" {
		w.option(vpn.FieldServerName, "verify-x509-name", s.ServerName, "name")
	}
	if s.MinTLS != "" {
		w.option(vpn.FieldMinTLS, "tls-version-min", s.MinTLS)
	}
	if len(s.Ciphers) > 0 {
		w.line("ignore-unknown-option data-ciphers") // releases before 2.5 know only the last line
		w.option(vpn.FieldCiphers, "data-ciphers", strings.Join(s.Ciphers, ":"))
		w.option(vpn.FieldCiphers, "cipher", s.Ciphers[0])
	}
	if s.Digest != "" {
		w.option(vpn.FieldDigest, "auth", s.Digest)
	}
}

func (w *writer) traffic(c vpn.Connection) {
	if c.Tunnel == vpn.TunnelFull {
		flags := "redirect-gateway def1"
		if c.IPv6 == vpn.IPv6Carried {
			flags += " ipv6"
		}
		w.line(flags)
		if c.IPv6 == vpn.IPv6Refused {
			w.line("block-ipv6")
		}
	} else {
		if c.Tunnel == vpn.TunnelSplit {
			w.line(`pull-filter ignore "redirect-gateway"`)
		}
		for _, r := range format.FourFirst(c.Routes) {
			p, _ := netip.ParsePrefix(r) // looked at before
			if p.Addr().Is4() {
				w.line("route " + p.Addr().String() + " " + mask(p.Bits()))
			} else {
				w.line("route-ipv6 " + r)
			}
		}
	}
	for _, v := range format.FourFirst(c.DNS) {
		kind := "DNS"
		if strings.Contains(v, ":") {
			kind = "DNS6"
		}
		w.line("dhcp-option " + kind + " " + v)
	}
	for i, v := range c.Domains {
		kind := "DOMAIN"
		if i > 0 {
			kind = "DOMAIN-SEARCH"
		}
		w.option(vpn.FieldDomains, "dhcp-option", kind, v)
	}
}

func mask(bits int) string {
	m := ^uint32(0) << (32 - bits)
	if bits == 0 {
		m = 0
	}
	return netip.AddrFrom4([4]byte{byte(m >> 24), byte(m >> 16), byte(m >> 8), byte(m)}).String()
}

// material writes certificates, keys and the sign-in.
func (w *writer) material(c vpn.Connection) {
	options := map[string]string{
		format.AuthorityFile:   "ca",
		format.CertificateFile: "cert",
		format.KeyFile:         "key",
	}
	for _, f := range format.PEMFiles(c) {
		for ending, option := range options {
			if strings.HasSuffix(f.Name, ending) && (w.own == nil || option == "ca") {
				w.part(option, f, !w.inline)
			}
		}
	}
	if w.own != nil {
		w.option(vpn.FieldIdentity, "cert", w.own.Certificate)
		w.option(vpn.FieldIdentity, "key", w.own.Key)
		if above := c.Identity.Enrol.Above; above != "" {
			w.part("extra-certs", format.File{
				Name: format.FileName(w.base, "-above.pem"), MediaType: "application/x-pem-file",
				Purpose: "CAs of the device's certificate", Content: []byte(above),
			}, !w.inline)
		}
	}
	if k := c.TLS.Control; k != nil {
		key := format.File{
			Name:      format.FileName(w.base, format.ControlFile),
			MediaType: "text/plain",
			Purpose:   "Key of the control channel",
			Private:   true,
			Content:   []byte(k.Key.Reveal()),
		}
		if tidy, ok := vpn.TidyControlKey(k.Kind, k.Key.Reveal()); ok {
			key.Content = []byte(tidy)
		} else if k.Key.Reveal() != secret.Hidden {
			w.err = &format.UnfitError{
				Format:   title,
				Field:    vpn.FieldControl,
				Found:    "a key of another form",
				Expected: "a key file for " + controls[k.Kind],
			}
		}
		w.part(controls[k.Kind], key, !w.inline)
		if k.Kind == vpn.ControlAuth && k.Direction != "" {
			w.option(vpn.FieldControl, "key-direction", k.Direction)
		}
	}
	if !c.NeedsPassword() {
		return
	}
	if c.PasswordMode == vpn.PasswordPrompted {
		w.line("auth-user-pass")
		w.line("auth-nocache")
		return
	}
	for field, v := range map[vpn.Field]string{
		vpn.FieldLogin:    c.Login,
		vpn.FieldPassword: c.Password.Reveal(),
	} {
		if v == "" || strings.TrimSpace(v) != v || strings.HasPrefix(v, "<") || len(v) > 120 {
			w.err = &format.UnfitError{
				Format: title,
				Field:  field,
				Found: "nothing, a value with a leading or trailing space, with < in front, or " +
					"of more than 120 bytes",
				Expected: "a value that fits on a line of its own",
			}
		}
	}
	w.part("auth-user-pass", format.File{
		Name: format.FileName(
			w.base,
			LoginFile,
		),
		MediaType: "text/plain; charset=utf-8",
		Purpose:   "Login and password",
		Private:   true,
		Content:   []byte(c.Login + "\n" + c.Password.Reveal() + "\n"),
	}, !w.inline || c.LoginBeside)
}

// part writes a file inside, between tags, or names it.
func (w *writer) part(option string, f format.File, beside bool) {
	if beside {
		w.beside = append(w.beside, f)
		w.line(option + " " + f.Name)
		return
	}
	text := string(f.Content)
	if !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	w.line("<" + option + ">")
	w.WriteString(text)
	w.line("</" + option + ">")
}

func base(name string) string { return path.Base(strings.ReplaceAll(name, `\`, "/")) }
