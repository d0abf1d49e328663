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
	"wardicon/core/vpn"
)

var mailSettings = settings[vpn.Mail]{
	table: "mail",
	owner: "mail:1",
	parts: func(m *vpn.Mail) (*int, **secret.Text, *bool) {
		return &m.Version, &m.Password, &m.Damaged
	},
	normalise: (*vpn.Mail).Normalise,
}

// Mail reads how emails are sent, with the password open.
func (tx *Tx) Mail(ctx context.Context) (vpn.Mail, error) { return mailSettings.get(ctx, tx) }

// PutMail replaces it.
func (tx *Tx) PutMail(
	ctx context.Context,
	m *vpn.Mail,
) error {
	return mailSettings.put(ctx, tx, m)
}

// Emails lists what was sent or is to be.
var Emails = &Table[api.Email, api.Email]{
	Noun:   "email",
	name:   "emails",
	prefix: "le",
	sealed: "letter",
	list: listing[api.Email]{
		id:   "l.id",
		from: "emails l",
		cols: "l.id, l.kind, l.to_, l.subject, l.state, l.tries, l.due, l.problem, l.about, " +
			"l.created, l.sent",
		scan:    scanEmail,
		search:  []string{"l.to_", "l.subject"},
		first:   "created",
		size:    "emails",
		sorts:   map[string]string{"created": "l.created DESC, l.id DESC"},
		filters: map[string]string{"state": "l.state = ?", "kind": "l.kind = ?", "to": "l.to_ = ?"},
	},
}

func scanEmail(scan func(...any) error) (l api.Email, err error) {
	var due, created int64
	var sent sql.NullInt64
	if err := scan(
		&l.ID,
		&l.Kind,
		&l.To,
		&l.Subject,
		&l.State,
		&l.Tries,
		&due,
		&l.Problem,
		&l.About,
		&created,
		&sent,
	); err != nil {
		return l, err
	}
	l.Due, l.Created = fromMillis(due), fromMillis(created)
	if sent.Valid {
		at := fromMillis(sent.Int64)
		l.Sent = &at
	}
	return l, nil
}

// AddEmail keeps an email until it is sent.
func (tx *Tx) AddEmail(ctx context.Context, l *api.Email, body vpn.Message) error {
	l.ID, l.State, l.Created = newID(
		Emails.prefix,
	), api.Waiting, tx.s.now().
		UTC().
		Truncate(time.Millisecond)
	l.Due = l.Created
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO emails (id, kind, to_, subject, state, due, about, created) VALUES (?, ?, ?, ?,
			?, ?, ?, ?)`,
		l.ID,
		l.Kind,
		l.To,
		l.Subject,
		l.State,
		millis(l.Due),
		l.About,
		millis(l.Created),
	); err != nil {
		return constraint(Emails.Noun, err)
	}
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return tx.putSecret(ctx, Emails.owner(l.ID), "body", data)
}

// DueEmail is the next email that is to be sent by now, with what it says; nil where there is none.
func (tx *Tx) DueEmail(ctx context.Context) (l *api.Email, body vpn.Message, err error) {
	row, err := scanEmail(
		tx.q.QueryRowContext(
			ctx,
			`SELECT `+Emails.list.cols+
				` FROM emails l WHERE l.state = 'waiting' AND l.due <= ? ORDER BY l.due, l.id LIMIT
					1`,
			millis(tx.s.now()),
		).Scan,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, body, nil
	}
	if err != nil {
		return nil, body, fmt.Errorf("database: %w", err)
	}
	data, err := tx.secret(ctx, Emails.owner(row.ID), "body")
	var damaged *DamagedError
	if errors.As(err, &damaged) {
		return &row, body, err
	}
	if err == nil && data == nil {
		err = &NotFoundError{"text of email", row.ID}
	}
	if err == nil {
		err = json.Unmarshal(data, &body)
	}
	return &row, body, err
}

// PutEmail keeps what became of an email. What it says is forgotten once it was sent or given up.
func (tx *Tx) PutEmail(ctx context.Context, l api.Email) error {
	var sent any
	if l.Sent != nil {
		sent = millis(*l.Sent)
	}
	if _, err := tx.q.ExecContext(
		ctx,
		`UPDATE emails SET state = ?, tries = ?, due = ?, problem = ?, sent = ? WHERE id = ?`,
		l.State,
		l.Tries,
		millis(l.Due),
		l.Problem,
		sent,
		l.ID,
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if l.State == api.Waiting {
		return nil
	}
	if l.State == api.Sent {
		if _, err := tx.q.ExecContext(
			ctx,
			`UPDATE handovers SET sent = COALESCE(sent, ?) WHERE id = ?`,
			sent,
			l.About,
		); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	_, err := tx.q.ExecContext(ctx, `DELETE FROM secrets WHERE owner = ?`, Emails.owner(l.ID))
	return err
}

// HurryEmails makes every email that waits due, and counts them.
func (tx *Tx) HurryEmails(ctx context.Context) (int, error) {
	res, err := tx.q.ExecContext(
		ctx,
		`UPDATE emails SET due = MIN(due, ?) WHERE state = 'waiting'`,
		millis(tx.s.now()),
	)
	if err != nil {
		return 0, fmt.Errorf("database: %w", err)
	}
	n, err := res.RowsAffected()
	return int(n), err
}

// EmailsWait notes why emails that are due were not sent, and gives up those that were written
// before a moment.
func (tx *Tx) EmailsWait(ctx context.Context, why string, before time.Time) error {
	now := millis(tx.s.now())
	if _, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM secrets WHERE owner IN (SELECT 'letter:' || id FROM emails WHERE state =
			'waiting' AND due <= ? AND created < ?)`,
		now,
		millis(before),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE emails SET problem = ?, state = iif(created < ?, 'failed', state) WHERE state =
			'waiting' AND due <= ?`,
		why,
		millis(before),
		now,
	)
	return err
}

// StopEmails gives up what waits to be sent about something.
func (tx *Tx) StopEmails(ctx context.Context, about, why string) error {
	if _, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM secrets WHERE owner IN (SELECT 'letter:' || id FROM emails WHERE about = ? AND
			state = 'waiting')`,
		about,
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err := tx.q.ExecContext(
		ctx,
		`UPDATE emails SET state = 'failed', problem = ? WHERE about = ? AND state = 'waiting'`,
		why,
		about,
	)
	return err
}
