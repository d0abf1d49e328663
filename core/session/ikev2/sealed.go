package ikev2

import (
	"encoding/binary"
	"errors"
	"fmt"

	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

const (
	headSize      = 28
	fragmentSize  = 1100 // bytes of payloads in a fragment
	mostFragments = 64
	major         = 0x20
)

// send makes an encrypted request (RFC 7296 §3.14), in pieces where it is long and the gateway
// takes them, and reads what answers it.
func (s *Session) send(
	exchange ikev2.Exchange,
	payloads ...isakmp.Payload,
) ([]isakmp.Payload, error) {
	s.id++
	first, text, err := isakmp.EncodeChain(payloads)
	if err != nil {
		return nil, err
	}
	var datagrams [][]byte
	if !s.fragment || len(text) <= fragmentSize {
		one, err := s.wrap(exchange, s.id, ikev2.KindEncrypted, first, nil, text, s.Random)
		if err != nil {
			return nil, err
		}
		datagrams = append(datagrams, one)
	} else {
		total := (len(text) + fragmentSize - 1) / fragmentSize
		for i := range total {
			piece := text[i*fragmentSize : min((i+1)*fragmentSize, len(text))]
			head := binary.BigEndian.AppendUint16(nil, uint16(i+1))
			head = binary.BigEndian.AppendUint16(head, uint16(total))
			next := uint8(0) // the first one alone tells (RFC 7383 §2.5)
			if i == 0 {
				next = first
			}
			one, err := s.wrap(exchange, s.id, ikev2.KindFragmented, next, head, piece, s.Random)
			if err != nil {
				return nil, err
			}
			datagrams = append(datagrams, one)
		}
	}
	var answer []isakmp.Payload
	var fault error
	parts := &fragments{}
	if err := s.Exchange(datagrams, func(b []byte) bool {
		answer, fault = s.unwrap(exchange, b, parts)
		return fault == nil || !errors.Is(fault, errNotOurs)
	}); err != nil {
		return nil, err
	}
	return answer, fault
}

// errNotOurs says that a datagram does not answer the request, or not yet.
var errNotOurs = errors.New("a datagram of something else")

// fragments are the pieces of one message that came.
type fragments struct {
	first uint8
	total uint16
	came  map[uint16][]byte
}

// unwrap opens one datagram; of a message in pieces it waits for the last one.
func (s *Session) unwrap(
	exchange ikev2.Exchange,
	b []byte,
	parts *fragments,
) ([]isakmp.Payload, error) {
	h, err := isakmp.DecodeHeader(b)
	if err != nil || h.ID != s.id || h.Exchange != uint8(exchange) {
		return nil, errNotOurs
	}
	kind, next, at, text, err := s.open(b)
	if err != nil {
		return nil, err
	}
	if kind == ikev2.KindEncrypted {
		return isakmp.DecodeChain(next, text)
	}
	number := binary.BigEndian.Uint16(b[at-4:]) // before what is sealed
	total := binary.BigEndian.Uint16(b[at-2:])
	if number == 0 || number > total || total > mostFragments {
		return nil, fmt.Errorf("fragment %d of %d", number, total)
	}
	if total != parts.total {
		*parts = fragments{total: total, came: map[uint16][]byte{}}
	}
	parts.came[number] = text
	if number == 1 {
		parts.first = next
	}
	if len(parts.came) < int(total) {
		return nil, errNotOurs
	}
	var whole []byte
	for i := range total {
		whole = append(whole, parts.came[i+1]...)
	}
	return isakmp.DecodeChain(parts.first, whole)
}
