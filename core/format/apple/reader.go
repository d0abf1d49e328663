package apple

import (
	"bytes"
	"cmp"
	"crypto/x509"
	"encoding/asn1"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/format/tree"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Detect tells an Apple profile by its name or its beginning.
func Detect(name string, data []byte) bool {
	head := data[:min(len(data), 512)]
	return strings.EqualFold(filepath.Ext(name), ".mobileconfig") ||
		bytes.Contains(head, []byte("<plist")) ||
		bytes.HasPrefix(head, []byte("bplist"))
}

// reader gathers what one profile says.
type reader struct {
	tree.Walker
	signed     bool
	anchors    []*x509.Certificate
	identities map[string]*vpn.Identity // by the UUID of their payload
	closed     map[string]bool          // identities whose passphrase is asked for
	beside     format.Beside
}

// Read takes a profile apart. It always answers; what is wrong is in the notes.
func Read(name string, data []byte, beside format.Beside) format.Reading {
	r := &reader{
		beside:     beside,
		Walker:     tree.Walker{File: name},
		identities: map[string]*vpn.Identity{},
		closed:     map[string]bool{},
	}
	switch {
	case len(data) > format.MaxFile:
		r.Note(format.Unreadable, r.Start(), "%d bytes, more than %d", len(data), format.MaxFile)
	case len(data) > 0 && data[0] == 0x30:
		signed, err := pki.Signed(data, nil)
		if err != nil {
			r.Note(format.Unreadable, r.Start(), "%s", err)
			break
		}
		r.signed = true
		r.read(signed.Content)
	default:
		r.read(data)
	}
	return r.Reading
}

// read takes a property list of either form.
func (r *reader) read(data []byte) {
	var root *tree.Node
	var twice []tree.Entry
	var err error
	data = format.UTF8(data)
	if head, rest, ok := bytes.Cut(data, []byte("?>")); ok && utf8.Valid(data) {
		// What the declaration says of UTF-16 is true no more.
		head = bytes.Replace(head, []byte("UTF-16"), []byte("UTF-8"), 1)
		data = slices.Concat(head, []byte("?>"), rest)
	}
	switch {
	case bytes.HasPrefix(data, []byte(binaryMark)):
		root, err = parseBinary(r.File, data)
	case bytes.HasPrefix(data, []byte{0xFE, 0xFF}) || bytes.HasPrefix(data, []byte{0xFF, 0xFE}) ||
		!utf8.Valid(data):
		r.Note(format.Unreadable, r.Start(), "not in UTF-8; save it in that encoding")
		return
	default:
		root, twice, err = parse(r.File, bytes.TrimPrefix(data, []byte("\uFEFF")))
	}
	if err != nil {
		r.Fail(err)
		return
	}
	for _, e := range twice {
		r.Note(format.KeyTwice, e.At, "%s", e.Key)
	}
	if root.Kind != "dict" {
		r.Note(format.Unreadable, root.At, "%s at the top, expected a dict", root.Kind)
		return
	}
	if t := r.Text(root, "PayloadType"); t != "" && t != "Configuration" {
		r.Note(format.KeyMalformed, root.At, "PayloadType is %q, expected Configuration", t)
	}
	r.Known(root, topKeys)
	if !r.signed {
		r.Note(format.Unsigned, r.Start(), "no signature")
	}
	content := root.Get("PayloadContent")
	if content == nil || content.Kind != "array" {
		r.Note(format.KeyMalformed, root.At, "no array PayloadContent")
		return
	}
	r.removal(root)
	r.lasting(root)
	var connections []*tree.Node
	seen := map[string]bool{}
	r.header(root, seen)
	for _, item := range content.Items {
		r.header(item, seen)
		switch kind := r.Text(item, "PayloadType"); kind {
		case "com.apple.vpn.managed":
			connections = append(connections, item)
		case "com.apple.security.root", "com.apple.security.pkcs1", "com.apple.security.pem":
			r.anchor(item)
		case "com.apple.security.pkcs12":
			r.identity(item)
		case scepType:
			r.enrolment(item)
		default:
			if right := format.Meant(kind, payloadTypes); right != "" {
				r.Note(format.KeyMalformed, r.At(item, item, "PayloadType"),
					"PayloadType %q, expected %s", kind, right)
				r.Leave(item, "a payload of the type "+kind)
				continue
			}
			r.Note(format.Unrelated, item.At, "%q", kind)
			r.Leave(item, "a payload of the type "+kind)
		}
	}
	for _, item := range connections {
		r.vpn(root, item)
	}
	r.Account(root, idle)
}

// header holds what each payload must have, and what no two may share (Apple, Device Management,
// CommonPayloadKeys and TopLevel).
func (r *reader) header(n *tree.Node, seen map[string]bool) {
	for _, key := range []string{
		"PayloadType", "PayloadVersion", "PayloadIdentifier", "PayloadUUID",
	} {
		v := n.Get(key)
		if v == nil || strings.TrimSpace(v.Text) == "" {
			r.Note(format.KeyMissing, r.At(n, n, key), "no %s", key)
		} else if key == "PayloadVersion" && v.Kind != "integer" {
			r.Note(format.KeyMalformed, v.At, "PayloadVersion is a %s, expected an integer", v.Kind)
		}
	}
	for _, key := range []string{"PayloadIdentifier", "PayloadUUID"} {
		id := strings.ToUpper(r.Text(n, key))
		if id != "" && seen[id] {
			r.Note(format.IdentifierTwice, r.At(n, n, key), "%s %q", key, id)
		}
		seen[id] = true
	}
}

// removal tells when the device takes the profile off by itself.
func (r *reader) removal(root *tree.Node) {
	for _, key := range []string{"RemovalDate", "PayloadExpirationDate"} {
		v := root.Get(key)
		if v == nil {
			continue
		}
		day, err := time.Parse(time.RFC3339, strings.TrimSpace(v.Text))
		if err != nil || v.Kind != "date" {
			r.Note(format.KeyMalformed, v.At, "%s is no date such as 2027-01-31T00:00:00Z", key)
			continue
		}
		r.Dated(format.RemovesItself, v.At, day, "%s %s", key, day.Format(time.DateOnly))
		r.Left(key+" "+day.Format(time.DateOnly), v.At)
	}
}

// lasting tells of a profile that goes some time after it came.
func (r *reader) lasting(root *tree.Node) {
	v := root.Get("DurationUntilRemoval")
	if v == nil {
		return
	}
	seconds, err := strconv.ParseFloat(strings.TrimSpace(v.Text), 64)
	if err != nil {
		r.Note(format.KeyMalformed, v.At, "DurationUntilRemoval is no number of seconds")
		return
	}
	r.Note(format.RemovesItself, v.At, "DurationUntilRemoval %s after it was installed",
		(time.Duration(seconds) * time.Second).String())
	r.Left("DurationUntilRemoval "+v.Text, v.At)
}

func (r *reader) anchor(item *tree.Node) {
	n := item.Get("PayloadContent")
	if n == nil || n.Kind != "data" {
		r.Note(format.KeyMalformed, item.At, "a certificate without data")
		return
	}
	if bytes.Contains(n.Data, []byte("-----BEGIN")) {
		list, err := pki.Certificates(string(n.Data))
		if err != nil {
			r.Note(format.KeyMalformed, n.At, "%s", err)
		}
		r.anchors = append(r.anchors, list...)
		return
	}
	c, err := pki.Certificate(n.Data)
	if err != nil {
		r.Note(format.KeyMalformed, n.At, "a certificate that cannot be read")
		return
	}
	r.anchors = append(r.anchors, c)
}

func (r *reader) identity(item *tree.Node) {
	n := item.Get("PayloadContent")
	if n == nil || n.Kind != "data" {
		r.Note(format.KeyMalformed, item.At, "a PKCS#12 identity without data")
		return
	}
	if !bagged(n.Data) {
		r.Note(format.KeyMalformed, n.At, "no PKCS#12 file")
		return
	}
	passphrase := r.Text(item, "Password")
	told, there := r.beside.Get(strings.TrimSuffix(r.File, filepath.Ext(r.File)) + passphraseFile)
	switch {
	case item.Get("Password") != nil:
	case there:
		passphrase = strings.TrimSpace(string(told))
	default:
		r.Note(format.NotYetRead, n.At, "a PKCS#12 identity whose passphrase is prompted for")
		r.closed[strings.ToUpper(r.Text(item, "PayloadUUID"))] = true
		return
	}
	id, err := r.Unpacked(n.Data, secret.New(passphrase))
	if err != nil {
		r.Note(format.KeyMalformed, n.At, "%s", err)
		return
	}
	r.Note(format.SecretClear, n.At, "a private key with its passphrase")
	r.identities[strings.ToUpper(r.Text(item, "PayloadUUID"))] = id
}

// enrolment reads how the device asks for its certificate itself.
func (r *reader) enrolment(item *tree.Node) {
	n := item.Get("PayloadContent")
	if n == nil {
		r.Note(format.KeyMalformed, item.At, "no dictionary PayloadContent")
		return
	}
	e := &vpn.Enrol{
		SCEP: r.Text(n, "URL"), Secret: secret.New(r.Text(n, "Challenge")),
		RSA: r.Text(n, "Key Type") != "ECSECPrimeRandom",
	}
	if !e.Secret.IsZero() {
		r.Note(format.SecretClear, n.At, "a challenge password")
	}
	if s := n.Get("Subject"); s != nil {
		for _, set := range s.Items {
			for _, pair := range set.Items {
				if len(pair.Items) == 2 && pair.Items[0].Text == "CN" {
					e.Name = pair.Items[1].Text
				}
			}
		}
	}
	r.Leave(n, "")
	r.identities[strings.ToUpper(r.Text(item, "PayloadUUID"))] = &vpn.Identity{Enrol: e}
}

// place is where a value stands: under a key of a dictionary.
type place struct {
	in  *tree.Node
	key string
}

func (r *reader) vpn(root, p *tree.Node) {
	ppp, ipsec, dns, ike := p.Get("PPP"), p.Get("IPSec"), p.Get("DNS"), p.Get("IKEv2")
	c := vpn.Connection{
		Name: r.Text(
			p,
			"UserDefinedName",
		),
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopePerson,
		Tunnel:       vpn.TunnelSplit,
		UUID: strings.ToUpper(
			r.Text(root, "PayloadUUID"),
		),
		Identifier:   r.Text(root, "PayloadIdentifier"),
		Organisation: r.Text(root, "PayloadOrganization"),
		Routes:       []string{},
		DNS:          r.List(dns, "ServerAddresses"),
		Domains:      r.List(dns, "SearchDomains"),
		Proxy:        r.proxy(p.Get("Proxies")),
		Authority:    pki.Bundle(r.anchors...),
	}
	r.Known(p, vpnKeys)
	r.Known(ppp, pppKeys)
	r.Known(ipsec, ipsecKeys)
	r.Known(dns, dnsKeys)
	r.Known(ike, ikeKeys)
	for _, n := range []*tree.Node{p, ppp, ipsec} {
		if n.Get("OnDemandEnabled") != nil && r.Flag(n, "OnDemandEnabled") {
			r.Note(
				format.DemandLacking,
				n.Get("OnDemandEnabled").At,
				"OnDemandEnabled beside %s",
				r.Text(p, "VPNType"),
			)
			r.Left("OnDemandEnabled 1", n.Get("OnDemandEnabled").At)
		}
	}
	where := map[vpn.Field]place{
		vpn.FieldName: {
			p,
			"UserDefinedName",
		},
		vpn.FieldServer:   {ppp, "CommRemoteAddress"},
		vpn.FieldLogin:    {ppp, "AuthName"},
		vpn.FieldPassword: {ppp, "AuthPassword"},
		vpn.FieldPSK: {
			ipsec,
			"SharedSecret",
		},
		vpn.FieldDNS:     {dns, "ServerAddresses"},
		vpn.FieldDomains: {dns, "SearchDomains"},
		vpn.FieldTunnel:  {p, "IPv4"},
		vpn.FieldProtocol: {
			p,
			"VPNType",
		},
		vpn.FieldIdentifier: {root, "PayloadIdentifier"},
		vpn.FieldAuth:       {ipsec, "AuthenticationMethod"},
		vpn.FieldMPPE:       {ppp, "CCPEnabled"},
		vpn.FieldProxy:      {p, "Proxies"},
		vpn.FieldGroup:      {ipsec, "LocalIdentifier"},
	}
	owner := ppp
	switch kind := r.Text(p, "VPNType"); kind {
	case "L2TP":
		c.Protocol, c.L2TP = vpn.L2TP, r.l2tp(ipsec)
		c.Server = r.Text(ppp, "CommRemoteAddress")
	case "PPTP":
		c.Protocol, c.PPTP = vpn.PPTP, &vpn.PPTPSetting{MPPE: []suite.MPPE{}}
		c.Server = r.Text(ppp, "CommRemoteAddress")
		if r.Flag(ppp, "CCPMPPE128Enabled") {
			c.PPTP.MPPE = append(c.PPTP.MPPE, "128")
		}
		if r.Flag(ppp, "CCPMPPE40Enabled") {
			c.PPTP.MPPE = append(c.PPTP.MPPE, "40")
		}
		if len(c.PPTP.MPPE) > 0 {
			ppp.Get("CCPEnabled") // goes with them
		}
	case "IKEv2":
		c.Protocol, c.IKEv2 = vpn.IKEv2, r.ikev2(p, ike)
		c.Server, owner = r.Text(ike, "RemoteAddress"), ike
		r.demand(ike, &c)
		c.Reconnect = c.Connect != ""
		if r.Flag(ike, "IncludeAllNetworks") {
			c.Tunnel, c.IPv6 = vpn.TunnelFull, vpn.IPv6Refused
		}
		for field, key := range map[vpn.Field]string{
			vpn.FieldServer:   "RemoteAddress",
			vpn.FieldLogin:    "AuthName",
			vpn.FieldPassword: "AuthPassword",
			vpn.FieldPSK:      "SharedSecret",
			vpn.FieldAuth:     "AuthenticationMethod",
			vpn.FieldLocalID:  "LocalIdentifier",
			vpn.FieldRemoteID: "RemoteIdentifier",
			vpn.FieldDPD:      "DeadPeerDetectionRate",
			vpn.FieldMOBIKE:   "DisableMOBIKE",
			vpn.FieldDemand:   "OnDemandRules",
			vpn.FieldConnect:  "OnDemandEnabled",
			vpn.FieldIdentity: "PayloadCertificateUUID",
		} {
			where[field] = place{ike, key}
		}
		own := ike.Get("IKESecurityAssociationParameters")
		where[vpn.FieldIKE] = place{own, "EncryptionAlgorithm"}
		where[vpn.FieldLifetime] = place{own, "LifeTimeInMinutes"}
		where[vpn.FieldESP] = place{
			ike.Get("ChildSecurityAssociationParameters"),
			"EncryptionAlgorithm",
		}
	default:
		if !slices.Contains(vpnTypes, kind) {
			r.Note(format.KeyMalformed, r.At(p, p, "VPNType"), "VPNType %q, expected %s", kind,
				cmp.Or(format.Meant(kind, vpnTypes), "IKEv2 or L2TP"))
		} else {
			r.Note(format.NotYetRead, r.At(p, p, "VPNType"), "VPNType %q", kind)
		}
		r.Leave(p, "a VPN of the type "+kind)
		return
	}
	if c.NeedsPassword() {
		c.Login = r.Text(owner, "AuthName")
		if v := owner.Get("AuthPassword"); v != nil {
			c.Password, c.PasswordMode = secret.New(
				r.Text(owner, "AuthPassword"),
			), vpn.PasswordSaved
			r.Note(format.SecretClear, v.At, "the password")
		}
	}
	apart := []vpn.Field{vpn.FieldRoutes} // the gateway hands them out
	if c.NeedsIdentity() {
		from := ipsec
		if ike != nil {
			from = ike
		}
		id := strings.ToUpper(r.Text(from, "PayloadCertificateUUID"))
		c.Identity = r.identities[id]
		switch {
		case r.closed[id]:
			apart = append(apart, vpn.FieldIdentity)
		case c.Identity != nil && c.Identity.Enrol != nil: // its certificate is not known yet
		case c.Identity != nil && ike != nil:
			if chain, err := pki.Certificates(
				c.Identity.Certificate,
			); err == nil &&
				!sameKind(r.Text(ike, "CertificateType"), chain[0]) {
				r.Note(
					format.KeyKindDiffers,
					r.At(p, ike, "CertificateType"),
					"CertificateType %q, and the key is %s",
					r.Text(ike, "CertificateType"),
					pki.KeyKind(chain[0]),
				)
			}
		case c.Identity == nil:
			r.Note(
				format.FileMissing,
				r.At(p, from, "PayloadCertificateUUID"),
				"no payload with the identity",
			)
		}
	}
	if r.Text(root, "PayloadScope") == "System" {
		c.Scope = vpn.ScopeMachine
	}
	if r.Flag(p.Get("IPv4"), "OverridePrimary") || r.Flag(p, "OverridePrimary") {
		c.Tunnel = vpn.TunnelFull
	}
	if _, err := uuid.Parse(c.UUID); err != nil {
		r.Note(format.KeyMalformed, r.At(root, root, "PayloadUUID"), "PayloadUUID is not a UUID")
	}
	positions := map[vpn.Field]format.Position{}
	for field, w := range where {
		positions[field] = r.At(p, w.in, w.key)
	}
	r.Add(format.Located{Connection: c, Positions: positions, Apart: apart})
}

var (
	payloadTypes = []string{
		"com.apple.vpn.managed", "com.apple.vpn.managed.applayer", "com.apple.security.root",
		"com.apple.security.pkcs1", "com.apple.security.pem", "com.apple.security.pkcs12", scepType,
	}
	vpnTypes = []string{
		"IKEv2", "L2TP", "PPTP", "IPSec", "VPN", "AlwaysOn", "TransparentProxy",
	}
)

// bagged tells the beginning of a PKCS#12 file (RFC 7292 §4).
func bagged(data []byte) bool {
	var bag struct {
		Version int
		Safe    asn1.RawValue
		Mac     asn1.RawValue `asn1:"optional"`
	}
	_, err := asn1.Unmarshal(data, &bag)
	return err == nil && bag.Version == 3
}

// sameKind tells whether a declared kind is that of a certificate's key; RSA where nothing
// is declared.
func sameKind(declared string, c *x509.Certificate) bool {
	kind := pki.KeyKind(c)
	return declared == kind || declared == "RSA-PSS" && kind == "RSA" ||
		declared == "" && kind == "RSA"
}

func (r *reader) l2tp(n *tree.Node) *vpn.L2TPSetting {
	l := &vpn.L2TPSetting{
		Auth:        vpn.MachinePSK,
		L2TPOptions: vpn.L2TPOptions{Group: r.Text(n, "LocalIdentifier")},
	}
	l.Aggressive = l.Group != ""
	if r.Text(n, "AuthenticationMethod") == "Certificate" {
		l.Auth = vpn.MachineCertificate
	}
	switch psk := n.Get("SharedSecret"); {
	case psk == nil:
	case psk.Kind != "data":
		r.Note(format.KeyMalformed, psk.At, "SharedSecret is a %s, expected data", psk.Kind)
	case !utf8.Valid(psk.Data):
		r.Note(format.KeyMalformed, psk.At, "the shared secret is not UTF-8")
	default:
		l.PSK = secret.New(string(psk.Data))
		r.Note(format.SecretClear, psk.At, "the pre-shared key")
	}
	return l
}

func (r *reader) ikev2(p, n *tree.Node) *vpn.IKEv2Setting {
	if strings.TrimSpace(r.Text(n, "RemoteIdentifier")) == "" {
		r.Note(format.KeyMissing, r.At(p, n, "RemoteIdentifier"), "no RemoteIdentifier")
	}
	s := &vpn.IKEv2Setting{
		LocalID:      r.Text(n, "LocalIdentifier"),
		RemoteID:     r.Text(n, "RemoteIdentifier"),
		Issuer:       r.Text(n, "ServerCertificateIssuerCommonName"),
		IKEv2Options: vpn.IKEv2Options{NoMOBIKE: r.Flag(n, "DisableMOBIKE")},
		IKE:          []string{},
		ESP:          []string{},
	}
	if s.Issuer != "" && len(r.anchors) > 0 && !slices.ContainsFunc(r.anchors,
		func(a *x509.Certificate) bool { return a.Subject.CommonName == s.Issuer }) {
		r.Note(format.IssuerUnknown, r.At(p, n, "ServerCertificateIssuerCommonName"),
			"%q, and the file has %s", s.Issuer, subjects(r.anchors))
	}
	r.choices(n)
	extended := r.Flag(n, "ExtendedAuthEnabled")
	switch method := r.OneOf(n, "AuthenticationMethod", "None", "SharedSecret", "Certificate"); {
	case method == "Certificate" && extended:
		s.Auth = vpn.IKEv2EAPTLS
	case method == "Certificate":
		s.Auth = vpn.IKEv2Certificate
	case extended:
		s.Auth = vpn.IKEv2MSCHAPv2
	case method == "SharedSecret":
		s.Auth, s.PSK = vpn.IKEv2PSK, secret.New(r.Text(n, "SharedSecret"))
		if !s.PSK.IsZero() {
			r.Note(format.SecretClear, r.At(p, n, "SharedSecret"), "the pre-shared key")
		}
	default:
		r.Note(
			format.KeyMalformed,
			r.At(p, n, "AuthenticationMethod"),
			"AuthenticationMethod %q without extended authentication",
			method,
		)
	}
	if v := r.Text(n, "DeadPeerDetectionRate"); v != "" && v != "None" {
		i := slices.IndexFunc(rates, func(one struct {
			name    string
			seconds int
		}) bool {
			return one.name == v
		})
		if i < 0 {
			r.Note(
				format.KeyMalformed,
				r.At(p, n, "DeadPeerDetectionRate"),
				"DeadPeerDetectionRate %q, expected None, Low, Medium or High",
				v,
			)
		} else {
			s.DPD = rates[i].seconds
		}
	}
	s.IKE, s.IKELifetime = r.association(n.Get("IKESecurityAssociationParameters"), true, true)
	s.ESP, s.ChildLifetime = r.association(
		n.Get("ChildSecurityAssociationParameters"),
		false,
		r.Flag(n, "EnablePFS"),
	)
	return s
}

// choices holds to the reference what says little of a connection and can be wrong all the same
// (Apple, Device Management, VPN.IKEv2).
func (r *reader) choices(n *tree.Node) {
	low := r.OneOf(n, "TLSMinimumVersion", "1.0", "1.1", "1.2", "1.3")
	high := r.OneOf(n, "TLSMaximumVersion", "1.0", "1.1", "1.2", "1.3")
	if low > high && high != "" {
		r.Note(format.KeyMalformed, n.Get("TLSMaximumVersion").At,
			"TLSMaximumVersion %s below TLSMinimumVersion %s", high, low)
	}
	if v := n.Get("TLSMinimumVersion"); v != nil && low != "1.0" {
		r.Left("TLSMinimumVersion "+low, v.At)
	}
	if v := n.Get("TLSMaximumVersion"); v != nil {
		r.Left("TLSMaximumVersion "+high, v.At)
	}
	r.OneOf(n, "CertificateType", "RSA", "RSA-PSS", "ECDSA256", "ECDSA384", "ECDSA521", "Ed25519")
}

func subjects(list []*x509.Certificate) string {
	var names []string
	for _, c := range list {
		names = append(names, strconv.Quote(c.Subject.CommonName))
	}
	return strings.Join(names, ", ")
}

func (r *reader) association(n *tree.Node, ike, group bool) ([]string, int) {
	if n == nil {
		return []string{}, 0
	}
	names, unknown := suite.Closed[suite.AppleDialect].IKE, false
	lifetime := r.Integer(n, "LifeTimeInMinutes")
	if v := n.Get("LifeTimeInMinutes"); v != nil && (lifetime < 10 || lifetime > 1440) {
		r.Note(format.KeyMalformed, v.At, "LifeTimeInMinutes %d, expected 10 to 1440", lifetime)
		lifetime = 0
	}
	own := func(kind suite.Kind, key, v string) string {
		if v == "" {
			return ""
		}
		name, ok := names.Own(kind, v)
		if !ok {
			r.Note(
				format.KeyMalformed,
				r.At(n, n, key),
				"%s %q is none that Apple's reference names",
				key,
				v,
			)
			unknown = true
		}
		return name
	}
	integrity := r.Text(n, "IntegrityAlgorithm")
	if integrity == "SHA1-160" {
		integrity = "SHA1-96"
	}
	q := suite.Proposal{
		Encryption: own(suite.Encryption, "EncryptionAlgorithm", r.Text(n, "EncryptionAlgorithm")),
	}
	switch a, _ := suite.Find(q.Encryption); {
	case !a.AEAD:
		q.Integrity = own(suite.Integrity, "IntegrityAlgorithm", integrity)
	case ike:
		q.PRF = own(suite.PRF, "IntegrityAlgorithm", integrity)
	}
	unknown = unknown ||
		n.Get("DiffieHellmanGroup") != nil && n.Get("DiffieHellmanGroup").Kind == "string"
	if g := r.Integer(n, "DiffieHellmanGroup"); g != 0 && group {
		q.Group = own(suite.Group, "DiffieHellmanGroup", strconv.Itoa(g))
	}
	if q.Encryption == "" || unknown {
		return []string{}, lifetime
	}
	return []string{q.String()}, lifetime
}

func (r *reader) proxy(n *tree.Node) *vpn.Proxy {
	if n == nil {
		return nil
	}
	p := &vpn.Proxy{Bypass: r.List(n, "ExceptionsList")}
	if r.Flag(n, "HTTPEnable") {
		p.Server = vpn.JoinPort(r.Text(n, "HTTPProxy"), r.Integer(n, "HTTPPort"))
		if https := vpn.JoinPort(r.Text(n, "HTTPSProxy"), r.Integer(n, "HTTPSPort")); https !=
			p.Server || !r.Flag(n, "HTTPSEnable") {
			r.Left("another proxy for HTTPS than for HTTP", n.At)
		}
	}
	if r.Flag(n, "ProxyAutoConfigEnable") {
		p.Script = r.Text(n, "ProxyAutoConfigURLString")
	}
	if p.Script == "" && p.Server == "" {
		if len(p.Bypass) > 0 {
			r.Left("ExceptionsList without a proxy", n.Get("ExceptionsList").At)
		}
		return nil
	}
	return p
}
