package ppp

import (
	"net/netip"

	"wardicon/core/wire/ppp"
)

// ipv6 is what a link has for IPv6 (RFC 5072).
type ipv6 struct {
	name    [8]byte // of this end's interface
	mine6   bool
	theirs6 bool
	no6     bool // the other end has none
}

// SpeaksIPv6 tells whether the other end said anything about IPv6 but that it has none.
func (l *Link) SpeaksIPv6() bool { return !l.no6 && (l.mine6 || l.theirs6) }

// Local6 is the link-local address of this end (RFC 5072 §5); invalid before both ends agreed.
func (l *Link) Local6() (a netip.Addr) {
	if !l.mine6 || !l.theirs6 {
		return a
	}
	return l.Address6(netip.MustParsePrefix("fe80::/64"))
}

// Address6 is the address that this end has with a prefix of 64 bits.
func (l *Link) Address6(prefix netip.Prefix) netip.Addr {
	b := prefix.Addr().As16()
	copy(b[8:], l.name[:])
	return netip.AddrFrom16(b)
}

func (l *Link) configureIPv6() {
	if l.IPv6 {
		l.send(ppp.IPV6CP, ppp.ConfigureRequest, l.next(),
			ppp.Options(ppp.Option{Kind: ppp.OptionInterface, Data: l.name[:]}))
	}
}

// ipv6cp agrees on names of interfaces (RFC 5072 §4.1). A link is open without.
func (l *Link) ipv6cp(m ppp.Message) {
	options, ok := l.networkOptions(m)
	if !ok {
		return
	}
	switch m.Code {
	case ppp.ConfigureRequest:
		var refused, wrong []ppp.Option
		for _, o := range options {
			switch {
			case o.Kind != ppp.OptionInterface || len(o.Data) != len(l.name):
				refused = append(refused, o)
			case [8]byte(o.Data) == l.name || [8]byte(o.Data) == [8]byte{}:
				other := l.name
				other[7] ^= 1
				wrong = append(wrong, ppp.Option{Kind: o.Kind, Data: other[:]})
			}
		}
		if l.answer(ppp.IPV6CP, m, refused, wrong) {
			l.theirs6 = true
		}
	case ppp.ConfigureAck:
		l.mine6 = true
	case ppp.ConfigureNak:
		for _, o := range options {
			if o.Kind == ppp.OptionInterface && len(o.Data) == len(l.name) {
				l.name = [8]byte(o.Data)
			}
		}
		l.configureIPv6()
	case ppp.ConfigureReject, ppp.TerminateRequest:
		l.no6 = true
	}
}
