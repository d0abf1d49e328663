// Package l2tp is the order of messages of L2TP version 2 up to a call that carries PPP, for both
// of its ends (RFC 2661 §5 to §7). It has no sockets and no clock: messages go in, messages come
// out.
package l2tp

import (
	"cmp"
	"crypto/md5"
	"encoding/binary"
	"fmt"

	"wardicon/core/wire/l2tp"
)

// Phase is how far a tunnel has come.
type Phase string

// The phases.
const (
	Starting Phase = "starting"
	Calling  Phase = "calling"
	Up       Phase = "up"
	Ended    Phase = "ended"
)

// Config says what an end is.
type Config struct {
	Gateway  bool
	HostName string
	Secret   string // of the tunnel, where the gateway asks for a proof (RFC 2661 §5.1.1)
	// Tunnel and Session are what this end calls both; none may be 0.
	Tunnel, Session uint16
}

// Tunnel is one end of a tunnel with one call.
type Tunnel struct {
	Config
	Phase  Phase
	Reason string // why it ended
	Peer   string // host name of the other end

	theirs, session uint16 // as the other end calls both
	sent, expected  uint16
	waiting         []byte // the message that is not acknowledged yet
	queue           [][]l2tp.AVP
	out             [][]byte
	messages        int
}

// mostMessages bounds how many control messages are taken until the call is up.
const mostMessages = 100

// New begins a tunnel; a client's first message is in what Take gives.
func New(c Config) *Tunnel {
	t := &Tunnel{Config: c, Phase: Starting}
	if !c.Gateway {
		t.send(l2tp.Start(l2tp.StartRequest, c.HostName, c.Tunnel))
	}
	return t
}

// Take gives the messages that are to be sent.
func (t *Tunnel) Take() [][]byte {
	out := t.out
	t.out = nil
	return out
}

// Again repeats what was not acknowledged (RFC 2661 §5.8).
func (t *Tunnel) Again() {
	if t.waiting != nil {
		t.out = append(t.out, t.waiting)
	}
}

// send sends control messages one after the other, each when the one before is acknowledged.
func (t *Tunnel) send(avps []l2tp.AVP) {
	t.queue = append(t.queue, avps)
	t.next()
}

func (t *Tunnel) next() {
	if t.waiting != nil || len(t.queue) == 0 {
		return
	}
	m := l2tp.Message{Tunnel: t.theirs, Sent: t.sent, Expected: t.expected, AVPs: t.queue[0]}
	switch m.Kind() {
	case l2tp.CallReply, l2tp.CallConnected, l2tp.CallDisconnect:
		m.Session = t.session
	}
	t.queue = t.queue[1:]
	b, err := m.Encode()
	if err != nil {
		t.fail("%v", err)
		return
	}
	t.waiting = b
	t.sent++
	t.out = append(t.out, b)
}

func (t *Tunnel) fail(format string, args ...any) {
	if t.Phase != Ended {
		t.Phase, t.Reason = Ended, fmt.Sprintf(format, args...)
	}
}

// Data wraps a frame of PPP.
func (t *Tunnel) Data(frame []byte) []byte { return l2tp.Data(t.theirs, t.session, frame) }

// Receive takes a message; a frame of PPP in it is given back once the call is up.
func (t *Tunnel) Receive(b []byte) (frame []byte) {
	if !l2tp.IsControl(b) {
		tunnel, session, frame, err := l2tp.DecodeData(b)
		if err != nil || tunnel != t.Tunnel || session != t.Session || t.Phase != Up {
			return nil
		}
		return frame
	}
	m, err := l2tp.Decode(b)
	if err != nil || m.Tunnel != t.Tunnel && m.Tunnel != 0 || t.Phase == Ended {
		return nil
	}
	if t.messages++; t.messages > mostMessages && t.Phase != Up {
		t.fail("no call after %d messages", mostMessages)
		return nil
	}
	if t.waiting != nil && m.Expected == t.sent {
		t.waiting = nil
	}
	if m.Kind() != 0 {
		if m.Sent != t.expected { // it came before, or one before it is missing
			t.acknowledge()
			t.Again() // what answered it may be lost
			return nil
		}
		t.expected++
		said := len(t.out)
		t.handle(m)
		t.next()
		if len(t.out) == said { // nothing that acknowledges it beside
			t.acknowledge()
		}
		return nil
	}
	t.next()
	return nil
}

// acknowledge says what came so far (RFC 2661 §5.8).
func (t *Tunnel) acknowledge() {
	m := l2tp.Message{Tunnel: t.theirs, Sent: t.sent, Expected: t.expected}
	if b, err := m.Encode(); err == nil {
		t.out = append(t.out, b)
	}
}

func (t *Tunnel) handle(m l2tp.Message) {
	switch kind := m.Kind(); {
	case kind == l2tp.StopNotify || kind == l2tp.CallDisconnect:
		result, _, text := m.Result()
		what := "tunnel"
		if kind == l2tp.CallDisconnect {
			what = "call"
		}
		t.fail("the other end ends the %s: %s", what,
			cmp.Or(text, fmt.Sprintf("result %d", result)))
	case kind == l2tp.StartReply && !t.Gateway && t.Phase == Starting:
		t.started(m)
	case kind == l2tp.CallReply && !t.Gateway && t.Phase == Calling:
		if t.session, _ = m.Uint(l2tp.AttrSession); t.session == 0 {
			t.fail("the gateway names no session")
			return
		}
		t.send([]l2tp.AVP{
			l2tp.Number(l2tp.AttrMessageType, uint16(l2tp.CallConnected)),
			{Mandatory: true, Type: l2tp.AttrTxSpeed, Value: []byte{5, 0xF5, 0xE1, 0}}, // bit/s
			{Mandatory: true, Type: l2tp.AttrFramingType, Value: []byte{0, 0, 0, 1}},
		})
		t.Phase = Up
	case kind == l2tp.StartRequest && t.Gateway && t.Phase == Starting:
		t.theirs, _ = m.Uint(l2tp.AttrTunnel)
		t.named(m)
		t.send(l2tp.Start(l2tp.StartReply, t.HostName, t.Tunnel))
		t.Phase = Calling
	case kind == l2tp.CallRequest && t.Gateway && t.Phase == Calling:
		t.session, _ = m.Uint(l2tp.AttrSession)
		t.send([]l2tp.AVP{
			l2tp.Number(l2tp.AttrMessageType, uint16(l2tp.CallReply)),
			l2tp.Number(l2tp.AttrSession, t.Session),
		})
	case kind == l2tp.CallConnected && t.Gateway:
		t.Phase = Up
	}
}

func (t *Tunnel) named(m l2tp.Message) {
	name, _ := m.Find(l2tp.AttrHostName)
	t.Peer = string(name)
}

// started takes the gateway's reply, proves this end where it asks for that, and asks for a call.
func (t *Tunnel) started(m l2tp.Message) {
	if t.theirs, _ = m.Uint(l2tp.AttrTunnel); t.theirs == 0 {
		t.fail("the gateway names no tunnel")
		return
	}
	t.named(m)
	connected := []l2tp.AVP{l2tp.Number(l2tp.AttrMessageType, uint16(l2tp.StartConnected))}
	if challenge, ok := m.Find(l2tp.AttrChallenge); ok {
		if t.Secret == "" {
			t.fail("the gateway asks for a secret of the tunnel, and the file has none")
			return
		}
		h := md5.New() // RFC 2661 §4.4.3: by the kind of the message that answers
		h.Write([]byte{byte(l2tp.StartConnected)})
		h.Write([]byte(t.Secret))
		h.Write(challenge)
		connected = append(connected,
			l2tp.AVP{Mandatory: true, Type: l2tp.AttrResponse, Value: h.Sum(nil)})
	}
	t.send(connected)
	t.send([]l2tp.AVP{
		l2tp.Number(l2tp.AttrMessageType, uint16(l2tp.CallRequest)),
		l2tp.Number(l2tp.AttrSession, t.Session),
		{Mandatory: true, Type: l2tp.AttrCallSerial, Value: binary.BigEndian.AppendUint32(nil, 1)},
	})
	t.Phase = Calling
}

// End makes the message that ends the tunnel (RFC 2661 §6.4).
func (t *Tunnel) End() ([]byte, error) {
	m := l2tp.Message{
		Tunnel: t.theirs, Sent: t.sent, Expected: t.expected, AVPs: l2tp.Stop(t.Tunnel, 1),
	}
	t.Phase = Ended
	return m.Encode()
}
