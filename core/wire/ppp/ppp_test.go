package ppp_test

import (
	"bytes"
	"encoding/hex"
	"testing"

	"wardicon/core/wire/ppp"
)

func unhex(t *testing.T, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(s)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestVectors are those of RFC 2759 §9.2 and, for CHAP with MD5, of the definition in RFC
// 1994 §4.1 with RFC 1321's digest of a known text.
func TestVectors(t *testing.T) {
	authenticator, peer := unhex(
		t,
		"5B5D7C7D7B3F2F3E3C2C602132262628",
	), unhex(
		t,
		"21402324255E262A28295F2B3A337C7E",
	)
	response := unhex(t, "82309ECD8D708B5EA08FAA3981CD83544233114A3D85D6DF")
	if got := ppp.PasswordHash(
		"clientPass",
	); !bytes.Equal(
		got,
		unhex(t, "44EBBA8D5312B8D611474411F56989AE"),
	) {
		t.Errorf("hash %x", got)
	}
	for _, login := range []string{"User", `SKERRY\User`} {
		if got := ppp.NTResponse(
			authenticator,
			peer,
			login,
			"clientPass",
		); !bytes.Equal(
			got,
			response,
		) {
			t.Errorf("%s: response %x", login, got)
		}
		if got := ppp.AuthenticatorResponse(
			"clientPass",
			response,
			peer,
			authenticator,
			login,
		); got != "S=407A5589115FD0D6209F510FE9C04566932CDA56" {
			t.Errorf("%s: %s", login, got)
		}
	}
	if got := ppp.CHAPResponse(
		'm',
		"essage",
		[]byte(" digest"),
	); !bytes.Equal(
		got,
		unhex(t, "f96b697d7cb7938d525a2f31aaf161d0"),
	) {
		t.Errorf("CHAP %x", got)
	}
}

// TestFraming takes frames out of a stream that is cut anywhere, and drops broken ones.
func TestFraming(t *testing.T) {
	// The check value of this sum for "123456789" is 906E (RFC 1662 appendix C).
	if got := ppp.Stuff(
		[]byte("123456789"),
	); !bytes.Equal(
		got,
		unhex(t, "7e3132333435363738396e907e"),
	) {
		t.Errorf("%x", got)
	}
	var u ppp.Unstuffer
	frame := ppp.Frame(
		ppp.LCP,
		ppp.Message{Code: ppp.EchoRequest, ID: 7, Data: []byte{0x7E, 0x7D, 0, 0x1F, 0xFF}}.Encode(),
	)
	stream := append(ppp.Stuff(frame), ppp.Stuff(frame)...)
	for cut := range stream {
		u = ppp.Unstuffer{}
		got := append(u.Write(stream[:cut]), u.Write(stream[cut:])...)
		if len(got) != 2 || !bytes.Equal(got[0], frame) || !bytes.Equal(got[1], frame) {
			t.Fatalf("cut at %d: %x", cut, got)
		}
	}
	broken := bytes.Clone(stream)
	broken[5] ^= 1
	if got := new(ppp.Unstuffer).Write(broken); len(got) != 1 {
		t.Errorf("a broken frame: %x", got)
	}
	if got := new(
		ppp.Unstuffer,
	).Write(append(bytes.Repeat([]byte{1}, 3*ppp.MaxFrame), stream...)); len(
		got,
	) != 2 {
		t.Errorf("after a flood: %x", got)
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(
		ppp.Frame(
			ppp.LCP,
			ppp.Message{
				Code: 1,
				ID:   1,
				Data: ppp.Options(ppp.Option{Kind: 1, Data: []byte{5, 220}}),
			}.Encode(),
		),
	)
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, frame := range new(ppp.Unstuffer).Write(ppp.Stuff(b)) {
			if !bytes.Equal(frame, b) {
				t.Fatalf("%x became %x", b, frame)
			}
		}
		_, payload, err := ppp.DecodeFrame(b)
		if err != nil {
			return
		}
		m, err := ppp.DecodeMessage(payload)
		if err != nil {
			return
		}
		if list, err := ppp.DecodeOptions(
			m.Data,
		); err == nil &&
			!bytes.Equal(ppp.Options(list...), m.Data) {
			t.Fatalf("%x is written as %x", m.Data, ppp.Options(list...))
		}
		_, _, _ = ppp.Named(m.Data)
	})
}
