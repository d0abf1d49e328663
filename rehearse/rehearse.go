// Package rehearse connects to gateways as devices do, by what a file says: it signs in, takes an
// address, looks inside the tunnel, and disconnects. Nothing that a gateway says changes routes or
// name servers of the machine that this runs on.
package rehearse

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"time"

	"wardicon/core/explain"
	"wardicon/core/platform"
	"wardicon/core/rehearsal"
	"wardicon/core/vpn"
)

// Resolver looks names up.
type Resolver interface {
	LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error)
}

// Rehearser makes rehearsals. The zero value uses the machine's resolver, clock and roots.
type Rehearser struct {
	Resolver Resolver
	Roots    *x509.CertPool // for connections that name no CA; nil are the system's
	Now      func() time.Time
	// Allowed tells whether an address may be connected to; nil allows all.
	Allowed func(netip.Addr) error
	// TunnelMode has L2TP go in ESP in tunnel mode. Devices use transport mode (RFC 3193 §2.1);
	// some implementations of IPsec in user space know only the other.
	TunnelMode bool
}

// Request is one rehearsal.
type Request struct {
	File       string
	Connection vpn.Connection
	As         *platform.Found // the device's release, where it is known
	Hosts      []string        // addresses inside, with a port for a service
	Names      []string        // to be looked up inside
	// Lead leads to the gateway by other means, as probes are; nil where the file's name does.
	Lead *vpn.ProbeAt
	// Reached is told of every step when it is over; may be nil.
	Reached func(rehearsal.Step)
}

// Bounds of one rehearsal.
const (
	whole    = 60 * time.Second
	goodbye  = 2 * time.Second
	insideIn = 4 * time.Second
)

var waits = []time.Duration{time.Second, 2 * time.Second, 4 * time.Second}

// fault is what a step failed by, with the identifier of its likely cause. Without a step it is the
// first that is not over yet.
type fault struct {
	cause string
	step  rehearsal.StepName
	err   error
}

func (f *fault) Error() string { return f.err.Error() }
func (f *fault) Unwrap() error { return f.err }

func because(cause string, format string, args ...any) error {
	return &fault{cause: cause, err: fmt.Errorf(format, args...)}
}

// failing tells in which step something failed.
func failing(step rehearsal.StepName, err error) error {
	var f *fault
	if errors.As(err, &f) {
		f.step = step
	}
	return err
}

// errSilent says that nothing came back.
var errSilent = errors.New("no answer")

// run is a rehearsal under way.
type run struct {
	*Rehearser
	Request
	ctx    context.Context
	result rehearsal.Result
	began  time.Time // of the step
	cause  string
	last   bool // of several remotes, the one that is tried is the last
}

// Run makes a rehearsal.
func (r *Rehearser) Run(ctx context.Context, q Request) rehearsal.Result {
	if r.Now == nil {
		now := *r
		now.Now = time.Now
		r = &now
	}
	ctx, stop := context.WithTimeout(ctx, whole)
	defer stop()
	begin := r.Now()
	w := &run{
		Rehearser: r, Request: q, ctx: ctx, began: begin,
		result: rehearsal.Begun(begin, q.File, q.Connection),
	}
	var err error
	switch c := q.Connection; {
	case c.IKEv2 != nil:
		err = w.ikev2()
	case c.TLS != nil:
		err = w.tunnel()
	case c.SSTP != nil:
		err = w.sstp()
	case c.L2TP != nil:
		err = w.l2tp()
	case c.PPTP != nil:
		err = w.pptp()
	default:
		err = because("file-broken", "the file has no connection of a protocol that is known")
	}
	w.finish(err)
	w.result.Took = milliseconds(r.Now().Sub(begin))
	return w.result
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// passed notes that a step is over.
func (w *run) passed(name rehearsal.StepName, found string) {
	w.note(name, rehearsal.Passed, found)
}

func (w *run) note(name rehearsal.StepName, state rehearsal.State, found string) {
	now := w.Now()
	s := rehearsal.Step{
		Name: name, State: state, Took: milliseconds(now.Sub(w.began)), Found: shown(found),
	}
	w.began = now
	w.result.Steps = append(w.result.Steps, s)
	if w.Reached != nil {
		w.Reached(s)
	}
}

const mostShown = 300

// shown makes what a gateway said fit to be shown: one line, without control characters.
func shown(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7F && r < 0xA0 || r == 0x2028 || r == 0x2029 || r == 0xFFFD ||
			r >= 0x202A && r <= 0x202E || r >= 0x2066 && r <= 0x2069 {
			return ' '
		}
		return r
	}, text)
	if len(text) > mostShown {
		text = strings.ToValidUTF8(text[:mostShown], "") + "…"
	}
	return text
}

// finish notes what went wrong at the first step that is not there yet, and those after it.
func (w *run) finish(err error) {
	var f *fault
	where := rehearsal.StepName("")
	if errors.As(err, &f) {
		w.cause, where = f.cause, f.step
	}
	done := map[rehearsal.StepName]bool{}
	for _, s := range w.result.Steps {
		done[s.Name] = true
		if s.State == rehearsal.Failed && err == nil {
			err = errors.New(s.Found)
		}
	}
	failed := w.result.FailedAt() != ""
	for _, name := range rehearsal.Steps {
		switch {
		case done[name]:
		case err != nil && !failed && (where == "" || where == name):
			failed = true
			w.note(name, rehearsal.Failed, err.Error())
		default:
			w.note(name, rehearsal.Skipped, "")
		}
	}
	w.result.Passed = !failed
	if c, ok := explain.Causes[w.cause]; ok && failed {
		w.result.CauseID, w.result.Cause = c.ID, c.Title
		w.result.Fix = strings.ReplaceAll(c.Fix, "{gateway}", w.Connection.Server)
	}
}

// resolve finds the addresses of the gateway, and tells of it.
func (w *run) resolve() ([]netip.Addr, error) {
	list, found, err := w.resolved(w.Connection.Server)
	if err == nil {
		w.passed(rehearsal.Resolve, found)
	}
	return list, err
}

// resolved finds the addresses of a server, and words them.
func (w *run) resolved(server string) (list []netip.Addr, found string, err error) {
	if server == "" {
		return nil, "", because("file-broken", "the file names no gateway")
	}
	if w.Lead != nil && w.Lead.Address != "" {
		server = w.Lead.Address
	}
	if a, err := netip.ParseAddr(server); err == nil {
		list = append(list, a)
	} else {
		var resolver Resolver = net.DefaultResolver
		if w.Resolver != nil {
			resolver = w.Resolver
		}
		if list, err = resolver.LookupNetIP(w.ctx, "ip", server); err != nil {
			return nil, "", because("name-unresolved", "%s: %w", server, err)
		}
	}
	var texts []string
	var refused error
	kept := list[:0]
	for _, a := range list {
		a = a.Unmap()
		if w.Allowed != nil {
			if err := w.Allowed(a); err != nil {
				refused = err
				continue
			}
		}
		kept = append(kept, a)
		texts = append(texts, a.String())
	}
	if len(kept) == 0 {
		if refused != nil {
			return nil, "", because("", "%w", refused)
		}
		return nil, "", because("name-unresolved", "%s has no address", server)
	}
	return kept, strings.Join(texts, ", "), nil
}

// port is where a port of the gateway is reached.
func (w *run) port(p int) uint16 {
	if w.Lead != nil {
		p = w.Lead.Moved(p)
	}
	return uint16(p)
}

// certificates notes what the gateway showed last.
func (w *run) certificates(list []*x509.Certificate) {
	w.result.Certificates = w.result.Certificates[:0]
	for _, c := range list {
		w.result.Certificates = append(w.result.Certificates, rehearsal.ShownCertificate{
			Subject: shown(c.Subject.String()), Issuer: shown(c.Issuer.String()),
			Expires: c.NotAfter.UTC(),
		})
	}
}

// random is where keys come from.
var random io.Reader = rand.Reader
