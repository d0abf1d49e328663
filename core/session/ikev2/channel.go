package ikev2

import (
	"encoding/binary"
	"fmt"
	"io"
	"slices"

	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// channel is what both ends of an association have in common: its names and keys.
type channel struct {
	initiator, responder uint64
	prf                  ipsec.PRF
	keyD, keyPi, keyPr   []byte
	out, in              *ipsec.Box
	answers              bool // this end is the gateway's
}

// function notes the pseudo-random function that was chosen.
func (c *channel) function(p ikev2.Proposal) error {
	var ok bool
	c.prf, ok = ipsec.PRFs[suite.Numbered(suite.PRF, p.ID(ikev2.PRF))]
	if !ok {
		return fmt.Errorf("pseudo-random function %d: %w", p.ID(ikev2.PRF), ipsec.ErrSuite)
	}
	return nil
}

// derive makes the keys of an association (RFC 7296 §2.14).
func (c *channel) derive(
	how ipsec.Method,
	nonceI, nonceR, secret []byte,
) (err error) {
	nonces := slices.Concat(nonceI, nonceR)
	first := nonces
	if c.prf.HalfNonces {
		const kept = 8 // bytes
		first = slices.Concat(nonceI[:min(kept, len(nonceI))], nonceR[:min(kept, len(nonceR))])
	}
	seed := c.prf.Of(first, secret)
	spis := binary.BigEndian.AppendUint64(nil, c.initiator)
	spis = binary.BigEndian.AppendUint64(spis, c.responder)
	n := c.prf.Size
	keys := c.prf.Expand(seed, append(nonces, spis...), 3*n+2*how.Integrity+2*how.Encryption)
	take := func(n int) (k []byte) { k, keys = keys[:n:n], keys[n:]; return k }
	c.keyD = take(n)
	ai, ar := take(how.Integrity), take(how.Integrity)
	ei, er := take(how.Encryption), take(how.Encryption)
	c.keyPi, c.keyPr = take(n), take(n)
	if c.out, err = how.Box(ei, ai); err == nil {
		c.in, err = how.Box(er, ar)
	}
	if c.answers {
		c.out, c.in = c.in, c.out
	}
	return err
}

// childBoxes makes the keys of a tunnel (RFC 7296 §2.17).
func (c *channel) childBoxes(how ipsec.Method, nonces []byte) (out, in *ipsec.Box, err error) {
	keys := c.prf.Expand(c.keyD, nonces, 2*(how.Encryption+how.Integrity))
	take := func(n int) (k []byte) { k, keys = keys[:n:n], keys[n:]; return k }
	ei, ai := take(how.Encryption), take(how.Integrity)
	er, ar := take(how.Encryption), take(how.Integrity)
	if out, err = how.Box(ei, ai); err == nil {
		in, err = how.Box(er, ar)
	}
	if c.answers {
		out, in = in, out
	}
	return out, in, err
}

// octets are what an end signs (RFC 7296 §2.15).
func (c *channel) octets(first, nonce, key, id []byte) []byte {
	out := append(append([]byte{}, first...), nonce...)
	return append(out, c.prf.Of(key, id)...)
}

// wrap makes one datagram of encrypted payloads (RFC 7296 §3.14).
func (c *channel) wrap(
	exchange ikev2.Exchange,
	id uint32,
	kind, next uint8,
	head, text []byte,
	random io.Reader,
) ([]byte, error) {
	block := c.out.Block()
	pad := (block - (len(text)+1)%block) % block
	text = append(append([]byte{}, text...), make([]byte, pad)...)
	text = append(text, byte(pad))
	size := 4 + len(head) + c.out.Size(len(text))
	flags := byte(ikev2.FlagInitiator)
	if c.answers {
		flags = ikev2.FlagResponse
	}
	b := binary.BigEndian.AppendUint64(make([]byte, 0, headSize+size), c.initiator)
	b = binary.BigEndian.AppendUint64(b, c.responder)
	b = append(b, kind, major, byte(exchange), flags)
	b = binary.BigEndian.AppendUint32(b, id)
	b = binary.BigEndian.AppendUint32(b, uint32(headSize+size))
	b = append(b, next, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(size))
	b = append(b, head...)
	sealed, err := c.out.Seal(b, text, random)
	return append(b, sealed...), err
}

// open reads one datagram of encrypted payloads. At is where what was sealed begins.
func (c *channel) open(b []byte) (kind, next uint8, at int, text []byte, err error) {
	h, err := isakmp.DecodeHeader(b)
	if err != nil || h.InitiatorSPI != c.initiator || h.ResponderSPI != c.responder ||
		h.Flags&ikev2.FlagResponse != 0 == c.answers || len(b) < headSize+4 ||
		int(binary.BigEndian.Uint32(b[24:])) != len(b) ||
		int(binary.BigEndian.Uint16(b[headSize+2:])) != len(b)-headSize {
		return 0, 0, 0, nil, errNotOurs
	}
	kind, next, at = b[16], b[headSize], headSize+4
	if kind == ikev2.KindFragmented {
		at += 4
	} else if kind != ikev2.KindEncrypted {
		return 0, 0, 0, nil, errNotOurs
	}
	if len(b) < at {
		return 0, 0, 0, nil, errNotOurs
	}
	if text, err = c.in.Open(b[:at], b[at:]); err != nil {
		return 0, 0, 0, nil, errNotOurs // anybody can send such a one
	}
	if len(text) == 0 {
		return 0, 0, 0, nil, errNotOurs
	}
	pad := int(text[len(text)-1])
	if pad >= len(text) {
		return 0, 0, 0, nil, fmt.Errorf("%d bytes of padding in a text of %d", pad, len(text))
	}
	return kind, next, at, text[:len(text)-1-pad], nil
}
