package l2tp

import (
	"bytes"
	"encoding/hex"
	"math/rand/v2"
	"strings"
	"testing"

	"wardicon/core/wire/l2tp"
)

// join has two ends talk on a line that loses some messages, until both are up or one has ended.
func join(client, gateway *Tunnel, lose float64) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		for _, way := range [][2]*Tunnel{{client, gateway}, {gateway, client}} {
			for _, m := range way[0].Take() {
				if random.Float64() >= lose {
					way[1].Receive(m)
				}
			}
		}
		if client.Phase == Up && gateway.Phase == Up || client.Phase == Ended {
			return
		}
		if lose > 0 {
			client.Again()
			gateway.Again()
		}
	}
}

// TestTunnel brings a call up on lines that lose nothing and much, and carries frames both ways.
func TestTunnel(t *testing.T) {
	for _, lose := range []float64{0, 0.3} {
		client := New(Config{HostName: "device", Tunnel: 9, Session: 8})
		gateway := New(Config{Gateway: true, HostName: "norrvik", Tunnel: 7, Session: 6})
		join(client, gateway, lose)
		if client.Phase != Up || gateway.Phase != Up || client.Peer != "norrvik" ||
			gateway.Peer != "device" {
			t.Fatalf("losing %g: client %s %q, gateway %s %q", lose, client.Phase, client.Reason,
				gateway.Phase, gateway.Reason)
		}
		for _, way := range [][2]*Tunnel{{client, gateway}, {gateway, client}} {
			if got := way[1].Receive(way[0].Data([]byte("frame"))); string(got) != "frame" {
				t.Errorf("losing %g: a frame arrives as %q", lose, got)
			}
		}
		if got := gateway.Receive(l2tp.Data(7, 5, []byte("frame"))); got != nil {
			t.Errorf("a frame of another call arrives: %q", got)
		}
		over, err := client.End()
		if err != nil {
			t.Fatal(err)
		}
		if gateway.Receive(over); gateway.Phase != Ended {
			t.Errorf("losing %g: the gateway is %s after the end", lose, gateway.Phase)
		}
	}
}

// TestRefusals end a tunnel with what the gateway says.
func TestRefusals(t *testing.T) {
	reply := func(avps ...l2tp.AVP) []byte {
		b, err := l2tp.Message{
			Tunnel: 9, Expected: 1, AVPs: append(l2tp.Start(l2tp.StartReply, "gw", 7), avps...),
		}.Encode()
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	challenge := l2tp.AVP{Mandatory: true, Type: l2tp.AttrChallenge, Value: []byte("ripple")}
	stop, err := l2tp.Message{Tunnel: 9, Expected: 1, AVPs: l2tp.Stop(7, 4)}.Encode()
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		name, secret string
		message      []byte
		phase        Phase
		reason       string
	}{
		{"a refusal", "", stop, Ended, "result 4"},
		{"a challenge without a secret", "", reply(challenge), Ended, "asks for a secret"},
		{"a challenge", "kelp", reply(challenge), Calling, ""},
	} {
		client := New(Config{HostName: "device", Secret: test.secret, Tunnel: 9, Session: 8})
		client.Take()
		client.Receive(test.message)
		if client.Phase != test.phase || !strings.Contains(client.Reason, test.reason) {
			t.Errorf("%s: %s %q", test.name, client.Phase, client.Reason)
		}
		if test.secret == "" {
			continue
		}
		m, err := l2tp.Decode(client.Take()[0])
		if err != nil {
			t.Fatal(err)
		}
		// MD5 of 03 "kelp" "ripple", as md5sum makes it.
		value, _ := m.Find(l2tp.AttrResponse)
		if got := hex.EncodeToString(value); got != "4d42c38e02ef87f6f1c36038887f45bb" {
			t.Errorf("the proof is %s", got)
		}
	}
}

// FuzzTunnel hands anything to both ends.
func FuzzTunnel(f *testing.F) {
	f.Add([]byte{0, 12, 0xC8, 2, 0, 12, 0, 9, 0, 0, 0, 0, 0, 1}, true)
	f.Fuzz(func(t *testing.T, b []byte, gateway bool) {
		end := New(Config{Gateway: gateway, HostName: "x", Secret: "y", Tunnel: 9, Session: 8})
		for len(b) > 2 {
			n := min(int(b[0])<<8|int(b[1]), len(b)-2)
			end.Receive(bytes.Clone(b[2 : 2+n]))
			b = b[2+n:]
		}
		if end.Again(); len(end.Take()) > 3*mostMessages {
			t.Fatal("it says more than it was told")
		}
	})
}
