package ikev2_test

import (
	"bytes"
	"encoding/hex"
	"errors"
	"net/netip"
	"reflect"
	"slices"
	"testing"

	"wardicon/core/suite"
	"wardicon/core/wire"
	"wardicon/core/wire/ikev2"
	"wardicon/core/wire/isakmp"
)

// sample is a message with each kind of payload.
func sample(t testing.TB) ikev2.Message {
	t.Helper()
	var proposals []ikev2.Proposal
	for i, text := range []string{"aes256-sha256-modp2048", "aes128gcm16-ecp256",
		"aes256gcm16-sha384-ecp384", "3des-sha1-modp1024", "chacha20poly1305-curve25519"} {
		s, err := suite.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		p, ok := ikev2.Offer(uint8(i+1), s)
		if !ok {
			t.Fatalf("%s cannot be offered", text)
		}
		proposals = append(proposals, p)
	}
	return ikev2.Message{
		InitiatorSPI: 0x0102030405060708,
		ResponderSPI: 9,
		Exchange:     ikev2.SAInit,
		Initiator:    true,
		ID:           7,
		Payloads: []isakmp.Payload{
			ikev2.SA(
				proposals...),
			ikev2.KE(14, bytes.Repeat([]byte{5}, 256)),
			{Kind: ikev2.KindNonce, Body: make([]byte, 32)},
			ikev2.Notify(
				ikev2.Cookie,
				[]byte("biscuit"),
			),
			{Kind: ikev2.KindVendor, Critical: true, Body: []byte("anybody")},
		},
	}
}

// TestRoundTrip reads back what was written, and compares one proposal with bytes that were worked
// out by hand.
func TestRoundTrip(t *testing.T) {
	m := sample(t)
	b, err := m.Encode()
	if err != nil {
		t.Fatal(err)
	}
	got, err := ikev2.Decode(b)
	if err != nil || !reflect.DeepEqual(got, m) {
		t.Fatalf("%+v (%v)", got, err)
	}
	body, _ := got.Find(ikev2.KindSA)
	proposals, err := ikev2.DecodeSA(body)
	if err != nil || len(proposals) != 5 {
		t.Fatalf("%+v (%v)", proposals, err)
	}
	for i, want := range [][]ikev2.Transform{
		{{1, 12, 256}, {2, 5, 0}, {3, 12, 0}, {4, 14, 0}},
		{{1, 20, 128}, {2, 5, 0}, {2, 6, 0}, {2, 7, 0}, {2, 2, 0}, {4, 19, 0}},
		{{1, 20, 256}, {2, 6, 0}, {4, 20, 0}},
		{{1, 3, 0}, {2, 2, 0}, {3, 2, 0}, {4, 2, 0}},
		{{1, 28, 0}, {2, 5, 0}, {2, 6, 0}, {2, 7, 0}, {2, 2, 0}, {4, 31, 0}},
	} {
		if !slices.Equal(proposals[i].Transforms, want) {
			t.Errorf("proposal %d: %v, expected %v", i+1, proposals[i].Transforms, want)
		}
	}
	// RFC 7296 §3.3: AES-CBC-256, HMAC-SHA2-256 as PRF and as integrity, group 14.
	want := "0000002c01010004" + "0300000c0100000c800e0100" + "0300000802000005" +
		"030000080300000c" + "000000080400000e"
	if got := hex.EncodeToString(ikev2.SA(proposals[0]).Body); got != want {
		t.Errorf("%s, expected %s", got, want)
	}
	notes, err := got.Notifications()
	if err != nil || len(notes) != 1 || notes[0].Type != ikev2.Cookie ||
		string(notes[0].Data) != "biscuit" {
		t.Errorf("%+v (%v)", notes, err)
	}
	for _, none := range []suite.Proposal{
		{Encryption: "aes256", Integrity: "sha256"},
		{Encryption: "aes256", Group: "modp2048"},
		{
			Encryption: "rot13",
			Integrity:  "sha1",
			Group:      "modp2048",
		},
	} {
		if _, ok := ikev2.Offer(1, none); ok {
			t.Errorf("%s can be offered", none)
		}
	}
	// RFC 7296 §2.23: SHA-1 of both SPIs, address and port.
	a := ikev2.NATHash(1, 2, netip.MustParseAddrPort("198.51.100.7:500"))
	if len(a) != 20 ||
		bytes.Equal(a, ikev2.NATHash(1, 2, netip.MustParseAddrPort("198.51.100.7:4500"))) ||
		!bytes.Equal(a, ikev2.NATHash(1, 2, netip.MustParseAddrPort("[::ffff:198.51.100.7]:500"))) {
		t.Errorf("%x", a)
	}
}

// TestBroken refuses messages that are cut short, or that lie about their lengths.
func TestBroken(t *testing.T) {
	b, err := sample(t).Encode()
	if err != nil {
		t.Fatal(err)
	}
	for n := range b {
		if _, err := ikev2.Decode(b[:n]); !errors.Is(err, wire.ErrMalformed) {
			t.Fatalf("%d of %d bytes: %v", n, len(b), err)
		}
	}
	for name, change := range map[string]func([]byte){
		"version 1":        func(b []byte) { b[17] = 0x10 },
		"a longer length":  func(b []byte) { b[27]++ },
		"no more payloads": func(b []byte) { b[16] = 0 },
		"a payload of nothing": func(b []byte) {
			b[30], b[31] = 0,
				0
		},
		"a payload too long": func(b []byte) { b[30] = 0xFF },
	} {
		broken := slices.Clone(b)
		change(broken)
		if _, err := ikev2.Decode(broken); !errors.Is(err, wire.ErrMalformed) {
			t.Errorf("%s: %v", name, err)
		}
	}
	body, _ := sample(t).Find(ikev2.KindSA)
	for n := 1; n < len(body); n++ {
		if list, err := ikev2.DecodeSA(body[:n]); err == nil && len(list) == 5 {
			t.Fatalf("%d of %d bytes of proposals: %d", n, len(body), len(list))
		}
	}
	if _, err := (ikev2.Message{Payloads: []isakmp.Payload{{
		Kind: 43,
		Body: make([]byte, 1<<16),
	}}}).Encode(); err == nil {
		t.Error("a payload of 64 KB was written")
	}
}

// FuzzDecode decodes anything: what can be decoded is written as it was read, flags and versions
// aside.
func FuzzDecode(f *testing.F) {
	b, err := sample(f).Encode()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Add(b[:60])
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := ikev2.Decode(b)
		if err != nil {
			return
		}
		again, err := m.Encode()
		if err != nil {
			t.Fatal(err)
		}
		second, err := ikev2.Decode(again)
		if err != nil || !reflect.DeepEqual(m, second) {
			t.Fatalf("%+v, then %+v (%v)", m, second, err)
		}
		_, _ = m.Notifications()
		for _, p := range m.Payloads {
			switch p.Kind {
			case ikev2.KindSA:
				if list, err := ikev2.DecodeSA(p.Body); err == nil && len(list) > 0 {
					if same, err := ikev2.DecodeSA(
						ikev2.SA(list...).Body,
					); err != nil ||
						len(same) != len(list) {
						t.Fatalf("%+v, then %+v (%v)", list, same, err)
					}
				}
			case ikev2.KindKE:
				_, _, _ = ikev2.DecodeKE(p.Body)
			}
		}
	})
}
