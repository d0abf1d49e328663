// Package ppp encodes and decodes the frames of PPP (RFC 1661, RFC 1662), its configuration
// messages (LCP, IPCP: RFC 1332), and what its ways to authenticate compute (PAP: RFC 1334,
// CHAP: RFC 1994, MS-CHAPv2: RFC 2759).
package ppp

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Protocol numbers (RFC 1661 §2 and the registry).
const (
	IPv4 uint16 = 0x0021
	IPv6 uint16 = 0x0057
	LCP  uint16 = 0xC021
	PAP  uint16 = 0xC023
	CHAP uint16 = 0xC223
	EAP  uint16 = 0xC227
	IPCP uint16 = 0x8021
	// IPV6CP agrees on IPv6 (RFC 5072).
	IPV6CP uint16 = 0x8057
	CCP    uint16 = 0x80FD
)

// Codes of LCP and IPCP (RFC 1661 §5), of PAP (RFC 1334 §2.2) and CHAP (RFC 1994 §4).
const (
	ConfigureRequest = 1
	ConfigureAck     = 2
	ConfigureNak     = 3
	ConfigureReject  = 4
	TerminateRequest = 5
	TerminateAck     = 6
	CodeReject       = 7
	ProtocolReject   = 8
	EchoRequest      = 9
	EchoReply        = 10

	Challenge = 1
	Response  = 2
	Success   = 3
	Failure   = 4
)

// Options of LCP (RFC 1661 §6) and of IPCP (RFC 1332 §3.3, RFC 1877 §1).
const (
	OptionMRU            = 1
	OptionACCM           = 2
	OptionAuthentication = 3
	OptionMagic          = 5
	OptionPFC            = 7
	OptionACFC           = 8
	OptionAddress        = 3
	OptionInterface      = 1 // of IPV6CP (RFC 5072 §4.1)
	OptionDNS1           = 129
	OptionDNS2           = 131
)

// Algorithms of CHAP (RFC 1994 §3, RFC 2433 §3, RFC 2759 §3).
const (
	MD5      = 5
	MSCHAP   = 0x80
	MSCHAPv2 = 0x81
)

// MaxFrame is the longest frame that is taken, in bytes without framing.
const MaxFrame = 4096

// Message is a message of LCP, IPCP, PAP or CHAP.
type Message struct {
	Code, ID uint8
	Data     []byte
}

// Encode writes a message with its length (RFC 1661 §5).
func (m Message) Encode() []byte {
	b := []byte{m.Code, m.ID, 0, 0}
	binary.BigEndian.PutUint16(b[2:], uint16(4+len(m.Data)))
	return append(b, m.Data...)
}

// DecodeMessage reads a message; what follows its length is padding and left out.
func DecodeMessage(b []byte) (Message, error) {
	if len(b) < 4 {
		return Message{}, fmt.Errorf("a message of %d bytes, expected at least 4", len(b))
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if n < 4 || n > len(b) {
		return Message{}, fmt.Errorf("a message that says %d bytes and has %d", n, len(b))
	}
	return Message{b[0], b[1], b[4:n]}, nil
}

// Option is one option of a configuration message.
type Option struct {
	Kind uint8
	Data []byte
}

// Options writes a list of options.
func Options(list ...Option) []byte {
	var b []byte
	for _, o := range list {
		b = append(append(b, o.Kind, byte(2+len(o.Data))), o.Data...)
	}
	return b
}

// DecodeOptions reads the options of a configuration message.
func DecodeOptions(b []byte) ([]Option, error) {
	var list []Option
	for len(b) > 0 {
		if len(b) < 2 || b[1] < 2 || int(b[1]) > len(b) {
			return nil, errors.New("an option that is cut short")
		}
		list = append(list, Option{b[0], b[2:b[1]]})
		b = b[b[1]:]
	}
	return list, nil
}

// Frame puts the protocol before what it carries, with address and control before that
// (RFC 1661 §2, RFC 1662 §3.1).
func Frame(protocol uint16, payload []byte) []byte {
	b := []byte{0xFF, 0x03, 0, 0}
	binary.BigEndian.PutUint16(b[2:], protocol)
	return append(b, payload...)
}

// DecodeFrame reads the protocol; address, control and the first byte of the protocol may be
// left out (RFC 1661 §6.5, §6.6).
func DecodeFrame(b []byte) (protocol uint16, payload []byte, err error) {
	if len(b) >= 2 && b[0] == 0xFF && b[1] == 0x03 {
		b = b[2:]
	}
	return protocolOf(b)
}

// protocolOf reads the protocol before a payload, of one byte or two (RFC 1661 §2).
func protocolOf(b []byte) (protocol uint16, payload []byte, err error) {
	switch {
	case len(b) >= 1 && b[0]&1 == 1:
		return uint16(b[0]), b[1:], nil
	case len(b) >= 2 && b[1]&1 == 1:
		return binary.BigEndian.Uint16(b), b[2:], nil
	}
	return 0, nil, errors.New("a frame without a protocol")
}
