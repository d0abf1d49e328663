package sstp_test

import (
	"encoding/hex"
	"errors"
	"reflect"
	"testing"

	"wardicon/core/wire"
	"wardicon/core/wire/sstp"
)

var samples = []sstp.Message{
	sstp.Request(),
	sstp.Ack(sstp.HashSHA1|sstp.HashSHA256, [32]byte{1, 2, 3}),
	sstp.Refusal(sstp.ConnectNak, sstp.AttrProtocol, 4),
	sstp.Refusal(sstp.Abort, sstp.AttrBinding, 8),
	{
		Kind:       sstp.Connected,
		Attributes: []sstp.Attribute{{sstp.AttrBinding, make([]byte, 100)}},
	},
	{Kind: sstp.Disconnect},
	{Kind: sstp.DisconnectAck},
	{Kind: sstp.EchoRequest},
	{Kind: sstp.EchoReply},
}

// TestRoundTrip reads back a message of each kind, and refuses it cut short, longer or with another
// beginning.
func TestRoundTrip(t *testing.T) {
	for _, m := range samples {
		b, err := m.Encode()
		if err != nil {
			t.Fatal(err)
		}
		if got, err := sstp.Decode(b); err != nil || !reflect.DeepEqual(got, m) {
			t.Errorf("%+v (%v), expected %+v", got, err, m)
		}
		for n := range b {
			if _, err := sstp.Decode(b[:n]); !errors.Is(err, wire.ErrMalformed) {
				t.Fatalf("kind %d, %d of %d bytes: %v", m.Kind, n, len(b), err)
			}
		}
		for at, value := range map[int]byte{0: 0x20, 1: 0, 2: 0x0F, 6: 1, 10: 0x0F} {
			if at < len(b) {
				b[at], value = value, b[at]
				if _, err := sstp.Decode(b); !errors.Is(err, wire.ErrMalformed) {
					t.Errorf("kind %d with byte %d changed: %v", m.Kind, at, err)
				}
				b[at] = value
			}
		}
	}
	// MS-SSTP §2.2.9: 14 bytes, one attribute, PPP.
	request, _ := samples[0].Encode()
	if got := hex.EncodeToString(request); got != "1001000e00010001000100060001" {
		t.Error(got)
	}
	if h, ok := samples[1].Hashes(); h != 3 || !ok {
		t.Errorf("hashes %d", h)
	}
	if a, s, ok := samples[2].Status(); a != sstp.AttrProtocol || s != 4 || !ok ||
		sstp.Statuses[s] == "" {
		t.Errorf("status %d of %d", s, a)
	}
	if _, err := (sstp.Message{Attributes: []sstp.Attribute{{1,
		make([]byte, 4092)}}}).Encode(); err == nil {
		t.Error("a message of more than 4,095 bytes was written")
	}
}

// FuzzDecode decodes anything: what can be decoded is written as it was read, but for what is
// reserved.
func FuzzDecode(f *testing.F) {
	for _, m := range samples {
		b, err := m.Encode()
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := sstp.Decode(b)
		if err != nil {
			return
		}
		_, _ = m.Hashes()
		_, _, _ = m.Status()
		again, err := m.Encode()
		if err != nil {
			t.Fatal(err)
		}
		if second, err := sstp.Decode(again); err != nil || !reflect.DeepEqual(m, second) {
			t.Fatalf("%+v, then %+v (%v)", m, second, err)
		}
	})
}
