package ikev2

import (
	"encoding/binary"
	"errors"
	"io"
)

// Child is an association for ESP in tunnel mode, as this end has it (RFC 4303).
type Child struct {
	out, in             *box
	outSPI              uint32
	inSPI               uint32
	sent                uint32
	highest             uint32
	window              uint64
	Suite               string // as the gateway chose it
	packetsIn, bytesIn  int
	packetsOut, bytesUp int
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
	c.packetsOut++
	c.bytesUp += len(packet)
	return append(head, sealed...), nil
}

// Open reads an IP packet out of one of ESP. What was replayed is refused (RFC 4303 §3.4.3).
func (c *Child) Open(b []byte) ([]byte, error) {
	if len(b) < 8 || binary.BigEndian.Uint32(b) != c.inSPI {
		return nil, errors.New("ESP of another association")
	}
	number := binary.BigEndian.Uint32(b[4:])
	if number == 0 || number+64 <= c.highest ||
		number <= c.highest && c.window>>(c.highest-number)&1 == 1 {
		return nil, errors.New("ESP that came before")
	}
	text, err := c.in.open(b[:8], b[8:])
	if err != nil {
		return nil, err
	}
	if len(text) < 2 || int(text[len(text)-2])+2 > len(text) {
		return nil, errSealed
	}
	if number > c.highest {
		c.window <<= min(number-c.highest, 64)
		c.highest = number
	}
	c.window |= 1 << (c.highest - number)
	packet := text[:len(text)-2-int(text[len(text)-2])]
	c.packetsIn++
	c.bytesIn += len(packet)
	return packet, nil
}

// Traffic is what went through: bytes of IP packets.
func (c *Child) Traffic() (sent, received int) { return c.bytesUp, c.bytesIn }
