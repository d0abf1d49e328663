package rehearse

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"wardicon/core/inside"
	"wardicon/core/pki"
	"wardicon/core/rehearsal"
	"wardicon/core/session/eap"
	pppsession "wardicon/core/session/ppp"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Bounds of a link of PPP.
const (
	pppIn      = 20 * time.Second
	pppAgain   = 2 * time.Second // until what was not acknowledged is sent again
	mostFrames = 2000            // until the link is open
)

// line carries frames of PPP.
type line interface {
	write(frame []byte) error
	read(until time.Time) (frame []byte, err error)
}

// errAborted says that the gateway ended the call itself, and not PPP in it.
var errAborted = errors.New("the gateway ends the call")

// pppTunnel is an open link, which carries IP.
type pppTunnel struct {
	line
	link     *pppsession.Link
	asked    bool // how the client signs in is agreed on
	up, down int
}

// linkOptions are what differs from protocol to protocol.
type linkOptions struct {
	login, password string
	mppe            []suite.MPPE
	stateful        bool
	within          string // what carries the link, for people
	// signedIn is told when the sign-in went well, with its keys; may be nil.
	signedIn func(link *pppsession.Link) error
}

// newLink makes a device's end of a link, by the methods of the file, else of the release.
func (w *run) newLink(o linkOptions) (link *pppsession.Link, done func(), err error) {
	done = func() {}
	methods := slices.Clone(w.Connection.PPP())
	if len(methods) == 0 && w.As != nil {
		methods = slices.Clone(w.As.Ability(w.Connection.Protocol).PPP)
	}
	if len(methods) == 0 {
		methods = []suite.PPPMethod{suite.MSCHAPv2}
	}
	c := pppsession.Config{
		Login: o.login, Password: o.password, Methods: methods, MPPE: o.mppe, Stateful: o.stateful,
		IPv6: true, Random: random,
	}
	if slices.Contains(methods, suite.EAP) {
		method, err := w.methodOfEAP(o)
		if err != nil {
			return nil, done, err
		}
		if t, ok := method.(*eap.TLS); ok {
			done = func() { t.Close() }
		}
		c.EAP = &eap.Conversation{Name: o.login, Method: method}
	}
	link, err = pppsession.New(c)
	return link, done, err
}

// methodOfEAP is by the certificate of the file, else by login and password.
func (w *run) methodOfEAP(o linkOptions) (eap.Method, error) {
	if w.Connection.Identity == nil || w.Connection.L2TP != nil {
		return &eap.MSCHAP{Login: o.login, Password: o.password, Random: random}, nil
	}
	id, err := w.identity()
	if err != nil {
		return nil, err
	}
	return &eap.TLS{Config: w.tlsOfEAP(id)}, nil
}

// tlsOfEAP is how a device signs in by EAP-TLS. The name of the gateway is proven outside; here
// only the CA counts, as clients have it.
func (w *run) tlsOfEAP(id pki.Identity) *tls.Config {
	return w.asRelease(&tls.Config{
		GetClientCertificate: shows(id),
		InsecureSkipVerify:   true,
		VerifyConnection: func(state tls.ConnectionState) error {
			return w.trust(state.PeerCertificates, true)
		},
		Time:             w.Now,
		CurvePreferences: []tls.CurveID{tls.X25519, tls.CurveP256, tls.CurveP384},
	}, true)
}

// openLink signs in by PPP on a line, and takes an address.
func (w *run) openLink(l line, o linkOptions) (*pppTunnel, error) {
	link, done, err := w.newLink(o)
	if err != nil {
		return nil, err
	}
	defer done()
	t := &pppTunnel{line: l, link: link}
	signedIn := false
	end := time.Now().Add(pppIn)
	for frames := 0; link.Phase != pppsession.Open; frames++ {
		if err := t.flush(); err != nil {
			return nil, t.fault(signedIn, err)
		}
		if link.Phase == pppsession.Ended || frames > mostFrames {
			return nil, t.fault(signedIn, nil)
		}
		frame, err := t.read(earlier(end, time.Now().Add(pppAgain)))
		if errors.Is(err, os.ErrDeadlineExceeded) && time.Now().Before(end) {
			link.Again()
			continue
		}
		if err != nil {
			return nil, t.fault(signedIn, err)
		}
		link.Receive(frame)
		t.asked = t.asked || link.Phase == pppsession.Authenticate ||
			link.Phase == pppsession.Network
		if !signedIn && (link.Phase == pppsession.Network || link.Phase == pppsession.Open) {
			signedIn = true
			if err := w.linkSignedIn(link, o); err != nil {
				return nil, err
			}
		}
	}
	if err := t.flush(); err != nil {
		return nil, t.fault(signedIn, err)
	}
	w.result.Addresses, w.result.Tunnel = []netip.Addr{link.Local}, "PPP in "+o.within
	if link.Strength != "" {
		w.result.Tunnel += ", " + link.Strength
	}
	if link.Servers != nil {
		w.result.DNS = link.Servers
	}
	if a, servers := t.address6(); a.IsValid() {
		w.result.Addresses = append(w.result.Addresses, a)
		w.result.DNS = append(w.result.DNS, servers...)
	}
	w.passed(rehearsal.Address, join(w.result.Addresses))
	w.compare(w.result.DNS, nil)
	w.carried(w.result.Addresses, func(string) bool {
		return w.Connection.Tunnel == vpn.TunnelFull
	})
	return t, nil
}

// prefixIn is how long a gateway that speaks IPv6 may take to tell a prefix.
const prefixIn = time.Second

// address6 is the address of IPv6 that a device makes of the prefix that the gateway tells, and the
// DNS servers that come with it (RFC 5072 §5, RFC 4862 §5.5); invalid where there is none.
func (t *pppTunnel) address6() (own netip.Addr, dns []netip.Addr) {
	if !t.link.SpeaksIPv6() {
		return own, nil
	}
	asked := netip.Addr{}
	for end := time.Now().Add(prefixIn); time.Now().Before(end); {
		if a := t.link.Local6(); a.IsValid() && a != asked {
			asked = a
			if t.send(inside.Solicit(a)) != nil {
				return own, nil
			}
		}
		b, err := t.receive(earlier(end, time.Now().Add(prefixIn/5)))
		if errors.Is(err, os.ErrDeadlineExceeded) {
			continue
		}
		if err != nil {
			return own, nil
		}
		if p, err := inside.Read(b); err == nil {
			if prefix, servers, ok := p.Advertised(); ok {
				return t.link.Address6(prefix), servers
			}
		}
	}
	return own, nil
}

// earlier is the first of two times.
func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// linkSignedIn notes that a sign-in went well, and that it proved the gateway where nothing did.
func (w *run) linkSignedIn(link *pppsession.Link, o linkOptions) error {
	method := suite.PPPFacts[link.Method].Title
	if method == "" {
		method = "no method at all"
	}
	if w.result.Proof == "" {
		if link.Method == suite.MSCHAPv2 || link.Method == suite.EAP {
			w.result.Proof = method
			w.passed(rehearsal.Gateway, "the gateway knows the password ("+method+")")
		} else {
			w.note(rehearsal.Gateway, rehearsal.Skipped, method+" proves no gateway")
		}
	}
	w.passed(rehearsal.SignIn, "login "+o.login+" by "+method)
	if o.signedIn != nil {
		return o.signedIn(link)
	}
	return nil
}

// lookThrough looks at what is inside, and notes what went through.
func (w *run) lookThrough(t *pppTunnel) {
	w.look(t, w.result.Addresses, w.result.DNS)
	w.result.Sent, w.result.Received = t.up, t.down
}

func (t *pppTunnel) flush() error {
	for _, frame := range t.link.Take() {
		if err := t.write(frame); err != nil {
			return err
		}
	}
	return nil
}

// fault tells why PPP did not come up.
func (t *pppTunnel) fault(signedIn bool, err error) error {
	why := t.link.Reason
	if err != nil && why == "" {
		why = err.Error()
	}
	var f *fault
	var other *eap.OtherMethodError
	switch {
	case errors.As(err, &f):
		return err
	case errors.As(t.link.Fault, &f):
		return t.link.Fault
	case errors.As(t.link.Fault, &other):
		return because("methods-differ", "%s", why)
	case strings.Contains(why, "MPPE"):
		return failing(rehearsal.Address, because("encryption-differs", "%s", why))
	case strings.Contains(why, "login or password") || strings.Contains(why, "E=691") ||
		strings.Contains(why, "rejected"):
		return failing(rehearsal.SignIn, because("password-wrong", "%s", why))
	case errors.Is(err, os.ErrDeadlineExceeded):
		return failing(
			rehearsal.SignIn,
			because("ppp-silent", "the gateway does not respond to PPP"),
		)
	case !t.asked:
		return failing(rehearsal.SignIn, because("methods-differ", "%s", why))
	case signedIn && errors.Is(err, errAborted):
		return because("binding-refused", "%s", why)
	case signedIn:
		return because("address-refused", "%s", why)
	}
	return failing(rehearsal.SignIn, because("password-wrong", "%s", why))
}

func (t *pppTunnel) send(packet []byte) error {
	t.up += len(packet)
	return t.write(t.link.Packet(packet))
}

func (t *pppTunnel) receive(until time.Time) ([]byte, error) {
	for {
		frame, err := t.read(until)
		if err != nil {
			return nil, err
		}
		packet := t.link.Receive(frame)
		if err := t.flush(); err != nil {
			return nil, err
		}
		if packet != nil {
			t.down += len(packet)
			return packet, nil
		}
		if t.link.Phase == pppsession.Ended {
			return nil, fmt.Errorf("the link ended: %s", t.link.Reason)
		}
	}
}
