package ikev2

import (
	"cmp"
	"crypto/sha1"
	"encoding/binary"
	"net/netip"

	"wardicon/core/suite"
	"wardicon/core/wire/isakmp"
)

// Types of transforms (RFC 7296 §3.3.2).
const (
	Encryption = 1
	PRF        = 2
	Integrity  = 3
	Group      = 4
)

// ESN tells whether sequence numbers are extended.
const ESN = 5

// Protocols of a proposal: IKE itself, and ESP (RFC 7296 §3.3.1).
const (
	ProtocolIKE = 1
	ProtocolESP = 3
)

// keyLength is the attribute that says the length of a key in bits, in its short form (RFC 7296
// §3.3.5).
const keyLength = 0x800E

// Transform is one algorithm of a proposal. KeyBits is 0 where its length is fixed.
type Transform struct {
	Type    uint8
	ID      uint16
	KeyBits uint16
}

// Proposal is a choice of algorithms: one of each type that it names (RFC 7296 §3.3.1).
type Proposal struct {
	Number, Protocol uint8
	SPI              []byte // of ESP
	Transforms       []Transform
}

// ID is the number of the first transform of a type; 0 where there is none.
func (p Proposal) ID(kind uint8) int {
	for _, t := range p.Transforms {
		if t.Type == kind {
			return int(t.ID)
		}
	}
	return 0
}

// anyPRF are the pseudo-random functions that are offered where a suite names none.
var anyPRF = []string{"prfsha256", "prfsha384", "prfsha512", "prfsha1"}

// fixed are ciphers without a choice of key length (RFC 7296 §3.3.5, RFC 7634 §3).
var fixed = map[string]bool{"3des": true, "des": true, "chacha20poly1305": true, "null": true}

// Offer writes a suite as a proposal; an authenticated cipher goes with any pseudo-random function.
// It is false for a suite that has no group or an algorithm that is not known.
func Offer(number uint8, s suite.Proposal) (Proposal, bool) {
	p := Proposal{Number: number, Protocol: ProtocolIKE}
	cipher, known := suite.Find(s.Encryption)
	group, grouped := suite.Find(s.Group)
	if !known || !grouped {
		return p, false
	}
	t := Transform{Type: Encryption, ID: uint16(cipher.Number)}
	if !fixed[cipher.Name] {
		t.KeyBits = uint16(cipher.Bits)
	}
	p.Transforms = append(p.Transforms, t)
	digest, named := suite.Find(s.Integrity)
	if !cipher.AEAD && !named {
		return p, false
	}
	functions := []string{cmp.Or(s.PRF, "prf"+s.Integrity)}
	if s.LacksPRF() {
		functions = anyPRF
	}
	for _, name := range functions {
		f, known := suite.Find(name)
		if !known {
			return p, false
		}
		p.Transforms = append(p.Transforms, Transform{Type: PRF, ID: uint16(f.Number)})
	}
	if !cipher.AEAD {
		p.Transforms = append(p.Transforms, Transform{Type: Integrity, ID: uint16(digest.Number)})
	}
	p.Transforms = append(p.Transforms, Transform{Type: Group, ID: uint16(group.Number)})
	return p, true
}

// OfferChild writes a suite as a proposal for ESP without a key exchange of its own, as the first
// one of an association is (RFC 7296 §1.2).
func OfferChild(number uint8, spi []byte, s suite.Proposal) (Proposal, bool) {
	p := Proposal{Number: number, Protocol: ProtocolESP, SPI: spi}
	cipher, known := suite.Find(s.Encryption)
	if !known {
		return p, false
	}
	t := Transform{Type: Encryption, ID: uint16(cipher.Number)}
	if !fixed[cipher.Name] {
		t.KeyBits = uint16(cipher.Bits)
	}
	p.Transforms = append(p.Transforms, t)
	if !cipher.AEAD {
		digest, named := suite.Find(s.Integrity)
		if !named {
			return p, false
		}
		p.Transforms = append(p.Transforms, Transform{Type: Integrity, ID: uint16(digest.Number)})
	}
	p.Transforms = append(p.Transforms, Transform{Type: ESN})
	return p, true
}

// SA writes proposals as a payload.
func SA(proposals ...Proposal) isakmp.Payload {
	var b []byte
	for i, p := range proposals {
		last := byte(2)
		if i+1 == len(proposals) {
			last = 0
		}
		var list []byte
		for k, t := range p.Transforms {
			more, size := byte(3), 8
			if k+1 == len(p.Transforms) {
				more = 0
			}
			if t.KeyBits > 0 {
				size = 12
			}
			list = append(list, more, 0, 0, byte(size), t.Type, 0)
			list = binary.BigEndian.AppendUint16(list, t.ID)
			if t.KeyBits > 0 {
				list = binary.BigEndian.AppendUint16(list, keyLength)
				list = binary.BigEndian.AppendUint16(list, t.KeyBits)
			}
		}
		b = append(b, last, 0)
		b = binary.BigEndian.AppendUint16(b, uint16(8+len(p.SPI)+len(list)))
		b = append(b, p.Number, p.Protocol, byte(len(p.SPI)), byte(len(p.Transforms)))
		b = append(append(b, p.SPI...), list...)
	}
	return isakmp.Payload{Kind: KindSA, Body: b}
}

// DecodeSA reads the proposals of a payload.
func DecodeSA(b []byte) ([]Proposal, error) {
	var list []Proposal
	for len(b) > 0 {
		if len(list) == maxProposals {
			return nil, malformed("more than %d proposals", maxProposals)
		}
		if len(b) < 8 {
			return nil, malformed("a proposal of %d bytes, expected at least 8", len(b))
		}
		n, spi, count := int(binary.BigEndian.Uint16(b[2:])), int(b[6]), int(b[7])
		if n < 8+spi || n > len(b) || count > maxTransforms {
			return nil, malformed("a proposal of %d bytes where %d are left", n, len(b))
		}
		p := Proposal{Number: b[4], Protocol: b[5]}
		if spi > 0 {
			p.SPI = b[8 : 8+spi]
		}
		rest := b[8+spi : n]
		for range count {
			t, used, err := decodeTransform(rest)
			if err != nil {
				return nil, err
			}
			p.Transforms = append(p.Transforms, t)
			rest = rest[used:]
		}
		if len(rest) > 0 {
			return nil, malformed("%d bytes behind the last transform", len(rest))
		}
		list = append(list, p)
		b = b[n:]
	}
	return list, nil
}

func decodeTransform(b []byte) (t Transform, used int, err error) {
	if len(b) < 8 {
		return t, 0, malformed("a transform of %d bytes, expected at least 8", len(b))
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if n < 8 || n > len(b) {
		return t, 0, malformed("a transform of %d bytes where %d are left", n, len(b))
	}
	t = Transform{Type: b[4], ID: binary.BigEndian.Uint16(b[6:])}
	for a := b[8:n]; len(a) > 0; {
		if len(a) < 4 {
			return t, 0, malformed("an attribute of %d bytes, expected at least 4", len(a))
		}
		kind, value, size := binary.BigEndian.Uint16(a), binary.BigEndian.Uint16(a[2:]), 4
		if kind&0x8000 == 0 {
			if size += int(value); size > len(a) {
				return t, 0, malformed("an attribute of %d bytes where %d are left", size, len(a))
			}
		} else if kind == keyLength {
			t.KeyBits = value
		}
		a = a[size:]
	}
	return t, n, nil
}

// KE writes a key exchange of a group (RFC 7296 §3.4).
func KE(group uint16, public []byte) isakmp.Payload {
	return isakmp.Payload{
		Kind: KindKE,
		Body: append(binary.BigEndian.AppendUint16(nil, group), append([]byte{0, 0}, public...)...),
	}
}

// DecodeKE reads a key exchange.
func DecodeKE(b []byte) (group uint16, public []byte, err error) {
	if len(b) < 4 {
		return 0, nil, malformed("a key exchange of %d bytes, expected at least 4", len(b))
	}
	return binary.BigEndian.Uint16(b), b[4:], nil
}

// Kinds of notifications (RFC 7296 §3.10.1, RFC 5685 §4, RFC 7383 §2.3).
const (
	InvalidSyntax          = 7
	NoProposalChosen       = 14
	InvalidKE              = 17
	AuthenticationFailed   = 24
	AddressFailure         = 36
	ConfigRequired         = 37
	SelectorsUnacceptable  = 38
	InitialContact         = 16384
	MOBIKESupported        = 16396
	EAPOnly                = 16417
	NATSource              = 16388
	NATDestination         = 16389
	Cookie                 = 16390
	RedirectSupported      = 16406
	Redirect               = 16407
	FragmentationSupported = 16430
	SignatureHashes        = 16431 // RFC 7427 §4
)

// Notification is a notify payload without an SPI.
type Notification struct {
	Type uint16
	Data []byte
}

// Notify writes a notification about IKE itself.
func Notify(kind uint16, data []byte) isakmp.Payload {
	return isakmp.Payload{
		Kind: KindNotify,
		Body: append(binary.BigEndian.AppendUint16([]byte{0, 0}, kind), data...),
	}
}

// Notifications reads the notifications of a message.
func (m Message) Notifications() ([]Notification, error) {
	var list []Notification
	for _, p := range m.Payloads {
		if p.Kind != KindNotify {
			continue
		}
		if len(p.Body) < 4 || len(p.Body) < 4+int(p.Body[1]) {
			return nil, malformed("a notification of %d bytes", len(p.Body))
		}
		list = append(
			list,
			Notification{binary.BigEndian.Uint16(p.Body[2:]), p.Body[4+int(p.Body[1]):]},
		)
	}
	return list, nil
}

// NATHash is what one end says of an address as it sees it (RFC 7296 §2.23).
func NATHash(initiator, responder uint64, at netip.AddrPort) []byte {
	b := binary.BigEndian.AppendUint64(nil, initiator)
	b = binary.BigEndian.AppendUint64(b, responder)
	b = append(b, at.Addr().Unmap().AsSlice()...)
	b = binary.BigEndian.AppendUint16(b, at.Port())
	sum := sha1.Sum(b)
	return sum[:]
}

// RedirectedTo reads where a redirect sends clients: an address or a name (RFC 5685 §4.1).
func RedirectedTo(data []byte) (string, error) {
	if len(data) < 2 || len(data) < 2+int(data[1]) {
		return "", malformed("a redirect of %d bytes", len(data))
	}
	switch to := data[2 : 2+int(data[1])]; data[0] {
	case 1, 2:
		a, ok := netip.AddrFromSlice(to)
		if !ok {
			return "", malformed("a redirect to an address of %d bytes", len(to))
		}
		return a.String(), nil
	default:
		return string(to), nil
	}
}
