package ikev2

import (
	"wardicon/core/session/ipsec"
	"wardicon/core/suite"
	"wardicon/core/wire/ikev2"
)

// methodOf finds how a chosen proposal protects messages.
func methodOf(p ikev2.Proposal) (ipsec.Method, error) {
	bits := 0
	for _, t := range p.Transforms {
		if t.Type == ikev2.Encryption {
			bits = int(t.KeyBits)
		}
	}
	name, id := "", p.ID(ikev2.Encryption)
	for _, a := range suite.Table {
		if a.Kind == suite.Encryption && a.Number == id && (bits == 0 || bits == a.Bits) {
			name = a.Name
			break
		}
	}
	return ipsec.MethodOf(name, suite.Numbered(suite.Integrity, p.ID(ikev2.Integrity)))
}
