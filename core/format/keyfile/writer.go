// Package keyfile writes and reads NetworkManager connection profiles in keyfile
// form (.nmconnection), as nm-settings-keyfile(5) and the documentation of the VPN
// plugins define them: one service for each protocol.
package keyfile

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/shell"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const (
	title  = "NetworkManager keyfile"
	prefix = "org.freedesktop.NetworkManager."
	folder = "/etc/NetworkManager/vpn/" // of certificates and keys
)

// services are the plugins, by protocol.
var services = map[vpn.Protocol]string{
	vpn.L2TP:  prefix + "l2tp",
	vpn.IKEv2: prefix + "strongswan",
	vpn.PPTP:  prefix + "pptp",
	vpn.SSTP:  prefix + "sstp",
	vpn.TLS:   prefix + "openvpn",
}

// Codec is the format.
var Codec = format.Codec{
	Name:      platform.Keyfile,
	Title:     title,
	Protocols: vpn.Protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

// refusals are the keys that switch a PPP method off.
var refusals = []struct {
	method suite.PPPMethod
	key    string
}{
	{
		suite.EAP,
		"refuse-eap",
	},
	{suite.MSCHAPv2, "refuse-mschapv2"},
	{suite.MSCHAP, "refuse-mschap"},
	{suite.CHAP, "refuse-chap"},
	{suite.PAP, "refuse-pap"},
}

// methods are the plugin's names for the ways of IKEv2.
var methods = map[vpn.IKEv2Auth]string{
	vpn.IKEv2MSCHAPv2:    "eap",
	vpn.IKEv2EAPTLS:      "eap-tls",
	vpn.IKEv2Certificate: "cert",
	vpn.IKEv2PSK:         "psk",
}

// kinds are the plugin's names for the ways of the TLS tunnel.
var kinds = map[vpn.TLSAuth]string{
	vpn.TLSCertificate:         "tls",
	vpn.TLSCertificatePassword: "password-tls",
	vpn.TLSPassword:            "password",
}

// controls are the keys for the ways of wrapping the control channel.
var controls = map[vpn.ControlKind]string{
	vpn.ControlAuth:    "ta",
	vpn.ControlCrypt:   "tls-crypt",
	vpn.ControlCryptV2: "tls-crypt-v2",
}

// Carried reduces a connection to what the keyfile says. PPP methods come in their
// own order and DNS servers and routes of IPv4 before those of IPv6, because the file
// keeps them apart. A keyfile belongs to the machine.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Organisation, c.Identifier, c.Scope, c.Reconnect = "", "", vpn.ScopeMachine, whole.Reconnect
	c.DNS, c.Routes = format.FourFirst(c.DNS), format.FourFirst(c.Routes)
	_, six := format.Families(slices.Concat(c.DNS, c.Routes))
	if whole.IPv6 == vpn.IPv6Carried || len(six) > 0 {
		c.IPv6 = vpn.IPv6Carried
	}
	if whole.Connect == vpn.Always {
		c.Connect, c.Reconnect = vpn.Always, true
	}
	if whole.Proxy != nil && whole.Proxy.Script != "" {
		c.Proxy = &vpn.Proxy{Script: whole.Proxy.Script, Bypass: []string{}}
	}
	if l := c.L2TP; l != nil {
		l.PPP, l.BehindNAT = format.Methods(l.PPP), false
		if l.Auth == vpn.MachineCertificate {
			l.RemoteID = whole.L2TP.RemoteID
		}
	}
	if s := c.IKEv2; s != nil {
		s.IKELifetime, s.ChildLifetime, s.DPD, s.NoMOBIKE, s.NoFragmentation = 0, 0, 0, false, false
		s.EAPOnly = false
	}
	if s := c.PPTP; s != nil {
		s.PPP, s.MPPE = format.Methods(s.PPP), format.Strengths(s.MPPE)
	}
	if s := c.SSTP; s != nil {
		s.PPP, s.ServerName = format.Methods(s.PPP), ""
	}
	return c
}

// Write makes the keyfile, the certificates beside it, and the scripts.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, vpn.Protocols); err != nil {
		return nil, err
	}
	if err := format.MainMode(title, c); err != nil {
		return nil, err
	}
	if err := format.NoMPPE56(title, c); err != nil {
		return nil, err
	}
	c = format.Ask(c)
	w := &writer{c: c}
	w.group("connection")
	w.set("id", c.Name)
	w.set("uuid", strings.ToLower(c.UUID))
	w.set("type", "vpn")
	w.set("autoconnect", "false")

	w.group("vpn")
	w.set("service-type", services[c.Protocol])
	if c.Reconnect || c.Connect == vpn.Always {
		w.set("persistent", "true")
	}
	var err error
	switch c.Protocol {
	case vpn.L2TP:
		if strings.ContainsAny(c.L2TP.RemoteID, `"\`) || strings.HasPrefix(c.L2TP.RemoteID, "%") {
			return nil, &format.UnfitError{
				Format:   title,
				Field:    vpn.FieldRemoteID,
				Found:    fmt.Sprintf("%q", c.L2TP.RemoteID),
				Expected: "an identity without quotes and backslashes that does not begin with %",
			}
		}
		w.l2tp()
	case vpn.IKEv2:
		err = w.ikev2()
	case vpn.PPTP:
		w.pptp()
	case vpn.SSTP:
		err = w.sstp()
	case vpn.TLS:
		err = w.tls()
	}
	if err != nil {
		return nil, err
	}
	w.group("vpn-secrets")
	for _, s := range w.secrets {
		w.set(s[0], s[1])
	}
	w.addresses()
	if c.Proxy != nil && c.Proxy.Script != "" {
		w.group("proxy")
		w.set("method", "1")
		w.set("pac-url", c.Proxy.Script)
	}
	main := format.FileName(c.Name, ".nmconnection")
	files := append([]format.File{
		{
			Name:      main,
			MediaType: "text/plain; charset=utf-8",
			Private:   true,
			Purpose: "Connection profile: belongs in /etc/NetworkManager/system-connections, " +
				"owner root, mode 0600",
			Content: []byte(w.String()),
		},
	}, w.beside...)
	path := "/etc/NetworkManager/system-connections/" + main
	places := []shell.Placement{{File: main, Path: path, Mode: "0600"}}
	for _, f := range w.beside {
		mode := "0644"
		if f.Private {
			mode = "0600"
		}
		places = append(places, shell.Placement{File: f.Name, Path: folder + f.Name, Mode: mode})
	}
	if c.Connect == vpn.Always {
		f := format.File{
			Name: format.FileName(
				c.Name,
				alwaysFile,
			),
			MediaType: "text/x-shellscript; charset=utf-8",
			Purpose: "Brings the connection up whenever the machine comes into a network, from " +
				"the start on",
			Content: []byte(
				strings.NewReplacer("NAME", format.FileName(c.Name, ""), "UUID",
					strings.ToLower(c.UUID)).
					Replace(always),
			),
		}
		files, places = append(
			files,
			f,
		), append(
			places,
			shell.Placement{
				File: f.Name,
				Path: "/etc/NetworkManager/dispatcher.d/90-" + f.Name,
				Mode: "0755",
			},
		)
	}
	id := shell.Quote(strings.ToLower(c.UUID))
	return append(files, shell.Scripts(shell.Job{
		Connection: c.Name,
		ID:         c.UUID,
		Placements: places,
		Apply: []string{
			"chown root " + shell.Quote(path),
			"nmcli connection load " + shell.Quote(path),
			`[ "$(nmcli -g connection.uuid connection show uuid ` + id + `)" = ` + id +
				` ] || { echo "NetworkManager does not have the connection." >&2; exit 1; }`,
		},
		Revoke: []string{"nmcli connection delete uuid " + id + " > /dev/null 2>&1 || true"},
		Done:   "The connection is set up. It stands in the list of connections.",
	}, files)...), nil
}

const alwaysFile = "-always.sh"

// always is what NetworkManager's dispatcher runs (NetworkManager-dispatcher(8)): a
// connection of the kind VPN is never brought up by itself.
const always = `#!/bin/sh
# Brings the connection NAME up whenever the machine has come into a network.
[ "$2" = up ] || exit 0
case $1 in lo | tun* | ppp* | ipsec* | nm-xfrm*) exit 0 ;; esac
[ "${CONNECTION_UUID:-}" != UUID ] || exit 0
case $(nmcli -g GENERAL.STATE connection show uuid UUID) in activat*) exit 0 ;; esac
nmcli --wait 0 connection up uuid UUID > /dev/null 2>&1 &
exit 0
`

// writer is a keyfile in the making.
type writer struct {
	file
	c       vpn.Connection
	beside  []format.File
	secrets [][2]string
}

// password writes how the password is kept.
func (w *writer) password() {
	if w.c.PasswordMode == vpn.PasswordSaved {
		w.set("password-flags", "0")
		w.secrets = append(w.secrets, [2]string{"password", w.c.Password.Reveal()})
	} else {
		w.set("password-flags", "2") // never stored, always asked for
	}
}

func (w *writer) refuse(methods []suite.PPPMethod) {
	for _, r := range refusals {
		if !slices.Contains(methods, r.method) {
			w.set(r.key, "yes")
		}
	}
}

// files sets the paths of authority and identity under a plugin's keys.
func (w *writer) files(authority, certificate, key string) {
	for _, f := range format.PEMFiles(w.c) {
		for ending, name := range map[string]string{
			format.AuthorityFile:   authority,
			format.CertificateFile: certificate,
			format.KeyFile:         key,
		} {
			if strings.HasSuffix(f.Name, ending) {
				w.set(name, folder+f.Name)
			}
		}
		w.beside = append(w.beside, f)
	}
}

func (w *writer) l2tp() {
	l := w.c.L2TP
	w.set("gateway", w.c.Server)
	w.set("user", w.c.Login)
	w.password()
	w.set("user-auth-type", "password")
	w.refuse(l.PPP)
	w.set("ipsec-enabled", "yes")
	if l.Auth == vpn.MachineCertificate {
		w.set("machine-auth-type", "tls")
		w.files("machine-ca", "machine-cert", "machine-key")
		if l.RemoteID != "" {
			w.set(
				"ipsec-remote-id",
				`"`+l.RemoteID+`"`,
			) // the plugin writes it to ipsec.conf as it is
		}
	} else {
		w.set("machine-auth-type", "psk")
		w.files("machine-ca", "machine-cert", "machine-key")
	}
	w.set("ipsec-psk-flags", "0")
	if psk := l.PSK.Reveal(); psk != "" {
		// The plugin takes what follows 0s as base64: no sign in the key can go astray.
		w.secrets = append(
			[][2]string{{"ipsec-psk", "0s" + base64.StdEncoding.EncodeToString([]byte(psk))}},
			w.secrets...)
	}
	if l.Group != "" {
		w.set("ipsec-group-name", l.Group)
	}
	if len(l.IKE) > 0 {
		w.set("ipsec-ike", proposals(l.IKE, ","))
	}
	if len(l.ESP) > 0 {
		w.set("ipsec-esp", proposals(l.ESP, ","))
	}
}

// minPSK is the shortest pre-shared key that the plugin for IKEv2 takes, in bytes.
const minPSK = 20

func (w *writer) ikev2() error {
	s := w.c.IKEv2
	w.set("address", w.c.Server)
	w.set("method", methods[s.Auth])
	switch {
	case s.Auth.NeedsPassword():
		w.set("user", w.c.Login)
		w.password()
	case s.Auth == vpn.IKEv2PSK:
		if key := s.PSK.Reveal(); len(key) < minPSK && key != secret.Hidden {
			return &format.UnfitError{
				Format: title,
				Field:  vpn.FieldPSK,
				Found:  fmt.Sprintf("a key of %d bytes", len(key)),
				Expected: fmt.Sprintf(
					"at least %d: the plugin for IKEv2 refuses shorter ones",
					minPSK,
				),
			}
		}
		w.set("password-flags", "0")
		w.secrets = append(w.secrets, [2]string{"password", s.PSK.Reveal()})
	default:
		w.set("cert-source", "file")
	}
	w.files("certificate", "usercert", "userkey")
	w.set("remote-identity", s.RemoteID)
	if s.LocalID != "" {
		w.set("local-identity", s.LocalID)
	}
	w.set("virtual", "yes")
	w.set("encap", "no")
	w.set("ipcomp", "no")
	if len(s.IKE)+len(s.ESP) > 0 {
		w.set("proposal", "yes")
		ike := make([]string, len(s.IKE))
		for i, v := range s.IKE {
			p, _ := suite.Parse(v) // looked at before
			ike[i] = p.ForIKE().String()
		}
		w.set("ike", strings.Join(ike, ";"))
		w.set("esp", strings.Join(s.ESP, ";"))
	}
	return nil
}

func (w *writer) pptp() {
	w.set("gateway", w.c.Server)
	w.set("user", w.c.Login)
	w.password()
	w.refuse(w.c.PPTP.PPP)
	switch strengths := format.Strengths(w.c.PPTP.MPPE); {
	case len(strengths) == 2:
		w.set("require-mppe", "yes")
	case len(strengths) == 1:
		w.set("require-mppe-"+string(strengths[0]), "yes")
	}
	if w.c.PPTP.Stateful {
		w.set("mppe-stateful", "yes")
	}
}

func (w *writer) sstp() error {
	if err := format.Host(title, vpn.FieldServer, w.c.Server); err != nil {
		return err
	}
	w.set("connection-type", "password")
	w.set("gateway", vpn.JoinPort(w.c.Server, w.c.SSTP.Port))
	w.set("user", w.c.Login)
	w.password()
	w.refuse(w.c.SSTP.PPP)
	w.files("ca-cert", "tls-user-cert", "tls-user-key")
	w.set("ignore-cert-warn", "no")
	return nil
}

func (w *writer) tls() error {
	s := w.c.TLS
	var remotes []string
	for _, r := range s.Remotes {
		if err := format.Host(title, vpn.FieldRemotes, r.Address); err != nil {
			return err
		}
		proto := "udp"
		if r.Transport == vpn.TCP {
			proto = "tcp"
		}
		remotes = append(remotes, vpn.JoinPort(r.Address, r.Port)+":"+proto)
	}
	w.set("connection-type", kinds[s.Auth])
	w.set("dev", "tun")
	w.set("remote", strings.Join(remotes, ", "))
	if s.Auth.NeedsPassword() {
		w.set("username", w.c.Login)
		w.password()
	}
	w.files("ca", "cert", "key")
	if s.Auth.NeedsIdentity() {
		w.set("cert-pass-flags", "4") // the key has no passphrase
	}
	if k := s.Control; k != nil {
		f := format.File{
			Name:      format.FileName(w.c.Name, format.ControlFile),
			MediaType: "text/plain",
			Purpose:   "Key of the control channel",
			Private:   true,
			Content:   []byte(k.Key.Reveal()),
		}
		w.beside = append(w.beside, f)
		w.set(controls[k.Kind], folder+f.Name)
		if k.Kind == vpn.ControlAuth && k.Direction != "" {
			w.set("ta-dir", k.Direction)
		}
	}
	for _, option := range [][2]string{{"data-ciphers", strings.Join(s.Ciphers, ":")},
		{"auth", s.Digest}, {"tls-version-min", s.MinTLS}} {
		if option[1] != "" {
			w.set(option[0], option[1])
		}
	}
	w.set("remote-cert-tls", "server")
	if s.ServerName != "" {
		w.set("verify-x509-name", "name:"+s.ServerName)
	}
	if s.Keepalive > 0 {
		w.set("ping", fmt.Sprint(s.Keepalive))
		w.set("ping-restart", fmt.Sprint(4*s.Keepalive))
	}
	return nil
}

func (w *writer) addresses() {
	dns4, dns6 := format.Families(w.c.DNS)
	routes := w.c.Routes
	if w.c.Tunnel == vpn.TunnelFull {
		routes = nil
	}
	routes4, routes6 := format.Families(routes)
	w.address("ipv4", "auto", dns4, routes4, w.c.Domains, w.c.Tunnel)
	method := "ignore" // without IPv6 values the plugin's own choice stands
	if len(dns6)+len(routes6) > 0 || w.c.IPv6 == vpn.IPv6Carried {
		method = "auto"
	}
	w.address("ipv6", method, dns6, routes6, nil, w.c.Tunnel)
}

// proposals writes a list in the dialect that the plugin hands on to the IKE daemon.
// The sign for "these and no others" is left off: one of the daemons does not know it.
func proposals(list []string, separator string) string {
	names := make([]string, len(list))
	for i, text := range list {
		p, _ := suite.Parse(text) // looked at before
		names[i] = p.In(suite.IPsecConf)
	}
	return strings.Join(names, separator)
}

// file is a key-value text (GLib key-value file format).
type file struct{ strings.Builder }

func (f *file) group(name string) {
	if f.Len() > 0 {
		f.WriteByte('\n')
	}
	f.WriteString("[" + name + "]\n")
}

func (f *file) set(key, value string) { f.WriteString(key + "=" + escape(value) + "\n") }

func (f *file) list(key string, values []string) {
	if len(values) == 0 {
		return
	}
	f.WriteString(key + "=")
	for _, v := range values {
		f.WriteString(strings.ReplaceAll(escape(v), ";", `\;`) + ";")
	}
	f.WriteByte('\n')
}

func (f *file) address(group, method string, dns, routes, domains []string, tunnel vpn.Tunnel) {
	f.group(group)
	f.set("method", method)
	f.list("dns", dns)
	f.list("dns-search", domains)
	for i, r := range routes {
		f.set(fmt.Sprintf("route%d", i+1), r)
	}
	f.set("never-default", fmt.Sprint(tunnel == vpn.TunnelSplit))
}

// escape writes a value so that GLib reads it back as it is: backslashes doubled,
// blanks at the ends as \s (a reader may strip them).
func escape(v string) string {
	v = strings.ReplaceAll(v, `\`, `\\`)
	trimmed := strings.Trim(v, " ")
	if trimmed == "" {
		return strings.Repeat(`\s`, len(v))
	}
	start := strings.Index(v, trimmed)
	return strings.Repeat(`\s`, start) + trimmed + strings.Repeat(`\s`, len(v)-start-len(trimmed))
}
