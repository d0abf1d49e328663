package plan

import (
	"cmp"
	"slices"

	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// proposals settles the IKE and child proposals of a connection: what is set by the
// file, or what the client sends by itself.
func (p *planner) proposals(ike, esp []string) (setIKE, setESP []string) {
	ability := p.plan.Ability
	if !ability.Support.Usable() {
		return []string{}, []string{}
	}
	if !ability.SetProposals {
		p.builtIn(vpn.FieldIKE, "IKE proposal", ability.IKE, ike, false)
		p.builtIn(vpn.FieldESP, "ESP proposal", ability.ESP, esp, true)
		return []string{}, []string{}
	}
	names := suite.Closed[ability.Dialect]
	setIKE, setESP = sound(ike), sound(esp)
	if p.plan.Connection.IKEv2 != nil {
		for i, text := range setIKE {
			if q, err := suite.Parse(text); err == nil {
				setIKE[i] = q.ForIKE().String()
			}
		}
	}
	reason := "the gateway's proposals, in its order"
	if len(setIKE)+len(setESP) < len(ike)+len(esp) {
		reason += "; without weak ones"
	}
	if ability.Dialect != "" {
		setIKE, setESP = carried(setIKE, names.IKE), carried(setESP, names.ESP)
	}
	if ability.OneProposal {
		setIKE, setESP = setIKE[:min(1, len(setIKE))], setESP[:min(1, len(setESP))]
		reason = "the gateway's first that can be set; only one can"
		if len(ike) > 0 && len(setIKE) == 0 || len(esp) > 0 && len(setESP) == 0 {
			reason = "none of the gateway's can be set, so the client's defaults are used"
			setIKE, setESP = []string{}, []string{}
		}
	}
	p.choose(
		vpn.FieldIKE,
		"IKE proposals",
		cmp.Or(join(setIKE), "client defaults"),
		ByGateway,
		reason,
	)
	p.choose(
		vpn.FieldESP,
		"ESP proposals",
		cmp.Or(join(setESP), "client defaults"),
		ByGateway,
		reason,
	)
	return setIKE, setESP
}

// builtIn says which of the client's own proposals the gateway will take.
func (p *planner) builtIn(
	field vpn.Field,
	title string,
	client, server []string,
	pfsOptional bool,
) {
	mine, _ := suite.ParseAll(client)
	theirs, _ := suite.ParseAll(server)
	m, ok := suite.Match(mine, theirs, pfsOptional)
	switch {
	case ok:
		p.choose(
			field,
			title,
			m.String(),
			ByDevice,
			"built in; first of %d that %s sends and %s accepts",
			len(mine),
			p.plan.Release.Title,
			p.in.Gateway.Name,
		)
	case len(theirs) == 0:
		p.choose(
			field,
			title,
			"client defaults",
			ByDevice,
			"built in; %s has no proposals on record",
			p.in.Gateway.Name,
		)
	default:
		p.choose(
			field,
			title,
			"none",
			ByDevice,
			"%s sends nothing that %s accepts",
			p.plan.Release.Title,
			p.in.Gateway.Name,
		)
	}
}

// kept takes back proposals that the chosen file does not carry: the client then sends its
// own.
func (p *planner) kept(file vpn.Connection) {
	c, o := &p.plan.Connection, p.in.Gateway.Offers
	ike, esp := file.Proposals()
	setIKE, setESP := c.Proposals()
	if len(ike)+len(esp) > 0 || len(setIKE)+len(setESP) == 0 {
		return
	}
	p.plan.Choices = slices.DeleteFunc(
		p.plan.Choices,
		func(c Choice) bool { return c.Field == vpn.FieldIKE || c.Field == vpn.FieldESP },
	)
	switch {
	case c.IKEv2 != nil && o.IKEv2 != nil:
		c.IKEv2.IKE, c.IKEv2.ESP, ike, esp = []string{}, []string{}, o.IKEv2.IKE, o.IKEv2.ESP
	case c.L2TP != nil && o.L2TP != nil:
		c.L2TP.IKE, c.L2TP.ESP, ike, esp = []string{}, []string{}, o.L2TP.IKE, o.L2TP.ESP
	}
	p.builtIn(vpn.FieldIKE, "IKE proposal", p.plan.Ability.IKE, ike, false)
	p.builtIn(vpn.FieldESP, "ESP proposal", p.plan.Ability.ESP, esp, true)
}

// carried keeps the proposals that a dialect has names for.
func carried(list []string, names suite.Dialect) []string {
	return slices.DeleteFunc(slices.Clone(list), func(v string) bool {
		q, err := suite.Parse(v)
		return err != nil || !names.Carries(q)
	})
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
