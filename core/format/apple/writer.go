// Package apple writes and reads Apple configuration profiles (.mobileconfig): XML
// property lists for macOS, iOS and iPadOS. The keys are those of Apple's Device
// Management reference, payloads com.apple.vpn.managed and com.apple.security.*.
package apple

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const title = "Apple configuration profile"

var protocols = []vpn.Protocol{vpn.IKEv2, vpn.L2TP, vpn.PPTP}

// Codec is the format.
var Codec = format.Codec{
	Name:      platform.AppleProfile,
	Title:     title,
	Protocols: protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

type configuration struct {
	Content      []any  `plist:"PayloadContent"`
	Description  string `plist:"PayloadDescription"`
	DisplayName  string `plist:"PayloadDisplayName"`
	Identifier   string `plist:"PayloadIdentifier"`
	Organisation string `plist:"PayloadOrganization,omitempty"`
	Scope        string `plist:"PayloadScope"`
	Type         string `plist:"PayloadType"`
	UUID         string `plist:"PayloadUUID"`
	Version      int    `plist:"PayloadVersion"`
}

// header is what every payload has.
type header struct {
	DisplayName string `plist:"PayloadDisplayName"`
	Identifier  string `plist:"PayloadIdentifier"`
	Type        string `plist:"PayloadType"`
	UUID        string `plist:"PayloadUUID"`
	Version     int    `plist:"PayloadVersion"`
}

type payload struct {
	header
	DNS     *dns     `plist:"DNS,omitempty"`
	IPSec   *ipsec   `plist:"IPSec,omitempty"`
	IPv4    ipv4     `plist:"IPv4"`
	IKEv2   *ikev2   `plist:"IKEv2,omitempty"`
	PPP     *ppp     `plist:"PPP,omitempty"`
	Proxies *proxies `plist:"Proxies,omitempty"`
	Name    string   `plist:"UserDefinedName"`
	VPNType string   `plist:"VPNType"`
}

type certificate struct {
	header
	Content  []byte `plist:"PayloadContent"`
	Password string `plist:"Password,omitempty"`
}

type dns struct {
	Servers []string `plist:"ServerAddresses,omitempty"`
	Domains []string `plist:"SearchDomains,omitempty"`
}

type ipsec struct {
	Method      string `plist:"AuthenticationMethod"`
	Secret      []byte `plist:"SharedSecret,omitempty"`
	Group       string `plist:"LocalIdentifier,omitempty"`
	GroupType   string `plist:"LocalIdentifierType,omitempty"`
	Certificate string `plist:"PayloadCertificateUUID,omitempty"`
}

type ipv4 struct {
	OverridePrimary int `plist:"OverridePrimary"`
}

type ppp struct {
	Login      string `plist:"AuthName"`
	Password   string `plist:"AuthPassword,omitempty"`
	Server     string `plist:"CommRemoteAddress"`
	Encryption int    `plist:"CCPEnabled,omitempty"`
	MPPE40     int    `plist:"CCPMPPE40Enabled,omitempty"`
	MPPE128    int    `plist:"CCPMPPE128Enabled,omitempty"`
}

type ikev2 struct {
	Method      string       `plist:"AuthenticationMethod"`
	Login       string       `plist:"AuthName,omitempty"`
	Password    string       `plist:"AuthPassword,omitempty"`
	KeyKind     string       `plist:"CertificateType,omitempty"`
	Child       *association `plist:"ChildSecurityAssociationParameters,omitempty"`
	DPD         string       `plist:"DeadPeerDetectionRate,omitempty"`
	NoMOBIKE    int          `plist:"DisableMOBIKE,omitempty"`
	PFS         int          `plist:"EnablePFS"`
	EAP         int          `plist:"ExtendedAuthEnabled"`
	IKE         *association `plist:"IKESecurityAssociationParameters,omitempty"`
	Everything  int          `plist:"IncludeAllNetworks,omitempty"`
	LocalID     string       `plist:"LocalIdentifier"`
	Demand      int          `plist:"OnDemandEnabled,omitempty"`
	Rules       []onDemand   `plist:"OnDemandRules,omitempty"`
	Certificate string       `plist:"PayloadCertificateUUID,omitempty"`
	Server      string       `plist:"RemoteAddress"`
	RemoteID    string       `plist:"RemoteIdentifier"`
	Secret      string       `plist:"SharedSecret,omitempty"`
	Issuer      string       `plist:"ServerCertificateIssuerCommonName,omitempty"`
}

type association struct {
	Group      int    `plist:"DiffieHellmanGroup,omitempty"`
	Encryption string `plist:"EncryptionAlgorithm"`
	Integrity  string `plist:"IntegrityAlgorithm,omitempty"`
	Lifetime   int    `plist:"LifeTimeInMinutes,omitempty"`
}

type proxies struct {
	Bypass      []string `plist:"ExceptionsList,omitempty"`
	HTTP        int      `plist:"HTTPEnable,omitempty"`
	HTTPPort    int      `plist:"HTTPPort,omitempty"`
	HTTPServer  string   `plist:"HTTPProxy,omitempty"`
	HTTPS       int      `plist:"HTTPSEnable,omitempty"`
	HTTPSPort   int      `plist:"HTTPSPort,omitempty"`
	HTTPSServer string   `plist:"HTTPSProxy,omitempty"`
	Script      int      `plist:"ProxyAutoConfigEnable,omitempty"`
	ScriptURL   string   `plist:"ProxyAutoConfigURLString,omitempty"`
}

// rates are what the profile can say of dead peer detection, in seconds.
var rates = []struct {
	name    string
	seconds int
}{{"High", 60}, {"Medium", 600}, {"Low", 1800}}

// issuer gives the common name of who issued the gateway's certificate: what is known of
// it, or else the authority that stands closest to it.
func issuer(c vpn.Connection) string {
	name := c.IKEv2.Issuer
	if list, err := pki.Certificates(c.Authority); err == nil && name == "" {
		for _, a := range list {
			if name == "" || !pki.Root(a) {
				name = a.Subject.CommonName
			}
		}
	}
	return name
}

// Carried reduces a connection to what the profile says. PPP methods, the proposals of
// L2TP/IPsec and single routes are Apple's own affair; with IKEv2 one proposal of each
// kind is said, and connecting on demand.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Routes = []string{}
	if p := whole.Proxy; p != nil && (p.Script != "" || p.Server != "") {
		c.Proxy = &vpn.Proxy{
			Script: p.Script,
			Server: p.Server,
			Bypass: append([]string{}, p.Bypass...),
		}
	}
	switch {
	case c.L2TP != nil:
		l := c.L2TP
		c.L2TP = &vpn.L2TPSetting{
			Auth: l.Auth,
			PSK:  l.PSK,
			L2TPOptions: vpn.L2TPOptions{
				Group:      l.Group,
				Aggressive: l.Group != "",
			},
		}
	case c.PPTP != nil:
		c.PPTP = &vpn.PPTPSetting{MPPE: format.Strengths(c.PPTP.MPPE)}
	case c.IKEv2 != nil:
		s := c.IKEv2
		s.IKE, s.ESP = s.IKE[:min(1, len(s.IKE))], s.ESP[:min(1, len(s.ESP))]
		s.NoFragmentation, s.DPD, s.Issuer = false, rate(s.DPD).seconds, issuer(whole)
		s.EAPOnly = false
		s.IKELifetime, s.ChildLifetime = lifetime(
			s.IKELifetime,
			s.IKE,
		), lifetime(
			s.ChildLifetime,
			s.ESP,
		)
		if whole.IPv6 == vpn.IPv6Refused && c.Tunnel == vpn.TunnelFull {
			c.IPv6 = vpn.IPv6Refused
		}
		c.Connect, c.Demand = demand(whole)
		c.DemandRules = whole.Clone().DemandRules
		c.Unmetered = whole.Unmetered && c.Connect != "" && c.DemandRules == nil
		c.Reconnect = c.Connect != "" // what connects by itself does so again
	}
	return c
}

func rate(seconds int) (r struct {
	name    string
	seconds int
}) {
	for i := len(rates) - 1; i >= 0 && seconds > 0; i-- {
		if r = rates[i]; seconds >= r.seconds*2/3 || i == 0 {
			return r
		}
	}
	return r
}

// lifetime is said beside a proposal only, from 10 to 1440 minutes.
func lifetime(minutes int, proposals []string) int {
	if minutes < 10 || minutes > 1440 || len(proposals) == 0 {
		return 0
	}
	return minutes
}

// Write makes the profile.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols, format.Enrols); err != nil {
		return nil, err
	}
	whole, err := uuid.Parse(c.UUID)
	if err != nil {
		return nil, format.NoUUID(title)
	}
	w := &writer{c: format.Ask(c), whole: whole}
	anchors, err := format.Anchors(title, c)
	if err != nil {
		return nil, err
	}
	for i, a := range anchors {
		kind := "com.apple.security.pkcs1"
		if pki.Root(a) {
			kind = "com.apple.security.root"
		}
		w.content = append(
			w.content,
			certificate{
				header:  w.header(fmt.Sprintf("authority%d", i), a.Subject.CommonName, kind),
				Content: a.Raw,
			},
		)
	}
	if c.NeedsIdentity() && c.Identity.Enrol != nil {
		w.enrols(*c.Identity.Enrol)
	} else if c.NeedsIdentity() {
		data, passphrase, err := format.Packed(title, c, false)
		if err != nil {
			return nil, err
		}
		if list, err := pki.Certificates(c.Identity.Certificate); err == nil {
			w.keyKind = pki.KeyKind(list[0])
		}
		h := w.header("identity", c.Name, "com.apple.security.pkcs12")
		w.identity = h.UUID
		if w.keyKind != "RSA" && !strings.HasPrefix(w.keyKind, "ECDSA") {
			return nil, &format.UnfitError{
				Format:   title,
				Field:    vpn.FieldIdentity,
				Found:    "a key of the kind " + w.keyKind,
				Expected: "RSA or ECDSA",
			}
		}
		payload := certificate{header: h, Content: data, Password: passphrase.Reveal()}
		if c.AskPassphrase {
			payload.Password = ""
			w.beside = append(w.beside, format.File{
				Name: format.FileName(
					c.Name,
					passphraseFile,
				),
				MediaType: "text/plain; charset=utf-8",
				Purpose:   "Passphrase that the device prompts for: send it another way",
				Private:   true,
				Content:   []byte(passphrase.Reveal() + "\n"),
			})
		}
		w.content = append(w.content, payload)
	}
	if l := c.L2TP; l != nil && (l.Group != "") != l.Aggressive {
		return nil, &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldGroup,
			Found:    "a group name without aggressive mode, or the other way round",
			Expected: "both or none",
		}
	}
	if err := format.NoMPPE56(title, c); err != nil {
		return nil, err
	}
	p, err := w.connection()
	if err != nil {
		return nil, err
	}
	scope := "User"
	if c.Scope == vpn.ScopeMachine {
		scope = "System"
	}
	content, err := encode(configuration{
		Content:      append(w.content, p),
		Description:  fmt.Sprintf("Connects to %s by %s.", c.Server, c.Protocol.Title()),
		DisplayName:  c.Name,
		Identifier:   c.Identifier,
		Organisation: c.Organisation,
		Scope:        scope,
		Type:         "Configuration",
		UUID:         strings.ToUpper(c.UUID),
		Version:      1,
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", title, err)
	}
	return append([]format.File{
		{
			Name: format.FileName(
				c.Name,
				".mobileconfig",
			),
			MediaType: "application/x-apple-aspen-config",
			Purpose:   "Configuration profile: open it on the device and confirm",
			Private:   true,
			Content:   content,
		},
	}, w.beside...), nil
}

// enrols adds the payload by which the device makes its key and asks for the certificate itself
// (Apple: Device Management, SCEP). Its keys are RSA.
func (w *writer) enrols(e vpn.Enrol) {
	h := w.header("enrolment", w.c.Name, scepType)
	w.identity, w.keyKind = h.UUID, "RSA"
	w.content = append(w.content, scepPayload{header: h, Content: scepContent{
		Challenge: e.Secret.Reveal(), KeyType: "RSA", KeyUsage: 5, KeySize: 2048,
		Name: w.c.Organisation, Retries: 3, RetryDelay: 10,
		Subject: [][][]string{{{"CN", e.Name}}}, URL: e.SCEP,
	}})
}

const scepType = "com.apple.security.scep"

type scepPayload struct {
	header
	Content scepContent `plist:"PayloadContent"`
}

type scepContent struct {
	Challenge  string       `plist:"Challenge"`
	KeyType    string       `plist:"Key Type"`
	KeyUsage   int          `plist:"Key Usage"` // 1 for signing, 4 for encryption
	KeySize    int          `plist:"Keysize"`
	Name       string       `plist:"Name,omitempty"`
	Retries    int          `plist:"Retries"`
	RetryDelay int          `plist:"RetryDelay"` // seconds
	Subject    [][][]string `plist:"Subject"`
	URL        string       `plist:"URL"`
}

// passphraseFile ends the name of the file with a passphrase that is asked for.
const passphraseFile = "-passphrase.txt"

type writer struct {
	c        vpn.Connection
	whole    uuid.UUID
	content  []any
	beside   []format.File
	identity string // UUID of the identity's payload
	keyKind  string
}

func (w *writer) header(part, name, kind string) header {
	return header{
		DisplayName: name,
		Identifier:  w.c.Identifier + "." + part,
		Type:        kind,
		UUID:        strings.ToUpper(uuid.NewSHA1(w.whole, []byte(part)).String()),
		Version:     1,
	}
}

func (w *writer) connection() (payload, error) {
	c := w.c
	p := payload{
		header: w.header(string(c.Protocol), c.Name, "com.apple.vpn.managed"),
		Name:   c.Name,
	}
	if c.Tunnel == vpn.TunnelFull {
		p.IPv4.OverridePrimary = 1
	}
	if len(c.DNS)+len(c.Domains) > 0 {
		p.DNS = &dns{Servers: c.DNS, Domains: c.Domains}
	}
	if x := c.Proxy; x != nil {
		p.Proxies = &proxies{Bypass: x.Bypass}
		if host, port, ok := vpn.SplitPort(x.Server); ok {
			p.Proxies.HTTP, p.Proxies.HTTPServer, p.Proxies.HTTPPort = 1, host, port
			p.Proxies.HTTPS, p.Proxies.HTTPSServer, p.Proxies.HTTPSPort = 1, host, port
		}
		if x.Script != "" {
			p.Proxies.Script, p.Proxies.ScriptURL = 1, x.Script
		}
	}
	switch {
	case c.L2TP != nil:
		p.VPNType = "L2TP"
		p.PPP = &ppp{Login: c.Login, Password: c.Password.Reveal(), Server: c.Server}
		p.IPSec = &ipsec{Method: "SharedSecret", Secret: []byte(c.L2TP.PSK.Reveal())}
		if c.L2TP.Auth == vpn.MachineCertificate {
			p.IPSec.Method, p.IPSec.Certificate = "Certificate", w.identity
		}
		if c.L2TP.Group != "" {
			p.IPSec.Group, p.IPSec.GroupType = c.L2TP.Group, "KeyID"
		}
	case c.PPTP != nil:
		p.VPNType = "PPTP"
		p.PPP = &ppp{Login: c.Login, Password: c.Password.Reveal(), Server: c.Server}
		for _, m := range format.Strengths(c.PPTP.MPPE) {
			p.PPP.Encryption = 1
			if m == "128" {
				p.PPP.MPPE128 = 1
			} else {
				p.PPP.MPPE40 = 1
			}
		}
	default:
		p.VPNType = "IKEv2"
		var err error
		if p.IKEv2, err = w.ikev2(); err != nil {
			return p, err
		}
	}
	return p, nil
}

func (w *writer) ikev2() (*ikev2, error) {
	c, s := w.c, w.c.IKEv2
	k := &ikev2{
		Server:   c.Server,
		RemoteID: s.RemoteID,
		LocalID:  s.LocalID,
		Method:   "None",
		DPD:      rate(s.DPD).name,
		Issuer:   issuer(c),
		KeyKind:  w.keyKind,
	}
	switch s.Auth {
	case vpn.IKEv2MSCHAPv2:
		k.EAP, k.Login, k.Password = 1, c.Login, c.Password.Reveal()
	case vpn.IKEv2EAPTLS:
		k.EAP, k.Method, k.Certificate = 1, "Certificate", w.identity
	case vpn.IKEv2Certificate:
		k.Method, k.Certificate = "Certificate", w.identity
	default:
		k.Method, k.Secret = "SharedSecret", s.PSK.Reveal()
	}
	if s.NoMOBIKE {
		k.NoMOBIKE = 1
	}
	if c.IPv6 == vpn.IPv6Refused && c.Tunnel == vpn.TunnelFull {
		k.Everything = 1
	}
	var err error
	if len(s.IKE) > 0 {
		if k.IKE, err = w.association(vpn.FieldIKE, s.IKE, s.IKELifetime, true); err != nil {
			return nil, err
		}
	}
	if len(s.ESP) > 0 {
		if k.Child, err = w.association(vpn.FieldESP, s.ESP, s.ChildLifetime, false); err != nil {
			return nil, err
		}
		if k.Child.Group != 0 {
			k.PFS = 1
		}
	}
	for _, r := range ruled(c) {
		k.Demand = 1
		k.Rules = append(k.Rules, written(r))
	}
	return k, nil
}

func (w *writer) association(
	field vpn.Field,
	proposals []string,
	minutes int,
	ike bool,
) (*association, error) {
	p, _ := suite.Parse(proposals[0]) // looked at before
	if ike {
		p = p.ForIKE()
	}
	names := suite.Closed[suite.AppleDialect].IKE
	if !names.Carries(p) {
		return nil, &format.UnfitError{
			Format:   title,
			Field:    field,
			Found:    p.String(),
			Expected: "algorithms that Apple's profiles name",
		}
	}
	a := &association{
		Encryption: names[p.Encryption],
		Integrity:  cmp.Or(names[p.Integrity], names[p.PRF]),
		Lifetime:   lifetime(minutes, proposals),
	}
	a.Group, _ = strconv.Atoi(names[p.Group])
	return a, nil
}
