package ipsec

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"wardicon/core/wire"
)

// Protocols that packets of ESP carry (RFC 4303 §2.6): whole IP packets in tunnel mode, and UDP in
// transport mode for L2TP.
const (
	inIPv4 = 4
	inIPv6 = 41
	inUDP  = 17
)

// Child is an association for ESP, as this end has it (RFC 4303).
type Child struct {
	out, in  *Box
	outSPI   uint32
	inSPI    uint32
	sent     uint32
	came     wire.Window
	Suite    string // as the gateway chose it
	up, down int    // bytes of what is carried
	datagram bool   // transport mode: what is carried is UDP, not IP
}

// NewChild makes an association of the boxes of both directions and their names. In transport mode
// it carries UDP, and IP packets in tunnel mode.
func NewChild(out, in *Box, outSPI, inSPI uint32, suite string, transport bool) *Child {
	return &Child{
		out: out, in: in, outSPI: outSPI, inSPI: inSPI, Suite: suite, datagram: transport,
	}
}

// Takes tells whether a packet of ESP is of this association.
func (c *Child) Takes(b []byte) bool {
	return len(b) > 8 && binary.BigEndian.Uint32(b) == c.inSPI
}

// Seal wraps a packet (RFC 4303 §2).
func (c *Child) Seal(packet []byte, random io.Reader) ([]byte, error) {
	if len(packet) == 0 {
		return nil, errors.New("an empty packet")
	}
	next := byte(inIPv4)
	switch {
	case c.datagram:
		next = inUDP
	case packet[0]>>4 == 6:
		next = inIPv6
	}
	c.sent++
	head := binary.BigEndian.AppendUint32(nil, c.outSPI)
	head = binary.BigEndian.AppendUint32(head, c.sent)
	align := max(c.out.block, 4)
	pad := (align - (len(packet)+2)%align) % align
	text := append(make([]byte, 0, len(packet)+pad+2), packet...)
	for i := range pad {
		text = append(text, byte(i+1))
	}
	text = append(text, byte(pad), next)
	sealed, err := c.out.Seal(head, text, random)
	if err != nil {
		return nil, err
	}
	c.up += len(packet)
	return append(head, sealed...), nil
}

// Open reads what a packet of ESP carries. What was replayed is refused (RFC 4303 §3.4.3).
func (c *Child) Open(b []byte) ([]byte, error) {
	if len(b) < 8 || binary.BigEndian.Uint32(b) != c.inSPI {
		return nil, errors.New("ESP of another association")
	}
	text, err := c.in.Open(b[:8], b[8:])
	if err != nil {
		return nil, err
	}
	if len(text) < 2 || int(text[len(text)-2])+2 > len(text) {
		return nil, ErrSealed
	}
	if !c.came.Take(binary.BigEndian.Uint32(b[4:])) {
		return nil, errors.New("ESP that came before")
	}
	if next := text[len(text)-1]; c.datagram != (next == inUDP) {
		return nil, fmt.Errorf("ESP that carries protocol %d", next)
	}
	packet := text[:len(text)-2-int(text[len(text)-2])]
	c.down += len(packet)
	return packet, nil
}

// Traffic is what went through: bytes of what was carried.
func (c *Child) Traffic() (sent, received int) { return c.up, c.down }
