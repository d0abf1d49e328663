// Package tokentest makes tokens in software for tests.
package tokentest

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// The module of the tokens, and their PIN and label, which are hard to write.
const (
	Module = "/usr/lib/softhsm/libsofthsm2.so"
	PIN    = "84 harbour lanterns"
	Label  = "Quay, 50 %"
	// URI is the path of a token's URI.
	URI = "pkcs11:token=Quay%2C%2050%20%25"
)

// Soft makes a token, and tells its URI and the folder that it stands in. The helper is built and put
// in the way.
func Soft(t *testing.T) (uri, folder string) {
	t.Helper()
	for _, path := range []string{Module, "/usr/bin/softhsm2-util", "/usr/bin/gcc"} {
		if _, err := os.Stat(path); err != nil {
			t.Skip("make tools: ", err)
		}
	}
	dir := t.TempDir()
	build := exec.Command("go", "build", "-o", dir, "wardicon/cmd/wardicon-pkcs11")
	build.Env = append(os.Environ(), "CGO_ENABLED=1")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	folder = filepath.Join(dir, "tokens")
	conf := filepath.Join(dir, "softhsm.conf")
	err := errors.Join(os.Mkdir(folder, 0o700),
		os.WriteFile(conf, []byte("directories.tokendir = "+folder+"\n"), 0o600),
		os.WriteFile(filepath.Join(dir, "pin"), []byte(PIN+"\n"), 0o600))
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("SOFTHSM2_CONF", conf)
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	if out, err := exec.Command("softhsm2-util", "--init-token", "--free", "--label", Label,
		"--so-pin", "12345678", "--pin", PIN).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return URI + "?module-path=" + Module + "&pin-source=file:" + dir + "/pin", folder
}
