package nameserver_test

import (
	"context"
	"log/slog"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/miekg/dns"

	"wardicon/nameserver"
)

// TestAnswers asks for names in and out of the zone, by UDP and TCP: who asks for a one-time name
// is noted, and nothing else is answered.
func TestAnswers(t *testing.T) {
	var mutex sync.Mutex
	var seen []string
	s, err := nameserver.New(
		"look.skerryline.example",
		"127.0.0.1:0",
		func(_ context.Context, name, from string) error {
			mutex.Lock()
			defer mutex.Unlock()
			seen = append(seen, name+" from "+from)
			return nil
		},
		slog.New(slog.DiscardHandler),
	)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { s.Run(ctx) })
	t.Cleanup(func() { stop(); running.Wait() })
	for _, test := range []struct {
		name          string
		kind          uint16
		code          int
		answers, auth int
		noted         string
	}{
		{"abcdefghij.look.skerryline.example.", dns.TypeA, dns.RcodeSuccess, 0, 1,
			"abcdefghij from 127.0.0.1"},
		{"ABCdefghij.LOOK.skerryline.example.", dns.TypeAAAA, dns.RcodeSuccess, 0, 1,
			"abcdefghij from 127.0.0.1"},
		{"deeper.abcdefghij.look.skerryline.example.", dns.TypeHTTPS, dns.RcodeSuccess, 0, 1,
			"abcdefghij from 127.0.0.1"},
		{"abcdefghij.look.skerryline.example.", dns.TypeANY, dns.RcodeSuccess, 0, 1,
			"abcdefghij from 127.0.0.1"},
		{"look.skerryline.example.", dns.TypeSOA, dns.RcodeSuccess, 1, 0, ""},
		{"look.skerryline.example.", dns.TypeNS, dns.RcodeSuccess, 1, 0, ""},
		{"look.skerryline.example.", dns.TypeA, dns.RcodeSuccess, 0, 1, ""},
		{"skerryline.example.", dns.TypeA, dns.RcodeRefused, 0, 0, ""},
		{"outlook.skerryline.example.", dns.TypeA, dns.RcodeRefused, 0, 0, ""},
		{".", dns.TypeNS, dns.RcodeRefused, 0, 0, ""},
	} {
		for _, by := range []string{"udp", "tcp"} {
			mutex.Lock()
			seen = nil
			mutex.Unlock()
			question := new(dns.Msg)
			question.SetQuestion(test.name, test.kind)
			question.SetEdns0(1232, true)
			answer, _, err := (&dns.Client{Net: by}).ExchangeContext(
				t.Context(),
				question,
				s.Address(),
			)
			if err != nil {
				t.Fatalf("%s by %s: %v", test.name, by, err)
			}
			if answer.Rcode != test.code || len(answer.Answer) != test.answers ||
				len(answer.Ns) != test.auth ||
				answer.Authoritative != (test.code == dns.RcodeSuccess) ||
				answer.RecursionAvailable {
				t.Errorf("%s by %s: %v", test.name, by, answer)
			}
			if size := answer.Len(); size > 3*question.Len()+60 {
				t.Errorf("%s: %d bytes are answered to %d", test.name, size, question.Len())
			}
			mutex.Lock()
			if got := strings.Join(seen, ", "); got != test.noted {
				t.Errorf("%s by %s: noted %q, expected %q", test.name, by, got, test.noted)
			}
			mutex.Unlock()
		}
	}

	// What is no question is not answered, or refused, and does not end the server.
	conn, err := net.Dial("udp", s.Address())
	if err != nil {
		t.Fatal(err)
	}
	for _, junk := range [][]byte{{}, {1}, slices.Repeat([]byte{0xFF}, 600)} {
		if _, err := conn.Write(junk); err != nil {
			t.Fatal(err)
		}
	}
	_ = conn.Close()
	update := new(dns.Msg)
	update.SetUpdate("look.skerryline.example.")
	if answer, _, err := new(
		dns.Client,
	).ExchangeContext(t.Context(), update, s.Address()); err != nil ||
		answer.Rcode != dns.RcodeNotImplemented {
		t.Errorf("an update: %v (%v)", answer, err)
	}
	for _, zone := range []string{"", ".", strings.Repeat("a", 70) + ".example"} {
		if _, err := nameserver.New(zone, "127.0.0.1:0", nil, nil); err == nil {
			t.Errorf("%q was taken for a zone", zone)
		}
	}
}
