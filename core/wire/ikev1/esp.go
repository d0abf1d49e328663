package ikev1

import (
	"encoding/binary"
	"net/netip"

	"wardicon/core/suite"
	"wardicon/core/wire/isakmp"
)

// Classes of attributes of a transform for ESP (RFC 2407 §4.5).
const (
	ClassESPLifeType  = 1
	ClassESPLife      = 2
	ClassESPGroup     = 3
	ClassESPMode      = 4
	ClassESPAuth      = 5
	ClassESPKeyLength = 6
)

// Modes of encapsulation (RFC 2407 §4.5, RFC 3947 §5.1).
const (
	ModeTunnel       = 1
	ModeTransport    = 2
	ModeUDPTunnel    = 3
	ModeUDPTransport = 4
)

// espCiphers are the ciphers of ESP by the names of suites (RFC 2407 §4.4.4, RFC 3602 §5.3, RFC
// 4106 §8), with the length of their keys in bits where it is said.
var espCiphers = map[string]struct {
	id   uint8
	bits uint32
}{
	"3des": {3, 0}, "aes128": {12, 128}, "aes192": {12, 192}, "aes256": {12, 256},
	"aes128gcm16": {20, 128}, "aes256gcm16": {20, 256},
}

// espDigests are the authentication algorithms (RFC 2407 §4.5, RFC 4868 §3).
var espDigests = map[string]uint32{"md5": 1, "sha1": 2, "sha256": 5, "sha384": 6, "sha512": 7}

// ESP is one choice for ESP.
type ESP struct {
	ID uint8 // of the cipher
	Transform
}

// OfferESP writes a suite as a transform of ESP in a mode that lives for an hour. A group in it
// asks for a key exchange of its own. It is false for a suite that IKEv1 cannot say.
func OfferESP(s suite.Proposal, mode uint32) (ESP, bool) {
	c, known := espCiphers[s.Encryption]
	auth, hashed := espDigests[s.Integrity]
	if !known || !hashed && s.Integrity != "" {
		return ESP{}, false
	}
	t := Transform{ClassESPLifeType: lifeSeconds, ClassESPLife: 3600, ClassESPMode: mode}
	if hashed {
		t[ClassESPAuth] = auth
	}
	if c.bits > 0 {
		t[ClassESPKeyLength] = c.bits
	}
	if s.Group != "" {
		g, ok := suite.Find(s.Group)
		if !ok {
			return ESP{}, false
		}
		t[ClassESPGroup] = uint32(g.Number)
	}
	return ESP{c.id, t}, true
}

// Says tells whether a transform is the one of another, lifetimes aside.
func (e ESP) Says(o ESP) bool {
	for _, class := range []uint16{ClassESPGroup, ClassESPMode, ClassESPAuth, ClassESPKeyLength} {
		if e.Transform[class] != o.Transform[class] {
			return false
		}
	}
	return e.ID == o.ID
}

// SAESP writes transforms as the one proposal of a payload, for the association that this end names
// spi, of four bytes.
func SAESP(spi []byte, transforms ...ESP) isakmp.Payload {
	list := make([]numbered, len(transforms))
	for i, t := range transforms {
		list[i] = numbered{t.ID, t.Transform}
	}
	return association(protocolESP, spi, list)
}

// DecodeESP reads the transforms for ESP, and the name of the other end's association.
func DecodeESP(b []byte) (spi []byte, list []ESP, err error) {
	err = proposals(b, func(protocol uint8, name []byte, t numbered) {
		if protocol == protocolESP && len(list) < mostNumbers {
			spi, list = name, append(list, ESP{t.id, t.Transform})
		}
	})
	if err == nil && (len(list) == 0 || len(spi) != 4) {
		err = malformed("an association without ESP")
	}
	return spi, list, err
}

// Selector writes an address with a protocol and a port as an identity of quick mode (RFC 2407
// §4.6.2).
func Selector(a netip.Addr, protocol uint8, port uint16) isakmp.Payload {
	kind := byte(IDAddress4)
	if a.Is6() {
		kind = IDAddress6
	}
	b := binary.BigEndian.AppendUint16([]byte{kind, protocol}, port)
	return isakmp.Payload{Kind: KindIdentification, Body: append(b, a.AsSlice()...)}
}

// Original writes an address as an end has it itself, for transport mode behind NAT (RFC 3947
// §5.2).
func Original(a netip.Addr) isakmp.Payload {
	kind := byte(IDAddress4)
	if a.Is6() {
		kind = IDAddress6
	}
	return isakmp.Payload{Kind: KindNATOA, Body: append([]byte{kind, 0, 0, 0}, a.AsSlice()...)}
}

// Delete writes that associations are over (RFC 2408 §3.15): of ESP by a name of four bytes, of IKE
// by both cookies.
func Delete(spi []byte) isakmp.Payload {
	protocol := byte(protocolESP)
	if len(spi) == 16 {
		protocol = protocolIKE
	}
	b := binary.BigEndian.AppendUint32(nil, doiIPsec)
	return isakmp.Payload{Kind: KindDelete, Body: append(append(b, protocol, byte(len(spi)), 0, 1),
		spi...)}
}
