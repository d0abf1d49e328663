package store_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/core/vpn"
	"wardicon/store"
)

// TestInspect damages a data folder and looks whether that is found, named and repaired. SQLite's
// own check of its pages is asked afterwards.
func TestInspect(t *testing.T) {
	for _, test := range []struct {
		name       string
		damage     func(t *testing.T, file string)
		found      string // in what is named
		pages      bool
		afterwards bool // sound once repaired
	}{
		{"nothing", func(*testing.T, string) {}, "", false, true},
		{"a sealed value", func(t *testing.T, file string) {
			statement(t, file, `UPDATE secrets SET sealed = zeroblob(60) WHERE owner LIKE
				'gateway:%'`)
		}, "gateway offers/l2tp/psk set it again", false, false},
		{"a record", func(t *testing.T, file string) {
			statement(t, file, `UPDATE people SET body = '{"name":' WHERE name = 'Ada'`)
		}, "person record change it", false, false},
		{"a kept count", func(t *testing.T, file string) {
			statement(t,
				file, `UPDATE sizes SET n = 77`)
		}, "", false, true},
		{"a page of an index", func(t *testing.T,
			file string) {
			overwrite(t, file, "devices_by_name")
		}, "", true, true},
		{"a page of a table", func(t *testing.T,
			file string) {
			overwrite(t, file, "answer_times")
		}, "", true, true},
	} {
		t.Run(test.name, func(t *testing.T) {
			dir := t.TempDir()
			s := open(t, dir, store.Key{})
			small(t, s)
			if _, err := addGateway(t.Context(), s, "Lyngholm"); err != nil {
				t.Fatal(err)
			}
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			file := filepath.Join(dir, store.File)
			test.damage(t, file)
			found, err := store.Inspect(t.Context(), dir, store.Key{})
			if err != nil {
				t.Fatal(err)
			}
			named := ""
			for _, v := range slices.Concat(found.Values, found.Records) {
				named += v.Noun + " " + v.Field + " " + v.Fix
			}
			if !strings.HasPrefix(named, test.found) || (named == "") != (test.found == "") ||
				(len(found.Pages) > 0) != test.pages ||
				found.Looked == 0 {
				t.Errorf("%+v", found)
			}
			found, err = store.Repair(t.Context(), dir, store.Key{}, time.Now())
			if err != nil || found.Sound() != test.afterwards || (found.Kept != "") != test.pages {
				t.Errorf("repaired: %+v (%v)", found, err)
			}
			if verdict := scalar(t, file, `PRAGMA integrity_check`); verdict != "ok" {
				t.Errorf("SQLite's own check: %s", verdict)
			}
			again := open(t, dir, store.Key{})
			page, err := store.Devices.List(
				t.Context(),
				again.Read(),
				store.Query{Limit: 9, Search: "device"},
			)
			if err != nil || page.Total != 5 {
				t.Errorf("%d devices (%v)", page.Total, err)
			}
			if counts, err := again.Read().
				Count(t.Context()); err != nil || counts.Devices != 5 ||
				counts.Due != 4 {
				t.Errorf("%+v (%v)", counts, err)
			}
		})
	}
}

func statement(t *testing.T, file, text string) {
	t.Helper()
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if _, err := db.Exec(text); err != nil {
		t.Fatal(err)
	}
}

func scalar(t *testing.T, file, query string) (text string) {
	t.Helper()
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if err := db.QueryRow(query).Scan(&text); err != nil {
		t.Fatal(err)
	}
	return text
}

// overwrite puts rubbish into the first page of a table or an index.
func overwrite(t *testing.T, file, name string) {
	t.Helper()
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	var page, size int64
	err = db.QueryRow(`SELECT rootpage, (SELECT page_size FROM pragma_page_size) FROM sqlite_master
		WHERE name = ?`, name).
		Scan(&page, &size)
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	copy(data[(page-1)*size:], bytes.Repeat([]byte{0x5a}, 64))
	if err := os.WriteFile(file, data, 0o600); err != nil {
		t.Fatal(err)
	}
}

// TestOldRecords reads a gateway as an earlier release wrote it: lists that it did not know are not
// null.
func TestOldRecords(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Key{})
	id, err := addGateway(t.Context(), s, "Lyngholm")
	if err != nil {
		t.Fatal(err)
	}
	raw(
		t,
		dir,
		`UPDATE gateways SET body = json_remove(body, '$.offers.l2tp.auth', '$.announced',
			'$.egress') WHERE id = ?1`,
		id,
	)
	row, err := store.Gateways.Row(t.Context(), s.Read(), id)
	if err != nil || row.Offers.L2TP.Auth == nil || row.Announced == nil || row.Egress == nil {
		t.Errorf("in a list: %+v (%v)", row.Gateway, err)
	}
	g, err := store.Gateways.Get(t.Context(), s.Read(), id)
	if err != nil || len(g.Offers.L2TP.Auth) != 1 || g.Announced == nil ||
		g.Offers.L2TP.PSK == nil {
		t.Errorf("by itself: %+v (%v)", g, err)
	}
}

// TestTouchAll marks many profiles bit by bit: each once, whatever comes between, and after an end
// in the middle.
func TestTouchAll(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Key{})
	known := small(t, s)
	const many = 450
	if err := s.Write(t.Context(), func(tx *store.Tx) error {
		for i := range many {
			d := vpn.Device{
				Name:     fmt.Sprint("More ", i),
				PersonID: known["Ada"],
				Platform: vpn.IOS,
				Release:  "17",
			}
			if err := store.Devices.Insert(t.Context(), tx, &d); err != nil {
				return err
			}
			if err := store.Profiles.Insert(
				t.Context(),
				tx,
				&vpn.Profile{DeviceID: d.ID, GatewayID: known["Norrvik"]},
			); err != nil {
				return err
			}
		}
		return tx.TouchAll(t.Context())
	}); err != nil {
		t.Fatal(err)
	}
	for turn := 1; ; turn++ {
		more := false
		if err := s.Write(
			t.Context(),
			func(tx *store.Tx) (err error) { more, err = tx.TouchSome(t.Context()); return err },
		); err != nil {
			t.Fatal(err)
		}
		if going, err := s.Read().TouchingAll(t.Context()); err != nil || going != more {
			t.Fatalf("turn %d: %t, %t (%v)", turn, going, more, err)
		}
		if !more {
			if turn != 3 {
				t.Errorf("%d turns", turn)
			}
			break
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		s = open(t, dir, store.Key{})
	}
	if n := scalar(
		t,
		filepath.Join(dir, store.File),
		`SELECT COUNT(*) || ' ' || SUM(touched = 2) FROM profiles`,
	); n != "454 454" {
		t.Errorf("profiles, and those that were marked once: %s", n)
	}
}
