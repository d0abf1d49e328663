package store_test

import (
	"database/sql"
	"flag"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wardicon/store"
)

var update = flag.Bool("update", false, "write schema.sql again from the migrations")

// shadow are tables that a full-text index makes for itself.
var shadow = regexp.MustCompile(`_texts_(data|idx|content|docsize|config)$`)

// dump writes a database as the statements that make it. What says when something was made is left
// to the default of its column.
func dump(t *testing.T, db *sql.DB) string {
	t.Helper()
	lines := []string{"-- Made from the migrations by go test ./store -run TestSchema -update; not by hand."}
	query := func(text string, each func(rows *sql.Rows) error) {
		rows, err := db.Query(text)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = rows.Close() }()
		for rows.Next() {
			if err := each(rows); err != nil {
				t.Fatal(err)
			}
		}
	}
	var tables, after []string
	query(`SELECT type, name, sql FROM sqlite_schema WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite_%'
		ORDER BY rowid`, func(rows *sql.Rows) error {
		var kind, name, text string
		if err := rows.Scan(&kind, &name, &text); err != nil {
			return err
		}
		switch {
		case shadow.MatchString(name):
		case kind == "table":
			lines, tables = append(lines, text+";"), append(tables, name)
		default: // an index, or a trigger, which must not see what is put in here
			after = append(after, text+";")
		}
		return nil
	})
	for _, table := range tables {
		if strings.HasSuffix(table, "_texts") {
			continue
		}
		var columns []string
		query(fmt.Sprintf(`SELECT name FROM pragma_table_info('%s') WHERE name <> 'tstamp'`, table),
			func(rows *sql.Rows) error {
				columns = append(columns, "")
				return rows.Scan(&columns[len(columns)-1])
			})
		values := "quote(" + strings.Join(columns, ") || ', ' || quote(") + ")"
		query(fmt.Sprintf(`SELECT %s FROM %s ORDER BY 1`, values, table), func(rows *sql.Rows) error {
			var row string
			err := rows.Scan(&row)
			lines = append(lines, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s);",
				table, strings.Join(columns, ", "), row))
			return err
		})
	}
	return strings.Join(append(lines, after...), "\n") + "\n"
}

// TestSchema holds that a new database begins as the migrations, one after the other, leave it.
func TestSchema(t *testing.T) {
	t.Parallel()
	empty := func() *sql.DB {
		db, err := sql.Open("sqlite", ":memory:")
		if err != nil {
			t.Fatal(err)
		}
		db.SetMaxOpenConns(1)
		t.Cleanup(func() { _ = db.Close() })
		return db
	}
	stepwise := empty()
	provider, err := store.Migrations(stepwise)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := provider.Up(t.Context()); err != nil {
		t.Fatal(err)
	}
	wanted := dump(t, stepwise)
	if *update {
		if err := os.WriteFile("schema.sql", []byte(wanted), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	schema, err := os.ReadFile("schema.sql")
	if err != nil {
		t.Fatal(err)
	}
	if string(schema) != wanted {
		t.Fatal("schema.sql is not what the migrations make; go test ./store -run TestSchema -update")
	}
	atOnce := empty()
	if _, err := atOnce.Exec(string(schema)); err != nil {
		t.Fatal(err)
	}
	if made := dump(t, atOnce); made != wanted {
		t.Errorf("schema.sql does not make what it says:\n%s", made)
	}
	// The tables that SQLite makes for itself are the same too.
	names := func(db *sql.DB) (list []string) {
		rows, err := db.Query(`SELECT type || ' ' || name FROM sqlite_schema`)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = rows.Close() }()
		for rows.Next() {
			var name string
			if err := rows.Scan(&name); err != nil {
				t.Fatal(err)
			}
			list = append(list, name)
		}
		slices.Sort(list)
		return list
	}
	if a, b := names(stepwise), names(atOnce); !slices.Equal(a, b) {
		t.Errorf("found %v, expected %v", b, a)
	}
}
