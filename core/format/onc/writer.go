// Package onc writes and reads Open Network Configuration files (.onc), which ChromeOS
// takes: JSON, for L2TP/IPsec, IKEv2 and the TLS tunnel, with certificates by GUID.
package onc

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

const title = "Open Network Configuration"

var protocols = []vpn.Protocol{vpn.IKEv2, vpn.TLS, vpn.L2TP}

// Codec is the format.
var Codec = format.Codec{
	Name:      platform.ONC,
	Title:     title,
	Protocols: protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

type file struct {
	Type         string        `json:"Type"`
	Networks     []network     `json:"NetworkConfigurations"`
	Certificates []certificate `json:"Certificates"`
}

type network struct {
	GUID    string    `json:"GUID"`
	Name    string    `json:"Name"`
	Type    string    `json:"Type"`
	Servers string    `json:"NameServersConfigType,omitempty"`
	Static  *static   `json:"StaticIPConfig,omitempty"`
	Proxy   *settings `json:"ProxySettings,omitempty"`
	VPN     tunnel    `json:"VPN"`
}

type static struct {
	DNS     []string `json:"NameServers,omitempty"`
	Domains []string `json:"SearchDomains,omitempty"`
}

type settings struct {
	Type    string   `json:"Type"`
	Script  string   `json:"PAC,omitempty"`
	Manual  *manual  `json:"Manual,omitempty"`
	Exclude []string `json:"ExcludeDomains,omitempty"`
}

type manual struct {
	HTTP   location `json:"HTTPProxy"`
	Secure location `json:"SecureHTTPProxy"`
}

type location struct {
	Host string `json:"Host"`
	Port int    `json:"Port"`
}

type tunnel struct {
	AutoConnect bool     `json:"AutoConnect"`
	Host        string   `json:"Host"`
	Type        string   `json:"Type"`
	IPsec       *ipsec   `json:"IPsec,omitempty"`
	L2TP        *signIn  `json:"L2TP,omitempty"`
	OpenVPN     *openvpn `json:"OpenVPN,omitempty"`
}

type ipsec struct {
	Authentication string   `json:"AuthenticationType"`
	CertificateRef string   `json:"ClientCertRef,omitempty"`
	CertificateBy  string   `json:"ClientCertType,omitempty"`
	EAP            *eap     `json:"EAP,omitempty"`
	Group          string   `json:"Group,omitempty"`
	Version        int      `json:"IKEVersion"`
	LocalID        string   `json:"LocalIdentity,omitempty"`
	PSK            string   `json:"PSK,omitempty"`
	RemoteID       string   `json:"RemoteIdentity,omitempty"`
	Save           bool     `json:"SaveCredentials"`
	Anchors        []string `json:"ServerCARefs,omitempty"`
}

type eap struct {
	Identity string `json:"Identity"`
	Outer    string `json:"Outer"`
	Password string `json:"Password,omitempty"`
	Save     bool   `json:"SaveCredentials"`
}

type signIn struct {
	Login    string `json:"Username"`
	Password string `json:"Password,omitempty"`
	Save     bool   `json:"SaveCredentials"`
}

type openvpn struct {
	Digest         string   `json:"Auth,omitempty"`
	Cipher         string   `json:"Cipher,omitempty"`
	CertificateRef string   `json:"ClientCertRef,omitempty"`
	CertificateBy  string   `json:"ClientCertType"`
	ExtraHosts     []string `json:"ExtraHosts,omitempty"`
	KeyDirection   string   `json:"KeyDirection,omitempty"`
	Password       string   `json:"Password,omitempty"`
	Port           int      `json:"Port"`
	Transport      string   `json:"Proto"`
	RemoteCert     string   `json:"RemoteCertTLS"`
	Save           bool     `json:"SaveCredentials"`
	Anchors        []string `json:"ServerCARefs,omitempty"`
	ControlKey     string   `json:"TLSAuthContents,omitempty"`
	UserBy         string   `json:"UserAuthenticationType"`
	Login          string   `json:"Username,omitempty"`
	Verify         *verify  `json:"VerifyX509,omitempty"`
}

type verify struct {
	Name string `json:"Name"`
	Type string `json:"Type"`
}

type certificate struct {
	GUID  string   `json:"GUID"`
	Type  string   `json:"Type"`
	Trust []string `json:"TrustBits,omitempty"`
	X509  string   `json:"X509,omitempty"`
	P12   string   `json:"PKCS12,omitempty"`
}

// Carried reduces a connection to what the file says: the proposals are the platform's
// own, of several remotes of one port and transport the hosts, of several ciphers the
// first, and single networks not at all.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Organisation, c.Identifier, c.Scope, c.Routes, c.Tunnel =
		"", "", vpn.ScopePerson, []string{}, vpn.TunnelFull
	if whole.Connect == vpn.Always {
		c.Connect = vpn.Always
	}
	if p := whole.Proxy; p != nil && (p.Server != "" || p.Script != "") {
		c.Proxy = &vpn.Proxy{
			Script: p.Script,
			Server: p.Server,
			Bypass: append([]string{}, p.Bypass...),
		}
	}
	if l := c.L2TP; l != nil {
		c.L2TP = &vpn.L2TPSetting{
			Auth:        l.Auth,
			PSK:         l.PSK,
			L2TPOptions: vpn.L2TPOptions{Group: l.Group},
		}
	}
	if s := c.IKEv2; s != nil {
		c.IKEv2 = &vpn.IKEv2Setting{
			Auth:     s.Auth,
			PSK:      s.PSK,
			LocalID:  s.LocalID,
			RemoteID: s.RemoteID,
		}
	}
	if s := c.TLS; s != nil && len(s.Remotes) > 0 {
		s.Remotes = sameWay(s.Remotes)
		s.Ciphers, s.MinTLS, s.Keepalive = s.Ciphers[:min(1, len(s.Ciphers))], "", 0
	}
	return c
}

// sameWay keeps the remotes that are reached by port and transport of the first.
func sameWay(list []vpn.Remote) []vpn.Remote {
	kept := []vpn.Remote{}
	for _, r := range list {
		if r.Port == list[0].Port && r.Transport == list[0].Transport {
			kept = append(kept, r)
		}
	}
	return kept
}

// Write makes the file.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols); err != nil {
		return nil, err
	}
	if err := format.MainMode(title, c); err != nil {
		return nil, err
	}
	whole, err := uuid.Parse(c.UUID)
	if err != nil {
		return nil, format.NoUUID(title)
	}
	c = format.Ask(c)
	f := file{Type: "UnencryptedConfiguration", Certificates: []certificate{}}
	guid := func(part string) string {
		return "{" + uuid.NewSHA1(whole, []byte(part)).String() +
			"}"
	}
	anchors, err := format.Anchors(title, c)
	if err != nil {
		return nil, err
	}
	var refs []string
	for i, a := range anchors {
		one := certificate{
			GUID:  guid(fmt.Sprintf("authority%d", i)),
			Type:  "Authority",
			Trust: []string{},
			X509:  base64.StdEncoding.EncodeToString(a.Raw),
		}
		refs = append(refs, one.GUID)
		f.Certificates = append(f.Certificates, one)
	}
	identity := ""
	if c.NeedsIdentity() {
		data, _, err := format.Packed(title, c, true)
		if err != nil {
			return nil, err
		}
		identity = guid("identity")
		f.Certificates = append(
			f.Certificates,
			certificate{
				GUID: identity,
				Type: "Client",
				P12:  base64.StdEncoding.EncodeToString(data),
			},
		)
	}
	n := network{
		GUID: "{" + strings.ToLower(c.UUID) + "}",
		Name: c.Name,
		Type: "VPN",
		VPN:  tunnel{AutoConnect: c.Connect == vpn.Always, Host: c.Server},
	}
	if len(c.DNS)+len(c.Domains) > 0 {
		n.Servers, n.Static = "Static", &static{DNS: c.DNS, Domains: c.Domains}
	}
	n.Proxy = proxy(c.Proxy)
	switch {
	case c.L2TP != nil:
		n.VPN.Type = "L2TP-IPsec"
		n.VPN.IPsec = &ipsec{
			Version:        1,
			Authentication: "PSK",
			PSK:            c.L2TP.PSK.Reveal(),
			Group:          c.L2TP.Group,
			Save:           true,
		}
		if c.L2TP.Auth == vpn.MachineCertificate {
			n.VPN.IPsec = &ipsec{
				Version:        1,
				Authentication: "Cert",
				CertificateBy:  "Ref",
				CertificateRef: identity,
				Group:          c.L2TP.Group,
				Save:           true,
				Anchors:        refs,
				PSK:            c.L2TP.PSK.Reveal(),
			}
		}
		n.VPN.IPsec.Anchors = refs
		n.VPN.L2TP = &signIn{
			Login:    c.Login,
			Password: c.Password.Reveal(),
			Save:     c.PasswordMode == vpn.PasswordSaved,
		}
	case c.IKEv2 != nil:
		n.VPN.Type = "IPsec"
		if n.VPN.IPsec, err = ikev2(c, identity); err != nil {
			return nil, err
		}
		n.VPN.IPsec.Anchors = refs
	default:
		n.VPN.Type = "OpenVPN"
		if n.VPN.OpenVPN, err = tls(c, identity); err != nil {
			return nil, err
		}
		n.VPN.OpenVPN.Anchors = refs
		n.VPN.Host = c.TLS.Remotes[0].Address
	}
	f.Networks = []network{n}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(f); err != nil {
		return nil, err
	}
	return []format.File{{
		Name:      format.FileName(c.Name, ".onc"),
		MediaType: "application/x-onc",
		Private:   true,
		Purpose:   "Configuration: import it at chrome://network",
		Content:   out.Bytes(),
	}}, nil
}

func proxy(p *vpn.Proxy) *settings {
	if p == nil {
		return nil
	}
	if host, port, ok := vpn.SplitPort(p.Server); ok {
		at := location{host, port}
		return &settings{Type: "Manual", Manual: &manual{at, at}, Exclude: p.Bypass}
	}
	if p.Script != "" {
		return &settings{Type: "PAC", Script: p.Script, Exclude: p.Bypass}
	}
	return nil
}

func ikev2(c vpn.Connection, identity string) (*ipsec, error) {
	s := c.IKEv2
	i := &ipsec{Version: 2, LocalID: s.LocalID, RemoteID: s.RemoteID, Save: true}
	switch s.Auth {
	case vpn.IKEv2MSCHAPv2:
		i.Authentication, i.EAP = "EAP", &eap{
			Outer:    "MSCHAPv2",
			Identity: c.Login,
			Password: c.Password.Reveal(),
			Save:     c.PasswordMode == vpn.PasswordSaved,
		}
	case vpn.IKEv2Certificate:
		i.Authentication, i.CertificateBy, i.CertificateRef = "Cert", "Ref", identity
	case vpn.IKEv2PSK:
		i.Authentication, i.PSK = "PSK", s.PSK.Reveal()
	default:
		return nil, &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldAuth,
			Found:    string(s.Auth),
			Expected: "eap-mschapv2, certificate or psk",
		}
	}
	return i, nil
}

func tls(c vpn.Connection, identity string) (*openvpn, error) {
	s := c.TLS
	if len(s.Remotes) == 0 {
		return nil, &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldRemotes,
			Found:    "no remote",
			Expected: "at least one",
		}
	}
	o := &openvpn{
		Port:          s.Remotes[0].Port,
		Transport:     string(s.Remotes[0].Transport),
		RemoteCert:    "server",
		Digest:        s.Digest,
		CertificateBy: "None",
		UserBy:        "None",
	}
	for _, r := range sameWay(s.Remotes)[1:] {
		o.ExtraHosts = append(o.ExtraHosts, r.Address)
	}
	if len(s.Ciphers) > 0 {
		o.Cipher = s.Ciphers[0]
	}
	if identity != "" {
		o.CertificateBy, o.CertificateRef = "Ref", identity
	}
	if c.NeedsPassword() {
		o.UserBy, o.Login, o.Password, o.Save =
			"Password", c.Login, c.Password.Reveal(), c.PasswordMode == vpn.PasswordSaved
	}
	if s.ServerName != "" {
		o.Verify = &verify{s.ServerName, "name"}
	}
	if k := s.Control; k != nil {
		if k.Kind != vpn.ControlAuth {
			return nil, &format.UnfitError{
				Format:   title,
				Field:    vpn.FieldControl,
				Found:    "a key of the kind " + string(k.Kind),
				Expected: "one of the kind auth, or none",
			}
		}
		o.ControlKey, o.KeyDirection = k.Key.Reveal(), k.Direction
	}
	return o, nil
}
