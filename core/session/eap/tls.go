package eap

import (
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"time"
)

// Flags of a packet of EAP-TLS (RFC 5216 §3.1).
const (
	withLength = 0x80
	more       = 0x40
	start      = 0x20
)

const (
	piece       = 1000     // bytes of TLS in a packet
	mostMessage = 64 << 10 // bytes of one message of the gateway
)

// TLS signs in by a certificate (RFC 5216, RFC 9190). End it with Close.
type TLS struct {
	Config *tls.Config
	Server bool // this is a gateway's end

	conn    *tls.Conn
	pipe    *pipe
	waiting []byte // of this end, that were not sent yet
	came    []byte // of the gateway's message that is not whole yet
	begun   bool
	msk     []byte
	fault   error
}

// Type is its number.
func (m *TLS) Type() byte { return TypeTLS }

// MSK is exported from the connection (RFC 5216 §2.3, RFC 9190 §2.3).
func (m *TLS) MSK() []byte { return m.msk }

// Close gives up what the handshake may still wait for.
func (m *TLS) Close() {
	if m.pipe != nil {
		m.pipe.end()
	}
}

// State is what was negotiated; false before that.
func (m *TLS) State() (tls.ConnectionState, bool) {
	if m.conn == nil || !m.conn.ConnectionState().HandshakeComplete {
		return tls.ConnectionState{}, false
	}
	return m.conn.ConnectionState(), true
}

// Answer takes a piece of the gateway's side of TLS, and makes one of this side.
func (m *TLS) Answer(b []byte, _ byte) ([]byte, error) {
	if len(b) < 1 {
		return nil, errors.New("an empty message of EAP-TLS")
	}
	flags, data := b[0], b[1:]
	if flags&withLength != 0 {
		if len(data) < 4 || binary.BigEndian.Uint32(data) > mostMessage {
			return nil, errors.New("a message of EAP-TLS of a length that no handshake has")
		}
		data = data[4:]
	}
	if m.Server && m.conn == nil {
		m.begin(tls.Server)
		if _, _, err := m.pipe.settle(); err != nil { // it waits for the client
			return nil, err
		}
	}
	switch {
	case flags&start != 0 && m.conn == nil:
		m.begin(tls.Client)
	case m.conn == nil:
		return nil, errors.New("EAP-TLS that was not started")
	case len(data) == 0 && len(m.waiting) > 0:
		return m.next(), nil
	default:
		if m.came = append(m.came, data...); len(m.came) > mostMessage {
			return nil, errors.New("a message of EAP-TLS without an end")
		}
		if flags&more != 0 {
			return []byte{0}, nil // go on
		}
		m.pipe.feed(m.came)
		m.came = nil
	}
	out, ended, err := m.pipe.settle()
	if err != nil && m.fault == nil {
		m.fault = fmt.Errorf("EAP-TLS: %w", err)
	}
	if err != nil && len(out) == 0 {
		return nil, m.fault
	}
	if ended && err == nil && m.msk == nil {
		if err := m.export(); err != nil {
			return nil, err
		}
	}
	m.waiting = append(m.waiting, out...)
	return m.next(), nil
}

func (m *TLS) begin(end func(net.Conn, *tls.Config) *tls.Conn) {
	m.pipe = newPipe()
	m.conn = end(m.pipe, m.Config)
	go func() { m.pipe.finish(m.conn.Handshake()) }()
}

func (m *TLS) export() error {
	state := m.conn.ConnectionState()
	label, context, size := "client EAP encryption", []byte(nil), 128
	if state.Version == tls.VersionTLS13 {
		label, context = "EXPORTER_EAP_TLS_Key_Material", []byte{TypeTLS}
	}
	key, err := state.ExportKeyingMaterial(label, context, size)
	if err != nil {
		return fmt.Errorf("EAP-TLS: %w", err)
	}
	m.msk = key[:64]
	return nil
}

// Fault is why this end gave up, where it did: it tells the other end, which then ends the whole.
func (m *TLS) Fault() error { return m.fault }

// next is the next piece of what waits.
func (m *TLS) next() []byte {
	n := min(len(m.waiting), piece)
	out := []byte{0}
	if n < len(m.waiting) {
		out[0] = more
		if !m.begun {
			out[0] |= withLength
			out = binary.BigEndian.AppendUint32(out, uint32(len(m.waiting)))
		}
	}
	m.begun = n < len(m.waiting)
	out = append(out, m.waiting[:n]...)
	m.waiting = m.waiting[n:]
	return out
}

// pipe stands between TLS, which reads and writes as it likes, and EAP, in which the ends take
// turns: it tells when TLS has written all that it will before it has to read.
type pipe struct {
	in     chan []byte
	rest   []byte
	out    []byte    // belongs to whoever has the turn
	turn   chan turn // TLS waits for the gateway, or has ended
	closed chan struct{}
	last   turn // of the end that hands packets in
}

type turn struct {
	ended bool
	err   error
}

func newPipe() *pipe {
	return &pipe{in: make(chan []byte), turn: make(chan turn, 1), closed: make(chan struct{})}
}

func (p *pipe) feed(b []byte) {
	if p.last.ended {
		return
	}
	select {
	case p.in <- b:
	case <-p.closed:
	}
}

// settle waits until TLS has to read, or has ended.
func (p *pipe) settle() (out []byte, ended bool, err error) {
	if !p.last.ended {
		p.last = <-p.turn
	}
	out, p.out = p.out, nil
	return out, p.last.ended, p.last.err
}

// finish tells that TLS has ended. There is room: it had no turn, or would not have gone on.
func (p *pipe) finish(err error) { p.turn <- turn{true, err} }

func (p *pipe) end() {
	select {
	case <-p.closed:
	default:
		close(p.closed)
	}
}

func (p *pipe) Read(b []byte) (int, error) {
	if len(p.rest) == 0 {
		select {
		case p.turn <- turn{}:
		case <-p.closed:
			return 0, net.ErrClosed
		}
		select {
		case p.rest = <-p.in:
		case <-p.closed:
			return 0, net.ErrClosed
		}
	}
	n := copy(b, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}

func (p *pipe) Write(b []byte) (int, error) {
	p.out = append(p.out, b...)
	return len(b), nil
}

// place stands for the addresses of a pipe, which has none.
type place struct{}

func (place) Network() string { return "EAP" }
func (place) String() string  { return "EAP" }

// The rest of a net.Conn. Deadlines are those of whoever hands the packets in.
func (p *pipe) Close() error                     { p.end(); return nil }
func (p *pipe) LocalAddr() net.Addr              { return place{} }
func (p *pipe) RemoteAddr() net.Addr             { return place{} }
func (p *pipe) SetDeadline(time.Time) error      { return nil }
func (p *pipe) SetReadDeadline(time.Time) error  { return nil }
func (p *pipe) SetWriteDeadline(time.Time) error { return nil }
