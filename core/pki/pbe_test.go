package pki

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"testing"
	"time"

	"software.sslmate.com/src/go-pkcs12"

	"wardicon/core/secret"
)

// TestInnerParts opens the encrypted parts of files that another package has closed, by each way
// that is in use, and holds that nothing opens with another passphrase.
func TestInnerParts(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1),
		Subject:      pkix.Name{CommonName: "engine1"},
		NotAfter:     time.Unix(4e9, 0),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	for name, encoder := range map[string]*pkcs12.Encoder{
		"RC2 of 40 bits": pkcs12.LegacyRC2,
		"3DES":           pkcs12.LegacyDES,
		"PBES2":          pkcs12.Modern2023,
	} {
		for _, passphrase := range []string{"", "anchor", "überseekoffer"} {
			data, err := encoder.Encode(key, leaf, nil, passphrase)
			if err != nil {
				t.Fatal(err)
			}
			parts := encryptedParts(data)
			if len(parts) != 1 {
				t.Fatalf("%s: %d parts", name, len(parts))
			}
			if plain, err := parts[0].open(
				secret.New(passphrase),
			); err != nil || sound(plain) != nil ||
				plain[0] != 0x30 {
				t.Errorf("%s, %q: %v, % x", name, passphrase, err, plain[:min(len(plain), 8)])
			}
			if plain, err := parts[0].open(
				secret.New("another"),
			); err == nil &&
				sound(plain) == nil {
				t.Errorf("%s opens with another passphrase", name)
			}
		}
	}
}

// TestSound holds what is let pass, and what is not.
func TestSound(t *testing.T) {
	key, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1),
		Subject:      pkix.Name{CommonName: "engine1"},
		NotAfter:     time.Unix(4e9, 0),
	}
	good, _ := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	large := append([]byte{0x02, 0x82, 0x10, 0x00, 0x01}, make([]byte, 0xfff)...)
	packed := append([]byte{0x03, 0x82, 0x10, 0x09, 0x00, 0x30, 0x82, 0x10, 0x04}, large...)
	for _, test := range []struct {
		name  string
		data  []byte
		sound bool
		large bool
	}{
		{"a certificate", good, true, false},
		{"nothing", nil, true, false},
		{"cut short", good[:len(good)-1], false, false},
		{"a large number", large, false, true},
		{"a large number in a bit string", packed, false, true},
		{"a form without a length that ends", []byte{0x30, 0x80, 0x02, 0x01, 0x01, 0, 0}, true,
			false},
		{"one that does not", []byte{0x30, 0x80, 0x02, 0x01, 0x01}, false, false},
		{"a number without a length", []byte{0x02, 0x80, 0, 0}, false, false},
		{"text that looks like more", []byte{0x04, 0x03, 0x30, 0x7f, 0x01}, true, false},
	} {
		err := sound(test.data)
		var number *LargeKeyError
		if (err == nil) != test.sound || errors.As(err, &number) != test.large {
			t.Errorf("%s: %v", test.name, err)
		}
	}
}
