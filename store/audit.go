package store

import (
	"context"
	"crypto/hmac"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"

	"wardicon/core/view"
)

// Log adds a line to the audit log, in the same transaction as the deed itself, chained to the line
// before it.
func (tx *Tx) Log(ctx context.Context, d view.Deed) error {
	var before []byte
	if err := tx.q.QueryRowContext(ctx, `SELECT chain FROM audit ORDER BY seq DESC LIMIT 1`).Scan(&before); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("database: %w", err)
	}
	d.At = fromMillis(millis(tx.s.now()))
	_, err := tx.q.ExecContext(ctx, `INSERT INTO audit (at, operator, action, noun, object, detail, chain) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		millis(d.At), d.Operator, d.Action, d.Noun, d.Object, d.Detail, tx.s.link(before, d))
	return err
}

// link is the keyed digest of a line and of the one before it: nobody without the master key can write
// another one that fits.
func (s *Store) link(before []byte, d view.Deed) []byte {
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

const deedColumns = `SELECT seq, at, operator, action, noun, object, detail, chain FROM audit `

func scanDeed(scan func(...any) error) (d view.Deed, chain []byte, err error) {
	var at int64
	err = scan(&d.Seq, &at, &d.Operator, &d.Action, &d.Noun, &d.Object, &d.Detail, &chain)
	d.At = fromMillis(at)
	return d, chain, err
}

// VerifyAudit walks the audit log and holds that each line is as it was written and follows the one before
// it. head is a digest that was noted before; an empty one is not looked for.
func (tx *Tx) VerifyAudit(ctx context.Context, head string) (p view.AuditProof, err error) {
	p.Sound, p.Held = true, head == ""
	rows, err := tx.q.QueryContext(ctx, deedColumns+`ORDER BY seq`)
	if err != nil {
		return p, fmt.Errorf("database: %w", err)
	}
	defer func() { _ = rows.Close() }()
	var before []byte
	for rows.Next() {
		d, chain, err := scanDeed(rows.Scan)
		if err != nil {
			return p, err
		}
		p.Lines++
		if p.Sound && !hmac.Equal(chain, tx.s.link(before, d)) {
			p.Sound, p.First = false, d.Seq
		}
		before = chain
		p.Head = hex.EncodeToString(chain)
		p.Held = p.Held || p.Head == head
	}
	return p, rows.Err()
}

// chainAudit chains the lines of a log that has no chain at all yet, and has the words of the log kept
// from then on. A log with a chain is left as it is, whatever became of it: VerifyAudit tells.
func (s *Store) chainAudit(ctx context.Context) error {
	const keep = `CREATE TRIGGER IF NOT EXISTS audit_keeps_words BEFORE UPDATE ON audit BEGIN SELECT RAISE(ABORT, 'the audit log only grows'); END`
	return s.Write(ctx, func(tx *Tx) error {
		var chained int
		if err := tx.q.QueryRowContext(ctx, `SELECT COUNT(chain) FROM audit`).Scan(&chained); err != nil {
			return err
		}
		if chained > 0 {
			_, err := tx.q.ExecContext(ctx, keep)
			return err
		}
		rows, err := tx.q.QueryContext(ctx, deedColumns+`ORDER BY seq`)
		if err != nil {
			return fmt.Errorf("database: %w", err)
		}
		var before []byte
		links := map[int64][]byte{}
		for rows.Next() {
			d, _, err := scanDeed(rows.Scan)
			if err != nil {
				return errors.Join(err, rows.Close())
			}
			before = s.link(before, d)
			links[d.Seq] = before
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return err
		}
		for seq, chain := range links {
			if _, err := tx.q.ExecContext(ctx, `UPDATE audit SET chain = ? WHERE seq = ?`, chain, seq); err != nil {
				return fmt.Errorf("database: %w", err)
			}
		}
		_, err = tx.q.ExecContext(ctx, keep)
		return err
	})
}

// Audit lists the audit log, newest first.
func (tx *Tx) Audit(ctx context.Context, q Query) (page view.Page[view.Deed], err error) {
	page.Items = []view.Deed{}
	pattern := holds(q.Search)
	const where = `WHERE operator || char(10) || action || char(10) || noun || char(10) || object || char(10) || detail LIKE ?1 ESCAPE '\'`
	if err = tx.q.QueryRowContext(ctx, `SELECT COUNT(*) FROM audit `+where, pattern).Scan(&page.Total); err != nil {
		return page, err
	}
	rows, err := tx.q.QueryContext(ctx, deedColumns+where+` ORDER BY seq DESC LIMIT ?2 OFFSET ?3`, pattern, q.Limit, q.Offset)
	if err != nil {
		return page, fmt.Errorf("database: %w", err)
	}
	for rows.Next() {
		d, _, err := scanDeed(rows.Scan)
		if err != nil {
			return page, errors.Join(err, rows.Close())
		}
		page.Items = append(page.Items, d)
	}
	return page, errors.Join(rows.Err(), rows.Close())
}
