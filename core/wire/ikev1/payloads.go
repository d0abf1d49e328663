package ikev1

import (
	"encoding/binary"
	"net/netip"

	"wardicon/core/suite"
	"wardicon/core/wire/isakmp"
)

// Classes of attributes of a transform (RFC 2409 appendix A).
const (
	ClassEncryption = 1
	ClassHash       = 2
	ClassAuth       = 3
	ClassGroup      = 4
	ClassLifeType   = 11
	ClassLife       = 12
	ClassKeyLength  = 14
)

// Ways in which the ends prove themselves (RFC 2409 appendix A).
const (
	AuthPSK = 1
	AuthRSA = 3
	// ECDSA with the curves of 256, 384 and 521 bits (RFC 4754 §3).
	AuthP256 = 9
	AuthP384 = 10
	AuthP521 = 11
)

const (
	doiIPsec     = 1
	onlyIdentity = 1 // the situation (RFC 2407 §4.2.1)
	// Protocols of proposals (RFC 2407 §4.4.1).
	protocolIKE   = 1
	protocolESP   = 3
	transformIKE  = 1
	lifeSeconds   = 1
	short         = 0x8000
	mostNumbers   = 255
	mostProposals = 16
)

// Transform is one choice: attributes by class, each of at most four bytes.
type Transform map[uint16]uint32

// ciphers by the names of suites (RFC 2409 appendix A, RFC 3602 §5.3).
var ciphers = map[string]Transform{
	"des": {
		ClassEncryption: 1,
	},
	"3des":        {ClassEncryption: 5},
	"blowfish128": {ClassEncryption: 3, ClassKeyLength: 128},
	"cast128":     {ClassEncryption: 6, ClassKeyLength: 128},
	"aes128": {
		ClassEncryption: 7,
		ClassKeyLength:  128,
	},
	"aes192":      {ClassEncryption: 7, ClassKeyLength: 192},
	"aes256":      {ClassEncryption: 7, ClassKeyLength: 256},
	"camellia256": {ClassEncryption: 8, ClassKeyLength: 256},
}

// Offer writes a suite as a transform that lives for an hour. It is false for a suite that IKEv1
// cannot say.
func Offer(s suite.Proposal, auth uint16) (Transform, bool) {
	cipher, known := ciphers[s.Encryption]
	hash, hashed := digests[s.Integrity]
	group, grouped := suite.Find(s.Group)
	if !known || !hashed || !grouped {
		return nil, false
	}
	t := Transform{
		ClassHash:     uint32(hash.number),
		ClassAuth:     uint32(auth),
		ClassGroup:    uint32(group.Number),
		ClassLifeType: lifeSeconds,
		ClassLife:     3600,
	}
	for class, value := range cipher {
		t[class] = value
	}
	return t, true
}

// Says tells whether a transform is the one of another, lifetimes aside.
func (t Transform) Says(o Transform) bool {
	for _, class := range []uint16{ClassEncryption, ClassKeyLength, ClassHash, ClassAuth,
		ClassGroup} {
		if t[class] != o[class] {
			return false
		}
	}
	return true
}

// SA writes transforms as the one proposal of a payload (RFC 2408 §3.4 to §3.6).
func SA(transforms ...Transform) isakmp.Payload {
	list := make([]numbered, len(transforms))
	for i, t := range transforms {
		list[i] = numbered{transformIKE, t}
	}
	return association(protocolIKE, nil, list)
}

type numbered struct {
	id uint8
	Transform
}

// order is that of the attributes of a transform of IKE; those of ESP come as their numbers do.
var order = []uint16{
	ClassEncryption, ClassKeyLength, ClassHash, ClassGroup, ClassAuth, ClassLifeType, ClassLife,
}

var orderESP = []uint16{
	ClassESPLifeType, ClassESPLife, ClassESPGroup, ClassESPMode, ClassESPAuth, ClassESPKeyLength,
}

func association(protocol uint8, spi []byte, transforms []numbered) isakmp.Payload {
	var list []byte
	classes := order
	if protocol == protocolESP {
		classes = orderESP
	}
	for i, t := range transforms {
		var attributes []byte
		for _, class := range classes {
			switch value, ok := t.Transform[class]; {
			case !ok:
			case value > 0xFFFF:
				attributes = binary.BigEndian.AppendUint16(attributes, class)
				attributes = binary.BigEndian.AppendUint16(attributes, 4)
				attributes = binary.BigEndian.AppendUint32(attributes, value)
			default:
				attributes = binary.BigEndian.AppendUint16(attributes, short|class)
				attributes = binary.BigEndian.AppendUint16(attributes, uint16(value))
			}
		}
		more := byte(3)
		if i+1 == len(transforms) {
			more = 0
		}
		list = append(list, more, 0)
		list = binary.BigEndian.AppendUint16(list, uint16(8+len(attributes)))
		list = append(list, byte(i+1), t.id, 0, 0)
		list = append(list, attributes...)
	}
	b := binary.BigEndian.AppendUint32(nil, doiIPsec)
	b = binary.BigEndian.AppendUint32(b, onlyIdentity)
	b = append(b, 0, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(8+len(spi)+len(list)))
	b = append(b, 1, protocol, byte(len(spi)), byte(len(transforms)))
	b = append(b, spi...)
	return isakmp.Payload{Kind: KindSA, Body: append(b, list...)}
}

// DecodeSA reads the transforms of the proposals for IKE.
func DecodeSA(b []byte) ([]Transform, error) {
	var list []Transform
	err := proposals(b, func(protocol uint8, _ []byte, t numbered) {
		if protocol == protocolIKE && len(list) < mostNumbers {
			list = append(list, t.Transform)
		}
	})
	return list, err
}

// proposals goes through the transforms of an association.
func proposals(b []byte, each func(protocol uint8, spi []byte, t numbered)) error {
	if len(b) < 8 || binary.BigEndian.Uint32(b) != doiIPsec {
		return malformed("an association of %d bytes that is not for IPsec", len(b))
	}
	count := 0
	for b = b[8:]; len(b) > 0; count++ {
		if count == mostProposals || len(b) < 8 {
			return malformed(
				"a proposal of %d bytes, expected at least 8 and at most %d of them",
				len(b),
				mostProposals,
			)
		}
		n, spi, transforms := int(binary.BigEndian.Uint16(b[2:])), int(b[6]), int(b[7])
		if n < 8+spi || n > len(b) {
			return malformed("a proposal of %d bytes where %d are left", n, len(b))
		}
		rest := b[8+spi : n]
		for range transforms {
			t, used, err := decodeTransform(rest)
			if err != nil {
				return err
			}
			each(b[5], b[8:8+spi], numbered{rest[5], t})
			rest = rest[used:]
		}
		b = b[n:]
	}
	return nil
}

func decodeTransform(b []byte) (t Transform, used int, err error) {
	if len(b) < 8 {
		return nil, 0, malformed("a transform of %d bytes, expected at least 8", len(b))
	}
	n := int(binary.BigEndian.Uint16(b[2:]))
	if n < 8 || n > len(b) {
		return nil, 0, malformed("a transform of %d bytes where %d are left", n, len(b))
	}
	t = Transform{}
	for a := b[8:n]; len(a) > 0; {
		if len(a) < 4 {
			return nil, 0, malformed("an attribute of %d bytes, expected at least 4", len(a))
		}
		class, value := binary.BigEndian.Uint16(a), binary.BigEndian.Uint16(a[2:])
		if class&short != 0 {
			t[class&^short] = uint32(value)
			a = a[4:]
			continue
		}
		if int(value) > len(a)-4 || value > 4 {
			return nil, 0, malformed("an attribute of %d bytes where %d are left", value, len(a)-4)
		}
		number := uint32(0)
		for _, octet := range a[4 : 4+int(value)] {
			number = number<<8 | uint32(octet)
		}
		t[class] = number
		a = a[4+int(value):]
	}
	return t, n, nil
}

// Kinds of identities (RFC 2407 §4.6.2.1).
const (
	IDAddress4 = 1
	IDName     = 2
	IDMail     = 3
	IDAddress6 = 5
	IDDN       = 9
	IDKey      = 11
)

// Identification writes an identity that is not bound to a port (RFC 2407 §4.6.2).
func Identification(kind uint8, value []byte) isakmp.Payload {
	return isakmp.Payload{Kind: KindIdentification, Body: append([]byte{kind, 0, 0, 0}, value...)}
}

// DecodeIdentification reads an identity: its kind, and the value as people write it. A
// distinguished name and what is not text come as bytes.
func DecodeIdentification(b []byte) (kind uint8, value string, err error) {
	if len(b) < 4 {
		return 0, "", malformed("an identity of %d bytes, expected at least 4", len(b))
	}
	if kind = b[0]; kind == IDAddress4 || kind == IDAddress6 {
		a, ok := netip.AddrFromSlice(b[4:])
		if !ok {
			return 0, "", malformed("an address of %d bytes", len(b)-4)
		}
		return kind, a.String(), nil
	}
	return kind, string(b[4:]), nil
}

// Kinds of notifications (RFC 2408 §3.14.1).
const (
	InvalidExchange  = 7
	NoProposalChosen = 14
	InvalidID        = 18
	AuthFailed       = 24
)

// Notify writes a notification about IKE itself (RFC 2408 §3.14).
func Notify(kind uint16, data []byte) isakmp.Payload {
	b := binary.BigEndian.AppendUint32(nil, doiIPsec)
	b = append(b, protocolIKE, 0)
	return isakmp.Payload{
		Kind: KindNotify,
		Body: append(binary.BigEndian.AppendUint16(b, kind), data...),
	}
}

// Notification is the kind of the first notification of a message.
func (m Message) Notification() (kind uint16, ok bool, err error) {
	b, ok := m.Find(KindNotify)
	if !ok {
		return 0, false, nil
	}
	if len(b) < 8 || len(b) < 8+int(b[5]) {
		return 0, false, malformed("a notification of %d bytes", len(b))
	}
	return binary.BigEndian.Uint16(b[6:]), true, nil
}
