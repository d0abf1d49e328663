package e2e

import (
	"bytes"
	"database/sql"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wardicon/core/secret"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

// TestChangeKey seals a fleet's secrets with another key: the old one opens nothing any more, the new
// one opens everything, and an interruption at any moment leaves one of the two.
func TestChangeKey(t *testing.T) {
	t.Parallel()
	ctx, dir := t.Context(), filepath.Join(t.TempDir(), "data")
	s, err := store.Open(ctx, dir, store.Key{}, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	if err := demo.Load(ctx, svc); err != nil {
		t.Fatal(err)
	}
	revealed := func(s *store.Store) map[string]string {
		t.Helper()
		all := map[string]string{}
		list, err := store.Accounts.Where(ctx, s.Read(), "1")
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range list {
			if a.Password != nil {
				all[a.ID] = a.Password.Reveal()
			}
		}
		return all
	}
	want := revealed(s)
	link := s.Digest([]byte("a link"))
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if len(want) < 5 {
		t.Fatalf("%d secrets", len(want))
	}
	opens := func(key store.Key, soundly bool) {
		t.Helper()
		s, err := store.Open(ctx, dir, key, time.Now)
		if !soundly {
			if err == nil {
				_ = s.Close()
				t.Error("the old key opens the data")
			}
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = s.Close() }()
		got := revealed(s)
		for id, password := range want {
			if got[id] != password {
				t.Errorf("%s has another password", id)
			}
		}
		if s.Digest([]byte("a link")) != link {
			t.Error("digests of links are others")
		}
		check := service.New(s, slog.New(slog.DiscardHandler), time.Now)
		if p, err := check.VerifyAudit(service.As(ctx, "test"), ""); err != nil || !p.Sound {
			t.Errorf("the audit log is not sound: %+v %v", p, err)
		}
		if _, _, err := check.SignIn(ctx, service.Entry{
			Name: demo.OwnerName, Password: secret.New(demo.OwnerPassword), From: "127.0.0.1",
		}); err != nil {
			t.Errorf("the owner cannot sign in: %v", err)
		}
	}
	first := filepath.Join(dir, "master.key")
	second, words := filepath.Join(t.TempDir(), "second.key"), "anchor velvet pepper rudder copper"
	passphrase := store.Key{Passphrase: []byte(words)}
	file := write(t, "words", words+"\n")
	change := func(args ...string) (string, error) {
		out, err := command(append([]string{"service", "change-key", "--data", dir}, args...)...).
			CombinedOutput()
		return string(out), err
	}
	before := accountSeals(t, filepath.Join(dir, store.File))
	if out, err := change("--new-key-file", first); err == nil || !strings.Contains(out, "one already") {
		t.Errorf("over the old key: %v %s", err, out)
	}
	if out, err := change("--new-key-file", second, "--new-passphrase-file", file); err == nil {
		t.Errorf("both kinds at once: %s", out)
	}
	if out, err := change("--new-key-file", second); err != nil || !strings.Contains(out, "sealed with the new key") {
		t.Fatal(err, out)
	}
	for _, name := range []string{store.File, store.File + "-wal"} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		for _, one := range before {
			if err == nil && bytes.Contains(data, one) {
				t.Fatalf("a value that the old key opens is still in %s", name)
			}
		}
	}
	opens(store.Key{File: first}, false)
	opens(store.Key{File: second}, true)
	if out, err := change("--key-file", second, "--new-passphrase-file", file); err != nil {
		t.Fatal(err, out)
	}
	opens(store.Key{File: second}, false)
	opens(passphrase, true)
	// Killed at some moment, one of the two keys opens everything.
	third := filepath.Join(t.TempDir(), "third.key")
	for _, after := range []time.Duration{5, 40, 90, 130, 160, 200, 300} {
		_ = os.Remove(third)
		cmd := command("service", "change-key", "--data", dir, "--passphrase-file", file,
			"--new-key-file", third)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(after * time.Millisecond)
		_ = cmd.Process.Signal(syscall.SIGKILL)
		_ = cmd.Wait()
		if s, err := store.Open(ctx, dir, store.Key{File: third}, time.Now); err == nil {
			_ = s.Close()
			opens(store.Key{File: third}, true)
			if out, err := change("--key-file", third, "--new-passphrase-file", file); err != nil {
				t.Fatal(err, out)
			}
			continue
		}
		opens(passphrase, true)
	}
}

// accountSeals are the sealed passwords of a database.
func accountSeals(t *testing.T, path string) (list [][]byte) {
	t.Helper()
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	rows, err := db.Query(`SELECT sealed FROM secrets WHERE owner LIKE 'account:%'`)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var one []byte
		if err := rows.Scan(&one); err != nil {
			t.Fatal(err)
		}
		list = append(list, one)
	}
	if len(list) == 0 || rows.Err() != nil {
		t.Fatalf("no sealed value (%v)", rows.Err())
	}
	return list
}
