package daemons

import (
	"slices"

	"wardicon/core/format"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// refusals are pppd's options that switch a method off.
var refusals = []struct {
	method suite.PPPMethod
	option string
}{
	{
		suite.EAP,
		"refuse-eap",
	},
	{suite.MSCHAPv2, "refuse-mschap-v2"},
	{suite.MSCHAP, "refuse-mschap"},
	{suite.CHAP, "refuse-chap"},
	{suite.PAP, "refuse-pap"},
}

// PPPOptions are the options of pppd that say which methods and which encryption a
// connection has (pppd(8)).
func PPPOptions(c vpn.Connection) []string {
	var options []string
	for _, r := range refusals {
		if !slices.Contains(c.PPP(), r.method) {
			options = append(options, r.option)
		}
	}
	if c.PPTP == nil {
		return options
	}
	switch strengths := format.Strengths(c.PPTP.MPPE); {
	case len(strengths) == 2:
		options = append(options, "require-mppe")
	case len(strengths) == 1:
		options = append(options, "require-mppe-"+string(strengths[0]))
	}
	if c.PPTP.Stateful {
		options = append(options, "mppe-stateful")
	}
	return options
}

// PPP is what such options say.
type PPP struct {
	Methods  []suite.PPPMethod
	MPPE     []suite.MPPE
	Stateful bool
}

// NewPPP is what pppd does without any option.
func NewPPP() PPP { return PPP{Methods: slices.Clone(suite.PPPMethods), MPPE: []suite.MPPE{}} }

// Take takes one option; false where it is none of these.
func (p *PPP) Take(option string) bool {
	for _, refusal := range refusals {
		if refusal.option == option {
			p.Methods = slices.DeleteFunc(
				p.Methods,
				func(m suite.PPPMethod) bool { return m == refusal.method },
			)
			return true
		}
	}
	switch option {
	case "mppe-stateful":
		p.Stateful = true
	case "require-mppe":
		p.MPPE = []suite.MPPE{"128", "40"}
	case "require-mppe-128", "require-mppe-40":
		if m := suite.MPPE(option[len("require-mppe-"):]); !slices.Contains(p.MPPE, m) {
			p.MPPE = format.Strengths(append(p.MPPE, m))
		}
	default:
		return false
	}
	return true
}
