package store_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/store"
)

// TestAuditChain writes an audit log, changes it past the program in every way, and holds that it
// is noticed.
func TestAuditChain(t *testing.T) {
	ctx := t.Context()
	const keep = `CREATE TRIGGER audit_keeps_words BEFORE UPDATE ON audit BEGIN SELECT RAISE(ABORT,
		'the audit log only grows'); END`
	for _, test := range []struct {
		name   string
		change []string // statements past the program
		first  int64    // line that is told; 0: none
		held   bool     // the head that was noted is there
	}{
		{"as it was", nil, 0, true},
		{"another word", []string{"DROP TRIGGER audit_keeps_words", "UPDATE audit SET detail = " +
			"'nothing' WHERE seq = 3", keep}, 3, true},
		{"another time", []string{"DROP TRIGGER audit_keeps_words",
			"UPDATE audit SET at = at + 1 " +
				"WHERE seq = 5"}, 5, true},
		{"a word moved to the next field", []string{"DROP TRIGGER audit_keeps_words",
			"UPDATE audit SET noun = noun || 'd', detail = '' WHERE seq = 2"}, 2, true},
		{"a line taken out", []string{"DROP TRIGGER audit_keeps_rows", "DELETE FROM audit WHERE " +
			"seq = 4"}, 5, true},
		{"the last line taken out", []string{"DROP TRIGGER audit_keeps_rows",
			"DELETE FROM audit WHERE seq = 6"}, 0, false},
		{"the chain emptied, to be made again", []string{"DROP TRIGGER audit_keeps_words",
			"UPDATE audit SET detail = 'x', chain = NULL"}, 1, false},
		{"the chain and the head emptied", []string{"DROP TRIGGER audit_keeps_words",
			"UPDATE audit SET detail = 'x', chain = NULL", "DELETE FROM audit_head"}, 1, false},
		{"everything taken out", []string{"DROP TRIGGER audit_keeps_rows",
			"DELETE FROM audit", "DELETE FROM audit_head"}, 0, false},
		{"the head of an earlier day", []string{"DROP TRIGGER audit_keeps_rows",
			"DELETE FROM audit WHERE seq > 4", "UPDATE audit_head SET lines = 4, chain = (SELECT " +
				"chain FROM audit WHERE seq = 4)"}, 0, false},
		{"a line put in", []string{"INSERT INTO audit (at, operator, action, noun, object, " +
			"detail, chain) SELECT at, operator, action, noun, object, detail, chain FROM audit " +
			"WHERE seq = 6"}, 7, true},
		{"a link put in its place", []string{"DROP TRIGGER audit_keeps_words",
			"UPDATE audit SET detail = 'x', chain = randomblob(32) WHERE seq = 6"}, 6, false},
	} {
		dir := t.TempDir()
		s, err := store.Open(ctx, dir, store.Key{}, time.Now)
		if err != nil {
			t.Fatal(err)
		}
		for n := range 6 {
			if err := s.Write(ctx, func(tx *store.Tx) error {
				return tx.Log(
					ctx,
					api.AuditEntry{
						Operator: "owner",
						Action:   "change",
						Noun:     "gateway",
						Object:   "gw-1",
						Detail:   fmt.Sprint("d", n),
					},
				)
			}); err != nil {
				t.Fatal(err)
			}
		}
		before, err := s.Read().VerifyAudit(ctx, "")
		if err != nil || !before.Sound || before.Lines != 6 || len(before.Head) != 64 {
			t.Fatalf("%+v (%v)", before, err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
		if err != nil {
			t.Fatal(err)
		}
		for _, statement := range test.change {
			if _, err := db.Exec(statement); err != nil {
				t.Fatalf("%s: %v", test.name, err)
			}
		}
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		if s, err = store.Open(ctx, dir, store.Key{}, time.Now); err != nil {
			t.Fatal(err)
		}
		p, err := s.Read().VerifyAudit(ctx, before.Head)
		if err != nil || p.Sound != (test.name == "as it was") || p.First != test.first ||
			p.Held != test.held {
			t.Errorf(
				"%s: %+v (%v), expected line %d, head there %t",
				test.name,
				p,
				err,
				test.first,
				test.held,
			)
		}
		if err := s.Write(ctx, func(tx *store.Tx) error {
			return tx.Log(ctx, api.AuditEntry{Operator: "owner", Action: "more"})
		}); err != nil {
			t.Error(err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
