// Package nameserver answers one-time names of a zone, so that whoever asks for them is seen: it is
// the resolver of the device that was given the name. There is nothing at the names; every answer
// is small, and nothing else is answered.
package nameserver

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/time/rate"
)

// Limits of answering.
const (
	answers  = 200 // a second, with all clients
	patience = 5 * time.Second
)

// Note is told who asked for a one-time name.
type Note func(ctx context.Context, name, from string) error

// Server answers a zone.
type Server struct {
	zone string
	note Note
	log  *slog.Logger
	rate *rate.Limiter
	// Texts are the TXT records at a name below the zone, without it; may be nil.
	Texts func(name string) []string

	udp net.PacketConn
	tcp net.Listener
}

// New listens for questions about a zone, by UDP and TCP.
func New(zone, listen string, note Note, log *slog.Logger) (*Server, error) {
	if _, ok := dns.IsDomainName(zone); !ok || strings.Trim(zone, ".") == "" {
		return nil, fmt.Errorf("found the zone %q, expected a domain name", zone)
	}
	s := &Server{
		zone: dns.CanonicalName(zone),
		note: note,
		log:  log,
		rate: rate.NewLimiter(answers, answers),
	}
	tries := 1
	if _, port, _ := net.SplitHostPort(listen); port == "0" {
		tries = 20 // what is free for UDP may be taken for TCP
	}
	var err error
	for range tries {
		if err = s.listen(listen); err == nil {
			return s, nil
		}
	}
	return nil, err
}

// listen takes one port for UDP and TCP.
func (s *Server) listen(address string) (err error) {
	if s.udp, err = net.ListenPacket("udp", address); err != nil {
		return err
	}
	if s.tcp, err = net.Listen("tcp", s.udp.LocalAddr().String()); err != nil {
		return errors.Join(err, s.udp.Close())
	}
	return nil
}

// Address is where the zone is answered.
func (s *Server) Address() string { return s.udp.LocalAddr().String() }

// Run answers until the context ends.
func (s *Server) Run(ctx context.Context) {
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) { s.answer(ctx, w, q) })
	servers := []*dns.Server{
		{PacketConn: s.udp, Handler: handler, UDPSize: 1232, ReadTimeout: patience},
		{
			Listener:      s.tcp,
			Handler:       handler,
			ReadTimeout:   patience,
			WriteTimeout:  patience,
			MaxTCPQueries: 16,
		},
	}
	var all sync.WaitGroup
	for _, one := range servers {
		started := make(chan struct{})
		one.NotifyStartedFunc = func() { close(started) }
		all.Go(func() {
			if err := one.ActivateAndServe(); err != nil && ctx.Err() == nil {
				s.log.Error("answering names", "error", err)
			}
		})
		all.Go(func() {
			<-ctx.Done()
			<-started
			_ = one.Shutdown()
		})
	}
	all.Wait()
}

// answer answers one question: with who is responsible for the zone, and that there is nothing at a
// name.
func (s *Server) answer(ctx context.Context, w dns.ResponseWriter, q *dns.Msg) {
	if !s.rate.Allow() {
		return
	}
	a := new(dns.Msg)
	a.SetReply(q)
	a.Compress = true
	name := ""
	if len(q.Question) == 1 {
		name = dns.CanonicalName(q.Question[0].Name)
	}
	switch {
	case q.Opcode != dns.OpcodeQuery || len(q.Question) != 1:
		a.Rcode = dns.RcodeNotImplemented
	case q.Question[0].Qclass != dns.ClassINET || !dns.IsSubDomain(s.zone, name):
		a.Rcode = dns.RcodeRefused
	default:
		a.Authoritative = true
		if s.texts(a, q.Question[0].Qtype, name) {
			break
		}
		s.fill(a, q.Question[0].Qtype, name == s.zone)
		s.see(ctx, w.RemoteAddr(), name)
	}
	if o := q.IsEdns0(); o != nil {
		a.SetEdns0(1232, false)
	}
	_ = w.WriteMsg(a) // who has gone needs no answer
}

// texts answers with the TXT records at a name, where there are some.
func (s *Server) texts(a *dns.Msg, kind uint16, name string) bool {
	if s.Texts == nil || kind != dns.TypeTXT {
		return false
	}
	list := s.Texts(strings.TrimSuffix(name, "."+s.zone))
	for _, text := range list {
		a.Answer = append(a.Answer, &dns.TXT{
			Hdr: dns.RR_Header{
				Name:   name,
				Rrtype: dns.TypeTXT,
				Class:  dns.ClassINET,
			}, Txt: []string{text},
		})
	}
	return len(list) > 0
}

// fill names who is responsible; caches keep nothing (RFC 2308 §5).
func (s *Server) fill(a *dns.Msg, kind uint16, apex bool) {
	soa := &dns.SOA{
		Hdr:     dns.RR_Header{Name: s.zone, Rrtype: dns.TypeSOA, Class: dns.ClassINET},
		Ns:      "ns." + s.zone,
		Mbox:    "hostmaster." + s.zone,
		Serial:  1,
		Refresh: 3600,
		Retry:   600,
		Expire:  86400,
	}
	switch {
	case apex && kind == dns.TypeSOA:
		a.Answer = append(a.Answer, soa)
	case apex && kind == dns.TypeNS:
		a.Answer = append(
			a.Answer,
			&dns.NS{
				Hdr: dns.RR_Header{Name: s.zone, Rrtype: dns.TypeNS, Class: dns.ClassINET},
				Ns:  "ns." + s.zone,
			},
		)
	default:
		a.Ns = append(a.Ns, soa)
	}
}

// see notes who asked for a one-time name, the label right below the zone.
func (s *Server) see(ctx context.Context, from net.Addr, name string) {
	below := strings.TrimSuffix(strings.TrimSuffix(name, s.zone), ".")
	label := below[strings.LastIndexByte(below, '.')+1:]
	host, _, err := net.SplitHostPort(from.String())
	if label == "" || err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if err := s.note(ctx, label, host); err != nil && ctx.Err() == nil {
		s.log.Error("noting a resolver", "error", err)
	}
}
