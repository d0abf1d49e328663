package ikev2

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"net/netip"
	"testing"

	"wardicon/core/session/eap"
	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// pair are the ends of an association with some suite, by EAP.
func pair(t testing.TB, ike, child string, random *source) (*Session, *Responder) {
	t.Helper()
	proposal, err := suite.Parse(ike)
	if err != nil {
		t.Fatal(err)
	}
	inner, err := suite.Parse(child)
	if err != nil {
		t.Fatal(err)
	}
	r := &Responder{
		Who: ipsec.ParseIdentity("gw.skerryline.example", nil), PSK: "kelp", Random: random,
		Child: []suite.Proposal{inner},
	}
	who := r.Who
	s := &Session{Options: Options{
		IKE: []suite.Proposal{proposal}, Child: []suite.Proposal{inner}, PSK: "kelp",
		Local: ipsec.ParseIdentity("crew@skerryline.example", nil), Remote: &who, Random: random,
	}}
	offer, _ := ikev2.Offer(1, proposal.ForIKE())
	s.Exchange = func(datagrams [][]byte, take func([]byte) bool) error {
		var answer []byte
		if m, err := ikev2.Decode(datagrams[0]); err == nil && m.Exchange == ikev2.SAInit {
			list, spi, err := r.Begin(m, datagrams[0], offer)
			if err != nil {
				return err
			}
			b := ikev2.Message{
				InitiatorSPI: m.InitiatorSPI, ResponderSPI: spi, Exchange: ikev2.SAInit,
				Response: true, Payloads: append([]isakmp.Payload{ikev2.SA(offer)}, list...),
			}
			if answer, err = b.Encode(); err != nil {
				return err
			}
			r.Answered(answer)
		} else {
			answer = r.Handle(datagrams[0])
		}
		if answer == nil || !take(answer) {
			return errors.New("no answer")
		}
		return nil
	}
	return s, r
}

// source is a stream of bytes that is always the same.
type source struct{ *rand.ChaCha8 }

func (s *source) Read(b []byte) (int, error) { return s.ChaCha8.Read(b) }

func newSource() *source { return &source{rand.NewChaCha8([32]byte{1})} }

// TestSuites agrees on keys and carries packets with each cipher, digest and group.
func TestSuites(t *testing.T) {
	for _, test := range [][2]string{
		{"aes256gcm16-prfsha384-ecp384", "aes256gcm16"},
		{"aes128gcm16-prfsha256-ecp256", "aes128gcm16"},
		{"chacha20poly1305-prfsha512-curve25519", "chacha20poly1305"},
		{"aes256-sha512-ecp521", "aes256-sha512"}, {"aes192-sha384-modp1536", "aes192-sha384"},
		{"aes128-sha256-modp2048", "aes128-sha256"}, {"3des-sha1-modp1024", "3des-sha1"},
		{"aes256-md5-modp3072", "aes256-md5"},
	} {
		s, r := pair(t, test[0], test[1], newSource())
		if err := s.Begin(); err != nil {
			t.Errorf("%s: %v", test[0], err)
			continue
		}
		in, err := s.SignIn(func(Phase) {})
		if err != nil || s.Suite != test[0] || in.Child.Suite != test[1] {
			t.Errorf("%v: %v, %s and %+v", test, err, s.Suite, in.Child)
			continue
		}
		notes, err := ikev2.Message{Payloads: r.asked}.Notifications()
		if err != nil || find(notes, ikev2.InitialContact) != nil {
			t.Errorf("%v: it would throw out a device that is connected (%v)", test, err)
		}
		packet := append([]byte{0x45}, make([]byte, 99)...)
		b, err := in.Child.Seal(packet, s.Random)
		if err != nil || !r.Takes(b) {
			t.Errorf("%v: %v", test, err)
			continue
		}
		back := r.Carry(b, func(p []byte) []byte { return p })
		if got, err := in.Child.Open(back); err != nil || !bytes.Equal(got, packet) {
			t.Errorf("%v: carried %x (%v)", test, got, err)
		}
		if _, err := in.Child.Open(back); err == nil {
			t.Errorf("%v: a packet came twice", test)
		}
		if r.Carry(b, func(p []byte) []byte { return p }) != nil {
			t.Errorf("%v: the gateway took a packet twice", test)
		}
		back[len(back)-1] ^= 1
		if _, err := in.Child.Open(back); err == nil {
			t.Errorf("%v: a changed packet was taken", test)
		}
		if err := s.End(); err != nil {
			t.Errorf("%v: %v", test, err)
		}
	}
}

// TestWrongKey signs in with another pre-shared key.
func TestWrongKey(t *testing.T) {
	s, _ := pair(t, "aes256-sha256-ecp256", "aes256gcm16", newSource())
	s.PSK = "help"
	if err := s.Begin(); err != nil {
		t.Fatal(err)
	}
	var refused *RefusedError
	if _, err := s.SignIn(func(Phase) {}); !errors.As(err, &refused) ||
		refused.Name() != "AUTHENTICATION_FAILED" {
		t.Errorf("another key: %v", err)
	}
}

// FuzzGateway lets a gateway answer anything, once keys are agreed on: whatever it says is sealed
// as it should be, so that all that reads it is reached.
func FuzzGateway(f *testing.F) {
	f.Add(uint8(36), []byte{1, 0, 0, 0})
	f.Add(uint8(48), []byte{0, 0, 0, 9, 1, 1, 0, 5, 1})
	f.Add(uint8(41), []byte{0, 0, 0, 8, 0, 0, 0, 24})
	f.Add(uint8(47), []byte{0, 0, 0, 12, 2, 0, 0, 0, 0, 1, 0, 4})
	f.Fuzz(func(t *testing.T, first uint8, chain []byte) {
		s, r := pair(t, "aes256gcm16-prfsha256-ecp256", "aes256gcm16", newSource())
		s.PSK = ""
		s.EAP = &eap.Conversation{Name: "ada", Method: &eap.MSCHAP{
			Login: "ada", Password: "kelp", Random: s.Random,
		}}
		if err := s.Begin(); err != nil {
			t.Fatal(err)
		}
		rounds := 0
		s.Exchange = func(datagrams [][]byte, take func([]byte) bool) error {
			if rounds++; rounds > 200 {
				t.Fatal("the sign-in does not end")
			}
			b, err := r.wrap(ikev2.Auth, s.id, ikev2.KindEncrypted, first, nil, chain, s.Random)
			if err != nil || !take(b) {
				return errors.New("no answer")
			}
			return nil
		}
		in := Inside{}
		_, _ = s.SignIn(func(Phase) {})
		_ = in.configure(chain)
		_, _ = readSelectors(chain)
		if list, err := isakmp.DecodeChain(first, chain); err == nil {
			_, _ = s.given(list)
		}
	})
}

// TestCovers compares networks with ranges at their ends.
func TestCovers(t *testing.T) {
	address := netip.MustParseAddr
	for _, test := range []struct {
		from, to, network string
		covers            bool
	}{
		{"10.20.0.0", "10.20.255.255", "10.20.0.0/16", true},
		{"10.20.0.1", "10.20.255.255", "10.20.0.0/16", false},
		{"10.20.0.0", "10.20.255.254", "10.20.0.0/16", false},
		{"10.20.0.0", "10.20.255.255", "10.20.7.0/24", true},
		{"0.0.0.0", "255.255.255.255", "0.0.0.0/0", true},
		{"0.0.0.0", "127.255.255.255", "0.0.0.0/0", false},
		{"0.0.0.0", "255.255.255.255", "::/0", false},
		{"::", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "::/0", true},
		{"10.20.0.7", "10.20.0.7", "10.20.0.7/32", true},
	} {
		r := Range{address(test.from), address(test.to)}
		if got := r.Covers(netip.MustParsePrefix(test.network)); got != test.covers {
			t.Errorf("%s covers %s: %t", r, test.network, got)
		}
	}
}
