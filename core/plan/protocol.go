package plan

import (
	"cmp"
	"fmt"
	"slices"

	"wardicon/core/platform"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// method is a way for the client to prove itself by one protocol.
type method struct {
	machine  vpn.MachineAuth
	ikev2    vpn.IKEv2Auth
	tls      vpn.TLSAuth
	password bool
	identity bool // needs a certificate
	title    string
	lacking  string // what is missing for it
}

// name is what the way is called on a profile; empty for a protocol that has only one.
func (m method) name() string {
	return cmp.Or(string(m.machine), string(m.ikev2), string(m.tls))
}

// candidate is one protocol with what speaks against it; passed is empty where it can
// be taken.
type candidate struct {
	protocol vpn.Protocol
	auth     method
	passed   string
}

// protocol takes the first of the order that gateway and device share and nothing is
// missing for; failing that, the first that something is missing for.
func (p *planner) protocol() {
	g, d := &p.in.Gateway, &p.in.Device
	p.plan.Release, _ = platform.Find(d.Platform, d.Release)
	order, by, reason := vpn.Protocols, ByRule, "strongest first"
	if len(p.in.Pattern.Protocols) > 0 {
		order, by, reason = p.in.Pattern.Protocols, ByPattern, "the order of the pattern "+
			p.in.Pattern.Name
	}
	if preference := p.in.Profile.Preferences.Protocol; preference != "" {
		order, by, reason = []vpn.Protocol{preference}, ByOperator, "set on the profile"
	}
	list := make([]candidate, 0, len(order))
	for _, protocol := range order {
		list = append(list, p.candidate(protocol))
	}
	taken := slices.IndexFunc(
		list,
		func(c candidate) bool { return c.passed == "" && c.auth.lacking == "" },
	)
	for _, fallback := range []func(candidate) bool{
		func(c candidate) bool { return c.passed == "" },
		func(c candidate) bool { return g.Offers.Has(c.protocol) },
		func(candidate) bool { return true },
	} {
		if taken < 0 {
			taken = slices.IndexFunc(list, fallback)
		}
	}
	t := list[taken]
	p.auth, p.plan.Offered, p.plan.Ability = t.auth, g.Offers.Has(
		t.protocol,
	), p.plan.Release.Ability(
		t.protocol,
	)
	p.plan.Connection.Protocol, p.plan.Lacking = t.protocol, cmp.Or(t.auth.lacking, t.passed)
	for i, c := range list {
		switch {
		case i == taken:
		case c.passed != "":
			p.plan.Passed = append(p.plan.Passed, Passed{c.protocol, c.passed})
		case c.auth.lacking != "" && (i < taken || t.auth.lacking == ""):
			p.plan.Passed = append(p.plan.Passed, Passed{c.protocol, c.auth.lacking})
		default:
			p.plan.Passed = append(
				p.plan.Passed,
				Passed{c.protocol, "lower in the order of preference"},
			)
		}
	}
	title := p.plan.Release.Title
	switch {
	case t.passed == "":
		p.choose(
			vpn.FieldProtocol,
			"Protocol",
			t.protocol.Title(),
			by,
			"%s offers it, and %s has it %s; %s",
			g.Name,
			title,
			p.plan.Ability.Support,
			reason,
		)
		if p.in.Profile.Preferences.Auth != "" {
			p.choose(
				vpn.FieldAuth,
				"Authentication",
				t.auth.title,
				ByOperator,
				"set on the profile",
			)
		} else {
			p.choose(
				vpn.FieldAuth,
				"Authentication",
				t.auth.title,
				ByGateway,
				"strongest method that both %s and %s support",
				g.Name,
				title,
			)
		}
	case p.plan.Offered:
		p.choose(
			vpn.FieldProtocol,
			"Protocol",
			"none",
			ByDevice,
			"%s offers %s, but %s",
			g.Name,
			t.protocol.Title(),
			t.passed,
		)
	default:
		p.choose(
			vpn.FieldProtocol,
			"Protocol",
			"none",
			ByGateway,
			"%s offers nothing that can be used",
			g.Name,
		)
	}
}

// candidate judges one protocol.
func (p *planner) candidate(protocol vpn.Protocol) candidate {
	g, ability, release := &p.in.Gateway, p.plan.Release.Ability(protocol), p.plan.Release.Title
	c := candidate{protocol: protocol, auth: method{password: true}}
	methods := p.methods(protocol, ability)
	if preference := p.in.Profile.Preferences.Auth; preference != "" {
		methods = slices.DeleteFunc(methods, func(m method) bool { return m.name() != preference })
	}
	for _, m := range methods {
		// What is missing for a way that needs no certificate tells more.
		if c.auth.title == "" || c.auth.lacking != "" && (m.lacking == "" || !m.identity) {
			c.auth = m
		}
	}
	switch {
	case !g.Offers.Has(protocol):
		c.passed = g.Name + " does not offer it"
	case !ability.Support.Usable():
		c.passed = without(release, protocol, ability)
	case p.barred[protocol] != "":
		c.passed = p.barred[protocol]
	case len(methods) == 0 && p.in.Profile.Preferences.Auth != "":
		c.passed = fmt.Sprintf(
			"%s and %s do not both support the method set on the profile, %s",
			g.Name,
			release,
			p.in.Profile.Preferences.Auth,
		)
	case len(methods) == 0:
		c.passed = fmt.Sprintf("%s and %s have no common authentication method", g.Name, release)
	}
	return c
}

// without says why a release cannot use a protocol.
func without(release string, protocol vpn.Protocol, a platform.Ability) string {
	switch {
	case a.Support == platform.Gone && protocol == vpn.L2TP:
		return fmt.Sprintf("%s does not support %s for new connections", release, protocol.Title())
	case a.Support == platform.Gone:
		return fmt.Sprintf("%s no longer supports %s: %s", release, protocol.Title(), a.Note)
	case a.Support == platform.Rarely:
		return fmt.Sprintf("%s rarely supports %s", release, protocol.Title())
	}
	return fmt.Sprintf("%s does not support %s", release, protocol.Title())
}

// methods lists the ways that gateway and release share, strongest first, each with
// what is missing for it.
func (p *planner) methods(protocol vpn.Protocol, a platform.Ability) []method {
	o := &p.in.Gateway.Offers
	if !o.Has(protocol) {
		return nil
	}
	identity := ""
	if p.in.Device.Identity == nil && p.in.Enrol == nil {
		identity = p.in.Device.Name + " has no certificate"
	}
	key := ""
	var list []method
	switch protocol {
	case vpn.L2TP:
		if o.L2TP.PSK == nil {
			key = p.in.Gateway.Name + " has no pre-shared key on record"
		}
		shared := p.unshared(a, o.L2TP.IKE, o.L2TP.ESP)
		for _, auth := range vpn.MachineAuths {
			if !slices.Contains(a.Machine, auth) ||
				!slices.Contains(o.L2TP.Auth, auth) &&
					(len(o.L2TP.Auth) > 0 || auth != vpn.MachinePSK) {
				continue
			}
			m := method{
				machine:  auth,
				password: true,
				identity: auth == vpn.MachineCertificate,
				title:    "machine certificate, then login and password",
				lacking:  cmp.Or(identity, shared),
			}
			if auth == vpn.MachinePSK {
				m.title, m.lacking = "pre-shared key, then login and password", cmp.Or(key, shared)
			}
			list = append(list, m)
		}
	case vpn.IKEv2:
		if o.IKEv2.PSK == nil {
			key = p.in.Gateway.Name + " has no pre-shared key on record"
		}
		shared := p.unshared(a, o.IKEv2.IKE, o.IKEv2.ESP)
		titles := map[vpn.IKEv2Auth]string{
			vpn.IKEv2EAPTLS:      "device certificate, EAP-TLS",
			vpn.IKEv2Certificate: "device certificate",
			vpn.IKEv2MSCHAPv2:    "login and password, EAP-MSCHAPv2",
			vpn.IKEv2PSK:         "pre-shared key",
		}
		for _, auth := range vpn.IKEv2Auths {
			if !slices.Contains(a.IKEv2, auth) || !slices.Contains(o.IKEv2.Auth, auth) {
				continue
			}
			m := method{
				ikev2:    auth,
				password: auth.NeedsPassword(),
				identity: auth.NeedsIdentity(),
				title:    titles[auth],
				lacking:  shared,
			}
			if auth.NeedsIdentity() {
				m.lacking = cmp.Or(identity, shared)
			} else if auth == vpn.IKEv2PSK {
				m.lacking = cmp.Or(key, shared)
			}
			list = append(list, m)
		}
	case vpn.TLS:
		titles := map[vpn.TLSAuth]string{
			vpn.TLSCertificatePassword: "device certificate, then login and password",
			vpn.TLSCertificate:         "device certificate",
			vpn.TLSPassword:            "login and password",
		}
		for _, auth := range vpn.TLSAuths {
			if !slices.Contains(a.TLS, auth) || !slices.Contains(o.TLS.Auth, auth) {
				continue
			}
			m := method{
				tls:      auth,
				password: auth.NeedsPassword(),
				identity: auth.NeedsIdentity(),
				title:    titles[auth],
			}
			if auth.NeedsIdentity() {
				m.lacking = identity
			}
			list = append(list, m)
		}
	case vpn.PPTP:
		list = pppMethod(o.PPTP.PPP, a.PPP)
	case vpn.SSTP:
		list = pppMethod(o.SSTP.PPP, a.PPP)
	}
	return list
}

func pppMethod(offer, ability []suite.PPPMethod) []method {
	if len(shared(offer, ability)) == 0 {
		return nil
	}
	return []method{{password: true, title: "login and password"}}
}

// unshared says that the client's own proposals are none that the gateway takes; empty
// where they are, or where proposals are set.
func (p *planner) unshared(a platform.Ability, ike, esp []string) string {
	if a.SetProposals || !a.Support.Usable() {
		return ""
	}
	for _, part := range []struct {
		name           string
		client, server []string
		pfsOptional    bool
	}{{"IKE", a.IKE, ike, false}, {"child", a.ESP, esp, true}} {
		client, _ := suite.ParseAll(part.client)
		server, _ := suite.ParseAll(part.server)
		if len(server) == 0 || len(client) == 0 {
			continue
		}
		if _, ok := suite.Match(client, server, part.pfsOptional); !ok {
			return fmt.Sprintf(
				"%s sends no %s proposal that %s accepts",
				p.plan.Release.Title,
				part.name,
				p.in.Gateway.Name,
			)
		}
	}
	return ""
}

// shared lists the PPP methods of both, strongest first. EAP inside PPP asks for settings
// of its own that not every file carries, and is left off.
func shared(offer, ability []suite.PPPMethod) []suite.PPPMethod {
	list := []suite.PPPMethod{}
	for _, m := range suite.PPPMethods {
		if m != suite.EAP && slices.Contains(offer, m) && slices.Contains(ability, m) {
			list = append(list, m)
		}
	}
	return list
}
