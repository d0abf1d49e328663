package ipsec

import (
	"bytes"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
)

// Kinds of identities (RFC 7296 §3.5, RFC 2407 §4.6.2.1).
const (
	idIPv4 = 1
	idName = 2
	idMail = 3
	idIPv6 = 5
	idDN   = 9
	idKey  = 11
)

// Identity is how an end calls itself.
type Identity struct {
	Kind byte
	Data []byte
}

// ParseIdentity reads an identity as configurations write it: an address, a mail address, a
// distinguished name of a certificate, keyid: before a byte string, else a name.
func ParseIdentity(text string, certificate *x509.Certificate) Identity {
	if ip, err := netip.ParseAddr(text); err == nil {
		if ip.Is4() {
			return Identity{idIPv4, ip.AsSlice()}
		}
		return Identity{idIPv6, ip.AsSlice()}
	}
	switch key, isKey := strings.CutPrefix(text, "keyid:"); {
	case isKey:
		return Identity{idKey, []byte(key)}
	case text == "" && certificate != nil:
		return Identity{idDN, certificate.RawSubject}
	case strings.Contains(text, "="):
		if certificate != nil {
			return Identity{idDN, certificate.RawSubject}
		}
		if der, ok := encodeName(text); ok {
			return Identity{idDN, der}
		}
	case strings.Contains(strings.TrimPrefix(text, "@"), "@"):
		return Identity{idMail, []byte(text)}
	}
	return Identity{idName, []byte(strings.TrimPrefix(text, "@"))}
}

// attributes are those of distinguished names (RFC 4519 §2, RFC 2985 §5.2.1).
var attributes = map[string]asn1.ObjectIdentifier{
	"CN": {2, 5, 4, 3}, "SERIALNUMBER": {2, 5, 4, 5}, "C": {2, 5, 4, 6}, "L": {2, 5, 4, 7},
	"ST": {2, 5, 4, 8}, "O": {2, 5, 4, 10}, "OU": {2, 5, 4, 11}, "T": {2, 5, 4, 12},
	"SN": {2, 5, 4, 4}, "GN": {2, 5, 4, 42}, "E": {1, 2, 840, 113549, 1, 9, 1},
	"EMAILADDRESS": {1, 2, 840, 113549, 1, 9, 1}, "DC": {0, 9, 2342, 19200300, 100, 1, 25},
	"UID": {0, 9, 2342, 19200300, 100, 1, 1},
}

// encodeName encodes a distinguished name as it is written, the first attribute first.
func encodeName(text string) ([]byte, bool) {
	var name pkix.RDNSequence
	for part := range strings.SplitSeq(strings.ReplaceAll(text, `\,`, "\x00"), ",") {
		key, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		oid, known := attributes[strings.ToUpper(strings.TrimSpace(key))]
		if !ok || !known {
			return nil, false
		}
		value = strings.ReplaceAll(strings.Trim(strings.TrimSpace(value), `"`), "\x00", ",")
		name = append(name, pkix.RelativeDistinguishedNameSET{{Type: oid, Value: value}})
	}
	der, err := asn1.Marshal(name)
	return der, err == nil
}

// Same tells whether two identities are of one end. Names count alike in any case, and
// distinguished ones in any order and encoding of their attributes.
func (i Identity) Same(o Identity) bool {
	if i.Kind != idDN || o.Kind != idDN {
		return strings.EqualFold(i.String(), o.String())
	}
	parts := func(der []byte) (list []string) {
		var name pkix.RDNSequence
		if _, err := asn1.Unmarshal(der, &name); err != nil {
			return []string{string(der)}
		}
		for _, set := range name {
			for _, a := range set {
				list = append(list, strings.ToLower(fmt.Sprint(a.Type, "=", a.Value)))
			}
		}
		slices.Sort(list)
		return list
	}
	return slices.Equal(parts(i.Data), parts(o.Data))
}

// Body is the payload of an identity (RFC 7296 §3.5, RFC 2407 §4.6.2).
func (i Identity) Body() []byte { return append([]byte{i.Kind, 0, 0, 0}, i.Data...) }

// String writes an identity for people.
func (i Identity) String() string {
	switch i.Kind {
	case idIPv4, idIPv6:
		if a, ok := netip.AddrFromSlice(i.Data); ok {
			return a.String()
		}
	case idDN:
		var rdn pkix.RDNSequence
		if _, err := asn1.Unmarshal(i.Data, &rdn); err == nil {
			return rdn.String()
		}
	}
	return string(i.Data)
}

// DecodeIdentity reads the payload of an identity.
func DecodeIdentity(b []byte) (Identity, error) {
	if len(b) < 5 {
		return Identity{}, errors.New("the gateway gave no identity")
	}
	return Identity{b[0], bytes.Clone(b[4:])}, nil
}

// In tells whether a certificate is of an identity (RFC 4945 §3.1).
func (i Identity) In(c *x509.Certificate) bool {
	switch i.Kind {
	case idDN:
		return bytes.Equal(i.Data, c.RawSubject)
	case idMail:
		return slices.ContainsFunc(c.EmailAddresses, func(m string) bool {
			return strings.EqualFold(m, string(i.Data))
		})
	case idIPv4, idIPv6:
		want, _ := netip.AddrFromSlice(i.Data)
		return slices.ContainsFunc(c.IPAddresses, func(a net.IP) bool {
			got, _ := netip.AddrFromSlice(a)
			return got.Unmap() == want
		})
	}
	return c.VerifyHostname(string(i.Data)) == nil
}

// Demand is an *IdentityError where another identity was found than this one; nothing is demanded
// by a nil one.
func (i *Identity) Demand(found Identity) error {
	if i != nil && !i.Same(found) {
		return &IdentityError{Found: found, Expected: *i}
	}
	return nil
}

// IdentityError says that the gateway is another one than the device expects.
type IdentityError struct{ Found, Expected Identity }

func (e *IdentityError) Error() string {
	return fmt.Sprintf("the gateway's identity is %s, the device expects %s", e.Found, e.Expected)
}
