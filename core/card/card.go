// Package card makes the page for a person who sets a connection up: the steps for
// that device, and each value in a form that cannot be misread.
package card

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/i18n"
	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Value is one thing to type. Spelled names each of its characters, for values that are
// easy to misread; a Long one is also there as a QR code.
type Value struct {
	Label   string
	Text    string
	Hidden  bool // a secret stands in its place; Text is the mask
	Spelled []string
	Long    bool
}

// Card is the page, in a language. Files are named where the parcel has some.
type Card struct {
	Language     i18n.Language
	Title        string
	Organisation string
	Person       string
	Device       string
	Release      string
	Gateway      string
	Protocol     string
	Files        []string
	Steps        []string
	Values       []Value
	Connect      []string
	Try          []string // how to see that it works
	Remove       []string
}

// Make makes a card in the person's language. files are those that the device takes; with byHand
// set the steps are those for typing even where the platform takes a file.
func Make(in plan.Input, p plan.Plan, files []format.File, byHand bool) Card {
	connection := p.Connection
	use := find(in.Device.Platform, in.Device.Release)
	c := Card{
		Language: i18n.Choose(
			in.Person.Language,
		),
		Title:        connection.Name,
		Organisation: in.Organisation.Name,
		Person:       in.Person.Name,
		Device:       in.Device.Name,
		Protocol:     connection.Protocol.Title(),
		Release:      p.Release.Title,
		Gateway:      in.Gateway.Name,
		Connect:      use.connect,
		Remove:       use.remove,
	}
	if client, ok := clients[p.Format]; ok && p.Ability.Support == platform.Client {
		c.Connect, c.Remove = client.connect, client.remove
	}
	for _, f := range files {
		c.Files = append(c.Files, f.Name)
	}
	carried := connection
	codec, ok := all.ByName(p.Format)
	if ok {
		carried = codec.Carried(connection)
	}
	if steps := fileSteps(
		p.Format,
		in.Device.Platform,
		p.Ability,
	); len(steps) > 0 && ok && !byHand &&
		len(files) > 0 {
		list := left(p.Format, connection, carried)
		c.Steps = settle(c.Language, steps, connection.Tunnel, list)
		c.Values = list
	} else {
		list := values(connection)
		for i := range list {
			if list[i].Label == "Authority file" && in.Device.Platform == vpn.Windows {
				list[i].Text = strings.Join(authorityNames(connection), ", ")
			}
		}
		c.Steps = settle(
			c.Language,
			handSteps(in.Device.Platform, in.Device.Release, connection),
			connection.Tunnel,
			list,
		)
		c.Values = slices.DeleteFunc(list, func(v Value) bool {
			return !slices.ContainsFunc(
				c.Steps,
				func(step string) bool { return strings.Contains(step, "‹"+v.Label+"›") },
			)
		})
	}
	if t, ok := commands(p.Format, in.Device.Platform, connection); ok && !byHand {
		install := asRootInstall
		if in.Device.Platform == vpn.OpenWrt {
			install = onRouter
		}
		c.Steps = append([]string{c.Language.Say(install, t.install)}, c.Steps...)
		c.Connect = []string{
			c.Language.Say(asRootConnect, t.connect),
			c.Language.Say(asRootHangUp, t.hangUp),
		}
	}
	if in.Second != "" {
		c.Connect = append([]string{c.Language.Say(secondChoice, in.Second)}, c.Connect...)
	}
	c.Try = append(c.Try, c.Language.Say(tryBefore))
	if len(connection.DNS) > 0 {
		c.Try = append(c.Try, c.Language.Say(tryResolver, strings.Join(connection.DNS, ", ")))
	}
	for _, host := range in.Gateway.Hosts {
		c.Try = append(c.Try, c.Language.Say(tryHost, host))
	}
	if len(in.Gateway.Egress) > 0 && connection.Tunnel == vpn.TunnelFull {
		c.Try = append(c.Try, c.Language.Say(tryEgress, strings.Join(in.Gateway.Egress, ", ")))
	}
	if len(c.Try) == 1 {
		c.Try = append(c.Try, c.Language.Say(tryElse))
	}
	return c.said()
}

// How to see that a connection works.
const (
	tryBefore = "Check your public address and your device's name server before and after " +
		"connecting, and compare."
	tryResolver  = "While you are connected, the device uses the name server %s."
	tryHost      = "Open %s in the browser: it answers only through the connection."
	tryEgress    = "Check your public address: while you are connected it is one of %s."
	secondChoice = "Use this connection only where the one to %s does not come up."
	tryElse      = "The device says that it is connected, and pages inside open."
)

// left lists what a person still types beside a file: what the file does not carry and
// the device asks for.
func left(p platform.Format, c, carried vpn.Connection) []Value {
	var labels []string
	if p == platform.PhoneOVPN {
		return nil // nobody is asked there
	}
	if c.NeedsPassword() &&
		(c.PasswordMode == vpn.PasswordPrompted || carried.PasswordMode == vpn.PasswordPrompted) {
		labels = append(labels, "Login")
	}
	if !c.PSK().IsZero() && carried.PSK().IsZero() &&
		p != platform.PhoneBook { // whose script stores it
		labels = append(labels, "Pre-shared key")
	}
	if len(labels) == 0 {
		return nil
	}
	return values(c, labels...)
}

func find(p vpn.Platform, release string) use {
	if p == vpn.IPadOS {
		p = vpn.IOS
	}
	found := uses[len(uses)-1]
	for _, g := range uses {
		if g.platform == p && (found.platform != p || platform.Compare(g.from, release) <= 0) {
			found = g
		}
	}
	return found
}

// handSteps finds the steps for typing a connection on a release.
func handSteps(p vpn.Platform, release string, c vpn.Connection) []string {
	if p == vpn.IPadOS {
		p = vpn.IOS
	}
	var found *hand
	for i, h := range hands {
		fits := h.platform == p && (h.from == "" || platform.Compare(h.from, release) <= 0) ||
			h.platform == ""
		if !fits || h.protocol != c.Protocol {
			continue
		}
		if found == nil || found.platform == "" || h.platform == p {
			found = &hands[i]
		}
	}
	steps := []string{}
	if c.Authority != "" {
		steps = append(steps, trust(p)...)
	}
	if c.NeedsIdentity() && !enrols(c) {
		steps = append(steps, own(p)...)
	}
	return append(steps, found.steps...)
}

// settle keeps the steps for a tunnel, and of each step what the card has values for.
func settle(in i18n.Language, steps []string, tunnel vpn.Tunnel, have []Value) []string {
	var kept []string
	for _, step := range steps {
		if label, rest, ok := strings.Cut(
			strings.TrimPrefix(step, without),
			":",
		); ok &&
			strings.HasPrefix(step, without) {
			if slices.ContainsFunc(have, func(v Value) bool { return v.Label == label }) {
				continue
			}
			step = rest
		}
		if only, rest, ok := strings.Cut(
			step,
			":",
		); ok &&
			(only == string(vpn.TunnelFull) || only == string(vpn.TunnelSplit)) {
			if only != string(tunnel) {
				continue
			}
			step = rest
		}
		if step = optional(sentence(in, step), have); strings.Trim(step, ". ") != "" {
			kept = append(kept, step)
		}
	}
	return kept
}

// without begins a step that is for cards without a value: "without LABEL:".
const without = "without "

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

// longValue is from how many characters on a value is also there as a QR code.
const longValue = 20

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
			v.Long = len(text) >= longValue && scannable(text)
		}
		list = append(list, v)
	}
	add("Connection name", c.Name, false)
	add("Server address", c.Server, false)
	if s := c.SSTP; s != nil && s.Port != 443 {
		add("Port", strconv.Itoa(s.Port), false)
	}
	if c.NeedsPassword() {
		add("Login", c.Login, true)
		if c.PasswordMode == vpn.PasswordSaved {
			add("Password", c.Password.Reveal(), true)
		}
	}
	if !c.PSK().IsZero() {
		add("Pre-shared key", c.PSK().Reveal(), true)
	}
	titles := make([]string, len(c.PPP()))
	for i, m := range c.PPP() {
		titles[i] = suite.PPPFacts[m].Title
	}
	add("Sign-in method", strings.Join(titles, ", "), false)
	if l := c.L2TP; l != nil {
		add("Group name", l.Group, true)
		add("Command for the services", servicesCommand, false)
		if l.BehindNAT {
			add("Command for the gateway behind NAT", natCommand, false)
		}
	}
	if s := c.IKEv2; s != nil {
		add("Remote identity", s.RemoteID, true)
		add("Local identity", s.LocalID, true)
	}
	if s := c.PPTP; s != nil {
		var bits []string
		for _, m := range s.MPPE {
			bits = append(bits, string(m)+" bits")
		}
		add("Encryption", strings.Join(bits, ", "), false)
	}
	if s := c.TLS; s != nil {
		var ways []string
		for _, r := range s.Remotes {
			ways = append(ways, fmt.Sprintf("%s %s %d", r.Address, r.Transport, r.Port))
		}
		add("Remotes", strings.Join(ways, ", "), false)
		add("Data ciphers", strings.Join(s.Ciphers, ", "), false)
		add("Digest", s.Digest, false)
		add("Name in the certificate", s.ServerName, false)
	}
	ike, esp := c.Proposals()
	add("IKE proposals", strings.Join(ike, ", "), false)
	add("ESP proposals", strings.Join(esp, ", "), false)
	add("Routes", strings.Join(c.Routes, " "), false)
	add("DNS servers", strings.Join(c.DNS, " "), false)
	add("Internal domains", strings.Join(c.Domains, " "), false)
	if c.Authority != "" {
		add("Authority file", format.FileName(c.Name, format.AuthorityFile), false)
	}
	if c.NeedsIdentity() && c.Identity != nil && !enrols(c) {
		add("Certificate file", format.FileName(c.Name, identityFile), false)
		if _, passphrase, err := format.Packed("card", c, false); err == nil {
			add("Passphrase of the file", passphrase.Reveal(), true)
		}
	}
	return list
}

// enrols tells that the device gets its certificate itself.
func enrols(c vpn.Connection) bool { return c.Identity != nil && c.Identity.Enrol != nil }

// identityFile is the ending of the PKCS#12 file that a person takes in by hand.
const identityFile = "-identity.p12"

// rootsOf are the authorities that a person lets Windows trust: what stands between them and
// the gateway's certificate the gateway sends.
func rootsOf(c vpn.Connection) ([]*x509.Certificate, error) {
	list, err := format.Anchors("card", c)
	return slices.DeleteFunc(list, func(a *x509.Certificate) bool { return !pki.Root(a) }), err
}

// authorityNames are the names of their files.
func authorityNames(c vpn.Connection) []string {
	roots, _ := rootsOf(c)
	names := make([]string, len(roots))
	for i := range roots {
		names[i] = format.FileName(c.Name, fmt.Sprintf("-ca%d.cer", i+1))
	}
	return names
}

// Material makes the files that go with a card for typing by hand: the authority and
// the device's certificate with its key.
func Material(p vpn.Platform, c vpn.Connection) ([]format.File, error) {
	var files []format.File
	if p == vpn.Windows { // which opens one certificate of a file, in DER form
		roots, err := rootsOf(c)
		if err != nil {
			return nil, err
		}
		for i, name := range authorityNames(c) {
			files = append(
				files,
				format.File{
					Name:      name,
					MediaType: "application/pkix-cert",
					Purpose:   "Authority of the gateway's certificate",
					Content:   roots[i].Raw,
				},
			)
		}
	} else if c.Authority != "" {
		files = append(
			files,
			format.File{
				Name:      format.FileName(c.Name, format.AuthorityFile),
				MediaType: "application/x-pem-file",
				Purpose:   "Authority of the gateway's certificate",
				Content:   []byte(c.Authority),
			},
		)
	}
	if c.NeedsIdentity() && c.Identity != nil && !enrols(c) {
		data, _, err := format.Packed("card", c, false)
		if err != nil {
			return nil, err
		}
		files = append(
			files,
			format.File{
				Name:      format.FileName(c.Name, identityFile),
				MediaType: "application/x-pkcs12",
				Purpose:   "Certificate of the device with its key",
				Private:   true,
				Content:   data,
			},
		)
	}
	return files, nil
}
