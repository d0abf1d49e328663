// Package probe asks gateways on the network what they take, politely: few packets, slowly, and
// never more than the beginning of a handshake.
package probe

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/time/rate"

	"wardicon/core/drift"
	"wardicon/core/vpn"
)

// Limits of asking one gateway.
const (
	packetsSecond = 4
	mostPackets   = 60
	mostReply     = 8 << 10
	mostCookies   = 3
	connectWait   = 4 * time.Second
	answerWait    = 5 * time.Second
	tunnelWait    = 30 * time.Second // for the handshake of a tunnel, of many packets
	sideBySide    = 4                // questions to one gateway
)

// waits are how long an answer by UDP is waited for, and the question then sent again (RFC 7296
// §2.4 leaves the times open; RFC 2661 §5.8 begins with one second and doubles it).
var waits = []time.Duration{500 * time.Millisecond, time.Second, 2 * time.Second}

// errSilent says that nothing came back; errNoTime that no time was left to ask.
var (
	errSilent = errors.New("no answer")
	errNoTime = errors.New("there was no time left to ask")
)

// Prober asks gateways. However many questions are asked side by side, one gateway gets few packets
// a second.
type Prober struct {
	mu    sync.Mutex
	paces map[netip.Addr]*pace
}

// pace is the rhythm of one gateway, at whichever of its addresses, and the associations that were
// begun there.
type pace struct {
	*rate.Limiter
	users int
	last  time.Time

	mu    sync.Mutex
	begun []time.Time
}

// A gateway keeps an association that was begun for about half a minute, and takes whoever has
// several of them for an attacker: usual daemons want a cookie from the fourth on, and keep silent
// from the sixth on.
const (
	mostOpen = 5
	openTime = 31 * time.Second
	paceTime = time.Minute
	manyPace = 1024
)

// mayOpen tells whether another association may be begun.
func (p *pace) mayOpen() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.begun = slices.DeleteFunc(
		p.begun,
		func(at time.Time) bool { return time.Since(at) > openTime },
	)
	return len(p.begun) < mostOpen
}

func (p *pace) opened() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.begun = append(p.begun, time.Now())
}

// at is the rhythm of addresses that belong together, until it is given back.
func (p *Prober) at(addresses ...netip.Addr) (own *pace, back func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.paces) > manyPace {
		maps.DeleteFunc(
			p.paces,
			func(_ netip.Addr, old *pace) bool {
				return old.users == 0 &&
					time.Since(old.last) > paceTime
			},
		)
	}
	for _, a := range addresses {
		if own == nil {
			own = p.paces[a]
		}
	}
	if own == nil {
		own = &pace{Limiter: rate.NewLimiter(packetsSecond, 1)}
	}
	for _, a := range addresses {
		p.paces[a] = own
	}
	own.users++
	return own, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		own.users--
		own.last = time.Now()
	}
}

// New makes a prober.
func New() *Prober { return &Prober{paces: map[netip.Addr]*pace{}} }

// asker asks at one address and port, and keeps what comes of it.
type asker struct {
	ctx    context.Context // of all questions to the gateway
	at     netip.AddrPort
	pace   *pace
	left   int
	answer drift.Answer
	began  time.Time
	held   time.Duration // how long packets were held back for politeness
}

// ask runs a question against an address, and notes what kept it from being asked to the end.
func (p *Prober) ask(
	ctx context.Context,
	protocol vpn.Protocol,
	method string,
	transport vpn.Transport,
	at netip.AddrPort,
	question func(context.Context, *asker) error,
) drift.Answer {
	at = netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
	own, back := p.at(at.Addr())
	defer back()
	a := &asker{
		ctx:  ctx,
		at:   at,
		pace: own,
		left: mostPackets,
		answer: drift.Answer{
			Protocol:  protocol,
			Method:    method,
			Transport: transport,
			Address:   at.String(),
			Port:      int(at.Port()),
			State:     drift.Silent,
			Notes:     []string{},
		},
	}
	a.fail(question(ctx, a))
	return a.answer
}

// fail notes why a question ended early.
func (a *asker) fail(err error) {
	var late net.Error
	silent := errors.Is(err, errSilent) || errors.As(err, &late) && late.Timeout() ||
		errors.Is(err, os.ErrDeadlineExceeded) ||
		errors.Is(err, context.DeadlineExceeded)
	ended := errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) ||
		errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF)
	answer := &a.answer
	switch {
	case err == nil:
	case errors.Is(err, errNoTime) || a.ctx.Err() != nil:
		answer.Fault = errNoTime.Error()
		if answer.State != drift.Answered {
			answer.State = drift.Unprobed
		}
	case answer.State == drift.Answered && silent:
		answer.Fault = "it stopped answering"
	case (answer.State == drift.Answered || answer.State == drift.Faulty) && ended:
		answer.State, answer.Fault = drift.Faulty, "it ends the connection mid-way"
	case answer.State == drift.Answered, answer.State == drift.Faulty:
		answer.State, answer.Fault = drift.Faulty, err.Error()
	case silent:
		answer.Fault = "no answer by " + strings.ToUpper(string(answer.Transport))
	case ended, errors.Is(err, syscall.ECONNREFUSED):
		answer.State, answer.Fault = drift.Closed, "nothing listens there, or the connection was "+
			"closed at once"
	case errors.Is(err, syscall.ENETUNREACH),
		errors.Is(err, syscall.EHOSTUNREACH),
		errors.Is(err, syscall.EADDRNOTAVAIL),
		errors.Is(err, syscall.EAFNOSUPPORT):
		answer.State, answer.Fault = drift.Unprobed, "no way from the service to that address: "+
			plain(
				err,
			)
	default:
		answer.State, answer.Fault = drift.Faulty, plain(err)
	}
}

// plain is the innermost text of an error of the system, without the addresses that stand beside it
// anyway.
func plain(err error) string {
	var op *net.OpError
	if errors.As(err, &op) && op.Err != nil {
		return op.Err.Error()
	}
	return err.Error()
}

// answered notes the first answer.
func (a *asker) answered() {
	a.heard()
	a.answer.State = drift.Answered
}

// heard notes how fast the first answer came.
func (a *asker) heard() {
	if a.answer.Milliseconds == 0 {
		a.answer.Milliseconds = max(
			float64((time.Since(a.began)-a.held).Microseconds())/1000,
			0.001,
		)
	}
}

// turn waits until a packet may be sent.
func (a *asker) turn(ctx context.Context) error {
	if a.left == 0 {
		return fmt.Errorf("%d packets were sent, which is enough", mostPackets)
	}
	start := time.Now()
	if err := a.pace.Wait(ctx); err != nil {
		return errNoTime
	}
	a.left--
	a.answer.Packets++
	if a.began.IsZero() {
		a.began = time.Now()
	} else {
		a.held += time.Since(start)
	}
	return nil
}

// say waits for a turn, and gives the message that goes out then, and its answer, time.
func (a *asker) say(ctx context.Context, conn net.Conn) error {
	if err := a.turn(ctx); err != nil {
		return err
	}
	return conn.SetDeadline(time.Now().Add(answerWait))
}

// dial opens a socket to the address; by TCP that is a packet of its own.
func (a *asker) dial(ctx context.Context) (net.Conn, error) {
	var dialer net.Dialer
	if a.answer.Transport == vpn.TCP {
		if err := a.turn(ctx); err != nil {
			return nil, err
		}
		dialer.Timeout = connectWait
	}
	return dialer.DialContext(ctx, string(a.answer.Transport), a.at.String())
}

// connected opens a socket for a question, and closes it behind it.
func connected(
	question func(context.Context, *asker, net.Conn) error,
) func(context.Context, *asker) error {
	return func(ctx context.Context, a *asker) error {
		conn, err := a.dial(ctx)
		if err != nil {
			return err
		}
		defer func() { _ = conn.Close() }()
		return question(ctx, a, conn)
	}
}

// exchange sends a packet, again and again, until one comes that is taken for its answer. Other
// packets are noise: of somebody else, or late.
func (a *asker) exchange(
	ctx context.Context,
	conn net.Conn,
	packet []byte,
	take func([]byte) bool,
) error {
	buffer := make([]byte, mostReply)
	noise := 0
	for _, wait := range waits {
		if err := a.turn(ctx); err != nil {
			return err
		}
		if err := conn.SetDeadline(time.Now().Add(wait)); err != nil {
			return err
		}
		if _, err := conn.Write(packet); err != nil {
			return err
		}
		for {
			n, err := conn.Read(buffer)
			var late net.Error
			if errors.As(err, &late) && late.Timeout() {
				break
			}
			if err != nil {
				return err
			}
			if take(append([]byte{}, buffer[:n]...)) {
				a.answered()
				return nil
			}
			noise++
		}
	}
	if noise > 0 && a.answer.State != drift.Answered {
		a.answer.State = drift.Faulty
		return fmt.Errorf("%d packets came that are no answers by this protocol", noise)
	}
	return errSilent
}
