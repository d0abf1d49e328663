package ikev2

import (
	"encoding/binary"
	"errors"
	"io"

	"wardicon/core/wire"
)

// Child is an association for ESP in tunnel mode, as this end has it (RFC 4303).
type Child struct {
	out, in  *box
	outSPI   uint32
	inSPI    uint32
	sent     uint32
	came     wire.Window
	Suite    string // as the gateway chose it
	up, down int    // bytes of IP packets
}

// Seal wraps an IP packet (RFC 4303 §2).
func (c *Child) Seal(packet []byte, random io.Reader) ([]byte, error) {
	if len(packet) == 0 {
		return nil, errors.New("an empty packet")
	}
	next := byte(4) // IPv4
	if packet[0]>>4 == 6 {
		next = 41
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
	sealed, err := c.out.seal(head, text, random)
	if err != nil {
		return nil, err
	}
	c.up += len(packet)
	return append(head, sealed...), nil
}

// Open reads an IP packet out of one of ESP. What was replayed is refused (RFC 4303 §3.4.3).
func (c *Child) Open(b []byte) ([]byte, error) {
	if len(b) < 8 || binary.BigEndian.Uint32(b) != c.inSPI {
		return nil, errors.New("ESP of another association")
	}
	text, err := c.in.open(b[:8], b[8:])
	if err != nil {
		return nil, err
	}
	if len(text) < 2 || int(text[len(text)-2])+2 > len(text) {
		return nil, errSealed
	}
	if !c.came.Take(binary.BigEndian.Uint32(b[4:])) {
		return nil, errors.New("ESP that came before")
	}
	packet := text[:len(text)-2-int(text[len(text)-2])]
	c.down += len(packet)
	return packet, nil
}

// Traffic is what went through: bytes of IP packets.
func (c *Child) Traffic() (sent, received int) { return c.up, c.down }
