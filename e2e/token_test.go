package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/pkcs11/tokentest"
)

// TestToken keeps the master key and the keys of CAs in a token (PKCS #11): what they sign is verified
// by openssl, nothing of them is on the disk, and without the token nothing opens.
func TestToken(t *testing.T) {
	uri, folder := tokentest.Soft(t)
	home := t.TempDir()
	dir := filepath.Join(home, "data")
	t.Setenv("XDG_CONFIG_HOME", home)
	t.Setenv("WARDICON_CONFIRM_FILE", write(t, "confirm", ownerPassword))
	stdin := ownerPassword + "\n"
	run := func(code int, want string, args ...string) string {
		t.Helper()
		cmd := command(args...)
		cmd.Stdin = strings.NewReader(stdin)
		out, _ := cmd.CombinedOutput()
		if cmd.ProcessState.ExitCode() != code || !strings.Contains(string(out), want) {
			t.Fatalf("%s ended with %d, expected %d and %q\n%s", strings.Join(args, " "),
				cmd.ProcessState.ExitCode(), code, want, out)
		}
		return string(out)
	}
	openssl := func(args ...string) string {
		t.Helper()
		out, err := exec.Command("openssl", args...).CombinedOutput()
		if err != nil {
			t.Fatalf("openssl %s: %v\n%s", strings.Join(args, " "), err, out)
		}
		return string(out)
	}
	token := []string{"--data", dir, "--pkcs11", uri, "--key-pkcs11", tokentest.URI + ";object=master"}
	run(0, "", append([]string{"service", "set-up", "--owner", "me", "--password-file", "-"}, token...)...)
	if _, err := os.Stat(filepath.Join(dir, "master.key")); err == nil {
		t.Error("there is a key file beside the token")
	}
	run(0, "can start", append([]string{"serve", "--check", "--listen", "127.0.0.1:0"}, token...)...)
	p := serve(t, dir, append([]string{"--pkcs11", strings.Replace(strings.Replace(uri, tokentest.URI,
		"pkcs11:token=Harbour", 1), "/pin", "/none", 1)}, token[2:]...)...)
	t.Setenv("WARDICON_SERVICE", p.url)
	run(0, "signed in", "me", "sign-in", "--name", "me", "--password-file", "-")

	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		out, _ := command("authority", "tokens").CombinedOutput()
		if s := string(out); strings.Contains(s, "available") && strings.Contains(s, "there is no file") {
			break
		} else if time.Now().After(deadline) {
			t.Fatal(s)
		}
	}

	// A CA of ours in the token, and one of others that another program has put there.
	run(1, "one of the service's tokens: Harbour, "+tokentest.Label, "authority", "make", "None", "--token", "Other")
	run(0, "created", "authority", "make", "Quay CA", "--issuing", "--token", tokentest.Label)
	vault, key := filepath.Join(home, "vault.pem"), filepath.Join(home, "vault.key")
	openssl("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", key, "-out", vault, "-days", "90",
		"-subj", "/CN=Vault")
	if out, err := exec.Command("softhsm2-util", "--import", key, "--token", tokentest.Label, "--label",
		"vault", "--id", "0a", "--pin", tokentest.PIN).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	run(1, "expected that of the certificate", "authority", "add", "Vault", "--certificate", vault,
		"--key-uri", tokentest.URI+";object=Quay%20CA")
	run(1, "there is no such key", "authority", "add", "Vault", "--certificate", vault, "--key-uri",
		tokentest.URI+";object=none")
	run(1, "module", "authority", "add", "Vault", "--certificate", vault, "--key-uri",
		tokentest.URI+";object=vault?module-path=/tmp/evil.so")
	run(0, "Vault", "authority", "add", "Vault", "--certificate", vault, "--key-uri",
		tokentest.URI+";object=vault")
	if list := run(0, "", "authority", "list"); strings.Count(list, "in a token") != 3 {
		t.Errorf("the list of authorities:\n%s", list)
	}
	stdin += stdin // the passphrase, twice
	run(1, "does not leave its token", "authority", "export", "Vault", "--out", filepath.Join(home, "out.p12"))

	fetched := func(id string) string {
		t.Helper()
		answer, err := http.Get(p.url + "/lists/" + id + ".crl")
		if err != nil {
			t.Fatal(err)
		}
		list, err := io.ReadAll(answer.Body)
		_ = answer.Body.Close()
		if err != nil || answer.StatusCode != http.StatusOK {
			t.Fatal(err, string(list), p.logged())
		}
		return string(list)
	}
	vaultID := ""
	run(0, "", "person", "add", "Ada Fjell")
	for _, name := range []string{"Quay CA", "Vault"} {
		var a api.Authority
		if err := json.Unmarshal([]byte(run(0, "", "authority", "show", name, "-o", "json")), &a); err != nil {
			t.Fatal(err)
		}
		run(0, "", "device", "add", "At "+name, "--person", "Ada Fjell", "--platform", "linux", "--release", "6")
		var c api.Certificate
		if err := json.Unmarshal([]byte(run(0, "", "certificate", "issue", "At "+name, "--authority", name, "-o",
			"json")), &c); err != nil {
			t.Fatal(err)
		}
		run(0, "", "certificate", "revoke", c.ID, "--reason", "superseded", "--yes")
		issued, all := write(t, "issued.pem", c.PEM), write(t, "all.pem", a.Certificate)
		openssl("verify", "-CAfile", all, issued)
		vaultID = a.ID // the last one
		file := write(t, "list.crl", fetched(a.ID))
		openssl("crl", "-inform", "DER", "-in", file, "-CAfile", all, "-noout", "-verify")
		if out := openssl("ocsp", "-issuer", all, "-cert", issued, "-CAfile", all, "-url",
			p.url+"/ocsp/"+a.ID); !strings.Contains(out, "verify OK") || !strings.Contains(out, "revoked") {
			t.Errorf("%s: the responder says\n%s", name, out)
		}
	}

	// The token goes: what is asked of it says so, all else goes on, and the last list is served on; it
	// comes back by itself.
	run(0, "", "certificate", "issue", "At Vault", "--authority", "Vault")
	list := fetched(vaultID)
	if err := os.Rename(folder, folder+".away"); err != nil {
		t.Fatal(err)
	}
	run(1, "is not available", "certificate", "issue", "At Vault", "--authority", "Vault")
	run(0, "At Vault", "device", "list")
	run(0, "", "certificate", "revoke", "--device", "At Vault", "--reason", "superseded", "--yes")
	if fetched(vaultID) != list {
		t.Error("another list is served than the last one")
	}
	if out, _ := exec.Command("openssl", "ocsp", "-issuer", vault, "-cert", vault, "-url",
		p.url+"/ocsp/"+vaultID).CombinedOutput(); !strings.Contains(string(out), "trylater") {
		t.Errorf("the responder says\n%s", out)
	}
	run(0, "", "authority", "change", "Vault", "--note", "Its token is away.")
	if err := os.Rename(folder+".away", folder); err != nil {
		t.Fatal(err)
	}
	run(0, "", "certificate", "issue", "At Vault", "--authority", "Vault")
	if out := openssl("crl", "-inform", "DER", "-in", write(t, "next.crl", fetched(vaultID)), "-noout",
		"-text"); strings.Count(out, "Serial Number") != 2 {
		t.Errorf("the next list:\n%s", out)
	}
	if code, log := p.stop(syscall.SIGTERM); code != 0 || strings.Contains(log, tokentest.PIN) {
		t.Errorf("it ends with %d\n%s", code, log)
	}

	// Without the token nothing opens; from it to a file and back everything does.
	run(1, "sealed with a key from a token", "serve", "--data", dir, "--listen", "127.0.0.1:0")
	if err := os.Rename(folder, folder+".away"); err != nil {
		t.Fatal(err)
	}
	run(1, "is not available", append([]string{"serve", "--listen", "127.0.0.1:0"}, token...)...)
	run(1, "is not available", append([]string{"serve", "--check", "--listen", "127.0.0.1:0"}, token...)...)
	if err := os.Rename(folder+".away", folder); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(home, "new.key")
	run(0, "sealed with the new key", append([]string{"service", "change-key", "--new-key-file", file}, token...)...)
	run(0, "can start", "serve", "--check", "--listen", "127.0.0.1:0", "--data", dir, "--key-file", file)
	run(0, "sealed with the new key", "service", "change-key", "--data", dir, "--key-file", file, "--pkcs11", uri,
		"--new-key-pkcs11", tokentest.URI+";object=master%202")
	run(0, "can start", append([]string{"serve", "--check", "--listen", "127.0.0.1:0"}, append(token[:4:4],
		"--key-pkcs11", tokentest.URI+";object=master%202")...)...)
	run(1, "the key of the token does not open this", append([]string{"serve", "--listen", "127.0.0.1:0"}, token...)...)
}
