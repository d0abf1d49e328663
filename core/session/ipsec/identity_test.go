package ipsec

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"testing"
)

// TestIdentity compares identities as configurations write them with what ends say.
func TestIdentity(t *testing.T) {
	subject := func(n pkix.Name) *x509.Certificate {
		der, err := asn1.Marshal(n.ToRDNSequence())
		if err != nil {
			t.Fatal(err)
		}
		return &x509.Certificate{RawSubject: der}
	}
	gateway := subject(pkix.Name{
		CommonName: "gw.skerryline.example", Organization: []string{"Skerry Line, Harbour"},
	})
	for _, test := range []struct {
		text  string
		other Identity
		same  bool
	}{
		{`O=Skerry Line\, Harbour, CN=gw.skerryline.example`, ParseIdentity("", gateway), true},
		{`cn = GW.skerryline.example, o="Skerry Line\, Harbour"`, ParseIdentity("", gateway), true},
		{`CN=gw.skerryline.example,O=skerry line\, harbour`, ParseIdentity("", gateway), true},
		{`CN=gw.skerryline.example`, ParseIdentity("", gateway), false},
		{"GW.skerryline.example", Identity{idName, []byte("gw.skerryline.example")}, true},
		{"@gw.skerryline.example", Identity{idName, []byte("gw.skerryline.example")}, true},
		{"198.51.100.7", Identity{idIPv4, []byte{198, 51, 100, 7}}, true},
		{"198.51.100.7", Identity{idName, []byte("198.51.100.8")}, false},
		{"x=y", Identity{idName, []byte("x=y")}, true},
	} {
		if got := ParseIdentity(test.text, nil); got.Same(test.other) != test.same {
			t.Errorf("%s (%d %q) and %s: same is %t", test.text, got.Kind, got.Data, test.other,
				!test.same)
		}
	}
	if !ParseIdentity("x=y", gateway).In(gateway) {
		t.Error("the subject of a certificate is not in it")
	}
}
