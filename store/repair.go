package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wardicon/api"
)

// Repair fixes what can be in a data folder that no service works on: indexes, kept counts and the
// index of texts are made again; where pages are damaged, every row that can still be read moves to
// a new database, and the old one is kept beside it. Values that do not open stay named on their
// records until they are set again.
func Repair(
	ctx context.Context,
	dir string,
	key Key,
	now time.Time,
) (found api.Inspection, err error) {
	held, err := holdThere(ctx, dir)
	if err != nil {
		return found, err
	}
	defer func() { err = errors.Join(err, held.Close()) }()
	path := filepath.Join(dir, File)
	if found, err = inspect(ctx, path, key); err != nil {
		return found, err
	}
	var lost []string
	kept := ""
	if len(found.Pages) > 0 {
		fresh := path + ".repaired"
		if err := os.Remove(fresh); err != nil && !errors.Is(err, os.ErrNotExist) {
			return found, err
		}
		if lost, err = salvage(ctx, path, fresh); err != nil {
			return found, fmt.Errorf("%s cannot be repaired: %w; restore a copy", path, err)
		}
		kept = path + ".damaged-" + now.UTC().Format("20060102-150405")
		if err := os.Rename(path, kept); err != nil {
			return found, err
		}
		for _, ending := range []string{"-wal", "-shm"} { // all that was in them has moved
			if err := os.Remove(path + ending); err != nil && !errors.Is(err, os.ErrNotExist) {
				return found, err
			}
		}
		if err := errors.Join(os.Rename(fresh, path), SyncDir(dir)); err != nil {
			return found, err
		}
	}
	if err := recount(ctx, path); err != nil {
		return found, err
	}
	found, err = inspect(ctx, path, key)
	found.Lost, found.Kept = lost, kept
	return found, err
}

// recount makes again what follows from the records.
func recount(ctx context.Context, path string) (err error) {
	db, err := open(path, 1, "busy_timeout(10000)", "synchronous(FULL)")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	statements := []string{"REINDEX"}
	for _, noun := range textNouns {
		statements = append(
			statements,
			fmt.Sprintf(`INSERT INTO %[1]s_texts (%[1]s_texts) VALUES ('delete-all')`, noun),
			fmt.Sprintf(
				`INSERT INTO %[1]s_texts (rowid, text) SELECT n, text FROM texts WHERE noun =
					'%[1]s'`,
				noun,
			),
		)
	}
	for name, count := range keptCounts {
		statements = append(
			statements,
			fmt.Sprintf(
				`INSERT INTO sizes VALUES ('%s', (%s)) ON CONFLICT DO UPDATE SET n = excluded.n`,
				name,
				count,
			),
		)
	}
	statements = append(
		statements,
		`DELETE FROM rule_sums`,
		`INSERT INTO rule_sums SELECT rule, severity, COUNT(DISTINCT profile_id) FROM findings GROUP
			BY rule, severity`,
		`UPDATE gateways SET profiles = (SELECT COUNT(*) FROM profiles f WHERE f.gateway_id =
			gateways.id)`,
	)
	for _, s := range statements {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	return nil
}

var textNouns = []string{"person", "device", "gateway", "account", "certificate", "found"}

// keptCounts are the counts that triggers keep, and how they are counted.
var keptCounts = map[string]string{
	"people":       "SELECT COUNT(*) FROM people",
	"devices":      "SELECT COUNT(*) FROM devices",
	"accounts":     "SELECT COUNT(*) FROM accounts",
	"profiles":     "SELECT COUNT(*) FROM profiles",
	"parcels":      "SELECT COUNT(*) FROM parcels",
	"findings":     "SELECT COUNT(*) FROM findings",
	"certificates": "SELECT COUNT(*) FROM certificates",
	"handovers":    "SELECT COUNT(*) FROM handovers",
	"emails":       "SELECT COUNT(*) FROM emails",
	"due":          "SELECT COUNT(*) FROM profiles WHERE touched <> seen",
	"blocked":      "SELECT COUNT(*) FROM profiles WHERE errors > 0",
	"warned":       "SELECT COUNT(*) FROM profiles WHERE errors = 0 AND warnings > 0",
	"clean": "SELECT COUNT(*) FROM profiles WHERE errors = 0 AND warnings = 0 AND touched " +
		"= seen",
	"errors":   "SELECT COALESCE(SUM(errors), 0) FROM profiles",
	"warnings": "SELECT COALESCE(SUM(warnings), 0) FROM profiles",
	"notes":    "SELECT COALESCE(SUM(notes), 0) FROM profiles",
}

// thing is a table, an index or a trigger of a schema.
type thing struct{ kind, name, text string }

// salvage copies every row that can be read to a new database, and says what could not.
func salvage(ctx context.Context, from, to string) (lost []string, err error) {
	src, err := open(from, 1, "busy_timeout(10000)", "query_only(1)")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, src.Close()) }()
	dst, err := open(to, 1, "foreign_keys(0)", "journal_mode(WAL)", "synchronous(FULL)")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dst.Close()) }()
	schema, err := schemaOf(ctx, src)
	if err != nil {
		return nil, err
	}
	shadow := func(name string) bool { // of the index of texts, which is made again
		return slices.ContainsFunc(
			textNouns,
			func(noun string) bool { return strings.HasPrefix(name, noun+"_texts_") },
		)
	}
	for _, t := range schema {
		if t.kind != "table" || shadow(t.name) {
			continue
		}
		if _, err := dst.ExecContext(ctx, t.text); err != nil {
			return nil, err
		}
		if strings.HasPrefix(t.text, "CREATE VIRTUAL") {
			continue
		}
		n, err := copyRows(ctx, src, dst, t)
		if err != nil {
			return nil, err
		}
		if n > 0 {
			lost = append(lost, fmt.Sprintf("%s: %d rows or more", t.name, n))
		}
	}
	// Indexes and triggers last: rows come as they are.
	for _, t := range schema {
		if t.kind == "table" || t.text == "" {
			continue
		}
		if _, err := dst.ExecContext(ctx, t.text); err != nil {
			return nil, fmt.Errorf("%s: %w", t.name, err)
		}
	}
	return lost, nil
}

func schemaOf(ctx context.Context, db *sql.DB) (list []thing, err error) {
	rows, err := db.QueryContext(
		ctx,
		`SELECT type, name, COALESCE(sql, '') FROM sqlite_master WHERE name NOT LIKE 'sqlite_%'
			ORDER BY rowid`,
	)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var t thing
		if err := rows.Scan(&t.kind, &t.name, &t.text); err != nil {
			return nil, err
		}
		list = append(list, t)
	}
	return list, rows.Err()
}

// copyRows copies a table, past what cannot be read: by row number where it has one, else from both
// ends.
func copyRows(ctx context.Context, src, dst *sql.DB, t thing) (lost int, err error) {
	columns, err := columnsOf(ctx, src, t.name)
	if err != nil {
		return 0, err
	}
	tx, err := dst.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer func() { _ = tx.Rollback() }() // after a commit there is nothing to roll back
	c := copier{tx: tx, src: src, table: t.name, columns: columns}
	if strings.Contains(t.text, "WITHOUT ROWID") {
		if c.rows(ctx, "") != nil {
			lost = 1
			_ = c.rows(ctx, " ORDER BY "+strings.Join(columns, " DESC, ")+" DESC")
		}
		return lost, errors.Join(c.fault, tx.Commit())
	}
	c.columns = append([]string{"rowid"}, columns...)
	for c.rows(ctx, fmt.Sprintf(" WHERE rowid > %d ORDER BY rowid", c.last)) != nil &&
		c.fault == nil {
		lost++
		c.last++ // the one that cannot be read; then on, one by one, to the next that can
		for misses := 0; misses < mostMissed; misses++ {
			if c.rows(ctx, fmt.Sprintf(" WHERE rowid = %d", c.last+1)) == nil && c.copied {
				break
			}
			c.last++
			if misses == mostMissed-1 {
				return lost, errors.Join(c.fault, tx.Commit())
			}
		}
	}
	return lost, errors.Join(c.fault, tx.Commit())
}

// mostMissed is how many row numbers are tried past one that cannot be read.
const mostMissed = 10_000

type copier struct {
	tx      *sql.Tx
	src     *sql.DB
	table   string
	columns []string
	last    int64 // row number that was copied last
	copied  bool  // the last call copied something
	fault   error // of the new database
}

// rows copies what a condition selects, as far as it can be read.
func (c *copier) rows(ctx context.Context, condition string) error {
	c.copied = false
	rows, err := c.src.QueryContext(
		ctx,
		"SELECT "+strings.Join(c.columns, ", ")+" FROM "+c.table+condition,
	)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	insert := "INSERT OR IGNORE INTO " + c.table + " (" + strings.Join(
		c.columns,
		", ",
	) + ") VALUES (?" + strings.Repeat(
		", ?",
		len(c.columns)-1,
	) + ")"
	for rows.Next() {
		values, into := make([]any, len(c.columns)), make([]any, len(c.columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if _, err := c.tx.ExecContext(ctx, insert, values...); err != nil {
			c.fault = err
			return err
		}
		if n, ok := values[0].(int64); ok && c.columns[0] == "rowid" {
			c.last = n
		}
		c.copied = true
	}
	return rows.Err()
}

func columnsOf(ctx context.Context, db *sql.DB, table string) (list []string, err error) {
	rows, err := db.QueryContext(
		ctx,
		`SELECT name FROM pragma_table_info(?)`,
		table,
	) // leaves out what is computed
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		list = append(list, name)
	}
	return list, rows.Err()
}
