package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
)

var _ = step(36, `
-- Where others are told what happens.
CREATE TABLE webhooks (
    id       TEXT PRIMARY KEY,
    name     TEXT NOT NULL COLLATE NOCASE UNIQUE,
    url      TEXT NOT NULL,
    events   TEXT NOT NULL, -- with spaces between
    disabled INTEGER NOT NULL DEFAULT 0,
    problem  TEXT NOT NULL DEFAULT '',
    created  INTEGER NOT NULL
);
-- What they are to be told, and were.
CREATE TABLE webhook_calls (
    n        INTEGER PRIMARY KEY AUTOINCREMENT,
    hook_id  TEXT NOT NULL REFERENCES webhooks ON DELETE CASCADE,
    body     TEXT NOT NULL,
    created  INTEGER NOT NULL,
    due      INTEGER,           -- null once it is done or given up
    tries    INTEGER NOT NULL DEFAULT 0,
    done     INTEGER,
    problem  TEXT NOT NULL DEFAULT ''
);
CREATE INDEX webhook_calls_due ON webhook_calls (due) WHERE due IS NOT NULL;
CREATE INDEX webhook_calls_hook ON webhook_calls (hook_id, n DESC);
CREATE INDEX webhook_calls_created ON webhook_calls (created);
`, `
DROP TABLE webhook_calls;
DELETE FROM secrets WHERE owner LIKE 'webhook:%';
DROP TABLE webhooks;
`)

func webhookOwner(id string) string { return "webhook:" + id }

// Webhooks lists them by name.
func (tx *Tx) Webhooks(ctx context.Context) ([]api.Webhook, error) {
	return shelved(tx, "webhooks", func() ([]api.Webhook, error) {
		return collect(ctx, tx, func(scan scanner) (h api.Webhook, err error) {
			var events string
			var created int64
			err = scan(
				&h.ID,
				&h.Name,
				&h.URL,
				&events,
				&h.Disabled,
				&h.Problem,
				&created,
				&h.Waiting,
			)
			h.Events, h.Created = strings.Fields(events), fromMillis(created)
			return h, err
		}, `SELECT id, name, url, events, disabled, problem, created, (SELECT COUNT(*) FROM
			webhook_calls c WHERE c.hook_id = w.id AND c.due IS NOT NULL) FROM webhooks w ORDER BY name`)
	})
}

// Webhook reads one.
func (tx *Tx) Webhook(ctx context.Context, id string) (api.Webhook, error) {
	list, err := tx.Webhooks(ctx)
	for _, h := range list {
		if h.ID == id {
			return h, nil
		}
	}
	return api.Webhook{}, errors.Join(err, &NotFoundError{"webhook", id})
}

// AddWebhook keeps one with its key.
func (tx *Tx) AddWebhook(ctx context.Context, h *api.Webhook, key secret.Text) error {
	h.ID, h.Created = newID("wh"), tx.s.now().UTC().Truncate(time.Millisecond)
	if _, err := tx.q.ExecContext(ctx, `INSERT INTO webhooks (id, name, url, events, created)
		VALUES (?, ?, ?, ?, ?)`, h.ID, h.Name, h.URL, strings.Join(h.Events, " "),
		millis(h.Created)); err != nil {
		return constraint("webhook", err)
	}
	return tx.putSecret(ctx, webhookOwner(h.ID), "key", []byte(key.Reveal()))
}

// PutWebhook keeps what one is told of, whether it is, and why not.
func (tx *Tx) PutWebhook(ctx context.Context, h api.Webhook) error {
	_, err := tx.q.ExecContext(ctx, `UPDATE webhooks SET events = ?, disabled = ?, problem = ?
		WHERE id = ?`, strings.Join(h.Events, " "), h.Disabled, h.Problem, h.ID)
	return err
}

// RemoveWebhook removes one with what it was still to be told.
func (tx *Tx) RemoveWebhook(ctx context.Context, id string) error {
	ok, err := tx.one(ctx, `DELETE FROM webhooks WHERE id = ?`, id)
	if err == nil && !ok {
		err = &NotFoundError{"webhook", id}
	}
	if err == nil {
		_, err = tx.q.ExecContext(ctx, `DELETE FROM secrets WHERE owner = ?`, webhookOwner(id))
	}
	return err
}

// WebhookKey is the key that one's calls are signed with.
func (tx *Tx) WebhookKey(ctx context.Context, id string) (secret.Text, error) {
	plain, err := tx.secret(ctx, webhookOwner(id), "key")
	return secret.New(string(plain)), err
}

// Emit has those told who want to know, in the transaction in which it happens.
func (tx *Tx) Emit(ctx context.Context, e api.Event) error {
	hooks, err := tx.Webhooks(ctx)
	if err != nil {
		return err
	}
	for _, h := range hooks {
		if h.Disabled || !slices.Contains(h.Events, e.Event) {
			continue
		}
		e.At = fromMillis(millis(tx.s.now()))
		body, err := json.Marshal(e)
		if err != nil {
			return err
		}
		if _, err := tx.q.ExecContext(ctx, `INSERT INTO webhook_calls (hook_id, body, created, due)
			VALUES (?, ?, ?, ?)`, h.ID, string(body), millis(e.At), millis(e.At)); err != nil {
			return fmt.Errorf("database: %w", err)
		}
		tx.note(CallsDue)
	}
	return nil
}

// CallsDue is the topic of calls of webhooks, which is for the service alone.
const CallsDue = "webhook call"

// emitFor has those told who want to know of something that happened to a profile.
func (tx *Tx) emitFor(ctx context.Context, of holder, event, id, detail string) error {
	hooks, err := tx.Webhooks(ctx)
	if err != nil || !slices.ContainsFunc(hooks, func(h api.Webhook) bool {
		return slices.Contains(h.Events, event)
	}) {
		return err
	}
	e := api.Event{Event: event, Noun: "profile", ID: id, Detail: detail}
	if of == ofGateway {
		g, err := Gateways.Get(ctx, tx, id)
		if err != nil {
			return unlessGone(err)
		}
		e.Noun, e.Name = "gateway", g.Name
		return tx.Emit(ctx, e)
	}
	p, err := Profiles.Row(ctx, tx, id)
	if err != nil {
		return unlessGone(err)
	}
	e.Name = p.Device + " to " + p.Gateway
	return tx.Emit(ctx, e)
}

func unlessGone(err error) error {
	if none := new(NotFoundError); errors.As(err, &none) {
		return nil
	}
	return err
}

// WebhookCall is something that a webhook is to be told.
type WebhookCall struct {
	api.WebhookCall
	HookID, Body string
}

const callColumns = `SELECT n, hook_id, body, created, due, tries, done, problem FROM webhook_calls `

func scanCall(scan scanner) (c WebhookCall, err error) {
	var created int64
	var due, done sql.NullInt64
	if err = scan(&c.Number, &c.HookID, &c.Body, &created, &due, &c.Tries, &done,
		&c.Problem); err != nil {
		return c, err
	}
	c.Created = fromMillis(created)
	for _, at := range []struct {
		from sql.NullInt64
		to   **time.Time
	}{{due, &c.Due}, {done, &c.Done}} {
		if at.from.Valid {
			moment := fromMillis(at.from.Int64)
			*at.to = &moment
		}
	}
	var e api.Event
	err = json.Unmarshal([]byte(c.Body), &e)
	c.Event, c.Name = e.Event, e.Name
	return c, err
}

// WebhookCalls lists what a webhook was told lately, the last first.
func (tx *Tx) WebhookCalls(ctx context.Context, id string) ([]api.WebhookCall, error) {
	return collect(ctx, tx, func(scan scanner) (api.WebhookCall, error) {
		c, err := scanCall(scan)
		return c.WebhookCall, err
	}, callColumns+`WHERE hook_id = ? ORDER BY n DESC LIMIT 100`, id)
}

// DueCalls are those that are due, in the order in which they came: none of a webhook that an
// earlier one still waits for.
func (tx *Tx) DueCalls(ctx context.Context, limit int) ([]WebhookCall, error) {
	return collect(ctx, tx, scanCall, callColumns+`c WHERE due <= ?1 AND NOT EXISTS (SELECT 1 FROM
		webhook_calls e WHERE e.hook_id = c.hook_id AND e.n < c.n AND e.due > ?1) ORDER BY n LIMIT ?2`,
		millis(tx.s.now()), limit)
}

// PutCall keeps what came of a try.
func (tx *Tx) PutCall(ctx context.Context, c WebhookCall) error {
	at := func(t *time.Time) any {
		if t == nil {
			return nil
		}
		return millis(*t)
	}
	_, err := tx.q.ExecContext(ctx, `UPDATE webhook_calls SET due = ?, tries = ?, done = ?,
		problem = ? WHERE n = ?`, at(c.Due), c.Tries, at(c.Done), c.Problem, c.Number)
	return err
}

// SweepCalls removes what was told, or given up, before a moment.
func (tx *Tx) SweepCalls(ctx context.Context, before time.Time) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM webhook_calls WHERE created < ? AND due IS NULL`,
		millis(before))
	return err
}
