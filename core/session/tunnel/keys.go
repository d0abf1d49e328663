// Package tunnel is the client's side of a session of the TLS tunnel whose client files are .ovpn,
// once its control channel stands: exchange of keys, what the gateway pushes, and the data channel
// (draft-openvpn-wire-protocol-00). It opens no sockets, and randomness is handed in.
package tunnel

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"
)

// Sizes in bytes.
const (
	preMaster   = 48
	random      = 32
	masterSize  = 48
	keyMaterial = 256
	mostText    = 64 << 10
)

// Exporter is the label of the keys of the data channel where both ends export them from TLS; 256
// bytes are exported.
const (
	Exporter     = "EXPORTER-OpenVPN-datakeys"
	ExporterSize = keyMaterial
)

// method is the version of the exchange of keys, behind four zeros.
var method = []byte{0, 0, 0, 0, 2}

// Client is what a client says of itself.
type Client struct {
	Login, Password string
	Ciphers         []string
	Platform        string // win, mac, linux, android, ios
	Version         string
	TCP             bool
	Cipher, Digest  string // for gateways that negotiate no cipher
	// Old clients, before 2.6, do not export keys from TLS.
	Old bool
}

// Flags of IV_PROTO.
const (
	dataV2    = 1 << 1
	exportKey = 1 << 3
)

// Own is the random part of this end.
type Own [preMaster + 2*random]byte

// NewOwn draws it.
func NewOwn(from io.Reader) (o Own, err error) {
	_, err = io.ReadFull(from, o[:])
	return o, err
}

// Hello writes the client's half of the exchange.
func (c Client) Hello(o Own) []byte {
	b := append(bytes.Clone(method), o[:]...)
	transport := "UDPv4"
	if c.TCP {
		transport = "TCPv4_CLIENT"
	}
	b = text(
		b,
		fmt.Sprintf("V4,dev-type tun,link-mtu 1549,tun-mtu 1500,proto %s,cipher %s,auth %s,"+
			"keysize %d,key-method 2,tls-client", transport, c.Cipher, c.Digest, 256),
	)
	if c.Login == "" {
		b = append(b, 0, 0, 0, 0)
	} else {
		b = text(text(b, c.Login), c.Password)
	}
	flags := dataV2 | exportKey
	if c.Old {
		flags = dataV2
	}
	return text(b, fmt.Sprintf("IV_VER=%s\nIV_PLAT=%s\nIV_PROTO=%d\nIV_NCP=2\nIV_CIPHERS=%s\n",
		c.Version, c.Platform, flags, strings.Join(c.Ciphers, ":")))
}

func text(b []byte, s string) []byte {
	b = binary.BigEndian.AppendUint16(b, uint16(len(s)+1))
	return append(append(b, s...), 0)
}

// Theirs is the gateway's half.
type Theirs struct{ random1, random2 []byte }

// ErrMore says that a message is not whole yet.
var ErrMore = errors.New("the message is not whole yet")

// ReadTheirs reads the gateway's half of the exchange, and what stands behind it.
func ReadTheirs(b []byte) (t Theirs, rest []byte, err error) {
	const head = 5 + 2*random
	if len(b) < 5 {
		return t, b, ErrMore
	}
	if !bytes.Equal(b[:5], method) {
		return t, b, errors.New("the gateway does not exchange keys by method 2")
	}
	if len(b) < head+2 {
		return t, b, ErrMore
	}
	t = Theirs{bytes.Clone(b[5 : 5+random]), bytes.Clone(b[5+random : head])}
	rest = b[head:]
	// Its options, and where it says more, login, password and what it is; all of it as strings.
	n := int(binary.BigEndian.Uint16(rest))
	if n > mostText || len(rest) < 2+n {
		return t, b, ErrMore
	}
	rest = rest[2+n:]
	for len(rest) >= 2 {
		n := int(binary.BigEndian.Uint16(rest))
		if len(rest) < 2+n || n > 0 && rest[1+n] != 0 || n > 255 {
			break // a message of the control channel, in letters
		}
		rest = rest[2+n:]
	}
	return t, rest, nil
}

// prf10 is the pseudo-random function of TLS 1.0 (RFC 2246 §5).
func prf10(secret []byte, label string, seed []byte, n int) []byte {
	half := (len(secret) + 1) / 2
	full := append([]byte(label), seed...)
	a := stretch(md5.New, secret[:half], full, n)
	b := stretch(sha1.New, secret[len(secret)-half:], full, n)
	for i := range a {
		a[i] ^= b[i]
	}
	return a
}

func stretch(make func() hash.Hash, secret, seed []byte, n int) []byte {
	sum := func(parts ...[]byte) []byte {
		m := hmac.New(make, secret)
		for _, p := range parts {
			m.Write(p)
		}
		return m.Sum(nil)
	}
	var out []byte
	for a := sum(seed); len(out) < n; a = sum(a) {
		out = append(out, sum(a, seed)...)
	}
	return out[:n]
}

// Material derives the keys of the data channel from what both ends drew (draft §4.4): 256 bytes.
func Material(o Own, t Theirs, client, server uint64) []byte {
	master := prf10(o[:preMaster], "OpenVPN master secret",
		append(bytes.Clone(o[preMaster:preMaster+random]), t.random1...), masterSize)
	seed := append(bytes.Clone(o[preMaster+random:]), t.random2...)
	seed = binary.BigEndian.AppendUint64(seed, client)
	seed = binary.BigEndian.AppendUint64(seed, server)
	return prf10(master, "OpenVPN key expansion", seed, keyMaterial)
}
