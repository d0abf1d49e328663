// Package probe asks gateways on the network what they take, politely: few packets, slowly, and never more than the
// beginning of a handshake.
package probe

import (
	"bytes"
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/netip"
	"time"

	"golang.org/x/time/rate"

	"wardicon/core/suite"
	"wardicon/core/view"
	"wardicon/core/wire/ikev2"
)

// Limits of asking one gateway.
const (
	packetsSecond = 4
	mostPackets   = 60
	mostReply     = 8 << 10
	mostCookies   = 3
)

// waits are how long an answer is waited for, and the question then sent again (RFC 7296 §2.4 leaves the times open).
var waits = []time.Duration{500 * time.Millisecond, time.Second, 2 * time.Second}

// asker sends packets to one gateway and waits for answers.
type asker struct {
	conn net.Conn
	pace *rate.Limiter
	left int
}

// errSilent says that nothing came back.
var errSilent = errors.New("no answer")

// IKEv2 asks a gateway at an address for one association after another, each with one suite, and tells which it
// takes. It stops at the first suite that is not answered at all.
func IKEv2(ctx context.Context, at netip.AddrPort, suites []suite.Proposal) (r view.ProbedIKE) {
	r = view.ProbedIKE{Address: at.String(), Taken: []string{}, Refused: []string{}, Notes: []string{}}
	var dialer net.Dialer
	conn, err := dialer.DialContext(ctx, "udp", at.String())
	if err != nil {
		r.Fault = err.Error()
		return r
	}
	defer func() { _ = conn.Close() }()
	a := &asker{conn: conn, pace: rate.NewLimiter(packetsSecond, 1), left: mostPackets}
	for _, s := range suites {
		taken, err := a.begin(ctx, at, s, &r)
		switch {
		case errors.Is(err, errSilent) && !r.Answered:
			r.Fault = fmt.Sprintf("no answer by UDP to port %d within %s", at.Port(), total(waits))
			return r
		case err != nil:
			r.Fault = fmt.Sprintf("%s: %v", s, err)
			return r
		case taken:
			r.Taken = append(r.Taken, s.String())
		default:
			r.Refused = append(r.Refused, s.String())
		}
	}
	return r
}

func total(list []time.Duration) (sum time.Duration) {
	for _, d := range list {
		sum += d
	}
	return sum
}

// begin asks for an association with one suite.
func (a *asker) begin(ctx context.Context, at netip.AddrPort, s suite.Proposal, r *view.ProbedIKE) (taken bool, err error) {
	offer, ok := ikev2.Offer(1, s)
	if !ok {
		return false, errors.New("this suite cannot be asked for")
	}
	group, _ := suite.Find(s.Group)
	public, err := share(group)
	if err != nil {
		return false, err
	}
	nonce := make([]byte, 34) // the first eight bytes are the SPI
	if _, err := rand.Read(nonce); err != nil {
		return false, err
	}
	spi := binary.BigEndian.Uint64(nonce) | 1 // never 0
	local, _ := netip.ParseAddrPort(a.conn.LocalAddr().String())
	question := ikev2.Message{InitiatorSPI: spi, Exchange: ikev2.SAInit, Initiator: true, Payloads: []ikev2.Payload{
		ikev2.SA(offer), ikev2.KE(uint16(group.Number), public), {Kind: ikev2.KindNonce, Body: nonce[2:]},
		ikev2.Notify(ikev2.NATSource, ikev2.NATHash(spi, 0, local)), ikev2.Notify(ikev2.NATDestination, ikev2.NATHash(spi, 0, at)),
		ikev2.Notify(ikev2.FragmentationSupported, nil), ikev2.Notify(ikev2.RedirectSupported, nil),
	}}
	for range mostCookies {
		answer, took, err := a.exchange(ctx, question)
		if err != nil {
			return false, err
		}
		if !r.Answered {
			r.Answered, r.Milliseconds = true, float64(took.Microseconds())/1000
		}
		notes, err := answer.Notifications()
		if err != nil {
			return false, err
		}
		if cookie := find(notes, ikev2.Cookie); cookie != nil {
			r.Cookie = true
			question.Payloads = append([]ikev2.Payload{ikev2.Notify(ikev2.Cookie, cookie.Data)}, without(question.Payloads)...)
			continue
		}
		return read(answer, notes, group, local, at, r)
	}
	return false, errors.New("it wants one cookie after another")
}

// without leaves a cookie of before out.
func without(list []ikev2.Payload) []ikev2.Payload {
	if len(list) > 0 && list[0].Kind == ikev2.KindNotify {
		return list[1:]
	}
	return list
}

func find(notes []ikev2.Notification, kind uint16) *ikev2.Notification {
	for i := range notes {
		if notes[i].Type == kind {
			return &notes[i]
		}
	}
	return nil
}

// read reads what an answer says.
func read(m ikev2.Message, notes []ikev2.Notification, group suite.Algorithm, local, at netip.AddrPort, r *view.ProbedIKE) (taken bool, err error) {
	if n := find(notes, ikev2.Redirect); n != nil {
		r.Note(fmt.Sprintf("sends clients to another gateway: %q", n.Data))
		return false, nil
	}
	if n := find(notes, ikev2.InvalidKE); n != nil {
		if len(n.Data) == 2 {
			r.Note(fmt.Sprintf("wants group %d in the place of %d", binary.BigEndian.Uint16(n.Data), group.Number))
		}
		return false, nil
	}
	for _, n := range notes {
		if n.Type < 16384 { // an error (RFC 7296 §3.10.1)
			if n.Type != ikev2.NoProposalChosen {
				r.Note(fmt.Sprintf("answers with error %d", n.Type))
			}
			return false, nil
		}
	}
	body, ok := m.Find(ikev2.KindSA)
	if !ok {
		return false, errors.New("an answer without a choice and without an error")
	}
	chosen, err := ikev2.DecodeSA(body)
	if err != nil {
		return false, err
	}
	if len(chosen) != 1 || !bytes.Equal(groupOf(chosen[0]), binary.BigEndian.AppendUint16(nil, uint16(group.Number))) {
		return false, errors.New("it chose what was not offered")
	}
	r.Fragmentation = r.Fragmentation || find(notes, ikev2.FragmentationSupported) != nil
	if n := find(notes, ikev2.NATSource); n != nil {
		r.GatewayBehindNAT = !bytes.Equal(n.Data, ikev2.NATHash(m.InitiatorSPI, m.ResponderSPI, at))
	}
	if n := find(notes, ikev2.NATDestination); n != nil {
		r.HereBehindNAT = !bytes.Equal(n.Data, ikev2.NATHash(m.InitiatorSPI, m.ResponderSPI, local))
	}
	return true, nil
}

func groupOf(p ikev2.Proposal) []byte {
	for _, t := range p.Transforms {
		if t.Type == ikev2.Group {
			return binary.BigEndian.AppendUint16(nil, t.ID)
		}
	}
	return nil
}

// exchange sends a question until its answer comes.
func (a *asker) exchange(ctx context.Context, question ikev2.Message) (m ikev2.Message, took time.Duration, err error) {
	packet, err := question.Encode()
	if err != nil {
		return m, 0, err
	}
	buffer := make([]byte, mostReply)
	for _, wait := range waits {
		if a.left == 0 {
			return m, 0, fmt.Errorf("%d packets were sent, which is enough", mostPackets)
		}
		if err := a.pace.Wait(ctx); err != nil {
			return m, 0, err
		}
		a.left--
		start := time.Now()
		if err := a.conn.SetDeadline(start.Add(wait)); err != nil {
			return m, 0, err
		}
		if _, err := a.conn.Write(packet); err != nil {
			return m, 0, err
		}
		for {
			n, err := a.conn.Read(buffer)
			var late net.Error
			if errors.As(err, &late) && late.Timeout() {
				break
			}
			if err != nil {
				return m, 0, err
			}
			m, err := ikev2.Decode(append([]byte{}, buffer[:n]...))
			if err != nil || m.InitiatorSPI != question.InitiatorSPI || !m.Response || m.Exchange != ikev2.SAInit {
				continue // not an answer to this question: somebody else's, or noise
			}
			return m, time.Since(start), nil
		}
	}
	return m, 0, errSilent
}

// share makes the public half of a key exchange, whose private half is thrown away: nothing is ever agreed on.
func share(g suite.Algorithm) ([]byte, error) {
	curves := map[string]ecdh.Curve{"ecp256": ecdh.P256(), "ecp384": ecdh.P384(), "ecp521": ecdh.P521(), "curve25519": ecdh.X25519()}
	if curve, ok := curves[g.Name]; ok {
		key, err := curve.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		if public := key.PublicKey().Bytes(); g.Name == "curve25519" {
			return public, nil
		} else {
			return public[1:], nil // without the sign of an uncompressed point (RFC 5903 §7)
		}
	}
	if g.Name == "curve448" {
		b := make([]byte, 56)
		_, err := io.ReadFull(rand.Reader, b)
		return b, err
	}
	// Any number below the prime, whose highest bits are ones, will do (RFC 3526).
	n, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), uint(g.Bits)-1))
	if err != nil {
		return nil, err
	}
	return n.SetBit(n, g.Bits-2, 1).FillBytes(make([]byte, g.Bits/8)), nil
}
