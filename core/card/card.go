// Package card makes the page for a person who sets a connection up: the steps for
// that device, and each value in a form that cannot be misread.
package card

import (
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Value is one thing to type. Spelled names each of its characters; it is there for
// values that are easy to misread.
type Value struct {
	Label   string
	Text    string
	Hidden  bool // a secret stands in its place; Text is the mask
	Spelled []string
}

// Card is the page. Files are named where the parcel has some.
type Card struct {
	Title        string
	Organisation string
	Person       string
	Device       string
	Release      string
	Gateway      string
	Files        []string
	Steps        []string
	Values       []Value
	Connect      []string
	Try          []string // how to see that it works
	Remove       []string
}

// Make makes a card. With byHand set the steps are those for typing even where the
// platform takes a file.
func Make(in plan.Input, p plan.Plan, files []format.File, byHand bool) Card {
	g := find(in.Device.Platform, in.Device.Release)
	c := Card{
		Title: p.Connection.Name, Organisation: in.Organisation.Name, Person: in.Person.Name, Device: in.Device.Name,
		Release: p.Release.Title, Gateway: in.Gateway.Name, Connect: g.connect, Remove: g.remove,
	}
	if len(files) > 0 && len(g.file) > 0 && !byHand {
		c.Steps = settle(g.file, p.Connection.Tunnel, nil)
		for _, f := range files {
			c.Files = append(c.Files, f.Name)
		}
		if p.Connection.Keep == vpn.KeepAsked {
			c.Values = values(p.Connection, "Login")
		}
	} else {
		all := values(p.Connection)
		c.Steps = settle(g.hand, p.Connection.Tunnel, all)
		c.Values = slices.DeleteFunc(all, func(v Value) bool {
			return !slices.ContainsFunc(c.Steps, func(step string) bool { return strings.Contains(step, "‹"+v.Label+"›") })
		})
	}
	for _, host := range in.Gateway.Hosts {
		c.Try = append(c.Try, "Open "+host+" in the browser: it answers only through the connection.")
	}
	if len(in.Gateway.Egress) > 0 && p.Connection.Tunnel == vpn.TunnelFull {
		c.Try = append(c.Try, "Look at the address that the world sees of you: it is "+strings.Join(in.Gateway.Egress, " or ")+" while you are connected.")
	}
	if len(c.Try) == 0 {
		c.Try = []string{"The device says that it is connected, and pages inside open."}
	}
	return c
}

func find(p vpn.Platform, release string) guide {
	if p == vpn.IPadOS {
		p = vpn.IOS
	}
	found := guides[len(guides)-1]
	for _, g := range guides {
		if g.platform == p && (found.platform != p || platform.Compare(g.from, release) <= 0) {
			found = g
		}
	}
	return found
}

// settle keeps the steps for a tunnel, and of each step what the card has values for.
func settle(steps []string, tunnel vpn.Tunnel, have []Value) []string {
	var kept []string
	for _, step := range steps {
		if only, rest, ok := strings.Cut(step, ":"); ok && (only == string(vpn.TunnelFull) || only == string(vpn.TunnelSplit)) {
			if only != string(tunnel) {
				continue
			}
			step = rest
		}
		if step = optional(step, have); strings.Trim(step, ". ") != "" {
			kept = append(kept, step)
		}
	}
	return kept
}

// optional resolves the braces in a step.
func optional(step string, have []Value) string {
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(step, "{")
		b.WriteString(before)
		if !ok {
			return b.String()
		}
		inside, after, _ := strings.Cut(rest, "}")
		if _, label, labelled := strings.Cut(inside, "‹"); labelled {
			label, _, _ = strings.Cut(label, "›")
			if slices.ContainsFunc(have, func(v Value) bool { return v.Label == label }) {
				b.WriteString(inside)
			}
		}
		step = after
	}
}

// values lists what can be typed, in the order of the steps; only names the labels
// that are wanted, none wants all.
func values(c vpn.Connection, only ...string) []Value {
	var list []Value
	add := func(label, text string, spell bool) {
		if text == "" || len(only) > 0 && !slices.Contains(only, label) {
			return
		}
		v := Value{Label: label, Text: text, Hidden: text == secret.Hidden}
		if spell && !v.Hidden {
			v.Spelled = secret.Spell(text)
		}
		list = append(list, v)
	}
	add("Connection name", c.Name, false)
	add("Server address", c.Server, false)
	add("Login", c.Login, true)
	if c.Keep == vpn.KeepSaved {
		add("Password", c.Password.Reveal(), true)
	}
	if l := c.L2TP; l != nil {
		add("Pre-shared key", l.PSK.Reveal(), true)
		titles := make([]string, len(l.PPP))
		for i, m := range l.PPP {
			titles[i] = suite.PPPFacts[m].Title
		}
		add("Sign-in method", strings.Join(titles, ", "), false)
		add("IKE proposals", strings.Join(l.IKE, ", "), false)
		add("ESP proposals", strings.Join(l.ESP, ", "), false)
	}
	add("Routes", strings.Join(c.Routes, " "), false)
	add("DNS servers", strings.Join(c.DNS, " "), false)
	add("Inside domains", strings.Join(c.Domains, " "), false)
	return list
}
