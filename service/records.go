package service

import (
	"context"
	"errors"
	"fmt"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Record is what every noun can do.
type Record[T any] interface {
	*T
	Validate() error
	Normalise()
}

// Records are the use cases that all nouns share. R is the noun, Row its form in
// lists, P the pointer to the noun.
type Records[R, Row any, P Record[R]] struct {
	s     *Service
	table *store.Table[R, Row]
	meta  func(P) *vpn.Meta
	name  func(Row) string // for the audit log
	// takes secrets out before a record leaves
	hide   func(P)
	refers func(ctx context.Context, tx *store.Tx, r P) error // references that the record makes
	used   func(ctx context.Context, tx *store.Tx, r P) error // references to the record
	touch  func(ctx context.Context, tx *store.Tx, r P) error // profiles that depend on it
	// the field that no two records may have alike
	unique string
	owners bool                                               // only they may change it
	before func(ctx context.Context, tx *store.Tx, r P) error // last entries before it is removed
}

// Noun is the name of the noun.
func (u *Records[R, Row, P]) Noun() string { return u.table.Noun }

// List reads a page.
func (u *Records[R, Row, P]) List(ctx context.Context, q store.Query) (api.Page[Row], error) {
	return u.table.List(ctx, u.s.store.Read(), q)
}

// Get reads one record as lists show it, without its secrets.
func (u *Records[R, Row, P]) Get(ctx context.Context, id string) (Row, error) {
	return u.table.Row(ctx, u.s.store.Read(), id)
}

// Add keeps a new record.
func (u *Records[R, Row, P]) Add(ctx context.Context, r P) (row Row, err error) {
	err = u.s.store.Write(ctx, func(tx *store.Tx) error {
		row, err = u.add(ctx, tx, r)
		return err
	})
	u.s.checkSoon()
	return row, err
}

// add keeps a new record within a transaction.
func (u *Records[R, Row, P]) add(ctx context.Context, tx *store.Tx, r P) (row Row, err error) {
	if err := u.fit(ctx, tx, r); err != nil {
		return row, err
	}
	if err := u.s.permits(ctx, tx, (*R)(r)); err != nil {
		return row, err
	}
	if err := u.table.Insert(ctx, tx, r); err != nil {
		return row, u.taken(err)
	}
	if row, err = u.table.Row(ctx, tx, u.meta(r).ID); err != nil {
		return row, err
	}
	return row, errors.Join(
		u.touch(ctx, tx, r),
		audit(ctx, tx, "add", u.table.Noun, u.meta(r).ID, u.name(row)),
	)
}

// Change replaces a record. edit gets the record as it is, without its secrets, and
// returns the new one; keep tells for each secret whether the old one stays. The
// version guards against changes by others; 0 takes any.
func (u *Records[R, Row, P]) Change(
	ctx context.Context,
	id string,
	version int,
	edit func(P) (P, error),
	keep func(field string) bool,
) (row Row, err error) {
	err = u.s.store.Write(ctx, func(tx *store.Tx) error {
		row, err = u.change(ctx, tx, id, version, edit, keep)
		return err
	})
	u.s.checkSoon()
	return row, err
}

// change replaces a record within a transaction.
func (u *Records[R, Row, P]) change(
	ctx context.Context,
	tx *store.Tx,
	id string,
	version int,
	edit func(P) (P, error),
	keep func(field string) bool,
) (row Row, err error) {
	old, err := u.get(ctx, tx, id)
	if err != nil {
		return row, err
	}
	if err := u.s.permits(ctx, tx, old); err != nil {
		return row, err
	}
	P(old).Normalise()
	stamp := *u.meta(old)
	if version != 0 && version != stamp.Version {
		return row, &store.ConflictError{
			Noun:  u.table.Noun,
			ID:    id,
			Found: stamp.Version,
			Want:  version,
		}
	}
	shown := *old
	u.hide(&shown)
	changed, err := edit(&shown)
	if err != nil {
		return row, err
	}
	*u.meta(changed) = stamp
	u.table.CarrySecrets(old, changed, keep)
	if err := u.fit(ctx, tx, changed); err != nil {
		return row, err
	}
	if err := u.s.permits(ctx, tx, (*R)(changed)); err != nil {
		return row, err
	}
	if err := u.touch(ctx, tx, old); err != nil {
		return row, err
	}
	if err := u.table.Update(ctx, tx, changed, stamp.Version); err != nil {
		return row, u.taken(err)
	}
	if row, err = u.table.Row(ctx, tx, id); err != nil {
		return row, err
	}
	return row, errors.Join(
		u.touch(ctx, tx, changed),
		audit(ctx, tx, "change", u.table.Noun, id, u.name(row)),
	)
}

// get reads a record to be changed or removed. One that cannot be read any more comes empty, so
// that another can take its place.
func (u *Records[R, Row, P]) get(ctx context.Context, tx *store.Tx, id string) (*R, error) {
	r, err := u.table.Get(ctx, tx, id)
	var damaged *store.DamagedError
	if !errors.As(err, &damaged) {
		return r, err
	}
	version, err := u.table.Version(ctx, tx, id)
	r = new(R)
	*u.meta(r) = vpn.Meta{ID: id, Version: version}
	return r, errors.Join(err, tx.TouchAll(ctx)) // whose it was is not known any more
}

// Remove removes a record that nothing refers to any more.
func (u *Records[R, Row, P]) Remove(ctx context.Context, id string) error {
	err := u.s.store.Write(ctx, func(tx *store.Tx) error { return u.remove(ctx, tx, id) })
	u.s.checkSoon()
	return err
}

// remove removes a record within a transaction.
func (u *Records[R, Row, P]) remove(ctx context.Context, tx *store.Tx, id string) error {
	r, err := u.get(ctx, tx, id)
	if err != nil {
		return err
	}
	if err := u.s.permits(ctx, tx, r); err != nil {
		return err
	}
	row, err := u.table.Row(ctx, tx, id)
	if err != nil {
		return err
	}
	for _, step := range []func(context.Context, *store.Tx, P) error{u.used, u.touch, u.before} {
		if err := step(ctx, tx, r); err != nil {
			return err
		}
	}
	if err := u.table.Delete(ctx, tx, id); err != nil {
		return err
	}
	return audit(ctx, tx, "remove", u.table.Noun, id, u.name(row))
}

// fit refuses a record that is not valid or refers to what is not there.
func (u *Records[R, Row, P]) fit(ctx context.Context, tx *store.Tx, r P) error {
	r.Normalise()
	if err := r.Validate(); err != nil {
		return err
	}
	return u.refers(ctx, tx, r)
}

// taken points to the field whose value another record has already.
func (u *Records[R, Row, P]) taken(err error) error {
	var t *store.TakenError
	if !errors.As(err, &t) {
		return err
	}
	return &vpn.Problems{
		Object: u.table.Noun,
		List: []vpn.Problem{
			{
				Pointer:  u.unique,
				Found:    "a value that another " + u.table.Noun + " has already",
				Expected: "one that is not in use",
				Fix:      "choose another, or change the " + u.table.Noun + " that is there",
			},
		},
	}
}

// missing is the problem of a reference to what is not there.
func missing(object, pointer, noun, id string) error {
	return &vpn.Problems{
		Object: object,
		List: []vpn.Problem{
			{
				Pointer:  pointer,
				Found:    fmt.Sprintf("%q", id),
				Expected: "the identifier of a " + noun + " that is there",
				Fix:      "look the identifier up in the list",
			},
		},
	}
}

// reference refuses an identifier that leads nowhere.
func reference[T, Row any](
	ctx context.Context,
	tx *store.Tx,
	table *store.Table[T, Row],
	object, pointer, id string,
) error {
	err := table.Known(ctx, tx, id)
	var none *store.NotFoundError
	if errors.As(err, &none) {
		return missing(object, pointer, table.Noun, id)
	}
	return err
}

func nothing[P any](context.Context, *store.Tx, P) error { return nil }

// unused refuses while rows of a table refer to a record.
func unused(ctx context.Context, tx *store.Tx, noun, name, id string, refs ...[3]string) error {
	for _, ref := range refs {
		n, err := tx.References(ctx, ref[0], ref[1], id)
		if err != nil {
			return err
		}
		if n > 0 {
			return &InUseError{Noun: noun, Name: name, By: ref[2], Count: n}
		}
	}
	return nil
}
