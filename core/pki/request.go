package pki

import (
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Request reads a certificate signing request (RFC 2986) in PEM or DER form, and checks that
// whoever made it has the key.
func Request(data []byte) (*x509.CertificateRequest, error) {
	if len(data) > MaxPEM {
		return nil, fmt.Errorf("found %d bytes, expected at most %d", len(data), MaxPEM)
	}
	der := data
	if block := firstBlock(data, "CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST"); block != nil {
		der = block
	}
	var large *LargeKeyError
	if err := sound(der); errors.As(err, &large) {
		return nil, large
	}
	r, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return nil, fmt.Errorf(
			"found no signing request, expected lines from BEGIN CERTIFICATE REQUEST to END " +
				"CERTIFICATE REQUEST",
		)
	}
	if r.CheckSignature() != nil {
		return nil, fmt.Errorf("the request is not signed by the key in it")
	}
	if k, ok := r.PublicKey.(*rsa.PublicKey); ok && k.N.BitLen() < 2048 {
		return nil, fmt.Errorf("found a key of %d bits, expected at least 2048", k.N.BitLen())
	}
	return r, nil
}

// Asked lists the names that a request asks for.
func Asked(r *x509.CertificateRequest) []string {
	list := slices.Concat(r.DNSNames, r.EmailAddresses)
	for _, ip := range r.IPAddresses {
		list = append(list, ip.String())
	}
	for _, u := range r.URIs {
		list = append(list, u.String())
	}
	return list
}

// Extensions of a request (RFC 5280 §4.2.1.3, §4.2.1.9, §4.2.1.12).
var (
	keyUsage         = asn1.ObjectIdentifier{2, 5, 29, 15}
	basicConstraints = asn1.ObjectIdentifier{2, 5, 29, 19}
	extendedKeyUsage = asn1.ObjectIdentifier{2, 5, 29, 37}

	usageOIDs = map[Usage][]asn1.ObjectIdentifier{
		ForClient: {
			{1, 3, 6, 1, 5, 5, 7, 3, 2},
		},
		ForServer:  {{1, 3, 6, 1, 5, 5, 7, 3, 1}, forIKE},
		ForSigning: {{1, 3, 6, 1, 5, 5, 7, 3, 3}, {1, 3, 6, 1, 5, 5, 7, 3, 4}},
	}
)

// NewRequest makes a signing request in PEM form, for an authority whose key is kept elsewhere. It
// asks for the names and the usage that the certificate shall have.
func NewRequest(random io.Reader, key crypto.Signer, w Wanted) (string, error) {
	var c x509.Certificate
	if err := w.sound(); err != nil {
		return "", err
	}
	w.names(&c)
	t := &x509.CertificateRequest{
		Subject:        pkix.Name{CommonName: w.Name},
		DNSNames:       c.DNSNames,
		IPAddresses:    c.IPAddresses,
		EmailAddresses: c.EmailAddresses,
	}
	if w.Organisation != "" {
		t.Subject.Organization = []string{w.Organisation}
	}
	add := func(id asn1.ObjectIdentifier, critical bool, v any) error {
		value, err := asn1.Marshal(v)
		t.ExtraExtensions = append(
			t.ExtraExtensions,
			pkix.Extension{Id: id, Critical: critical, Value: value},
		)
		return err
	}
	var err error
	if w.Usage == ForAuthority {
		err = add(basicConstraints, true, struct {
			CA bool
		}{true})
		if err == nil {
			err = add(
				keyUsage,
				true,
				asn1.BitString{Bytes: []byte{0x06}, BitLength: 7},
			) // keyCertSign, cRLSign
		}
	} else {
		err = add(
			keyUsage,
			true,
			asn1.BitString{Bytes: []byte{0x80}, BitLength: 1},
		) // digitalSignature
		if err == nil {
			err = add(extendedKeyUsage, false, usageOIDs[w.Usage])
		}
	}
	if err != nil {
		return "", err
	}
	der, err := x509.CreateCertificateRequest(random, t, key)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})), err
}
