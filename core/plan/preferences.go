package plan

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/format/all"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// preferences takes over from the pattern when and how a device connects.
func (p *planner) preferences() {
	c, w := &p.plan.Connection, p.in.Pattern
	c.Connect, c.Reconnect, c.Unmetered = w.Connect, w.Reconnect, w.Unmetered
	switch {
	case w.Connect == vpn.ByHand:
		c.Connect = ""
	case p.in.Second != "" && w.Connect != "":
		c.Connect = ""
		p.choose(
			vpn.FieldConnect,
			"Connects",
			string(vpn.ByHand),
			ByRule,
			"the second choice, for where %s does not respond",
			p.in.Second,
		)
	case w.Connect == vpn.OnDemand && w.Demand.Empty():
		c.Connect = vpn.Always
		p.plan.Unmet = append(
			p.plan.Unmet,
			Unmet{vpn.FieldDemand, "on demand", "no condition is set, so it is always on"},
		)
	case w.Connect == vpn.OnDemand:
		d := w.Demand
		c.Demand = &d
	}
	if w.Proxy.Script != "" || w.Proxy.Server != "" {
		proxy := w.Proxy
		c.Proxy = &proxy
	}
	scope := p.in.Profile.Preferences.Scope
	if scope == "" {
		scope = w.Scope
	}
	c.Scope = scope
}

// preference is one thing that a pattern can want and a format may not carry.
type preference struct {
	field vpn.Field
	title string
	say   func(vpn.Connection) string // empty where nothing is wanted
	take  func(to *vpn.Connection, from vpn.Connection)
}

var preferenceList = []preference{
	{
		vpn.FieldConnect,
		"Connects",
		func(c vpn.Connection) string { return string(c.Connect) },
		func(to *vpn.Connection, from vpn.Connection) { to.Connect = from.Connect },
	},
	{
		vpn.FieldDemand,
		"On demand",
		func(c vpn.Connection) string { return demandText(c.Demand) },
		func(to *vpn.Connection, from vpn.Connection) { to.Demand = from.Demand },
	},
	{
		vpn.FieldIPv6,
		"IPv6",
		func(c vpn.Connection) string { return string(c.IPv6) },
		func(to *vpn.Connection, from vpn.Connection) { to.IPv6 = from.IPv6 },
	},
	{
		vpn.FieldReconnect,
		"Reconnects automatically",
		func(c vpn.Connection) string { return yes(c.Reconnect) },
		func(to *vpn.Connection, from vpn.Connection) { to.Reconnect = from.Reconnect },
	},
	{
		vpn.FieldUnmetered,
		"Only on unmetered networks",
		func(c vpn.Connection) string { return yes(c.Unmetered) },
		func(to *vpn.Connection, from vpn.Connection) { to.Unmetered = from.Unmetered },
	},
	{
		vpn.FieldProxy,
		"Proxy",
		func(c vpn.Connection) string { return proxyText(c.Proxy) },
		func(to *vpn.Connection, from vpn.Connection) { to.Proxy = from.Proxy },
	},
}

func yes(v bool) string {
	if v {
		return "yes"
	}
	return ""
}

func demandText(d *vpn.Demand) string {
	if d.Empty() {
		return ""
	}
	var parts []string
	for _, part := range []struct {
		title string
		list  []string
	}{
		{"for names in", d.Domains},
		{"not in the networks", d.Networks},
		{"not where the suffix is", d.Suffixes},
	} {
		if len(part.list) > 0 {
			parts = append(parts, part.title+" "+strings.Join(part.list, ", "))
		}
	}
	if d.Probe != "" {
		parts = append(parts, "not while "+d.Probe+" answers")
	}
	if d.Interface != "" {
		parts = append(parts, "only over "+d.Interface)
	}
	return strings.Join(parts, "; ")
}

func proxyText(p *vpn.Proxy) string {
	if p == nil {
		return ""
	}
	text := cmp.Or(p.Script, p.Server)
	if len(p.Bypass) > 0 {
		text += " but for " + strings.Join(p.Bypass, ", ")
	}
	return text
}

// format takes the file that carries most of what is wanted: the one that was preferred
// for, the first that carries all, or the first. What it does not carry is unmet.
func (p *planner) format() {
	c, ability := &p.plan.Connection, p.plan.Ability
	formats := ability.Formats
	by, reason := ByDevice, fmt.Sprintf("format of %s", p.plan.Release.Title)
	if i := slices.Index(formats, platform.Format(p.in.Profile.Preferences.Format)); i >= 0 {
		formats, by, reason = formats[i:i+1], ByOperator, "set on the profile"
	}
	kept := bare(*c)
	if len(formats) > 0 && c.Settings() {
		best := -1
		for _, f := range formats {
			codec, ok := all.ByName(f)
			if !ok {
				continue
			}
			carried := codec.Carried(*c)
			n := 0
			for _, w := range preferenceList {
				if w.say(*c) == w.say(carried) {
					n++
				}
			}
			if (c.Site == nil) == (carried.Site == nil) {
				n++
			}
			if n > best {
				if best >= 0 && by == ByDevice {
					reason = "it supports more of the pattern than " + string(p.plan.Format)
				}
				best, p.plan.Format, kept = n, f, carried
			}
		}
	} else if len(formats) > 0 {
		p.plan.Format = formats[0]
	}
	title := "manual setup"
	if codec, ok := all.ByName(p.plan.Format); ok {
		title = codec.Title
		p.choose(vpn.FieldFormat, "File", title, by, "%s", reason)
	}
	if !p.plan.Offered || !ability.Support.Usable() {
		kept = *c // an error stands in the way of everything
	}
	p.kept(kept)
	p.unmet(kept, title)
	p.told(kept, title)
	if c.Site != nil && kept.Site == nil {
		p.plan.Unmet = append(
			p.plan.Unmet,
			Unmet{
				vpn.FieldSite,
				"site: " + join(c.Site.Networks),
				upper(
					title,
				) + " does not support it, so only " + p.in.Device.Name + " itself is connected",
			},
		)
		p.plan.Choices = slices.DeleteFunc(
			p.plan.Choices,
			func(c Choice) bool { return c.Field == vpn.FieldSite },
		)
		c.Site = nil
	}
	p.login()
	p.root()
}

// root adds the root of the device's certificate where the IKE daemon of Linux would not send
// those in between without knowing it.
func (p *planner) root() {
	c, g := &p.plan.Connection, p.in.Gateway
	if p.plan.Format != platform.Daemons || c.Identity == nil || c.TLS != nil {
		return
	}
	chain, err := pki.Certificates(c.Identity.Certificate)
	if err != nil || len(chain) < 2 {
		return
	}
	known, _ := pki.Certificates(g.ClientAuthority + c.Authority)
	roots := slices.DeleteFunc(
		slices.Clone(known),
		func(k *x509.Certificate) bool { return !pki.Root(k) },
	)
	links, broken := pki.Path(chain[0], slices.Concat(chain[1:], known), roots)
	if root := links[len(links)-1]; broken == pki.Whole &&
		!slices.ContainsFunc(chain, root.Equal) &&
		!strings.Contains(c.Authority, strings.TrimSpace(pki.Bundle(root))) {
		identity := *c.Identity
		identity.Certificate += pki.Bundle(root)
		c.Identity = &identity
	}
}

// login settles where the sign-in of the TLS tunnel stands: inside the file where every
// client of the release reads it there (2.6 and later), else beside it, else nowhere.
func (p *planner) login() {
	c, a := &p.plan.Connection, p.plan.Ability
	if c.TLS == nil || !c.NeedsPassword() || c.PasswordMode != vpn.PasswordSaved ||
		p.plan.Format != platform.OVPN ||
		a.LoginInside {
		return
	}
	if a.LoginBeside {
		c.LoginBeside = true
		return
	}
	c.PasswordMode, c.Password = vpn.PasswordPrompted, secret.Text{}
	reason := "older client programs reject a file with the login inside, and accept no second file"
	p.replace(Choice{vpn.FieldPasswordMode, "Password", "asked", ByDevice, reason})
	if p.in.Profile.Preferences.Password == vpn.PasswordSaved ||
		p.in.Pattern.Password == vpn.PasswordSaved {
		p.plan.Unmet = append(p.plan.Unmet, Unmet{vpn.FieldPasswordMode, "password: saved", reason})
	}
}

// bare is what a person who types can be told of when to connect: nothing.
func bare(c vpn.Connection) vpn.Connection {
	c.Connect, c.Demand, c.IPv6, c.Reconnect, c.Unmetered, c.Proxy, c.Site =
		"", nil, "", false, false, nil, nil
	return c
}

// unmet reduces the preferences to what is kept of them.
func (p *planner) unmet(kept vpn.Connection, format string) {
	c := &p.plan.Connection
	for _, w := range preferenceList {
		wanted, got := w.say(*c), w.say(kept)
		if wanted == "" && got == "" {
			continue
		}
		if wanted != got {
			reason := fmt.Sprintf(
				"%s does not support it for %s",
				upper(format),
				c.Protocol.Title(),
			)
			if p.plan.Format == platform.ByHand {
				reason = fmt.Sprintf(
					"%s has no such setting for %s",
					p.plan.Release.Title,
					c.Protocol.Title(),
				)
			}
			if got != "" && wanted != "" {
				reason += "; it says " + got
			}
			// IPv6 goes through where the gateway hands it out, whether or not a file says so.
			told := w.field == vpn.FieldDemand &&
				slices.ContainsFunc(
					p.plan.Unmet,
					func(u Unmet) bool { return u.Field == vpn.FieldConnect },
				)
			if wanted != "" && wanted != string(vpn.IPv6Carried) && !told {
				p.plan.Unmet = append(
					p.plan.Unmet,
					Unmet{w.field, strings.ToLower(w.title) + ": " + wanted, reason},
				)
			}
		}
		w.take(c, kept)
		if got != "" && (w.field != vpn.FieldIPv6 || p.in.Pattern.IPv6 != "") {
			if p.in.Pattern.Name == "" && !p.in.own[w.field] || wanted != got {
				p.choose(w.field, w.title, got, ByDevice, "%s supports nothing else", lower(format))
			} else {
				p.choose(
					w.field,
					w.title,
					got,
					ByPattern,
					"set by the pattern %s",
					p.in.Pattern.Name,
				)
			}
		}
	}
	if c.PasswordMode == vpn.PasswordSaved && kept.PasswordMode == vpn.PasswordPrompted &&
		!c.Password.IsZero() &&
		p.plan.Format != "" &&
		c.Settings() {
		c.PasswordMode, c.Password = vpn.PasswordPrompted, secret.Text{}
		reason := upper(format) + " does not accept a password"
		p.replace(Choice{vpn.FieldPasswordMode, "Password", "asked", ByDevice, reason})
		if p.in.Profile.Preferences.Password == vpn.PasswordSaved ||
			p.in.Pattern.Password == vpn.PasswordSaved {
			p.plan.Unmet = append(
				p.plan.Unmet,
				Unmet{vpn.FieldPasswordMode, "password: saved", reason},
			)
		}
	}
}

// replace puts a choice in the place of the one for the same field.
func (p *planner) replace(c Choice) {
	for i := range p.plan.Choices {
		if p.plan.Choices[i].Field == c.Field {
			p.plan.Choices[i] = c
		}
	}
}

func lower(v string) string {
	if strings.HasPrefix(v, "Apple") || strings.HasPrefix(v, "Windows") || v == "" {
		return v
	}
	return "the " + v
}

func upper(v string) string {
	if v == "" {
		return v
	}
	return strings.ToUpper(v[:1]) + v[1:]
}

// scope settles for whom on the device the connection is made.
func (p *planner) scope() {
	c := &p.plan.Connection
	machine := map[platform.Format]string{
		platform.PowerShell: "the script runs as administrator, whose own connections would be " +
			"the wrong place",
		platform.Keyfile: "a keyfile belongs to the machine",
		platform.Daemons: "daemons serve the whole machine",
		platform.UCI:     "a router has no users",
	}[p.plan.Format]
	switch {
	case p.in.Profile.Preferences.Scope != "":
		p.choose(vpn.FieldScope, "For", string(c.Scope), ByOperator, "set on the profile")
	case p.in.Pattern.Scope != "":
		p.choose(
			vpn.FieldScope,
			"For",
			string(c.Scope),
			ByPattern,
			"set by the pattern %s",
			p.in.Pattern.Name,
		)
	case p.plan.Format == platform.PowerShell && c.Connect == vpn.OnDemand:
		c.Scope = vpn.ScopePerson
		p.choose(
			vpn.FieldScope,
			"For",
			"person",
			ByDevice,
			"Windows connects on demand only with a user's own connection; run the script from "+
				"that user's account",
		)
	case machine != "":
		c.Scope = vpn.ScopeMachine
		p.choose(vpn.FieldScope, "For", "machine", ByDevice, "%s", machine)
	default:
		c.Scope = vpn.ScopePerson
		p.choose(
			vpn.FieldScope,
			"For",
			"person",
			ByRule,
			"only %s uses it",
			cmp.Or(p.in.Person.Name, "one person"),
		)
	}
}
