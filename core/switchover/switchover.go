// Package switchover computes what a planned change of the fleet means for records: how a gateway
// looks to devices that have moved, what it serves while two values are valid, and how it looks
// once only the new one is.
package switchover

import (
	"crypto/sha256"
	"encoding/binary"
	"slices"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Moved is a gateway as devices with the new value see it while the old one is still valid: where a
// client can carry both, it has both.
func Moved(s *vpn.Switchover, g vpn.Gateway) vpn.Gateway {
	old := g
	g = Final(s, g)
	switch s.Kind {
	case vpn.SwitchAuthority:
		before := old.Offers.Authorities()
		for p, at := range g.Offers.Authorities() {
			if *at != "" && before[p] != nil {
				*at = joined(*at, *before[p])
			}
		}
	case vpn.SwitchAddress:
		if t := g.Offers.TLS; t != nil { // the only client files that know a second address
			for _, r := range old.Offers.TLS.Remotes {
				if r.Address == "" {
					r.Address = old.Address
					t.Remotes = append(slices.Clone(t.Remotes), r)
				}
			}
		}
	case vpn.SwitchPort:
		if t := g.Offers.TLS; t != nil && len(s.Next.Remotes) > 0 {
			t.Remotes = union(t.Remotes, old.Offers.TLS.Remotes)
		}
	}
	return g
}

// Final is a gateway once only the new value is valid.
func Final(s *vpn.Switchover, g vpn.Gateway) vpn.Gateway {
	n := s.Next
	g.Offers = g.Offers.Clone()
	o := &g.Offers
	switch s.Kind {
	case vpn.SwitchPSK:
		if o.L2TP != nil && present(o.L2TP.PSK) && within(n.Protocols, vpn.L2TP) {
			o.L2TP.PSK = n.PSK
		}
		if o.IKEv2 != nil && present(o.IKEv2.PSK) && within(n.Protocols, vpn.IKEv2) {
			o.IKEv2.PSK = n.PSK
			if n.LocalID != "" {
				o.IKEv2.LocalID = n.LocalID
			}
		}
	case vpn.SwitchControlKey:
		if o.TLS != nil && o.TLS.ControlKey != nil {
			o.TLS.ControlKey.Key = n.ControlKey
		}
	case vpn.SwitchAuthority:
		for p, at := range o.Authorities() {
			if *at != "" && within(n.Protocols, p) {
				*at = n.Authority
			}
		}
	case vpn.SwitchCertificate:
		g.Certificate = n.Certificate
	case vpn.SwitchAddress:
		g.Address, g.Addresses = n.Address, slices.Clone(n.Addresses)
	case vpn.SwitchPort:
		if o.TLS != nil && len(n.Remotes) > 0 {
			o.TLS.Remotes = slices.Clone(n.Remotes)
		}
		if o.SSTP != nil && n.SSTPPort > 0 {
			o.SSTP.Port = n.SSTPPort
		}
	case vpn.SwitchProposals:
		proposals(n, o)
	case vpn.SwitchOffers:
		offers(n, o)
	}
	g.Complete()
	return g
}

func proposals(n vpn.NextValue, o *vpn.Offers) {
	set := func(at *[]string, list []string) {
		if len(list) > 0 {
			*at = slices.Clone(list)
		}
	}
	if o.IKEv2 != nil && within(n.Protocols, vpn.IKEv2) {
		set(&o.IKEv2.IKE, n.IKE)
		set(&o.IKEv2.ESP, n.ESP)
	}
	if o.L2TP != nil && within(n.Protocols, vpn.L2TP) {
		set(&o.L2TP.IKE, n.IKE)
		set(&o.L2TP.ESP, n.ESP)
	}
	if o.TLS != nil && within(n.Protocols, vpn.TLS) {
		set(&o.TLS.Ciphers, n.Ciphers)
	}
}

func offers(n vpn.NextValue, o *vpn.Offers) {
	if add := n.Add; add != nil {
		if add.L2TP != nil {
			o.L2TP = add.L2TP
		}
		if add.IKEv2 != nil {
			o.IKEv2 = add.IKEv2
		}
		if add.PPTP != nil {
			o.PPTP = add.PPTP
		}
		if add.SSTP != nil {
			o.SSTP = add.SSTP
		}
		if add.TLS != nil {
			o.TLS = add.TLS
		}
	}
	for _, p := range n.Drop {
		switch p {
		case vpn.L2TP:
			o.L2TP = nil
		case vpn.IKEv2:
			o.IKEv2 = nil
		case vpn.PPTP:
			o.PPTP = nil
		case vpn.SSTP:
			o.SSTP = nil
		case vpn.TLS:
			o.TLS = nil
		}
	}
}

// Served is what a gateway's daemons serve while both values are valid: the old one, and of the new
// one what they can hold beside it. Another key or identity of IKEv2 is not in it: it belongs to
// connections of their own.
func Served(s *vpn.Switchover, g vpn.Gateway) vpn.Gateway {
	moved := Final(s, g)
	g.Offers = g.Offers.Clone()
	o := &g.Offers
	switch s.Kind {
	case vpn.SwitchAuthority:
		after := moved.Offers.Authorities()
		for p, at := range o.Authorities() {
			if after[p] != nil {
				*at = joined(*at, *after[p])
			}
		}
	case vpn.SwitchPort:
		if o.TLS != nil {
			o.TLS.Remotes = union(o.TLS.Remotes, moved.Offers.TLS.Remotes)
		}
	case vpn.SwitchProposals:
		served(o, &moved.Offers)
	case vpn.SwitchOffers:
		n := s.Next
		n.Drop = nil
		offers(n, o)
	}
	g.Complete()
	return g
}

func served(o, after *vpn.Offers) {
	if o.IKEv2 != nil {
		o.IKEv2.IKE = union(o.IKEv2.IKE, after.IKEv2.IKE)
		o.IKEv2.ESP = union(o.IKEv2.ESP, after.IKEv2.ESP)
	}
	if o.L2TP != nil {
		o.L2TP.IKE = union(o.L2TP.IKE, after.L2TP.IKE)
		o.L2TP.ESP = union(o.L2TP.ESP, after.L2TP.ESP)
	}
	if o.TLS != nil {
		o.TLS.Ciphers = union(o.TLS.Ciphers, after.TLS.Ciphers)
	}
}

// Fields are what a switchover changes in the plan of a device.
func Fields(kind vpn.SwitchoverKind) []vpn.Field {
	return map[vpn.SwitchoverKind][]vpn.Field{
		vpn.SwitchPSK:        {vpn.FieldPSK},
		vpn.SwitchControlKey: {vpn.FieldControl},
		vpn.SwitchAuthority:  {vpn.FieldAuthority},
		vpn.SwitchAddress:    {vpn.FieldServer},
		vpn.SwitchPort:       {vpn.FieldPort, vpn.FieldRemotes},
		vpn.SwitchProposals:  {vpn.FieldIKE, vpn.FieldESP, vpn.FieldCiphers},
		vpn.SwitchOffers:     {vpn.FieldProtocol},
		vpn.SwitchRelease:    {vpn.FieldRelease},
		vpn.SwitchPasswords:  {vpn.FieldPassword},
	}[kind]
}

// Holds tells, for a protocol, whether a gateway can serve both values at a time; why is the reason
// where it cannot.
func Holds(kind vpn.SwitchoverKind, p vpn.Protocol) (ok bool, why string) {
	switch {
	case kind == vpn.SwitchPSK && p == vpn.L2TP:
		return false, "IKEv1 in main mode finds a key by addresses alone (RFC 2409 §5.4)"
	case kind == vpn.SwitchControlKey:
		return false, "one daemon of the TLS tunnel has one key of its control channel"
	case kind == vpn.SwitchCertificate:
		return false, "a gateway presents one certificate"
	case kind == vpn.SwitchPort && p == vpn.SSTP:
		return false, "SSTP is served at one port"
	case kind == vpn.SwitchPasswords && p != vpn.TLS:
		return false, "the user lists of IKE and PPP daemons have one password a login"
	}
	return true, ""
}

// WaveOf is the wave that a device belongs to, from 0. in tells whether its person is in a group.
// Devices are taken by chance, the same each time, so that a share of a fleet is of all kinds.
func WaveOf(s *vpn.Switchover, deviceID string, in func(group string) bool) int {
	for i, w := range s.Waves {
		if w.Group != "" && in(w.Group) {
			return i
		}
	}
	h := sha256.Sum256([]byte(s.ID + "\x00" + deviceID))
	percentile := int(binary.BigEndian.Uint64(h[:]) % 100)
	for i, w := range s.Waves {
		if w.Group == "" && percentile < w.Share {
			return i
		}
	}
	return max(0, len(s.Waves)-1)
}

// joined are certificates of two texts (PEM), each once. What cannot be read is left out.
func joined(first, second string) string {
	list, _ := pki.Certificates(first)
	more, _ := pki.Certificates(second)
	for _, c := range more {
		if !slices.ContainsFunc(list, c.Equal) {
			list = append(list, c)
		}
	}
	return pki.Bundle(list...)
}

func union[T comparable](a, b []T) []T {
	list := slices.Clone(a)
	for _, v := range b {
		if !slices.Contains(list, v) {
			list = append(list, v)
		}
	}
	return list
}

// within tells whether a list names a protocol; an empty one names all.
func within(list []vpn.Protocol, p vpn.Protocol) bool {
	return len(list) == 0 || slices.Contains(list, p)
}

func present(t *secret.Text) bool { return t != nil && !t.IsZero() }

// Concerned are the protocols of a gateway that a switchover concerns.
func Concerned(s *vpn.Switchover, g vpn.Gateway) (list []vpn.Protocol) {
	for _, p := range g.Offers.Protocols() {
		o := g.Offers
		concerned := true
		switch s.Kind {
		case vpn.SwitchPSK:
			concerned = within(s.Next.Protocols, p) &&
				(p == vpn.L2TP && present(o.L2TP.PSK) || p == vpn.IKEv2 && present(o.IKEv2.PSK))
		case vpn.SwitchControlKey:
			concerned = p == vpn.TLS && o.TLS.ControlKey != nil
		case vpn.SwitchAuthority:
			concerned = o.Authority(p) != "" && within(s.Next.Protocols, p)
		case vpn.SwitchCertificate:
			concerned = p != vpn.PPTP
		case vpn.SwitchPort:
			concerned = p == vpn.TLS && len(s.Next.Remotes) > 0 ||
				p == vpn.SSTP && s.Next.SSTPPort > 0
		case vpn.SwitchProposals:
			concerned = within(s.Next.Protocols, p) && (p == vpn.TLS && len(s.Next.Ciphers) > 0 ||
				(p == vpn.IKEv2 || p == vpn.L2TP) && len(s.Next.IKE)+len(s.Next.ESP) > 0)
		case vpn.SwitchOffers:
			concerned = slices.Contains(s.Next.Drop, p) || s.Next.Add != nil && s.Next.Add.Has(p)
		}
		if concerned {
			list = append(list, p)
		}
	}
	return list
}
