package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"wardicon/api"
)

// mostNamed bounds how many faults of a kind an inspection names.
const mostNamed = 1000

// Inspect looks through a data folder that no service works on: the pages of the database, every
// sealed value and every record. Nothing is changed. A database that cannot even be opened is an
// error.
func Inspect(ctx context.Context, dir string, key Key) (found api.Inspection, err error) {
	held, err := holdThere(ctx, dir)
	if err != nil {
		return found, err
	}
	defer func() { err = errors.Join(err, held.Close()) }()
	return inspect(ctx, filepath.Join(dir, File), key)
}

// holdThere holds a data folder that has a database.
func holdThere(ctx context.Context, dir string) (*sql.DB, error) {
	if _, err := os.Stat(filepath.Join(dir, File)); err != nil {
		return nil, fmt.Errorf(
			"data folder %s: found no %s in it; name the folder that the service works on (--data)",
			dir,
			File,
		)
	}
	return hold(ctx, dir)
}

// InspectCopy looks through the copy that a backup has made; key names the master key's file.
func InspectCopy(ctx context.Context, file string, key Key) (api.Inspection, error) {
	return inspect(ctx, file, key)
}

func inspect(ctx context.Context, path string, key Key) (found api.Inspection, err error) {
	if _, err := os.Stat(path); err != nil {
		return found, fmt.Errorf("database: %w", err)
	}
	db, err := open(path, 1, "busy_timeout(10000)", "query_only(1)")
	if err != nil {
		return found, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	found = api.Inspection{
		Pages:   []string{},
		Values:  []api.DamagedValue{},
		Records: []api.DamagedValue{},
	}
	rows, err := db.QueryContext(ctx, fmt.Sprintf(`PRAGMA integrity_check(%d)`, mostNamed))
	if err != nil {
		return found, fmt.Errorf("%s: %w; it cannot be repaired: restore a copy", path, err)
	}
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return found, errors.Join(err, rows.Close())
		}
		if text != "ok" {
			found.Pages = append(found.Pages, text)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		found.Pages = append(found.Pages, err.Error())
	}
	if key.File == "" {
		key.File = filepath.Join(filepath.Dir(path), "master.key")
	}
	seal, err := unlock(ctx, db, key)
	if err != nil {
		return found, err
	}
	if err := inspectValues(ctx, db, seal, &found); err != nil {
		found.Pages = append(found.Pages, "secrets: "+err.Error())
	}
	for _, t := range nounTables {
		if err := inspectRecords(ctx, db, t.noun, t.table, &found); err != nil {
			found.Pages = append(found.Pages, t.table+": "+err.Error())
		}
	}
	return found, nil
}

func inspectValues(
	ctx context.Context,
	db *sql.DB,
	seal *sealer,
	found *api.Inspection,
) (err error) {
	rows, err := db.QueryContext(ctx, `SELECT owner, field, sealed FROM secrets`)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var owner, field string
		var sealed []byte
		if err := rows.Scan(&owner, &field, &sealed); err != nil {
			return err
		}
		found.Looked++
		if _, err := seal.open(owner, field, sealed); err != nil && len(found.Values) < mostNamed {
			noun, id, _ := strings.Cut(owner, ":")
			found.Values = append(
				found.Values,
				api.DamagedValue{Noun: noun, ID: id, Field: field, Fix: fixOf(noun)},
			)
		}
	}
	return rows.Err()
}

// fixOf says what takes the place of a damaged value.
func fixOf(noun string) string {
	switch noun {
	case "parcel":
		return "build the parcel again"
	case "letter": // what texts of emails are sealed under
		return "hand over again: the email is given up"
	case "handover":
		return "make the link again"
	case "operator":
		return "wardicon operator reset, then set the second factor up again"
	case "authority":
		return "bring the key in again from its export, or restore a copy"
	case "signer":
		return "make the signing certificate again"
	case "acme":
		return "none: the service gets its certificate again"
	case "request":
		return "make the request again"
	}
	return "set it again on the record"
}

func inspectRecords(
	ctx context.Context,
	db *sql.DB,
	noun, table string,
	found *api.Inspection,
) (err error) {
	rows, err := db.QueryContext(ctx, "SELECT id, body FROM "+table)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var id string
		var body []byte
		if err := rows.Scan(&id, &body); err != nil {
			return err
		}
		found.Looked++
		if !json.Valid(body) && len(found.Records) < mostNamed {
			found.Records = append(
				found.Records,
				api.DamagedValue{
					Noun:  noun,
					ID:    id,
					Field: wholeRecord,
					Fix:   "change it with all its fields, remove it, or restore a copy",
				},
			)
		}
	}
	return rows.Err()
}
