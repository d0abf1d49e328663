package simulate

import (
	"errors"
	"net"
	"net/netip"
	"strings"
	"sync"

	"github.com/miekg/dns"
)

// NameServer is a simulator for a name server that knows some names, on loopback.
type NameServer struct {
	Address string

	server *dns.Server
	done   sync.WaitGroup
}

// NewNameServer starts one; Close ends it. What it does not know does not exist.
func NewNameServer(names map[string][]string) (*NameServer, error) {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	started := make(chan struct{})
	n := &NameServer{Address: conn.LocalAddr().String()}
	n.server = &dns.Server{
		PacketConn:        conn,
		NotifyStartedFunc: func() { close(started) },
		Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
			a := new(dns.Msg)
			a.SetReply(q)
			a.Authoritative = true
			for _, question := range q.Question {
				addresses, known := names[strings.TrimSuffix(strings.ToLower(question.Name), ".")]
				if !known {
					a.Rcode = dns.RcodeNameError
				}
				for _, text := range addresses {
					at, err := netip.ParseAddr(text)
					header := dns.RR_Header{
						Name:   question.Name,
						Class:  dns.ClassINET,
						Rrtype: question.Qtype,
						Ttl:    60,
					}
					switch {
					case err != nil:
					case question.Qtype == dns.TypeA && at.Is4():
						a.Answer = append(a.Answer, &dns.A{Hdr: header, A: at.AsSlice()})
					case question.Qtype == dns.TypeAAAA && at.Is6():
						a.Answer = append(a.Answer, &dns.AAAA{Hdr: header, AAAA: at.AsSlice()})
					}
				}
			}
			_ = w.WriteMsg(a)
		}),
	}
	n.done.Go(func() { _ = n.server.ActivateAndServe() })
	<-started
	return n, nil
}

// Close ends it.
func (n *NameServer) Close() error {
	err := n.server.Shutdown()
	n.done.Wait()
	return errors.Join(err)
}
