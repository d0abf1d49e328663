// Package windowsxml writes and reads the VPN profiles that device management sends to
// Windows 10 and 11 (ProfileXML of the VPNv2 configuration service provider): IKEv2,
// L2TP/IPsec and PPTP.
package windowsxml

import (
	"bytes"
	"cmp"
	"crypto/sha1"
	"encoding/xml"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"wardicon/core/format"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

const title = "Windows VPN profile XML"

var protocols = []vpn.Protocol{vpn.IKEv2, vpn.L2TP, vpn.PPTP}

// Codec is the format.
var Codec = format.Codec{
	Name:      platform.WindowsXML,
	Title:     title,
	Protocols: protocols,
	Write:     Write,
	Carried:   Carried,
	Detect:    Detect,
	Read:      Read,
}

type profile struct {
	XMLName      xml.Name `xml:"VPNProfile"`
	Name         string   `xml:"ProfileName"`
	Suffix       string   `xml:"DnsSuffix,omitempty"`
	Native       native   `xml:"NativeProfile"`
	Routes       []route  `xml:"Route"`
	Domains      []domain `xml:"DomainNameInformation"`
	Trusted      string   `xml:"TrustedNetworkDetection,omitempty"`
	AlwaysOn     bool     `xml:"AlwaysOn"`
	DeviceTunnel bool     `xml:"DeviceTunnel,omitempty"`
	Remember     bool     `xml:"RememberCredentials"`
	Proxy        *proxy   `xml:"Proxy,omitempty"`
}

type native struct {
	Server         string          `xml:"Servers"`
	Type           string          `xml:"NativeProtocolType"`
	PSK            string          `xml:"L2tpPsk,omitempty"`
	Routing        string          `xml:"RoutingPolicyType"`
	Authentication *authentication `xml:"Authentication"`
	Suite          *algorithms     `xml:"CryptographySuite,omitempty"`
	NoClassRoute   bool            `xml:"DisableClassBasedDefaultRoute"`
}

type authentication struct {
	User    string   `xml:"UserMethod,omitempty"`
	Machine string   `xml:"MachineMethod,omitempty"`
	EAP     *eapHost `xml:"Eap>Configuration,omitempty"`
}

type eapHost struct {
	Inner string `xml:",innerxml"`
}

type algorithms struct {
	Authentication string `xml:"AuthenticationTransformConstants"`
	Cipher         string `xml:"CipherTransformConstants"`
	Encryption     string `xml:"EncryptionMethod"`
	Integrity      string `xml:"IntegrityCheckMethod"`
	Group          string `xml:"DHGroup"`
	PFS            string `xml:"PfsGroup"`
}

type route struct {
	Address string `xml:"Address"`
	Bits    int    `xml:"PrefixSize"`
}

type domain struct {
	Name    string `xml:"DomainName"`
	Servers string `xml:"DnsServers,omitempty"`
	Trigger bool   `xml:"AutoTrigger,omitempty"`
}

type proxy struct {
	Manual *manual `xml:"Manual,omitempty"`
	Script string  `xml:"AutoConfigUrl,omitempty"`
}

type manual struct {
	Server string `xml:"Server"`
}

// Carried reduces a connection to what the file says. Certificates and sign-in reach the
// device by other ways of its management.
func Carried(c vpn.Connection) vpn.Connection {
	whole := c
	c = format.Bare(c)
	c.Login, c.Password, c.PasswordMode = "", secret.Text{}, vpn.PasswordPrompted
	c.UUID, c.Identifier, c.Organisation, c.Authority, c.Identity = "", "", "", "", nil
	if c.IKEv2 == nil || c.IKEv2.Auth != vpn.IKEv2Certificate {
		c.Scope = vpn.ScopePerson
	}
	if len(c.Domains) == 0 {
		c.DNS = []string{}
	}
	c.Connect, c.Demand = demand(whole)
	if p := whole.Proxy; p != nil && (p.Server != "" || p.Script != "") {
		c.Proxy = &vpn.Proxy{Script: p.Script, Server: p.Server, Bypass: []string{}}
	}
	if l := c.L2TP; l != nil {
		c.L2TP = &vpn.L2TPSetting{
			Auth: l.Auth,
			PSK:  l.PSK,
			PPP:  method(l.PPP),
			IKE:  []string{},
			ESP:  []string{},
		}
		if len(l.IKE) > 0 && len(l.ESP) > 0 {
			c.L2TP.IKE, c.L2TP.ESP = l.IKE[:1], l.ESP[:1]
		}
		if l.Auth == vpn.MachineCertificate {
			c.L2TP.PSK = secret.Text{}
		}
	}
	if s := c.PPTP; s != nil {
		c.PPTP = &vpn.PPTPSetting{PPP: method(s.PPP), MPPE: []suite.MPPE{}}
	}
	if s := c.IKEv2; s != nil {
		c.IKEv2 = &vpn.IKEv2Setting{Auth: s.Auth, IKE: []string{}, ESP: []string{}}
		if len(s.IKE) > 0 && len(s.ESP) > 0 {
			c.IKEv2.IKE, c.IKEv2.ESP = s.IKE[:1], s.ESP[:1]
		}
	}
	return c
}

// method is the one PPP method that is said: EAP or MS-CHAPv2.
func method(list []suite.PPPMethod) []suite.PPPMethod {
	for _, m := range []suite.PPPMethod{suite.MSCHAPv2, suite.EAP} {
		if slices.Contains(list, m) {
			return []suite.PPPMethod{m}
		}
	}
	return []suite.PPPMethod{}
}

// demand is when the device connects by itself, as far as the file can say it.
func demand(c vpn.Connection) (vpn.Connect, *vpn.Demand) {
	switch {
	case c.Connect == vpn.OnDemand && c.Demand != nil && len(c.Demand.Domains) > 0:
		return vpn.OnDemand, &vpn.Demand{
			Networks: []string{},
			Suffixes: append([]string{}, c.Demand.Suffixes...),
			Domains:  slices.Clone(c.Demand.Domains),
		}
	case c.Connect == vpn.OnDemand || c.Connect == vpn.Always:
		return vpn.Always, nil
	}
	return "", nil
}

// Write makes the file.
func Write(c vpn.Connection) ([]format.File, error) {
	if err := format.Sound(title, c, protocols); err != nil {
		return nil, err
	}
	if err := format.MainMode(title, c); err != nil {
		return nil, err
	}
	for _, v := range c.Domains {
		if err := format.Host(title, vpn.FieldDomains, v); err != nil {
			return nil, err
		}
	}
	when, d := demand(c)
	p := profile{
		Name:     c.Name,
		AlwaysOn: when == vpn.Always,
		Remember: c.PasswordMode == vpn.PasswordSaved,
		Native:   native{Server: c.Server, Routing: "ForceTunnel", NoClassRoute: true},
	}
	if c.Tunnel == vpn.TunnelSplit {
		p.Native.Routing = "SplitTunnel"
		for _, r := range c.Routes {
			prefix, _ := netip.ParsePrefix(r) // looked at before
			p.Routes = append(p.Routes, route{prefix.Addr().String(), prefix.Bits()})
		}
	}
	for i, v := range c.Domains {
		if i == 0 {
			p.Suffix = v
		}
		p.Domains = append(p.Domains, domain{Name: "." + v, Servers: strings.Join(c.DNS, ",")})
	}
	if d != nil {
		for _, v := range slices.Concat(d.Domains, d.Suffixes) {
			if err := format.Host(title, vpn.FieldDemand, v); err != nil {
				return nil, err
			}
		}
		for _, v := range d.Domains {
			p.Domains = append(p.Domains, domain{Name: "." + v, Trigger: true})
		}
		p.Trusted = strings.Join(d.Suffixes, ",")
	}
	if x := c.Proxy; x != nil && x.Server != "" {
		p.Proxy = &proxy{Manual: &manual{x.Server}}
	} else if x != nil && x.Script != "" {
		p.Proxy = &proxy{Script: x.Script}
	}
	if err := protocol(c, &p); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	enc := xml.NewEncoder(&out)
	enc.Indent("", "  ")
	if err := enc.Encode(p); err != nil {
		return nil, fmt.Errorf("%s: %w", title, err)
	}
	return []format.File{
		{
			Name:      format.FileName(c.Name, ".xml"),
			MediaType: "application/xml",
			Private:   true,
			Purpose:   "VPN profile: give it to the management of devices as ProfileXML",
			Content:   append(out.Bytes(), '\n'),
		},
	}, nil
}

func protocol(c vpn.Connection, p *profile) error {
	n := &p.Native
	user := func(list []suite.PPPMethod) error {
		m := method(list)
		if len(m) == 0 {
			return &format.UnfitError{
				Format:   title,
				Field:    vpn.FieldPPP,
				Found:    fmt.Sprint(list),
				Expected: "mschapv2 or eap",
			}
		}
		n.Authentication = &authentication{User: "MSChapv2"}
		if m[0] == suite.EAP {
			n.Authentication = &authentication{User: "Eap", EAP: &eapHost{eapMSCHAPv2}}
		}
		return nil
	}
	switch {
	case c.L2TP != nil:
		n.Type = "L2tp"
		if c.L2TP.Auth == vpn.MachinePSK {
			n.PSK = c.L2TP.PSK.Reveal()
			if n.PSK == "" {
				return &format.UnfitError{
					Format:   title,
					Field:    vpn.FieldPSK,
					Found:    "no key",
					Expected: "a pre-shared key",
				}
			}
		}
		if err := n.algorithms(c); err != nil {
			return err
		}
		return user(c.L2TP.PPP)
	case c.PPTP != nil:
		n.Type = "PPTP"
		return user(c.PPTP.PPP)
	}
	n.Type = "IKEv2"
	s := c.IKEv2
	switch s.Auth {
	case vpn.IKEv2Certificate:
		n.Authentication = &authentication{Machine: "Certificate"}
		p.DeviceTunnel = c.Scope == vpn.ScopeMachine
	case vpn.IKEv2MSCHAPv2:
		n.Authentication = &authentication{User: "Eap", EAP: &eapHost{eapMSCHAPv2}}
	case vpn.IKEv2EAPTLS:
		inner, err := eapTLS(c)
		if err != nil {
			return err
		}
		n.Authentication = &authentication{User: "Eap", EAP: &eapHost{inner}}
	default:
		return &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldAuth,
			Found:    string(s.Auth),
			Expected: "eap-mschapv2, eap-tls or certificate",
		}
	}
	return n.algorithms(c)
}

// algorithms writes one IKE and one child proposal, of IKEv2 and of L2TP/IPsec alike.
func (n *native) algorithms(c vpn.Connection) error {
	ike, esp := c.Proposals()
	if len(ike) == 0 || len(esp) == 0 {
		return nil
	}
	w, err := suite.ToWindows(ike[0], esp[0])
	if err != nil {
		return format.NotCarried(title, "Windows", err)
	}
	n.Suite = &algorithms{
		Authentication: w.Transform,
		Cipher:         w.Cipher,
		Encryption:     cmp.Or(profileNames[w.Encryption], w.Encryption),
		Integrity:      cmp.Or(profileNames[w.Integrity], w.Integrity),
		Group:          w.Group,
		PFS:            w.PFS,
	}
	return nil
}

// profileNames are constants of EncryptionMethod and IntegrityCheckMethod that have other
// names there than in the cmdlets (reference of the VPNv2 configuration service provider).
var profileNames = map[string]string{
	"GCMAES128": "AES_GCM_128",
	"GCMAES256": "AES_GCM_256",
	"SHA1":      "SHA196",
}

const eapMSCHAPv2 = `<EapHostConfig xmlns="http://www.microsoft.com/provisioning/EapHostConfig">` +
	`<EapMethod><Type xmlns="http://www.microsoft.com/provisioning/EapCommon">26</Type>` +
	`<VendorId xmlns="http://www.microsoft.com/provisioning/EapCommon">0</VendorId><VendorType ` +
	`xmlns="http://www.microsoft.com/provisioning/EapCommon">0</VendorType>` +
	`<AuthorId xmlns="http://www.microsoft.com/provisioning/EapCommon">0</AuthorId></EapMethod>` +
	`<Config xmlns="http://www.microsoft.com/provisioning/EapHostConfig">` +
	`<Eap xmlns="http://www.microsoft.com/provisioning/BaseEapConnectionPropertiesV1"><Type>` +
	`26</Type><EapType ` +
	`xmlns="http://www.microsoft.com/provisioning/MsChapV2ConnectionPropertiesV1">` +
	`<UseWinLogonCredentials>false</UseWinLogonCredentials></EapType></Eap></Config>` +
	`</EapHostConfig>`

// eapTLS names the gateway and, by its digest, the authority that vouches for it.
func eapTLS(c vpn.Connection) (string, error) {
	anchors, err := format.Anchors(title, c)
	if err != nil {
		return "", err
	}
	var server bytes.Buffer
	if err := xml.EscapeText(&server, []byte(c.Server)); err != nil {
		return "", err
	}
	roots := ""
	for _, a := range anchors {
		digest := sha1.Sum(a.Raw) // the thumbprint that Windows finds a certificate by
		roots += "<TrustedRootCA>" + strings.TrimSpace(
			fmt.Sprintf("% x", digest),
		) + "</TrustedRootCA>"
	}
	return `<EapHostConfig xmlns="http://www.microsoft.com/provisioning/EapHostConfig">` +
		`<EapMethod>` +
		`<Type xmlns="http://www.microsoft.com/provisioning/EapCommon">13</Type>` +
		`<VendorId xmlns="http://www.microsoft.com/provisioning/EapCommon">0</VendorId>` +
		`<VendorType xmlns="http://www.microsoft.com/provisioning/EapCommon">0</VendorType>` +
		`<AuthorId xmlns="http://www.microsoft.com/provisioning/EapCommon">0</AuthorId>` +
		`</EapMethod><Config xmlns="http://www.microsoft.com/provisioning/EapHostConfig">` +
		`<Eap xmlns="http://www.microsoft.com/provisioning/BaseEapConnectionPropertiesV1"><Type>` +
		`13</Type><EapType ` +
		`xmlns="http://www.microsoft.com/provisioning/EapTlsConnectionPropertiesV1">` +
		`<CredentialsSource><CertificateStore><SimpleCertSelection>true</SimpleCertSelection>` +
		`</CertificateStore></CredentialsSource><ServerValidation>` +
		`<DisableUserPromptForServerValidation>true</DisableUserPromptForServerValidation>` +
		`<ServerNames>` + server.String() + `</ServerNames>` + roots +
		`</ServerValidation><DifferentUsername>false</DifferentUsername></EapType></Eap></Config>` +
		`</EapHostConfig>`, nil
}

func number(v string) int {
	n, err := strconv.Atoi(strings.TrimSpace(v))
	if err != nil {
		return -1
	}
	return n
}
