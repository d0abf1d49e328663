package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/inventory"
	"wardicon/core/vpn"
	"wardicon/store"
)

// InventoryLimit is how many records one inventory may hold: it is one transaction, and others
// wait for it.
const InventoryLimit = 50_000

// Load says how an inventory becomes what is on record.
type Load struct {
	Dry bool // nothing is stored
	// Remove takes away records that the inventory does not have, of the nouns that it has; at
	// most so many.
	Remove bool
	AtMost int
	// Read makes a record of its JSON, held to its schema; base is what it starts from.
	Read func(noun string, base any, fields []byte) (any, error)
}

// stored is a record as an inventory sees it.
type stored struct {
	id      string
	fields  map[string]any // without secrets, with identifiers
	secrets []string       // places of those that are stored
}

// inventoried is what an inventory needs of every noun; Records have it.
type inventoried interface {
	Blank() any
	everything(ctx context.Context, tx *store.Tx) ([]stored, error)
	put(ctx context.Context, tx *store.Tx, id string, r any, w written) (putDone, error)
	remove(ctx context.Context, tx *store.Tx, id string) error
}

// written is what an inventory says of the secrets of a record.
type written struct {
	kept []string                // are to stay
	said func(place string) bool // has something to say of
}

type putDone struct {
	was, is stored
	secrets []inventory.FieldChange
	same    bool
}

func (s *Service) inventoried() map[string]inventoried {
	list := map[string]inventoried{}
	for _, n := range s.Nouns.All() {
		list[n.Noun()] = n.(inventoried)
	}
	return list
}

func (u *Records[R, Row, P]) everything(ctx context.Context, tx *store.Tx) ([]stored, error) {
	list, err := u.table.Where(ctx, tx, "1 = 1")
	if err != nil {
		return nil, err
	}
	all := make([]stored, len(list))
	for i := range list {
		if all[i], err = u.stored(&list[i]); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// stored is a record without its secrets, in the one form in which records are compared.
func (u *Records[R, Row, P]) stored(r P) (stored, error) {
	own := P(new(R))
	*own = *r
	own.Normalise()
	one := stored{id: u.meta(own).ID, secrets: u.table.SecretPlaces(own)}
	u.hide(own)
	data, err := json.Marshal(own)
	if err == nil {
		err = json.Unmarshal(data, &one.fields)
	}
	api.Settable(reflect.TypeFor[R](), one.fields)
	return one, err
}

// put adds a record, or changes the one with an identifier where it differs.
func (u *Records[R, Row, P]) put(
	ctx context.Context,
	tx *store.Tx,
	id string,
	record any,
	w written,
) (done putDone, err error) {
	r := record.(P)
	var old P
	if id != "" {
		current, err := u.get(ctx, tx, id)
		if err != nil {
			return done, err
		}
		if old = current; len(u.meta(old).Damaged) == 0 {
			if done.was, err = u.stored(old); err != nil {
				return done, err
			}
		}
		u.table.CarrySecrets(old, r, func(place string) bool { return !w.said(place) })
	}
	if err := u.keepable(done.was.secrets, w.kept); err != nil {
		return done, err
	}
	if old == nil {
		if _, err = u.add(ctx, tx, r); err == nil {
			done.is, err = u.stored(r)
		}
		done.secrets = u.table.SecretChanges(P(new(R)), r)
		return done, err
	}
	*u.meta(r) = *u.meta(old)
	if done.is, err = u.stored(r); err != nil {
		return done, err
	}
	done.secrets = u.table.SecretChanges(old, r)
	done.same = len(done.secrets) == 0 && reflect.DeepEqual(done.was.fields, done.is.fields)
	if done.same {
		return done, nil
	}
	_, err = u.change(ctx, tx, id, 0, func(P) (P, error) { return r, nil },
		func(place string) bool { return !w.said(place) })
	return done, err
}

// keepable refuses to keep secrets that are not there.
func (u *Records[R, Row, P]) keepable(there, kept []string) error {
	wrong := &vpn.Problems{Object: u.table.Noun}
	for _, place := range kept {
		if !slices.Contains(there, place) {
			wrong.List = append(wrong.List, vpn.Problem{
				Pointer: "/" + place, Found: "keep, and nothing is stored to be kept",
				Expected: "a secret", Fix: "name its file: {file: NAME}",
			})
		}
	}
	if len(wrong.List) > 0 {
		return wrong
	}
	return nil
}

// Inventory is everything on record of some nouns, all where none is named, without secrets.
func (s *Service) Inventory(ctx context.Context, plurals []string) (api.Inventory, error) {
	inv := api.Inventory{}
	err := s.store.Snapshot(ctx, func(tx *store.Tx) error {
		x, err := s.newIndex(ctx, tx)
		if err != nil {
			return err
		}
		for _, noun := range api.Filed() {
			if len(plurals) > 0 && !slices.Contains(plurals, noun.Plural) {
				continue
			}
			list := []map[string]any{}
			for _, one := range x.records[noun.Name] {
				list = append(list, x.portable(noun, one))
			}
			slices.SortFunc(list, func(a, b map[string]any) int {
				return strings.Compare(x.title(noun.Name, a), x.title(noun.Name, b))
			})
			inv[noun.Plural] = list
		}
		return nil
	})
	return inv, err
}

// LoadInventory makes records what an inventory says, in one transaction, and tells how they
// differed. Fields that it leaves out go back to what they are when nobody has set them; secrets
// that it leaves out stay.
func (s *Service) LoadInventory(
	ctx context.Context,
	inv api.Inventory,
	how Load,
) (out api.InventoryOutcome, err error) {
	if err := knownNouns(inv); err != nil {
		return out, err
	}
	// What is as it was is seen without anybody waiting for it.
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		out, err = s.loadWithin(ctx, tx, inv, how, true)
		return err
	})
	if !errors.Is(err, errDiffers) {
		return out, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if out, err = s.loadWithin(ctx, tx, inv, how, false); err != nil {
			return err
		}
		if how.Dry || len(out.Changes) == 0 {
			return errShown
		}
		out.Kept = true
		return audit(
			ctx,
			tx,
			"load",
			"inventory",
			"",
			fmt.Sprintf("%d added, %d changed, %d removed",
				out.Count(api.InventoryAdd), out.Count(api.InventoryChange),
				out.Count(api.InventoryRemove)),
		)
	})
	if errors.Is(err, errShown) {
		err = nil
	}
	s.checkSoon()
	return out, err
}

// errDiffers says that an inventory is not what is on record.
var errDiffers = errors.New("the inventory differs")

func (s *Service) loadWithin(
	ctx context.Context,
	tx *store.Tx,
	inv api.Inventory,
	how Load,
	look bool,
) (api.InventoryOutcome, error) {
	x, err := s.newIndex(ctx, tx)
	if err != nil {
		return api.InventoryOutcome{}, err
	}
	l := &loading{s: s, ctx: ctx, tx: tx, how: how, x: x, look: look, seen: map[string]string{}}
	l.out.Changes = []api.RecordChange{}
	err = l.all(inv)
	return l.out, err
}

func knownNouns(inv api.Inventory) error {
	count := 0
	for plural, list := range inv {
		count += len(list)
		if names := api.Plurals(); !slices.Contains(names, plural) {
			return &vpn.Problems{Object: "inventory", List: []vpn.Problem{{
				Pointer: "/" + plural, Found: "a kind of record that is not known",
				Expected: strings.Join(names, ", "), Fix: "check the spelling",
			}}}
		}
	}
	if count > InventoryLimit {
		return &vpn.Problems{Object: "inventory", List: []vpn.Problem{{
			Found:    fmt.Sprintf("%d records", count),
			Expected: fmt.Sprintf("at most %d", InventoryLimit),
			Fix:      "load it in parts, or import people and devices as a table",
		}}}
	}
	return nil
}
