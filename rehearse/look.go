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

// look looks at what is inside: names, hosts, how large packets may be, and services.
func (w *run) look(t carrier, own, pushed []netip.Addr) {
	var hosts []netip.Addr
	var services []netip.AddrPort
	names := slices.Clone(w.Names)
	for _, h := range w.Hosts {
		if at, err := netip.ParseAddrPort(h); err == nil {
			services = append(services, at)
		} else if a, err := netip.ParseAddr(h); err == nil {
			hosts = append(hosts, a)
		} else {
			names = append(names, h) // as records have them
		}
	}
	w.began = w.Now()
	resolvers := w.resolvers(pushed)
	found := w.names(t, own, resolvers, names)
	for _, h := range w.Hosts {
		if a, ok := found[h]; ok {
			hosts = append(hosts, a)
		}
	}
	w.echo(t, own, hosts, resolvers)
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

// echo asks every host for an echo. Without hosts one of the DNS servers is enough: they are the
// only hosts that a file names. Then it finds how large packets to the first one may be.
func (w *run) echo(t carrier, own, hosts, resolvers []netip.Addr) {
	all := len(hosts) > 0
	if !all {
		hosts = resolvers
	}
	if len(hosts) == 0 {
		w.note(rehearsal.Echo, rehearsal.Skipped, "no internal host is known")
		w.note(rehearsal.PathMTU, rehearsal.Skipped, "no internal host is known")
		return
	}
	var up, down []netip.Addr
	for i, host := range hosts {
		me, ok := from(own, host)
		if ok && ping(t, me, host, uint16(i), smallest, insideIn) == nil {
			if up = append(up, host); !all {
				break
			}
		} else {
			down = append(down, host)
		}
	}
	if len(up) == 0 || all && len(down) > 0 {
		w.cause = "host-silent"
		w.note(rehearsal.Echo, rehearsal.Failed, "no response to an echo request: "+join(down))
	} else {
		w.passed(rehearsal.Echo, "response to an echo request: "+join(up))
	}
	if len(up) == 0 {
		w.note(rehearsal.PathMTU, rehearsal.Skipped, "")
		return
	}
	me, _ := from(own, up[0])
	w.size(t, me, up[0])
}

// sizes are the packets that are tried, in bytes: the largest first.
var sizes = []int{1500, 1440, 1420, 1400, 1380, 1360, 1340, 1320, 1300, 1280, 1200, 1000, 576}

// size finds the largest packet that comes back whole. All are sent at once, twice if need be;
// after the first one that comes back, others have a moment.
func (w *run) size(t carrier, own, host netip.Addr) {
	const first, moment = 100, 60 * time.Millisecond
	head := 28
	if own.Is6() {
		head = 48
	}
	best := -1
	for round := 0; round < 2 && best < 0; round++ {
		for i, mtu := range sizes {
			// One that is too large for the way out is refused here; smaller ones may pass.
			_ = t.send(inside.Echo(own, host, echoID, uint16(first+i), mtu-head))
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
	if best < 0 {
		best = oneByOne(t, own, host, head)
	}
	if best >= 0 {
		w.passed(rehearsal.PathMTU, fmt.Sprintf("packets of %d bytes pass", sizes[best]))
		return
	}
	w.cause = "packet-size"
	w.note(rehearsal.PathMTU, rehearsal.Failed, "packets of 576 bytes are lost")
}

// oneByOne tries sizes from the smallest on, for ways that lose what comes all at once: the index
// of the largest that passes, or -1.
func oneByOne(t carrier, own, host netip.Addr, head int) int {
	const number, wait = 200, 900 * time.Millisecond
	best := -1
	for i := len(sizes) - 1; i >= 0; i-- {
		if ping(t, own, host, uint16(number+i), sizes[i]-head, wait) != nil {
			break
		}
		best = i
	}
	return best
}

// names looks every name up inside, and answers with their addresses. Without names it looks
// whether a resolver answers for the file's domain at all.
func (w *run) names(
	t carrier,
	own, resolvers []netip.Addr,
	list []string,
) map[string]netip.Addr {
	kind := dns.TypeA
	if len(list) == 0 && len(w.Connection.Domains) > 0 {
		list, kind = w.Connection.Domains[:1], dns.TypeSOA
	}
	switch {
	case len(list) == 0:
		w.note(rehearsal.Lookup, rehearsal.Skipped, "no internal name is known")
		return nil
	case len(resolvers) == 0:
		w.note(rehearsal.Lookup, rehearsal.Skipped, "no internal DNS server is known")
		return nil
	}
	addresses := map[string]netip.Addr{}
	var found, faults []string
	for i, name := range list {
		text, a, err := w.anyLookup(t, own, resolvers, name, kind, uint16(i))
		if err != nil {
			faults = append(faults, err.Error())
			continue
		}
		found = append(found, text)
		addresses[name] = a
	}
	if len(faults) > 0 {
		w.cause = "inside-names"
		w.note(rehearsal.Lookup, rehearsal.Failed, strings.Join(faults, "; "))
		return addresses
	}
	w.passed(rehearsal.Lookup, strings.Join(found, "; "))
	return addresses
}

// anyLookup asks one resolver after the other.
func (w *run) anyLookup(
	t carrier,
	own, resolvers []netip.Addr,
	name string,
	kind, number uint16,
) (found string, a netip.Addr, err error) {
	err = errors.New("no internal DNS server has an address of the family that was given")
	for _, server := range resolvers {
		me, ok := from(own, server)
		if !ok {
			continue
		}
		if found, a, err = lookup(t, me, server, name, kind, 40000+number); err == nil {
			return found, a, nil
		}
	}
	return found, a, err
}

// lookup asks a resolver inside.
func lookup(
	t carrier,
	own, server netip.Addr,
	name string,
	kind, port uint16,
) (string, netip.Addr, error) {
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	b, err := m.Pack()
	if err != nil {
		return "", netip.Addr{}, err
	}
	me, it := netip.AddrPortFrom(own, port), netip.AddrPortFrom(server, 53)
	for range tries {
		if err := t.send(inside.Datagram(me, it, b)); err != nil {
			return "", netip.Addr{}, err
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
			return "", netip.Addr{}, err
		}
		return told(name, server, &answer, kind)
	}
	return "", netip.Addr{}, fmt.Errorf("%s does not respond to DNS", server)
}

func told(
	name string,
	server netip.Addr,
	m *dns.Msg,
	kind uint16,
) (string, netip.Addr, error) {
	code := dns.RcodeToString[m.Rcode]
	if kind == dns.TypeSOA { // that it answers is enough
		return fmt.Sprintf("%s answers for %s (%s)", server, name, code), netip.Addr{}, nil
	}
	for _, r := range m.Answer {
		if a, ok := r.(*dns.A); ok {
			if found, ok := netip.AddrFromSlice(a.A.To4()); ok {
				return fmt.Sprintf("%s is %s, by %s", name, found, server), found, nil
			}
		}
	}
	return "", netip.Addr{}, fmt.Errorf("%s: %s from %s, expected an address", name, code, server)
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
		err := errors.New("is of a family of which no address was given")
		if ok {
			err = begin(t, netip.AddrPortFrom(me, uint16(41000+i)), at)
		}
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
				w.differs("DNS: the file has %s, the gateway gives %s", a, join(given))
			}
		}
	}
	for _, d := range w.Connection.Domains {
		if len(domains) > 0 && !slices.ContainsFunc(domains, func(g string) bool {
			return strings.EqualFold(d, g)
		}) {
			w.differs(
				"domain: the file has %s, the gateway gives %s",
				d,
				strings.Join(domains, ", "),
			)
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
