package e2e

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wardicon/copies"
)

// said runs a command line of wardicon in a process of its own.
func said(t *testing.T, env []string, args ...string) (code int, out string) {
	t.Helper()
	cmd := command(args...)
	cmd.Env = append(cmd.Env, env...)
	var both bytes.Buffer
	cmd.Stdout, cmd.Stderr = &both, &both
	_ = cmd.Run() // its code is looked at
	return cmd.ProcessState.ExitCode(), both.String()
}

// TestSettings holds which value wins, and what is refused before a service starts.
func TestSettings(t *testing.T) {
	t.Parallel()
	dir := setUp(t)
	here := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		t.Helper()
		path := filepath.Join(here, name)
		if err := os.WriteFile(path, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	file := write("wardicon.yaml", "data: "+dir+"\nlisten: 127.0.0.1:0\nlog: json\n"+
		"proxy: [127.0.0.1, 10.0.0.0/8]\nbackup-every: 12h\n", 0o644)
	code, out := said(t, []string{"WARDICON_LOG=text", "WARDICON_BACKUP_KEEP=3",
		"WARDICON_PROXY_HEADER=forwarded"},
		"serve", "--check", "--output", "json", "--settings", file, "--proxy-header",
		"x-forwarded-for")
	var found struct {
		Settings []struct{ Name, Value, From string }
		Findings []struct{ Severity, Text string }
	}
	if err := json.Unmarshal([]byte(out), &found); err != nil || code != 0 {
		t.Fatalf("ended with %d: %s (%v)", code, out, err)
	}
	holds := map[string]string{}
	for _, s := range found.Settings {
		holds[s.Name] = s.Value + " by " + s.From
	}
	for name, want := range map[string]string{
		"data":         dir + " by file",
		"log":          "text by environment",
		"backup-keep":  "3 by environment",
		"backup-every": "12h0m0s by file",
		"proxy-header": "x-forwarded-for by flag",
		"proxy":        "[127.0.0.1,10.0.0.0/8] by file",
		"look-zone":    " by default",
	} {
		if holds[name] != want {
			t.Errorf("%s is %q, expected %q", name, holds[name], want)
		}
	}

	expired, key := pairUntil(t, time.Now().Add(-time.Hour))
	short, shortKey := pairUntil(t, time.Now().Add(72*time.Hour))
	cert, certKey := write("a.pem", expired, 0o600), write("a.key", key, 0o600)
	soon, soonKey := write("b.pem", short, 0o600), write("b.key", shortKey, 0o600)
	open := filepath.Join(here, "open")
	if err := os.CopyFS(open, os.DirFS(dir)); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(open, "master.key"), 0o644); err != nil {
		t.Fatal(err)
	}
	other := write("other.key", strings.Repeat("ab", 32)+"\n", 0o600)
	for _, test := range []struct {
		name string
		code int
		want string
		args []string
	}{
		{"sound", 0, "The service can start.", []string{"--settings", file}},
		{"a setting that is none", 2, `found "datum", expected one of`,
			[]string{"--settings", write("x.yaml", "datum: x\n", 0o600)}},
		{"not YAML", 2, "y.yaml", []string{"--settings", write("y.yaml", "a: [", 0o600)}},
		{"no such file", 2, "there is no file or folder", []string{"--settings", here + "/nowhere.yaml"}},
		{"a duration that is none", 2, "backup-every",
			[]string{"--settings", write("z.yaml", "backup-every: often\n", 0o600)}},
		{"all addresses without TLS", 1, "without TLS",
			[]string{"--settings", file, "--listen", "0.0.0.0:0"}},
		{"an expired certificate", 1, "it expired on",
			[]string{"--settings", file, "--tls-cert", cert, "--tls-key", certKey}},
		{"a certificate that expires soon", 0, "it expires on",
			[]string{"--settings", file, "--tls-cert", soon, "--tls-key", soonKey}},
		{"a key of another certificate", 1, "does not match",
			[]string{"--settings", file, "--tls-cert", soon, "--tls-key", certKey}},
		{"a key that others can read", 1, "expected 0600",
			[]string{"--data", open, "--listen", "127.0.0.1:0"}},
		{"another master key", 1, "key",
			[]string{"--data", dir, "--listen", "127.0.0.1:0", "--key-file", other}},
		{"a file in the place of the folder", 1, "expected a folder",
			[]string{"--data", file, "--listen", "127.0.0.1:0"}},
		{"copies without a key", 1, "expected a public key",
			[]string{"--settings", file, "--backup-to", here}},
		{"copies into no folder", 1, "make the folder first",
			[]string{"--settings", file, "--backup-to", here + "/none", "--backup-recipient",
				publicKey(t)}},
	} {
		code, out := said(t, nil, append([]string{"serve", "--check"}, test.args...)...)
		if code != test.code || !strings.Contains(out, test.want) {
			t.Errorf("%s: ended with %d, expected %d and %q:\n%s", test.name, code, test.code,
				test.want, out)
		}
	}
	if entries, err := os.ReadDir(dir); err != nil || len(entries) > 4 {
		t.Errorf("looking has left files behind: %v (%v)", entries, err)
	}
}

func publicKey(t *testing.T) string {
	t.Helper()
	_, public, err := copies.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	return public
}

// pairUntil is a certificate that ends at a time, and its key, PEM.
func pairUntil(t *testing.T, end time.Time, names ...string) (certificate, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := x509.Certificate{
		SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "vpn.skerryline.example"},
		NotBefore: end.AddDate(0, 0, -90), NotAfter: end, DNSNames: names,
		BasicConstraintsValid: true, IsCA: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &k.PublicKey, k)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
}
