package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
)

// Requests lists signing requests that wait for their certificate.
var Requests = &Table[api.Request, api.Request]{
	Noun:   "request",
	name:   "requests",
	prefix: "rq",
	list: listing[api.Request]{
		id:    "r.id",
		from:  "requests r",
		joins: "LEFT JOIN authorities a ON a.id = r.authority_id",
		cols: "r.id, COALESCE(r.authority_id, ''), COALESCE(a.name, ''), r.usage, " +
			"COALESCE(r.device_id, ''), r.subject, r.names, r.pem, r.operator, r.created",
		scan:   scanRequest,
		search: []string{"r.subject", "r.names"},
		first:  "created",
		sorts: map[string]string{
			"created": "r.created ASC, r.id ASC",
			"subject": "r.subject ASC, r.id ASC",
		},
		filters: map[string]string{
			"authority_id": "r.authority_id = ?",
			"device_id":    "r.device_id = ?",
			"usage":        "r.usage = ?",
		},
	},
}

func scanRequest(scan func(...any) error) (r api.Request, err error) {
	var created int64
	var names []byte
	if err := scan(
		&r.ID,
		&r.AuthorityID,
		&r.Authority,
		&r.Usage,
		&r.DeviceID,
		&r.Subject,
		&names,
		&r.PEM,
		&r.Operator,
		&created,
	); err != nil {
		return r, err
	}
	r.Created = fromMillis(created)
	return r, json.Unmarshal(names, &r.Names)
}

// AddRequest keeps a request with its key. public is the digest of the public key, by which the
// certificate is known again.
func (tx *Tx) AddRequest(
	ctx context.Context,
	r *api.Request,
	public []byte,
	key secret.Text,
) error {
	names, err := json.Marshal(r.Names)
	if err != nil {
		return err
	}
	r.ID, r.Created = newID(Requests.prefix), tx.s.now().UTC().Truncate(time.Millisecond)
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO requests VALUES (?, NULLIF(?, ''), ?, NULLIF(?, ''), ?, ?, ?, ?, ?, ?)`,
		r.ID,
		r.AuthorityID,
		r.Usage,
		r.DeviceID,
		r.Subject,
		string(names),
		r.PEM,
		public,
		r.Operator,
		millis(r.Created),
	); err != nil {
		return constraint(Requests.Noun, err)
	}
	return tx.putSecret(ctx, Requests.owner(r.ID), "key", []byte(key.Reveal()))
}

// RequestOf finds the request of a public key, with its private one.
func (tx *Tx) RequestOf(
	ctx context.Context,
	public []byte,
) (r api.Request, key secret.Text, err error) {
	var id string
	err = tx.q.QueryRowContext(ctx, `SELECT id FROM requests WHERE public = ?`, public).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return r, key, &NotFoundError{Requests.Noun, "of that key"}
	}
	if err != nil {
		return r, key, fmt.Errorf("database: %w", err)
	}
	plain, err := tx.secret(ctx, Requests.owner(id), "key")
	if err != nil {
		return r, key, err
	}
	r, err = Requests.Row(ctx, tx, id)
	return r, secret.New(string(plain)), err
}

// ForgetRequests drops requests whose device is gone or that were answered, with their keys.
func (tx *Tx) ForgetRequests(ctx context.Context) error {
	_, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM secrets WHERE owner LIKE 'request:%' AND substr(owner, 9) NOT IN (SELECT id
			FROM requests)`,
	)
	return err
}
