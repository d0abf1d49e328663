package store

import (
	"context"
	"crypto/hmac"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
)

// Log adds a line to the audit log, in the same transaction as the entry itself, chained to the
// line before it. A log that was cut or changed at its end is gone on with where the service left
// it, so that it stays broken.
func (tx *Tx) Log(ctx context.Context, d api.AuditEntry) error {
	tx.note(d.Noun)
	lines, before, _, err := tx.head(ctx)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("database: %w", err)
	}
	if len(before) == 0 {
		before = nil
	}
	d.At = fromMillis(millis(tx.s.now()))
	chain := tx.s.link(before, d)
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO audit (at, operator, action, noun, object, detail, chain) VALUES (?, ?, ?, ?,
			?, ?, ?)`,
		millis(d.At),
		d.Operator,
		d.Action,
		d.Noun,
		d.Object,
		d.Detail,
		chain,
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if event := api.LoggedEvent(d.Action, d.Noun); event != "" {
		if err := tx.Emit(ctx, api.Event{
			Event: event, Noun: d.Noun, ID: d.Object, Detail: d.Detail, Operator: d.Operator,
		}); err != nil {
			return err
		}
	}
	return tx.putHead(ctx, lines+1, chain)
}

// link is the keyed digest of a line and of the one before it: nobody without the master key can
// write another one that fits.
func (s *Store) link(before []byte, d api.AuditEntry) []byte {
	data := append([]byte("audit line"), before...)
	data = binary.BigEndian.AppendUint64(data, uint64(millis(d.At)))
	for _, part := range []string{d.Operator, d.Action, d.Noun, d.Object, d.Detail} {
		data = binary.BigEndian.AppendUint64(data, uint64(len(part)))
		data = append(data, part...)
	}
	sum, err := hex.DecodeString(s.seal.mac(data))
	if err != nil {
		panic("store: a digest that is not hexadecimal") // made right here
	}
	return sum
}

const entryColumns = `SELECT seq, at, operator, action, noun, object, detail, chain FROM audit `

func scanEntry(scan func(...any) error) (d api.AuditEntry, chain []byte, err error) {
	var at int64
	err = scan(&d.Seq, &at, &d.Operator, &d.Action, &d.Noun, &d.Object, &d.Detail, &chain)
	d.At = fromMillis(at)
	return d, chain, err
}

// VerifyAudit walks the audit log and holds that each line is as it was written and follows the one
// before it. head is a digest that was noted before; an empty one is not looked for.
func (tx *Tx) VerifyAudit(ctx context.Context, head string) (p api.AuditProof, err error) {
	p.Sound, p.Held = true, head == ""
	var before []byte
	err = each(ctx, tx, func(scan scanner) error {
		d, chain, err := scanEntry(scan)
		if err != nil {
			return err
		}
		p.Lines++
		if p.Sound && !hmac.Equal(chain, tx.s.link(before, d)) {
			p.Sound, p.First = false, d.Seq
		}
		before = chain
		p.Head = hex.EncodeToString(chain)
		p.Held = p.Held || p.Head == head
		return nil
	}, entryColumns+`ORDER BY seq`)
	if err != nil {
		return p, err
	}
	lines, last, sound, err := tx.head(ctx)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return p, fmt.Errorf("database: %w", err)
	}
	// The head is written with each line: a tail that was cut off, or a chain that was made again,
	// does not fit it.
	if len(last) == 0 {
		last = nil
	}
	if err != nil || !sound || lines != int64(p.Lines) || !hmac.Equal(last, before) {
		p.Sound, p.Cut = false, p.First == 0
	}
	return p, nil
}

// LastEntry is when something was done last; the zero time where nothing was.
func (tx *Tx) LastEntry(ctx context.Context) (time.Time, error) {
	var at int64
	err := tx.q.QueryRowContext(ctx, `SELECT at FROM audit ORDER BY seq DESC LIMIT 1`).Scan(&at)
	if errors.Is(err, sql.ErrNoRows) {
		return time.Time{}, nil
	}
	return fromMillis(at), err
}

// keepAudit has the words of the log kept from changes by mistake.
func (s *Store) keepAudit(ctx context.Context) error {
	return s.Write(ctx, func(tx *Tx) error {
		_, err := tx.q.ExecContext(
			ctx,
			`CREATE TRIGGER IF NOT EXISTS audit_keeps_words BEFORE UPDATE ON audit BEGIN SELECT
				RAISE(ABORT, 'the audit log only grows'); END`,
		)
		return err
	})
}

// chainOld chains the lines of a log of the first release, which has no chain at all. It is called
// for the data of an older release alone.
func (s *Store) chainOld(ctx context.Context) error {
	return s.Write(ctx, func(tx *Tx) error {
		var chained int
		if err := tx.q.QueryRowContext(ctx, `SELECT COUNT(chain) FROM audit`).
			Scan(&chained); err != nil ||
			chained > 0 {
			return err
		}
		var before []byte
		links := map[int64][]byte{}
		if err := each(ctx, tx, func(scan scanner) error {
			d, _, err := scanEntry(scan)
			before = s.link(before, d)
			links[d.Seq] = before
			return err
		}, entryColumns+`ORDER BY seq`); err != nil {
			return err
		}
		for seq, chain := range links {
			if _, err := tx.q.ExecContext(
				ctx,
				`UPDATE audit SET chain = ? WHERE seq = ?`,
				chain,
				seq,
			); err != nil {
				return fmt.Errorf("database: %w", err)
			}
		}
		return nil
	})
}

// AuditEntries lists the audit log.
var AuditEntries = &Table[api.AuditEntry, api.AuditEntry]{
	Noun: "line", name: "audit",
	list: listing[api.AuditEntry]{
		id:   "a.seq",
		from: "audit a",
		cols: "a.seq, a.at, a.operator, a.action, a.noun, a.object, a.detail, a.chain",
		scan: func(scan scanner) (api.AuditEntry, error) {
			d, _, err := scanEntry(scan)
			return d, err
		},
		search: []string{"a.operator", "a.action", "a.noun", "a.object", "a.detail"},
		first:  "at",
		sorts:  map[string]string{"at": "a.seq DESC"}, // newest first
		filters: map[string]string{
			"operator": "a.operator = ?",
			"action":   "a.action = ?",
			"noun":     "a.noun = ?",
			"object":   "a.object = ?",
			"since":    "a.at >= ?time",
			"before":   "a.at < ?time",
			"days":     "a.at >= (unixepoch() - 86400 * ?days) * 1000",
		},
	},
}

// EntriesAfter are the entries of the audit log after one, in their order.
func (tx *Tx) EntriesAfter(ctx context.Context, seq int64, limit int) ([]api.AuditEntry, error) {
	return collect(ctx, tx, func(scan scanner) (api.AuditEntry, error) {
		d, _, err := scanEntry(scan)
		return d, err
	}, entryColumns+`WHERE seq > ? ORDER BY seq LIMIT ?`, seq, limit)
}
