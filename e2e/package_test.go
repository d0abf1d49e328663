package e2e

import (
	"bytes"
	_ "embed"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

//go:embed testdata/package.sh
var packageScript string

// TestPackage installs the Debian package in a root of its own, checks its unit, goes with it from
// the first operator to the first parcel by the commands of the documents, upgrades, removes and
// purges it: settings and data stay as they should.
func TestPackage(t *testing.T) {
	t.Parallel()
	for _, tool := range []string{"unshare", "dpkg", "chroot", "systemd-analyze"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("a root of its own can be made by root only")
	}
	binary := filepath.Join("..", "bin", "wardicon")
	if _, err := os.Stat(binary); err != nil {
		t.Fatalf("run make build: %v", err)
	}
	if _, err := os.Stat(filepath.Join("..", "bin", "wardicon-pkcs11")); err != nil {
		t.Skip("gcc is not installed, which builds what the package brings for tokens")
	}
	dir := t.TempDir()
	pack := func(version, name string) string {
		t.Helper()
		to := filepath.Join(dir, name)
		cmd := exec.Command("go", "run", "./tools/pack", "bin/wardicon", "amd64", version, to,
			"bin/wardicon-pkcs11")
		cmd.Dir = ".."
		cmd.Env = append(os.Environ(), "SOURCE_DATE_EPOCH=1767225600")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		return to
	}
	first, again := pack("0.2.0", "first.deb"), pack("0.2.0", "again.deb")
	later := pack("0.2.1", "later.deb")
	one, err := os.ReadFile(first)
	if err != nil {
		t.Fatal(err)
	}
	two, err := os.ReadFile(again)
	if err != nil || !bytes.Equal(one, two) {
		t.Errorf("the same source gives other bytes (%v)", err)
	}
	script := filepath.Join(dir, "package.sh")
	if err := os.WriteFile(script, []byte(packageScript), 0o700); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("unshare", "--mount", "--pid", "--fork", "--kill-child", "--net",
		"bash", script, first, later, filepath.Join(dir, "root")).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	t.Logf("%s", out)
}
