package store

import (
	"cmp"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wardicon/core/inventory"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Table keeps records of one noun. The record itself is a JSON document; columns
// repeat what is searched, sorted or referred to. Row is a record as lists show it.
type Table[T, Row any] struct {
	Noun   string
	name   string
	prefix string // of identifiers
	// what its secrets are kept under where that is not the noun: it cannot change without sealing
	// them again
	sealed  string
	meta    func(*T) *vpn.Meta
	columns []column[T]
	secrets func(*T) map[string]**secret.Text
	// moves secrets that are kept under another field now; may be nil
	carry func(from, to *T)
	after func(ctx context.Context, tx *Tx, record *T) error // keeps further tables in step
	list  listing[Row]
	// fills in what a record of an earlier release lacks; nil where it lacks nothing
	complete func(*T)
	shared   bool // many plans are made from one: a shelf keeps it
}

// nounTables are those of nouns, in whose rows stand JSON documents.
var nounTables []struct{ noun, table string }

// kept adds the table of a noun to them.
func kept[T, Row any](t *Table[T, Row]) *Table[T, Row] {
	nounTables = append(nounTables, struct{ noun, table string }{t.Noun, t.name})
	return t
}

type column[T any] struct {
	name string
	get  func(*T) any
}

var encoding = base32.NewEncoding(secret.Alphabet).WithPadding(base32.NoPadding)

func newID(prefix string) string {
	b := make([]byte, 10)
	_, _ = rand.Read(b)
	return prefix + "-" + encoding.EncodeToString(b)
}

// dayMillis is a day, in the unit of times in the database.
const dayMillis = 24 * 60 * 60 * 1000

func millis(t time.Time) int64 { return t.UnixMilli() }

func fromMillis(ms int64) time.Time { return time.UnixMilli(ms).UTC() }

func (t *Table[T, Row]) owner(id string) string { return cmp.Or(t.sealed, t.Noun) + ":" + id }

// sealedApart takes the secrets out of a record and returns its JSON without them.
func (t *Table[T, Row]) sealedApart(
	record *T,
) (body []byte, taken map[string]*secret.Text, err error) {
	taken = map[string]*secret.Text{}
	if t.secrets != nil {
		for field, at := range t.secrets(record) {
			taken[field] = *at
			*at = nil
			defer func() { *at = taken[field] }()
		}
	}
	body, err = json.Marshal(record)
	return body, taken, err
}

// Insert adds a record and gives it its identity.
func (t *Table[T, Row]) Insert(ctx context.Context, tx *Tx, record *T) error {
	stamp := t.meta(record)
	now := tx.s.now().UTC().Truncate(time.Millisecond)
	*stamp = vpn.Meta{ID: newID(t.prefix), Version: 1, Created: now, Changed: now}
	body, secrets, err := t.sealedApart(record)
	if err != nil {
		return err
	}
	names, marks, args := "id, version, created, changed, body", "?, ?, ?, ?, ?", []any{
		stamp.ID,
		1,
		millis(now),
		millis(now),
		string(body),
	}
	for _, c := range t.columns {
		names, marks, args = names+", "+c.name, marks+", ?", append(args, c.get(record))
	}
	if _, err := tx.q.ExecContext(
		ctx,
		"INSERT INTO "+t.name+" ("+names+") VALUES ("+marks+")",
		args...); err != nil {
		return constraint(t.Noun, err)
	}
	return t.finish(ctx, tx, record, secrets)
}

// Update replaces a record whose version is still the one given.
func (t *Table[T, Row]) Update(ctx context.Context, tx *Tx, record *T, version int) error {
	stamp := t.meta(record)
	current, err := t.Version(ctx, tx, stamp.ID)
	if err != nil {
		return err
	}
	if current != version {
		return &ConflictError{t.Noun, stamp.ID, current, version}
	}
	stamp.Version, stamp.Changed = version+1, tx.s.now().UTC().Truncate(time.Millisecond)
	body, secrets, err := t.sealedApart(record)
	if err != nil {
		return err
	}
	sets, args := "version = ?, changed = ?, body = ?", []any{
		stamp.Version,
		millis(stamp.Changed),
		string(body),
	}
	for _, c := range t.columns {
		sets, args = sets+", "+c.name+" = ?", append(args, c.get(record))
	}
	if _, err := tx.q.ExecContext(
		ctx,
		"UPDATE "+t.name+" SET "+sets+" WHERE id = ?",
		append(args, stamp.ID)...); err != nil {
		return constraint(t.Noun, err)
	}
	return t.finish(ctx, tx, record, secrets)
}

// Version reads which version a record has.
func (t *Table[T, Row]) Version(ctx context.Context, tx *Tx, id string) (int, error) {
	var version int
	err := tx.q.QueryRowContext(ctx, "SELECT version FROM "+t.name+" WHERE id = ?", id).
		Scan(&version)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, &NotFoundError{t.Noun, id}
	}
	return version, err
}

// Known refuses an identifier that no record has.
func (t *Table[T, Row]) Known(ctx context.Context, tx *Tx, id string) error {
	_, err := t.Version(ctx, tx, id)
	return err
}

// finish seals the secrets of a record and keeps further tables in step.
func (t *Table[T, Row]) finish(
	ctx context.Context,
	tx *Tx,
	record *T,
	secrets map[string]*secret.Text,
) error {
	owner := t.owner(t.meta(record).ID)
	before, err := tx.marks(ctx, owner)
	if err != nil {
		return err
	}
	left := t.meta(record).Damaged
	for field, value := range secrets {
		if value == nil && slices.Contains(left, field) {
			continue // nobody has said what takes its place
		}
		if value == nil || value.IsZero() {
			_, err = tx.q.ExecContext(
				ctx,
				`DELETE FROM secrets WHERE owner = ? AND field = ?`,
				owner,
				field,
			)
		} else {
			err = tx.putSecret(ctx, owner, field, []byte(value.Reveal()))
		}
		if err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	// A part of the record that holds a secret may be gone, and the secret goes with it.
	if t.secrets != nil {
		args, marks := []any{owner}, ""
		for field := range secrets {
			args, marks = append(args, field), marks+", ?"
		}
		if _, err := tx.q.ExecContext(
			ctx,
			`DELETE FROM secrets WHERE owner = ? AND field NOT IN (''`+marks+`)`,
			args...); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	after, err := tx.marks(ctx, owner)
	if err != nil {
		return err
	}
	if !slices.Equal(before, after) {
		if err := tx.touchSharers(ctx, owner, slices.Concat(before, after)); err != nil {
			return err
		}
	}
	if t.after != nil {
		return t.after(ctx, tx, record)
	}
	return nil
}

func (tx *Tx) putSecret(ctx context.Context, owner, field string, plain []byte) error {
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO secrets (owner, field, sealed, mark, changed) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET sealed = excluded.sealed, mark = excluded.mark, changed = iif(mark
		= excluded.mark, changed, excluded.changed)`,
		owner,
		field,
		tx.s.seal.seal(owner, field, plain),
		tx.s.seal.mark(owner, plain),
		millis(tx.s.now()),
	)
	return err
}

// SecretsChanged is when each secret of a record was last changed, by field.
func (t *Table[T, Row]) SecretsChanged(
	ctx context.Context,
	tx *Tx,
	id string,
) (map[string]time.Time, error) {
	times := map[string]time.Time{}
	err := each(ctx, tx, func(scan scanner) error {
		var field string
		var changed int64
		err := scan(&field, &changed)
		times[field] = fromMillis(changed)
		return err
	}, `SELECT field, changed FROM secrets WHERE owner = ? AND changed > 0`, t.owner(id))
	return times, err
}

// Delete removes a record with its secrets.
func (t *Table[T, Row]) Delete(ctx context.Context, tx *Tx, id string) error {
	res, err := tx.q.ExecContext(ctx, "DELETE FROM "+t.name+" WHERE id = ?", id)
	if err != nil {
		return fmt.Errorf("database: %s: %w", t.Noun, err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, &NotFoundError{t.Noun, id})
	}
	marks, err := tx.marks(ctx, t.owner(id))
	if err != nil {
		return err
	}
	if _, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM secrets WHERE owner = ?`,
		t.owner(id),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if _, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM former WHERE owner = ?`,
		t.owner(id),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return tx.touchSharers(ctx, t.owner(id), marks)
}

// Get reads one record, with its secrets open.
func (t *Table[T, Row]) Get(ctx context.Context, tx *Tx, id string) (*T, error) {
	if !t.shared {
		return t.get(ctx, tx, id)
	}
	record, err := shelved(tx, t.owner(id), func() (*T, error) { return t.get(ctx, tx, id) })
	if err != nil {
		return nil, err
	}
	own := *record
	return &own, nil
}

func (t *Table[T, Row]) get(ctx context.Context, tx *Tx, id string) (*T, error) {
	list, err := t.Where(ctx, tx, "id = ?", id)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, &NotFoundError{t.Noun, id}
	}
	return &list[0], nil
}

// Where reads the records that a condition of our own making fits, oldest first, with
// their secrets open.
func (t *Table[T, Row]) Where(
	ctx context.Context,
	tx *Tx,
	condition string,
	args ...any,
) ([]T, error) {
	var list []T
	var broken []string // records that cannot be read at all; the others go on without them
	err := each(ctx, tx, func(scan scanner) error {
		var record T
		var id, body string
		var version int
		var created, changed int64
		if err := scan(&id, &version, &created, &changed, &body); err != nil {
			return err
		}
		if json.Unmarshal([]byte(body), &record) != nil {
			broken = append(broken, id)
			return nil
		}
		if t.complete != nil {
			t.complete(&record)
		}
		*t.meta(&record) = vpn.Meta{
			ID:      id,
			Version: version,
			Created: fromMillis(created),
			Changed: fromMillis(changed),
		}
		list = append(list, record)
		return nil
	}, "SELECT id, version, created, changed, body FROM "+t.name+" WHERE "+condition+
		" ORDER BY created, id", args...)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if err := t.unseal(ctx, tx, &list[i]); err != nil {
			return nil, err
		}
	}
	if len(list) == 0 && len(broken) == 1 { // it was this one that was asked for
		return nil, &DamagedError{t.owner(broken[0]), wholeRecord}
	}
	return list, nil
}

func (t *Table[T, Row]) unseal(ctx context.Context, tx *Tx, record *T) error {
	if t.secrets == nil {
		return nil
	}
	owner := t.owner(t.meta(record).ID)
	for field, at := range t.secrets(record) {
		plain, err := tx.secret(ctx, owner, field)
		var damaged *DamagedError
		if errors.As(err, &damaged) {
			// It stays where it is, and the record can be read and changed without it.
			stamp := t.meta(record)
			stamp.Damaged = append(stamp.Damaged, field)
			continue
		}
		if err != nil {
			return err
		}
		if plain != nil {
			text := secret.New(string(plain))
			*at = &text
		}
	}
	return nil
}

// secret opens one secret; nil where there is none.
func (tx *Tx) secret(ctx context.Context, owner, field string) ([]byte, error) {
	var sealed []byte
	err := tx.q.QueryRowContext(ctx, `SELECT sealed FROM secrets WHERE owner = ? AND field = ?`,
		owner, field).
		Scan(&sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	return tx.s.seal.open(owner, field, sealed)
}

// Row reads one record as lists show it, without secrets.
func (t *Table[T, Row]) Row(ctx context.Context, tx *Tx, id string) (Row, error) {
	row, err := t.list.scan(
		tx.q.QueryRowContext(
			ctx,
			"SELECT "+t.list.cols+" FROM "+t.list.from+" "+t.list.joins+" WHERE "+t.list.id+" = ?",
			id,
		).Scan,
	)
	if errors.Is(err, sql.ErrNoRows) {
		err = &NotFoundError{t.Noun, id}
	}
	return row, err
}

// CarrySecrets moves secrets that are to be kept from an old form of a record to a
// new one, as far as the new one still has the part that they belong to.
func (t *Table[T, Row]) CarrySecrets(from, to *T, keep func(field string) bool) {
	if t.secrets == nil {
		return
	}
	old := t.secrets(from)
	for field, at := range t.secrets(to) {
		if before, ok := old[field]; ok && keep(field) {
			*at = *before
		}
	}
	if t.carry != nil {
		t.carry(from, to)
	}
	stamp := t.meta(to)
	stamp.Damaged = slices.DeleteFunc(
		slices.Clone(stamp.Damaged),
		func(field string) bool { return !keep(field) },
	)
}

// names reads rows of one text.
func (tx *Tx) names(ctx context.Context, query string, args ...any) ([]string, error) {
	return collect(ctx, tx, func(scan scanner) (v string, err error) {
		err = scan(&v)
		return v, err
	}, query, args...)
}

// counts reads rows of a text and a number.
func (tx *Tx) counts(ctx context.Context, query string, args ...any) (map[string]int, error) {
	all := map[string]int{}
	err := each(ctx, tx, func(scan scanner) error {
		var v string
		var n int
		err := scan(&v, &n)
		all[v] = n
		return err
	}, query, args...)
	return all, err
}

// SecretPlaces lists where a record has secrets, parts joined by slashes, in order.
func (t *Table[T, Row]) SecretPlaces(record *T) (places []string) {
	if t.secrets == nil {
		return nil
	}
	for place, at := range t.secrets(record) {
		if *at != nil && !(*at).IsZero() {
			places = append(places, place)
		}
	}
	slices.Sort(places)
	return places
}

// SecretChanges lists the secrets in which two forms of a record differ, without telling them.
func (t *Table[T, Row]) SecretChanges(from, to *T) (list []inventory.FieldChange) {
	there := func(record *T) map[string]*secret.Text {
		found := map[string]*secret.Text{}
		if t.secrets != nil {
			for place, at := range t.secrets(record) {
				if *at != nil && !(*at).IsZero() {
					found[place] = *at
				}
			}
		}
		return found
	}
	before, after := there(from), there(to)
	places := slices.AppendSeq(slices.Collect(maps.Keys(before)), maps.Keys(after))
	slices.Sort(places)
	for _, place := range slices.Compact(places) {
		one := inventory.FieldChange{Field: strings.ReplaceAll(place, "/", ".")}
		was, is := before[place], after[place]
		switch {
		case was == nil:
			one.To = "a new secret"
		case is == nil:
			one.From = "stored"
		case was.Reveal() == is.Reveal():
			continue
		default:
			one.From, one.To = "stored", "another secret"
		}
		list = append(list, one)
	}
	return list
}
