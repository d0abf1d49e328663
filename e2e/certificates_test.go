package e2e

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/pki"
	"wardicon/demo"
)

// TestCertificatesByCommand makes an authority, issues by it, and takes certificates back, all
// by command; the list is for everybody, and no key comes out of anything.
func TestCertificatesByCommand(t *testing.T) {
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	must := func(want string, args ...string) string {
		t.Helper()
		code, out, errs := f.run("", args...)
		if code != 0 || !strings.Contains(out, want) || strings.Contains(out+errs, "PRIVATE KEY") {
			t.Fatalf("%v ended with %d, expected %q\n%s%s", args, code, want, out, errs)
		}
		return out
	}
	must(
		"created the authority Deck, valid until",
		"authority",
		"make",
		"Deck",
		"--issuing",
		"--kind",
		"p384",
		"--years",
		"5",
		"--permit",
		"skerryline.example",
		"--list",
		"http://lists.skerryline.example/deck.crl",
	)
	must("Deck Root", "authority", "list")
	must(
		"engine-laptop-1.devices.skerryline.example",
		"certificate",
		"issue",
		"Engine laptop 1",
		"--authority",
		"Deck",
	)
	var page api.Page[api.Certificate]
	if err := json.Unmarshal(
		[]byte(must("", "certificate", "list", "--search", "engine", "-o", "json")),
		&page,
	); err != nil ||
		page.Total != 1 {
		t.Fatalf("%d certificates (%v)", page.Total, err)
	}
	one := page.Items[0]
	must("-----BEGIN CERTIFICATE-----", "certificate", "show", one.ID)
	var deck api.Authority
	if err := json.Unmarshal(
		[]byte(must("", "authority", "show", "Deck", "-o", "json")),
		&deck,
	); err != nil || !deck.KeySet ||
		deck.Key != nil {
		t.Fatalf("%+v (%v)", deck, err)
	}
	list := func() (*x509.RevocationList, []byte) {
		t.Helper()
		res, err := http.Get(f.url + "/lists/" + deck.ID + ".crl")
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = res.Body.Close() }()
		der, err := io.ReadAll(res.Body)
		if err != nil || res.StatusCode != 200 ||
			res.Header.Get("Content-Type") != "application/pkix-crl" ||
			!strings.HasPrefix(res.Header.Get("Cache-Control"), "public, max-age=") {
			t.Fatalf("%d %v (%v)", res.StatusCode, res.Header, err)
		}
		l, err := x509.ParseRevocationList(der)
		if err != nil {
			t.Fatal(err)
		}
		return l, der
	}
	if l, _ := list(); len(l.RevokedCertificateEntries) != 0 {
		t.Error("somebody is on the list before anything was revoked")
	}
	out := must(
		"revoked  Engine laptop 1",
		"certificate",
		"revoke",
		"--device",
		"Engine laptop 1",
		"--reason",
		"key-compromise",
	)
	if strings.Contains(out, "needs a new certificate") {
		t.Errorf("its gateways want none, and it says\n%s", out)
	}
	must(
		"needs a new certificate  Yard server to Brattvik",
		"certificate",
		"revoke",
		"--device",
		"Yard server",
		"--reason",
		"ceased",
	)
	must("revoked on", "certificate", "list", "--filter", "revoked=true")
	must(
		"the authority Skerry Line Authority of its offers",
		"certificate",
		"calendar",
		"--days",
		"3660",
	)
	must("nothing expires within 7 days", "certificate", "calendar", "--days", "7")
	_, der := list()
	if openssl, err := exec.LookPath("openssl"); err == nil {
		dir := t.TempDir()
		chain, err := pki.Certificates(deck.Certificate)
		if err != nil {
			t.Fatal(err)
		}
		for name, data := range map[string][]byte{
			"list.der":    der,
			"leaf.pem":    []byte(one.PEM),
			"issuing.pem": []byte(pki.Bundle(chain[0])),
			"root.pem":    []byte(pki.Bundle(chain[1:]...)),
		} {
			if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		said, err := exec.Command("/bin/sh", "-c", "cd "+dir+" && "+openssl+
			" crl -inform DER -in list.der -out list.pem && "+openssl+
			" verify -crl_check -CAfile "+
			"root.pem -untrusted issuing.pem -CRLfile list.pem leaf.pem").
			CombinedOutput()
		if err == nil || !strings.Contains(string(said), "certificate revoked") {
			t.Errorf("openssl says %s", said)
		}
	}
	dir := t.TempDir()
	key, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		t.Fatal(err)
	}
	request := func(name, host string) string {
		t.Helper()
		text, err := pki.NewRequest(
			rand.Reader,
			key,
			pki.Wanted{Name: "norrvik", Names: []string{host}, Usage: pki.ForServer},
		)
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	own, foreign := request(
		"own.csr",
		"norrvik.skerryline.example",
	), request(
		"foreign.csr",
		"tallholm.skerryline.example",
	)
	must(
		"Norrvik has a certificate for norrvik.skerryline.example",
		"certificate",
		"sign",
		"Norrvik",
		"--authority",
		"Deck",
		"--request",
		own,
		"--out",
		filepath.Join(dir, "norrvik.pem"),
	)
	text, err := os.ReadFile(filepath.Join(dir, "norrvik.pem"))
	if err != nil {
		t.Fatal(err)
	}
	if chain, err := pki.Certificates(
		string(text),
	); err != nil || len(chain) != 2 || !pki.Belongs(chain[0], key) ||
		chain[0].CheckSignatureFrom(chain[1]) != nil {
		t.Errorf("the gateway got %s (%v)", text, err)
	}
	for _, test := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"certificate", "issue", "Engine laptop 1"}, 2, "--authority: found nothing"},
		{[]string{"certificate", "issue", "Engine laptop 1", "--authority", "Nobody"}, 4, "Nobody"},
		{
			[]string{"certificate", "issue", "Engine laptop 1", "--authority", "Deck", "--name",
				"x.harbour.example"},
			1,
			"names",
		},
		{[]string{"certificate", "sign", "Norrvik", "--authority", "Deck", "--request", foreign}, 1,
			`the name "tallholm.skerryline.example"`},
		{[]string{"certificate", "sign", "Norrvik", "--authority", "Deck"}, 2,
			"expected --authority and --request"},
		{[]string{"certificate", "revoke"}, 2, "expected either"},
		{[]string{"certificate", "revoke", one.ID, "--reason", "superseded"}, 1, "revoked on"},
		{[]string{"certificate", "show", "ce-x"}, 4, "ce-x"},
		{[]string{"authority", "make", "Deck"}, 1, "name"},
		{[]string{"authority", "remove", "Deck"}, 1, "certificates"},
	} {
		if code, out, errs := f.run(
			"",
			test.args...); code != test.code ||
			!strings.Contains(out+errs, test.want) {
			t.Errorf(
				"%v ended with %d, expected %d and %q\n%s%s",
				test.args,
				code,
				test.code,
				test.want,
				out,
				errs,
			)
		}
	}
}

// TestCertificatesPage issues to a device on its page and revokes on the list, by keyboard and
// without a violation.
func TestCertificatesPage(t *testing.T) {
	f, b := signedInTab(t)
	devices, err := f.client.Devices.List(
		t.Context(),
		client.Query{Search: "Engine laptop 2", Limit: 1},
	)
	if err != nil {
		t.Fatal(err)
	}
	b.goTo("/devices/"+devices.Items[0].ID, "Engine laptop 2")
	b.see("None.")
	b.fill("Names", "not a name")
	b.press("Issue a certificate")
	b.until(
		`[...document.querySelectorAll('.invalid-feedback')].some(e => e.textContent.includes('a ` +
			`host name, an address or a mail address'))`,
	)
	b.accessible("an error beside the names")
	b.fill("Names", "")
	b.press("Issue a certificate")
	b.see("self-signed")
	b.goTo("/certificates", "Certificates")
	b.see("engine-laptop-2.devices.skerryline.example")
	b.fill("Search", "engine")
	b.until(`document.querySelectorAll('table.grid-table')[0]?.tBodies[0].rows.length === 1`)
	b.press("Revoke…")
	b.see("It cannot be undone.")
	b.accessible("asking for the reason")
	b.shot("revoke")
	b.press("Revoke")
	b.see("Revoked.")
	b.press("Done")
	b.until(`document.body.innerText.includes('superseded')`)
	page, err := f.client.Certificates(t.Context(), client.Query{Search: "engine"})
	if err != nil || page.Total != 1 || page.Items[0].Revoked == nil ||
		page.Items[0].Reason != pki.Superseded {
		t.Errorf("%+v (%v)", page.Items, err)
	}
}
