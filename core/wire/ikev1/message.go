// Package ikev1 encodes and decodes the messages of IKE version 1 and their payloads (RFC 2408 §3,
// RFC 2409 §5, RFC 3947 §3). It opens no sockets, and has no keys.
package ikev1

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"hash"
	"net/netip"

	"wardicon/core/wire"
	"wardicon/core/wire/isakmp"
)

// Kinds of payloads (RFC 2408 §3.1, RFC 3947 §3.2).
const (
	KindSA             = 1
	KindKE             = 4
	KindIdentification = 5
	KindCert           = 6
	KindCertRequest    = 7
	KindHash           = 8
	KindSignature      = 9
	KindNonce          = 10
	KindNotify         = 11
	KindDelete         = 12
	KindVendor         = 13
	KindNATD           = 20
	KindNATOA          = 21
)

// Exchange is the kind of an exchange (RFC 2408 §3.1).
type Exchange uint8

// The exchanges.
const (
	Main          Exchange = 2
	Aggressive    Exchange = 4
	Informational Exchange = 5
	Quick         Exchange = 32 // RFC 2409 §5.5
)

const (
	version = 1
	// FlagEncrypted is set where the payloads are encrypted (RFC 2408 §3.1).
	FlagEncrypted = 0x01
)

// Message is an IKE message of version 1.
type Message struct {
	InitiatorCookie, ResponderCookie uint64
	Exchange                         Exchange
	Encrypted                        bool // its payloads cannot be read
	ID                               uint32
	Payloads                         []isakmp.Payload
}

func malformed(format string, args ...any) error { return wire.Malformed("IKEv1", format, args...) }

// Encode writes the message. A payload of more than 65,531 bytes is refused.
func (m Message) Encode() ([]byte, error) {
	return isakmp.Encode(
		isakmp.Header{
			InitiatorSPI: m.InitiatorCookie,
			ResponderSPI: m.ResponderCookie,
			Major:        version,
			Exchange:     uint8(m.Exchange),
			ID:           m.ID,
		},
		m.Payloads,
	)
}

// Decode reads a message. Bodies of payloads point into b; an encrypted message has none.
func Decode(b []byte) (m Message, err error) {
	h, err := isakmp.DecodeHeader(b)
	if err != nil {
		return m, err
	}
	m = Message{
		InitiatorCookie: h.InitiatorSPI,
		ResponderCookie: h.ResponderSPI,
		Exchange:        Exchange(h.Exchange),
		ID:              h.ID,
	}
	if h.Major == version && h.Flags&FlagEncrypted != 0 {
		m.Encrypted = true
		return m, nil
	}
	_, m.Payloads, err = isakmp.Decode(b, version)
	return m, err
}

// Find is the body of the first payload of a kind.
func (m Message) Find(kind uint8) ([]byte, bool) { return isakmp.Find(m.Payloads, kind) }

// Vendor identifiers that say what an end can do.
var (
	VendorNATT = digest("RFC 3947") // RFC 3947 §3.1
	VendorDPD  = []byte{
		0xaf,
		0xca,
		0xd7,
		0x13,
		0x68,
		0xa1,
		0xf1,
		0xc9,
		0x6b,
		0x86,
		0x96,
		0xfc,
		0x77,
		0x57,
		0x01,
		0x00,
	}
	VendorXAUTH         = []byte{0x09, 0x00, 0x26, 0x89, 0xdf, 0xd6, 0xb7, 0x12}
	VendorFragmentation = digest("FRAGMENTATION")
)

func digest(text string) []byte {
	sum := md5.Sum([]byte(text))
	return sum[:]
}

// Digests of IKEv1 by the names of suites (RFC 2409 appendix A, IANA "Hash Algorithm").
var digests = map[string]struct {
	number uint16
	make   func() hash.Hash
}{
	"md5": {
		1,
		md5.New,
	},
	"sha1":   {2, sha1.New},
	"sha256": {4, sha256.New},
	"sha384": {5, sha512.New384},
	"sha512": {6, sha512.New},
}

// NATD is what one end says of an address as it sees it, by the digest that was agreed on (RFC 3947
// §3.2). It is nil for a digest that is not known.
func NATD(name string, initiator, responder uint64, at netip.AddrPort) []byte {
	d, ok := digests[name]
	if !ok {
		return nil
	}
	h := d.make()
	b := binary.BigEndian.AppendUint64(nil, initiator)
	b = binary.BigEndian.AppendUint64(b, responder)
	b = append(b, at.Addr().Unmap().AsSlice()...)
	h.Write(binary.BigEndian.AppendUint16(b, at.Port()))
	return h.Sum(nil)
}
