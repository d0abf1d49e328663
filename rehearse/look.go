package rehearse

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"wardicon/core/inside"
	"wardicon/core/rehearsal"
)

// carrier is a tunnel that stands.
type carrier interface {
	send(packet []byte) error
	receive(until time.Time) ([]byte, error)
}

// look looks at what is inside: a host, a name, a service, and how large packets may be.
func (w *run) look(t carrier, own, pushed []netip.Addr) {
	var hosts []netip.Addr
	var services []netip.AddrPort
	for _, h := range w.Hosts {
		if at, err := netip.ParseAddrPort(h); err == nil {
			services = append(services, at)
		} else if a, err := netip.ParseAddr(h); err == nil {
			hosts = append(hosts, a)
		}
	}
	resolvers := w.resolvers(pushed)
	if len(hosts) == 0 {
		hosts = resolvers // they are the only hosts that a file names
	}
	w.began = w.Now()
	w.echo(t, own, hosts)
	w.names(t, own, resolvers)
	w.services(t, own, services)
}

// resolvers are the DNS servers that a device would use: those of the file, else those that the
// gateway gave.
func (w *run) resolvers(pushed []netip.Addr) []netip.Addr {
	var list []netip.Addr
	for _, text := range w.Connection.DNS {
		if a, err := netip.ParseAddr(text); err == nil {
			list = append(list, a)
		}
	}
	if len(list) == 0 {
		return pushed
	}
	return list
}

// from is the own address of the family of another.
func from(own []netip.Addr, to netip.Addr) (netip.Addr, bool) {
	i := slices.IndexFunc(own, func(a netip.Addr) bool { return a.Is4() == to.Is4() })
	if i < 0 {
		return netip.Addr{}, false
	}
	return own[i], true
}

const (
	echoID   = 0x5743
	tries    = 3
	smallest = 56 // bytes in an echo
)

// await receives packets until one is what is waited for.
func await(t carrier, end time.Time, is func(inside.Packet) bool) (inside.Packet, error) {
	for {
		b, err := t.receive(end)
		if err != nil {
			return inside.Packet{}, err
		}
		if p, err := inside.Read(b); err == nil && is(p) {
			return p, nil
		}
	}
}

// ping asks a host for an echo of a size.
func ping(t carrier, own, host netip.Addr, number uint16, size int, wait time.Duration) error {
	for range tries {
		if err := t.send(inside.Echo(own, host, echoID, number, size)); err != nil {
			return err
		}
		_, err := await(t, time.Now().Add(wait/tries), func(p inside.Packet) bool {
			return p.Echoed() && p.ID == echoID && p.Number == uint32(number) &&
				p.From.Addr() == host
		})
		if !errors.Is(err, os.ErrDeadlineExceeded) {
			return err
		}
	}
	return os.ErrDeadlineExceeded
}

// echo asks hosts for an echo until one answers, and then how large packets to it may be.
func (w *run) echo(t carrier, own, hosts []netip.Addr) {
	if len(hosts) == 0 {
		w.note(rehearsal.Echo, rehearsal.Skipped, "no internal host is known")
		w.note(rehearsal.PathMTU, rehearsal.Skipped, "no internal host is known")
		return
	}
	for i, host := range hosts {
		me, ok := from(own, host)
		if !ok {
			continue
		}
		if ping(t, me, host, uint16(i), smallest, insideIn) == nil {
			w.passed(rehearsal.Echo, host.String()+" responds")
			w.size(t, me, host)
			return
		}
	}
	w.cause = "host-silent"
	w.note(rehearsal.Echo, rehearsal.Failed, join(hosts)+" does not respond to an echo request")
	w.note(rehearsal.PathMTU, rehearsal.Skipped, "")
}

// sizes are the packets that are tried, in bytes: the largest first.
var sizes = []int{1500, 1440, 1420, 1400, 1380, 1360, 1340, 1320, 1300, 1280, 1200, 1000, 576}

// size finds the largest packet that comes back whole. All are sent at once, twice if need be; after
// the first one that comes back, others have a moment.
func (w *run) size(t carrier, own, host netip.Addr) {
	const first, moment = 100, 60 * time.Millisecond
	head := 28
	if own.Is6() {
		head = 48
	}
	best := -1
	for round := 0; round < 2 && best < 0; round++ {
		for i, mtu := range sizes {
			if t.send(inside.Echo(own, host, echoID, uint16(first+i), mtu-head)) != nil {
				break
			}
		}
		for end := time.Now().Add(time.Second); best != 0; {
			p, err := await(t, end, func(p inside.Packet) bool {
				return p.Echoed() && p.ID == echoID && p.From.Addr() == host &&
					p.Number >= first && p.Number < uint32(first+len(sizes))
			})
			if err != nil {
				break
			}
			if i := int(p.Number) - first; best < 0 || i < best {
				best = i
			}
			end = time.Now().Add(moment)
		}
	}
	if best >= 0 {
		w.passed(rehearsal.PathMTU, fmt.Sprintf("packets of %d bytes pass", sizes[best]))
		return
	}
	w.cause = "packet-size"
	w.note(rehearsal.PathMTU, rehearsal.Failed, "packets of 576 bytes are lost")
}

// names looks names up inside.
func (w *run) names(t carrier, own, resolvers []netip.Addr) {
	questions := w.Names
	kind := dns.TypeA
	if len(questions) == 0 { // whether the resolver answers for the domain at all
		questions, kind = w.Connection.Domains, dns.TypeSOA
	}
	switch {
	case len(questions) == 0:
		w.note(rehearsal.Lookup, rehearsal.Skipped, "no internal name is known")
		return
	case len(resolvers) == 0:
		w.note(rehearsal.Lookup, rehearsal.Skipped, "no internal DNS server is known")
		return
	}
	var faults []string
	for i, server := range resolvers {
		me, ok := from(own, server)
		if !ok {
			continue
		}
		found, err := lookup(t, me, server, questions[0], kind, uint16(40000+i))
		if err == nil {
			w.passed(rehearsal.Lookup, found)
			return
		}
		faults = append(faults, err.Error())
	}
	w.cause = "inside-names"
	w.note(rehearsal.Lookup, rehearsal.Failed, strings.Join(faults, "; "))
}

// lookup asks a resolver inside.
func lookup(
	t carrier,
	own, server netip.Addr,
	name string,
	kind uint16,
	port uint16,
) (string, error) {
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	b, err := m.Pack()
	if err != nil {
		return "", err
	}
	me, it := netip.AddrPortFrom(own, port), netip.AddrPortFrom(server, 53)
	for range tries {
		if err := t.send(inside.Datagram(me, it, b)); err != nil {
			return "", err
		}
		var answer dns.Msg
		_, err = await(t, time.Now().Add(insideIn/tries), func(p inside.Packet) bool {
			return p.Protocol == inside.UDP && p.From == it && p.To == me &&
				answer.Unpack(p.Payload) == nil && answer.Id == m.Id && answer.Response
		})
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			continue
		case err != nil:
			return "", err
		}
		return told(name, server, &answer, kind)
	}
	return "", fmt.Errorf("%s does not answer DNS", server)
}

func told(name string, server netip.Addr, m *dns.Msg, kind uint16) (string, error) {
	code := dns.RcodeToString[m.Rcode]
	if kind == dns.TypeSOA { // that it answers is enough
		return fmt.Sprintf("%s answers for %s (%s)", server, name, code), nil
	}
	for _, r := range m.Answer {
		if a, ok := r.(*dns.A); ok {
			return fmt.Sprintf("%s is %s, by %s", name, a.A, server), nil
		}
	}
	return "", fmt.Errorf("%s answers %s for %s, without an address", server, code, name)
}

// services begins a connection to each service, and gives it up at once.
func (w *run) services(t carrier, own []netip.Addr, list []netip.AddrPort) {
	if len(list) == 0 {
		w.note(rehearsal.Connect, rehearsal.Skipped, "no internal service is known")
		return
	}
	var open []string
	for i, at := range list {
		me, ok := from(own, at.Addr())
		if !ok {
			continue
		}
		err := begin(t, netip.AddrPortFrom(me, uint16(41000+i)), at)
		if err != nil {
			w.cause = "host-silent"
			w.note(rehearsal.Connect, rehearsal.Failed, fmt.Sprintf("%s %v", at, err))
			return
		}
		open = append(open, at.String())
	}
	w.passed(rehearsal.Connect, strings.Join(open, ", ")+" accepts connections")
}

// begin begins a connection by TCP.
func begin(t carrier, own, to netip.AddrPort) error {
	const number = 1_000_000
	for range tries {
		if err := t.send(inside.Segment(own, to, number, 0, inside.SYN)); err != nil {
			return err
		}
		p, err := await(t, time.Now().Add(insideIn/tries), func(p inside.Packet) bool {
			return p.Protocol == inside.TCP && p.From == to && p.To == own
		})
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			continue
		case err != nil:
			return err
		case p.Flags&inside.RST != 0:
			return errors.New("refuses connections")
		case p.Flags&(inside.SYN|inside.ACK) == inside.SYN|inside.ACK:
			return t.send(inside.Segment(own, to, number+1, p.Number+1, inside.RST|inside.ACK))
		}
	}
	return errors.New("does not respond")
}

// compare notes where the gateway gives something else than the file says.
func (w *run) compare(given []netip.Addr, domains []string) {
	if len(w.Connection.DNS) > 0 && len(given) > 0 {
		for _, text := range w.Connection.DNS {
			if a, err := netip.ParseAddr(text); err == nil && !slices.Contains(given, a) {
				w.result.Differences = append(w.result.Differences, fmt.Sprintf(
					"DNS: the file has %s, the gateway gives %s", a, join(given)))
			}
		}
	}
	for _, d := range w.Connection.Domains {
		if len(domains) > 0 && !slices.ContainsFunc(domains, func(g string) bool {
			return strings.EqualFold(d, g)
		}) {
			w.result.Differences = append(w.result.Differences, fmt.Sprintf(
				"domain: the file has %s, the gateway gives %s", d, strings.Join(domains, ", ")))
		}
	}
}

func join[T fmt.Stringer](list []T) string {
	texts := make([]string, len(list))
	for i, v := range list {
		texts[i] = v.String()
	}
	return strings.Join(texts, ", ")
}

func cleaned(list []string) []string {
	out := []string{}
	for _, v := range list {
		out = append(out, shown(v))
	}
	return out
}
