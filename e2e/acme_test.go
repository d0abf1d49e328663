package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wardicon/simulate"
)

// TestACME has the service get its own certificate from a simulated CA, which holds it to RFC 8555 and
// RFC 8737: for its name alone, once, sealed at rest, and still there when the CA is away.
func TestACME(t *testing.T) {
	t.Parallel()
	const name = "wardicon.skerryline.example"
	ca, err := simulate.NewACME()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = ca.Close() })
	dir := setUp(t)
	settings := []string{
		"--acme-directory", ca.URL + "/directory", "--acme-name", name, "--acme-mail",
		"network@skerryline.example",
	}
	out, _ := command(append([]string{"serve", "--data", dir}, settings...)...).CombinedOutput()
	if !strings.Contains(string(out), "before you agree to its terms") {
		t.Errorf("without agreeing to the terms: %s", out)
	}
	settings = append(settings, "--acme-terms-agreed")
	p := serve(t, dir, settings...)
	at := strings.TrimPrefix(p.url, "https://")
	ca.Dial = func(string) string { return at }
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(ca.Authority))
	ask := func(name string) error {
		c := &http.Client{Transport: &http.Transport{
			ForceAttemptHTTP2: true,
			TLSClientConfig:   &tls.Config{RootCAs: roots, ServerName: name},
			DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, at)
			},
		}}
		defer c.CloseIdleConnections()
		res, err := c.Get("https://" + name + "/health")
		if err != nil {
			return err
		}
		if res.ProtoMajor != 2 {
			t.Errorf("it is HTTP/%d", res.ProtoMajor)
		}
		return res.Body.Close()
	}
	for range 2 {
		if err := ask(name); err != nil {
			t.Fatalf("%v\n%v\n%s", err, ca.Problems, p.logged())
		}
	}
	if err := ask("elsewhere.skerryline.example"); err == nil {
		t.Error("a certificate is got for a name that was not set")
	}
	if ca.Issued != 1 || len(ca.Problems) > 0 {
		t.Errorf("%d certificates were issued; %v", ca.Issued, ca.Problems)
	}
	if path, err := exec.LookPath("openssl"); err == nil {
		root := filepath.Join(t.TempDir(), "root.pem")
		if err := os.WriteFile(root, []byte(ca.Authority), 0o600); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(path, "s_client", "-connect", at, "-servername", name, "-verify_return_error",
			"-verify_hostname", name, "-CAfile", root)
		if out, err := cmd.CombinedOutput(); err != nil || !bytes.Contains(out, []byte("Verification: OK")) {
			t.Errorf("%v: %s", err, out)
		}
	}
	p.stop(os.Interrupt)
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		if data, err := os.ReadFile(file); err != nil || bytes.Contains(data, []byte("PRIVATE KEY")) {
			t.Errorf("%s has a key in clear (%v)", file, err)
		}
	}

	// The CA is away: what is kept serves on; another name is refused, and the log says why.
	_ = ca.Close()
	p = serve(t, dir, append(settings, "--acme-name", "second.skerryline.example")...)
	at = strings.TrimPrefix(p.url, "https://")
	if err := ask(name); err != nil {
		t.Errorf("with the CA away: %v", err)
	}
	if err := ask("second.skerryline.example"); err == nil {
		t.Error("a new name is served with the CA away")
	}
	const why = "the ACME CA issues no certificate"
	for end := time.Now().Add(10 * time.Second); !strings.Contains(p.logged(), why); {
		if time.Now().After(end) {
			t.Fatalf("the log does not say why:\n%s", p.logged())
		}
		time.Sleep(20 * time.Millisecond)
	}
	p.stop(os.Interrupt)
}
