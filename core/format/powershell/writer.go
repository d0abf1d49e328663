// Package powershell writes and reads scripts that set a VPN connection up on Windows
// with the operating system's own cmdlets (module VpnClient), and scripts that remove
// it. A script is one block of data, in which every value is a quoted literal, and a
// body that is the same in every script.
package powershell

import (
	"crypto/sha1"
	"crypto/x509"
	"embed"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const title = "PowerShell script"

var protocols = []vpn.Protocol{vpn.IKEv2, vpn.SSTP, vpn.L2TP, vpn.PPTP}

// Codec is the format.
var Codec = format.Codec{
	Name:      platform.PowerShell,
	Title:     title,
	Protocols: protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

//go:embed *.ps1
var scripts embed.FS

// The commands after the data of each script.
var installBody, enrolBody, removeBody = bodies()

// bodies are the commands that set a connection up, without and with a key that is made there, and
// those that remove it.
func bodies() (plain, enrols, remove string) {
	const whose, made = "# <whose key>\n", "# <a key made here>\n"
	install := body("install")
	part, err := scripts.ReadFile("enrol.part.ps1")
	if err != nil {
		panic(err) // it is in the program
	}
	return strings.NewReplacer(whose, "", made, "").Replace(install),
		strings.NewReplacer(whose, ownAccount, made, string(part)).Replace(install), body("remove")
}

// ownAccount refuses to make a person's key from another account.
const ownAccount = `if ($Connection.PersonIdentity -and $person -ne $runs) {
    throw ('The key belongs to the person who is signed in ({0}), but the script runs as {1}. Run it from that person''s own account. Nothing was set up.' -f $person, $runs)
}
`

// body reads the commands of a script, with what every Windows has, whether its cmdlets know
// connections or not: services, certificates and the value for a gateway behind NAT.
func body(name string) string {
	text := func(file string) string {
		b, err := scripts.ReadFile(file + ".ps1")
		if err != nil {
			panic(err) // it is in the program
		}
		return string(b)
	}
	return strings.Replace(
		text(name+".body"),
		"# <what every Windows has>\n",
		text(strings.TrimPrefix(name, "windows7-")+".part"),
		1,
	)
}

const (
	bom        = "\uFEFF" // without it Windows PowerShell 5 reads the file in the local code page
	requires   = "#Requires -Version 4.0\n#Requires -RunAsAdministrator\n"
	blockStart = "$Connection = @{\n"
	blockEnd   = "}\n"
)

// methods are the names of PPP methods in the cmdlets.
var methods = map[suite.PPPMethod]string{
	suite.EAP:      "Eap",
	suite.MSCHAPv2: "MSChapv2",
	suite.CHAP:     "Chap",
	suite.PAP:      "Pap",
}

// tunnels are the cmdlets' names of the protocols.
var tunnels = map[vpn.Protocol]string{
	vpn.L2TP:  "L2tp",
	vpn.IKEv2: "Ikev2",
	vpn.PPTP:  "Pptp",
	vpn.SSTP:  "Sstp",
}

// Carried reduces a connection to what the scripts say: one proposal of each kind, and
// connecting on demand by domains and by the suffixes of trusted networks, which only a
// person's own connection does.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Identifier = ""
	c.Connect, c.Demand = demand(whole)
	if p := whole.Proxy; p != nil && p.Script != "" {
		c.Proxy = &vpn.Proxy{Script: p.Script, Bypass: []string{}}
	} else if p != nil && p.Server != "" {
		c.Proxy = &vpn.Proxy{Server: p.Server, Bypass: append([]string{}, p.Bypass...)}
	}
	if l := c.L2TP; l != nil {
		l.Group, l.Aggressive = "", false
		if len(l.IKE) == 0 || len(l.ESP) == 0 {
			l.IKE, l.ESP = []string{}, []string{}
		} else {
			l.IKE, l.ESP = l.IKE[:1], l.ESP[:1]
		}
	}
	if s := c.PPTP; s != nil {
		s.MPPE, s.Stateful = strengths(encryption(whole)), false
	}
	if s := c.SSTP; s != nil {
		s.ServerName = ""
	}
	if s := c.IKEv2; s != nil {
		c.IKEv2 = &vpn.IKEv2Setting{Auth: s.Auth, IKE: []string{}, ESP: []string{}}
		if len(s.IKE) > 0 && len(s.ESP) > 0 {
			c.IKEv2.IKE, c.IKEv2.ESP = s.IKE[:1], s.ESP[:1]
		}
	}
	return c
}

// demand is when the device connects by itself, as far as the cmdlets can say it.
func demand(c vpn.Connection) (vpn.Connect, *vpn.Demand) {
	switch {
	case c.Connect == vpn.AtSignIn:
		return vpn.AtSignIn, nil
	case c.Connect == vpn.OnDemand && c.Demand != nil && len(c.Demand.Domains) > 0 &&
		c.Scope != vpn.ScopeMachine:
		return vpn.OnDemand, &vpn.Demand{
			Networks: []string{},
			Suffixes: append([]string{}, c.Demand.Suffixes...),
			Domains:  slices.Clone(c.Demand.Domains),
		}
	}
	return "", nil
}

// encryption is the cmdlets' word for what must be encrypted on the link: PAP and CHAP
// make no keys, and IPsec or TLS around them encrypts.
func encryption(c vpn.Connection) string {
	switch {
	case c.PPTP != nil && len(c.PPTP.MPPE) == 0:
		return "Optional"
	case c.PPTP != nil && len(c.PPTP.MPPE) == 1 && c.PPTP.MPPE[0] == "128":
		return "Maximum"
	case c.IKEv2 != nil:
		return "Required"
	}
	for _, m := range c.PPP() {
		if suite.PPPFacts[m].Keys {
			return "Required"
		}
	}
	return "Optional"
}

func strengths(encryption string) []suite.MPPE {
	switch encryption {
	case "Maximum":
		return []suite.MPPE{"128"}
	case "Required":
		return slices.Clone(suite.MPPEs)
	}
	return []suite.MPPE{}
}

// authentication names the methods, and the kind of EAP.
func authentication(c vpn.Connection) (list []string, eap string, err error) {
	if s := c.IKEv2; s != nil {
		switch s.Auth {
		case vpn.IKEv2MSCHAPv2:
			return []string{"Eap"}, "MSChapv2", nil
		case vpn.IKEv2EAPTLS:
			return []string{"Eap"}, "Tls", nil
		case vpn.IKEv2Certificate:
			return []string{"MachineCertificate"}, "", nil
		}
		return nil, "", &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldAuth,
			Found:    string(s.Auth),
			Expected: "eap-mschapv2, eap-tls or certificate",
		}
	}
	for _, m := range c.PPP() {
		name, ok := methods[m]
		if !ok {
			return nil, "", &format.UnfitError{
				Format:   title,
				Field:    vpn.FieldPPP,
				Found:    string(m),
				Expected: "eap, mschapv2, chap or pap",
			}
		}
		if m == suite.EAP {
			eap = "MSChapv2"
		}
		list = append(list, name)
	}
	return list, eap, nil
}

// algorithms are the six constants of one IKE and one child proposal, of IKEv2 and of
// L2TP/IPsec alike.
func algorithms(c vpn.Connection) ([]string, error) {
	ike, esp := c.Proposals()
	if len(ike) == 0 || len(esp) == 0 {
		return nil, nil
	}
	w, err := suite.ToWindows(ike[0], esp[0])
	if err != nil {
		return nil, format.NotCarried(title, "Windows", err)
	}
	return []string{w.Cipher, w.Transform, w.Encryption, w.Integrity, w.Group, w.PFS}, nil
}

// thumbprint is what Windows finds a certificate by: SHA-1 of its DER form.
func thumbprint(c *x509.Certificate) string { return fmt.Sprintf("%X", sha1.Sum(c.Raw)) }

// material is the certificates and keys of a connection as the scripts hold them, in base64.
// A certificate for EAP-TLS is a person's, all others are the machine's.
type material struct {
	authorities, thumbprints []string
	identity                 string
	passphrase               secret.Text
	person                   bool
	enrol                    *vpn.Enrol
	between                  []string
}

// materialOf packs what a connection brings along.
func materialOf(title string, c vpn.Connection) (m material, err error) {
	anchors, err := format.Anchors(title, c)
	if err != nil {
		return m, err
	}
	for _, a := range anchors {
		m.authorities, m.thumbprints = append(
			m.authorities,
			base64.StdEncoding.EncodeToString(a.Raw),
		), append(
			m.thumbprints,
			thumbprint(a),
		)
	}
	m.person = c.IKEv2 != nil && c.IKEv2.Auth == vpn.IKEv2EAPTLS
	if !c.NeedsIdentity() {
		return m, nil
	}
	if m.enrol = c.Identity.Enrol; m.enrol != nil {
		return m, m.enrols()
	}
	data, passphrase, err := format.Packed(title, c, false)
	if err != nil {
		return m, err
	}
	m.identity, m.passphrase = base64.StdEncoding.EncodeToString(data), passphrase
	if list, err := pki.Certificates(c.Identity.Certificate); err == nil {
		m.thumbprints = append(m.thumbprints, thumbprint(list[0]))
	}
	return m, nil
}

// enrols packs what a key needs that is made on the computer: nothing of it is there yet.
func (m *material) enrols() error {
	if m.enrol.Above == "" {
		return nil
	}
	list, err := pki.Certificates(m.enrol.Above)
	for _, c := range list {
		m.between = append(m.between, base64.StdEncoding.EncodeToString(c.Raw))
		m.thumbprints = append(m.thumbprints, thumbprint(c))
	}
	return err
}

// into writes it.
func (m material) into(b *block) {
	b.list("Authorities", m.authorities)
	b.text("Identity", m.identity)
	b.text("Passphrase", m.passphrase.Reveal())
	b.list("Thumbprints", m.thumbprints)
	b.flag("PersonIdentity", m.person)
	if e := m.enrol; e != nil {
		algorithm, length := "ECDSA_P256", "256"
		if e.RSA {
			algorithm, length = "RSA", "3072"
		}
		b.list("Intermediates", m.between)
		b.text("EnrolAddress", e.EST)
		b.text("RenewAddress", e.Renew)
		b.text("EnrolSecret", e.Secret.Reveal())
		b.text("CommonName", e.Name)
		b.text("KeyAlgorithm", algorithm)
		b.text("KeyLength", length)
	}
}

// Write makes the install script and the removal script.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols, format.Enrols); err != nil {
		return nil, err
	}
	if err := format.MainMode(title, c); err != nil {
		return nil, err
	}
	c = format.Ask(c)
	methods, eap, err := authentication(c)
	if err != nil {
		return nil, err
	}
	suite, err := algorithms(c)
	if err != nil {
		return nil, err
	}
	for _, long := range []struct {
		field vpn.Field
		value string
		limit int
	}{
		{vpn.FieldLogin, c.Login, 256},
		{vpn.FieldPassword, c.Password.Reveal(), 256},
		{vpn.FieldName, c.Name, 256},
	} {
		if n := units(long.value); n > long.limit {
			return nil, &format.UnfitError{
				Format:   title,
				Field:    long.field,
				Found:    fmt.Sprintf("%d UTF-16 units", n),
				Expected: fmt.Sprintf("at most %d (lmcons.h, ras.h)", long.limit),
			}
		}
	}
	when, d := demand(c)
	if when == vpn.AtSignIn && strings.ContainsAny(c.Name, `"%`) {
		return nil, &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldName,
			Found:    "a quote or a percent sign",
			Expected: "a name without, because a task calls it",
		}
	}
	if d == nil {
		d = &vpn.Demand{}
	}
	server := c.Server
	if c.SSTP != nil && c.SSTP.Port != 443 {
		if err := format.Host(title, vpn.FieldServer, c.Server); err != nil {
			return nil, err
		}
		server = vpn.JoinPort(c.Server, c.SSTP.Port)
	}
	m, err := materialOf(title, c)
	if err != nil {
		return nil, err
	}
	var proxy vpn.Proxy
	if p := Carried(c).Proxy; p != nil {
		proxy = *p
	}
	bare := format.Bare(c)
	commands := installBody
	if m.enrol != nil {
		commands = enrolBody
	}
	var b block
	b.text("Id", strings.ToUpper(c.UUID))
	b.text("Organisation", c.Organisation)
	b.text("Name", c.Name)
	b.text("Tunnel", tunnels[c.Protocol])
	b.text("ServerAddress", server)
	b.text("PreSharedKey", c.PSK().Reveal())
	m.into(&b)
	b.list("Authentication", methods)
	b.text("Eap", eap)
	b.text("Encryption", encryption(c))
	b.list("Algorithms", suite)
	b.text("Login", bare.Login)
	b.flag("Remember", bare.PasswordMode == vpn.PasswordSaved)
	b.text("Password", bare.Password.Reveal())
	b.flag("AllUsers", c.Scope == vpn.ScopeMachine)
	b.flag("SplitTunnel", c.Tunnel == vpn.TunnelSplit)
	b.list("Routes", bare.Routes)
	b.list("DnsServers", c.DNS)
	b.list("Domains", c.Domains)
	b.flag("GatewayBehindNat", c.L2TP != nil && c.L2TP.BehindNAT)
	b.flag("AtSignIn", when == vpn.AtSignIn)
	b.list("DemandDomains", d.Domains)
	b.list("TrustedSuffixes", d.Suffixes)
	b.text("ProxyScript", proxy.Script)
	b.text("ProxyServer", proxy.Server)
	b.list("ProxyBypass", proxy.Bypass)

	var r block
	r.text("Id", strings.ToUpper(c.UUID))
	r.text("Name", c.Name)
	r.flag("AllUsers", c.Scope == vpn.ScopeMachine)
	return []format.File{
		{
			Name: format.FileName(
				c.Name,
				"-install.ps1",
			),
			MediaType: "text/plain; charset=utf-8",
			Private:   true,
			Purpose:   "Install script: run it in PowerShell as administrator",
			Content: script(
				"Sets up a VPN connection. Safe to run twice.",
				requires,
				&b,
				commands,
			),
		},
		{
			Name:      format.FileName(c.Name, "-remove.ps1"),
			MediaType: "text/plain; charset=utf-8",
			Purpose:   "Removal script: takes away all that the install script made",
			Content: script(
				"Removes a VPN connection and all that its install script made.",
				requires,
				&r,
				removeBody,
			),
		},
	}, nil
}

// script joins a remark, what the script requires, its data and its body.
func script(what, requires string, b *block, body string) []byte {
	text := "# " + what + "\n" + requires + "\n" + blockStart + b.String() + blockEnd + body
	return []byte(bom + strings.ReplaceAll(text, "\n", "\r\n"))
}

// units counts UTF-16 code units, which is what Windows counts.
func units(v string) int {
	n := 0
	for _, r := range v {
		n++
		if r > 0xFFFF {
			n++
		}
	}
	return n
}

// block is the data of a script: one key a line.
type block struct{ strings.Builder }

// text writes a text as a verbatim string.
func (b *block) text(key, v string) { fmt.Fprintf(b, "    %-16s = %s\n", key, Quote(v)) }

// flag writes a truth value.
func (b *block) flag(key string, v bool) { fmt.Fprintf(b, "    %-16s = $%t\n", key, v) }

// list writes a list of texts.
func (b *block) list(key string, values []string) {
	quoted := make([]string, len(values))
	for i, v := range values {
		quoted[i] = Quote(v)
	}
	fmt.Fprintf(b, "    %-16s = @(%s)\n", key, strings.Join(quoted, ", "))
}

// single tells the characters that PowerShell takes for a single quote; each is
// escaped by doubling it (about_Quoting_Rules; language specification §2.3.5.2).
func single(r rune) bool { return r == '\'' || r >= 0x2018 && r <= 0x201B }

// Quote writes a PowerShell verbatim string: nothing in it is expanded.
func Quote(v string) string {
	var b strings.Builder
	b.WriteByte('\'')
	for _, r := range v {
		if single(r) {
			b.WriteRune(r)
		}
		b.WriteRune(r)
	}
	b.WriteByte('\'')
	return b.String()
}
