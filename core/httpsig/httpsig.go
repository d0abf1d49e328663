// Package httpsig signs HTTP messages with a shared key (RFC 9421, RFC 9530).
package httpsig

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"
	"time"
)

// Component is a part of a message that a signature covers, by its name in small letters; the value
// of a field is without spaces at its ends (RFC 9421 §2).
type Component struct{ Name, Value string }

// Message is what a signature covers: the method, the target, the body by its digest, and fields.
type Message struct {
	Method, URI string
	Body        []byte
	Fields      []Component
}

// Header are the fields that a signed message carries beside its own.
type Header struct{ ContentDigest, SignatureInput, Signature string }

// label tells our signature from those of others (RFC 9421 §4.1).
const label = "wardicon"

// Sign signs a message with HMAC and SHA-256.
func Sign(m Message, key []byte, keyID string, at time.Time) Header {
	sum := sha256.Sum256(m.Body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":" // RFC 9530 §2
	input, mac := Signature(append([]Component{
		{"@method", m.Method}, {"@target-uri", m.URI}, {"content-digest", digest},
	}, m.Fields...), fmt.Sprintf(`;created=%d;keyid=%q;alg="hmac-sha256"`, at.Unix(), keyID), key)
	return Header{
		ContentDigest: digest, SignatureInput: label + "=" + input,
		Signature: label + "=:" + base64.StdEncoding.EncodeToString(mac) + ":",
	}
}

// Signature signs components and parameters (RFC 9421 §2.5 and §3.3.3); input is what stands in the
// field Signature-Input.
func Signature(components []Component, parameters string, key []byte) (input string, mac []byte) {
	var base strings.Builder
	names := make([]string, len(components))
	for i, c := range components {
		names[i] = `"` + c.Name + `"`
		base.WriteString(names[i] + ": " + c.Value + "\n")
	}
	input = "(" + strings.Join(names, " ") + ")" + parameters
	base.WriteString(`"@signature-params": ` + input)
	h := hmac.New(sha256.New, key)
	h.Write([]byte(base.String()))
	return input, h.Sum(nil)
}
