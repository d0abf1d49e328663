package pki_test

import (
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"os/exec"
	"strings"
	"testing"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
)

// signer makes a signing identity that is valid now: the package that signs takes the clock's time.
func signer(t *testing.T, kind pki.KeyChoice, from time.Time) (pki.Identity, *x509.Certificate) {
	t.Helper()
	root := authority(
		t,
		kind,
		func(w *pki.Wanted) { w.From, w.To = from.AddDate(0, -1, 0), from.AddDate(9, 0, 0) },
	)
	key, err := pki.NewKey(rand.Reader, kind)
	if err != nil {
		t.Fatal(err)
	}
	c, err := pki.Issue(
		rand.Reader,
		root,
		key.Public(),
		pki.Wanted{
			Name:  "Skerry Line network office",
			Usage: pki.ForSigning,
			From:  from,
			To:    from.AddDate(1, 0, 0),
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	return pki.Identity{
		Leaf:  c,
		Chain: []*x509.Certificate{root.Certificate},
		Key:   key,
	}, root.Certificate
}

// TestSigned signs with both kinds of keys, whole and apart; openssl agrees on what is sound and
// what was changed.
func TestSigned(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here: install it")
	}
	content := []byte("<plist>norrvik</plist>\nsecond line\n")
	for _, kind := range []pki.KeyChoice{pki.P256, pki.RSA3072} {
		id, root := signer(t, kind, time.Now().Add(-time.Hour))
		for _, apart := range []bool{false, true} {
			data, err := pki.Sign(id, content, apart)
			if err != nil {
				t.Fatal(err)
			}
			beside := map[bool][]byte{true: content}[apart]
			s, err := pki.Signed(data, beside)
			if err != nil || !bytes.Equal(s.Content, content) || !s.Signer.Equal(id.Leaf) ||
				len(s.Others) != 1 ||
				time.Since(s.At) > time.Minute ||
				bytes.Contains(data, content) == apart {
				t.Errorf("%s, apart %t: %v, %+v", kind, apart, err, s.At)
			}
			dir := t.TempDir()
			args := []string{
				"cms",
				"-verify",
				"-binary",
				"-inform",
				"DER",
				"-in",
				put(t, dir, "s.p7s", data),
				"-CAfile",
				put(t, dir, "root.pem", []byte(pki.Bundle(root))),
				"-purpose",
				"any",
				"-out",
				dir + "/out",
			}
			if apart {
				args = append(args, "-content", put(t, dir, "content", content))
			}
			if out, err := exec.Command(openssl, args...).CombinedOutput(); err != nil {
				t.Errorf("%s, apart %t: openssl says %s", kind, apart, out)
			}
			for name, change := range map[string]func() ([]byte, []byte){
				"content": func() ([]byte, []byte) {
					if apart {
						return data, []byte("other")
					}
					return bytes.Replace(data, []byte("norrvik"), []byte("morrvik"), 1), nil
				},
				"signature": func() ([]byte,
					[]byte) {
					c := bytes.Clone(data)
					c[len(c)-5] ^= 1
					return c, beside
				},
			} {
				if _, err := pki.Signed(change()); !errors.Is(err, pki.ErrChanged) {
					t.Errorf("%s, apart %t: a changed %s: %v", kind, apart, name, err)
				}
			}
		}
	}
	old, _ := signer(t, pki.P256, time.Now().AddDate(-2, 0, 0))
	data, err := pki.Sign(old, content, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := pki.Signed(data, nil); !errors.Is(err, pki.ErrSignedOut) {
		t.Errorf("by a certificate that had ended: %v", err)
	}
	bare, err := pki.Collection(old.Leaf)
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{
		"nothing":            nil,
		"text":               []byte("hello"),
		"certificates alone": bare,
		"a certificate":      old.Leaf.Raw,
	} {
		if _, err := pki.Signed(data, nil); !errors.Is(err, pki.ErrNotSigned) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestPacked has openssl open what is handed to people: a key closed by their passphrase, and a
// collection.
func TestPacked(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here: install it")
	}
	id, root := signer(t, pki.P384, day)
	closed, err := pki.Close(rand.Reader, id, secret.New("kelp Harbor mizzen 4497 lantern"))
	if err != nil {
		t.Fatal(err)
	}
	collection, err := pki.Collection(id.Leaf, root)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for _, test := range []struct {
		name string
		args []string
		want []string // empty: refused
	}{
		{"the key", []string{"pkcs12", "-in", put(t, dir, "k.p12", closed), "-passin",
			"pass:kelp Harbor mizzen 4497 lantern", "-nodes"},
			[]string{"PRIVATE KEY", "network office", "Skerry Line Root"}},
		{"its protection", []string{"pkcs12", "-in", dir + "/k.p12", "-passin",
			"pass:kelp Harbor mizzen 4497 lantern", "-info", "-noout"},
			[]string{"PBES2", "AES-256-CBC", "hmacWithSHA256"}},
		{"another passphrase", []string{"pkcs12", "-in",
			dir + "/k.p12", "-passin", "pass:kelp", "-nodes"}, nil},
		{"the collection", []string{"pkcs7", "-inform", "DER", "-in",
			put(t, dir, "c.p7b",
				collection), "-print_certs", "-noout"},
			[]string{"network office", "Skerry Line Root"}},
	} {
		out, err := exec.Command(openssl, test.args...).CombinedOutput()
		if (err == nil) != (len(test.want) > 0) {
			t.Errorf("%s: %v", test.name, err)
		}
		for _, want := range test.want {
			if !strings.Contains(string(out), want) {
				t.Errorf("%s: openssl does not say %q\n%s", test.name, want, out)
			}
		}
	}
}

// TestChain draws chains and looks which link is told to be at fault.
func TestChain(t *testing.T) {
	root := authority(t, pki.P256, nil)
	again := authority(t, pki.P256, nil) // the same name, another key
	other := authority(t, pki.P256, func(w *pki.Wanted) { w.Name = "Other Root" })
	issue := func(by pki.Issuer, w pki.Wanted) pki.Issuer {
		t.Helper()
		key, err := pki.NewKey(rand.Reader, pki.P256)
		if err != nil {
			t.Fatal(err)
		}
		c, err := pki.Issue(rand.Reader, by, key.Public(), w)
		if err != nil {
			t.Fatal(err)
		}
		return pki.Issuer{Certificate: c, Key: key}
	}
	issuing := issue(
		root,
		leaf(
			pki.ForAuthority,
			func(w *pki.Wanted) {
				w.Name, w.Names, w.MaxPath, w.To = "Issuing", nil, 0,
					day.AddDate(2, 0, 0)
			},
		),
	)
	one := issue(issuing, leaf(pki.ForClient, nil)).Certificate
	direct := issue(root, leaf(pki.ForServer, nil)).Certificate
	list := func(c ...*x509.Certificate) []*x509.Certificate { return c }
	for _, test := range []struct {
		name             string
		leaf             *x509.Certificate
		between, anchors []*x509.Certificate
		at               time.Time
		want             string
	}{
		{"sound", one, list(issuing.Certificate), list(root.Certificate), day,
			"laptop.skerryline.example; Issuing; Skerry Line Root"},
		{"brings its root along", one, list(issuing.Certificate, root.Certificate), nil, day,
			"laptop.skerryline.example; Issuing; Skerry Line Root"},
		{"an authority alone", root.Certificate, nil, list(root.Certificate), day,
			"Skerry Line Root"},
		{"a gap", one, nil, list(root.Certificate), day, "laptop.skerryline.example; Issuing: is " +
			"not there"},
		{"a gap at the top", one, list(issuing.Certificate), list(other.Certificate), day,
			"laptop.skerryline.example; Issuing; Skerry Line Root: is not there"},
		{"not believed", one, list(issuing.Certificate, root.Certificate), list(other.Certificate),
			day, "laptop.skerryline.example; Issuing; Skerry Line Root: is not one of the " +
				"trusted CAs"},
		{"of that name", direct, nil, list(again.Certificate), day, "laptop.skerryline.example; " +
			"Skerry Line Root: has the issuer's name, and did not sign the one before it"},
		{"ended", one, list(issuing.Certificate), list(root.Certificate), day.AddDate(1, 6, 0),
			"laptop.skerryline.example: expired on " + one.NotAfter.Format(time.DateOnly) +
				"; Issuing; Skerry Line Root"},
		{"ended above", one, list(issuing.Certificate), list(root.Certificate),
			day.AddDate(3, 0, 0), "laptop.skerryline.example: expired on " +
				one.NotAfter.Format(time.DateOnly) + "; Issuing: expired on " +
				issuing.Certificate.NotAfter.Format(time.DateOnly) + "; Skerry Line Root"},
		{"not yet", direct, nil, list(root.Certificate), day.AddDate(0, 0, -9),
			"laptop.skerryline.example: is valid only from " +
				direct.NotBefore.Format(time.DateOnly) + " on; Skerry Line Root"},
	} {
		var got []string
		for _, l := range pki.Chain(test.leaf, test.between, test.anchors, test.at) {
			if l.Fault != "" {
				l.Subject += ": " + l.Fault
			}
			got = append(got, l.Subject)
		}
		if strings.Join(got, "; ") != test.want {
			t.Errorf("%s: drawn as %s, expected %s", test.name, strings.Join(got, "; "), test.want)
		}
	}
}
