package filecheck

import (
	"crypto/x509"
	"fmt"
	"strings"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/vpn"
)

// twice remarks what may stand once in a lot: UUIDs of different connections, a device's key for
// several of them to one gateway, and serial numbers of one issuer.
func twice(list []*work) {
	ids, keys, serials := map[string]one{}, map[string]one{}, map[string]*x509.Certificate{}
	for _, w := range list {
		for _, c := range w.reading.Connections {
			if w.codec == nil {
				continue
			}
			form := string(w.codec.Name) + " "
			me := one{w.file.Name, identity(c.Connection)}
			at := func(f vpn.Field) format.Position {
				if p, ok := c.Positions[f]; ok {
					return p
				}
				return format.Position{File: w.file.Name, Line: 1, Column: 1}
			}
			if id := c.Connection.UUID; id != "" {
				if other, clash := first(ids, form+id, me); clash {
					w.remark(format.UUIDTwice, at(vpn.FieldUUID), "%s, as in %s", id, other.file)
				}
			}
			if key := ownKey(c.Connection); key != "" {
				if other, clash := first(keys, form+c.Connection.Server+key, me); clash {
					w.remark(
						format.KeyShared,
						at(vpn.FieldIdentity),
						"the key in %s too",
						other.file,
					)
				}
			}
		}
		if w.bag == nil {
			continue
		}
		for _, c := range w.bag.Certificates {
			key := string(c.RawIssuer) + c.SerialNumber.String()
			if other := serials[key]; other != nil && !other.Equal(c) {
				w.remark(format.SerialTwice, format.Position{File: w.file.Name, Line: 1, Column: 1},
					"%X of %s, for %s and for %s", c.SerialNumber, c.Issuer.CommonName,
					other.Subject.CommonName, c.Subject.CommonName)
			}
			serials[key] = c
		}
	}
}

// one is where something stood first, and for which connection.
type one struct{ file, of string }

// first keeps what comes first; clash tells that it came before, for another connection.
func first(seen map[string]one, key string, me one) (other one, clash bool) {
	other, there := seen[key]
	if !there {
		seen[key] = me
	}
	return other, there && other.file != me.file && other.of != me.of
}

// identity tells connections apart: those of one person to one gateway are the same.
func identity(c vpn.Connection) string {
	local := ""
	if c.IKEv2 != nil {
		local = c.IKEv2.LocalID
	}
	return strings.Join([]string{c.Server, string(c.Protocol), c.Login, local, c.Name}, "\n")
}

// ownKey is the public key of a connection's identity.
func ownKey(c vpn.Connection) string {
	if c.Identity == nil {
		return ""
	}
	chain, err := pki.Certificates(c.Identity.Certificate)
	if err != nil || len(chain) == 0 {
		return ""
	}
	return string(chain[0].RawSubjectPublicKeyInfo)
}

func (w *work) remark(kind format.NoteKind, at format.Position, found string, args ...any) {
	w.notes = append(w.notes, format.Note{Kind: kind, Found: fmt.Sprintf(found, args...), At: at})
}
