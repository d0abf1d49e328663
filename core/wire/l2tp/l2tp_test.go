package l2tp_test

import (
	"encoding/hex"
	"errors"
	"reflect"
	"testing"

	"wardicon/core/wire"
	"wardicon/core/wire/l2tp"
)

// samples are messages of each kind that a probe sends or may be sent.
var samples = []l2tp.Message{
	{AVPs: l2tp.Start(l2tp.StartRequest, "purser", 7)},
	{
		Tunnel:   7,
		Expected: 1,
		AVPs: append(
			l2tp.Start(l2tp.StartReply, "norrvik", 9),
			l2tp.Text(l2tp.AttrVendor, "anybody"),
			l2tp.AVP{
				Type:      l2tp.AttrChallenge,
				Mandatory: true,
				Hidden:    true,
				Value:     make([]byte, 16),
			},
		),
	},
	{Tunnel: 9, Sent: 1, Expected: 1, AVPs: l2tp.Stop(7, 1)},
	{Tunnel: 9, Sent: 2, Expected: 1},
	{
		Tunnel:  9,
		Session: 4,
		AVPs: []l2tp.AVP{
			l2tp.Number(l2tp.AttrMessageType, uint16(l2tp.CallDisconnect)),
			{
				Mandatory: true,
				Type:      l2tp.AttrResult,
				Value:     []byte("\x00\x02\x00\x06no realm of that name"),
			},
		},
	},
}

// TestRoundTrip reads back a message of each kind, and refuses it cut short or with another
// beginning.
func TestRoundTrip(t *testing.T) {
	for _, m := range samples {
		b, err := m.Encode()
		if err != nil {
			t.Fatal(err)
		}
		if got, err := l2tp.Decode(
			b,
		); err != nil || !reflect.DeepEqual(got, m) ||
			got.Kind() != m.Kind() {
			t.Errorf("%+v (%v), expected %+v", got, err, m)
		}
		for n := range b {
			if _, err := l2tp.Decode(b[:n]); !errors.Is(err, wire.ErrMalformed) {
				t.Fatalf("kind %d, %d of %d bytes: %v", m.Kind(), n, len(b), err)
			}
		}
		for at, value := range map[int]byte{0: 0x48, 1: 3, 2: 0xFF, 3: 11, 13: 0, 15: 1, 17: 1} {
			if at < len(b) {
				b[at], value = value, b[at]
				if _, err := l2tp.Decode(b); !errors.Is(err, wire.ErrMalformed) {
					t.Errorf("kind %d with byte %d changed: %v", m.Kind(), at, err)
				}
				b[at] = value
			}
		}
	}
	ack, _ := samples[3].Encode()
	if got := hex.EncodeToString(ack); got != "c802000c0009000000020001" {
		t.Error(got)
	}
	if result, fault, text := samples[4].Result(); result != 2 || fault != 6 ||
		text != "no realm of that name" {
		t.Errorf("result %d, error %d, %q", result, fault, text)
	}
	if n, ok := samples[1].Uint(l2tp.AttrTunnel); n != 9 || !ok {
		t.Errorf("tunnel %d", n)
	}
	if _, ok := samples[1].Find(l2tp.AttrChallenge); ok {
		t.Error("a hidden value was read")
	}
	if _, err := (l2tp.Message{AVPs: []l2tp.AVP{{Value: make([]byte,
		1018)}}}).Encode(); err == nil {
		t.Error("a value of 1,018 bytes was written")
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
		m, err := l2tp.Decode(b)
		if err != nil {
			return
		}
		_, _, _ = m.Result()
		again, err := m.Encode()
		if err != nil {
			t.Fatal(err)
		}
		if second, err := l2tp.Decode(again); err != nil || !reflect.DeepEqual(m, second) {
			t.Fatalf("%+v, then %+v (%v)", m, second, err)
		}
	})
}

// TestData writes a data message as it was worked out by hand (RFC 2661 §3.1), and reads those of
// other ends with and without what may stand in its header.
func TestData(t *testing.T) {
	if got := hex.EncodeToString(l2tp.Data(7, 6, []byte{0xFF, 3})); got != "4002000a00070006ff03" {
		t.Error(got)
	}
	for text, want := range map[string]string{
		"4002000a00070006ff03":                 "ff03",
		"000200070006ff03":                     "ff03",
		"0802000700060001" + "0002" + "ff03":   "ff03",
		"4a020012000700060001000200020000ff03": "ff03",
		"0202000700060000ff03":                 "ff03",
		"4002000c00070006ff03":                 "", // longer than it is
		"02020007000600ffff03":                 "", // an offset behind the end
		"c802000a00070006ff03":                 "", // a control message
		"0003000700":                           "",
	} {
		b, _ := hex.DecodeString(text)
		tunnel, session, frame, err := l2tp.DecodeData(b)
		if want == "" {
			if !errors.Is(err, wire.ErrMalformed) {
				t.Errorf("%s: %v", text, err)
			}
			continue
		}
		if err != nil || tunnel != 7 || session != 6 || hex.EncodeToString(frame) != want {
			t.Errorf("%s: tunnel %d, session %d, %x (%v)", text, tunnel, session, frame, err)
		}
	}
}

// FuzzData decodes anything.
func FuzzData(f *testing.F) {
	f.Add(l2tp.Data(7, 6, []byte{0xFF, 3}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, _, frame, err := l2tp.DecodeData(b); err == nil && len(frame) > len(b) {
			t.Fatal("more than there is")
		}
	})
}
