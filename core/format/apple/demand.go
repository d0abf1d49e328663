package apple

import (
	"reflect"

	"wardicon/core/format"
	"wardicon/core/format/tree"
	"wardicon/core/vpn"
)

// onDemand is one of OnDemandRules as the profile has it.
type onDemand struct {
	Action     string          `plist:"Action"`
	Parameters []demandDomains `plist:"ActionParameters,omitempty"`
	Suffixes   []string        `plist:"DNSDomainMatch,omitempty"`
	Servers    []string        `plist:"DNSServerAddressMatch,omitempty"`
	Interface  string          `plist:"InterfaceTypeMatch,omitempty"`
	Networks   []string        `plist:"SSIDMatch,omitempty"`
	Probe      string          `plist:"URLStringProbe,omitempty"`
}

type demandDomains struct {
	Action  string   `plist:"DomainAction"`
	Domains []string `plist:"Domains"`
	Servers []string `plist:"RequiredDNSServers,omitempty"`
	Probe   string   `plist:"RequiredURLStringProbe,omitempty"`
}

var (
	interfaces = map[string]string{"wifi": "WiFi", "cellular": "Cellular", "ethernet": "Ethernet"}
	actions    = map[string]string{
		vpn.DemandConnect:    "Connect",
		vpn.DemandDisconnect: "Disconnect",
		vpn.DemandEvaluate:   "EvaluateConnection",
		vpn.DemandIgnore:     "Ignore",
	}
	onDemandKeys = []string{
		"Action", "ActionParameters", "DNSDomainMatch", "DNSServerAddressMatch",
		"InterfaceTypeMatch", "SSIDMatch", "URLStringProbe",
	}
	parameterKeys = []string{
		"DomainAction", "Domains", "RequiredDNSServers", "RequiredURLStringProbe",
	}
)

const (
	connectIfNeeded = "ConnectIfNeeded"
	neverConnect    = "NeverConnect"
)

// demand is when a device connects by itself, as far as the profile can say it.
func demand(c vpn.Connection) (vpn.Connect, *vpn.Demand) {
	switch {
	case len(c.DemandRules) > 0:
		return vpn.OnDemand, nil
	case c.Connect == vpn.OnDemand && !c.Demand.Empty():
		return vpn.OnDemand, c.Clone().Demand
	case c.Connect == vpn.OnDemand || c.Connect == vpn.Always:
		return vpn.Always, nil
	}
	return "", nil
}

// ruled are the rules of a connection in their order.
func ruled(c vpn.Connection) []vpn.DemandRule {
	if len(c.DemandRules) > 0 {
		return c.DemandRules
	}
	when, d := demand(c)
	if when == "" {
		return nil
	}
	var list []vpn.DemandRule
	if c.Unmetered {
		list = append(list, vpn.DemandRule{Action: vpn.DemandIgnore, Interface: "cellular"})
	}
	if d == nil {
		return append(list, vpn.DemandRule{Action: vpn.DemandConnect})
	}
	for _, r := range []vpn.DemandRule{
		{Networks: d.Networks}, {Suffixes: d.Suffixes}, {Probe: d.Probe},
	} {
		if !r.Always() {
			r.Action = vpn.DemandDisconnect
			list = append(list, r)
		}
	}
	wanted := vpn.DemandRule{Action: vpn.DemandConnect, Interface: d.Interface}
	if len(d.Domains) > 0 {
		wanted.Action, wanted.Domains = vpn.DemandEvaluate, []vpn.DemandDomains{
			{Domains: d.Domains},
		}
	}
	if list = append(list, wanted); !wanted.Always() {
		list = append(list, vpn.DemandRule{Action: vpn.DemandIgnore})
	}
	return list
}

// plain puts rules that a pattern's conditions can say into them; ok is false where they say more.
func plain(rules []vpn.DemandRule) (c vpn.Connection, ok bool) {
	d := vpn.Demand{Networks: []string{}, Suffixes: []string{}, Domains: []string{}}
	for _, r := range rules {
		switch {
		case r.Action == vpn.DemandDisconnect:
			d.Networks = append(d.Networks, r.Networks...)
			d.Suffixes = append(d.Suffixes, r.Suffixes...)
			d.Probe = r.Probe + d.Probe
		case r.Action == vpn.DemandConnect || r.Action == vpn.DemandEvaluate:
			d.Interface = r.Interface
			for _, one := range r.Domains {
				d.Domains = append(d.Domains, one.Domains...)
			}
		case r.Interface == "cellular":
			c.Unmetered = true
		}
	}
	if c.Connect = vpn.Always; !d.Empty() {
		c.Connect, c.Demand = vpn.OnDemand, &d
	}
	return c, reflect.DeepEqual(reached(ruled(c)), reached(rules))
}

// reached leaves out rules that are never reached, and what happens anyway where none fits.
func reached(rules []vpn.DemandRule) []vpn.DemandRule {
	for i, r := range rules {
		if r.Always() {
			rules = rules[:i+1]
			break
		}
	}
	for len(rules) > 0 && rules[len(rules)-1].Action == vpn.DemandIgnore {
		rules = rules[:len(rules)-1]
	}
	return rules
}

func (r *reader) demand(n *tree.Node, c *vpn.Connection) {
	rules := n.Get("OnDemandRules")
	if !r.Flag(n, "OnDemandEnabled") {
		if rules != nil {
			r.Leave(rules, "OnDemandRules, which are switched off")
		}
		return
	}
	if c.Connect = vpn.OnDemand; rules == nil || len(rules.Items) == 0 {
		c.Demand = &vpn.Demand{Networks: []string{}, Suffixes: []string{}, Domains: []string{}}
		return
	}
	var list []vpn.DemandRule
	for i, rule := range rules.Items {
		one, ok := r.demandRule(rule)
		if !ok {
			continue
		}
		if list = append(list, one); one.Always() && i < len(rules.Items)-1 {
			r.Note(format.DemandUnreached, rules.Items[i+1].At,
				"rule %d; rule %d applies to every network", i+2, i+1)
			for _, after := range rules.Items[i+1:] {
				r.Leave(after, "an on-demand rule that is never reached")
			}
			break
		}
	}
	simple, ok := plain(list)
	if !ok {
		c.DemandRules = list
		return
	}
	c.Connect, c.Demand, c.Unmetered = simple.Connect, simple.Demand, simple.Unmetered
}

func (r *reader) demandRule(n *tree.Node) (rule vpn.DemandRule, ok bool) {
	r.Known(n, onDemandKeys)
	action, conditions := r.Text(n, "Action"), n.Get("ActionParameters")
	for own, name := range actions {
		if name == action {
			rule.Action = own
		}
	}
	if action == "Allow" { // what Ignore was called before (Apple, VPN.OnDemandRulesElement)
		rule.Action = vpn.DemandIgnore
	}
	if rule.Action == "" {
		r.Note(format.KeyMalformed, r.At(n, n, "Action"), "the action %q of an on-demand rule; "+
			"expected Connect, Disconnect, EvaluateConnection or Ignore", action)
		r.Leave(n, "an on-demand rule")
		return rule, false
	}
	if kind := r.Text(n, "InterfaceTypeMatch"); kind != "" {
		for own, name := range interfaces {
			if kind == name {
				rule.Interface = own
			}
		}
		if rule.Interface == "" {
			r.Note(format.KeyMalformed, r.At(n, n, "InterfaceTypeMatch"),
				"InterfaceTypeMatch %q, expected Ethernet, WiFi or Cellular", kind)
			r.Leave(n, "an on-demand rule")
			return rule, false
		}
	}
	list := func(n *tree.Node, key string) []string {
		if l := r.List(n, key); len(l) > 0 {
			return l
		}
		return nil
	}
	rule.Networks, rule.Suffixes = list(n, "SSIDMatch"), list(n, "DNSDomainMatch")
	rule.Servers, rule.Probe = list(n, "DNSServerAddressMatch"), r.Text(n, "URLStringProbe")
	switch {
	case rule.Action != vpn.DemandEvaluate:
		if conditions != nil {
			r.Leave(conditions, "ActionParameters beside "+action)
		}
	case conditions == nil || len(conditions.Items) == 0:
		r.Note(format.KeyMalformed, n.At, "EvaluateConnection without ActionParameters")
		return rule, false
	default:
		for _, one := range conditions.Items {
			rule.Domains = append(rule.Domains, r.demandDomains(one))
		}
	}
	return rule, true
}

func (r *reader) demandDomains(n *tree.Node) vpn.DemandDomains {
	r.Known(n, parameterKeys)
	d := vpn.DemandDomains{
		Domains: r.List(n, "Domains"),
		Servers: r.List(n, "RequiredDNSServers"),
		Probe:   r.Text(n, "RequiredURLStringProbe"),
	}
	if len(d.Servers) == 0 {
		d.Servers = nil
	}
	switch action := r.Text(n, "DomainAction"); action {
	case neverConnect:
		d.Never = true
	case connectIfNeeded:
	default:
		r.Note(format.KeyMalformed, r.At(n, n, "DomainAction"),
			"DomainAction %q, expected %s or %s", action, connectIfNeeded, neverConnect)
	}
	if len(d.Domains) == 0 {
		r.Note(format.KeyMalformed, n.At, "ActionParameters without Domains")
	}
	return d
}

// written gives a rule the names of the profile.
func written(r vpn.DemandRule) onDemand {
	out := onDemand{
		Action: actions[r.Action], Suffixes: r.Suffixes, Servers: r.Servers,
		Interface: interfaces[r.Interface], Networks: r.Networks, Probe: r.Probe,
	}
	for _, d := range r.Domains {
		one := demandDomains{connectIfNeeded, d.Domains, d.Servers, d.Probe}
		if d.Never {
			one.Action = neverConnect
		}
		out.Parameters = append(out.Parameters, one)
	}
	return out
}
