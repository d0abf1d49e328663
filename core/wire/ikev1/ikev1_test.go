package ikev1_test

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
	"wardicon/core/wire/ikev1"
	"wardicon/core/wire/isakmp"
)

func offer(t testing.TB, text string) ikev1.Transform {
	t.Helper()
	s, err := suite.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	o, ok := ikev1.Offer(s, ikev1.AuthPSK)
	if !ok {
		t.Fatalf("%s cannot be offered", text)
	}
	return o
}

// sample is a message with each kind of payload.
func sample(t testing.TB) ikev1.Message {
	long := offer(t, "3des-md5-modp1024")
	long[ikev1.ClassLife] = 86400 // needs the long form of an attribute
	return ikev1.Message{
		InitiatorCookie: 0x0102030405060708,
		ResponderCookie: 9,
		Exchange:        ikev1.Aggressive,
		Payloads: []isakmp.Payload{
			ikev1.SA(
				offer(t, "aes256-sha256-modp2048"),
				long,
			),
			{Kind: ikev1.KindKE, Body: bytes.Repeat([]byte{5}, 256)},
			{Kind: ikev1.KindNonce, Body: make([]byte, 32)},
			ikev1.Identification(
				ikev1.IDName,
				[]byte("norrvik.skerryline.example"),
			),
			ikev1.Notify(ikev1.NoProposalChosen, []byte("why")),
			{Kind: ikev1.KindVendor, Body: ikev1.VendorNATT},
		},
	}
}

// TestRoundTrip reads back what was written, and compares with bytes that were worked out by hand.
func TestRoundTrip(t *testing.T) {
	m := sample(t)
	b, err := m.Encode()
	if err != nil {
		t.Fatal(err)
	}
	got, err := ikev1.Decode(b)
	if err != nil || !reflect.DeepEqual(got, m) {
		t.Fatalf("%+v (%v)", got, err)
	}
	body, _ := got.Find(ikev1.KindSA)
	list, err := ikev1.DecodeSA(body)
	if err != nil || len(list) != 2 || !list[0].Says(offer(t, "aes256-sha256-modp2048")) ||
		list[1].Says(list[0]) ||
		list[1][ikev1.ClassLife] != 86400 {
		t.Errorf("%+v (%v)", list, err)
	}
	// RFC 2409 appendix A: AES-CBC-256, SHA2-256, group 14, pre-shared key, 3,600 seconds.
	want := "0000000100000001" + "0000002c01010001" + "0000002401010000" +
		"80010007800e0100800200048004000e80030001800b0001800c0e10"
	if got := hex.EncodeToString(ikev1.SA(list[0]).Body); got != want {
		t.Errorf("%s, expected %s", got, want)
	}
	if kind, ok, err := got.Notification(); kind != ikev1.NoProposalChosen || !ok || err != nil {
		t.Errorf("notification %d, %t (%v)", kind, ok, err)
	}
	for _, id := range []struct {
		kind  uint8
		bytes []byte
		text  string
	}{
		{ikev1.IDName, []byte("norrvik.skerryline.example"), "norrvik.skerryline.example"},
		{ikev1.IDAddress4, []byte{198, 51, 100, 7}, "198.51.100.7"},
		{ikev1.IDKey, []byte("crew"), "crew"},
	} {
		if kind, text, err := ikev1.DecodeIdentification(
			ikev1.Identification(id.kind, id.bytes).Body,
		); kind != id.kind || text != id.text ||
			err != nil {
			t.Errorf("identity %d %q (%v), expected %d %q", kind, text, err, id.kind, id.text)
		}
	}
	if _, ok := ikev1.Offer(
		suite.Proposal{Encryption: "aes256gcm16", Group: "modp2048"},
		ikev1.AuthPSK,
	); ok {
		t.Error("an authenticated cipher can be offered by IKEv1")
	}
	// RFC 3947 §3.1 prints the vendor identifier.
	if got := hex.EncodeToString(ikev1.VendorNATT); got != "4a131c81070358455c5728f20e95452f" {
		t.Error(got)
	}
	a := ikev1.NATD("sha256", 1, 2, netip.MustParseAddrPort("198.51.100.7:500"))
	if len(a) != 32 ||
		bytes.Equal(a, ikev1.NATD("sha256", 1, 2, netip.MustParseAddrPort("198.51.100.8:500"))) ||
		ikev1.NATD("rot13", 1, 2, netip.MustParseAddrPort("198.51.100.8:500")) != nil {
		t.Errorf("%x", a)
	}
}

// TestBroken refuses messages that are cut short or that lie about their lengths.
func TestBroken(t *testing.T) {
	b, err := sample(t).Encode()
	if err != nil {
		t.Fatal(err)
	}
	for n := range b {
		if _, err := ikev1.Decode(b[:n]); !errors.Is(err, wire.ErrMalformed) {
			t.Fatalf("%d of %d bytes: %v", n, len(b), err)
		}
	}
	secret := slices.Clone(b)
	secret[19] = 1
	if m, err := ikev1.Decode(secret); err != nil || !m.Encrypted || len(m.Payloads) != 0 {
		t.Errorf("an encrypted message: %+v (%v)", m, err)
	}
	newer := slices.Clone(b)
	newer[17] = 0x20
	if _, err := ikev1.Decode(newer); !errors.Is(err, wire.ErrMalformed) {
		t.Errorf("version 2: %v", err)
	}
	body, _ := sample(t).Find(ikev1.KindSA)
	for n := range body {
		if list, err := ikev1.DecodeSA(body[:n]); err == nil && len(list) == 2 {
			t.Fatalf("%d of %d bytes of an association: %d", n, len(body), len(list))
		}
	}
	for _, b := range [][]byte{nil, {1, 0, 0, 0, 1, 2, 3}} {
		if _, _, err := ikev1.DecodeIdentification(b); !errors.Is(err, wire.ErrMalformed) {
			t.Errorf("identity %v: %v", b, err)
		}
	}
	if _, _, err := (ikev1.Message{Payloads: []isakmp.Payload{{
		Kind: ikev1.KindNotify,
		Body: []byte{1},
	}}}).Notification(); !errors.Is(
		err,
		wire.ErrMalformed,
	) {
		t.Errorf("a notification of one byte: %v", err)
	}
}

// FuzzDecode decodes anything: what can be decoded is written as it was read, flags aside.
func FuzzDecode(f *testing.F) {
	b, err := sample(f).Encode()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Add(b[:60])
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := ikev1.Decode(b)
		if err != nil || m.Encrypted {
			return
		}
		again, err := m.Encode()
		if err != nil {
			t.Fatal(err)
		}
		second, err := ikev1.Decode(again)
		if err != nil || !reflect.DeepEqual(m, second) {
			t.Fatalf("%+v, then %+v (%v)", m, second, err)
		}
		_, _, _ = m.Notification()
		for _, p := range m.Payloads {
			switch p.Kind {
			case ikev1.KindSA:
				if list, err := ikev1.DecodeSA(p.Body); err == nil && len(list) > 0 {
					if same, err := ikev1.DecodeSA(
						ikev1.SA(list...).Body,
					); err != nil || len(same) != len(list) ||
						!same[0].Says(list[0]) {
						t.Fatalf("%+v, then %+v (%v)", list, same, err)
					}
				}
			case ikev1.KindIdentification:
				_, _, _ = ikev1.DecodeIdentification(p.Body)
			}
		}
	})
}
