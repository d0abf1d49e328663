package tunnel

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"
)

// The gateway's side of the exchange of keys, for simulated gateways.

// Greeting is what a client said of itself.
type Greeting struct {
	Own             Own
	Login, Password string
	Info            map[string]string // IV_…
}

// ReadHello reads the client's half of the exchange, and what stands behind it.
func ReadHello(b []byte) (g Greeting, rest []byte, err error) {
	head := len(method) + len(g.Own)
	if len(b) < head {
		return g, b, ErrMore
	}
	if !bytes.Equal(b[:len(method)], method) {
		return g, b, errors.New("the client does not exchange keys by method 2")
	}
	copy(g.Own[:], b[len(method):])
	rest = b[head:]
	var texts [4]string // options, login, password, information
	for i := range texts {
		if len(rest) < 2 || len(rest) < 2+int(binary.BigEndian.Uint16(rest)) {
			return g, b, ErrMore
		}
		n := int(binary.BigEndian.Uint16(rest))
		texts[i] = strings.TrimRight(string(rest[2:2+n]), "\x00")
		rest = rest[2+n:]
	}
	g.Login, g.Password, g.Info = texts[1], texts[2], map[string]string{}
	for line := range strings.SplitSeq(texts[3], "\n") {
		if key, value, ok := strings.Cut(line, "="); ok {
			g.Info[key] = value
		}
	}
	return g, rest, nil
}

// NewTheirs draws a gateway's half.
func NewTheirs(from io.Reader) (t Theirs, err error) {
	t = Theirs{make([]byte, random), make([]byte, random)}
	if _, err = io.ReadFull(from, t.random1); err == nil {
		_, err = io.ReadFull(from, t.random2)
	}
	return t, err
}

// Bytes writes a gateway's half.
func (t Theirs) Bytes() []byte {
	b := bytes.Join([][]byte{method, t.random1, t.random2}, nil)
	return text(b, "V4,dev-type tun,link-mtu 1549,tun-mtu 1500,key-method 2,tls-server")
}

// NewServerData is the gateway's end of the data channel.
func NewServerData(material []byte, name, digest string, p Pushed) (*Data, error) {
	d, err := NewData(material, name, digest, p)
	if err == nil {
		d.out, d.in = d.in, d.out
	}
	return d, err
}
