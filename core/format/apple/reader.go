package apple

import (
	"bytes"
	"errors"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Detect tells an Apple profile by its name or its beginning.
func Detect(name string, data []byte) bool {
	head := data[:min(len(data), 512)]
	return strings.EqualFold(filepath.Ext(name), ".mobileconfig") || bytes.Contains(head, []byte("<plist")) || bytes.HasPrefix(head, []byte("bplist"))
}

// Keys that Apple's reference names; all else is remarked.
var (
	commonKeys = []string{"PayloadContent", "PayloadDescription", "PayloadDisplayName", "PayloadIdentifier", "PayloadOrganization", "PayloadType", "PayloadUUID", "PayloadVersion", "PayloadEnabled"}
	topKeys    = append([]string{"PayloadScope", "PayloadRemovalDisallowed", "PayloadExpirationDate", "RemovalDate", "DurationUntilRemoval", "ConsentText", "HasRemovalPasscode", "EncryptedPayloadContent", "IsEncrypted", "TargetDeviceType"}, commonKeys...)
	vpnKeys    = append([]string{"UserDefinedName", "VPNType", "VPNSubType", "PPP", "IPSec", "IPv4", "DNS", "Proxies", "EAP", "IKEv2", "VPN", "VendorConfig", "OverridePrimary", "TransparentProxy", "AlwaysOn"}, commonKeys...)
	pppKeys    = []string{"AuthName", "AuthPassword", "AuthenticationMethod", "AuthEAPPlugins", "AuthProtocol", "CommRemoteAddress", "TokenCard", "CCPEnabled", "CCPMPPE40Enabled", "CCPMPPE128Enabled", "DisconnectOnIdle", "DisconnectOnIdleTimer"}
	ipsecKeys  = []string{"AuthenticationMethod", "SharedSecret", "LocalIdentifier", "LocalIdentifierType", "RemoteAddress", "XAuthEnabled", "XAuthName", "XAuthPassword", "XAuthPasswordEncryption", "PayloadCertificateUUID", "PromptForVPNPIN", "OnDemandEnabled", "OnDemandRules"}
	dnsKeys    = []string{"ServerAddresses", "SearchDomains", "DomainName", "SupplementalMatchDomains", "SupplementalMatchDomainsNoSearch", "DNSProtocol", "ServerURL", "ServerName"}
)

// reader gathers what one profile says.
type reader struct {
	format.Reading
	file string
}

// Read takes a profile apart. It always answers; what is wrong is in the notes.
func Read(name string, data []byte) format.Reading {
	r := &reader{file: name}
	start := format.Position{File: name, Line: 1, Column: 1}
	switch {
	case len(data) > format.MaxFile:
		r.Note(format.Unreadable, start, "%d bytes, more than %d", len(data), format.MaxFile)
	case bytes.HasPrefix(data, []byte("bplist")):
		r.Note(format.Unreadable, start, "a binary property list; convert it to XML first (plutil -convert xml1)")
	case len(data) > 0 && data[0] == 0x30:
		r.Note(format.Unreadable, start, "a signed profile (CMS); take the property list out of its signature first")
	case bytes.HasPrefix(data, []byte{0xFE, 0xFF}) || bytes.HasPrefix(data, []byte{0xFF, 0xFE}) || !utf8.Valid(data):
		r.Note(format.Unreadable, start, "not in UTF-8; save it in that encoding")
	default:
		r.read(bytes.TrimPrefix(data, []byte("\uFEFF")))
	}
	return r.Reading
}

func (r *reader) read(data []byte) {
	root, twice, err := parse(r.file, data)
	if err != nil {
		at := format.Position{File: r.file, Line: 1, Column: 1}
		what := "the file ends before it began"
		var fault *syntaxError
		if errors.As(err, &fault) {
			at, what = fault.at, fault.what
		}
		r.Note(format.Unreadable, at, "%s", what)
		return
	}
	for _, e := range twice {
		r.Note(format.KeyTwice, e.at, "%s", e.key)
	}
	if root.kind != "dict" {
		r.Note(format.Unreadable, root.at, "%s at the top, expected a dict", root.kind)
		return
	}
	if t := r.text(root, "PayloadType"); t != "Configuration" {
		r.Note(format.KeyMalformed, root.at, "PayloadType is %q, expected Configuration", t)
	}
	r.known(root, topKeys)
	content := root.get("PayloadContent")
	if content == nil || content.kind != "array" {
		r.Note(format.KeyMalformed, root.at, "no array PayloadContent")
		return
	}
	for _, item := range content.items {
		switch kind := r.text(item, "PayloadType"); {
		case kind == "com.apple.vpn.managed":
			r.vpn(root, item)
		case strings.HasPrefix(kind, "com.apple.security.pkcs") || kind == "com.apple.security.root" || kind == "com.apple.security.pem":
			r.Note(format.NotYetRead, item.at, "a certificate (%s)", kind)
		default:
			r.Note(format.Unrelated, item.at, "%q", kind)
		}
	}
}

func (r *reader) vpn(root, p *node) {
	if t := r.text(p, "VPNType"); t != "L2TP" {
		r.Note(format.NotYetRead, p.at, "VPNType %q; L2TP is what is checked so far", t)
		return
	}
	r.known(p, vpnKeys)
	ppp, ipsec, dns := p.get("PPP"), p.get("IPSec"), p.get("DNS")
	r.known(ppp, pppKeys)
	r.known(ipsec, ipsecKeys)
	r.known(dns, dnsKeys)

	c := vpn.Connection{
		Protocol: vpn.L2TP, Name: r.text(p, "UserDefinedName"), Server: r.text(ppp, "CommRemoteAddress"), Login: r.text(ppp, "AuthName"),
		Password: secret.New(r.text(ppp, "AuthPassword")), Keep: vpn.KeepAsked, Scope: vpn.ScopePerson, Tunnel: vpn.TunnelSplit,
		UUID: strings.ToUpper(r.text(root, "PayloadUUID")), Identifier: r.text(root, "PayloadIdentifier"), Organisation: r.text(root, "PayloadOrganization"),
		Routes: []string{}, DNS: r.list(dns, "ServerAddresses"), Domains: r.list(dns, "SearchDomains"), L2TP: &vpn.L2TPSetting{},
	}
	if ppp.get("AuthPassword") != nil {
		c.Keep = vpn.KeepSaved
		r.Note(format.SecretClear, ppp.get("AuthPassword").at, "the password")
	}
	if r.text(root, "PayloadScope") == "System" {
		c.Scope = vpn.ScopeMachine
	}
	if r.integer(p.get("IPv4"), "OverridePrimary") == 1 || r.integer(p, "OverridePrimary") == 1 {
		c.Tunnel = vpn.TunnelFull
	}
	if psk := ipsec.get("SharedSecret"); psk != nil {
		if psk.kind != "data" {
			r.Note(format.KeyMalformed, psk.at, "SharedSecret is a %s, expected data", psk.kind)
		} else if !utf8.Valid(psk.data) {
			r.Note(format.KeyMalformed, psk.at, "the shared secret is not UTF-8")
		} else {
			c.L2TP.PSK = secret.New(string(psk.data))
			r.Note(format.SecretClear, psk.at, "the pre-shared key")
		}
	}
	if _, err := uuid.Parse(c.UUID); err != nil {
		r.Note(format.KeyMalformed, r.at(root, root, "PayloadUUID"), "PayloadUUID is not a UUID")
	}
	positions := map[vpn.Field]format.Position{}
	for _, where := range []struct {
		field vpn.Field
		in    *node
		key   string
	}{
		{vpn.FieldName, p, "UserDefinedName"}, {vpn.FieldServer, ppp, "CommRemoteAddress"}, {vpn.FieldLogin, ppp, "AuthName"},
		{vpn.FieldPassword, ppp, "AuthPassword"}, {vpn.FieldPSK, ipsec, "SharedSecret"}, {vpn.FieldDNS, dns, "ServerAddresses"},
		{vpn.FieldDomains, dns, "SearchDomains"}, {vpn.FieldTunnel, p, "IPv4"}, {vpn.FieldProtocol, p, "VPNType"}, {vpn.FieldIdentifier, root, "PayloadIdentifier"},
	} {
		positions[where.field] = r.at(p, where.in, where.key)
	}
	r.Connections = append(r.Connections, format.Located{Connection: c, Positions: positions})
}

// known remarks keys outside a list.
func (r *reader) known(n *node, keys []string) {
	if n != nil {
		for _, e := range n.dict {
			if !slices.Contains(keys, e.key) {
				r.Note(format.KeyUnknown, e.at, "%s", e.key)
			}
		}
	}
}

// at is the place of a key, or that of the dictionary around it where it is absent.
func (r *reader) at(around, n *node, key string) format.Position {
	if v := n.get(key); v != nil {
		return v.at
	}
	return around.at
}

// text reads a string; another type is remarked.
func (r *reader) text(n *node, key string) string {
	v := n.get(key)
	if v == nil {
		return ""
	}
	if v.kind != "string" {
		r.Note(format.KeyMalformed, v.at, "%s is a %s, expected a string", key, v.kind)
		return ""
	}
	return v.text
}

func (r *reader) list(n *node, key string) []string {
	list := []string{}
	v := n.get(key)
	if v == nil {
		return list
	}
	if v.kind != "array" {
		r.Note(format.KeyMalformed, v.at, "%s is a %s, expected an array", key, v.kind)
	}
	for _, item := range v.items {
		if item.kind != "string" {
			r.Note(format.KeyMalformed, item.at, "a %s in %s, expected a string", item.kind, key)
			continue
		}
		list = append(list, item.text)
	}
	return list
}

func (r *reader) integer(n *node, key string) int {
	v := n.get(key)
	switch {
	case v == nil:
		return 0
	case v.kind == "true":
		return 1
	case v.kind == "false":
		return 0
	}
	i, err := strconv.Atoi(strings.TrimSpace(v.text))
	if err != nil || v.kind != "integer" {
		r.Note(format.KeyMalformed, v.at, "%s is no integer", key)
	}
	return i
}
