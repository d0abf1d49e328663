package demo

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"fmt"
	"math/big"
	"strings"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// authority is the made-up authority of the sample gateways and devices. It is made anew
// each time the sample data is loaded.
type authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	now         time.Time
}

func newAuthority(now time.Time) (*authority, error) {
	a := &authority{now: now}
	var err error
	a.certificate, a.key, err = a.issue("Skerry Line Authority", nil, nil)
	return a, err
}

// issue makes a certificate; the authority's own where there is no name to check.
func (a *authority) issue(name string, hosts []string, usage []x509.ExtKeyUsage) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{Organization: []string{"Skerry Line"}, CommonName: name}, NotBefore: a.now.Add(-time.Hour), NotAfter: a.now.AddDate(2, 0, 0),
		DNSNames: hosts, ExtKeyUsage: usage, KeyUsage: x509.KeyUsageDigitalSignature, BasicConstraintsValid: true,
	}
	parent, signer := a.certificate, a.key
	if parent == nil {
		t.IsCA, t.KeyUsage, t.NotAfter = true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign, a.now.AddDate(10, 0, 0)
		parent, signer = t, key
	}
	der, err := x509.CreateCertificate(rand.Reader, t, parent, key.Public(), signer)
	if err != nil {
		return nil, nil, err
	}
	c, err := x509.ParseCertificate(der)
	return c, key, err
}

// identity makes the certificate of a device.
func (a *authority) identity(device string) (*vpn.DeviceIdentity, error) {
	host := strings.ReplaceAll(strings.ToLower(device), " ", "-") + ".devices.skerryline.example"
	c, key, err := a.issue(device, []string{host}, []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth})
	if err != nil {
		return nil, err
	}
	text, err := pki.KeyPEM(key)
	return &vpn.DeviceIdentity{Certificate: pki.Bundle(c), Key: &text}, err
}

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
