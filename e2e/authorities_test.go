package e2e

import (
	"crypto/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wardicon/client"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/demo"
)

// vault is an authority whose key is not in the service.
func vault(t *testing.T) (pki.Issuer, string) {
	t.Helper()
	key, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		t.Fatal(err)
	}
	from := time.Now().Truncate(time.Second)
	c, err := pki.Issue(
		rand.Reader,
		pki.Issuer{Key: key},
		key.Public(),
		pki.Wanted{
			Name:    "Vault",
			Usage:   pki.ForAuthority,
			From:    from.Add(-time.Hour),
			To:      from.AddDate(3, 0, 0),
			MaxPath: 1,
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	return pki.Issuer{Certificate: c, Key: key}, pki.Bundle(c)
}

// signed answers a signing request as an authority elsewhere does.
func signed(t *testing.T, by pki.Issuer, request string) string {
	t.Helper()
	r, err := pki.Request([]byte(request))
	if err != nil {
		t.Fatal(err)
	}
	c, err := pki.Issue(
		rand.Reader,
		by,
		r.PublicKey,
		pki.Wanted{
			Name:  r.Subject.CommonName,
			Usage: pki.ForClient,
			Names: pki.Asked(r),
			From:  time.Now().Add(-time.Minute),
			To:    time.Now().AddDate(0, 6, 0),
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	return pki.Bundle(c)
}

// TestAuthorityCommands goes the ways of authorities on the command line: brought in, exported,
// rolled over; requests, gateway bundles, chains, signing and proof.
func TestAuthorityCommands(t *testing.T) {
	f := start(t, true)
	if code, _, errs := f.run(
		"ferry-lantern-osprey-47-quarterdeck\n",
		"me",
		"sign-in",
		"--name",
		"harbourmaster",
		"--password-file",
		"-",
	); code != 0 {
		t.Fatal(errs)
	}
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	put := func(name, text string) string {
		t.Helper()
		if err := os.WriteFile(at(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return at(name)
	}
	run := func(code int, want, stdin string, args ...string) string {
		t.Helper()
		got, out, errs := f.run(stdin, args...)
		if got != code || !strings.Contains(out+errs, want) {
			t.Errorf(
				"%s ended with %d, expected %d and %q\n%s%s",
				strings.Join(args, " "),
				got,
				code,
				want,
				out,
				errs,
			)
		}
		return out
	}
	root, text := vault(t)
	const passphrase = "kelp Harbor mizzen 4497 lantern"

	run(
		0,
		"signing is done elsewhere",
		"",
		"authority",
		"import",
		put("vault.pem", text),
		"--name",
		"Vault",
	)
	run(
		0,
		"is in "+at("e.csr"),
		"",
		"certificate",
		"request",
		"Engine laptop 2",
		"--authority",
		"Vault",
		"--out",
		at("e.csr"),
	)
	run(0, "engine-laptop-2.devices", "", "certificate", "requests")
	request, err := os.ReadFile(at("e.csr"))
	if err != nil {
		t.Fatal(err)
	}
	run(1, "neither PEM nor DER", "", "certificate", "answer", put("x.pem", "hello"))
	run(
		0,
		"Engine laptop 2 has a certificate",
		"",
		"certificate",
		"answer",
		put("e.pem", signed(t, root, string(request))),
	)
	run(0, "Vault", "", "certificate", "chain", "--device", "Engine laptop 2")
	id := strings.Fields(
		run(
			0,
			"-----BEGIN CERTIFICATE REQUEST-----",
			"",
			"certificate",
			"request",
			"--new-authority",
			"Below",
			"--output",
			"json",
		),
	)
	i := 0
	for id[i] != `"id":` {
		i++
	}
	run(0, "is removed", "", "certificate", "forget", strings.Trim(id[i+1], `",`))

	run(
		1,
		"another passphrase",
		passphrase+"\n"+passphrase+"s\n",
		"authority",
		"export",
		"Skerry Line Authority",
		"--out",
		at("a.p12"),
	)
	run(
		0,
		"with its key is in",
		passphrase+"\n"+passphrase+"\n",
		"authority",
		"export",
		"Skerry Line Authority",
		"--out",
		at("a.p12"),
	)
	run(
		2,
		"is there already",
		passphrase+"\n"+passphrase+"\n",
		"authority",
		"export",
		"Skerry Line Authority",
		"--out",
		at("a.p12"),
	)
	run(
		1,
		"closed by another passphrase",
		"kelp\n",
		"authority",
		"import",
		at("a.p12"),
		"--name",
		"Copy",
		"--passphrase-file",
		"-",
	)
	run(
		0,
		"Copy is on record",
		passphrase+"\n",
		"authority",
		"import",
		at("a.p12"),
		"--name",
		"Copy",
		"--passphrase-file",
		"-",
	)

	run(
		0,
		"North",
		"",
		"gateway",
		"add",
		"North",
		"--address",
		"north.skerryline.example",
		"--sstp-ppp",
		"mschapv2",
		"--sstp-authority",
		at("vault.pem"),
	)
	out := run(
		0,
		"north-passphrase.txt",
		"",
		"certificate",
		"bundle",
		"North",
		"--authority",
		"Skerry Line Authority",
		"--out",
		at("north"),
	)
	if strings.Contains(out, "PRIVATE") {
		t.Error("a key on the terminal")
	}
	run(
		2,
		"is not empty",
		"",
		"certificate",
		"bundle",
		"North",
		"--authority",
		"Skerry Line Authority",
		"--out",
		at("north"),
	)
	closed, err := os.ReadFile(at("north/north.p12"))
	if err != nil {
		t.Fatal(err)
	}
	pass, err := os.ReadFile(at("north/north-passphrase.txt"))
	if err != nil {
		t.Fatal(err)
	}
	if bag := pki.Open(
		closed,
		secret.New(strings.TrimSpace(string(pass))),
	); len(bag.Keys) != 1 ||
		len(bag.Troubles) != 0 {
		t.Errorf("%+v", bag.Troubles)
	}
	run(1, "✗ is not there", "", "certificate", "chain", "--gateway", "North")
	run(
		1,
		"a private key beside",
		"",
		"certificate",
		"import",
		put("both.pem", read(t, at("north/north-chain.pem"))+read(t, at("north/north-key.pem"))),
		"--gateway",
		"North",
	)
	run(0, "✓ self-signed", "", "certificate", "chain", "--authority", "Vault")
	run(2, "expected an ID", "", "certificate", "chain")
}

func read(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// TestRolloverAndSignatures rolls over and proves parcels on the command line.
func TestRolloverAndSignatures(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	if code, _, errs := f.run(
		"ferry-lantern-osprey-47-quarterdeck\n",
		"me",
		"sign-in",
		"--name",
		"harbourmaster",
		"--password-file",
		"-",
	); code != 0 {
		t.Fatal(errs)
	}
	dir := t.TempDir()
	for _, test := range []struct {
		args []string
		code int
		want string
	}{
		{
			[]string{"organisation", "signer", "show"},
			0,
			"Skerry Line network office has signed " +
				"parcels",
		},
		{[]string{"build", "Yard laptop/Brattvik", "--out", dir + "/yard"}, 0, "-digests.p7s"},
		{[]string{"build", "Bridge tablet 2/Norrvik", "--out", dir + "/tablet"}, 0,
			".mobileconfig"},
		{
			[]string{"verify", dir + "/yard/skerry-line-brattvik-ikev2-install.sh", dir +
				"/tablet/skerry-line-norrvik.mobileconfig"},
			0,
			"(believed)",
		},
		{[]string{"authority", "make", "Skerry Line 2"}, 0, "created the authority"},
		{[]string{"authority", "roll-over", "Skerry Line Authority"}, 1, "no successor"},
		{
			[]string{"authority", "roll-over", "Skerry Line Authority", "--successor",
				"Skerry Line 2"},
			0,
			"3     devices",
		},
		{[]string{"authority", "list"}, 0, "rolling over to Skerry Line 2"},
		{[]string{"authority", "roll-over", "Skerry Line Authority", "--finish"}, 1,
			"or finish anyway"},
		{[]string{"authority", "renew", "Skerry Line Authority", "--all"}, 0, "3 renewed"},
		{[]string{"authority", "roll-over", "Skerry Line Authority"}, 0, "0     devices"},
		{[]string{"authority", "roll-over", "Skerry Line Authority", "--finish", "--undo"}, 2,
			"flags in the group"},
		{[]string{"authority", "roll-over", "Skerry Line Authority", "--finish", "--force"}, 0,
			"from Skerry Line Authority to Skerry Line 2"},
		{
			[]string{"certificate", "calendar", "--days", "400"},
			0,
			"the certificate that signs " +
				"parcels",
		},
		{
			[]string{"organisation", "signer", "make", "--authority", "Skerry Line 2", "--name",
				"Dock office"},
			0,
			"Dock office has signed parcels",
		},
		{[]string{"organisation", "signer", "remove"}, 0, "no longer signed"},
		{[]string{"service", "mail", "set", "--server", "https://mail"}, 1, "server"},
		{[]string{"service", "mail", "queue"}, 0, "no emails"},
		{[]string{"verify"}, 2, "found no file"},
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
	// A script that was changed on the way, without a service to ask.
	name := dir + "/yard/skerry-line-brattvik-ikev2-install.sh"
	if err := os.WriteFile(name, []byte(read(t, name)+"true\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	authorities, err := f.client.Authorities.List(t.Context(), client.Query{})
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range authorities.Items {
		if a.Name == "Skerry Line Authority" {
			if err := os.WriteFile(dir+"/a.pem", []byte(a.Certificate), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	if code, out, _ := f.run(
		"",
		"verify",
		name,
		"--authority",
		dir+"/a.pem",
		"--service",
		"http://127.0.0.1:1",
	); code != 1 || !strings.Contains(out, "install.sh is not as it was built") ||
		!strings.Contains(out, "(believed)") {
		t.Errorf("ended with %d\n%s", code, out)
	}
}

// TestAuthorityPages brings an authority in, makes a request and answers it, rolls over and
// exports, by the pages of the console.
func TestAuthorityPages(t *testing.T) {
	f, b := signedInTab(t)
	dir := t.TempDir()
	root, text := vault(t)
	choose := func(label, name, content string) {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		b.upload(label, path)
	}
	b.goTo("/authorities", "Authorities")
	b.press("Import")
	b.press("Import")
	b.see("Choose a file first.")
	choose("File", "x.pem", "hello")
	b.press("Import")
	b.see("neither PEM nor DER")
	b.accessible("an error beside the file")
	choose("File", "vault.pem", text)
	b.press("Import")
	b.see("Imported.")
	b.see("elsewhere")

	devices, err := f.client.Devices.List(
		t.Context(),
		client.Query{Search: "Engine laptop 2", Limit: 1},
	)
	if err != nil {
		t.Fatal(err)
	}
	b.goTo("/devices/"+devices.Items[0].ID, "Engine laptop 2")
	authorities, err := f.client.Authorities.List(t.Context(), client.Query{Search: "Vault"})
	if err != nil {
		t.Fatal(err)
	}
	b.fill("Authority", authorities.Items[0].ID)
	b.press("Create a request")
	b.see("The request is downloaded")
	requests, err := f.client.Requests(t.Context(), client.Query{})
	if err != nil || requests.Total != 1 {
		t.Fatalf("%d requests (%v)", requests.Total, err)
	}
	b.goTo("/authorities", "Authorities")
	b.see("engine-laptop-2.devices.skerryline.example")
	b.accessible("a request that waits")
	choose("File", "answer.pem", signed(t, root, requests.Items[0].PEM))
	b.press("Import certificate")
	b.see("For an authority whose key is kept elsewhere")

	gateways, err := f.client.Gateways.List(t.Context(), client.Query{Search: "Norrvik", Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	b.goTo("/gateways/"+gateways.Items[0].ID+"?tab=keys", "Norrvik")
	b.see("None on record.")
	b.press("Create it")
	skerry, err := f.client.Authorities.List(t.Context(), client.Query{Search: "Skerry"})
	if err != nil {
		t.Fatal(err)
	}
	b.fill("Authority", skerry.Items[0].ID)
	b.press("Create key and certificate")
	b.see("The key is not stored here")
	b.see("norrvik-key.pem")
	b.accessible("what a gateway gets")

	b.goTo("/authorities/"+skerry.Items[0].ID, "Skerry Line Authority")
	b.fill("Successor", authorities.Items[0].ID)
	b.press("Begin")
	b.see("Both are trusted.")
	b.accessible("rollover")
	b.press("Undo")
	b.see("As before.")
	b.press("Export its key")
	b.fill("Passphrase", "short")
	b.fill("Repeat", "short")
	b.press("Save as PKCS #12")
	b.confirm(demo.OwnerPassword)
	b.see("15 to 256 characters")
	for _, label := range []string{"Passphrase", "Repeat"} {
		b.fill(label, "kelp Harbor mizzen 4497 lantern")
	}
	b.press("Save as PKCS #12")
	b.see("Keep the file and its passphrase apart.")
	b.goTo("/mail", "Mail")
	b.fill("Mail server", "https://mail")
	b.press("Save")
	b.until(
		`[...document.querySelectorAll('.invalid-feedback')].some(e => ` +
			`e.textContent.includes('without a scheme'))`,
	)
}
