package ppp

import (
	"encoding/binary"
	"errors"
	"math/bits"

	"wardicon/core/suite"
	"wardicon/core/wire/ppp"
)

// Codes of CCP beside those of LCP (RFC 1962 §3).
const (
	resetRequest = 14
	resetAck     = 15
)

// encryption is what a link has for MPPE.
type encryption struct {
	Strength  string // that was agreed on, for people
	seals     *ppp.MPPE
	opens     *ppp.MPPE
	asks      uint32 // what this end asks for
	ccpMine   bool
	ccpTheirs bool
}

const noEncryption = "the other end takes no encryption by MPPE that is offered here"

var strengths = map[suite.MPPE]uint32{"128": ppp.MPPE128, "56": ppp.MPPE56, "40": ppp.MPPE40}

const allStrengths = ppp.MPPE128 | ppp.MPPE56 | ppp.MPPE40

func (l *Link) encrypts() bool  { return len(l.MPPE) > 0 }
func (l *Link) encrypted() bool { return l.seals != nil }

// wanted are the bits of all that this end takes.
func (l *Link) wanted() (all uint32) {
	for _, s := range l.MPPE {
		all |= strengths[s]
	}
	return all
}

// beginMPPE asks for all that this end takes; the other end answers which it wants of that. It
// needs keys of the sign-in (RFC 3078 §2).
func (l *Link) beginMPPE() {
	if l.Keys() == nil {
		l.end("MPPE needs keys, and a sign-in by %s makes none", l.Method)
		return
	}
	l.asks = l.wanted()
	if !l.Stateful {
		l.asks |= ppp.MPPEStateless
	}
	l.configureMPPE()
}

func (l *Link) configureMPPE() {
	l.send(ppp.CCP, ppp.ConfigureRequest, l.next(), ppp.Options(mppeOption(l.asks)))
}

func mppeOption(all uint32) ppp.Option {
	return ppp.Option{Kind: ppp.OptionMPPE, Data: binary.BigEndian.AppendUint32(nil, all)}
}

// asked is what a configuration message asks for of MPPE.
func asked(options []ppp.Option) (all uint32, ok bool) {
	for _, o := range options {
		if o.Kind == ppp.OptionMPPE && len(o.Data) == 4 {
			return binary.BigEndian.Uint32(o.Data), true
		}
	}
	return 0, false
}

// ccp agrees on one strength of MPPE and on whether it keeps a state (RFC 1962 §2, RFC 3078 §2).
func (l *Link) ccp(m ppp.Message) {
	if l.Phase != Network && l.Phase != Open {
		return
	}
	options, err := ppp.DecodeOptions(m.Data)
	if err != nil && m.Code != resetRequest && m.Code != resetAck {
		return
	}
	switch m.Code {
	case ppp.ConfigureRequest:
		l.requestedMPPE(m, options)
	case ppp.ConfigureAck:
		if one(l.asks) {
			l.ccpMine = true
			break
		}
		l.asks = l.strongest(l.asks) | l.asks&ppp.MPPEStateless
		l.configureMPPE()
	case ppp.ConfigureNak:
		all, ok := asked(options)
		common := all & l.wanted()
		if !ok || common == 0 {
			l.end("%s", noEncryption)
			return
		}
		l.asks = l.strongest(common) | all&ppp.MPPEStateless
		l.configureMPPE()
	case ppp.ConfigureReject, ppp.TerminateRequest:
		l.end("%s", noEncryption)
		return
	case resetRequest:
		if l.seals != nil && l.seals.Flush() == nil {
			l.send(ppp.CCP, resetAck, m.ID, nil)
		}
	}
	if l.ccpMine && l.ccpTheirs && l.seals == nil {
		l.startMPPE()
	}
}

// one tells whether bits name one strength.
func one(all uint32) bool { return bits.OnesCount32(all&allStrengths) == 1 }

func (l *Link) strongest(all uint32) uint32 {
	for _, s := range l.MPPE {
		if all&strengths[s] != 0 {
			return strengths[s]
		}
	}
	return 0
}

// requestedMPPE judges what the other end asks for: exactly one strength, of those that are taken.
func (l *Link) requestedMPPE(m ppp.Message, options []ppp.Option) {
	var refused []ppp.Option
	for _, o := range options {
		if o.Kind != ppp.OptionMPPE || len(o.Data) != 4 {
			refused = append(refused, o)
		}
	}
	all, ok := asked(options)
	if len(refused) > 0 {
		l.answer(ppp.CCP, m, refused, nil)
		return
	}
	common := all & l.wanted()
	state := all & ppp.MPPEStateless
	switch {
	case !ok:
		l.answer(ppp.CCP, m, nil, []ppp.Option{mppeOption(l.asks)})
	case common == 0:
		l.answer(ppp.CCP, m, options, nil)
		l.end("%s", noEncryption)
	case !one(all) || all&^(allStrengths|ppp.MPPEStateless) != 0 ||
		l.Gateway && state != l.asks&ppp.MPPEStateless:
		if l.Gateway {
			state = l.asks & ppp.MPPEStateless
		}
		l.answer(ppp.CCP, m, nil, []ppp.Option{mppeOption(l.strongest(common) | state)})
	default:
		l.answer(ppp.CCP, m, nil, nil)
		// Both directions have the same strength: what is acknowledged is asked for as well.
		if l.asks != all {
			l.asks, l.ccpMine = all, false
			l.configureMPPE()
		}
		l.ccpTheirs = true
	}
}

// startMPPE makes the keys of both directions, and goes on to IP.
func (l *Link) startMPPE() {
	keys, strength := l.Keys(), l.asks&allStrengths
	own, its := keys[:16], keys[16:]
	if l.Gateway {
		own, its = its, own
	}
	stateless := l.asks&ppp.MPPEStateless != 0
	seals, err := ppp.NewMPPE(own, strength, stateless)
	if err == nil {
		l.opens, err = ppp.NewMPPE(its, strength, stateless)
	}
	if err != nil {
		l.end("%v", err)
		return
	}
	l.seals = seals
	for name, bit := range strengths {
		if bit == strength {
			l.Strength = "MPPE with " + string(name) + " bits"
		}
	}
	l.configureNetwork()
}

// decrypt reads an encrypted packet; protocol is 0 for one that cannot be read.
func (l *Link) decrypt(payload []byte) (protocol uint16, packet []byte) {
	protocol, packet, err := l.opens.Open(payload)
	if errors.Is(err, ppp.ErrLost) {
		l.send(ppp.CCP, resetRequest, l.next(), nil)
	}
	if err != nil {
		return 0, nil
	}
	return protocol, packet
}
