// Package reliable makes a stream of the control channel of the TLS tunnel: numbered packets that
// are sent until they are acknowledged, wrapped by a key that both ends have. It knows no sockets:
// packets are fed in and sent by who has.
package reliable

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"time"

	"wardicon/core/wire/tlstunnel"
)

// Limits of one channel.
const (
	mostAhead = 32   // packets that are kept before their turn, and numbers that are owed
	mostAcks  = 8    // acknowledgements in a packet
	chunk     = 1000 // bytes of the stream in a packet
	readWait  = 5 * time.Second
)

// ErrSilent says that the other end acknowledged nothing.
var ErrSilent = errors.New("no answer")

// NoiseError says that packets came, but none that could be opened.
type NoiseError struct{ Packets int }

func (e *NoiseError) Error() string {
	return fmt.Sprintf(
		"%d packets came that are not of this protocol, or not wrapped with this key",
		e.Packets,
	)
}

// Options are what a channel needs of its surroundings.
type Options struct {
	Wrapping tlstunnel.Wrapping
	Session  uint64 // own, not 0
	Server   bool
	Send     func([]byte) error
	Turn     func(context.Context) error // waits until a packet may be sent; nil does not
	// how long an acknowledgement is waited for before a packet is sent again
	Waits []time.Duration
}

// Stream is the channel as a net.Conn for TLS. Its deadlines are those of its context.
type Stream struct {
	Options
	ctx context.Context

	mu       sync.Mutex
	sealed   uint32 // packets that were wrapped
	sent     uint32 // numbered packets that were sent
	remote   uint64
	greeted  bool
	acked    map[uint32]bool
	owed     []uint32 // numbers that are to be acknowledged
	received map[uint32][]byte
	next     uint32 // the number that is read next
	rest     []byte
	fault    error
	noise    int

	news chan struct{} // something came
}

// New makes a channel.
func New(ctx context.Context, o Options) *Stream {
	return &Stream{
		Options:  o,
		ctx:      ctx,
		acked:    map[uint32]bool{},
		received: map[uint32][]byte{},
		news:     make(chan struct{}, 1),
	}
}

func (s *Stream) wake() {
	select {
	case s.news <- struct{}{}:
	default:
	}
}

// Fail ends the channel: nothing more will come.
func (s *Stream) Fail(err error) {
	s.mu.Lock()
	s.fault = err
	s.mu.Unlock()
	s.wake()
}

// Feed takes a packet in.
func (s *Stream) Feed(b []byte) {
	s.mu.Lock()
	p, err := s.Wrapping.Open(b)
	switch {
	case err != nil, s.greeted && p.Session != s.remote,
		!s.greeted && (!s.greets(p.Opcode) || !s.Server && p.Remote != s.Session):
		s.noise++
	default:
		s.take(p)
	}
	s.mu.Unlock()
	s.wake()
}

// greets tells whether a packet of a kind begins the session for this end.
func (s *Stream) greets(o tlstunnel.Opcode) bool {
	if s.Server {
		return o == tlstunnel.ClientReset || o == tlstunnel.ClientResetV3
	}
	return o == tlstunnel.ServerReset
}

func (s *Stream) take(p tlstunnel.Packet) {
	if s.greets(p.Opcode) {
		s.remote, s.greeted = p.Session, true
	}
	if p.Remote == s.Session {
		for _, id := range p.Acks {
			s.acked[id] = true
		}
	}
	if p.Opcode == tlstunnel.Ack || p.ID >= s.next+mostAhead {
		return
	}
	if len(s.owed) < mostAhead {
		s.owed = append(s.owed, p.ID)
	}
	if _, known := s.received[p.ID]; !known && p.ID >= s.next {
		s.received[p.ID] = p.Payload
	}
}

// write wraps a packet and sends it, with what is owed.
func (s *Stream) write(p tlstunnel.Packet) error {
	if s.Turn != nil {
		if err := s.Turn(s.ctx); err != nil {
			return err
		}
	}
	s.mu.Lock()
	p.Session = s.Session
	if n := min(len(s.owed), mostAcks); n > 0 {
		p.Acks, p.Remote, s.owed = s.owed[:n:n], s.remote, s.owed[n:]
	}
	s.sealed++
	b, err := s.Wrapping.Seal(p, s.sealed, uint32(time.Now().Unix()))
	s.mu.Unlock()
	if err != nil {
		return err
	}
	return s.Send(b)
}

// until waits for something to become true.
func (s *Stream) until(wait time.Duration, met func() bool) error {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		s.mu.Lock()
		ok, fault := met(), s.fault
		s.mu.Unlock()
		switch {
		case ok:
			return nil
		case fault != nil:
			return fault
		}
		select {
		case <-s.news:
		case <-timer.C:
			return os.ErrDeadlineExceeded
		case <-s.ctx.Done():
			return s.ctx.Err()
		}
	}
}

// deliver sends a numbered packet until it is acknowledged.
func (s *Stream) deliver(p tlstunnel.Packet) error {
	p.ID = s.sent
	s.sent++
	for _, wait := range s.Waits {
		if err := s.write(p); err != nil {
			return err
		}
		if err := s.confirmed(p.ID, wait); !errors.Is(err, os.ErrDeadlineExceeded) {
			return err
		}
	}
	return ErrSilent
}

// confirmed waits until a packet is acknowledged. What comes meanwhile is acknowledged, too: the
// other end may be waiting for that before it goes on.
func (s *Stream) confirmed(id uint32, wait time.Duration) error {
	end := time.Now().Add(wait)
	for {
		var acked bool
		if err := s.until(
			time.Until(end),
			func() bool { acked = s.acked[id]; return acked || len(s.owed) > 0 },
		); err != nil ||
			acked {
			return err
		}
		if err := s.write(tlstunnel.Packet{Opcode: tlstunnel.Ack}); err != nil {
			return err
		}
	}
}

// Begin begins the session with a reset: a client's, or a server's answer to the one that was fed
// in.
func (s *Stream) Begin() error {
	kind := s.Wrapping.Reset()
	if s.Server {
		kind = tlstunnel.ServerReset
	}
	err := s.deliver(tlstunnel.Packet{Opcode: kind})
	s.mu.Lock()
	defer s.mu.Unlock()
	if errors.Is(err, ErrSilent) && s.noise > 0 {
		return &NoiseError{s.noise}
	}
	delete(s.received, 0)
	s.next = 1
	return err
}

// Remote is the session of the other end, once it has begun.
func (s *Stream) Remote() uint64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.remote
}

// Write sends a part of the stream, and waits for acknowledgements.
func (s *Stream) Write(b []byte) (int, error) {
	done := 0
	for len(b) > 0 {
		n := min(len(b), chunk)
		if err := s.deliver(
			tlstunnel.Packet{Opcode: tlstunnel.Control, Payload: b[:n]},
		); err != nil {
			return done, err
		}
		done, b = done+n, b[n:]
	}
	return done, nil
}

// Read reads the next part of the stream, and acknowledges what it is made of. While it waits it
// acknowledges what comes again: an acknowledgement was lost then.
func (s *Stream) Read(b []byte) (int, error) {
	end := time.Now().Add(readWait)
	for {
		s.mu.Lock()
		if payload, ok := s.received[s.next]; len(s.rest) == 0 && ok {
			delete(s.received, s.next)
			s.next++
			s.rest = payload
		}
		n, owed := copy(b, s.rest), len(s.owed)
		s.rest = s.rest[n:]
		_, more := s.received[s.next]
		s.mu.Unlock()
		if n > 0 {
			return n, nil
		}
		if owed > 0 && !more {
			if err := s.write(tlstunnel.Packet{Opcode: tlstunnel.Ack}); err != nil {
				return 0, err
			}
		}
		if err := s.until(
			time.Until(end),
			func() bool { _, ok := s.received[s.next]; return ok || len(s.owed) > 0 },
		); err != nil {
			return 0, err
		}
	}
}

// place stands for the addresses of a channel, which has none.
type place struct{}

func (place) Network() string { return "control channel" }
func (place) String() string  { return "control channel" }

// The rest of a net.Conn.
func (s *Stream) Close() error                     { return nil }
func (s *Stream) LocalAddr() net.Addr              { return place{} }
func (s *Stream) RemoteAddr() net.Addr             { return place{} }
func (s *Stream) SetDeadline(time.Time) error      { return nil }
func (s *Stream) SetReadDeadline(time.Time) error  { return nil }
func (s *Stream) SetWriteDeadline(time.Time) error { return nil }
