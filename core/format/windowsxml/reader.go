package windowsxml

import (
	"bytes"
	"cmp"
	"fmt"
	"html"
	"net/netip"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/tree"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Detect tells a profile by its root element.
func Detect(_ string, data []byte) bool {
	head := data[:min(len(data), 4096)]
	return bytes.Contains(head, []byte("<VPNProfile")) || bytes.Contains(head, []byte(escaped))
}

// escaped is how a profile begins inside a message of device management.
const escaped = "&lt;VPNProfile"

// unwrapped takes a profile out of a message of device management (Microsoft, VPNv2 CSP): there it
// is escaped, or in a section of character data. Lines keep their numbers.
func unwrapped(text string) string {
	begin, end := "<VPNProfile", "</VPNProfile>"
	if strings.Contains(text, escaped) {
		begin, end = escaped, "&lt;/VPNProfile&gt;"
	} else if !strings.Contains(text, "<![CDATA[") {
		return text
	}
	i, j := strings.Index(text, begin), strings.LastIndex(text, end)
	if i < 0 || j < i {
		return text
	}
	inner := text[i : j+len(end)]
	if begin == escaped {
		inner = html.UnescapeString(inner)
	}
	return strings.Repeat("\n", strings.Count(text[:i], "\n")) + inner
}

var (
	topKeys = []string{
		"ProfileName",
		"DnsSuffix",
		"NativeProfile",
		"Route",
		"DomainNameInformation",
		"TrustedNetworkDetection",
		"AlwaysOn",
		"DeviceTunnel",
		"RememberCredentials",
		"Proxy",
		"AppTrigger",
		"TrafficFilter",
		"EdpModeId",
		"RegisterDNS",
		"LockDown",
		"ByPassForLocal",
		"DeviceCompliance",
		"PluginProfile",
		"AlwaysOnActive",
		"DisableAdvancedOptionsEditButton",
		"DisableDisconnectButton",
		"DataEncryption",
		"DisableIKEv2Fragmentation",
		"IPv4InterfaceMetric",
		"IPv6InterfaceMetric",
		"NetworkOutageTime",
		"PrivateNetwork",
		"UseRasCredentials",
	}
	nativeKeys = []string{
		"Servers",
		"NativeProtocolType",
		"L2tpPsk",
		"RoutingPolicyType",
		"Authentication",
		"CryptographySuite",
		"DisableClassBasedDefaultRoute",
		"PlumbIKEv2TSAsRoutes",
		"ProtocolList",
	}
)

// idle are elements that change nothing about a connection, or say what Windows assumes (Microsoft,
// VPNv2 configuration service provider).
var idle = tree.Idle{
	"ProfileName":                               "the name is taken from where the profile has it",
	"AlwaysOn=false":                            assumed,
	"AlwaysOnActive":                            "a switch of the person's, not of the profile",
	"RememberCredentials":                       "there is no password in the file",
	"DeviceTunnel=false":                        assumed,
	"LockDown=false":                            assumed,
	"RegisterDNS=false":                         assumed,
	"ByPassForLocal=false":                      assumed,
	"DisableAdvancedOptionsEditButton=false":    assumed,
	"DisableDisconnectButton=false":             assumed,
	"DisableIKEv2Fragmentation=false":           assumed,
	"PlumbIKEv2TSAsRoutes=false":                assumed,
	"UseRasCredentials":                         "for other programs alone",
	"DisableClassBasedDefaultRoute=true":        "routes stand beside it",
	"DisableClassBasedDefaultRoute=false":       assumed,
	"DataEncryption=Required":                   assumed,
	"DataEncryption=Max":                        assumed,
	"AutoTrigger=false":                         assumed,
	"Persistent=false":                          assumed,
	"VendorId":                                  ofEAP,
	"VendorType":                                ofEAP,
	"AuthorId":                                  ofEAP,
	"UseWinLogonCredentials=false":              assumed,
	"ExclusionRoute=false":                      assumed,
	"SimpleCertSelection=true":                  "the device finds its certificate",
	"DifferentUsername=false":                   assumed,
	"DisableUserPromptForServerValidation=true": "nobody is asked to trust a server",
	"PerformServerValidation=true":              assumed,
	"AcceptServerName=true":                     assumed,
	"Metric=1":                                  assumed,
}

const (
	assumed = "what the system assumes"
	ofEAP   = "the same for every method of the standards"
)

type reader struct{ tree.Walker }

// Read takes a profile apart. It always answers; what is wrong is in the notes.
func Read(name string, data []byte, _ format.Beside) format.Reading {
	r := &reader{tree.Walker{File: name}}
	text, ok := r.Reading.Text(name, data)
	if !ok {
		return r.Reading
	}
	root, err := tree.XML(name, []byte(unwrapped(text)))
	if err != nil {
		r.Fail(err)
		return r.Reading
	}
	p := root.Get("VPNProfile")
	if p == nil {
		r.Note(format.Unreadable, r.Start(), "no element VPNProfile")
		return r.Reading
	}
	r.settle(p, called(name, text))
	r.Account(p, idle)
	return r.Reading
}

// target is the path of a profile in a message of device management: it names the connection.
var target = regexp.MustCompile(`VPNv2/([^/<\s]+)/ProfileXML`)

// called is the name of a connection whose profile has none: that of the message's target, else of
// the file.
func called(name, text string) string {
	if m := target.FindStringSubmatch(text); m != nil {
		if plain, err := url.PathUnescape(m[1]); err == nil {
			return plain
		}
	}
	return strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
}

func (r *reader) yes(n *tree.Node, key string) bool {
	v := strings.TrimSpace(r.Text(n, key))
	if v != "" && v != "true" && v != "false" {
		r.Note(format.KeyMalformed, n.Get(key).At, "%s is %q, expected true or false", key, v)
	}
	return v == "true"
}

func (r *reader) settle(p *tree.Node, name string) {
	n := p.Get("NativeProfile")
	r.Known(p, topKeys)
	r.Known(n, nativeKeys)
	if n == nil {
		r.Note(format.NotYetRead, p.At, "a profile without NativeProfile")
		return
	}
	for _, key := range []string{"ProfileName", "NativeProfile", "AlwaysOn", "Proxy"} {
		if all := p.All(key); len(all) > 1 {
			r.Note(format.KeyTwice, all[1].At, "%s", key)
		}
	}
	c := vpn.Connection{
		Name:         cmp.Or(r.Text(p, "ProfileName"), name),
		Server:       r.Text(n, "Servers"),
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopePerson,
		Tunnel:       vpn.TunnelFull,
		Routes:       []string{},
		DNS:          []string{},
		Domains:      []string{},
	}
	if r.yes(p, "DeviceTunnel") {
		c.Scope = vpn.ScopeMachine
	}
	switch v := r.Text(n, "RoutingPolicyType"); v {
	case "SplitTunnel":
		c.Tunnel = vpn.TunnelSplit
	case "ForceTunnel", "":
	default:
		r.Note(
			format.KeyMalformed,
			n.Get("RoutingPolicyType").At,
			"RoutingPolicyType %q, expected SplitTunnel or ForceTunnel",
			v,
		)
	}
	for _, one := range p.All("Route") {
		text := fmt.Sprintf(
			"%s/%d",
			strings.TrimSpace(r.Text(one, "Address")),
			number(r.Text(one, "PrefixSize")),
		)
		if _, err := netip.ParsePrefix(text); err != nil {
			r.Note(
				format.KeyMalformed,
				one.At,
				"the route %s, expected an address and a prefix size",
				text,
			)
			continue
		}
		c.Routes = append(c.Routes, text)
	}
	r.names(p, &c)
	r.Switches(p, true, "RememberCredentials", "LockDown", "RegisterDNS", "ByPassForLocal",
		"DisableAdvancedOptionsEditButton", "DisableDisconnectButton", "DisableIKEv2Fragmentation",
		"UseRasCredentials")
	r.Switches(n, true, "DisableClassBasedDefaultRoute", "PlumbIKEv2TSAsRoutes")
	if len(c.Domains) > 0 && p.Said("DnsSuffix") == c.Domains[0] {
		p.Get("DnsSuffix") // says the same
	}
	if x := p.Get("Proxy"); x != nil {
		c.Proxy = &vpn.Proxy{
			Server: r.Text(x.Get("Manual"), "Server"),
			Script: r.Text(x, "AutoConfigUrl"),
			Bypass: []string{},
		}
	}
	auth := n.Get("Authentication")
	r.methods(p, auth)
	switch kind := r.Text(n, "NativeProtocolType"); strings.ToLower(kind) {
	case "l2tp":
		c.Protocol, c.L2TP = vpn.L2TP, &vpn.L2TPSetting{
			Auth: vpn.MachineCertificate,
			PSK:  secret.New(r.Text(n, "L2tpPsk")),
			PPP:  r.ppp(auth),
		}
		c.L2TP.IKE, c.L2TP.ESP = r.algorithms(n)
		if !c.L2TP.PSK.IsZero() {
			c.L2TP.Auth = vpn.MachinePSK
			r.Note(format.SecretClear, n.Get("L2tpPsk").At, "the pre-shared key")
		}
	case "pptp":
		c.Protocol, c.PPTP = vpn.PPTP, &vpn.PPTPSetting{PPP: r.ppp(auth), MPPE: []suite.MPPE{}}
	case "ikev2":
		c.Protocol, c.IKEv2 = vpn.IKEv2, r.ikev2(n, auth)
	case "automatic", "protocollist", "sstp":
		r.Note(format.NotYetRead, r.At(p, n, "NativeProtocolType"), "NativeProtocolType %q", kind)
		return
	default:
		r.Note(format.KeyMalformed, r.At(p, n, "NativeProtocolType"),
			"NativeProtocolType %q, expected IKEv2, L2tp or Pptp", kind)
		return
	}
	positions := map[vpn.Field]format.Position{}
	for field, w := range map[vpn.Field]struct {
		in  *tree.Node
		key string
	}{
		vpn.FieldName:     {p, "ProfileName"},
		vpn.FieldServer:   {n, "Servers"},
		vpn.FieldProtocol: {n, "NativeProtocolType"},
		vpn.FieldPSK:      {n, "L2tpPsk"},
		vpn.FieldTunnel:   {n, "RoutingPolicyType"},
		vpn.FieldPPP:      {n, "Authentication"},
		vpn.FieldAuth:     {n, "Authentication"},
		vpn.FieldIKE:      {n, "CryptographySuite"},
		vpn.FieldESP:      {n, "CryptographySuite"},
		vpn.FieldRoutes:   {p, "Route"},
		vpn.FieldDNS:      {p.Get("DomainNameInformation"), "DnsServers"},
		vpn.FieldDomains:  {p, "DnsSuffix"},
		vpn.FieldDemand:   {p, "TrustedNetworkDetection"},
		vpn.FieldConnect:  {p, "AlwaysOn"},
		vpn.FieldProxy:    {p, "Proxy"},
		vpn.FieldLogin:    {n, "Authentication"},
		vpn.FieldPassword: {n, "Authentication"},
	} {
		positions[field] = r.At(p, w.in, w.key)
	}
	r.Add(
		format.Located{Connection: c, Positions: positions, Apart: []vpn.Field{vpn.FieldIdentity}},
	)
}

// methods holds the way of signing in to the reference (Microsoft, VPNv2 CSP, Authentication). A
// device tunnel is up before anybody could be asked.
func (r *reader) methods(p, auth *tree.Node) {
	user := r.Text(auth, "UserMethod")
	if !slices.Contains([]string{"", "eap", "mschapv2"}, strings.ToLower(user)) {
		r.Note(
			format.KeyMalformed,
			auth.Get("UserMethod").At,
			"UserMethod %q, expected Eap or MSChapv2",
			user,
		)
	}
	machine := r.OneOf(auth, "MachineMethod", "Certificate", "Eap")
	switch {
	case user == "" && machine == "" && auth != nil:
		r.Note(format.KeyMissing, auth.At, "neither UserMethod nor MachineMethod")
	case user != "" && r.Text(p, "DeviceTunnel") == "true":
		r.Note(format.OptionConflict, auth.Get("UserMethod").At,
			"UserMethod %s in a device tunnel, expected MachineMethod Certificate", user)
	}
	if v := auth.Deep("PerformServerValidation"); v != nil && strings.TrimSpace(v.Text) == "false" {
		r.Note(format.CheckSwitchedOff, v.At, "PerformServerValidation false")
	}
}

// details reads the configuration of the EAP method as far as it says more than its type: what it
// trusts is carried nowhere.
func (r *reader) details(eap *tree.Node, host string) {
	method := eap.Get("Config", "Eap")
	method.Get("Type")
	inside := method.Get("EapType")
	inside.Get("CredentialsSource", "CertificateStore")
	checks := inside.Get("ServerValidation")
	if checks.Said("ServerNames") == host {
		checks.Get("ServerNames")
	}
}

// names reads domains, their servers, and what connects by itself.
func (r *reader) names(p *tree.Node, c *vpn.Connection) {
	d := &vpn.Demand{Networks: []string{}, Suffixes: []string{}, Domains: []string{}}
	for _, one := range p.All("DomainNameInformation") {
		name := strings.TrimPrefix(strings.TrimSpace(r.Text(one, "DomainName")), ".")
		if r.yes(one, "AutoTrigger") {
			d.Domains = append(d.Domains, name)
			continue
		}
		c.Domains = append(c.Domains, name)
		for server := range strings.SplitSeq(r.Text(one, "DnsServers"), ",") {
			if server = strings.TrimSpace(server); server != "" && !slices.Contains(c.DNS, server) {
				c.DNS = append(c.DNS, server)
			}
		}
	}
	for suffix := range strings.SplitSeq(r.Text(p, "TrustedNetworkDetection"), ",") {
		if suffix = strings.TrimSpace(suffix); suffix != "" {
			d.Suffixes = append(d.Suffixes, suffix)
		}
	}
	switch {
	case r.yes(p, "AlwaysOn"):
		c.Connect = vpn.Always
	case len(d.Domains) > 0:
		c.Connect, c.Demand = vpn.OnDemand, d
		return
	}
	if len(d.Suffixes) > 0 {
		r.Left("TrustedNetworkDetection", r.At(p, p, "TrustedNetworkDetection"))
	}
	if len(d.Domains) > 0 {
		r.Left("AutoTrigger beside AlwaysOn", r.At(p, p, "DomainNameInformation"))
	}
}

func (r *reader) ppp(auth *tree.Node) []suite.PPPMethod {
	switch v := r.Text(auth, "UserMethod"); v {
	case "MSChapv2", "Mschapv2":
		return []suite.PPPMethod{suite.MSCHAPv2}
	case "Eap":
		return []suite.PPPMethod{suite.EAP}
	default:
		at := r.Start()
		if auth != nil {
			at = auth.At
		}
		r.Note(format.KeyMalformed, at, "UserMethod %q, expected MSChapv2 or Eap", v)
	}
	return []suite.PPPMethod{}
}

func (r *reader) ikev2(n, auth *tree.Node) *vpn.IKEv2Setting {
	s := &vpn.IKEv2Setting{IKE: []string{}, ESP: []string{}}
	eap := auth.Get("Eap", "Configuration", "EapHostConfig", "EapMethod")
	r.details(auth.Get("Eap", "Configuration", "EapHostConfig"), r.Text(n, "Servers"))
	user, machine := r.Text(auth, "UserMethod"), r.Text(auth, "MachineMethod")
	if user != "" && machine != "" {
		r.Left("UserMethod "+user, r.At(auth, auth, "UserMethod"))
	}
	switch {
	case machine == "Certificate":
		s.Auth = vpn.IKEv2Certificate
	case number(r.Text(eap, "Type")) == 26:
		s.Auth = vpn.IKEv2MSCHAPv2
	case number(r.Text(eap, "Type")) == 13:
		s.Auth = vpn.IKEv2EAPTLS
	default:
		r.OtherEAP(number(r.Text(eap, "Type")), r.At(n, n, "Authentication"))
	}
	s.IKE, s.ESP = r.algorithms(n)
	return s
}

// algorithms reads one IKE and one child proposal.
func (r *reader) algorithms(n *tree.Node) (ike, esp []string) {
	x := n.Get("CryptographySuite")
	if x == nil {
		return []string{}, []string{}
	}
	constant := func(key string) string {
		v := r.Text(x, key)
		for own, theirs := range profileNames {
			if v == theirs {
				return own
			}
		}
		return v
	}
	ike, esp, unknown := suite.FromWindows(suite.WindowsSuite{
		Cipher: r.Text(
			x,
			"CipherTransformConstants",
		),
		Transform:  r.Text(x, "AuthenticationTransformConstants"),
		Encryption: constant("EncryptionMethod"),
		Integrity: constant(
			"IntegrityCheckMethod",
		),
		Group: r.Text(x, "DHGroup"),
		PFS:   r.Text(x, "PfsGroup"),
	})
	for _, v := range unknown {
		r.Note(format.KeyMalformed, x.At, "%q is none that Windows names", v)
	}
	return ike, esp
}
