package daemons

import (
	"cmp"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/shell"
	"wardicon/core/pki"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// auths are the IKE daemon's names for the ways in which a client proves itself.
var auths = map[vpn.IKEv2Auth]string{
	vpn.IKEv2MSCHAPv2:    "eap-mschapv2",
	vpn.IKEv2EAPTLS:      "eap-tls",
	vpn.IKEv2Certificate: "pubkey",
	vpn.IKEv2PSK:         "psk",
}

// section writes nested sections of swanctl.conf(5).
type section struct {
	strings.Builder
	depth int
}

func (s *section) open(name string) {
	s.WriteString(strings.Repeat("\t", s.depth) + name + " {\n")
	s.depth++
}

func (s *section) close() {
	s.depth--
	s.WriteString(strings.Repeat("\t", s.depth) + "}\n")
}

func (s *section) set(key, v string) {
	s.WriteString(strings.Repeat("\t", s.depth) + key + " = " + v + "\n")
}

// text writes a value in double quotes: backslashes and quotes with a backslash before.
func (s *section) text(key, v string) {
	s.set(key, `"`+strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v)+`"`)
}

// sealed writes a secret as base64: no sign in it can go astray.
func (s *section) sealed(v string) {
	s.set("secret", "0s"+base64.StdEncoding.EncodeToString([]byte(v)))
}

// material is the files of certificates and keys that the IKE daemon wants one by one.
type material struct {
	files        []format.File
	anchors, own []string
	places       []shell.Placement
}

func (m *material) add(name, folder, purpose, content string, private bool) string {
	mode := "0644"
	if private {
		mode = "0600"
	}
	m.files = append(
		m.files,
		format.File{
			Name:      name,
			MediaType: "application/x-pem-file",
			Purpose:   purpose,
			Private:   private,
			Content:   []byte(content),
		},
	)
	m.places = append(
		m.places,
		shell.Placement{File: name, Path: "/etc/swanctl/" + folder + "/" + name, Mode: mode},
	)
	return name
}

func gather(c vpn.Connection) (*material, error) {
	m := &material{}
	anchors, err := format.Anchors(title, c)
	if err != nil {
		return nil, err
	}
	for i, a := range anchors {
		m.anchors = append(
			m.anchors,
			m.add(
				format.FileName(c.Name, fmt.Sprintf("-ca%d.pem", i+1)),
				"x509ca",
				"Authority of the gateway's certificate",
				pki.Bundle(a),
				false,
			),
		)
	}
	if !c.NeedsIdentity() {
		return m, nil
	}
	if e := c.Identity.Enrol; e != nil {
		return m, m.enrolled(c, *e)
	}
	list, err := pki.Certificates(c.Identity.Certificate)
	if err != nil {
		return nil, &format.UnfitError{
			Format:   title,
			Field:    vpn.FieldIdentity,
			Found:    err.Error(),
			Expected: "the device's certificate",
		}
	}
	for i, one := range list {
		// The daemon sends those between along only where it knows the root, as an authority.
		folder := "x509"
		if i > 0 && pki.Root(one) {
			folder = "x509ca"
		}
		name := m.add(
			format.FileName(c.Name, fmt.Sprintf(ownFile, i+1)),
			folder,
			"Certificate of the device",
			pki.Bundle(one),
			false,
		)
		if folder == "x509" {
			m.own = append(m.own, name)
		}
	}
	m.add(
		format.FileName(c.Name, format.KeyFile),
		"private",
		"Private key of the device",
		c.Identity.Key.Reveal(),
		true,
	)
	return m, nil
}

// enrolled names the certificate that the device will have, and adds those between it and its root.
func (m *material) enrolled(c vpn.Connection, e vpn.Enrol) error {
	m.own = append(m.own, format.FileName(c.Name, fmt.Sprintf(ownFile, 1)))
	if e.Above == "" {
		return nil
	}
	list, err := pki.Certificates(e.Above)
	if err != nil {
		return &format.UnfitError{
			Format: title, Field: vpn.FieldIdentity, Found: err.Error(),
			Expected: "the CAs of the device's certificate",
		}
	}
	for i, one := range list {
		m.own = append(m.own, m.add(format.FileName(c.Name, fmt.Sprintf(ownFile, i+2)), "x509",
			"CA of the device's certificate", pki.Bundle(one), false))
	}
	return nil
}

// ownFile names the certificates of the device, the leaf first.
const ownFile = "-cert%d.pem"

// identity refuses what the daemon would take for a pattern.
func identity(field vpn.Field, v string) error {
	if strings.HasPrefix(v, "%") || strings.HasPrefix(v, "!") || strings.Contains(v, "*") ||
		strings.TrimSpace(v) != v {
		return &format.UnfitError{
			Format: title,
			Field:  field,
			Found:  fmt.Sprintf("%q", v),
			Expected: "an identity without *, not starting with % or !, without leading or " +
				"trailing spaces",
		}
	}
	return nil
}

// IPsec makes the configuration of the IKE daemon: for IKEv2, or the half of L2TP/IPsec
// below L2TP.
func IPsec(c vpn.Connection) (format.File, []format.File, []shell.Placement, error) {
	var none format.File
	if err := format.Host(title, vpn.FieldServer, c.Server); err != nil {
		return none, nil, nil, err
	}
	m, err := gather(c)
	if err != nil {
		return none, nil, nil, err
	}
	name := format.FileName(c.Name, "")
	s := &section{}
	s.WriteString("# name = " + c.Name + "\n# uuid = " + strings.ToUpper(c.UUID) + "\n")
	s.open("connections")
	s.open(name)
	s.set("remote_addrs", c.Server)
	if c.L2TP != nil {
		err = l2tp(s, c, m)
	} else {
		err = ikev2(s, c, m)
	}
	if err != nil {
		return none, nil, nil, err
	}
	s.open("children")
	s.open(name)
	child(s, c)
	s.close()
	s.close()
	s.close()
	s.close()
	secrets(s, c, name)
	file := format.File{
		Name: format.FileName(
			c.Name,
			".conf",
		),
		MediaType: "text/plain; charset=utf-8",
		Private:   true,
		Purpose: "Configuration of the IKE daemon: belongs in /etc/swanctl/conf.d, owner root, " +
			"mode 0600",
		Content: []byte(s.String()),
	}
	places := append(
		[]shell.Placement{
			{File: file.Name, Path: "/etc/swanctl/conf.d/" + file.Name, Mode: "0600"},
		},
		m.places...)
	return file, m.files, places, nil
}

func l2tp(s *section, c vpn.Connection, m *material) error {
	l := c.L2TP
	s.set("version", "1")
	if l.Aggressive {
		s.set("aggressive", "yes")
	}
	if len(l.IKE) > 0 {
		s.set("proposals", strings.Join(l.IKE, ", "))
	}
	auth := "psk"
	if l.Auth == vpn.MachineCertificate {
		auth = "pubkey"
		if err := identity(vpn.FieldRemoteID, l.RemoteID); err != nil {
			return err
		}
	}
	persistent(s, c)
	s.open("local")
	s.set("auth", auth)
	if l.Group != "" {
		if err := identity(vpn.FieldGroup, l.Group); err != nil {
			return err
		}
		s.text("id", "keyid:"+l.Group)
	}
	if len(m.own) > 0 {
		s.set("certs", strings.Join(m.own, ", "))
	}
	s.close()
	s.open("remote")
	s.set("auth", auth)
	if l.RemoteID != "" && auth == "pubkey" {
		s.text("id", l.RemoteID)
	}
	if len(m.anchors) > 0 {
		s.set("cacerts", strings.Join(m.anchors, ", "))
	}
	s.close()
	return nil
}

// keepalive is how often a connection that must always be there looks whether the other
// end is, where nothing else is said, in seconds.
const keepalive = 30

// persistent lets the daemon never give up what must always be there.
func persistent(s *section, c vpn.Connection) {
	if c.Connect == vpn.Always {
		s.set("keyingtries", "0")
	}
	switch {
	case c.IKEv2 != nil && c.IKEv2.DPD > 0:
		s.set("dpd_delay", fmt.Sprintf("%ds", c.IKEv2.DPD))
	case c.Connect == vpn.Always || c.Reconnect:
		s.set("dpd_delay", fmt.Sprintf("%ds", keepalive))
	}
}

func ikev2(s *section, c vpn.Connection, m *material) error {
	i := c.IKEv2
	s.set("version", "2")
	vips := "0.0.0.0"
	if c.IPv6 == vpn.IPv6Carried {
		vips += ", ::"
	}
	s.set("vips", vips)
	if len(i.IKE) > 0 {
		list := make([]string, len(i.IKE))
		for n, v := range i.IKE {
			p, _ := suite.Parse(v) // looked at before
			list[n] = p.ForIKE().String()
		}
		s.set("proposals", strings.Join(list, ", "))
	}
	if i.NoMOBIKE {
		s.set("mobike", "no")
	}
	if i.NoFragmentation {
		s.set("fragmentation", "no")
	}
	persistent(s, c)
	if i.IKELifetime > 0 {
		s.set("rekey_time", fmt.Sprintf("%dm", i.IKELifetime))
	}
	for field, v := range map[vpn.Field]string{
		vpn.FieldLocalID:  i.LocalID,
		vpn.FieldRemoteID: i.RemoteID,
	} {
		if err := identity(field, v); err != nil {
			return err
		}
	}
	s.open("local")
	s.set("auth", auths[i.Auth])
	if i.LocalID != "" {
		s.text("id", i.LocalID)
	}
	if i.Auth.NeedsPassword() {
		if err := identity(vpn.FieldLogin, c.Login); err != nil {
			return err
		}
		s.text("eap_id", c.Login)
	}
	if len(m.own) > 0 {
		s.set("certs", strings.Join(m.own, ", "))
	}
	s.close()
	s.open("remote")
	switch {
	case i.Auth == vpn.IKEv2PSK:
		s.set("auth", "psk")
	case i.EAPOnly && i.Auth == vpn.IKEv2EAPTLS:
		s.set("auth", auths[i.Auth])
	default:
		s.set("auth", "pubkey")
	}
	if i.RemoteID != "" {
		s.text("id", i.RemoteID)
	}
	if len(m.anchors) > 0 {
		s.set("cacerts", strings.Join(m.anchors, ", "))
	}
	s.close()
	return nil
}

func child(s *section, c vpn.Connection) {
	_, esp := c.Proposals()
	if c.L2TP != nil {
		s.set("mode", "transport")
		s.set("local_ts", "dynamic[udp/1701]")
		s.set("remote_ts", "dynamic[udp/1701]")
	} else {
		ts := []string{"0.0.0.0/0"}
		if c.IPv6 == vpn.IPv6Carried {
			ts = append(ts, "::/0")
		}
		if c.Tunnel == vpn.TunnelSplit {
			ts = c.Routes
		}
		s.set("remote_ts", strings.Join(ts, ", "))
		if c.Site != nil && c.Site.Masquerade {
			s.set("updown", changesOf(format.FileName(c.Name, "")))
		} else if c.Site != nil {
			s.set("local_ts", strings.Join(append([]string{"dynamic"}, c.Site.Networks...), ", "))
		}
		if m := c.IKEv2.ChildLifetime; m > 0 {
			s.set("rekey_time", fmt.Sprintf("%dm", m))
		}
	}
	if len(esp) > 0 {
		s.set("esp_proposals", strings.Join(esp, ", "))
	}
	switch action := starts[c.Connect]; {
	case c.L2TP != nil:
		s.set("start_action", "trap") // what L2TP sends asks for the association
	case action != "":
		s.set("start_action", action)
	}
	if c.Reconnect || c.Connect == vpn.Always {
		s.set("dpd_action", "restart")
		s.set("close_action", "start")
	}
}

// starts are the daemon's words for connecting by itself.
var starts = map[vpn.Connect]string{vpn.Always: "start", vpn.OnDemand: "trap"}

func secrets(s *section, c vpn.Connection, name string) {
	psk := c.PSK()
	eap := c.IKEv2 != nil && c.PasswordMode == vpn.PasswordSaved && c.NeedsPassword()
	if psk.IsZero() && !eap {
		return
	}
	s.open("secrets")
	if eap {
		s.open("eap-" + name)
		s.text("id", c.Login)
		s.sealed(c.Password.Reveal())
		s.close()
	}
	if !psk.IsZero() {
		s.open("ike-" + name)
		switch {
		case c.IKEv2 != nil:
			s.text("id-remote", cmp.Or(c.IKEv2.RemoteID, c.Server))
		case c.L2TP.Aggressive:
			s.text("id-remote", c.Server)
		default:
			owners(s, c)
		}
		s.sealed(psk.Reveal())
		s.close()
	}
	s.close()
}

// owners names whose key it is. In main mode the daemon looks a key up by the addresses of
// both ends before any name is said (RFC 2409 §5.4); where none is known, the key is
// anybody's.
func owners(s *section, c vpn.Connection) {
	addresses := slices.Clone(c.Addresses)
	if _, err := netip.ParseAddr(c.Server); err == nil && !slices.Contains(addresses, c.Server) {
		addresses = append(addresses, c.Server)
	}
	for i, a := range addresses {
		s.set(fmt.Sprintf("id-%d", i+1), a)
	}
}

// joined reads the files that a list names, as one PEM text.
func joined(r *format.Reading, beside format.Beside, list string, at format.Position) string {
	var certificates []*x509.Certificate
	for name := range strings.SplitSeq(list, ",") {
		if text := r.Fetch(beside, strings.TrimSpace(name), at); text != "" {
			some, err := pki.Certificates(text)
			if err != nil {
				r.Note(format.KeyMalformed, at, "%s", err)
			}
			certificates = slices.Concat(certificates, some)
		}
	}
	return pki.Bundle(certificates...)
}
