package probe_test

import (
	"crypto/tls"
	"encoding/binary"
	"net"
	"net/http/httptest"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/core/drift"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
	"wardicon/probe"
)

// TestHostile asks whoever means harm: floods, endless and dripping answers, lengths that lie. Each
// question ends, in bounded time and memory, and says that this is not the protocol.
func TestHostile(t *testing.T) {
	t.Parallel()
	web := httptest.NewTLSServer(nil) // for its certificate alone
	t.Cleanup(web.Close)
	secured := web.TLS
	long := strings.Repeat("x", 64<<10)
	tests := []struct {
		name  string
		serve func(net.Conn)
		ask   func(at netip.AddrPort) drift.Answer
	}{
		{
			"lengths that lie by PPTP",
			func(c net.Conn) { _, _ = c.Write([]byte{0xFF, 0xFF}); drip(c, 0) },
			pptp(t),
		},
		{
			"PPTP drop by drop",
			func(c net.Conn) { _, _ = c.Write([]byte{0, 156}); drip(c, 0) },
			pptp(t),
		},
		{"TLS drop by drop", func(c net.Conn) { drip(c, 22) }, sstp(t)},
		{"an endless header", func(c net.Conn) {
			s := tls.Server(c, secured)
			for {
				if _, err := s.Write([]byte("HTTP/1.1 200 OK\r\nX: " + long)); err != nil {
					return
				}
			}
		}, sstp(t)},
		{"a header drop by drop", func(c net.Conn) { drip(tls.Server(c, secured), 'H') }, sstp(t)},
		{"an SSTP packet that is none", func(c net.Conn) {
			s := tls.Server(c, secured)
			_, _ = s.Write(
				[]byte(
					"HTTP/1.1 200 OK\r\nContent-Length: " +
						"18446744073709551615\r\n\r\n\x10\x01\x0f\xff",
				),
			)
			drip(s, 0)
		}, sstp(t)},
		{
			"a packet of the tunnel too long by TCP",
			func(c net.Conn) { _, _ = c.Write([]byte{0xFF, 0xFF}); drip(c, 0) },
			func(at netip.AddrPort) drift.Answer {
				return probe.New().Tunnel(t.Context(), at, vpn.TCP, tlstunnel.Wrapping{}, "")
			},
		},
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	begin := time.Now()
	var all sync.WaitGroup
	for _, test := range tests {
		at := listen(t, test.serve)
		all.Go(func() {
			if a := test.ask(at); a.State == drift.Answered || a.Fault == "" {
				t.Errorf("%s: %s", test.name, told(a))
			}
		})
	}
	all.Go(func() {
		a := probe.New().IKEv2(t.Context(), flood(t), false, suites(t, asked...))
		if a.State != drift.Faulty {
			t.Errorf("a flood: %s", told(a))
		}
	})
	all.Wait()
	runtime.GC()
	runtime.ReadMemStats(&after)
	if took := time.Since(begin); took > time.Minute {
		t.Errorf("it took %v", took)
	}
	if after.HeapAlloc > before.HeapAlloc+64<<20 {
		t.Errorf("%d bytes are held", after.HeapAlloc-before.HeapAlloc)
	}
}

func pptp(t *testing.T) func(netip.AddrPort) drift.Answer {
	return func(at netip.AddrPort) drift.Answer { return probe.New().PPTP(t.Context(), at) }
}

func sstp(t *testing.T) func(netip.AddrPort) drift.Answer {
	return func(at netip.AddrPort) drift.Answer {
		return probe.New().SSTP(t.Context(),
			at, "norrvik.example")
	}
}

// drip writes a byte ten times a second until nobody reads.
func drip(c net.Conn, b byte) {
	for {
		if _, err := c.Write([]byte{b}); err != nil {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
}

func listen(t *testing.T, serve func(net.Conn)) netip.AddrPort {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = conn.Close() }()
				serve(conn)
			}()
		}
	}()
	return listener.Addr().(*net.TCPAddr).AddrPort()
}

// flood answers each packet with a thousand that begin as an answer would, and lie about their
// length.
func flood(t *testing.T) netip.AddrPort {
	t.Helper()
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	go func() {
		b := make([]byte, 64<<10)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(b)
			if err != nil {
				return
			}
			lie := append([]byte{}, b[:n]...)
			binary.BigEndian.PutUint32(lie[24:], 0xFFFFFFFF)
			for range 1000 {
				_, _ = conn.WriteToUDPAddrPort(lie, from)
			}
		}
	}()
	return conn.LocalAddr().(*net.UDPAddr).AddrPort()
}
