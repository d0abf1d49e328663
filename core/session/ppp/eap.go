package ppp

import (
	"bytes"
	"slices"

	"wardicon/core/session/eap"
	"wardicon/core/suite"
	"wardicon/core/wire/ppp"
)

func (l *Link) sendEAP(packet []byte) {
	l.eap = packet
	l.out = append(l.out, ppp.Frame(ppp.EAP, packet))
}

// receiveEAP takes a packet of EAP (RFC 3748 §2).
func (l *Link) receiveEAP(packet []byte) {
	if bytes.Equal(packet, l.came) && l.eap != nil { // again: what answered it was lost
		l.sendEAP(l.eap)
		return
	}
	if l.Phase != Authenticate || l.Gateway && (len(packet) < 2 || packet[1] != l.eap[1]) {
		return
	}
	l.came = bytes.Clone(packet)
	if l.rounds++; l.rounds > maxRounds {
		l.end("no agreement after %d messages", maxRounds)
		return
	}
	if l.Gateway {
		out, msk, ended := l.Server.Handle(packet)
		l.sendEAP(out)
		if ended && msk == nil {
			l.end("login or password is wrong")
		} else if ended {
			l.Login, l.msk = l.Server.Login, msk
			l.authenticated(suite.EAP)
		}
		return
	}
	out, done, err := l.EAP.Handle(packet)
	switch {
	case err != nil:
		l.Fault = err
		l.end("%v", err)
	case done:
		l.msk, l.eap = l.EAP.Method.MSK(), nil
		l.authenticated(suite.EAP)
	default:
		l.sendEAP(out)
	}
}

// keysOfEAP are the keys that a sign-in by EAP made: the first are what the client sends with. With
// TLS they stand at the begin of both halves (RFC 5216 §2.3), with MS-CHAPv2 one behind the other.
func (l *Link) keysOfEAP() []byte {
	if l.Gateway && l.Server.TLS == nil || !l.Gateway && l.EAP.Method.Type() == eap.TypeMSCHAP {
		return l.msk[:32]
	}
	return slices.Concat(l.msk[:16], l.msk[32:48])
}
