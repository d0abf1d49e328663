// Package plan settles how a device connects to a gateway, and gives the reason
// for every choice.
package plan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/platform"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Input is what planning starts from. Secrets in it are open.
type Input struct {
	Organisation vpn.Organisation
	Profile      vpn.Profile
	Gateway      vpn.Gateway
	Device       vpn.Device
	Person       vpn.Person
	Accounts     []vpn.Account // of the person
}

// Origin says who made a choice.
type Origin string

// The origins.
const (
	ByOperator Origin = "operator" // wished for on the profile
	ByGateway  Origin = "gateway"  // the gateway's record says so
	ByDevice   Origin = "device"   // the device or its release decides
	ByRule     Origin = "planning" // chosen by the planner
)

// Choice is one settled value with its reason. Value never holds a secret.
type Choice struct {
	Field  vpn.Field `json:"field"`
	Title  string    `json:"title"`
	Value  string    `json:"value"`
	Origin Origin    `json:"origin"`
	Reason string    `json:"reason"`
}

// Plan is the settled connection with the reasons. Account is nil where no account
// of the person is valid at the gateway; Offered is false where the gateway has no
// offer that a device could take.
type Plan struct {
	Connection vpn.Connection
	Choices    []Choice
	Account    *vpn.Account
	Offered    bool
	Release    platform.Found
	Ability    platform.Ability
}

// Make plans one connection. It always answers: what stands in the way is found by
// the checks.
func Make(in Input) Plan {
	p := &planner{in: in}
	p.protocol()
	p.names()
	p.account()
	p.secrets()
	p.link()
	p.traffic()
	p.scope()
	return p.plan
}

type planner struct {
	in   Input
	plan Plan
}

func (p *planner) choose(f vpn.Field, title, value string, by Origin, reason string, args ...any) {
	if len(args) > 0 {
		reason = fmt.Sprintf(reason, args...)
	}
	p.plan.Choices = append(p.plan.Choices, Choice{f, title, value, by, reason})
}

func (p *planner) protocol() {
	g, d := p.in.Gateway, p.in.Device
	p.plan.Release, _ = platform.Find(d.Platform, d.Release)
	p.plan.Ability = p.plan.Release.Ability(vpn.L2TP)
	p.plan.Offered = g.Offers.L2TP != nil
	c := &p.plan.Connection
	c.Protocol = vpn.L2TP
	title := p.plan.Release.Title
	switch {
	case !p.plan.Offered:
		p.choose(vpn.FieldProtocol, "Protocol", "none", ByGateway, "%s offers nothing yet", g.Name)
	case !p.plan.Ability.Support.Usable():
		p.choose(vpn.FieldProtocol, "Protocol", "none", ByDevice, "%s offers L2TP/IPsec, but %s cannot use it: %s", g.Name, title, p.plan.Ability.Support)
	default:
		p.choose(vpn.FieldProtocol, "Protocol", vpn.L2TP.Title(), ByGateway, "%s offers it, and %s has it %s", g.Name, title, p.plan.Ability.Support)
	}
	c.Server = g.Address
	reason := "the address on the gateway's record"
	if _, err := netip.ParseAddr(g.Address); err != nil && g.Dynamic {
		reason += "; a name, because the number behind it changes"
	}
	p.choose(vpn.FieldServer, "Server address", c.Server, ByGateway, reason)
}

func (p *planner) names() {
	c, org := &p.plan.Connection, p.in.Organisation
	c.Organisation = org.Name
	labels := strings.Split(strings.ToLower(strings.TrimSuffix(org.Domain, ".")), ".")
	slices.Reverse(labels)
	c.Identifier = strings.Join(append(labels, "vpn", p.in.Profile.ID), ".")
	c.UUID = strings.ToUpper(uuid.NewSHA1(uuid.NameSpaceURL, []byte("wardicon:profile:"+p.in.Profile.ID)).String())
	if wish := p.in.Profile.Wishes.Name; wish != "" {
		c.Name = wish
		p.choose(vpn.FieldName, "Connection name", c.Name, ByOperator, "settled on the profile")
	} else {
		c.Name = strings.TrimSpace(org.Name + " " + p.in.Gateway.Name)
		p.choose(vpn.FieldName, "Connection name", c.Name, ByRule, "organisation and gateway, so that several connections on one device stay apart")
	}
}

func (p *planner) account() {
	g := p.in.Gateway
	var valid []vpn.Account
	for _, a := range p.in.Accounts {
		if len(a.GatewayIDs) == 0 || slices.Contains(a.GatewayIDs, g.ID) {
			valid = append(valid, a)
		}
	}
	// Made for this gateway before valid everywhere; with a password before without.
	slices.SortFunc(valid, func(a, b vpn.Account) int {
		return cmp.Or(order(len(a.GatewayIDs) == 0, len(b.GatewayIDs) == 0), order(a.Password == nil, b.Password == nil), cmp.Compare(a.Login, b.Login), cmp.Compare(a.ID, b.ID))
	})
	by, reason := ByRule, ""
	wish := p.in.Profile.Wishes.AccountID
	if i := slices.IndexFunc(valid, func(a vpn.Account) bool { return a.ID == wish }); wish != "" && i >= 0 {
		valid, by, reason = valid[i:i+1], ByOperator, "settled on the profile"
	} else if wish != "" {
		p.choose(vpn.FieldAccount, "Account", "none", ByOperator, "the account that was settled on is not valid at %s", g.Name)
		return
	} else if len(valid) > 1 {
		reason = fmt.Sprintf("of %d accounts that are valid at %s: one made for the gateway goes first, then one with a password", len(valid), g.Name)
	}
	if len(valid) == 0 {
		p.choose(vpn.FieldAccount, "Account", "none", ByRule, "%s has no account that is valid at %s", p.in.Person.Name, g.Name)
		return
	}
	a := valid[0]
	if reason == "" {
		reason = fmt.Sprintf("the only account of %s that is valid at %s", p.in.Person.Name, g.Name)
	}
	p.plan.Account = &a
	p.choose(vpn.FieldAccount, "Account", a.Login, by, reason)

	c := &p.plan.Connection
	realm := a.Realm
	if realm == "" {
		realm = g.SignIn.Realm
	}
	c.Login = vpn.JoinLogin(g.SignIn.Form, a.Login, realm)
	if g.SignIn.Form == vpn.LoginPlain {
		p.choose(vpn.FieldLogin, "Login", c.Login, ByGateway, "%s wants the login alone", g.Name)
	} else {
		p.choose(vpn.FieldLogin, "Login", c.Login, ByGateway, "%s wants login and realm joined as %s", g.Name, g.SignIn.Form)
	}
}

func (p *planner) secrets() {
	c, d, wish := &p.plan.Connection, p.in.Device, p.in.Profile.Wishes.Password
	switch {
	case wish != "":
		c.Keep = wish
		p.choose(vpn.FieldKeep, "Password", string(wish), ByOperator, "settled on the profile")
	case d.CannotAsk:
		c.Keep = vpn.KeepSaved
		p.choose(vpn.FieldKeep, "Password", "saved", ByDevice, "%s cannot ask a person", d.Name)
	case !p.plan.Ability.SavePassword:
		c.Keep = vpn.KeepAsked
		p.choose(vpn.FieldKeep, "Password", "asked", ByDevice, "%s takes no password from us", p.plan.Release.Title)
	case d.Encrypted:
		c.Keep = vpn.KeepSaved
		p.choose(vpn.FieldKeep, "Password", "saved", ByDevice, "the disk of %s is encrypted, so nobody has to type it", d.Name)
	default:
		c.Keep = vpn.KeepAsked
		p.choose(vpn.FieldKeep, "Password", "asked", ByDevice, "the disk of %s is not encrypted: a saved password could be read from it", d.Name)
	}
	if a := p.plan.Account; c.Keep == vpn.KeepSaved && a != nil && a.Password != nil {
		c.Password = *a.Password
	}
}

// order puts false before true.
func order(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

// link settles what only L2TP/IPsec has.
func (p *planner) link() {
	offer := p.in.Gateway.Offers.L2TP
	if offer == nil {
		return
	}
	l := &vpn.L2TPSetting{PPP: []suite.PPPMethod{}, IKE: []string{}, ESP: []string{}}
	p.plan.Connection.L2TP = l
	if offer.PSK != nil {
		l.PSK = *offer.PSK
		p.choose(vpn.FieldPSK, "Pre-shared key", "stored", ByGateway, "the key of %s", p.in.Gateway.Name)
	} else {
		p.choose(vpn.FieldPSK, "Pre-shared key", "none", ByGateway, "%s has no key on record", p.in.Gateway.Name)
	}
	ability := p.plan.Ability
	for _, m := range suite.PPPMethods {
		// EAP inside L2TP asks for settings of its own that no file of these platforms carries.
		if m != suite.EAP && slices.Contains(offer.PPP, m) && slices.Contains(ability.PPP, m) {
			l.PPP = append(l.PPP, m)
		}
	}
	if len(l.PPP) > 1 && l.PPP[0] == suite.MSCHAPv2 {
		l.PPP = l.PPP[:1]
		p.choose(vpn.FieldPPP, "PPP authentication", join(l.PPP), ByRule, "the strongest that gateway and device share; weaker ones are left off")
	} else {
		p.choose(vpn.FieldPPP, "PPP authentication", or(join(l.PPP), "none"), ByGateway, "what gateway and device share")
	}
	if ability.SetProposals {
		l.IKE, l.ESP = sound(offer.IKE), sound(offer.ESP)
		reason := "the gateway's proposals, in its order"
		if len(l.IKE)+len(l.ESP) < len(offer.IKE)+len(offer.ESP) {
			reason += "; weak ones are left off"
		}
		p.choose(vpn.FieldIKE, "IKE proposals", or(join(l.IKE), "the client's own"), ByGateway, reason)
		p.choose(vpn.FieldESP, "ESP proposals", or(join(l.ESP), "the client's own"), ByGateway, reason)
	} else if ability.Support.Usable() {
		for _, part := range []struct {
			field          vpn.Field
			title          string
			client, server []string
			pfsOptional    bool
		}{
			{vpn.FieldIKE, "IKE proposal", ability.IKE, offer.IKE, false},
			{vpn.FieldESP, "ESP proposal", ability.ESP, offer.ESP, true},
		} {
			client, _ := suite.ParseAll(part.client)
			server, _ := suite.ParseAll(part.server)
			if m, ok := suite.Match(client, server, part.pfsOptional); ok {
				p.choose(part.field, part.title, m.String(), ByDevice, "built in; the first of %d that %s sends and %s takes", len(client), p.plan.Release.Title, p.in.Gateway.Name)
			} else if len(server) == 0 {
				p.choose(part.field, part.title, "the client's own", ByDevice, "built in; %s says nothing of what it takes", p.in.Gateway.Name)
			} else {
				p.choose(part.field, part.title, "none", ByDevice, "%s sends nothing that %s takes", p.plan.Release.Title, p.in.Gateway.Name)
			}
		}
	}
	l.BehindNAT = p.in.Gateway.BehindNAT
	if l.BehindNAT && ability.NATSetting {
		p.choose(vpn.FieldNAT, "Gateway behind NAT", "set on the device", ByGateway, "%s stands behind NAT and %s refuses that without a setting; a restart is needed once", p.in.Gateway.Name, platform.Title(p.in.Device.Platform))
	}
}

// sound leaves weak proposals off, as long as a better one remains.
func sound(proposals []string) []string {
	kept := []string{}
	for _, text := range proposals {
		if q, err := suite.Parse(text); err == nil && q.Worst().Worth >= suite.LastResort {
			kept = append(kept, q.String())
		}
	}
	if len(kept) == 0 {
		return slices.Clone(proposals)
	}
	return kept
}

func (p *planner) traffic() {
	c, g, ability := &p.plan.Connection, p.in.Gateway, p.plan.Ability
	c.Routes, c.DNS, c.Domains = []string{}, []string{}, []string{}
	switch wish := p.in.Profile.Wishes.Tunnel; {
	case wish != "":
		c.Tunnel = wish
		p.choose(vpn.FieldTunnel, "Tunnel", string(wish), ByOperator, "settled on the profile")
	case len(g.Routes) > 0 && ability.SplitRoutes:
		c.Tunnel = vpn.TunnelSplit
		p.choose(vpn.FieldTunnel, "Tunnel", "split", ByGateway, "%s names the networks behind it, so that all else can stay outside", g.Name)
	case len(g.Routes) > 0:
		c.Tunnel = vpn.TunnelFull
		p.choose(vpn.FieldTunnel, "Tunnel", "full", ByDevice, "%s cannot be told single networks for L2TP/IPsec", p.plan.Release.Title)
	default:
		c.Tunnel = vpn.TunnelFull
		p.choose(vpn.FieldTunnel, "Tunnel", "full", ByGateway, "%s names no networks behind it, so everything goes through", g.Name)
	}
	if c.Tunnel == vpn.TunnelSplit && ability.SplitRoutes {
		c.Routes = slices.Clone(g.Routes)
		p.choose(vpn.FieldRoutes, "Routes", join(c.Routes), ByGateway, "the networks behind %s", g.Name)
	}
	if ability.SetDNS && len(g.DNS) > 0 {
		c.DNS = slices.Clone(g.DNS)
		p.choose(vpn.FieldDNS, "DNS servers", join(c.DNS), ByGateway, "the inside servers of %s", g.Name)
	}
	if ability.SetDNS && len(g.Domains) > 0 {
		c.Domains = slices.Clone(g.Domains)
		p.choose(vpn.FieldDomains, "Inside domains", join(c.Domains), ByGateway, "the inside domains of %s", g.Name)
	}
}

func (p *planner) scope() {
	c := &p.plan.Connection
	switch wish := p.in.Profile.Wishes.Scope; {
	case wish != "":
		c.Scope = wish
		p.choose(vpn.FieldScope, "For", string(wish), ByOperator, "settled on the profile")
	case p.plan.Ability.Format == platform.PowerShell:
		c.Scope = vpn.ScopeMachine
		p.choose(vpn.FieldScope, "For", "machine", ByDevice, "the script needs an administrator, whose own list of connections would be the wrong place")
	case p.plan.Ability.Format == platform.Keyfile:
		c.Scope = vpn.ScopeMachine
		p.choose(vpn.FieldScope, "For", "machine", ByDevice, "a keyfile belongs to the machine")
	default:
		c.Scope = vpn.ScopePerson
		p.choose(vpn.FieldScope, "For", "person", ByRule, "only %s uses it", or(p.in.Person.Name, "one person"))
	}
}

func join[T ~string](list []T) string {
	parts := make([]string, len(list))
	for i, v := range list {
		parts[i] = string(v)
	}
	return strings.Join(parts, ", ")
}

func or(v, otherwise string) string {
	if v == "" {
		return otherwise
	}
	return v
}
