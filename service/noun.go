package service

import (
	"context"
	"reflect"

	"wardicon/api"
	"wardicon/store"
)

// Noun is what the records of every noun can do, whatever their type is. A record is a pointer to
// its type.
type Noun interface {
	Noun() string
	// Role is who may change its records.
	Role() string
	// Types are those of a record, of a record as lists show it, and of a page of those.
	Types() (record, row, page reflect.Type)
	// Blank is a record of which nothing is set.
	Blank() any
	Page(ctx context.Context, q store.Query) (any, error)
	Show(ctx context.Context, id string) (any, error)
	// Find lists the first records that a text is found in, by what they are called.
	Find(ctx context.Context, text string, most int) ([]api.FoundRecord, error)
	// Create keeps a new record, and Edit changes one; see Add and Change of Records.
	Create(ctx context.Context, r any) (id string, row any, err error)
	Edit(
		ctx context.Context,
		id string,
		version int,
		edit func(old any) (any, error),
		keep func(field string) bool,
	) (row any, now int, err error)
	Remove(ctx context.Context, id string) error
}

// Role is who may change records of the noun.
func (u *Records[R, Row, P]) Role() string {
	if u.owners {
		return RoleOwner
	}
	return RoleIssuer
}

// Types are those of a record, of a row of a list, and of a page of those.
func (u *Records[R, Row, P]) Types() (record, row, page reflect.Type) {
	return reflect.TypeFor[R](), reflect.TypeFor[Row](), reflect.TypeFor[api.Page[Row]]()
}

// Blank is a record of which nothing is set.
func (u *Records[R, Row, P]) Blank() any {
	r := P(new(R))
	r.Normalise()
	return r
}

// Page is List.
func (u *Records[R, Row, P]) Page(ctx context.Context, q store.Query) (any, error) {
	return u.List(ctx, q)
}

// Show is Get.
func (u *Records[R, Row, P]) Show(ctx context.Context, id string) (any, error) {
	return u.Get(ctx, id)
}

// Find lists the first records that a text is found in.
func (u *Records[R, Row, P]) Find(
	ctx context.Context,
	text string,
	most int,
) ([]api.FoundRecord, error) {
	page, err := u.List(ctx, store.Query{Search: text, Limit: most})
	if err != nil {
		return nil, err
	}
	list := make([]api.FoundRecord, len(page.Items))
	for i, row := range page.Items {
		list[i] = api.FoundRecord{Noun: u.table.Noun, Name: u.name(row)}
		if record, ok := any(row).(interface{ RecordID() string }); ok {
			list[i].ID = record.RecordID()
		}
	}
	return list, nil
}

// Create is Add, and tells the identifier.
func (u *Records[R, Row, P]) Create(
	ctx context.Context,
	r any,
) (id string, row any, err error) {
	row, err = u.Add(ctx, r.(P))
	return u.meta(r.(P)).ID, row, err
}

// Edit is Change, and tells the version that the record has now; 0 where it is not changed.
func (u *Records[R, Row, P]) Edit(
	ctx context.Context,
	id string,
	version int,
	edit func(old any) (any, error),
	keep func(field string) bool,
) (row any, now int, err error) {
	var changed P
	row, err = u.Change(ctx, id, version, func(old P) (P, error) {
		r, err := edit(old)
		if err != nil {
			return nil, err
		}
		changed = r.(P)
		return changed, nil
	}, keep)
	if changed != nil {
		now = u.meta(changed).Version
	}
	return row, now, err
}
