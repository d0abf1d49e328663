package store_test

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/store"
)

func open(t *testing.T, dir string, key store.Key) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), dir, key, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	return s
}

const psk = "kelp-4497-Harbor-mizzen"

func addGateway(ctx context.Context, s *store.Store, name string) (string, error) {
	key := secret.New(psk)
	g := vpn.Gateway{
		Name:    name,
		Address: "x.example",
		Offers: vpn.Offers{
			L2TP: &vpn.L2TPOffer{PSK: &key, PPP: []suite.PPPMethod{suite.MSCHAPv2}},
		},
	}
	g.Normalise()
	err := s.Write(ctx, func(tx *store.Tx) error { return store.Gateways.Insert(ctx, tx, &g) })
	return g.ID, err
}

// raw changes the database behind the store's back.
func raw(t *testing.T, dir, statement string, args ...any) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if _, err := db.Exec(statement, args...); err != nil {
		t.Fatal(err)
	}
}

// TestSealed moves, swaps and cuts sealed secrets: none of them opens.
func TestSealed(t *testing.T) {
	for _, test := range []struct{ name, statement string }{
		{"another record's",
			`UPDATE secrets SET sealed = (SELECT s.sealed FROM secrets s WHERE s.owner <>
				secrets.owner) WHERE owner = 'gateway:' || ?1`},
		{"moved to another field",
			`UPDATE secrets SET field = 'password' WHERE owner = 'gateway:' || ?1`},
		{"cut short", `UPDATE secrets SET sealed = substr(sealed, 1, 20) WHERE owner = 'gateway:' ||
			?1`},
		{"one byte changed",
			`UPDATE secrets SET sealed = CAST(substr(sealed, 1, 30) || CASE substr(sealed, 31, 1)
				WHEN x'00' THEN x'01' ELSE x'00' END || substr(sealed, 32) AS BLOB) WHERE owner = 'gateway:' || ?1`},
	} {
		t.Run(test.name, func(t *testing.T) {
			dir := t.TempDir()
			s := open(t, dir, store.Key{})
			id, err := addGateway(t.Context(), s, "one")
			if err != nil {
				t.Fatal(err)
			}
			if _, err := addGateway(t.Context(), s, "two"); err != nil {
				t.Fatal(err)
			}
			g, err := store.Gateways.Get(t.Context(), s.Read(), id)
			if err != nil || g.Offers.L2TP.PSK.Reveal() != psk {
				t.Fatalf("not read back: %v", err)
			}
			raw(t, dir, test.statement, id)
			g, err = store.Gateways.Get(t.Context(), s.Read(), id)
			if test.name == "moved to another field" { // then there is none under its name
				if err != nil || g.Offers.L2TP.PSK != nil {
					t.Errorf("read %v, %v", g, err)
				}
			} else if err != nil || g.Offers.L2TP.PSK != nil ||
				!slices.Equal(g.Damaged, []string{"offers/l2tp/psk"}) {
				t.Errorf("it opened, or is not named: %+v (%v)", g, err)
			}
		})
	}
}

// TestKeys opens data with the right key and with wrong ones.
func TestKeys(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Key{})
	id, err := addGateway(t.Context(), s, "one")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	key := filepath.Join(dir, "master.key")
	for _, path := range []string{key, filepath.Join(dir, store.File)} {
		info, err := os.Stat(path)
		if err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: mode %v, %v", path, info.Mode(), err)
		}
	}
	refuse := func(name, want string, k store.Key) {
		t.Helper()
		if s, err := store.Open(t.Context(), dir, k, time.Now); err == nil {
			t.Errorf("%s: opened", name)
			_ = s.Close()
		} else if !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, expected %q", name, err, want)
		}
	}
	other := filepath.Join(t.TempDir(), "other.key")
	if err := os.WriteFile(other, []byte(strings.Repeat("ab", 32)), 0o600); err != nil {
		t.Fatal(err)
	}
	refuse("another key", "not the key", store.Key{File: other})
	refuse("no key", "cannot be opened", store.Key{File: other + "x"})
	refuse("a passphrase", "not from a passphrase", store.Key{Passphrase: []byte("x")})
	if err := os.Chmod(other, 0o644); err != nil {
		t.Fatal(err)
	}
	refuse("a key others can read", "chmod 600", store.Key{File: other})
	if err := os.WriteFile(other, []byte("not hex"), 0o600); err != nil {
		t.Fatal(err)
	}
	refuse("no key in the file", "mode", store.Key{File: other})

	s = open(t, dir, store.Key{})
	if g, err := store.Gateways.Get(
		t.Context(),
		s.Read(),
		id,
	); err != nil ||
		g.Offers.L2TP.PSK.Reveal() != psk {
		t.Errorf("after a restart: %v", err)
	}

	phrased := t.TempDir()
	s = open(t, phrased, store.Key{Passphrase: []byte("anchor velvet pepper")})
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(phrased, "master.key")); !errors.Is(err, fs.ErrNotExist) {
		t.Error("a key file was made beside the passphrase")
	}
	dir = phrased
	refuse("another passphrase", "not the key", store.Key{Passphrase: []byte("anchor velvet salt")})
	open(t, phrased, store.Key{Passphrase: []byte("anchor velvet pepper")})
}

// TestVersions lets many writers change one record: each change is made to the version
// that was seen, and none is lost.
func TestVersions(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	ctx := t.Context()
	p := vpn.Person{Name: "Ada"}
	if err := s.Write(
		ctx,
		func(tx *store.Tx) error { return store.People.Insert(ctx, tx, &p) },
	); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			for done := 0; done < 10; {
				seen, err := store.People.Get(ctx, s.Read(), p.ID)
				if err != nil {
					t.Error(err)
					return
				}
				seen.Groups = append(seen.Groups, fmt.Sprintf("%d-%d", i, done))
				err = s.Write(
					ctx,
					func(tx *store.Tx) error {
						return store.People.Update(ctx,
							tx, seen, seen.Version)
					},
				)
				var conflict *store.ConflictError
				switch {
				case err == nil:
					done++
				case !errors.As(err, &conflict):
					t.Error(err)
					return
				}
			}
		})
	}
	wg.Wait()
	got, err := store.People.Get(ctx, s.Read(), p.ID)
	if err != nil || len(got.Groups) != 80 || got.Version != 81 {
		t.Errorf(
			"%d changes, version %d, %v; expected 80 and 81",
			len(got.Groups),
			got.Version,
			err,
		)
	}
}

// TestKill kills a process that adds gateways, again and again: everything that it
// said was stored is there, whole, with its secret.
func TestKill(t *testing.T) {
	if dir := os.Getenv("WARDICON_KILL"); dir != "" {
		s, err := store.Open(context.Background(), dir, store.Key{}, time.Now)
		if err != nil {
			fmt.Println("failed", err)
			os.Exit(1)
		}
		for i := 0; ; i++ {
			id, err := addGateway(context.Background(), s, fmt.Sprintf("%d-%d", os.Getpid(), i))
			if err != nil {
				fmt.Println("failed", err)
				os.Exit(1)
			}
			fmt.Println(id)
		}
	}
	dir := t.TempDir()
	var told []string
	for round := range 5 {
		cmd := exec.Command(os.Args[0], "-test.run", "^TestKill$")
		cmd.Env = append(os.Environ(), "WARDICON_KILL="+dir)
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		lines := bufio.NewReader(out)
		for n := 0; ; n++ {
			line, err := lines.ReadString('\n')
			if err != nil {
				break // what follows the last line break may be cut
			}
			if !strings.HasPrefix(line, "gw-") {
				t.Fatal(line)
			}
			told = append(told, strings.TrimSpace(line))
			if n == 10+7*round { // in the middle of the next ones
				if err := cmd.Process.Kill(); err != nil {
					t.Fatal(err)
				}
			}
		}
		_ = cmd.Wait() // it was killed
	}
	if len(told) < 5*10 {
		t.Fatalf("only %d were told as stored: nothing was tried", len(told))
	}
	s := open(t, dir, store.Key{})
	for _, id := range told {
		if g, err := store.Gateways.Get(
			t.Context(),
			s.Read(),
			id,
		); err != nil ||
			g.Offers.L2TP.PSK.Reveal() != psk {
			t.Fatalf("%s was told as stored: %v", id, err)
		}
	}
}

// TestAuditKeeps holds that lines of the audit log cannot be changed or removed.
func TestAuditKeeps(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Key{})
	if err := s.Write(t.Context(), func(tx *store.Tx) error {
		return tx.Log(t.Context(), entry("sign in"))
	}); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	for _, statement := range []string{`DELETE FROM audit`, `UPDATE audit SET operator = 'x'`} {
		if _, err := db.Exec(
			statement,
		); err == nil ||
			!strings.Contains(err.Error(), "only grows") {
			t.Errorf("%s: %v", statement, err)
		}
	}
}

func entry(
	action string,
) api.AuditEntry {
	return api.AuditEntry{Operator: "owner", Action: action}
}
