package e2e

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"log/slog"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/httpapi"
)

// judged runs a program of Debian, and has what it says.
func judged(t *testing.T, dir, name string, args ...string) (string, error) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		if os.Getenv("CI") == "true" {
			t.Fatal(err)
		}
		t.Skip("skipped: " + name + " is not installed")
	}
	cmd := exec.CommandContext(t.Context(), path, args...)
	cmd.Dir = dir
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err = cmd.Run(); err == nil && out.Len() > 0 {
		return out.String(), nil
	}
	return out.String() + errs.String(), err
}

// TestEnrol has devices get, renew and lose certificates by open protocols, with clients that are
// not ours: the IKE daemon's own tool for SCEP and EST, curl as scripts use it, and openssl for the
// state of certificates.
func TestEnrol(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx, dir := t.Context(), t.TempDir()
	run := f.commands()
	do := func(name string, args ...string) string {
		t.Helper()
		out, err := judged(t, dir, name, args...)
		if err != nil {
			t.Fatalf("%s %s: %v\n%s\n%s", name, strings.Join(args, " "), err, out, f.log)
		}
		return out
	}
	keep := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	// The address for enrolment, by TLS, as serve opens it.
	cert, key, _ := certificate(t)
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewUnstartedServer(httpapi.Enrolling(f.svc,
		slog.New(slog.NewTextHandler(f.log, nil)), httpapi.Options{Secure: true}))
	server.TLS = &tls.Config{
		Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequestClientCert,
		DynamicRecordSizingDisabled: true,
		MinVersion:                  tls.VersionTLS12,
	}
	server.StartTLS()
	defer server.Close()
	_, port, _ := net.SplitHostPort(server.Listener.Addr().String())
	base := "https://localhost:" + port

	list, err := f.client.Authorities.List(ctx, query("Skerry Line Authority"))
	if err != nil || list.Total == 0 {
		t.Fatal(err)
	}
	ca := list.Items[0]
	root := keep("ca.pem", ca.Certificate)
	run(0, "", "authority", "change", ca.Name, "--responder", f.url+"/ocsp/"+ca.ID)
	run(0, "", "organisation", "change", "--links", f.url)
	enrolment := func(device string) api.NewEnrolment {
		t.Helper()
		var made api.NewEnrolment
		if err := json.Unmarshal([]byte(run(0, "", "certificate", "enrol", device, "--authority",
			ca.Name, "--output", "json")), &made); err != nil {
			t.Fatal(err)
		}
		return made
	}
	identity := func(device string) vpn.DeviceIdentity {
		t.Helper()
		page, err := f.client.Devices.List(ctx, query(device))
		if err != nil || page.Total != 1 || page.Items[0].Identity == nil {
			t.Fatalf("%s has no certificate (%v)", device, err)
		}
		return *page.Items[0].Identity
	}
	state := func(name string) string {
		t.Helper()
		out, _ := judged(t, dir, "sh", "-c", "openssl ocsp -issuer "+root+" -cert "+name+" -CAfile "+
			root+" -url "+f.url+"/ocsp/"+ca.ID+" -no_nonce 2>&1")
		return out
	}

	t.Run("EST", func(t *testing.T) {
		made := enrolment("Purser laptop 1")
		do("openssl", "ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "est.key")
		do("openssl", "req", "-new", "-key", "est.key", "-subj", "/CN=whatever", "-out", "est.csr")
		do("openssl", "req", "-in", "est.csr", "-outform", "der", "-out", "est.der")
		url := base + strings.TrimPrefix(made.EST, strings.Split(made.EST, "/.well-known")[0])
		keep("est.pem", do("pki", "--est", "--url", base, "--in", "est.csr", "--cacert", cert,
			"--cacert", root, "--userpass", made.ID+":"+made.Secret, "--outform", "pem"))
		do("openssl", "verify", "-CAfile", root, "-purpose", "sslclient", "est.pem")
		if text := do("openssl", "x509", "-in", "est.pem", "-noout", "-text"); !strings.Contains(text,
			"DNS:purser-laptop-1.devices.") || strings.Contains(text, "whatever") ||
			!strings.Contains(text, "OCSP - URI:"+f.url+"/ocsp/"+ca.ID) {
			t.Error(text)
		}
		if do("openssl", "x509", "-in", "est.pem", "-noout", "-pubkey") !=
			do("openssl", "ec", "-in", "est.key", "-pubout") {
			t.Error("the certificate is for another key")
		}
		if id := identity("Purser laptop 1"); !id.OnDevice || id.KeySet {
			t.Errorf("on record is %+v", id)
		}
		// An answer was lost: the same request again gets the same certificate, another key none.
		again := do("curl", "-sS", "--cacert", cert, "-u", "x:"+made.Secret, "-H",
			"Content-Type: application/pkcs10", "--data-binary", "@est.der", url+"/simpleenroll")
		do("sh", "-c", "echo '"+again+"' | base64 -d | openssl pkcs7 -inform der -print_certs | "+
			"openssl x509 -out again.pem")
		if do("openssl", "x509", "-in", "again.pem") != do("openssl", "x509", "-in", "est.pem") {
			t.Error("the same request again gets another certificate")
		}
		do("openssl", "ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "thief.key")
		do("openssl", "req", "-new", "-key", "thief.key", "-subj", "/CN=x", "-out", "thief.csr")
		do("openssl", "req", "-in", "thief.csr", "-outform", "der", "-out", "forged.csr")
		forged, err := os.ReadFile(filepath.Join(dir, "forged.csr"))
		if err != nil {
			t.Fatal(err)
		}
		forged[len(forged)-1] ^= 1
		keep("forged.csr", string(forged))
		for name, try := range map[string][]string{
			"another key":   {"-u", "x:" + made.Secret, "@thief.csr", "401"},
			"no word":       {"-u", "x:", "@thief.csr", "401"},
			"no sign-in":    {"-A", "x", "@thief.csr", "401"},
			"no request":    {"-u", "x:" + made.Secret, "hello", "400"},
			"another's key": {"-u", "x:" + made.Secret, "@forged.csr", "400"},
		} {
			if out := do("curl", "-sS", "--cacert", cert, try[0], try[1], "-o", "/dev/null", "-w",
				"%{http_code}", "--data-binary", try[2], url+"/simpleenroll"); out != try[3] {
				t.Errorf("%s: %s, expected %s", name, out, try[3])
			}
		}
		// It renews itself, for a new key, with the certificate that it has.
		do("openssl", "ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "new.key")
		do("openssl", "req", "-new", "-key", "new.key", "-subj", "/CN=Purser laptop 1", "-out",
			"new.csr")
		renew := func(own ...string) string {
			t.Helper()
			return do("curl", append([]string{"-sS", "--cacert", cert, "-o", "renewed.p7", "-w",
				"%{http_code}", "--data-binary", "@new.csr", url + "/simplereenroll"}, own...)...)
		}
		if got := renew(); got != "403" {
			t.Errorf("without a certificate it is renewed with %s", got)
		}
		do("openssl", "req", "-x509", "-key", "thief.key", "-subj", "/CN=Purser laptop 1", "-out",
			"thief.pem")
		if got := renew("--cert", "thief.pem", "--key", "thief.key"); got != "403" {
			t.Errorf("a certificate of one's own making is renewed with %s", got)
		}
		if got := renew("--cert", "est.pem", "--key", "est.key"); got != "200" {
			t.Fatalf("it is renewed with %s", got)
		}
		do("sh", "-c", "base64 -d renewed.p7 | openssl pkcs7 -inform der -print_certs | "+
			"openssl x509 -out renewed.pem")
		do("openssl", "verify", "-CAfile", root, "renewed.pem")
		if id := identity("Purser laptop 1"); strings.TrimSpace(id.Certificate) != strings.TrimSpace(
			do("openssl", "x509", "-in", "renewed.pem")) {
			t.Error("the record has not the renewed certificate")
		}
		// Revoked, it is told so at once, and is renewed no more.
		if out := state("renewed.pem"); !strings.Contains(out, "renewed.pem: good") ||
			!strings.Contains(out, "Response verify OK") {
			t.Error(out)
		}
		run(0, "", "certificate", "revoke", "--device", "Purser laptop 1", "--reason",
			"key-compromise", "--yes")
		if out := state("renewed.pem"); !strings.Contains(out, "renewed.pem: revoked") ||
			!strings.Contains(out, "keyCompromise") {
			t.Error(out)
		}
		if got := renew("--cert", "renewed.pem", "--key", "new.key"); got != "403" {
			t.Errorf("a revoked certificate is renewed with %s", got)
		}
		if strings.Contains(f.log.String(), made.Secret) {
			t.Error("the word is in the log")
		}
	})
	t.Run("SCEP", func(t *testing.T) {
		made := enrolment("Purser laptop 2")
		url := f.url + made.SCEP[strings.Index(made.SCEP, "/scep/"):]
		if out := do("curl", "-sS", url+"?operation=GetCACaps"); !strings.Contains(out, "SHA-256") {
			t.Error(out)
		}
		do("curl", "-sS", "-o", "ra.p7", url+"?operation=GetCACert")
		do("sh", "-c", "openssl pkcs7 -inform der -in ra.p7 -print_certs | openssl x509 -out ra.pem")
		do("openssl", "verify", "-CAfile", root, "ra.pem")
		do("openssl", "genrsa", "-out", "scep.key", "2048")
		ask := func(word string, more ...string) (string, error) {
			t.Helper()
			return judged(t, dir, "pki", append([]string{"--scep", "--url", url, "--in", "scep.key",
				"--dn", "CN=Purser laptop 2", "--password", word, "--cacert-enc", "ra.pem",
				"--cacert-sig", "ra.pem", "--cacert", root, "--outform", "pem"}, more...)...)
		}
		if out, err := ask("not-the-word"); err == nil {
			t.Errorf("a wrong word gives %s", out)
		}
		out, err := ask(made.Secret)
		if err != nil {
			t.Fatal(out, f.log.String())
		}
		keep("scep.pem", out)
		do("openssl", "verify", "-CAfile", root, "-purpose", "sslclient", "scep.pem")
		if out := state("scep.pem"); !strings.Contains(out, "scep.pem: good") {
			t.Error(out)
		}
		do("openssl", "genrsa", "-out", "scep2.key", "2048")
		out, err = judged(t, dir, "pki", "--scep", "--url", url, "--in", "scep2.key", "--dn",
			"CN=Purser laptop 2", "--cert", "scep.pem", "--key", "scep.key", "--cacert-enc", "ra.pem",
			"--cacert-sig", "ra.pem", "--cacert", root, "--outform", "pem")
		if err != nil {
			t.Fatal(out, f.log.String())
		}
		keep("scep2.pem", out)
		do("openssl", "verify", "-CAfile", root, "scep2.pem")
	})
	t.Run("words", func(t *testing.T) {
		run(0, "/.well-known/est/", "certificate", "enrol", "Purser laptop 3", "--authority", ca.Name)
		made := enrolment("Purser laptop 3")
		run(0, "not used", "certificate", "enrolments", "Purser laptop 3")
		run(0, "", "certificate", "enrolments", "Purser laptop 3", "--end", made.ID)
		run(4, "", "certificate", "enrolments", "Purser laptop 3", "--end", made.ID)
		run(0, "used on", "certificate", "enrolments", "Purser laptop 2")
		run(1, "<= 2160", "certificate", "enrol", "Purser laptop 3", "--authority", ca.Name,
			"--hours", "9999")
		for _, word := range regexp.MustCompile(`[a-z2-7]{26}`).FindAllString(
			run(0, "", "audit", "list", "--output", "json"), -1) {
			if word == made.Secret {
				t.Error("the word is in the audit log")
			}
		}
	})
	t.Run("state of strangers", func(t *testing.T) {
		c := keep("ca-of-other.pem", func() string {
			list, err := pki.Certificates(ca.Certificate)
			if err != nil {
				t.Fatal(err)
			}
			return pki.Bundle(list[len(list)-1])
		}())
		for _, body := range []string{"", "hello", strings.Repeat("0", 10_000)} {
			keep("question", body)
			do("curl", "-sS", "-o", "answer.der", "--data-binary", "@question", f.url+"/ocsp/"+ca.ID)
			if out, _ := judged(t, dir, "openssl", "ocsp", "-respin", "answer.der", "-issuer", c,
				"-noverify"); !strings.Contains(out, "malformedrequest") {
				t.Errorf("%.20q is answered with %s", body, out)
			}
		}
		if out, _ := judged(t, dir, "openssl", "ocsp", "-issuer", root, "-serial", "12345",
			"-CAfile", root, "-url", f.url+"/ocsp/"+ca.ID); !strings.Contains(out, "unknown") {
			t.Error(out)
		}
		if out, _ := judged(t, dir, "openssl", "ocsp", "-issuer", cert, "-serial", "12345",
			"-CAfile", root, "-url", f.url+"/ocsp/"+ca.ID); !strings.Contains(out, "unauthorized") {
			t.Error(out)
		}
	})
}

// TestEnrolParcel hands out files with which a device makes its key itself: the script of a Linux
// parcel runs with the system's own curl and openssl, an Apple profile is read by another reader.
func TestEnrolParcel(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	dir := t.TempDir()
	cert, key, _ := certificate(t)
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewUnstartedServer(httpapi.Enrolling(f.svc,
		slog.New(slog.NewTextHandler(f.log, nil)), httpapi.Options{Secure: true}))
	server.TLS = &tls.Config{
		Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequestClientCert,
		MinVersion: tls.VersionTLS12,
	}
	server.StartTLS()
	defer server.Close()
	_, port, _ := net.SplitHostPort(server.Listener.Addr().String())
	run(0, "", "organisation", "change", "--links", f.url, "--enrol", "https://localhost:"+port)
	for name, platform := range map[string][2]string{
		"Tide box": {"linux", "6"}, "Tide phone": {"ios", "18"}, "Tide tablet": {"android", "15"},
	} {
		run(0, "", "device", "add", name, "--person", "Ada Fjell", "--platform", platform[0],
			"--release", platform[1], "--encrypted", "--enrol", "Skerry Line Authority")
		run(0, "", "profile", "add", name, "--gateway", "Brattvik", "--protocol", "ikev2")
	}
	// In files its CA stands by its name, and what was saved is what is there.
	saved := filepath.Join(dir, "saved")
	run(0, "", "save", saved)
	if data, err := os.ReadFile(filepath.Join(saved, "devices.yaml")); err != nil ||
		!strings.Contains(string(data), "authority_id: Skerry Line Authority") {
		t.Errorf("a device with a key of its own is saved as\n%s (%v)", data, err)
	}
	run(0, "No changes", "load", saved)
	run(1, "a key that the device makes itself", "plan", "Tide tablet", "Brattvik")
	box := filepath.Join(dir, "box")
	run(0, "", "build", "Tide box/Brattvik", "--out", box)
	outdated := func() bool {
		list, err := f.client.Parcels(t.Context(), f.profile("Tide box", "Brattvik"))
		if err != nil {
			t.Fatal(err)
		}
		return list.Items[0].Outdated
	}
	// Its script runs below a folder of ours in the place of /etc.
	text, err := os.ReadFile(filepath.Join(box, "skerry-line-brattvik-certificate.sh"))
	if err != nil {
		t.Fatal(err)
	}
	script := filepath.Join(dir, "certificate.sh")
	if err := os.WriteFile(script, bytes.ReplaceAll(text, []byte("/etc/swanctl"),
		[]byte(dir+"/etc")), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(dir, "etc"), 0o700); err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(dir, "etc", "skerry-line-brattvik-enrol.conf")
	if err := os.Rename(filepath.Join(box, "skerry-line-brattvik-enrol.conf"), config); err != nil {
		t.Fatal(err)
	}
	device := func() (string, error) {
		return judged(t, dir, "env", "CURL_CA_BUNDLE="+cert, "sh", script)
	}
	own := filepath.Join(dir, "etc", "x509", "skerry-line-brattvik-cert1.pem")
	private := filepath.Join(dir, "etc", "private", "skerry-line-brattvik-key.pem")
	shown := func() string {
		out, err := judged(t, dir, "openssl", "x509", "-in", own, "-noout", "-subject", "-serial",
			"-ext", "subjectAltName")
		if err != nil {
			t.Fatal(out)
		}
		return out
	}
	if out, err := device(); err != nil {
		t.Fatal(out, f.log)
	}
	first := shown()
	if !strings.Contains(first, "DNS:tide-box.devices.skerryline.example") {
		t.Error(first)
	}
	if info, err := os.Stat(private); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key is open to others: %v", err)
	}
	if outdated() {
		t.Error("the parcel is outdated once the device has its certificate")
	}
	if _, err := device(); err != nil || shown() != first {
		t.Errorf("run again, it gets another certificate (%v)", err)
	}
	run(0, "its key never leaves it; the certificate was issued", "plan", "Tide box", "Brattvik")
	// A certificate that ends soon is renewed with the certificate itself, for another key: the
	// secret is used up.
	text, err = os.ReadFile(script)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(script, bytes.Replace(text, []byte("left 2592000"),
		[]byte("left 99999999"), 1), 0o700); err != nil {
		t.Fatal(err)
	}
	if out, err := device(); err != nil || shown() == first {
		t.Errorf("it is not renewed: %v %s", err, out)
	}
	if err := os.WriteFile(script, bytes.Replace(text, []byte("left 99999999"),
		[]byte("left 2592000"), 1), 0o700); err != nil {
		t.Fatal(err)
	}
	// Once it is revoked, the device can ask again with the word of its next parcel.
	run(0, "", "certificate", "revoke", "--device", "Tide box", "--reason", "superseded", "--yes")
	if !outdated() {
		t.Error("the parcel with the old word is not outdated")
	}
	renewed := shown()
	again := filepath.Join(dir, "again")
	run(0, "", "build", "Tide box/Brattvik", "--out", again)
	if err := os.Rename(filepath.Join(again, "skerry-line-brattvik-enrol.conf"), config); err != nil {
		t.Fatal(err)
	}
	if out, err := device(); err != nil || shown() == renewed {
		t.Errorf("with its next parcel it does not get another certificate: %v %s", err, out)
	}
	if out, err := device(); err != nil {
		t.Errorf("run once more, it asks again: %s", out)
	}
	phone := filepath.Join(dir, "phone")
	run(0, "", "build", "Tide phone/Brattvik", "--out", phone)
	out, err := judged(t, phone, "sh", "-c", "openssl cms -verify -noverify -inform der -in "+
		"skerry-line-brattvik.mobileconfig 2>/dev/null | python3 -c '"+`
import plistlib, sys
p = plistlib.loads(sys.stdin.buffer.read())["PayloadContent"]
s = [x for x in p if x["PayloadType"] == "com.apple.security.scep"][0]
v = [x for x in p if x["PayloadType"] == "com.apple.vpn.managed"][0]
assert v["IKEv2"]["PayloadCertificateUUID"] == s["PayloadUUID"]
assert not [x for x in p if x["PayloadType"] == "com.apple.security.pkcs12"]
c = s["PayloadContent"]
print(c["URL"], c["Challenge"], c["Subject"][0][0][1], c["Key Type"])
'`)
	if err != nil {
		t.Fatal(out)
	}
	got := strings.Fields(out)
	if len(got) != 5 || got[4] != "RSA" {
		t.Fatal(out)
	}
	for _, step := range [][]string{
		{"curl", "-sS", "-o", "ra.p7", got[0] + "?operation=GetCACert"},
		{"sh", "-c", "openssl pkcs7 -inform der -in ra.p7 -print_certs | openssl x509 -out ra.pem"},
		{"openssl", "genrsa", "-out", "phone.key", "2048"},
		{"pki", "--scep", "--url", got[0], "--in", "phone.key", "--dn", "CN=Tide phone",
			"--password", got[1], "--cacert-enc", "ra.pem", "--cacert-sig", "ra.pem", "--outform",
			"pem"},
	} {
		if out, err := judged(t, dir, step[0], step[1:]...); err != nil {
			t.Fatalf("%s: %s\n%s", step[0], out, f.log)
		}
	}
}
