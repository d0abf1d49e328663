package vpn

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
)

// maxPort is the highest port.
const maxPort = 65535

func (in *inspector) remote(at string, r Remote) {
	if r.Address != "" {
		in.host(at+"/address", r.Address)
	}
	if r.Port < 1 || r.Port > maxPort {
		in.add(at+"/port", fmt.Sprint(r.Port), "a port from 1 to 65535", "write for example 1194")
	}
	oneOf(in, at+"/transport", r.Transport, Transports)
}

func (in *inspector) offers(o Offers) {
	ppp := func(at string, list []suite.PPPMethod) {
		if len(list) == 0 {
			in.add(
				at,
				"nothing",
				"at least one PPP authentication method",
				"write for example mschapv2",
			)
		}
		each(in, at, list, func(p string, m suite.PPPMethod) { oneOf(in, p, m, suite.PPPMethods) })
	}
	if l := o.L2TP; l != nil {
		each(
			in,
			"/offers/l2tp/auth",
			l.Auth,
			func(p string, a MachineAuth) { oneOf(in, p, a, MachineAuths) },
		)
		in.secret("/offers/l2tp/psk", l.PSK)
		in.options("/offers/l2tp", l.L2TPOptions)
		in.authority("/offers/l2tp/authority", l.Authority)
		ppp("/offers/l2tp/ppp", l.PPP)
		each(in, "/offers/l2tp/ike", l.IKE, in.proposal)
		each(in, "/offers/l2tp/esp", l.ESP, in.proposal)
	}
	if i := o.IKEv2; i != nil {
		if len(i.Auth) == 0 {
			in.add(
				"/offers/ikev2/auth",
				"nothing",
				"at least one way for clients to prove themselves",
				"write for example eap-mschapv2",
			)
		}
		each(
			in,
			"/offers/ikev2/auth",
			i.Auth,
			func(p string, a IKEv2Auth) { oneOf(in, p, a, IKEv2Auths) },
		)
		in.secret("/offers/ikev2/psk", i.PSK)
		in.text("/offers/ikev2/remote_id", i.RemoteID, maxLogin, false)
		in.text("/offers/ikev2/local_id", i.LocalID, maxLogin, false)
		in.authority("/offers/ikev2/authority", i.Authority)
		each(in, "/offers/ikev2/ike", i.IKE, in.proposal)
		each(in, "/offers/ikev2/esp", i.ESP, in.proposal)
		in.options("/offers/ikev2", i.IKEv2Options)
	}
	if p := o.PPTP; p != nil {
		ppp("/offers/pptp/ppp", p.PPP)
		each(
			in,
			"/offers/pptp/mppe",
			p.MPPE,
			func(at string, m suite.MPPE) { oneOf(in, at, m, suite.MPPEs) },
		)
		in.options("/offers/pptp", p.PPTPOptions)
	}
	if s := o.SSTP; s != nil {
		in.number("/offers/sstp/port", s.Port, maxPort)
		ppp("/offers/sstp/ppp", s.PPP)
		in.authority("/offers/sstp/authority", s.Authority)
		if s.ServerName != "" {
			in.host("/offers/sstp/server_name", s.ServerName)
		}
	}
	if t := o.TLS; t != nil {
		in.tls(t)
	}
}

func (in *inspector) tls(t *TLSOffer) {
	if len(t.Remotes) == 0 {
		in.add(
			"/offers/tls/remotes",
			"nothing",
			"at least one port and transport",
			"write for example port 1194, udp",
		)
	}
	each(in, "/offers/tls/remotes", t.Remotes, in.remote)
	if len(t.Auth) == 0 {
		in.add(
			"/offers/tls/auth",
			"nothing",
			"at least one way for clients to prove themselves",
			"write for example certificate",
		)
	}
	each(in, "/offers/tls/auth", t.Auth, func(p string, a TLSAuth) { oneOf(in, p, a, TLSAuths) })
	in.authority("/offers/tls/authority", t.Authority)
	if k := t.ControlKey; k != nil {
		oneOf(in, "/offers/tls/control_key/kind", k.Kind, ControlKinds)
		oneOf(in, "/offers/tls/control_key/direction", k.Direction, []string{"", "0", "1"})
		in.controlKey("/offers/tls/control_key/key", k.Kind, k.Key)
	}
	names := func(list []suite.Cipher) []string {
		var l []string
		for _, c := range list {
			l = append(l, c.Name)
		}
		return l
	}
	each(
		in,
		"/offers/tls/ciphers",
		t.Ciphers,
		func(at, v string) { oneOf(in, at, v, names(suite.DataCiphers)) },
	)
	oneOf(in, "/offers/tls/digest", t.Digest, append(names(suite.Digests), ""))
	oneOf(in, "/offers/tls/min_tls", t.MinTLS, []string{"", "1.0", "1.1", "1.2", "1.3"})
	in.options("/offers/tls", t.TLSOptions)
}

func (in *inspector) number(pointer string, n, limit int) {
	if n < 0 || n > limit {
		in.add(
			pointer,
			fmt.Sprint(n),
			fmt.Sprintf("a number from 0 to %d", limit),
			"correct the number",
		)
	}
}

func (in *inspector) authority(pointer, text string) {
	if text == "" {
		return
	}
	if _, err := pki.Certificates(text); err != nil {
		in.add(
			pointer,
			err.Error(),
			"certificates in PEM form",
			"paste the file from BEGIN CERTIFICATE to END CERTIFICATE",
		)
	}
}

func (in *inspector) identity(at string, id *DeviceIdentity) {
	list, err := pki.Certificates(id.Certificate)
	if err != nil {
		in.add(
			at+"/certificate",
			err.Error(),
			"the device's certificate in PEM form, its own first",
			"paste the file from BEGIN CERTIFICATE to END CERTIFICATE",
		)
		return
	}
	switch {
	case id.OnDevice && id.Key == nil:
	case id.OnDevice:
		in.add(at+"/key", "a key", "none: the device has it, and nobody else",
			"leave the key out, or say that it is not on the device alone")
	case id.Key == nil:
		in.add(
			at+"/key",
			"nothing",
			"the private key of the certificate",
			"paste the key file",
		)
	case id.Key.Reveal() == secret.Hidden:
		in.secret(at+"/key", id.Key)
	default:
		if _, err := pki.Pair(pki.Bundle(list...), *id.Key); err != nil {
			in.add(
				at+"/key",
				err.Error(),
				"the private key of the certificate, PEM without a passphrase",
				"paste the key that belongs to the certificate",
			)
		}
	}
}

// The blocks that a control-channel key file has.
const (
	StaticKeyBegin = "-----BEGIN OpenVPN Static key V1-----"
	StaticKeyEnd   = "-----END OpenVPN Static key V1-----"
	ClientKeyBegin = "-----BEGIN OpenVPN tls-crypt-v2 client key-----"
	ClientKeyEnd   = "-----END OpenVPN tls-crypt-v2 client key-----"
	serverKeyBegin = "-----BEGIN OpenVPN tls-crypt-v2 server key-----"
	serverKeyEnd   = "-----END OpenVPN tls-crypt-v2 server key-----"
)

// Errors of control-channel keys.
var (
	ErrNoKey  = errors.New("there is no key")
	errBadKey = errors.New("a key of another form")
)

// keyBlock finds the lines between the marks of a control-channel key file.
func keyBlock(kind ControlKind, text string) (begin, end string, lines []string, ok bool) {
	begin, end = StaticKeyBegin, StaticKeyEnd
	if kind == ControlCryptV2 {
		begin, end = ClientKeyBegin, ClientKeyEnd
	}
	_, rest, found := strings.Cut(strings.ReplaceAll(text, "\r", ""), begin)
	body, _, closed := strings.Cut(rest, end)
	return begin, end, strings.Fields(body), found && closed && len(text) <= 16<<10
}

// ControlKeyBytes are the bytes of a control-channel key: 256 of a static key, more of a client's.
func ControlKeyBytes(kind ControlKind, text string) ([]byte, error) {
	_, _, lines, ok := keyBlock(kind, text)
	if !ok {
		return nil, errBadKey
	}
	if kind == ControlCryptV2 {
		data, err := base64.StdEncoding.DecodeString(strings.Join(lines, ""))
		if err != nil || len(data) < 256 {
			return nil, errBadKey
		}
		return data, nil
	}
	data, err := hex.DecodeString(strings.Join(lines, ""))
	if err != nil || len(data) != 256 { // 2048 bits
		return nil, errBadKey
	}
	return data, nil
}

// TidyControlKey writes a control-channel key in its one form: its block alone, without
// remarks before it. ok is false where it is none of that kind.
func TidyControlKey(kind ControlKind, text string) (tidy string, ok bool) {
	begin, end, lines, framed := keyBlock(kind, text)
	if !framed {
		return text, false
	}
	_, err := ControlKeyBytes(kind, text)
	return begin + "\n" + strings.Join(lines, "\n") + "\n" + end + "\n", err == nil
}

// ServerKeyBytes are the bytes of a server's own key for tls-crypt-v2, from which that of each
// client is made: 128. A record may have one; a client's file never has.
func ServerKeyBytes(text string) ([]byte, error) {
	_, rest, begun := strings.Cut(strings.ReplaceAll(text, "\r", ""), serverKeyBegin)
	body, _, closed := strings.Cut(rest, serverKeyEnd)
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(body), ""))
	if !begun || !closed || err != nil || len(data) != 128 {
		return nil, errBadKey
	}
	return data, nil
}

// IsServerKey tells whether a control-channel key is a server's own for tls-crypt-v2.
func IsServerKey(text string) bool {
	_, err := ServerKeyBytes(text)
	return err == nil
}

// tidyRecordKey writes a control-channel key of a record in its one form: also a server's own.
func tidyRecordKey(kind ControlKind, text string) (tidy string, ok bool) {
	if data, err := ServerKeyBytes(text); err == nil && kind == ControlCryptV2 {
		lines := base64.StdEncoding.EncodeToString(data)
		var b strings.Builder
		for len(lines) > 64 {
			b.WriteString(lines[:64] + "\n")
			lines = lines[64:]
		}
		return serverKeyBegin + "\n" + b.String() + lines + "\n" + serverKeyEnd + "\n", true
	}
	return TidyControlKey(kind, text)
}

func (in *inspector) controlKey(pointer string, kind ControlKind, key *secret.Text) {
	switch {
	case key == nil:
		in.add(pointer, "nothing", "the control-channel key", "paste the key file")
	case key.Reveal() == secret.Hidden:
		in.secret(pointer, key)
	default:
		if _, ok := tidyRecordKey(kind, key.Reveal()); !ok {
			expected := "a static key of 2048 bits, from BEGIN to END"
			if kind == ControlCryptV2 {
				expected = "the server's key or a client's for tls-crypt-v2, from BEGIN to END"
			}
			in.add(pointer, "a secret of another form", expected, "paste the whole key file")
		}
	}
}

// tidy writes certificates in their one form; what cannot be read stays for Validate.
func tidy(text string) string {
	if list, err := pki.Certificates(text); err == nil {
		return pki.Bundle(list...)
	}
	return text
}

func (o *Offers) normalise() {
	o.complete()
	if l := o.L2TP; l != nil {
		l.Authority, l.PSKSet = tidy(l.Authority), present(l.PSK)
	}
	if i := o.IKEv2; i != nil {
		i.Authority, i.PSKSet = tidy(i.Authority), present(i.PSK)
	}
	if s := o.SSTP; s != nil {
		s.Authority = tidy(s.Authority)
	}
	if t := o.TLS; t != nil {
		t.Authority = tidy(t.Authority)
		if k := t.ControlKey; k != nil {
			if present(k.Key) {
				if text, ok := tidyRecordKey(k.Kind, k.Key.Reveal()); ok {
					key := secret.New(text)
					k.Key = &key
				}
			}
			k.KeySet = present(k.Key)
		}
	}
}

// complete gives empty lists their one form.
func (o *Offers) complete() {
	if l := o.L2TP; l != nil {
		fill(&l.PPP)
		fill(&l.IKE)
		fill(&l.ESP)
		if len(l.Auth) == 0 {
			l.Auth = []MachineAuth{MachinePSK}
		}
	}
	if i := o.IKEv2; i != nil {
		fill(&i.Auth)
		fill(&i.IKE)
		fill(&i.ESP)
	}
	if p := o.PPTP; p != nil {
		fill(&p.PPP)
		fill(&p.MPPE)
	}
	if s := o.SSTP; s != nil {
		fill(&s.PPP)
	}
	if t := o.TLS; t != nil {
		fill(&t.Remotes)
		fill(&t.Auth)
		fill(&t.Ciphers)
	}
}

// Secrets lists the secrets of the offers by their place in a gateway's record.
func (o *Offers) Secrets() map[string]**secret.Text {
	at := map[string]**secret.Text{}
	if o.L2TP != nil {
		at["offers/l2tp/psk"] = &o.L2TP.PSK
	}
	if o.IKEv2 != nil {
		at["offers/ikev2/psk"] = &o.IKEv2.PSK
	}
	if o.TLS != nil && o.TLS.ControlKey != nil {
		at["offers/tls/control_key/key"] = &o.TLS.ControlKey.Key
	}
	return at
}

// Validate reports every field of a pattern that cannot be accepted.
func (p *Pattern) Validate() error {
	in := inspect("pattern")
	in.required("/name", p.Name, maxName)
	each(in, "/groups", p.Groups, func(at, v string) { in.required(at, v, maxName) })
	each(in, "/platforms", p.Platforms, func(at string, v Platform) { oneOf(in, at, v, Platforms) })
	each(in, "/protocols", p.Protocols, func(at string, v Protocol) { oneOf(in, at, v, Protocols) })
	for i, v := range p.Protocols {
		if slices.Index(p.Protocols, v) < i {
			in.add(
				fmt.Sprintf("/protocols/%d", i),
				shown(string(v)),
				"each protocol once",
				"remove it",
			)
		}
	}
	oneOf(in, "/gateways", p.Gateways, append(Choices, ""))
	each(in, "/gateway_ids", p.GatewayIDs, func(at, v string) { in.required(at, v, maxName) })
	oneOf(in, "/tunnel", p.Tunnel, []Tunnel{"", TunnelFull, TunnelSplit})
	each(in, "/routes", p.Routes, in.cidr)
	if len(p.Routes) > 0 && p.Tunnel == TunnelFull {
		in.add(
			"/routes",
			"networks",
			"none, because the tunnel takes everything",
			"remove them or choose split",
		)
	}
	each(in, "/dns", p.DNS, in.ip)
	each(in, "/domains", p.Domains, in.host)
	oneOf(in, "/ipv6", p.IPv6, IPv6Choices)
	oneOf(in, "/connect", p.Connect, Connects)
	in.demand("/demand", p.Demand)
	in.web("/proxy/script", p.Proxy.Script)
	if p.Proxy.Server != "" {
		if _, _, ok := SplitPort(p.Proxy.Server); !ok {
			in.add(
				"/proxy/server",
				shown(p.Proxy.Server),
				"host and port such as proxy.skerryline.example:3128",
				"write host, colon and port",
			)
		}
	}
	if p.Proxy.Script != "" && p.Proxy.Server != "" {
		in.add("/proxy/script", "a script and a proxy", "one of them", "remove one")
	}
	each(in, "/proxy/bypass", p.Proxy.Bypass, func(at, v string) { in.required(at, v, maxHost) })
	oneOf(in, "/password", p.Password, []PasswordMode{"", PasswordSaved, PasswordPrompted})
	oneOf(in, "/scope", p.Scope, []Scope{"", ScopePerson, ScopeMachine})
	in.text("/naming", p.Naming, maxName, false)
	rest := p.Naming
	for _, w := range NamingWords {
		rest = strings.ReplaceAll(rest, "{"+w+"}", "")
	}
	if strings.ContainsAny(rest, "{}") {
		in.add(
			"/naming",
			shown(p.Naming),
			"words in braces out of "+strings.Join(NamingWords, ", "),
			"correct the word in braces",
		)
	}
	in.text("/note", p.Note, maxNote, false)
	return in.err()
}

// demand accepts the conditions for connecting on demand.
func (in *inspector) demand(at string, d Demand) {
	each(in, at+"/networks", d.Networks, func(at, v string) { in.required(at, v, maxName) })
	each(in, at+"/suffixes", d.Suffixes, in.host)
	each(in, at+"/domains", d.Domains, in.host)
	in.web(at+"/probe", d.Probe)
	oneOf(in, at+"/interface", d.Interface, Interfaces)
}

// NewControlKey makes a file with a control-channel key: a static key of 2048 bits, or the server's
// own of 1024 bits for tls-crypt-v2. random gives at least 256 bytes.
func NewControlKey(random io.Reader, kind ControlKind) (string, error) {
	data := make([]byte, 256)
	if kind == ControlCryptV2 {
		data = data[:128]
	}
	if _, err := io.ReadFull(random, data); err != nil {
		return "", fmt.Errorf("drawing randomness: %w", err)
	}
	text, width, begin, end := hex.EncodeToString(data), 32, StaticKeyBegin, StaticKeyEnd
	if kind == ControlCryptV2 {
		text, width = base64.StdEncoding.EncodeToString(data), 64
		begin, end = serverKeyBegin, serverKeyEnd
	}
	var b strings.Builder
	b.WriteString(begin + "\n")
	for text != "" {
		n := min(width, len(text))
		b.WriteString(text[:n] + "\n")
		text = text[n:]
	}
	return b.String() + end + "\n", nil
}
