package reliable_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"net/http/httptest"
	"slices"
	"sync"
	"testing"
	"time"

	"wardicon/core/wire/tlstunnel"
	"wardicon/probe/reliable"
)

// line joins two ends, and spoils what goes over it by a rule: the number of a packet decides.
type line struct {
	mu   sync.Mutex
	n    int
	held [][]byte
	rule func(n int) string
	to   func([]byte)
}

func (l *line) send(b []byte) error {
	l.mu.Lock()
	l.n++
	verdict := l.rule(l.n)
	packet := slices.Clone(b)
	var out [][]byte
	switch verdict {
	case "lost":
	case "twice":
		out = [][]byte{packet, slices.Clone(packet)}
	case "late":
		l.held = append(l.held, packet)
	case "broken":
		packet[len(packet)-1] ^= 1
		out = [][]byte{packet}
	default:
		out = append([][]byte{packet}, l.held...)
		l.held = nil
	}
	l.mu.Unlock()
	for _, p := range out {
		l.to(p)
	}
	return nil
}

// TestBadLine speaks TLS between two ends of a channel over lines that lose, double, delay and
// break packets.
func TestBadLine(t *testing.T) {
	t.Parallel()
	web := httptest.NewTLSServer(nil) // for its certificate alone
	t.Cleanup(web.Close)
	key := make([]byte, tlstunnel.KeySize)
	_, _ = rand.Read(key)
	every := func(k int, what string) func(int) string {
		return func(n int) string {
			if n%k == 0 {
				return what
			}
			return ""
		}
	}
	for name, rule := range map[string]func(int) string{
		"good":  every(1<<30, ""),
		"lost":  every(4, "lost"),
		"twice": every(2, "twice"),
		"late": every(3,
			"late"),
		"broken": every(5, "broken"),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx, stop := context.WithTimeout(t.Context(), time.Minute)
			defer stop()
			there, back := &line{rule: rule}, &line{rule: rule}
			client, err := tlstunnel.Crypt(key, false)
			if err != nil {
				t.Fatal(err)
			}
			server, err := tlstunnel.Crypt(key, true)
			if err != nil {
				t.Fatal(err)
			}
			waits := slices.Repeat([]time.Duration{50 * time.Millisecond}, 20)
			a := reliable.New(
				ctx,
				reliable.Options{Wrapping: client, Session: 7, Send: there.send, Waits: waits},
			)
			b := reliable.New(
				ctx,
				reliable.Options{
					Wrapping: server,
					Session:  9,
					Server:   true,
					Send:     back.send,
					Waits:    waits,
				},
			)
			there.to, back.to = b.Feed, a.Feed
			message := bytes.Repeat([]byte("all hands to the quay "), 300)
			var both sync.WaitGroup
			both.Go(func() {
				if err := b.Begin(); err != nil {
					t.Errorf("server: %v", err)
					return
				}
				conn := tls.Server(b, web.TLS)
				got := make([]byte, len(message))
				if _, err := io.ReadFull(conn, got); err != nil || !bytes.Equal(got, message) {
					t.Errorf("the message did not come over: %v", err)
				}
				if _, err := conn.Write([]byte("aye")); err != nil {
					t.Errorf("server: %v", err)
				}
				// who reads on acknowledges what comes again
				go func() { _, _ = conn.Read(make([]byte, 1)) }()
			})
			if err := a.Begin(); err != nil {
				t.Fatalf("client: %v", err)
			}
			conn := tls.Client(a, &tls.Config{InsecureSkipVerify: true})
			if _, err := conn.Write(message); err != nil {
				t.Fatalf("client: %v", err)
			}
			answer := make([]byte, 3)
			if _, err := io.ReadFull(conn, answer); err != nil || string(answer) != "aye" {
				t.Errorf("%q (%v)", answer, err)
			}
			// who reads on acknowledges the last packet
			go func() { _, _ = conn.Read(make([]byte, 1)) }()
			both.Wait()
		})
	}
}

// TestBegin tells silence, noise and a dead line apart.
func TestBegin(t *testing.T) {
	t.Parallel()
	waits := []time.Duration{20 * time.Millisecond, 20 * time.Millisecond}
	gone := errors.New("the line is cut")
	var noise *reliable.NoiseError
	for name, test := range map[string]struct {
		came func(*reliable.Stream)
		want func(error) bool
	}{
		"silence": {func(*reliable.Stream) {}, func(err error) bool {
			return errors.Is(err, reliable.ErrSilent)
		}},
		"noise": {func(s *reliable.Stream) { s.Feed([]byte("what is that")) },
			func(err error) bool { return errors.As(err, &noise) && noise.Packets > 0 }},
		"cut": {func(s *reliable.Stream) { s.Fail(gone) },
			func(err error) bool { return errors.Is(err, gone) }},
	} {
		var s *reliable.Stream
		s = reliable.New(
			t.Context(),
			reliable.Options{
				Session: 7,
				Send:    func([]byte) error { test.came(s); return nil },
				Waits:   waits,
			},
		)
		if err := s.Begin(); !test.want(err) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestStranger is told to begin by somebody who never saw this end's reset: that begins nothing.
func TestStranger(t *testing.T) {
	s := reliable.New(t.Context(), reliable.Options{
		Session: 7, Send: func([]byte) error { return nil }, Waits: []time.Duration{time.Millisecond},
	})
	for _, p := range []tlstunnel.Packet{
		{Opcode: tlstunnel.ServerReset, Session: 9},
		{Opcode: tlstunnel.ServerReset, Session: 9, Acks: []uint32{0}, Remote: 8},
	} {
		b, err := tlstunnel.Wrapping{}.Seal(p, 1, 2)
		if err != nil {
			t.Fatal(err)
		}
		s.Feed(b)
	}
	if err := s.Begin(); err == nil || s.Remote() != 0 {
		t.Errorf("a stranger began session %d (%v)", s.Remote(), err)
	}
}
