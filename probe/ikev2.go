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
	"slices"
	"strings"

	"wardicon/core/drift"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// marker stands before IKE on the port for encapsulated packets (RFC 3948 §2.2).
var marker = make([]byte, 4)

// IKEv2 asks a gateway at an address for one association after another, each with one suite, and
// tells which it takes. It stops at the first suite that is not answered at all. Marked is how IKE
// is spoken on port 4500.
func (p *Prober) IKEv2(
	ctx context.Context,
	at netip.AddrPort,
	marked bool,
	suites []suite.Proposal,
) drift.Answer {
	return p.ask(
		ctx,
		vpn.IKEv2,
		drift.MethodIKEv2,
		vpn.UDP,
		at,
		connected(func(ctx context.Context, a *asker, conn net.Conn) error {
			a.answer.IKE = newIKE()
			return a.each(
				suites,
				func(s *suite.Proposal) (bool, error) { return a.beginIKEv2(ctx, conn, marked, s) },
			)
		}),
	)
}

// each asks for one suite after another, as long as the gateway can be expected to answer more.
// What the gateway chose of several pseudo-random functions, begin notes in the suite.
func (a *asker) each(suites []suite.Proposal, begin func(*suite.Proposal) (bool, error)) error {
	r := a.answer.IKE
	for i, s := range suites {
		if !a.pace.mayOpen() {
			for _, rest := range suites[i:] {
				r.Unprobed = append(r.Unprobed, rest.String())
			}
			if i > 0 {
				return nil
			}
			a.answer.Note(
				"probed so often just now that more could look like an attack: probe suites " +
					"again in half a minute",
			)
			none := nobodys
			_, err := begin(&none) // whether it answers at all
			return err
		}
		taken, err := begin(&s)
		switch {
		case errors.Is(err, errNotHere):
			r.Unprobed = append(r.Unprobed, s.String())
		case err != nil && a.answer.State == drift.Answered:
			return fmt.Errorf("%s: %w", s, err)
		case err != nil:
			return err
		case taken:
			a.pace.opened()
			r.Taken = append(r.Taken, s.String())
		default:
			r.Refused = append(r.Refused, s.String())
		}
	}
	return nil
}

// nobodys is a suite that no gateway takes, so that asking for it begins nothing.
var nobodys = suite.Proposal{Encryption: "des", Integrity: "md5", Group: "modp768"}

// newSPI draws a security parameter index (or, of version 1, a cookie) that cannot be taken for a
// marker.
func newSPI() (uint64, error) {
	b := make([]byte, 8)
	_, err := rand.Read(b)
	return binary.BigEndian.Uint64(b) | 1<<63, err
}

// beginIKEv2 asks for an association with one suite.
func (a *asker) beginIKEv2(
	ctx context.Context,
	conn net.Conn,
	marked bool,
	s *suite.Proposal,
) (taken bool, err error) {
	offer, ok := ikev2.Offer(1, *s)
	if !ok {
		return false, errNotHere
	}
	group, _ := suite.Find(s.Group)
	public, nonce, err := exchanged(group)
	if err != nil {
		return false, err
	}
	spi, err := newSPI()
	if err != nil {
		return false, err
	}
	local, _ := netip.ParseAddrPort(conn.LocalAddr().String())
	question := ikev2.Message{
		InitiatorSPI: spi,
		Exchange:     ikev2.SAInit,
		Initiator:    true,
		Payloads: []isakmp.Payload{
			ikev2.SA(
				offer,
			),
			ikev2.KE(uint16(group.Number), public),
			{Kind: ikev2.KindNonce, Body: nonce},
			ikev2.Notify(
				ikev2.NATSource,
				ikev2.NATHash(spi, 0, local),
			),
			ikev2.Notify(ikev2.NATDestination, ikev2.NATHash(spi, 0, a.at)),
			ikev2.Notify(ikev2.FragmentationSupported, nil),
			ikev2.Notify(ikev2.RedirectSupported, nil),
		},
	}
	for range mostCookies {
		packet, err := question.Encode()
		if err != nil {
			return false, err
		}
		if marked {
			packet = append(slices.Clone(marker), packet...)
		}
		var answer ikev2.Message
		if err := a.exchange(ctx, conn, packet, func(b []byte) bool {
			answer, err = ikev2.Decode(unmarked(b))
			return err == nil && answer.InitiatorSPI == spi && answer.Response &&
				answer.Exchange == ikev2.SAInit
		}); err != nil {
			return false, err
		}
		notes, err := answer.Notifications()
		if err != nil {
			return false, err
		}
		if cookie := find(notes, ikev2.Cookie); cookie != nil {
			a.answer.IKE.Cookie = true
			question.Payloads = append(
				[]isakmp.Payload{ikev2.Notify(ikev2.Cookie, cookie.Data)},
				withoutCookie(question.Payloads)...)
			continue
		}
		return a.readIKEv2(answer, notes, s, local)
	}
	return false, errors.New("it wants one cookie after another")
}

// unmarked leaves the marker out where there is one.
func unmarked(b []byte) []byte { return bytes.TrimPrefix(b, marker) }

// withoutCookie leaves a cookie of before out.
func withoutCookie(list []isakmp.Payload) []isakmp.Payload {
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

// readIKEv2 reads what an answer says.
func (a *asker) readIKEv2(
	m ikev2.Message,
	notes []ikev2.Notification,
	s *suite.Proposal,
	local netip.AddrPort,
) (taken bool, err error) {
	r := a.answer.IKE
	group, _ := suite.Find(s.Group)
	for _, p := range m.Payloads {
		if name := vendors[string(p.Body)]; p.Kind == ikev2.KindVendor && name != "" &&
			!slices.Contains(r.Vendors, name) {
			r.Vendors = append(r.Vendors, name)
		}
	}
	if n := find(notes, ikev2.Redirect); n != nil {
		r.Redirect, err = ikev2.RedirectedTo(n.Data)
		return false, err
	}
	if n := find(notes, ikev2.InvalidKE); n != nil {
		if len(n.Data) == 2 {
			wanted := fmt.Sprintf(
				"group %d in the place of %d",
				binary.BigEndian.Uint16(n.Data),
				group.Number,
			)
			if !slices.Contains(r.Wanted, wanted) {
				r.Wanted = append(r.Wanted, wanted)
			}
		}
		return false, nil
	}
	for _, n := range notes {
		if n.Type < 16384 { // an error (RFC 7296 §3.10.1)
			if n.Type != ikev2.NoProposalChosen {
				a.answer.Note(fmt.Sprintf("answers with error %d", n.Type))
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
	if len(chosen) != 1 || chosen[0].ID(ikev2.Group) != group.Number {
		return false, errors.New("it chose what was not offered")
	}
	if s.LacksPRF() {
		s.PRF = suite.Numbered(suite.PRF, chosen[0].ID(ikev2.PRF))
	}
	r.Fragmentation = r.Fragmentation || find(notes, ikev2.FragmentationSupported) != nil
	if n := find(notes, ikev2.NATSource); n != nil {
		r.NATKnown = true
		r.GatewayBehindNAT = !slices.ContainsFunc(notes, func(n ikev2.Notification) bool {
			return n.Type == ikev2.NATSource &&
				bytes.Equal(n.Data, ikev2.NATHash(m.InitiatorSPI, m.ResponderSPI, a.at))
		})
	}
	if n := find(notes, ikev2.NATDestination); n != nil {
		r.HereBehindNAT = !bytes.Equal(n.Data, ikev2.NATHash(m.InitiatorSPI, m.ResponderSPI, local))
	}
	return true, nil
}

// vendors are the identifiers of open projects and standards that say something useful.
var vendors = map[string]string{
	"\x88\x2f\xe5\x6d\x6f\xd2\x0d\xbc\x22\x51\x61\x3b\x2e\xbe\x5b\xeb": "strongSwan",
	"\x1e\x2b\x51\x69\x05\x99\x1c\x7d\x7c\x96\xfc\xbf\xb5\x87\xe4\x61": "Windows",
}

// exchanged makes what a key exchange begins with: a public half, and a nonce.
func exchanged(group suite.Algorithm) (public, nonce []byte, err error) {
	if public, err = share(group); err != nil {
		return nil, nil, err
	}
	nonce = make([]byte, 32)
	_, err = rand.Read(nonce)
	return public, nonce, err
}

// share makes the public half of a key exchange, whose private half is thrown away: nothing is ever
// agreed on.
func share(g suite.Algorithm) ([]byte, error) {
	curves := map[string]ecdh.Curve{
		"ecp256":     ecdh.P256(),
		"ecp384":     ecdh.P384(),
		"ecp521":     ecdh.P521(),
		"curve25519": ecdh.X25519(),
	}
	if curve, ok := curves[g.Name]; ok {
		key, err := curve.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		public := key.PublicKey().Bytes()
		if g.Name != "curve25519" {
			public = public[1:] // without the sign of an uncompressed point (RFC 5903 §7)
		}
		return public, nil
	}
	if g.Name == "curve448" {
		b := make([]byte, 56)
		_, err := io.ReadFull(rand.Reader, b)
		return b, err
	}
	if strings.Contains(
		g.Name,
		"s",
	) { // a small subgroup (RFC 5114), of which no element can be made without its numbers
		return nil, errNotHere
	}
	// A square of an integer below the prime is in the right subgroup, whatever the prime is: those
	// of RFC 2409 §6 and RFC 3526 are safe primes.
	root, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), uint(g.Bits)/2-2))
	if err != nil {
		return nil, err
	}
	root.SetBit(root, g.Bits/2-3, 1)
	return root.Mul(root, root).FillBytes(make([]byte, g.Bits/8)), nil
}

// errNotHere says that a suite cannot be asked for.
var errNotHere = errors.New("this suite cannot be asked for")
