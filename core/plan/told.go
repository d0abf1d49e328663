package plan

import (
	"fmt"
	"slices"
	"strings"

	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// told puts right what was chosen before the file was known and what the file does not say:
// what the device does instead, or what must reach it by other ways.
func (p *planner) told(kept vpn.Connection, format string) {
	c := &p.plan.Connection
	if p.plan.Format == "" || p.plan.Format == platform.ByHand {
		p.byHand()
		return
	}
	if len(c.PPP()) > 0 && len(kept.PPP()) == 0 {
		p.reason(
			vpn.FieldPPP,
			upper(format)+" cannot set it: device and gateway negotiate it when connecting",
		)
	}
	if c.IKEv2 != nil && kept.IKEv2 != nil && kept.IKEv2.RemoteID != c.IKEv2.RemoteID &&
		c.IKEv2.Auth != vpn.IKEv2PSK {
		p.replace(
			Choice{
				vpn.FieldRemoteID,
				"Remote identity",
				c.Server,
				ByDevice,
				fmt.Sprintf(
					"%s expects the server address in the gateway's certificate, whatever "+
						"identity the gateway sends",
					p.plan.Release.Title,
				),
			},
		)
	}
	if s := c.PPTP; s != nil && len(s.MPPE) > 0 && kept.PPTP != nil && len(kept.PPTP.MPPE) == 0 {
		p.reason(
			vpn.FieldMPPE,
			upper(format)+" cannot set it: "+p.plan.Release.Title+" requires encryption by default",
		)
	}
	if len(c.Routes) > 0 && len(kept.Routes) == 0 {
		p.left(
			vpn.FieldRoutes,
			"networks: "+join(c.Routes),
			upper(format)+" cannot set them, so only the class of the tunnel address is routed",
		)
		c.Routes = []string{}
	}
	if len(c.Domains) > 0 && len(kept.Domains) == 0 {
		p.left(
			vpn.FieldDomains,
			"internal domains: "+join(c.Domains),
			upper(format)+" cannot set them, so internal hosts need their full names",
		)
		c.Domains = []string{}
	}
	if p.plan.Format == platform.WindowsXML {
		p.elsewhere(kept)
	}
}

// byHand says what a person finds no field for.
func (p *planner) byHand() {
	c := &p.plan.Connection
	if p.in.Device.Platform != vpn.Android || p.plan.Ability.Support != platform.BuiltIn {
		return
	}
	const none = "Android has no field for it: device and gateway negotiate it when connecting"
	if len(c.PPP()) > 0 {
		p.reason(vpn.FieldPPP, none)
	}
	if s := c.IKEv2; s != nil && s.RemoteID != c.Server {
		s.RemoteID = c.Server
		p.replace(
			Choice{
				vpn.FieldRemoteID,
				"Remote identity",
				c.Server,
				ByDevice,
				"Android uses the server address and has no field for another",
			},
		)
	}
}

// elsewhere says what the management of devices must bring beside its file.
func (p *planner) elsewhere(kept vpn.Connection) {
	c := &p.plan.Connection
	const how = "the file cannot contain it: the device management must provide it separately"
	if c.Authority != "" && kept.Authority == "" {
		p.reason(vpn.FieldAuthority, how)
		p.plan.Unmet = append(
			p.plan.Unmet,
			Unmet{vpn.FieldAuthority, "CA of the gateway's certificate", how},
		)
	}
	if c.Identity != nil && kept.Identity == nil {
		p.reason(vpn.FieldIdentity, how)
		p.plan.Unmet = append(p.plan.Unmet, Unmet{vpn.FieldIdentity, "device certificate", how})
	}
	if c.L2TP != nil && c.L2TP.BehindNAT && p.plan.Ability.NATSetting {
		p.reason(vpn.FieldNAT, how)
		p.plan.Unmet = append(
			p.plan.Unmet,
			Unmet{vpn.FieldNAT, "setting for a gateway behind NAT", how},
		)
	}
}

// reason assigns a choice another reason.
func (p *planner) reason(f vpn.Field, reason string) {
	for i := range p.plan.Choices {
		if p.plan.Choices[i].Field == f {
			p.plan.Choices[i].Reason = reason
		}
	}
}

// left takes back a choice that the file leaves out. What was requested is unmet; what the
// record alone named is told as it is.
func (p *planner) left(f vpn.Field, wanted, reason string) {
	i := slices.IndexFunc(p.plan.Choices, func(c Choice) bool { return c.Field == f })
	if i < 0 {
		return
	}
	if c := p.plan.Choices[i]; c.Origin == ByPattern || c.Origin == ByOperator {
		p.plan.Unmet = append(
			p.plan.Unmet,
			Unmet{f, strings.ToLower(wanted[:1]) + wanted[1:], reason},
		)
	}
	p.plan.Choices[i].Value, p.plan.Choices[i].Origin, p.plan.Choices[i].Reason =
		"none", ByDevice, reason
}
