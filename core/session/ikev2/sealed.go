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

// send makes an encrypted request (RFC 7296 §3.14), in pieces where it is long and the gateway takes
// them, and reads what answers it.
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
		one, err := s.wrap(exchange, ikev2.KindEncrypted, first, nil, text)
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
			one, err := s.wrap(exchange, ikev2.KindFragmented, next, head, piece)
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

// wrap makes one datagram.
func (s *Session) wrap(
	exchange ikev2.Exchange,
	kind, next uint8,
	head, text []byte,
) ([]byte, error) {
	block := s.out.block
	pad := (block - (len(text)+1)%block) % block
	text = append(append([]byte{}, text...), make([]byte, pad)...)
	text = append(text, byte(pad))
	size := 4 + len(head) + s.out.size(len(text))
	b := binary.BigEndian.AppendUint64(make([]byte, 0, headSize+size), s.initiator)
	b = binary.BigEndian.AppendUint64(b, s.responder)
	b = append(b, kind, major, byte(exchange), ikev2.FlagInitiator)
	b = binary.BigEndian.AppendUint32(b, s.id)
	b = binary.BigEndian.AppendUint32(b, uint32(headSize+size))
	b = append(b, next, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(size))
	b = append(b, head...)
	sealed, err := s.out.seal(b, text, s.Random)
	return append(b, sealed...), err
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
	if err != nil || h.InitiatorSPI != s.initiator || h.ResponderSPI != s.responder ||
		h.Flags&ikev2.FlagResponse == 0 || h.ID != s.id || h.Exchange != uint8(exchange) ||
		len(b) < headSize+4 || int(binary.BigEndian.Uint32(b[24:])) != len(b) ||
		int(binary.BigEndian.Uint16(b[headSize+2:])) != len(b)-headSize {
		return nil, errNotOurs
	}
	kind, next, at := b[16], b[headSize], headSize+4
	if kind == ikev2.KindFragmented {
		at += 4
	} else if kind != ikev2.KindEncrypted {
		return nil, errNotOurs
	}
	if len(b) < at {
		return nil, errNotOurs
	}
	text, err := s.in.open(b[:at], b[at:])
	if err != nil {
		return nil, errNotOurs // anybody can send such a one
	}
	pad := int(text[len(text)-1])
	if pad >= len(text) {
		return nil, fmt.Errorf("%d bytes of padding in a text of %d", pad, len(text))
	}
	text = text[:len(text)-1-pad]
	if kind == ikev2.KindEncrypted {
		return isakmp.DecodeChain(next, text)
	}
	number := binary.BigEndian.Uint16(b[at-4:])
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
