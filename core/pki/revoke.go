package pki

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"slices"
	"time"
)

// Reason says why a certificate was revoked (RFC 5280 §5.3.1).
type Reason string

// The reasons that are given here, with their numbers.
const (
	Unspecified   Reason = "unspecified"
	KeyCompromise Reason = "key-compromise"
	Superseded    Reason = "superseded"
	Ceased        Reason = "ceased" // the device or the person is no longer there
)

// Reasons lists them.
var Reasons = []Reason{Unspecified, KeyCompromise, Superseded, Ceased}

var reasonCodes = map[Reason]int{Unspecified: 0, KeyCompromise: 1, Superseded: 4, Ceased: 5}

// Revoked is one line of a revocation list.
type Revoked struct {
	Serial *big.Int
	At     time.Time
	Reason Reason
}

// deltaIndicator marks a list that only adds to a whole one (RFC 5280 §5.2.4).
var deltaIndicator = asn1.ObjectIdentifier{2, 5, 29, 27}

// freshest says where the lists are that add to a whole one (RFC 5280 §5.2.6).
var freshest = asn1.ObjectIdentifier{2, 5, 29, 46}

// List is a revocation list to be signed. Numbers grow with each list; Base is the number of
// the whole list that a delta adds to, nil for a whole one. Fresh are the web addresses of the
// deltas that add to a whole list.
type List struct {
	Number, Base *big.Int
	From, Next   time.Time
	Entries      []Revoked
	Fresh        []string
}

// RevocationList signs a list (RFC 5280 §5) in DER form.
func RevocationList(random io.Reader, by Issuer, l List) ([]byte, error) {
	if by.Certificate == nil ||
		by.Certificate.KeyUsage != 0 && by.Certificate.KeyUsage&x509.KeyUsageCRLSign == 0 {
		return nil, &IssueError{
			"issuer",
			"one that may not sign revocation lists",
			"an authority with the usage cRLSign",
		}
	}
	t := &x509.RevocationList{
		Number:                    l.Number,
		ThisUpdate:                l.From.UTC(),
		NextUpdate:                l.Next.UTC(),
		RevokedCertificateEntries: make([]x509.RevocationListEntry, len(l.Entries)),
	}
	for i, e := range l.Entries {
		code, ok := reasonCodes[e.Reason]
		if !ok {
			return nil, &IssueError{
				"reason",
				string(e.Reason),
				"unspecified, key-compromise, superseded or ceased",
			}
		}
		t.RevokedCertificateEntries[i] = x509.RevocationListEntry{
			SerialNumber:   e.Serial,
			RevocationTime: e.At.UTC(),
			ReasonCode:     code,
		}
	}
	if l.Base != nil {
		value, err := asn1.Marshal(l.Base)
		if err != nil {
			return nil, err
		}
		t.ExtraExtensions = append(
			t.ExtraExtensions,
			pkix.Extension{Id: deltaIndicator, Critical: true, Value: value},
		)
	}
	if len(l.Fresh) > 0 {
		value, err := points(l.Fresh)
		if err != nil {
			return nil, err
		}
		t.ExtraExtensions = append(t.ExtraExtensions, pkix.Extension{Id: freshest, Value: value})
	}
	issuer := *by.Certificate
	issuer.KeyUsage |= x509.KeyUsageCRLSign // one that says nothing may do everything (§4.2.1.3)
	der, err := x509.CreateRevocationList(random, t, &issuer, by.Key)
	if err != nil {
		return nil, fmt.Errorf("the list cannot be signed: %w", err)
	}
	return der, nil
}

// points encodes web addresses as CRLDistributionPoints (RFC 5280 §4.2.1.13).
func points(urls []string) ([]byte, error) {
	type name struct {
		FullName []asn1.RawValue `asn1:"optional,tag:0"`
	}
	type point struct {
		Name name `asn1:"optional,tag:0"`
	}
	var list []point
	for _, u := range urls {
		list = append(
			list,
			point{
				name{[]asn1.RawValue{{Tag: 6, Class: asn1.ClassContextSpecific, Bytes: []byte(u)}}},
			},
		)
	}
	return asn1.Marshal(list)
}

// Base is the number of the whole list that a delta adds to; nil for a whole list.
func Base(list *x509.RevocationList) *big.Int {
	for _, e := range list.Extensions {
		if e.Id.Equal(deltaIndicator) {
			base := new(big.Int)
			if _, err := asn1.Unmarshal(e.Value, &base); err == nil {
				return base
			}
		}
	}
	return nil
}

// firstBlock is the content of the first PEM block of some types.
func firstBlock(data []byte, types ...string) []byte {
	for {
		block, rest := pem.Decode(data)
		if block == nil {
			return nil
		}
		if slices.Contains(types, block.Type) {
			return block.Bytes
		}
		data = rest
	}
}
