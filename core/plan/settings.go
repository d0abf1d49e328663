package plan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
)

// settings settles what only the protocol has.
func (p *planner) settings() {
	c, g := &p.plan.Connection, p.in.Gateway
	if !p.plan.Offered {
		return
	}
	switch c.Protocol {
	case vpn.L2TP:
		p.l2tp(g.Offers.L2TP)
	case vpn.IKEv2:
		p.ikev2(g.Offers.IKEv2)
	case vpn.PPTP:
		p.pptp(g.Offers.PPTP)
	case vpn.SSTP:
		p.sstp(g.Offers.SSTP)
	case vpn.TLS:
		p.tls(g.Offers.TLS)
	}
	p.certificates()
}

// certificates puts in the authorities that vouch for the gateway, and the device's own.
func (p *planner) certificates() {
	c, d, g := &p.plan.Connection, p.in.Device, p.in.Gateway
	c.OldPacking, c.AskPassphrase =
		p.plan.Ability.OldPacking,
		p.in.Profile.Preferences.CertificatePassphrase == vpn.PasswordPrompted
	byKey := c.L2TP != nil && c.L2TP.Auth == vpn.MachinePSK ||
		c.IKEv2 != nil && c.IKEv2.Auth == vpn.IKEv2PSK ||
		c.PPTP != nil
	if text := g.Offers.Authority(c.Protocol); text != "" && !byKey {
		c.Authority = text
		if list, err := pki.Certificates(text); err == nil {
			shown, _ := pki.Certificates(g.Certificate)
			list = pki.RootsFirst(list, shown)
			c.Authority = pki.Bundle(list...)
			p.choose(
				vpn.FieldAuthority,
				"Authority",
				list[0].Subject.CommonName,
				ByGateway,
				"it issued the certificate of %s",
				g.Name,
			)
		}
	}
	if !c.NeedsIdentity() {
		return
	}
	if e := p.in.Enrol; e != nil {
		p.enrolment(*e)
		return
	}
	proof := d.Proof(&p.in.Gateway)
	if proof == nil || proof.Key == nil {
		p.choose(
			vpn.FieldIdentity,
			"Certificate",
			"none",
			ByDevice,
			"%s has none on record",
			d.Name,
		)
		return
	}
	c.Identity = &vpn.Identity{Certificate: proof.Certificate, Key: *proof.Key}
	list, err := pki.Certificates(proof.Certificate)
	if err != nil {
		return
	}
	subject, kind := list[0].Subject.CommonName, pki.KeyKind(list[0])
	if len(d.Others) > 0 && p.in.Gateway.Trusts(proof.Certificate) {
		p.choose(vpn.FieldIdentity, "Certificate", subject, ByGateway,
			"the one of %d of %s that %s trusts: it is issued by %s, %s", len(d.Others)+1, d.Name,
			p.in.Gateway.Name, list[0].Issuer.CommonName, kind)
	} else {
		p.choose(vpn.FieldIdentity, "Certificate", subject, ByDevice,
			"the certificate of %s, %s", d.Name, kind)
	}
	if c.IKEv2 != nil && c.IKEv2.LocalID == "" {
		c.IKEv2.LocalID = pki.AltName(list[0])
		p.choose(
			vpn.FieldLocalID,
			"Local identity",
			cmp.Or(c.IKEv2.LocalID, "the certificate's subject"),
			ByDevice,
			"the name in the certificate, checked by both sides",
		)
	}
}

// enrolment has the device make its key and ask for the certificate itself.
func (p *planner) enrolment(e vpn.Enrol) {
	c, d := &p.plan.Connection, p.in.Device
	c.Identity = &vpn.Identity{Enrol: &e}
	known := "its key never leaves it, and its certificate is not issued yet"
	by, _ := pki.Certificates(p.in.EnrolBy.Certificate)
	for id := range d.Identities() {
		if pki.LeadsTo(id.Certificate, by[:min(1, len(by))]) {
			known = "its key never leaves it; the certificate was issued"
			c.Identity.Certificate = id.Certificate
			break
		}
	}
	p.choose(
		vpn.FieldIdentity,
		"Certificate",
		e.Name,
		ByDevice,
		"%s asks for it itself: %s",
		d.Name,
		known,
	)
	if c.IKEv2 != nil && c.IKEv2.LocalID == "" {
		c.IKEv2.LocalID = e.Alt
		p.choose(vpn.FieldLocalID, "Local identity", e.Alt, ByDevice,
			"the name that the certificate will have, checked by both sides")
	}
}

// ppp settles the PPP methods.
func (p *planner) ppp(offer []suite.PPPMethod) []suite.PPPMethod {
	list := shared(offer, p.plan.Ability.PPP)
	if len(list) > 1 && list[0] == suite.MSCHAPv2 {
		list = list[:1]
		p.choose(
			vpn.FieldPPP,
			"PPP authentication",
			join(list),
			ByRule,
			"strongest that both support; without weaker ones",
		)
	} else {
		p.choose(
			vpn.FieldPPP,
			"PPP authentication",
			cmp.Or(join(list), "none"),
			ByGateway,
			"what both support",
		)
	}
	return list
}

func (p *planner) key(offered bool) {
	if offered {
		p.choose(
			vpn.FieldPSK,
			"Pre-shared key",
			"stored",
			ByGateway,
			"the key of %s",
			p.in.Gateway.Name,
		)
	} else {
		p.choose(
			vpn.FieldPSK,
			"Pre-shared key",
			"none",
			ByGateway,
			"%s has no key on record",
			p.in.Gateway.Name,
		)
	}
}

func (p *planner) l2tp(o *vpn.L2TPOffer) {
	l := &vpn.L2TPSetting{Auth: p.auth.machine, L2TPOptions: o.L2TPOptions}
	if l.Auth == "" {
		l.Auth = vpn.MachinePSK
	}
	p.plan.Connection.L2TP = l
	if l.Auth == vpn.MachinePSK {
		if o.PSK != nil {
			l.PSK = *o.PSK
		}
		p.key(o.PSK != nil)
	} else {
		l.RemoteID = o.RemoteID
		reason := "identity on the gateway's record; other certificates of the same CA are not " +
			"accepted"
		if list, err := pki.Certificates(
			p.in.Gateway.Certificate,
		); l.RemoteID == "" && err == nil &&
			len(list) > 0 {
			l.RemoteID, reason = pki.Subject(
				list[0],
			), "subject of the gateway's certificate, which IKEv1 daemons send; other "+
				"certificates of the same CA are not accepted"
		} else if l.RemoteID == "" {
			l.RemoteID, reason = p.in.Gateway.Address, "the gateway's address; no other identity "+
				"on record"
		}
		p.choose(vpn.FieldRemoteID, "Remote identity", l.RemoteID, ByGateway, "%s", reason)
	}
	if o.Aggressive {
		p.choose(
			vpn.FieldGroup,
			"IKEv1",
			"aggressive mode, group "+cmp.Or(o.Group, "without a name"),
			ByGateway,
			"%s does not accept main mode",
			p.in.Gateway.Name,
		)
	}
	l.PPP = p.ppp(o.PPP)
	l.IKE, l.ESP = p.proposals(o.IKE, o.ESP)
	l.BehindNAT = p.in.Gateway.BehindNAT
	if l.BehindNAT && p.plan.Ability.NATSetting {
		p.choose(
			vpn.FieldNAT,
			"Gateway behind NAT",
			"set on the device",
			ByGateway,
			"%s is behind NAT, and %s needs a setting for that and one restart",
			p.in.Gateway.Name,
			p.plan.Release.Title,
		)
	}
}

func (p *planner) ikev2(o *vpn.IKEv2Offer) {
	s := &vpn.IKEv2Setting{
		Auth:         p.auth.ikev2,
		RemoteID:     cmp.Or(o.RemoteID, p.in.Gateway.Address),
		IKEv2Options: o.IKEv2Options,
	}
	if s.Auth == "" && len(o.Auth) > 0 {
		s.Auth = o.Auth[0]
	}
	p.plan.Connection.IKEv2 = s
	if s.Auth == vpn.IKEv2PSK {
		if s.LocalID = o.LocalID; o.PSK != nil {
			s.PSK = *o.PSK
		}
		p.key(o.PSK != nil)
	}
	reason := "the identity on the gateway's record"
	if o.RemoteID == "" {
		reason = "the gateway's address; no other identity on record"
	}
	if entry := alternative(s.RemoteID); entry != "" && s.Auth != vpn.IKEv2PSK {
		reason += "; " + entry
	}
	p.choose(vpn.FieldRemoteID, "Remote identity", s.RemoteID, ByGateway, "%s", reason)
	s.IKE, s.ESP = p.proposals(o.IKE, o.ESP)
	if list, err := pki.Certificates(
		p.in.Gateway.Certificate,
	); err == nil && len(list) > 0 &&
		s.Auth != vpn.IKEv2PSK {
		s.Issuer = list[0].Issuer.CommonName
	}
}

func (p *planner) pptp(o *vpn.PPTPOffer) {
	s := &vpn.PPTPSetting{PPP: p.ppp(o.PPP), MPPE: []suite.MPPE{}, PPTPOptions: o.PPTPOptions}
	p.plan.Connection.PPTP = s
	keys := slices.ContainsFunc(
		s.PPP,
		func(m suite.PPPMethod) bool { return suite.PPPFacts[m].Keys },
	)
	for _, m := range suite.MPPEs {
		if keys && slices.Contains(o.MPPE, m) && slices.Contains(p.plan.Ability.MPPE, m) {
			s.MPPE = append(s.MPPE, m)
		}
	}
	switch {
	case !keys && len(o.MPPE) > 0:
		p.choose(
			vpn.FieldMPPE,
			"Encryption",
			"none",
			ByRule,
			"the common PPP methods provide no keys for MPPE",
		)
	case len(s.MPPE) > 0:
		s.MPPE = s.MPPE[:1]
		p.choose(
			vpn.FieldMPPE,
			"Encryption",
			"MPPE, "+string(s.MPPE[0])+" bits",
			ByRule,
			"strongest that both support; without weaker ones",
		)
	default:
		p.choose(vpn.FieldMPPE, "Encryption", "none", ByGateway, "no common MPPE strength")
	}
}

func (p *planner) sstp(o *vpn.SSTPOffer) {
	s := &vpn.SSTPSetting{PPP: p.ppp(o.PPP), Port: o.Port}
	if s.Port == 0 {
		s.Port = 443
	}
	if o.ServerName != p.in.Gateway.Address {
		s.ServerName = o.ServerName
	}
	p.plan.Connection.SSTP = s
	p.choose(
		vpn.FieldPort,
		"Port",
		fmt.Sprint(s.Port),
		ByGateway,
		"the port on the gateway's record",
	)
	if entry := alternative(p.in.Gateway.Address); entry != "" && s.ServerName == "" {
		p.choose(
			vpn.FieldServerName,
			"Name of the gateway",
			p.in.Gateway.Address,
			ByGateway,
			"%s",
			entry,
		)
	}
}

// alternative says what the certificate of a gateway must contain that is known by an IP
// address alone (RFC 5280, section 4.2.1.6; RFC 9525, section 6.4); nothing for a name.
func alternative(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return ""
	}
	return fmt.Sprintf(
		"its certificate must have the subject alternative name IP:%s; devices do not accept it "+
			"as a DNS name",
		ip,
	)
}

func (p *planner) tls(o *vpn.TLSOffer) {
	s := &vpn.TLSSetting{
		Auth:       p.auth.tls,
		Remotes:    []vpn.Remote{},
		Ciphers:    []string{},
		TLSOptions: o.TLSOptions,
	}
	if s.Auth == "" && len(o.Auth) > 0 {
		s.Auth = o.Auth[0]
	}
	p.plan.Connection.TLS = s
	var ways []string
	preference := p.in.Profile.Preferences.Transport
	for _, r := range o.Remotes {
		if preference != "" && r.Transport != preference {
			continue
		}
		r.Address = cmp.Or(r.Address, p.in.Gateway.Address)
		s.Remotes = append(s.Remotes, r)
		ways = append(ways, fmt.Sprintf("%s %s %d", r.Address, r.Transport, r.Port))
	}
	switch {
	case preference != "" && len(ways) == 0:
		p.plan.Unmet = append(
			p.plan.Unmet,
			Unmet{
				vpn.FieldRemotes,
				"transport: " + string(preference),
				p.in.Gateway.Name + " has no remote for it, so none is left",
			},
		)
		p.choose(
			vpn.FieldRemotes,
			"Remotes",
			"none",
			ByOperator,
			"%s has none for %s, which is set on the profile",
			p.in.Gateway.Name,
			preference,
		)
	case preference != "":
		p.choose(
			vpn.FieldRemotes,
			"Remotes",
			join(ways),
			ByOperator,
			"only %s, as set on the profile; tried in this order",
			preference,
		)
	default:
		p.choose(vpn.FieldRemotes, "Remotes", join(ways), ByGateway, "tried in this order")
	}
	for _, worth := range []suite.Worth{suite.Sound, suite.LastResort, suite.Weak} {
		for _, name := range o.Ciphers {
			if c, ok := suite.FindCipher(
				suite.DataCiphers,
				name,
			); ok && c.Worth >= worth && len(s.Ciphers) < len(o.Ciphers) &&
				!slices.Contains(s.Ciphers, name) {
				s.Ciphers = append(s.Ciphers, name)
			}
		}
		if len(s.Ciphers) > 0 {
			break // weaker ones are left off as long as a better one remains
		}
	}
	p.choose(
		vpn.FieldCiphers,
		"Data ciphers",
		cmp.Or(join(s.Ciphers), "client defaults"),
		ByGateway,
		"the gateway's, in its order; without weak ones if a strong one remains",
	)
	if k := o.ControlKey; k != nil {
		s.Control = &vpn.ControlWrap{Kind: k.Kind, Direction: k.Direction}
		if k.Key != nil {
			text, err := tlstunnel.ForClient(k.Kind, k.Key.Reveal(), p.in.Device.ID)
			if s.Control.Key = secret.New(text); err != nil {
				s.Control.Key = *k.Key // it is a finding
			}
		}
		p.choose(
			vpn.FieldControl,
			"Control channel",
			"protected by a key of type "+string(k.Kind),
			ByGateway,
			"the gateway does not respond without it",
		)
	}
	if s.ServerName != "" {
		p.choose(
			vpn.FieldServerName,
			"Name of the gateway",
			s.ServerName,
			ByGateway,
			"its certificate must have this name",
		)
	}
}
