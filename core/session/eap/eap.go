// Package eap is the device's side of a sign-in by EAP (RFC 3748): MS-CHAPv2 and TLS. It opens no
// sockets: requests are handed in, and responses handed out.
package eap

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Codes of packets (RFC 3748 §4).
const (
	request  = 1
	response = 2
	success  = 3
	failure  = 4
)

// Types of methods (RFC 3748 §5, IANA EAP registry).
const (
	identity   = 1
	notify     = 2
	nak        = 3
	TypeTLS    = 13
	TypeMSCHAP = 26
)

// mostRounds bounds a conversation: TLS with a long chain takes about twenty.
const mostRounds = 100

// Method is one way to sign in.
type Method interface {
	// Type is its number.
	Type() byte
	// Answer takes what stands behind the type of a request, and makes that of the response.
	Answer(data []byte, id byte) ([]byte, error)
	// MSK is the key that came out of it, 64 bytes (RFC 3748 §7.10); nil before the end.
	MSK() []byte
}

// RejectedError says that the gateway refused, and what it said with it.
type RejectedError struct{ Said string }

func (e *RejectedError) Error() string {
	if e.Said == "" {
		return "the gateway rejected the sign-in"
	}
	return "the gateway rejected the sign-in: " + e.Said
}

// ErrUnproven says that the gateway ended well without having proved anything.
var ErrUnproven = errors.New("the gateway did not prove that it knows the password")

// OtherMethodError says that the gateway asks for a method that the device does not have.
type OtherMethodError struct{ Wanted, Has byte }

func (e *OtherMethodError) Error() string {
	return fmt.Sprintf("the gateway requests %s, the device uses %s", named(e.Wanted),
		named(e.Has))
}

// named is a method as people know it.
func named(kind byte) string {
	switch kind {
	case TypeTLS:
		return "EAP-TLS"
	case TypeMSCHAP:
		return "EAP-MSCHAPv2"
	}
	return fmt.Sprintf("EAP method %d", kind)
}

// Conversation is one sign-in.
type Conversation struct {
	Name   string // identity that the device gives
	Method Method

	rounds int
	began  bool // the method has
	wanted byte // a method that the device does not have
}

// Handle takes a packet of the gateway. Done is true at the end that went well; there is nothing to
// send then.
func (c *Conversation) Handle(b []byte) (out []byte, done bool, err error) {
	if c.rounds++; c.rounds > mostRounds {
		return nil, false, fmt.Errorf("more than %d rounds of EAP", mostRounds)
	}
	if len(b) < 4 || int(binary.BigEndian.Uint16(b[2:])) > len(b) ||
		binary.BigEndian.Uint16(b[2:]) < 4 {
		return nil, false, fmt.Errorf(
			"a packet of EAP of %d bytes that says another length",
			len(b),
		)
	}
	code, id := b[0], b[1]
	b = b[4:binary.BigEndian.Uint16(b[2:])]
	switch code {
	case success:
		if c.Method.MSK() == nil {
			return nil, false, ErrUnproven
		}
		return nil, true, nil
	case failure:
		if c.wanted != 0 {
			return nil, false, &OtherMethodError{c.wanted, c.Method.Type()}
		}
		if m, ok := c.Method.(interface{ Fault() error }); ok && m.Fault() != nil {
			return nil, false, m.Fault() // it was this end that ended it
		}
		return nil, false, &RejectedError{}
	case request:
	default:
		return nil, false, fmt.Errorf("a packet of EAP of the code %d", code)
	}
	if len(b) == 0 {
		return nil, false, errors.New("a request of EAP without a type")
	}
	kind, data := b[0], b[1:]
	switch {
	case kind == identity:
		return reply(id, identity, []byte(c.Name)), false, nil
	case kind == notify:
		return reply(id, notify, nil), false, nil
	case kind != c.Method.Type() && !c.began:
		c.wanted = kind
		return reply(id, nak, []byte{c.Method.Type()}), false, nil
	case kind != c.Method.Type():
		return nil, false, &OtherMethodError{kind, c.Method.Type()}
	}
	c.began = true
	answer, err := c.Method.Answer(data, id)
	if err != nil {
		return nil, false, err
	}
	return reply(id, kind, answer), false, nil
}

func reply(id, kind byte, data []byte) []byte {
	b := binary.BigEndian.AppendUint16([]byte{response, id}, uint16(5+len(data)))
	return append(append(b, kind), data...)
}
