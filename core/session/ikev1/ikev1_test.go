package ikev1

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"
)

type source struct{ *rand.Rand }

func newSource() *source { return &source{rand.New(rand.NewPCG(1, 2))} }

func (s *source) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = byte(s.Uint32())
	}
	return len(b), nil
}

// suites reads proposals.
func suites(t testing.TB, list ...string) []suite.Proposal {
	t.Helper()
	out, err := suite.ParseAll(list)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// gateway answers as one does that chooses the first suite that is offered.
func gateway(t testing.TB, r *Responder, ike []suite.Proposal) func([]byte) []byte {
	return func(b []byte) []byte {
		m, err := ikev1.Decode(b)
		if err != nil {
			return nil
		}
		if m.Encrypted {
			return r.Handle(b)
		}
		answer := ikev1.Message{
			InitiatorCookie: m.InitiatorCookie, ResponderCookie: 7, Exchange: m.Exchange,
		}
		if body, ok := m.Find(ikev1.KindSA); ok {
			list, err := ikev1.DecodeSA(body)
			if err != nil || len(list) == 0 {
				return nil
			}
			for _, auth := range []uint16{ikev1.AuthPSK, ikev1.AuthRSA, ikev1.AuthP256} {
				if p, ok := suiteOf(list[0], ike, auth); ok {
					rest, err := r.Begin(m, p, 7)
					if err != nil {
						t.Fatal(err)
					}
					answer.Payloads = append([]isakmp.Payload{ikev1.SA(list[0])}, rest...)
				}
			}
			if answer.Payloads == nil {
				answer.Exchange = ikev1.Informational
				answer.Payloads = []isakmp.Payload{ikev1.Notify(ikev1.NoProposalChosen, nil)}
			}
		} else if answer.Payloads, err = r.Exchange(m); err != nil {
			return nil
		}
		out, err := answer.Encode()
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
}

var errNothing = errors.New("nothing came")

// join has a session talk to a gateway.
func join(s *Session, answer func([]byte) []byte) {
	s.Exchange = func(datagrams [][]byte, take func([]byte) bool) error {
		for range 2 { // every one comes twice
			for _, d := range datagrams {
				if out := answer(slices.Clone(d)); out != nil && take(out) {
					return nil
				}
			}
		}
		return errNothing
	}
}

func identity(t testing.TB, key crypto.Signer, name string) []*x509.Certificate {
	t.Helper()
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: time.Unix(0, 0), NotAfter: time.Unix(1<<33, 0),
	}
	der, err := x509.CreateCertificate(newSource(), template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return []*x509.Certificate{c}
}

func ends(t testing.TB) (*Session, *Responder) {
	random := newSource()
	return &Session{Options: Options{
			IKE: suites(t, "aes256-sha256-modp2048"), ESP: suites(t, "aes256-sha256"), PSK: "kelp",
			Local: ipsec.ParseIdentity(
				"198.51.100.9",
				nil,
			), Own: netip.MustParseAddr("198.51.100.9"),
			Gateway: netip.MustParseAddr("203.0.113.7"), Protocol: 17, Port: 1701, Random: random,
			Verify: func([]*x509.Certificate, ipsec.Identity) error { return nil },
		}}, &Responder{
			Who: ipsec.ParseIdentity("gw.skerryline.example", nil), PSK: "kelp", Random: random,
			ESP: suites(t, "aes256-sha256", "aes128-sha1", "aes128gcm16"),
		}
}

// TestEnds goes to ESP by each way of proving both ends, by suites of every kind; what is wrong
// ends in the phase that shows it.
func TestEnds(t *testing.T) {
	curve, err := ecdsa.GenerateKey(elliptic.P256(), newSource())
	if err != nil {
		t.Fatal(err)
	}
	factors, err := rsa.GenerateKey(newSource(), 2048)
	if err != nil {
		t.Fatal(err)
	}
	by := func(key crypto.Signer) func(*Session, *Responder) {
		return func(s *Session, r *Responder) {
			s.PSK, r.PSK, s.Key, r.Key = "", "", key, key
			s.Chain = identity(t, key, "laptop.skerryline.example")
			r.Chain = identity(t, key, "gw.skerryline.example")
		}
	}
	for _, test := range []struct {
		name   string
		change func(*Session, *Responder)
		fault  error  // by errors.Is, where it is one
		phase  string // in which it ends
	}{
		{"pre-shared key", func(*Session, *Responder) {}, nil, ""},
		{"3DES and SHA-1", func(s *Session, _ *Responder) {
			s.IKE = suites(t, "3des-sha1-modp1024")
		}, nil, ""},
		{"a key that is longer than the digest", func(s *Session, _ *Responder) {
			s.IKE = suites(t, "aes256-md5-ecp256")
		}, nil, ""},
		{"PFS", func(s *Session, _ *Responder) { s.ESP = suites(t, "aes128-sha1-ecp256") }, nil, ""},
		{"AEAD", func(s *Session, _ *Responder) { s.ESP = suites(t, "aes128gcm16") }, nil, ""},
		{"aggressive mode", func(s *Session, _ *Responder) { s.Aggressive = true }, nil, ""},
		{"RSA", by(factors), nil, ""},
		{"ECDSA", by(curve), nil, ""},
		{"aggressive mode by RSA", func(s *Session, r *Responder) {
			by(factors)(s, r)
			s.Aggressive = true
		}, nil, ""},
		{"another key", func(s *Session, _ *Responder) { s.PSK = "Kelp" }, ErrKey, "prove"},
		{"another key in aggressive mode", func(s *Session, _ *Responder) {
			s.PSK, s.Aggressive = "Kelp", true
		}, ErrProof, "begin"},
		{"another certificate", func(s *Session, r *Responder) {
			by(curve)(s, r)
			r.Key, _ = ecdsa.GenerateKey(elliptic.P256(), &source{rand.New(rand.NewPCG(5, 6))})
		}, ErrProof, "prove"},
		{"a device that is not trusted", func(s *Session, r *Responder) {
			by(curve)(s, r)
			r.Trusts = func(*x509.Certificate) bool { return false }
		}, errNothing, "prove"},
		{"another identity", func(s *Session, _ *Responder) {
			other := ipsec.ParseIdentity("other.skerryline.example", nil)
			s.Remote = &other
		}, nil, "prove"},
		{"no suite for ESP", func(_ *Session, r *Responder) { r.ESP = nil }, nil, "child"},
	} {
		t.Run(test.name, func(t *testing.T) {
			s, r := ends(t)
			test.change(s, r)
			join(s, gateway(t, r, s.IKE))
			phase, err := "begin", s.Begin()
			if err == nil {
				phase, err = "prove", s.Prove()
			}
			var tunnel Tunnel
			if err == nil {
				phase = "child"
				tunnel, err = s.Child()
			}
			if test.phase != "" {
				if err == nil || phase != test.phase ||
					test.fault != nil && !errors.Is(err, test.fault) {
					t.Fatalf("%s: %v, expected %s: %v", phase, err, test.phase, test.fault)
				}
				return
			}
			if err != nil {
				t.Fatalf("%s: %v", phase, err)
			}
			if r.Child() != nil {
				t.Error("the gateway opened the association before it was confirmed")
			}
			r.Handle(tunnel.Confirmed)
			back := r.Child()
			if back == nil {
				t.Fatal("the gateway did not open the association")
			}
			for _, way := range [][2]*ipsec.Child{{tunnel.Child, back}, {back, tunnel.Child}} {
				packet, err := way[0].Seal([]byte("a datagram"), s.Random)
				if err != nil {
					t.Fatal(err)
				}
				if got, err := way[1].Open(packet); err != nil || string(got) != "a datagram" {
					t.Errorf("%q (%v)", got, err)
				}
				if _, err := way[1].Open(packet); err == nil {
					t.Error("a packet is read twice")
				}
			}
			over, err := s.End()
			if err != nil || len(over) != 2 {
				t.Errorf("%d messages at the end (%v)", len(over), err)
			}
		})
	}
}

// TestSpoilt changes every byte of what a gateway says: no change is taken for the truth, and
// nothing breaks.
func TestSpoilt(t *testing.T) {
	for exchange := range 4 {
		for at := range 160 {
			s, r := ends(t)
			s.IKE = suites(t, "aes128-sha256-ecp256")
			answer, n := gateway(t, r, s.IKE), 0
			s.Exchange = func(datagrams [][]byte, take func([]byte) bool) error {
				out := answer(datagrams[len(datagrams)-1])
				if n++; n == exchange+1 && out != nil {
					if at >= len(out) {
						return errNothing
					}
					out = bytes.Clone(out)
					out[at] ^= 0x40
				}
				if out != nil && take(out) {
					return nil
				}
				return errNothing
			}
			err := s.Begin()
			if err == nil {
				err = s.Prove()
			}
			// The first two are protected by nothing but the keys that come of them, and vendors'
			// names and other payloads are no part of that.
			if err == nil && exchange >= 2 {
				_, err = s.Child()
				// The flags of the header are in no proof (RFC 2409 §5.5).
				if err == nil && exchange == 3 && at != 19 {
					t.Errorf("byte %d of answer %d was changed, and taken", at, exchange+1)
				}
			}
		}
	}
}

// FuzzSession hands anything to a device as the gateway's answers.
func FuzzSession(f *testing.F) {
	s, r := ends(f)
	ike := s.IKE
	var said []byte
	answer := gateway(f, r, ike)
	join(s, func(b []byte) []byte {
		out := answer(b)
		said = append(append(said, byte(len(out)>>8), byte(len(out))), out...)
		return out
	})
	if err := s.Begin(); err != nil {
		f.Fatal(err)
	}
	f.Add(said, false)
	f.Fuzz(func(t *testing.T, b []byte, aggressive bool) {
		s, _ := ends(t)
		s.Aggressive = aggressive
		join(s, func([]byte) []byte {
			if len(b) < 2 {
				return nil
			}
			n := min(int(b[0])<<8|int(b[1]), len(b)-2)
			out := b[2 : 2+n]
			b = b[2+n:]
			return out
		})
		if s.Begin() == nil && s.Prove() == nil {
			_, _ = s.Child()
		}
	})
}
