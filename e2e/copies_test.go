package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wardicon/client"
	"wardicon/copies"
	"wardicon/store"
)

// TestCopies keeps encrypted copies by schedule, and restores one elsewhere: there the service gives
// the same answers.
func TestCopies(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dir, to, here := setUp(t), t.TempDir(), t.TempDir()
	keyFile := filepath.Join(here, "backup.key")
	code, public := said(t, nil, "service", "backup-key", "--out", keyFile)
	if code != 0 {
		t.Fatal(public)
	}
	// Copies of days before, of which the oldest are too many by now.
	for day := range 4 {
		name := "wardicon-2026010" + string(rune('1'+day)) + "T030000Z.db.age"
		if err := os.WriteFile(filepath.Join(to, name), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	left := filepath.Join(to, "wardicon-20260101T040000Z.db.age.part")
	if err := os.WriteFile(left, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	p := serve(t, dir)
	c := signedIn(t, p.url)
	for _, name := range []string{"Ada", "Bo"} {
		if _, err := c.People.Add(ctx, client.Patch{"name": name}); err != nil {
			t.Fatal(err)
		}
	}
	p.stop(os.Interrupt)
	p = serve(t, dir, "--backup-to", to, "--backup-recipient", strings.TrimSpace(public),
		"--backup-keep", "3")
	var list []copies.Copy
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); {
		var err error
		if list, err = copies.List(to); err != nil {
			t.Fatal(err)
		}
		if len(list) == 3 && time.Since(list[2].Made) < time.Hour {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if len(list) != 3 || time.Since(list[2].Made) > time.Hour {
		t.Fatalf("copies are %v\n%s", list, p.logged())
	}
	if _, err := os.Stat(left); !os.IsNotExist(err) {
		t.Errorf("what a killed one has left is still there (%v)", err)
	}
	data, err := os.ReadFile(list[2].Path)
	if err != nil || bytes.Contains(data, []byte("SQLite")) ||
		!bytes.HasPrefix(data, []byte("age-encryption.org/v1")) {
		t.Errorf("a copy begins with %.40q (%v)", data, err)
	}
	p.stop(syscall.SIGTERM)

	master := filepath.Join(dir, "master.key")
	if code, out := said(t, nil, "service", "restore", "--from", to, "--backup-key", keyFile,
		"--key-file", master, "--check"); code != 0 || !strings.Contains(out, "can be restored") {
		t.Errorf("ended with %d: %s", code, out)
	}
	elsewhere := filepath.Join(t.TempDir(), "data")
	if code, out := said(t, nil, "service", "restore", "--from", list[2].Path, "--backup-key",
		keyFile, "--key-file", master, "--data", elsewhere); code != 0 {
		t.Fatalf("ended with %d: %s", code, out)
	}
	p = serve(t, elsewhere, "--key-file", master)
	people, err := signedIn(t, p.url).People.List(ctx, client.Query{Limit: 10})
	if err != nil || people.Total != 2 {
		t.Errorf("the restored service has %d people (%v)", people.Total, err)
	}
	p.stop(os.Interrupt)

	wrong := filepath.Join(here, "wrong.key")
	if code, out := said(t, nil, "service", "backup-key", "--out", wrong); code != 0 {
		t.Fatal(out)
	}
	changed := filepath.Join(here, "changed.db.age")
	flipped := bytes.Clone(data)
	flipped[len(flipped)-20] ^= 1
	if err := os.WriteFile(changed, flipped, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		name, from, key, data, want string
		code                        int
	}{
		{"another key", list[2].Path, wrong, here + "/a", "did not match", 1},
		{"a copy that was changed", changed, keyFile, here + "/b", "changed.db.age", 1},
		{"a folder with a database", list[2].Path, keyFile, dir, "found a database there", 2},
		{"no copies", here, keyFile, here + "/c", "there is no copy", 4},
		{"a key file that is none", list[2].Path, master, here + "/d", "master.key", 1},
	} {
		code, out := said(t, nil, "service", "restore", "--from", test.from, "--backup-key",
			test.key, "--key-file", master, "--data", test.data)
		if code != test.code || !strings.Contains(out, test.want) {
			t.Errorf("%s: ended with %d, expected %d and %q: %s", test.name, code, test.code,
				test.want, out)
		}
		if _, err := os.Stat(filepath.Join(test.data, store.File)); test.data != dir && err == nil {
			t.Errorf("%s: it has left a database", test.name)
		}
	}
}
