package pki_test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"math/big"
	"testing"

	"github.com/smallstep/pkcs7"
	"golang.org/x/crypto/ocsp"

	"wardicon/core/pki"
)

// asking is a registrar, and a message of a device to it as the standard has it (RFC 8894 §3).
func asking(t testing.TB, kind string, spoil func(request []byte) []byte) (pki.Identity, []byte) {
	t.Helper()
	certificate := func(name string) (*x509.Certificate, *rsa.PrivateKey) {
		key, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			t.Fatal(err)
		}
		w := &x509.Certificate{
			SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
			NotBefore: day.AddDate(-1, 0, 0), NotAfter: day.AddDate(9, 0, 0),
		}
		der, err := x509.CreateCertificate(rand.Reader, w, w, key.Public(), key)
		if err != nil {
			t.Fatal(err)
		}
		c, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		return c, key
	}
	ra, raKey := certificate("registrar")
	own, ownKey := certificate("device")
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		Subject: pkix.Name{CommonName: "device"},
	}, ownKey)
	if err != nil {
		t.Fatal(err)
	}
	closed, err := pkcs7.Encrypt(spoil(request), []*x509.Certificate{ra})
	if err != nil {
		t.Fatal(err)
	}
	signed, err := pkcs7.NewSignedData(closed)
	if err != nil {
		t.Fatal(err)
	}
	attribute := func(n int, v any) pkcs7.Attribute {
		return pkcs7.Attribute{Type: asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, n}, Value: v}
	}
	if err := signed.AddSigner(own, ownKey, pkcs7.SignerInfoConfig{
		ExtraSignedAttributes: []pkcs7.Attribute{
			attribute(2, kind), attribute(5, []byte("0123456789abcdef")), attribute(7, "one"),
		},
	}); err != nil {
		t.Fatal(err)
	}
	data, err := signed.Finish()
	if err != nil {
		t.Fatal(err)
	}
	return pki.Identity{Leaf: ra, Key: raKey}, data
}

// TestEnrolment opens messages: whole ones, ones with a request that cannot be used, and others.
func TestEnrolment(t *testing.T) {
	whole := func(r []byte) []byte { return r }
	registrar, data := asking(t, pki.AskFirst, whole)
	e, err := pki.OpenEnrolment(data, registrar)
	if err != nil || e.Kind != pki.AskFirst || e.Request == nil || e.Challenge != "" ||
		e.Signer.Subject.CommonName != "device" {
		t.Fatalf("%+v %v", e, err)
	}
	for name, spoil := range map[string]func([]byte) []byte{
		"nothing": func([]byte) []byte { return nil },
		"a request of another key": func(r []byte) []byte {
			r[len(r)-1] ^= 1
			return r
		},
		"text": func([]byte) []byte { return []byte("hello") },
	} {
		registrar, data := asking(t, pki.AskFirst, spoil)
		if e, err := pki.OpenEnrolment(data, registrar); err != nil || e.Request != nil {
			t.Errorf("%s: %+v %v", name, e.Request, err)
		}
	}
	other, _ := asking(t, pki.AskFirst, whole)
	if e, err := pki.OpenEnrolment(data, other); err != nil || e.Request != nil {
		t.Errorf("closed for another registrar: %+v %v", e.Request, err)
	}
	data[len(data)-10] ^= 1
	if _, err := pki.OpenEnrolment(data, registrar); err == nil {
		t.Error("a message that was changed is opened")
	}
}

// FuzzOpenEnrolment opens whatever comes as a message of a device.
func FuzzOpenEnrolment(f *testing.F) {
	registrar, data := asking(f, pki.AskFirst, func(r []byte) []byte { return r })
	f.Add(data)
	f.Add(data[:len(data)/2])
	f.Fuzz(func(t *testing.T, data []byte) {
		if e, err := pki.OpenEnrolment(data, registrar); err == nil && e.Signer == nil {
			t.Fatal("a message without a sender is opened")
		}
	})
}

// FuzzStatusRequest reads whatever comes as a question for the state of a certificate.
func FuzzStatusRequest(f *testing.F) {
	registrar, _ := asking(f, pki.AskFirst, func(r []byte) []byte { return r })
	data, err := ocsp.CreateRequest(registrar.Leaf, registrar.Leaf, nil)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		if serial, own, err := pki.StatusRequest(data, registrar.Leaf); err == nil && own &&
			serial == nil {
			t.Fatal("a question about nothing is read")
		}
	})
}
