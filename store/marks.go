package store

import (
	"context"
	"fmt"
	"strings"
)

// Sharer is a record that has a secret of the same value as another one.
type Sharer struct {
	Noun, ID, Field string
}

// Sharers lists the other records that have the same secret as a field of one record. The
// secrets stay sealed: keyed digests are compared.
func (tx *Tx) Sharers(ctx context.Context, noun, id, field string, limit int) ([]Sharer, error) {
	return collect(ctx, tx, func(scan scanner) (s Sharer, err error) {
		var owner string
		err = scan(&owner, &s.Field)
		s.Noun, s.ID, _ = strings.Cut(owner, ":")
		return s, err
	}, `SELECT b.owner, b.field FROM secrets a JOIN secrets b ON b.mark = a.mark AND b.owner <>
			a.owner WHERE a.owner = ? AND a.field = ? AND a.mark IS NOT NULL ORDER BY b.owner LIMIT
			?`,
		noun+":"+id,
		field,
		limit)
}

// marks are those of one record's secrets.
func (tx *Tx) marks(ctx context.Context, owner string) ([]string, error) {
	return tx.names(
		ctx,
		`SELECT hex(mark) FROM secrets WHERE owner = ? AND mark IS NOT NULL`,
		owner,
	)
}

// touchSharers marks a few of the profiles that depend on records with secrets of the given marks
// as due for a check: a finding names the first few, and where there are more it stays true for the
// others.
func (tx *Tx) touchSharers(ctx context.Context, owner string, marks []string) error {
	for _, mark := range marks {
		owners, err := tx.names(
			ctx,
			`SELECT owner FROM secrets WHERE mark = unhex(?) AND owner <> ? ORDER BY owner LIMIT
				25`,
			mark,
			owner,
		)
		if err != nil {
			return err
		}
		for _, other := range owners {
			noun, id, _ := strings.Cut(other, ":")
			condition := map[string]string{
				"gateway": "gateway_id = ?",
				"device":  "device_id = ?",
				"account": "device_id IN (SELECT d.id FROM devices d JOIN accounts a ON " +
					"a.person_id = d.person_id WHERE a.id = ?)",
			}[noun]
			if condition == "" {
				continue
			}
			if err := tx.TouchProfiles(ctx, condition, id); err != nil {
				return err
			}
		}
	}
	return nil
}

// once does what data of an older release lacks, a single time.
func (s *Store) once(ctx context.Context, name string, do func(tx *Tx) error) error {
	if done, err := s.Read().Remembered(ctx, name); err != nil || done != "" {
		return err
	}
	return s.Write(ctx, func(tx *Tx) error {
		if err := do(tx); err != nil {
			return err
		}
		return tx.Remember(ctx, name, "done")
	})
}

// markAll marks secrets that were sealed before there were marks. One that does not open gets none.
func (s *Store) markAll(ctx context.Context) error {
	return s.once(ctx, "marks", func(tx *Tx) error {
		type one struct {
			owner, field string
			mark         []byte
		}
		list, err := collect(ctx, tx, func(scan scanner) (o one, err error) {
			var sealed []byte
			if err = scan(&o.owner, &o.field, &sealed); err != nil {
				return o, err
			}
			if plain, err := s.seal.open(o.owner, o.field, sealed); err == nil {
				o.mark = s.seal.mark(o.owner, plain)
			}
			return o, nil
		}, `SELECT owner, field, sealed FROM secrets WHERE mark IS NULL AND (owner GLOB 'account:*'
			OR owner GLOB 'gateway:*' OR owner GLOB 'device:*')`)
		if err != nil {
			return err
		}
		for _, o := range list {
			if o.mark == nil {
				continue
			}
			if _, err := tx.q.ExecContext(
				ctx,
				`UPDATE secrets SET mark = ? WHERE owner = ? AND field = ?`,
				o.mark,
				o.owner,
				o.field,
			); err != nil {
				return fmt.Errorf("database: %w", err)
			}
		}
		return nil
	})
}

// AlikeLogins lists logins at a gateway that differ from one in capitals only.
func (tx *Tx) AlikeLogins(ctx context.Context, login, gatewayID string) ([]string, error) {
	return tx.names(
		ctx,
		`SELECT DISTINCT a.login FROM accounts a WHERE lower(a.login) = lower(?) AND a.login <> ?
			AND
		(NOT EXISTS (SELECT 1 FROM account_gateways x WHERE x.account_id = a.id) OR EXISTS (SELECT 1
		FROM account_gateways x WHERE x.account_id = a.id AND x.gateway_id = ?)) LIMIT 5`,
		login,
		login,
		gatewayID,
	)
}

// Title is the name of a record for a reader: of an account its login and person.
func (tx *Tx) Title(ctx context.Context, noun, id string) (title, personID string, err error) {
	switch noun {
	case "gateway":
		err = tx.q.QueryRowContext(ctx, `SELECT name, '' FROM gateways WHERE id = ?`, id).
			Scan(&title, &personID)
	case "device":
		err = tx.q.QueryRowContext(ctx, `SELECT name, person_id FROM devices WHERE id = ?`, id).
			Scan(&title, &personID)
	case "account":
		err = tx.q.QueryRowContext(ctx,
			`SELECT p.name || ' (' || a.login || ')', a.person_id FROM accounts a JOIN people p ON
				p.id = a.person_id WHERE a.id = ?`, id).
			Scan(&title, &personID)
	}
	return title, personID, err
}
