package powershell

import (
	"cmp"
	"crypto/x509"
	"encoding/base64"
	"slices"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// keys of the data, with the kind of each.
var keys = map[string]byte{
	"Id":               't',
	"Organisation":     't',
	"Name":             't',
	"Tunnel":           't',
	"ServerAddress":    't',
	"PreSharedKey":     't',
	"Authorities":      'l',
	"Entry":            'l', // of a script beside a phone book: what it puts there
	"Identity":         't',
	"Passphrase":       't',
	"Thumbprints":      'l',
	"Intermediates":    'l', // with a key that is made on the computer
	"EnrolAddress":     't',
	"RenewAddress":     't',
	"EnrolSecret":      't',
	"CommonName":       't',
	"KeyAlgorithm":     't',
	"KeyLength":        't',
	"PersonIdentity":   'f',
	"Authentication":   'l',
	"Eap":              't',
	"Encryption":       't',
	"Algorithms":       'l',
	"Login":            't',
	"Remember":         'f',
	"Password":         't',
	"AllUsers":         'f',
	"SplitTunnel":      'f',
	"Routes":           'l',
	"DnsServers":       'l',
	"Domains":          'l',
	"GatewayBehindNat": 'f',
	"AtSignIn":         'f',
	"DemandDomains":    'l',
	"TrustedSuffixes":  'l',
	"ProxyScript":      't',
	"ProxyServer":      't',
	"ProxyBypass":      'l',
}

// settler turns the data of a script into a connection.
type settler struct {
	*format.Reading
	values map[string]value
	block  format.Position
}

func (s *settler) text(key string) string { return s.values[key].text }

func (s *settler) list(key string) []string { return append([]string{}, s.values[key].list...) }

// at is the place of a key, or that of the data.
func (s *settler) at(key string) format.Position {
	if v, ok := s.values[key]; ok {
		return v.at
	}
	return format.Position{
		File: s.block.File,
		Line: s.block.Line,
		Path: cmp.Or(s.block.Path, "$Connection"),
	}
}

func settle(r *format.Reading, values map[string]value, block format.Position) format.Located {
	s := &settler{r, values, block}
	c := vpn.Connection{
		UUID: s.text(
			"Id",
		),
		Organisation: s.text("Organisation"),
		Name:         s.text("Name"),
		Server:       s.text("ServerAddress"),
		Login:        s.text("Login"),
		Password: secret.New(
			s.text("Password"),
		),
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopePerson,
		Tunnel:       vpn.TunnelFull,
		Routes:       s.list("Routes"),
		DNS:          s.list("DnsServers"),
		Domains:      s.list("Domains"),
	}
	if remember := values["Remember"]; remember.flag && c.Password.IsZero() {
		r.Left("-RememberCredential", remember.at) // of a password that the person types
	} else if remember.flag {
		c.PasswordMode = vpn.PasswordSaved
	}
	if values["AllUsers"].flag {
		c.Scope = vpn.ScopeMachine
	}
	if values["SplitTunnel"].flag {
		c.Tunnel = vpn.TunnelSplit
	}
	s.protocol(&c)
	s.certificates(&c)
	switch {
	case values["AtSignIn"].flag:
		c.Connect = vpn.AtSignIn
	case len(s.list("DemandDomains")) > 0:
		c.Connect, c.Demand = vpn.OnDemand, &vpn.Demand{
			Networks: []string{},
			Suffixes: s.list("TrustedSuffixes"),
			Domains:  s.list("DemandDomains"),
		}
	}
	if script, server := s.text(
		"ProxyScript",
	), s.text(
		"ProxyServer",
	); script != "" ||
		server != "" {
		c.Proxy = &vpn.Proxy{Script: script, Server: server, Bypass: s.list("ProxyBypass")}
	}
	positions := map[vpn.Field]format.Position{}
	for field, key := range map[vpn.Field]string{
		vpn.FieldName:         "Name",
		vpn.FieldServer:       "ServerAddress",
		vpn.FieldPSK:          "PreSharedKey",
		vpn.FieldPPP:          "Authentication",
		vpn.FieldLogin:        "Login",
		vpn.FieldPassword:     "Password",
		vpn.FieldTunnel:       "SplitTunnel",
		vpn.FieldRoutes:       "Routes",
		vpn.FieldDNS:          "DnsServers",
		vpn.FieldDomains:      "Domains",
		vpn.FieldNAT:          "GatewayBehindNat",
		vpn.FieldScope:        "AllUsers",
		vpn.FieldPasswordMode: "Remember",
		vpn.FieldUUID:         "Id",
		vpn.FieldProtocol:     "Tunnel",
		vpn.FieldAuth:         "Authentication",
		vpn.FieldIKE:          "Algorithms",
		vpn.FieldESP:          "Algorithms",
		vpn.FieldMPPE:         "Encryption",
		vpn.FieldAuthority:    "Authorities",
		vpn.FieldIdentity:     "Identity",
		vpn.FieldConnect:      "AtSignIn",
		vpn.FieldDemand:       "DemandDomains",
		vpn.FieldProxy:        "ProxyScript",
		vpn.FieldPort:         "ServerAddress",
	} {
		positions[field] = s.at(key)
	}
	for _, hidden := range []struct{ key, what string }{{"PreSharedKey", "the pre-shared key"},
		{"Password", "the password"}} {
		if s.text(hidden.key) != "" {
			r.Note(format.SecretClear, values[hidden.key].at, "%s", hidden.what)
		}
	}
	return format.Located{Connection: c, Positions: positions}
}

// ppp reads the methods by the cmdlets' names.
func (s *settler) ppp() []suite.PPPMethod {
	list := []suite.PPPMethod{}
	for _, name := range s.values["Authentication"].list {
		known := false
		for m, n := range methods {
			if n == name {
				list, known = append(list, m), true
			}
		}
		if !known {
			s.Note(
				format.KeyMalformed,
				s.at("Authentication"),
				"%q is no authentication method of these cmdlets",
				name,
			)
		}
	}
	return list
}

func (s *settler) protocol(c *vpn.Connection) {
	switch tunnel := s.text("Tunnel"); tunnel {
	case "Pptp":
		c.Protocol, c.PPTP = vpn.PPTP, &vpn.PPTPSetting{
			PPP:  s.ppp(),
			MPPE: strengths(s.text("Encryption")),
		}
	case "Sstp":
		c.Protocol, c.SSTP = vpn.SSTP, &vpn.SSTPSetting{PPP: s.ppp(), Port: 443}
		if host, port, ok := vpn.SplitPort(c.Server); ok {
			c.Server, c.SSTP.Port = host, port
		}
	case "Ikev2":
		c.Protocol, c.IKEv2 = vpn.IKEv2, s.ikev2()
	default:
		if tunnel != "L2tp" {
			s.Note(
				format.KeyMalformed,
				s.at("Tunnel"),
				"%q is no tunnel type of these cmdlets",
				tunnel,
			)
		}
		c.Protocol, c.L2TP = vpn.L2TP, &vpn.L2TPSetting{
			Auth:      vpn.MachinePSK,
			PSK:       secret.New(s.text("PreSharedKey")),
			PPP:       s.ppp(),
			BehindNAT: s.values["GatewayBehindNat"].flag,
		}
		c.L2TP.IKE, c.L2TP.ESP = s.algorithms()
		if s.text("Identity") != "" || s.text("EnrolAddress") != "" {
			c.L2TP.Auth = vpn.MachineCertificate
		}
	}
}

func (s *settler) ikev2() *vpn.IKEv2Setting {
	i := &vpn.IKEv2Setting{}
	i.IKE, i.ESP = s.algorithms()
	switch eap := s.text("Eap"); {
	case len(s.list("Authentication")) == 1 && s.list("Authentication")[0] == "MachineCertificate":
		i.Auth = vpn.IKEv2Certificate
	case eap == "Tls":
		i.Auth = vpn.IKEv2EAPTLS
	case eap == "MSChapv2":
		i.Auth = vpn.IKEv2MSCHAPv2
	case eap == "Peap":
		s.OtherEAP(25, s.at("Eap"))
	case eap == "Ttls":
		s.OtherEAP(21, s.at("Eap"))
	default:
		s.Note(
			format.KeyMalformed,
			s.at("Eap"),
			"neither MachineCertificate nor EAP by Tls or MSChapv2",
		)
	}
	return i
}

// algorithms reads the six constants of one IKE and one child proposal.
func (s *settler) algorithms() (ike, esp []string) {
	list := s.list("Algorithms")
	if len(list) == 0 {
		return []string{}, []string{}
	}
	if len(list) != 6 {
		s.Note(format.KeyMalformed, s.at("Algorithms"), "%d constants, expected six", len(list))
		return []string{}, []string{}
	}
	ike, esp, unknown := suite.FromWindows(
		suite.WindowsSuite{
			Cipher:     list[0],
			Transform:  list[1],
			Encryption: list[2],
			Integrity:  list[3],
			Group:      list[4],
			PFS:        list[5],
		},
	)
	for _, v := range unknown {
		s.Note(format.KeyMalformed, s.at("Algorithms"), "%q is none that Windows names", v)
	}
	return ike, esp
}

// bundled are the certificates of authorities under a key.
func (s *settler) bundled(key string) (list []*x509.Certificate) {
	for _, text := range s.list(key) {
		der, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			s.Note(format.KeyMalformed, s.at(key), "an authority that is not base64")
			continue
		}
		a, err := pki.Certificate(der)
		if err != nil {
			s.Note(format.KeyMalformed, s.at(key), "an authority that cannot be read")
			continue
		}
		list = append(list, a)
	}
	return list
}

func (s *settler) certificates(c *vpn.Connection) {
	anchors, between := s.bundled("Authorities"), s.bundled("Intermediates")
	c.Authority = pki.Bundle(anchors...)
	defer func() { s.thumbprints(append(anchors, between...), c.Identity) }()
	if s.text("EnrolAddress") != "" {
		if s.text("EnrolSecret") != "" {
			s.Note(format.SecretClear, s.at("EnrolSecret"), "an enrolment secret")
		}
		c.Identity = &vpn.Identity{Enrol: &vpn.Enrol{
			EST: s.text("EnrolAddress"), Renew: s.text("RenewAddress"), Name: s.text("CommonName"),
			Secret: secret.New(s.text("EnrolSecret")), RSA: s.text("KeyAlgorithm") == "RSA",
			Above: pki.Bundle(between...),
		}}
		return
	}
	if text := s.text("Identity"); text != "" {
		der, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			s.Note(format.KeyMalformed, s.at("Identity"), "an identity that is not base64")
			return
		}
		id, err := s.Unpacked(der, secret.New(s.text("Passphrase")))
		if err != nil {
			s.Note(format.KeyMalformed, s.at("Identity"), "%s", err)
			return
		}
		s.Note(format.SecretClear, s.at("Identity"), "a private key with its passphrase")
		c.Identity = id
	}
}

// thumbprints holds that the certificates are those that the script was built with.
func (s *settler) thumbprints(anchors []*x509.Certificate, id *vpn.Identity) {
	if id != nil {
		if list, err := pki.Certificates(id.Certificate); err == nil {
			anchors = append(anchors, list[0])
		}
	}
	listed := s.list("Thumbprints")
	for _, c := range anchors {
		if !slices.Contains(listed, thumbprint(c)) {
			s.Note(
				format.ScriptChanged,
				s.at("Thumbprints"),
				"the certificate of %q is not among the thumbprints",
				c.Subject.CommonName,
			)
		}
	}
}
