package ppp

import (
	"encoding/hex"
	"errors"
	"strings"
	"testing"
)

// TestKeys derives keys as RFC 3079 §3.5.3 does in its sample.
func TestKeys(t *testing.T) {
	bytes := func(s string) []byte {
		b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	response := NTResponse(
		bytes("5B 5D 7C 7D 7B 3F 2F 3E 3C 2C 60 21 32 26 26 28"),
		bytes("21 40 23 24 25 5E 26 2A 28 29 5F 2B 3A 33 7C 7E"), "User", "clientPass")
	master := MasterKey("clientPass", response)
	for name, pair := range map[string][2]string{
		"response": {hex.EncodeToString(response),
			"82309ecd8d708b5ea08faa3981cd83544233114a3d85d6df"},
		"master key": {hex.EncodeToString(master), "fdece3717a8c838cb388e527ae3cdd31"},
		// The sample is of the server that sends: of what the client receives with.
		"start key": {hex.EncodeToString(StartKey(master, 16, false)),
			"8b7cdc149b993a1ba118cb153f56dccb"},
		"short start key": {hex.EncodeToString(StartKey(master, 8, false)), "8b7cdc149b993a1b"},
	} {
		if pair[0] != pair[1] {
			t.Errorf("%s is %s, expected %s", name, pair[0], pair[1])
		}
	}
}

// TestMPPE encrypts what RFC 3079 §3.5 encrypts in its samples, of every strength.
func TestMPPE(t *testing.T) {
	start, _ := hex.DecodeString("8b7cdc149b993a1ba118cb153f56dccb")
	for strength, want := range map[uint32][2]string{
		MPPE40:  {"d1269ec49fa62e3e", "929137917e5803d668d75898"},
		MPPE56:  {"d15c00c49fa62e3e", "3f106833fa"},
		MPPE128: {"405cb2247a7956e6e211007ae27b22d4", "81848317df68846272fb5abe"},
	} {
		m, err := NewMPPE(start, strength, true)
		if err != nil {
			t.Fatal(err)
		}
		out := make([]byte, len("test message"))
		m.cipher.XORKeyStream(out, []byte("test message"))
		if key, text := hex.EncodeToString(m.key), hex.EncodeToString(out); key != want[0] ||
			!strings.HasPrefix(text, want[1]) {
			t.Errorf("%x: key %s, text %s; expected %v", strength, key, text, want)
		}
	}
}

// TestMPPEOrder loses, repeats and reorders packets: what comes is read or refused, and never read
// wrongly.
func TestMPPEOrder(t *testing.T) {
	start, _ := hex.DecodeString("8b7cdc149b993a1ba118cb153f56dccb")
	for _, stateless := range []bool{true, false} {
		a, _ := NewMPPE(start, MPPE128, stateless)
		b, _ := NewMPPE(start, MPPE128, stateless)
		lost := 0
		for i := range 5000 { // the counter goes round
			packet, err := a.Seal(IPv4, []byte{byte(i), byte(i >> 8), 7})
			if err != nil {
				t.Fatal(err)
			}
			if i%7 == 3 {
				continue // on the way
			}
			protocol, got, err := b.Open(packet)
			switch {
			case errors.Is(err, ErrLost) && !stateless:
				lost++
				if err := a.Flush(); err != nil { // as the other end asks
					t.Fatal(err)
				}
			case err != nil || protocol != IPv4 || got[0] != byte(i) || got[1] != byte(i>>8):
				t.Fatalf("stateless %t, packet %d: %x %x (%v)", stateless, i, protocol, got, err)
			}
			if _, _, err := b.Open(packet); err == nil && i > 0 && !errors.Is(err, ErrLost) {
				t.Fatalf("stateless %t: packet %d is read twice", stateless, i)
			}
		}
		if !stateless && lost == 0 {
			t.Error("nothing was told to be lost")
		}
	}
}
