package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

var directorySettings = settings[vpn.Directory]{
	table: "directory",
	owner: "directory:1",
	parts: func(d *vpn.Directory) (*int, **secret.Text, *bool) {
		return &d.Version, &d.Password, &d.Damaged
	},
	normalise: (*vpn.Directory).Normalise,
}

// Directory reads how people are read from a directory, with the password open.
func (tx *Tx) Directory(ctx context.Context) (vpn.Directory, error) {
	return directorySettings.get(ctx, tx)
}

// PutDirectory replaces it.
func (tx *Tx) PutDirectory(ctx context.Context, d *vpn.Directory) error {
	return directorySettings.put(ctx, tx, d)
}

// DirectoryState is what came of the last reading.
func (tx *Tx) DirectoryState(ctx context.Context) (st api.DirectoryState, err error) {
	var body string
	if err := tx.q.QueryRowContext(ctx, `SELECT state,
		(SELECT COUNT(*) FROM sources WHERE kind = 'directory'),
		(SELECT COUNT(*) FROM sources WHERE kind = 'directory' AND missing IS NOT NULL)
		FROM directory`).Scan(&body, &st.People, &st.Missing); err != nil {
		return st, fmt.Errorf("database: %w", err)
	}
	people, missing := st.People, st.Missing
	err = json.Unmarshal([]byte(body), &st)
	st.People, st.Missing = people, missing
	return st, err
}

// PutDirectoryState keeps what came of a reading.
func (tx *Tx) PutDirectoryState(ctx context.Context, st api.DirectoryState) error {
	body, err := json.Marshal(st)
	if err != nil {
		return err
	}
	_, err = tx.q.ExecContext(ctx, `UPDATE directory SET state = ?`, string(body))
	return err
}

// Source is where a person comes from.
type Source struct {
	PersonID, Entry, External string
	Body                      string // attributes as a client of SCIM sent them; empty once removed
	Missing                   *time.Time
}

// Kinds of sources.
const (
	FromDirectory = "directory"
	FromSCIM      = "scim"
)

// Sources lists the people of a kind, by the value that identifies them there.
func (tx *Tx) Sources(ctx context.Context, kind string) ([]Source, error) {
	return collect(
		ctx,
		tx,
		scanSource,
		`SELECT person_id, entry, external, body, missing FROM sources WHERE kind = ?
		ORDER BY entry`,
		kind,
	)
}

func scanSource(scan scanner) (s Source, err error) {
	var missing *int64
	err = scan(&s.PersonID, &s.Entry, &s.External, &s.Body, &missing)
	if missing != nil {
		since := fromMillis(*missing)
		s.Missing = &since
	}
	return s, err
}

// SourceOf is where a person comes from; nil where that is here.
func (tx *Tx) SourceOf(ctx context.Context, kind, personID string) (*Source, error) {
	list, err := collect(
		ctx,
		tx,
		scanSource,
		`SELECT person_id, entry, external, body, missing FROM sources
		WHERE kind = ? AND person_id = ?`,
		kind,
		personID,
	)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// PutSource says where a person comes from, in the place of what was said before.
func (tx *Tx) PutSource(ctx context.Context, kind string, s Source) error {
	var missing *int64
	if s.Missing != nil {
		ms := millis(*s.Missing)
		missing = &ms
	}
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO sources (person_id, kind, entry, external, body, missing)
		VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (person_id) DO UPDATE SET kind = excluded.kind,
		entry = excluded.entry, external = excluded.external, body = excluded.body,
		missing = excluded.missing`,
		s.PersonID,
		kind,
		s.Entry,
		s.External,
		s.Body,
		missing,
	)
	return constraint("person", err)
}
