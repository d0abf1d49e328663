package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/store"
)

// tablesOf reads the form of the tables, past the store.
func tablesOf(t *testing.T, file string) (form int64) {
	t.Helper()
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if err := db.QueryRow(`SELECT MAX(version_id) FROM goose_db_version`).Scan(&form); err != nil {
		t.Fatal(err)
	}
	return form
}

// TestOneAtATime opens a folder that another process has, and again after that one was killed.
func TestOneAtATime(t *testing.T) {
	if dir := os.Getenv("WARDICON_HOLD"); dir != "" {
		if _, err := store.Open(context.Background(), dir, store.Key{}, time.Now); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		fmt.Println("open")
		select {}
	}
	dir := t.TempDir()
	other := exec.Command(os.Args[0], "-test.run", "^TestOneAtATime$")
	other.Env = append(os.Environ(), "WARDICON_HOLD="+dir)
	out, err := other.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	said := make([]byte, 4)
	if _, err := out.Read(said); err != nil || string(said) != "open" {
		t.Errorf("the first: %s (%v)", said, err)
	}
	var held *store.HeldError
	if _, err := store.Open(
		t.Context(),
		dir,
		store.Key{},
		time.Now,
	); !errors.As(err, &held) ||
		!strings.Contains(err.Error(), "another process") {
		t.Errorf("while another process works on it: %v", err)
	}
	if err := store.Backup(t.Context(), dir, filepath.Join(t.TempDir(), "copy")); err != nil {
		t.Errorf("a copy has to be possible all the same: %v", err)
	}
	if err := other.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = other.Wait() // it was killed
	s := open(t, dir, store.Key{})
	if _, err := store.Open(t.Context(), dir, store.Key{}, time.Now); !errors.As(err, &held) {
		t.Errorf("twice in one process: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	open(t, dir, store.Key{})
}

// TestReleases opens what an earlier and what a later release left.
func TestReleases(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	file := filepath.Join(dir, store.File)
	s := open(t, dir, store.Key{})
	id, err := addGateway(ctx, s, "Norrvik")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	now := tablesOf(t, file)
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	provider, err := store.Migrations(db)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := provider.Down(ctx); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir, store.Key{})
	if g, err := store.Gateways.Get(
		ctx,
		s.Read(),
		id,
	); err != nil ||
		g.Offers.L2TP.PSK.Reveal() != psk {
		t.Errorf("brought up to date: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	kept := fmt.Sprintf("%s.before-%04d", file, now)
	if form := tablesOf(t, kept); form != now-1 || tablesOf(t, file) != now {
		t.Errorf("the copy has form %d, expected %d", form, now-1)
	}
	raw(
		t,
		dir,
		`INSERT INTO goose_db_version (version_id, is_applied, tstamp) VALUES (9999, 1,
			CURRENT_TIMESTAMP)`,
	)
	before, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var newer *store.NewerError
	if _, err := store.Open(
		ctx,
		dir,
		store.Key{},
		time.Now,
	); !errors.As(err, &newer) || newer.Found != 9999 ||
		newer.Known != now {
		t.Errorf("of a later release: %v", err)
	}
	if after, err := os.ReadFile(file); err != nil || !slices.Equal(before, after) {
		t.Errorf("what a later release wrote was touched (%v)", err)
	}
}

// TestBackupWhole ends a copy in the middle: nothing has its name that is not whole.
func TestBackupWhole(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	s := open(t, dir, store.Key{})
	if _, err := addGateway(ctx, s, "Norrvik"); err != nil {
		t.Fatal(err)
	}
	place := t.TempDir()
	names := func() (list []string) {
		entries, err := os.ReadDir(place)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			list = append(list, e.Name())
		}
		return list
	}
	to := filepath.Join(place, "copy.db")
	given, stop := context.WithCancel(ctx)
	stop()
	if err := store.Backup(given, dir, to); err == nil || len(names()) > 0 {
		t.Errorf("given up: %v, and left %v", err, names())
	}
	if err := os.WriteFile(
		to+".part",
		[]byte("half"),
		0o600,
	); err != nil { // left by one that was killed
		t.Fatal(err)
	}
	if err := store.Backup(
		ctx,
		dir,
		to,
	); err != nil || !slices.Equal(names(), []string{"copy.db"}) ||
		tablesOf(t, to) == 0 {
		t.Errorf("after one that was killed: %v %v", err, names())
	}
	if err := os.WriteFile(to, []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := store.Backup(ctx, dir, to); !errors.Is(err, os.ErrExist) {
		t.Errorf("over a file: %v", err)
	}
	if data, err := os.ReadFile(to); err != nil || string(data) != "mine" {
		t.Errorf("a file was overwritten (%v)", err)
	}
}
