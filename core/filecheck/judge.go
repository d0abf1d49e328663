package filecheck

import (
	"slices"
	"strings"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// judged runs the rules on one file.
func (w *work) judged(l loose, o Options) Item {
	item := Item{Name: w.file.Name, Needed: w.needed, NotCarried: w.reading.NotCarried}
	notes := append(w.notes, w.reading.Notes...)
	if w.file.Exposed &&
		slices.ContainsFunc(
			notes,
			func(n format.Note) bool {
				return n.Kind == format.SecretClear ||
					n.Kind == format.PrivateKeyClear
			},
		) {
		notes = append(
			notes,
			format.Note{
				Kind:  format.OpenToOthers,
				Found: "others on this computer can read it",
				At:    format.Position{File: w.file.Name, Line: 1, Column: 1},
			},
		)
	}
	base := check.Subject{
		Notes:   notes,
		Now:     o.Now,
		Policy:  o.Policy,
		Judge:   o.Judge,
		Revoked: l.revoked,
		Size:    len(w.file.Data),
		Pieces:  w.reading.Pieces,
		Release: o.Release,
	}
	switch {
	case w.codec != nil:
		item.Kind = w.codec.Title
	case w.bag != nil:
		item.Kind = string(w.bag.Shape)
		base.Beside, base.Keys = held(w), w.bag.Keys
		for _, h := range l.authorities {
			if h.At.File != w.file.Name {
				base.Beside = append(base.Beside, h)
			}
		}
		item.Findings, item.Chains = check.Files(&base), base.Chains()
		item.Findings = slices.DeleteFunc(
			item.Findings,
			func(f check.Finding) bool { // an authority of another file is told there
				return f.Position != nil && f.Position.File != w.file.Name
			},
		)
		return item
	case len(notes) == 0 && !w.needed:
		kind, found := format.NotYetRead, "none of the formats that are read here"
		if w.file.Asked && !l.known {
			kind, found = format.Unreadable, found+" ("+all.Titles()+", PEM, DER, PKCS #7, PKCS "+
				"#12)"
		}
		base.Notes = []format.Note{
			{Kind: kind, Found: found, At: format.Position{File: w.file.Name, Line: 1, Column: 1}},
		}
	}
	for i, c := range w.reading.Connections {
		s := base
		s.Connection, s.Positions = c.Connection, c.Positions
		s.Apart = c.Apart
		if slices.ContainsFunc(
			w.reading.Notes,
			func(n format.Note) bool {
				return n.Kind == format.FileMissing ||
					n.Kind == format.BlockEmpty
			},
		) {
			s.Apart = append(
				slices.Clone(c.Apart),
				vpn.FieldIdentity,
				vpn.FieldAuthority,
				vpn.FieldControl,
			) // told of as such
		}
		if i > 0 {
			s.Notes = nil // remarks on the file are told once
		}
		for _, other := range w.reading.Connections[i+1:] {
			oc := other.Connection
			s.Siblings = append(
				s.Siblings,
				check.Sibling{
					Name:       oc.Name,
					Routes:     oc.Routes,
					Connect:    oc.Connect,
					Identifier: oc.Identifier,
				},
			)
		}
		s.Beside = append(slices.Clone(l.authorities), l.serving(c.Connection.Server)...)
		if c.Connection.NeedsIdentity() {
			s.Bags = l.bags
		}
		if o.Release != nil {
			a := o.Release.Ability(c.Connection.Protocol)
			s.Ability = &a
		}
		connected := Connected{Located: c}
		if g := recorded(o.Gateways, c.Connection); g != nil {
			s.Against, connected.Gateway = g, g.Name
			if o.Compare != nil {
				s.Compare = func(field vpn.Field, value secret.Text) check.Compared {
					return o.Compare(g, c.Connection, field, value)
				}
			}
		}
		if o.Live != nil && c.Connection.Server != "" {
			s.Live = o.Live(c.Connection.Server)
		}
		found := check.Run(&s)
		for i := range found {
			if at, ok := c.Positions[vpn.FieldName]; found[i].Position == nil && ok && at.Line > 0 {
				found[i].Position = &at // what is missing is missing in the connection
			}
		}
		item.Findings, item.Chains = append(item.Findings, found...), append(
			item.Chains,
			s.Chains()...)
		connected.Agreements = s.Agreements()
		item.Connections = append(item.Connections, connected)
	}
	if len(w.reading.Connections) == 0 {
		item.Findings = check.Files(&base)
	}
	for i := range item.Findings {
		if item.Findings[i].Position == nil { // what is missing has no place of its own
			item.Findings[i].Position = &format.Position{File: w.file.Name, Line: 1, Column: 1}
		}
	}
	check.Sort(item.Findings)
	return item
}

// recorded finds the gateway on record that a connection leads to.
func recorded(gateways []vpn.Gateway, c vpn.Connection) *vpn.Gateway {
	for i, g := range gateways {
		addresses := append([]string{g.Address}, g.Addresses...)
		if slices.ContainsFunc(
			addresses,
			func(a string) bool { return strings.EqualFold(a, c.Server) },
		) {
			return &gateways[i]
		}
	}
	return nil
}
