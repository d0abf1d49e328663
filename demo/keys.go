package demo

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"strings"

	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// controlKey makes a static key of 2048 bits for the control channel of the TLS tunnel.
func controlKey() *secret.Text {
	raw := make([]byte, 256)
	_, _ = rand.Read(raw)
	var b strings.Builder
	b.WriteString(vpn.StaticKeyBegin + "\n")
	for i := 0; i < len(raw); i += 16 {
		fmt.Fprintf(&b, "%s\n", hex.EncodeToString(raw[i:i+16]))
	}
	b.WriteString(vpn.StaticKeyEnd + "\n")
	key := secret.New(b.String())
	return &key
}
