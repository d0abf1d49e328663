package onc

import (
	"bytes"
	"crypto/x509"
	"encoding/base64"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/format/tree"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Detect tells a file by its name or its beginning.
func Detect(name string, data []byte) bool {
	return strings.EqualFold(filepath.Ext(name), ".onc") ||
		bytes.Contains(data[:min(len(data), 4096)], []byte(`"NetworkConfigurations"`))
}

// placeholders are what the system fills in (Open Network Configuration, String Expansions).
var placeholders = []string{
	"${LOGIN_ID}", "${LOGIN_EMAIL}", "${PASSWORD}", "${CERT_SAN_EMAIL}", "${CERT_SAN_UPN}",
	"${CERT_SUBJECT_COMMON_NAME}", "${DEVICE_SERIAL_NUMBER}", "${DEVICE_ASSET_ID}",
}

type reader struct {
	tree.Walker
	anchors    map[string]*x509.Certificate
	identities map[string]*vpn.Identity
	apart      []vpn.Field // of the network that is read
}

// Read takes a file apart. It always answers; what is wrong is in the notes.
func Read(name string, data []byte, _ format.Beside) format.Reading {
	r := &reader{
		Walker:     tree.Walker{File: name},
		anchors:    map[string]*x509.Certificate{},
		identities: map[string]*vpn.Identity{},
	}
	root := r.Object(data)
	if root == nil {
		return r.Reading
	}
	if r.Text(root, "Type") == "EncryptedConfiguration" {
		r.Note(format.NotYetRead, r.At(root, root, "Type"),
			"a configuration under a passphrase; check the one that it was made from")
		return r.Reading
	}
	if t := r.Text(root, "Type"); t != "UnencryptedConfiguration" && t != "" {
		r.Note(format.KeyMalformed, r.At(root, root, "Type"),
			"Type %q, expected UnencryptedConfiguration", t)
	}
	r.Known(root, topKeys)
	if list := root.Get("Certificates"); list != nil {
		for _, item := range list.Items {
			r.certificate(item)
		}
	}
	list := root.Get("NetworkConfigurations")
	if list == nil || list.Kind != "array" {
		r.Note(format.KeyMalformed, root.At, "no array NetworkConfigurations")
		return r.Reading
	}
	seen := map[string]bool{}
	for _, item := range list.Items {
		id := strings.ToLower(r.Text(item, "GUID"))
		if id != "" && seen[id] {
			r.Note(format.IdentifierTwice, r.At(item, item, "GUID"), "GUID %s", id)
		}
		seen[id] = true
		if kind := r.Text(item, "Type"); kind != "VPN" {
			r.Note(format.Unrelated, item.At, "a network of the type %q", kind)
			r.Leave(item, "a network of the type "+kind)
			continue
		}
		r.network(item)
	}
	r.Account(root, idle)
	return r.Reading
}

func (r *reader) certificate(item *tree.Node) {
	guid := strings.ToLower(r.Text(item, "GUID"))
	switch {
	case item.Get("X509") != nil:
		c, err := r.x509(item)
		if err != nil {
			r.Note(
				format.KeyMalformed,
				r.At(item, item, "X509"),
				"a certificate that cannot be read",
			)
			return
		}
		r.anchors[guid] = c
	case item.Get("PKCS12") != nil:
		id, err := r.Unpacked(r.binary(item, "PKCS12"), secret.Text{})
		if err != nil {
			r.Note(format.KeyMalformed, r.At(item, item, "PKCS12"), "%s", err)
			return
		}
		r.Note(format.PrivateKeyClear, r.At(item, item, "PKCS12"), "a private key")
		r.identities[guid] = id
	}
}

// x509 reads a certificate: base64, or as people paste it, PEM.
func (r *reader) x509(item *tree.Node) (*x509.Certificate, error) {
	if text := r.Text(item, "X509"); strings.Contains(text, "-----BEGIN ") {
		list, err := pki.Certificates(text)
		if err != nil {
			return nil, err
		}
		return list[0], nil
	}
	return pki.Certificate(r.binary(item, "X509"))
}

func (r *reader) binary(n *tree.Node, key string) []byte {
	text := strings.Join(strings.Fields(r.Text(n, key)), "")
	data, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		r.Note(format.KeyMalformed, r.At(n, n, key), "%s is not base64", key)
	}
	return data
}

func (r *reader) network(n *tree.Node) {
	r.apart = nil
	t, st := n.Get("VPN"), n.Get("StaticIPConfig")
	r.Known(n, networkKeys)
	r.Known(t, tunnelKeys)
	c := vpn.Connection{
		Name: r.Text(
			n,
			"Name",
		),
		UUID:         strings.ToUpper(strings.Trim(r.Text(n, "GUID"), "{}")),
		Server:       r.Text(t, "Host"),
		PasswordMode: vpn.PasswordPrompted,
		Scope:        vpn.ScopePerson,
		Tunnel:       vpn.TunnelFull,
		Routes:       []string{},
		DNS:          r.List(st, "NameServers"),
		Domains:      r.List(st, "SearchDomains"),
		Proxy:        r.proxy(n.Get("ProxySettings")),
	}
	if r.Flag(t, "AutoConnect") {
		c.Connect = vpn.Always
	}
	switch _, err := uuid.Parse(c.UUID); {
	case c.UUID == "":
		r.Note(format.KeyMalformed, r.At(n, n, "GUID"), "no GUID")
	case err != nil: // any text will do (Open Network Configuration, NetworkConfiguration, GUID)
		c.UUID = ""
	}
	ipsec, open := t.Get("IPsec"), t.Get("OpenVPN")
	owner, login, refs := t.Get("L2TP"), "Username", ipsec
	switch kind := r.Text(t, "Type"); kind {
	case "L2TP-IPsec":
		r.Known(owner, signInKeys)
		r.Known(ipsec, ipsecKeys)
		version := ipsec.Get("IKEVersion")
		if v := r.Integer(ipsec, "IKEVersion"); v != 1 &&
			(version == nil || version.Kind == "integer") {
			r.Note(format.KeyMalformed, r.At(n, ipsec, "IKEVersion"),
				"IKEVersion %d with L2TP, expected 1", v)
		}
		c.Protocol, c.L2TP = vpn.L2TP, &vpn.L2TPSetting{
			Auth:        vpn.MachinePSK,
			PSK:         r.secret(ipsec, "PSK", "the pre-shared key"),
			L2TPOptions: vpn.L2TPOptions{Group: r.Text(ipsec, "Group")},
		}
		if r.Text(ipsec, "AuthenticationType") == "Cert" {
			c.L2TP.Auth = vpn.MachineCertificate
		}
	case "IPsec", "IKEv2":
		r.Known(ipsec, ipsecKeys)
		if v := r.Integer(ipsec, "IKEVersion"); v != 2 {
			r.Note(format.NotYetRead, r.At(n, ipsec, "IKEVersion"), "IPsec with IKEv%d alone", v)
			return
		}
		owner, login = ipsec.Get("EAP"), "Identity"
		r.Known(owner, eapKeys)
		c.Protocol, c.IKEv2 = vpn.IKEv2, r.ikev2(n, ipsec)
	case "OpenVPN":
		r.Known(open, openvpnKeys)
		owner, refs = open, open
		c.Protocol, c.TLS = vpn.TLS, r.tls(n, open, c.Server)
	case "WireGuard", "ThirdPartyVPN", "ARCVPN":
		r.Note(format.NotYetRead, r.At(n, t, "Type"), "a VPN of the type %q", kind)
		r.Leave(t, "a VPN of the type "+kind)
		return
	default:
		r.Note(
			format.KeyMalformed,
			r.At(n, t, "Type"),
			"Type %q, expected L2TP-IPsec, IPsec or OpenVPN",
			kind,
		)
		r.Leave(t, "a VPN of the type "+kind)
		return
	}
	r.Switches(t, false, "AutoConnect")
	r.Switches(owner, false, "SaveCredentials")
	r.Switches(ipsec, false, "SaveCredentials")
	r.OneOf(ipsec, "AuthenticationType", "PSK", "Cert", "EAP")
	if c.NeedsPassword() {
		c.Login = r.Text(owner, login)
		if c.Password = r.secret(owner, "Password", "the password"); !c.Password.IsZero() {
			c.PasswordMode = vpn.PasswordSaved
		}
	}
	var anchors []*x509.Certificate
	for _, ref := range append(r.List(refs, "ServerCARefs"), r.Text(refs, "ServerCARef")) {
		if a := r.anchors[strings.ToLower(ref)]; a != nil {
			anchors = append(anchors, a)
		} else if ref != "" {
			r.Note(format.FileMissing, r.At(n, refs, "ServerCARefs"), "the certificate %s", ref)
		}
	}
	for _, text := range r.List(refs, "ServerCAPEMs") {
		list, err := pki.Certificates(text)
		if err != nil {
			r.Note(format.KeyMalformed, r.At(n, refs, "ServerCAPEMs"), "ServerCAPEMs: %s", err)
		}
		anchors = append(anchors, list...)
	}
	c.Authority = pki.Bundle(anchors...)
	apart := r.apart
	if c.NeedsIdentity() {
		c.Identity = r.identities[strings.ToLower(r.Text(refs, "ClientCertRef"))]
		switch {
		case c.Identity != nil:
		case r.Text(refs, "ClientCertType") == "Pattern": // looked for in the device's own store
			apart = append(apart, vpn.FieldIdentity)
		default:
			r.Note(
				format.FileMissing,
				r.At(n, refs, "ClientCertRef"),
				"no certificate with the identity",
			)
		}
	}
	positions := map[vpn.Field]format.Position{}
	for field, w := range map[vpn.Field]struct {
		in  *tree.Node
		key string
	}{
		vpn.FieldName:         {n, "Name"},
		vpn.FieldServer:       {t, "Host"},
		vpn.FieldLogin:        {owner, login},
		vpn.FieldPassword:     {owner, "Password"},
		vpn.FieldPSK:          {ipsec, "PSK"},
		vpn.FieldAuth:         {ipsec, "AuthenticationType"},
		vpn.FieldDNS:          {st, "NameServers"},
		vpn.FieldDomains:      {st, "SearchDomains"},
		vpn.FieldLocalID:      {ipsec, "LocalIdentity"},
		vpn.FieldRemoteID:     {ipsec, "RemoteIdentity"},
		vpn.FieldCiphers:      {open, "Cipher"},
		vpn.FieldDigest:       {open, "Auth"},
		vpn.FieldControl:      {open, "TLSAuthContents"},
		vpn.FieldProtocol:     {t, "Type"},
		vpn.FieldAuthority:    {refs, "ServerCARefs"},
		vpn.FieldIdentity:     {refs, "ClientCertRef"},
		vpn.FieldProxy:        {n, "ProxySettings"},
		vpn.FieldConnect:      {t, "AutoConnect"},
		vpn.FieldPasswordMode: {owner, "SaveCredentials"},
	} {
		positions[field] = r.At(n, w.in, w.key)
	}
	// The system fills placeholders such as ${LOGIN_ID} in when the profile is applied.
	for field, v := range map[vpn.Field]string{
		vpn.FieldLogin:    c.Login,
		vpn.FieldPassword: c.Password.Reveal(),
	} {
		if slices.Contains(placeholders, v) {
			r.Left(v, positions[field])
			apart = append(apart, field)
		}
	}
	if slices.Contains(apart, vpn.FieldLogin) {
		c.Login = ""
	}
	if slices.Contains(apart, vpn.FieldPassword) {
		c.Password, c.PasswordMode = secret.Text{}, vpn.PasswordPrompted
	}
	r.Add(format.Located{Connection: c, Positions: positions, Apart: apart})
}

func (r *reader) secret(n *tree.Node, key, what string) secret.Text {
	text := r.Text(n, key)
	if text != "" {
		r.Note(format.SecretClear, n.Get(key).At, "%s", what)
	}
	return secret.New(text)
}

func (r *reader) ikev2(around, n *tree.Node) *vpn.IKEv2Setting {
	s := &vpn.IKEv2Setting{
		LocalID:  r.Text(n, "LocalIdentity"),
		RemoteID: r.Text(n, "RemoteIdentity"),
	}
	switch kind := r.Text(n, "AuthenticationType"); kind {
	case "EAP":
		s.Auth = vpn.IKEv2MSCHAPv2
	case "Cert":
		s.Auth = vpn.IKEv2Certificate
	case "PSK":
		s.Auth, s.PSK = vpn.IKEv2PSK, r.secret(n, "PSK", "the pre-shared key")
	default:
		r.Note(
			format.KeyMalformed,
			r.At(around, n, "AuthenticationType"),
			"AuthenticationType %q, expected EAP, Cert or PSK",
			kind,
		)
	}
	return s
}

func (r *reader) tls(around, n *tree.Node, host string) *vpn.TLSSetting {
	s := &vpn.TLSSetting{
		Remotes:    []vpn.Remote{},
		Ciphers:    []string{},
		TLSOptions: vpn.TLSOptions{Digest: r.Text(n, "Auth")},
	}
	if check := n.Get("VerifyX509"); check != nil {
		switch kind := r.Text(check, "Type"); kind {
		case "name", "":
			s.ServerName = r.Text(check, "Name")
		default:
			r.Leave(check, "VerifyX509 by "+kind)
			r.apart = append(r.apart, vpn.FieldServerName)
		}
	}
	transport := vpn.UDP
	if strings.HasPrefix(r.Text(n, "Proto"), "tcp") {
		transport = vpn.TCP
	}
	for _, address := range slices.Concat([]string{host}, r.List(n, "ExtraHosts")) {
		s.Remotes = append(
			s.Remotes,
			vpn.Remote{Address: address, Port: r.Integer(n, "Port"), Transport: transport},
		)
	}
	if v := r.Text(n, "Cipher"); v != "" {
		s.Ciphers = []string{v}
	}
	certificate, password := slices.Contains(
		[]string{"Ref", "Pattern"},
		r.Text(n, "ClientCertType"),
	), strings.HasPrefix(
		r.Text(n, "UserAuthenticationType"),
		"Password",
	)
	switch {
	case certificate && password:
		s.Auth = vpn.TLSCertificatePassword
	case certificate:
		s.Auth = vpn.TLSCertificate
	case password:
		s.Auth = vpn.TLSPassword
	default:
		r.Note(
			format.KeyMalformed,
			r.At(around, n, "UserAuthenticationType"),
			"neither a certificate nor a password",
		)
	}
	if key := r.secret(n, "TLSAuthContents", "the key of the control channel"); !key.IsZero() {
		tidy, ok := vpn.TidyControlKey(vpn.ControlAuth, key.Reveal())
		if !ok {
			r.Note(
				format.KeyMalformed,
				r.At(around, n, "TLSAuthContents"),
				"the key of the control channel has another form",
			)
		}
		s.Control = &vpn.ControlWrap{
			Kind:      vpn.ControlAuth,
			Direction: r.Text(n, "KeyDirection"),
			Key:       secret.New(tidy),
		}
	}
	return s
}

func (r *reader) proxy(n *tree.Node) *vpn.Proxy {
	switch kind := r.Text(n, "Type"); kind {
	case "", "Direct":
	case "PAC":
		return &vpn.Proxy{Script: r.Text(n, "PAC"), Bypass: r.List(n, "ExcludeDomains")}
	case "Manual":
		at := n.Get("Manual", "HTTPProxy")
		return &vpn.Proxy{
			Server: vpn.JoinPort(r.Text(at, "Host"), r.Integer(at, "Port")),
			Bypass: r.List(n, "ExcludeDomains"),
		}
	default:
		r.Leave(n, "a proxy of the type "+kind)
	}
	return nil
}
