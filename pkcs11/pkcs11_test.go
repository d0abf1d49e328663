package pkcs11_test

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wardicon/core/pki"
	"wardicon/pkcs11"
	"wardicon/pkcs11/tokentest"
)

// TestToken makes keys in a real module, signs with them in each way, and verifies with the standard
// library; the key stays where it is.
func TestToken(t *testing.T) {
	uri, _ := tokentest.Soft(t)
	tokens, err := pkcs11.Open([]string{uri})
	if err != nil {
		t.Fatal(err)
	}
	defer tokens.Close()
	for _, kind := range pki.KeyChoices {
		t.Run(string(kind), func(t *testing.T) {
			at, key, err := tokens.Make(tokentest.Label, "Issuing "+string(kind)+"; 50 %", kind)
			if err != nil {
				t.Fatal(err)
			}
			again, err := tokens.Signer(at)
			if err != nil {
				t.Fatalf("%s: %v", at, err)
			}
			w := pki.Wanted{
				Name: "Harbour", Usage: pki.ForAuthority, From: time.Now().Add(-time.Hour),
				To: time.Now().Add(time.Hour),
			}
			c, err := pki.Issue(rand.Reader, pki.Issuer{Key: again}, key.Public(), w)
			if err != nil || c.CheckSignatureFrom(c) != nil {
				t.Errorf("a certificate signed by itself: %v", err)
			}
			d384 := sha512.Sum384([]byte("fog"))
			signature, err := again.Sign(nil, d384[:], crypto.SHA384)
			if err != nil || c.CheckSignature(map[bool]x509.SignatureAlgorithm{
				true: x509.SHA384WithRSA, false: x509.ECDSAWithSHA384,
			}[kind == pki.RSA3072], []byte("fog"), signature) != nil {
				t.Errorf("SHA-384: %v", err)
			}
			if public, ok := again.Public().(*rsa.PublicKey); ok {
				d := sha256.Sum256([]byte("fog"))
				by := &rsa.PSSOptions{Hash: crypto.SHA256, SaltLength: 32}
				signature, err := again.Sign(nil, d[:], by)
				if err != nil || rsa.VerifyPSS(public, crypto.SHA256, d[:], signature, by) != nil {
					t.Errorf("PSS: %v", err)
				}
			}
			// Another program is told of no private key that it could take out.
			out, _ := exec.Command("pkcs11-tool", "--module", tokentest.Module, "--token-label", tokentest.Label, "--login",
				"--pin", tokentest.PIN, "--list-objects", "--type", "privkey").CombinedOutput()
			if s := string(out); !strings.Contains(s, "never extractable") || !strings.Contains(s, string(kind)) {
				t.Errorf("another program sees\n%s", s)
			}
			if err := tokens.Drop(at); err != nil {
				t.Error(err)
			}
			if _, err := tokens.Signer(at); err == nil {
				t.Error("it is there after it was dropped")
			}
		})
	}
}

// TestTokenAway takes the helper, the token and the PIN away, and brings them back.
func TestTokenAway(t *testing.T) {
	uri, folder := tokentest.Soft(t)
	t.Setenv("WARDICON_TOKEN", "a secret of the service")
	open := func() *pkcs11.Tokens {
		tokens, err := pkcs11.Open([]string{uri})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(tokens.Close)
		return tokens
	}
	tokens := open()
	w := tokens.Wrapper(tokentest.URI + ";object=master")
	sealed, err := w.Wrap([]byte("lantern"))
	if err != nil {
		t.Fatal(err)
	}
	works := func(when string) {
		t.Helper()
		if plain, err := w.Unwrap(sealed); err != nil || string(plain) != "lantern" {
			t.Errorf("%s: %q, %v", when, plain, err)
		}
	}
	works("at first")
	helper := func() string {
		if err := tokens.Check(tokentest.Label); err != nil {
			t.Fatal(err)
		}
		out, _ := exec.Command("pgrep", "-P", fmt.Sprint(os.Getpid()), pkcs11.Helper).Output()
		return strings.TrimSpace(string(out))
	}
	pid := helper()
	if data, err := os.ReadFile("/proc/" + pid + "/environ"); err != nil || bytes.Contains(data, []byte("WARDICON")) {
		t.Errorf("the helper's environment: %v", err)
	}
	for _, file := range []string{"cmdline", "environ"} {
		if data, err := os.ReadFile("/proc/" + pid + "/" + file); err != nil || bytes.Contains(data, []byte(tokentest.PIN)) {
			t.Errorf("the PIN is in its %s (%v)", file, err)
		}
	}
	if err := exec.Command("kill", "-9", pid).Run(); err != nil {
		t.Fatal(err)
	}
	if next := helper(); next == pid {
		t.Error("the helper is not started again")
	}
	works("after kill -9")

	tokens.Close()
	if err := os.Rename(folder, folder+".away"); err != nil {
		t.Fatal(err)
	}
	var away *pkcs11.AwayError
	if _, err := w.Unwrap(sealed); !errors.As(err, &away) {
		t.Errorf("without the token: %v", err)
	}
	if err := os.Rename(folder+".away", folder); err != nil {
		t.Fatal(err)
	}
	works("when it is back")

	// A wrong PIN is tried once: three tries would lock many a token.
	file := filepath.Join(filepath.Dir(folder), "pin")
	if err := os.WriteFile(file, []byte("9999\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	wrong := open()
	for range 5 {
		if err := wrong.Check(tokentest.Label); !errors.As(err, &away) || strings.Contains(err.Error(), "9999") {
			t.Errorf("with a wrong PIN: %v", err)
		}
	}
	if out, err := exec.Command("softhsm2-util", "--show-slots").CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := open().Check(tokentest.Label); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("with a PIN that others can read: %v", err)
	}
}

// TestURI refuses what is no place of a token or key.
func TestURI(t *testing.T) {
	const place = "pkcs11:token=Quay?module-path=/m.so&pin-source=file:/pin"
	for _, c := range []struct{ token, key, why string }{
		{token: place, key: "pkcs11:token=Quay;object=a"},
		{token: place, key: "pkcs11:serial=0a1b;id=%00%ff"},
		{token: "pkcs11:token=Quay?module-path=/m.so&pin-value=1234", why: "pin-source"},
		{token: "pkcs11:token=Quay", why: "module-path"},
		{token: "pkcs11:token=Quay?module-path=m.so&pin-source=file:/pin", why: "m.so"},
		{token: "file:/etc/key", why: "PKCS #11 URI"},
		{token: "pkcs11:object=a?module-path=/m.so&pin-source=file:/pin", why: "token="},
		{key: "pkcs11:token=Quay;object=a?module-path=/evil.so", why: "module"},
		{key: "pkcs11:token=Quay;object=a?pin-source=file:/etc/shadow", why: "PIN"},
		{key: "pkcs11:token=Quay", why: "object="},
		{key: "pkcs11:token=%ZZ;object=a", why: "PKCS #11 URI"},
	} {
		if c.token != "" {
			if _, err := pkcs11.Open([]string{c.token}); (err == nil) != (c.why == "") ||
				err != nil && !strings.Contains(err.Error(), c.why) {
				t.Errorf("%s: %v", c.token, err)
			}
		}
		if c.key != "" {
			if err := pkcs11.CheckKey(c.key); (err == nil) != (c.why == "") ||
				err != nil && !strings.Contains(err.Error(), c.why) {
				t.Errorf("%s: %v", c.key, err)
			}
		}
	}
}
