package ppp

import (
	"bytes"
	"crypto/rc4"
	"crypto/sha1"
	"encoding/binary"
	"errors"
)

// Compressed is the protocol of what MPPE encrypted (RFC 3078 §3).
const Compressed uint16 = 0x00FD

// Bits of the option of CCP by which MPPE is agreed on (RFC 3078 §2.1).
const (
	OptionMPPE    = 18
	MPPEStateless = 0x01000000
	MPPE128       = 0x00000040
	MPPE56        = 0x00000080
	MPPE40        = 0x00000020
)

// Bits of the header of an encrypted packet (RFC 3078 §3.1).
const (
	mppeFlushed   = 0x8000
	mppeEncrypted = 0x1000
	mppeCounted   = 0x0FFF
)

// mostAhead is how many packets may be missing between two that come.
const mostAhead = 256

// MPPE encrypts one direction of a link (RFC 3078, RFC 3079).
type MPPE struct {
	start, key []byte
	weak       []byte // that the key begins with, of 40 and 56 bits
	stateless  bool
	cipher     *rc4.Cipher
	count      uint16
	began      bool
	flush      bool // the next packet tells that the cipher began anew
}

// NewMPPE makes one direction of the start key of 16 bytes, for a strength that is one of the bits
// above.
func NewMPPE(start []byte, strength uint32, stateless bool) (*MPPE, error) {
	m := &MPPE{stateless: stateless, flush: true}
	size := 8
	switch strength {
	case MPPE128:
		size = 16
	case MPPE56:
		m.weak = []byte{0xD1}
	case MPPE40:
		m.weak = []byte{0xD1, 0x26, 0x9E}
	default:
		return nil, errors.New("a strength of MPPE that is not known")
	}
	if len(start) < size {
		return nil, errors.New("a start key of MPPE that is too short")
	}
	m.start = bytes.Clone(start[:size])
	m.key = m.mixed(m.start)
	return m, m.rekeyed()
}

// mixed makes a key of the start key and another (RFC 3079 §3.4 GetNewKeyFromSHA).
func (m *MPPE) mixed(key []byte) []byte {
	h := sha1.New()
	h.Write(m.start)
	h.Write(make([]byte, 40))
	h.Write(key)
	h.Write(bytes.Repeat([]byte{0xF2}, 40))
	return h.Sum(nil)[:len(m.start)]
}

func (m *MPPE) rekeyed() (err error) {
	copy(m.key, m.weak)
	m.cipher, err = rc4.NewCipher(m.key)
	return err
}

// change makes the next key (RFC 3078 §7.3).
func (m *MPPE) change() error {
	interim := m.mixed(m.key)
	c, err := rc4.NewCipher(interim)
	if err != nil {
		return err
	}
	m.key = make([]byte, len(interim))
	c.XORKeyStream(m.key, interim)
	return m.rekeyed()
}

// Seal encrypts a packet of a protocol, and gives back the payload of a frame of Compressed.
func (m *MPPE) Seal(protocol uint16, packet []byte) ([]byte, error) {
	if m.began {
		m.count = (m.count + 1) & mppeCounted
	}
	// Without a state every packet has a key of its own, else every 256th (RFC 3078 §7).
	if m.stateless && m.began || !m.stateless && m.count&0xFF == 0xFF {
		if err := m.change(); err != nil {
			return nil, err
		}
	}
	head := mppeEncrypted | m.count
	if m.stateless || m.flush || m.count&0xFF == 0xFF {
		head |= mppeFlushed
	}
	m.began, m.flush = true, false
	text := append(binary.BigEndian.AppendUint16(nil, protocol), packet...)
	out := append(binary.BigEndian.AppendUint16(nil, head), text...)
	m.cipher.XORKeyStream(out[2:], text)
	return out, nil
}

// ErrLost says that packets are missing, without which this one cannot be decrypted: the other end
// has to be told (RFC 3078 §8).
var ErrLost = errors.New("packets before this one are missing")

// Open decrypts the payload of a frame of Compressed. A packet that came before is refused.
func (m *MPPE) Open(b []byte) (protocol uint16, packet []byte, err error) {
	if len(b) < 3 {
		return 0, nil, errors.New("a packet of MPPE that is cut short")
	}
	head := binary.BigEndian.Uint16(b)
	count := head & mppeCounted
	if head&mppeEncrypted == 0 {
		return 0, nil, errors.New("a packet that is not encrypted")
	}
	want := m.count
	if m.began {
		want = (m.count + 1) & mppeCounted
	}
	ahead := (count - want) & mppeCounted
	if ahead > mostAhead {
		return 0, nil, errors.New("a packet of MPPE that came before")
	}
	switch {
	case m.stateless:
		for changes := ahead; ; changes-- {
			if m.began {
				if err := m.change(); err != nil {
					return 0, nil, err
				}
			}
			m.began = true
			if changes == 0 {
				break
			}
		}
	case ahead > 0 && head&mppeFlushed == 0:
		return 0, nil, ErrLost
	default:
		// a key for each 256th packet that is between
		for i := uint16(0); i <= ahead; i++ {
			if (want+i)&0xFF == 0xFF {
				if err := m.change(); err != nil {
					return 0, nil, err
				}
			}
		}
		if head&mppeFlushed != 0 {
			if err := m.rekeyed(); err != nil {
				return 0, nil, err
			}
		}
	}
	m.began, m.count = true, count
	text := make([]byte, len(b)-2)
	m.cipher.XORKeyStream(text, b[2:])
	return protocolOf(text)
}

// Flush has the next packet tell that the cipher begins anew, as the other end asked for
// (RFC 3078 §8).
func (m *MPPE) Flush() error {
	m.flush = true
	return m.rekeyed()
}
