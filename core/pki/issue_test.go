package pki_test

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wardicon/core/pki"
)

// authority makes a root for tests.
func authority(t *testing.T, kind pki.KeyChoice, change func(*pki.Wanted)) pki.Issuer {
	t.Helper()
	key, err := pki.NewKey(rand.Reader, kind)
	if err != nil {
		t.Fatal(err)
	}
	w := pki.Wanted{
		Name:         "Skerry Line Root",
		Organisation: "Skerry Line",
		Usage:        pki.ForAuthority,
		From:         day.AddDate(0, -1, 0),
		To:           day.AddDate(10, 0, 0),
		MaxPath:      -1,
	}
	if change != nil {
		change(&w)
	}
	c, err := pki.Issue(rand.Reader, pki.Issuer{Key: key}, key.Public(), w)
	if err != nil {
		t.Fatal(err)
	}
	return pki.Issuer{Certificate: c, Key: key}
}

// leaf is what a sound certificate says.
func leaf(usage pki.Usage, change func(*pki.Wanted)) pki.Wanted {
	w := pki.Wanted{
		Name:  "laptop.skerryline.example",
		Usage: usage,
		Names: []string{"laptop.skerryline.example"},
		From:  day.AddDate(0, 0, -1),
		To:    day.AddDate(1, 0, 0),
		Lists: []string{"http://wardicon.skerryline.example/lists/1.crl"},
	}
	if change != nil {
		change(&w)
	}
	return w
}

func put(t *testing.T, dir, name string, data []byte) string {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestIssue issues by each kind of authority, and has openssl say what came out.
func TestIssue(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here: install it")
	}
	dir, serials := t.TempDir(), map[string]bool{}
	for _, kind := range pki.KeyChoices {
		root := authority(t, kind, nil)
		for _, test := range []struct {
			name   string
			wanted pki.Wanted
			says   []string
			not    string
		}{
			{"device", leaf(pki.ForClient, nil), []string{"TLS Web Client Authentication",
				"DNS:laptop.skerryline.example", "Digital Signature", "CA:FALSE",
				"URI:http://wardicon.skerryline.example/lists/1.crl"}, "Server"},
			{"gateway", leaf(pki.ForServer,
				func(w *pki.Wanted) {
					w.Names = []string{"norrvik.skerryline.example",
						"198.51.100.7", "2001:db8::7"}
				}), []string{"TLS Web Server Authentication, ipsec Internet Key Exchange",
				"DNS:norrvik.skerryline.example, IP Address:198.51.100.7, IP " +
					"Address:2001:DB8:0:0:0:0:0:7"}, "Client"},
			{"person", leaf(pki.ForClient,
				func(w *pki.Wanted) { w.Names = []string{"ada@skerryline.example"} }), []string{"email:ada@skerryline.example"}, "DNS:"},
			{"any host", leaf(pki.ForServer,
				func(w *pki.Wanted) { w.Names = []string{"*.skerryline.example"} }), []string{"DNS:*.skerryline.example"}, ""},
			{"long name", leaf(pki.ForClient,
				func(w *pki.Wanted) {
					w.Name = strings.Repeat("Å",
						64)
				}), []string{"DNS:laptop.skerryline.example"}, ""},
			{"signer", leaf(pki.ForSigning, nil), []string{"Code Signing, E-mail Protection"},
				"Client"},
			{"issuing", leaf(pki.ForAuthority, func(w *pki.Wanted) {
				w.Name,
					w.Names, w.MaxPath = "Skerry Line Issuing", nil, 0
			}), []string{"CA:TRUE, pathlen:0", "Certificate Sign, CRL Sign"}, "Alternative"},
			{"bound", leaf(pki.ForAuthority, func(w *pki.Wanted) {
				w.Names, w.MaxPath, w.Permitted, w.Excluded =
					nil, -1, []string{"skerryline.example", "198.51.100.0/24"},
					[]string{"office.skerryline.example"}
			}), []string{"Name Constraints: critical", "Permitted:", "DNS:skerryline.example",
				"IP:198.51.100.0/255.255.255.0", "Excluded:", "DNS:office.skerryline.example"},
				"pathlen"},
		} {
			if kind == pki.RSA3072 && test.name != "gateway" {
				continue // making such keys takes seconds
			}
			key, err := pki.NewKey(rand.Reader, kind)
			if err != nil {
				t.Fatal(err)
			}
			c, err := pki.Issue(rand.Reader, root, key.Public(), test.wanted)
			if err != nil {
				t.Fatalf("%s: %v", test.name, err)
			}
			if serial := c.SerialNumber.String(); serials[serial] || c.SerialNumber.Sign() <= 0 ||
				len(c.SerialNumber.Bytes()) > 20 {
				t.Errorf("%s: the serial number %s was given before, or is none", test.name, serial)
			} else {
				serials[serial] = true
			}
			out, err := exec.Command(openssl, "x509", "-noout", "-text", "-in",
				put(t, dir, "c.pem", []byte(pki.Bundle(c)))).
				CombinedOutput()
			if err != nil {
				t.Fatalf("%s: %s", test.name, out)
			}
			for _, want := range test.says {
				if !strings.Contains(string(out), want) {
					t.Errorf("%s by %s: openssl does not say %q\n%s", test.name, kind, want, out)
				}
			}
			if test.not != "" && strings.Contains(string(out), test.not) {
				t.Errorf("%s by %s: openssl says %q", test.name, kind, test.not)
			}
			if said, ok := asked(t, openssl, c, nil, []*x509.Certificate{root.Certificate}); !ok {
				t.Errorf("%s by %s: %s", test.name, kind, said)
			}
		}
	}
}

// TestIssueRefused asks for what must not be issued: each is refused by its field.
func TestIssueRefused(t *testing.T) {
	root := authority(t, pki.P256, nil)
	low := authority(t, pki.P256, func(w *pki.Wanted) { w.MaxPath = 0 })
	bound := authority(
		t,
		pki.P256,
		func(w *pki.Wanted) { w.Permitted = []string{"skerryline.example"} },
	)
	ending := authority(t, pki.P256, func(w *pki.Wanted) { w.To = day.AddDate(0, 6, 0) })
	key, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		t.Fatal(err)
	}
	client, err := pki.Issue(rand.Reader, root, key.Public(), leaf(pki.ForClient, nil))
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		name   string
		by     pki.Issuer
		wanted pki.Wanted
		field  string
	}{
		{"no name", root, leaf(pki.ForClient, func(w *pki.Wanted) { w.Name = " " }), "name"},
		{"a long name", root, leaf(pki.ForClient,
			func(w *pki.Wanted) { w.Name = strings.Repeat("x", 65) }), "name"},
		{"ends before it begins", root, leaf(pki.ForClient, func(w *pki.Wanted) { w.To = w.From }),
			"to"},
		{"outlives its issuer", ending, leaf(pki.ForClient, nil), "to"},
		{"begins before its issuer", root, leaf(pki.ForClient,
			func(w *pki.Wanted) { w.From = day.AddDate(-1, 0, 0) }), "from"},
		{"nobody to vouch for it", pki.Issuer{Key: key}, leaf(pki.ForClient, nil), "issuer"},
		{"by a client", pki.Issuer{Certificate: client, Key: key}, leaf(pki.ForClient, nil),
			"issuer"},
		{"no names", root, leaf(pki.ForServer, func(w *pki.Wanted) { w.Names = nil }), "names"},
		{"a name with a space", root, leaf(pki.ForServer,
			func(w *pki.Wanted) { w.Names = []string{"norr vik.example"} }), "names"},
		{"a web address", root, leaf(pki.ForServer,
			func(w *pki.Wanted) { w.Names = []string{"https://norrvik.example"} }), "names"},
		{"a wildcard inside", root, leaf(pki.ForServer,
			func(w *pki.Wanted) { w.Names = []string{"a.*.example"} }), "names"},
		{"a mail address with a name", root, leaf(pki.ForClient,
			func(w *pki.Wanted) { w.Names = []string{"Ada <ada@skerryline.example>"} }), "names"},
		{"a name outside", bound, leaf(pki.ForServer,
			func(w *pki.Wanted) { w.Names = []string{"norrvik.harbour.example"} }), "names"},
		{"an authority too many", low, leaf(pki.ForAuthority,
			func(w *pki.Wanted) { w.Names = nil }), "issuer"},
		{"a bound that is none", root, leaf(pki.ForAuthority,
			func(w *pki.Wanted) { w.Names, w.Permitted = nil, []string{"a b"} }), "permitted"},
		{"an excluded mail address", root, leaf(pki.ForAuthority,
			func(w *pki.Wanted) {
				w.Names, w.Excluded = nil,
					[]string{"ada@skerryline.example"}
			}), "excluded"},
	} {
		var refused *pki.IssueError
		if c, err := pki.Issue(
			rand.Reader,
			test.by,
			key.Public(),
			test.wanted,
		); !errors.As(err, &refused) || refused.Field != test.field || refused.Found == "" ||
			refused.Expected == "" ||
			c != nil {
			t.Errorf("%s: %v, expected it refused by %s", test.name, err, test.field)
		}
	}
	if _, err := pki.NewKey(rand.Reader, "dsa"); err == nil {
		t.Error("a key of an unknown kind was made")
	}
}

// TestRequest reads signing requests of our own and of openssl, and refuses broken ones.
func TestRequest(t *testing.T) {
	key, err := pki.NewKey(rand.Reader, pki.P384)
	if err != nil {
		t.Fatal(err)
	}
	text, err := pki.NewRequest(rand.Reader, key, leaf(pki.ForServer, func(w *pki.Wanted) {
		w.Names, w.Organisation = []string{
			"norrvik.skerryline.example",
			"198.51.100.7",
			"ada@skerryline.example",
		}, "Skerry Line"
	}))
	if err != nil {
		t.Fatal(err)
	}
	r, err := pki.Request([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(
		pki.Asked(r),
		" ",
	); got != "norrvik.skerryline.example ada@skerryline.example 198.51.100.7" ||
		r.Subject.Organization[0] != "Skerry Line" {
		t.Errorf("it asks for %s", got)
	}
	if public, ok := r.PublicKey.(interface{ Equal(crypto.PublicKey) bool }); !ok ||
		!public.Equal(key.Public()) {
		t.Error("it has another key")
	}
	broken := slices.Clone(r.Raw)
	broken[len(broken)-3] ^= 1
	for name, data := range map[string][]byte{
		"nothing":           nil,
		"text":              []byte("hello"),
		"another signature": broken,
		"a certificate": authority(t, pki.P256,
			nil).Certificate.Raw,
		"large": make([]byte, 300<<10),
	} {
		if _, err := pki.Request(data); err == nil {
			t.Errorf("%s was taken", name)
		}
	}
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here: install it")
	}
	dir := t.TempDir()
	for bits, fine := range map[string]bool{"rsa:2048": true, "rsa:1024": false} {
		out, err := exec.Command(openssl, "req", "-new", "-newkey", bits, "-nodes", "-keyout",
			filepath.Join(dir, "k"), "-subj", "/CN=norrvik", "-addext",
			"subjectAltName=DNS:norrvik.skerryline.example", "-out", filepath.Join(dir, "r.csr")).
			CombinedOutput()
		if err != nil {
			t.Fatalf("%s", out)
		}
		data, err := os.ReadFile(filepath.Join(dir, "r.csr"))
		if err != nil {
			t.Fatal(err)
		}
		if r, err := pki.Request(
			data,
		); (err == nil) != fine ||
			fine && strings.Join(pki.Asked(r), " ") != "norrvik.skerryline.example" {
			t.Errorf("%s: %v", bits, err)
		}
	}
}

// TestRevocationList signs whole lists and deltas; openssl takes them, and refuses what
// stands on them.
func TestRevocationList(t *testing.T) {
	root := authority(t, pki.P256, nil)
	var leaves []*x509.Certificate
	for range 3 {
		key, err := pki.NewKey(rand.Reader, pki.P256)
		if err != nil {
			t.Fatal(err)
		}
		c, err := pki.Issue(rand.Reader, root, key.Public(), leaf(pki.ForClient, nil))
		if err != nil {
			t.Fatal(err)
		}
		leaves = append(leaves, c)
	}
	first := []pki.Revoked{
		{Serial: leaves[0].SerialNumber, At: day.AddDate(0, 0, -3), Reason: pki.KeyCompromise},
	}
	second := []pki.Revoked{
		{Serial: leaves[1].SerialNumber, At: day.AddDate(0, 0, -1), Reason: pki.Ceased},
	}
	whole, err := pki.RevocationList(
		rand.Reader,
		root,
		pki.List{
			Number:  big.NewInt(7),
			From:    day.AddDate(0, 0, -2),
			Next:    day.AddDate(0, 0, 5),
			Entries: first,
			Fresh:   []string{"http://wardicon.skerryline.example/lists/1-new.crl"},
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	delta, err := pki.RevocationList(
		rand.Reader,
		root,
		pki.List{
			Number:  big.NewInt(8),
			Base:    big.NewInt(7),
			From:    day.AddDate(0, 0, -1),
			Next:    day.AddDate(0, 0, 1),
			Entries: second,
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	for der, want := range map[string]*big.Int{string(whole): nil, string(delta): big.NewInt(7)} {
		list, err := x509.ParseRevocationList([]byte(der))
		if err != nil || list.CheckSignatureFrom(root.Certificate) != nil {
			t.Fatalf("%v", err)
		}
		if got := pki.Base(
			list,
		); (got == nil) != (want == nil) ||
			want != nil && got.Cmp(want) != 0 {
			t.Errorf("it adds to %v, expected %v", got, want)
		}
	}
	if _, err := pki.RevocationList(
		rand.Reader,
		root,
		pki.List{
			Number:  big.NewInt(9),
			From:    day,
			Next:    day.AddDate(0, 0, 1),
			Entries: []pki.Revoked{{Serial: big.NewInt(1), At: day, Reason: "bored"}},
		},
	); err == nil {
		t.Error("an unknown reason was taken")
	}
	if _, err := pki.RevocationList(
		rand.Reader,
		pki.Issuer{Certificate: leaves[0], Key: root.Key},
		pki.List{Number: big.NewInt(9), From: day, Next: day.AddDate(0, 0, 1)},
	); err == nil {
		t.Error("a client signed a list")
	}
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here: install it")
	}
	dir := t.TempDir()
	pemOf := func(der []byte) []byte {
		out, err := exec.Command(openssl, "crl", "-inform", "DER", "-in",
			put(t, dir, "l.der", der)).
			CombinedOutput()
		if err != nil {
			t.Fatalf("%s", out)
		}
		return out
	}
	ca, one, both := put(
		t,
		dir,
		"ca.pem",
		[]byte(pki.Bundle(root.Certificate)),
	), put(
		t,
		dir,
		"one.pem",
		pemOf(whole),
	), put(
		t,
		dir,
		"both.pem",
		append(pemOf(whole), pemOf(delta)...),
	)
	for i, want := range []struct{ whole, both bool }{{false, false}, {true, false}, {true, true}} {
		for _, deltas := range []bool{false, true} {
			args, fine := []string{
				"verify",
				"-attime",
				"1795176000",
				"-crl_check",
				"-CAfile",
				ca,
				"-CRLfile",
				one,
			}, want.whole
			if deltas {
				args, fine = []string{
					"verify",
					"-attime",
					"1795176000",
					"-crl_check",
					"-CAfile",
					ca,
					"-extended_crl",
					"-use_deltas",
					"-CRLfile",
					both,
				}, want.both
			}
			out, err := exec.Command(openssl, append(args,
				put(t, dir, "leaf.pem", []byte(pki.Bundle(leaves[i]))))...).
				CombinedOutput()
			if (err == nil) != fine {
				t.Errorf("certificate %d, deltas %t: openssl says %s", i, deltas, out)
			}
		}
	}
}
