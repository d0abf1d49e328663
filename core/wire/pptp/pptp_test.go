package pptp_test

import (
	"bytes"
	"encoding/hex"
	"errors"
	"reflect"
	"testing"

	"wardicon/core/wire"
	"wardicon/core/wire/pptp"
)

// samples are messages of every kind, with the sizes that RFC 2637 §2 gives.
var samples = []struct {
	message pptp.Message
	size    int
}{
	{
		&pptp.StartRequest{
			Version:  pptp.Version,
			Framing:  3,
			Bearer:   3,
			Channels: 1,
			Firmware: 2,
			HostName: pptp.NewName("purser"),
			Vendor:   pptp.NewName("anybody"),
		},
		156,
	},
	{
		&pptp.StartReply{
			Version:  pptp.Version,
			Result:   pptp.StartOK,
			Framing:  3,
			Bearer:   3,
			HostName: pptp.NewName("norrvik"),
		},
		156,
	},
	{
		&pptp.StopRequest{Reason: 1},
		16,
	},
	{&pptp.StopReply{Result: 1}, 16},
	{&pptp.EchoRequest{ID: 7}, 16},
	{&pptp.EchoReply{ID: 7, Result: 1}, 20},
	{
		&pptp.CallRequest{CallID: 9, Serial: 1, MinBPS: 300, MaxBPS: 100_000_000, Window: 64},
		168,
	},
	{&pptp.CallReply{CallID: 3, PeerCallID: 9, Result: 1, Speed: 64_000}, 32},
	{
		&pptp.ClearRequest{CallID: 9},
		16,
	},
	{&pptp.DisconnectNotify{CallID: 3, Result: 4, Cause: 16}, 148},
	{&pptp.ErrorNotify{CallID: 3, CRC: 2}, 40},
	{&pptp.LinkInfo{CallID: 3, SendACCM: 0xFFFFFFFF}, 24},
}

// TestRoundTrip reads back a message of every kind, and refuses it cut short, of another kind, or
// with another beginning.
func TestRoundTrip(t *testing.T) {
	for _, s := range samples {
		b := pptp.Encode(s.message)
		if got, err := pptp.Decode(
			b,
		); err != nil || len(b) != s.size ||
			!reflect.DeepEqual(got, s.message) {
			t.Errorf(
				"kind %d: %d bytes, expected %d; %+v (%v)",
				s.message.Kind(),
				len(b),
				s.size,
				got,
				err,
			)
		}
		for n := range b {
			if _, err := pptp.Decode(b[:n]); !errors.Is(err, wire.ErrMalformed) {
				t.Fatalf("kind %d, %d of %d bytes: %v", s.message.Kind(), n, len(b), err)
			}
		}
		for at, value := range map[int]byte{1: 200, 3: 2, 4: 0, 9: 99, 0: 1} {
			broken := pptp.Encode(s.message)
			broken[at] = value
			if _, err := pptp.Decode(broken); !errors.Is(err, wire.ErrMalformed) {
				t.Errorf("kind %d with byte %d changed: %v", s.message.Kind(), at, err)
			}
		}
	}
	if got := hex.EncodeToString(
		pptp.Encode(&pptp.EchoRequest{ID: 7}),
	); got != "001000011a2b3c4d0005000000000007" {
		t.Error(got)
	}
	if name := pptp.NewName("norrvik"); name.String() != "norrvik" {
		t.Error(name.String())
	}
}

// FuzzDecode decodes anything: what can be decoded is written as it was read, but for what is
// reserved.
func FuzzDecode(f *testing.F) {
	for _, s := range samples {
		f.Add(pptp.Encode(s.message))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := pptp.Decode(b)
		if err != nil {
			return
		}
		if again, err := pptp.Decode(pptp.Encode(m)); err != nil || !reflect.DeepEqual(again, m) {
			t.Fatalf("%+v, then %+v (%v)", m, again, err)
		}
	})
}

// TestPacket writes GRE as it was worked out by hand (RFC 2637 §4.1), and refuses what is cut
// short.
func TestPacket(t *testing.T) {
	ack := uint32(5)
	for want, p := range map[string]pptp.Packet{
		"3001880b00020017" + "00000007" + "ff03":              {CallID: 23, Sequence: 7, Frame: []byte{0xFF, 3}},
		"3081880b00020017" + "00000007" + "00000005" + "ff03": {CallID: 23, Sequence: 7, Ack: &ack, Frame: []byte{0xFF, 3}},
		"2081880b00000017" + "00000005":                       {CallID: 23, Ack: &ack},
	} {
		b := p.Encode()
		if got := hex.EncodeToString(b); got != want {
			t.Errorf("%s, expected %s", got, want)
		}
		if got, err := pptp.DecodePacket(b); err != nil || !reflect.DeepEqual(got, p) {
			t.Errorf("%s: %+v (%v)", want, got, err)
		}
		for n := range b {
			if _, err := pptp.DecodePacket(b[:n]); !errors.Is(err, wire.ErrMalformed) {
				t.Errorf("%d bytes of %s: %v", n, want, err)
			}
		}
	}
}

// FuzzPacket decodes anything: what can be decoded is written as it was read, but for what stands
// behind the frame.
func FuzzPacket(f *testing.F) {
	ack := uint32(5)
	f.Add(pptp.Packet{CallID: 23, Sequence: 7, Ack: &ack, Frame: []byte{0xFF, 3}}.Encode())
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := pptp.DecodePacket(b)
		if err != nil || len(p.Frame) == 0 {
			return
		}
		if out := p.Encode(); !bytes.HasPrefix(b, out) {
			t.Fatalf("%x, then %x", b, out)
		}
	})
}
