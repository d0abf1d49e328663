package ppp

import (
	"encoding/hex"
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
