package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/inventory"
	"wardicon/core/vpn"
	"wardicon/store"
)

// maxLoadProblems is how many faults of an inventory are told at once.
const maxLoadProblems = 100

// nameIndex knows what every record is called.
type nameIndex struct {
	*inventory.Names
	records map[string][]stored // by noun
	fields  map[string]map[string]any
	secrets map[string][]string // places of those that are stored
}

// has tells whether secrets of a record are stored.
func (x *nameIndex) has(id string, places []string) bool {
	return !slices.ContainsFunc(places, func(place string) bool {
		return !slices.Contains(x.secrets[id], place)
	})
}

func (s *Service) newIndex(ctx context.Context, tx *store.Tx) (*nameIndex, error) {
	x := &nameIndex{
		Names: inventory.NewNames(), records: map[string][]stored{},
		fields: map[string]map[string]any{}, secrets: map[string][]string{},
	}
	authorities, err := store.Authorities.Where(ctx, tx, "1") // named by devices, and in no file
	if err != nil {
		return nil, err
	}
	for _, a := range authorities {
		x.Set("authority", a.ID, a.Name)
	}
	tables := s.inventoried()
	for _, noun := range api.Filed() {
		list, err := tables[noun.Name].everything(ctx, tx)
		if err != nil {
			return nil, err
		}
		x.records[noun.Name] = list
		for _, one := range list {
			x.know(noun.Name, one)
		}
	}
	return x, nil
}

func text(fields map[string]any, key string) string {
	value, _ := fields[key].(string)
	return value
}

// know notes what a record is called, the shortest name first.
func (x *nameIndex) know(noun string, one stored) {
	x.fields[one.id], x.secrets[one.id] = one.fields, one.secrets
	switch noun {
	case "person":
		name, mail := text(one.fields, "name"), text(one.fields, "mail")
		full := ""
		if mail != "" {
			full = fullName(name, mail)
		}
		x.Set(noun, one.id, name, full, mail)
	case "account":
		login := text(one.fields, "login")
		if realm := text(one.fields, "realm"); realm != "" {
			login += "@" + realm
		}
		owner := ""
		if names := x.All(text(one.fields, "person_id")); len(names) > 0 {
			owner = login + " of " + names[0]
		}
		x.Set(noun, one.id, text(one.fields, "login"), login, owner)
	case "profile":
		x.Set(noun, one.id, x.profileName(one.fields))
	default:
		x.Set(noun, one.id, text(one.fields, "name"))
	}
}

func (x *nameIndex) profileName(fields map[string]any) string {
	return x.Of("device", text(fields, "device_id")) + " to " +
		x.Of("gateway", text(fields, "gateway_id"))
}

// portable is a record for a file: with names, and its secrets as {"keep": true}.
func (x *nameIndex) portable(noun inventory.Noun, one stored) map[string]any {
	fields := clone(one.fields).(map[string]any)
	noun.Translate(fields, func(noun, _, id string) string { return x.Of(noun, id) })
	for _, place := range one.secrets {
		inventory.Put(fields, strings.ReplaceAll(place, "/", "."), map[string]any{"keep": true})
	}
	if noun.Name == "person" && x.Of("person", one.id) == one.id {
		fields["id"] = one.id // nothing else tells it from another
	}
	return fields
}

// title is what a declared record is called.
func (x *nameIndex) title(noun string, fields map[string]any) string {
	switch noun {
	case "account":
		return text(fields, "login") + " of " + text(fields, "person_id")
	case "profile":
		return text(fields, "device_id") + " to " + text(fields, "gateway_id")
	}
	return text(fields, "name")
}

func clone(v any) any {
	switch v := v.(type) {
	case map[string]any:
		own := make(map[string]any, len(v))
		for key, value := range v {
			own[key] = clone(value)
		}
		return own
	case []any:
		own := make([]any, len(v))
		for i := range v {
			own[i] = clone(v[i])
		}
		return own
	}
	return v
}

// loading is one inventory on its way into the records.
type loading struct {
	s     *Service
	ctx   context.Context
	tx    *store.Tx
	how   Load
	look  bool // nothing may be written: the first difference ends it
	x     *nameIndex
	out   api.InventoryOutcome
	seen  map[string]string // identifiers that the inventory has, and where
	wrong vpn.Problems

	declared map[string]bool // full names of people in the inventory
}

func (l *loading) all(inv api.Inventory) error {
	l.wrong.Object = "inventory"
	l.declared = map[string]bool{}
	for _, p := range inv["people"] {
		if mail := text(p, "mail"); mail != "" {
			l.declared[strings.ToLower(fullName(text(p, "name"), mail))] = true
		}
	}
	later := map[string]any{} // by identifier: references to what comes after
	at, nouns := map[string]string{}, map[string]inventory.Noun{}
	for _, noun := range api.Filed() {
		for i, fields := range inv[noun.Plural] {
			pointer := fmt.Sprintf("/%s/%d", noun.Plural, i)
			fields = clone(fields).(map[string]any)
			waits := l.setAside(noun, fields)
			id, err := l.one(noun, pointer, fields)
			if err != nil {
				return err
			}
			if id != "" && waits != nil {
				later[id], at[id], nouns[id] = waits, pointer, noun
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(later)) {
		if err := l.settle(nouns[id], id, at[id], later[id]); err != nil {
			return err
		}
	}
	if len(l.wrong.List) > 0 && l.look {
		return errDiffers // a name may be that of a record to come
	}
	if len(l.wrong.List) > 0 {
		return &l.wrong
	}
	return l.missing(inv)
}

// setAside takes the reference out that can be set only once all records are there. One that is
// there already stays as it is until then.
func (l *loading) setAside(noun inventory.Noun, fields map[string]any) any {
	if noun.Later == "" {
		return nil
	}
	value := inventory.Take(fields, noun.Later)
	if name, ok := value.(string); ok && name != "" {
		if found := l.x.Find(noun.Refers[noun.Later], name); len(found) == 1 {
			inventory.Put(fields, noun.Later, name)
			return nil
		}
	}
	return value
}

// settle sets a reference that was set aside.
func (l *loading) settle(noun inventory.Noun, id, pointer string, value any) error {
	path := noun.Later
	name, _ := value.(string)
	found := l.x.Find(noun.Refers[path], name)
	if len(found) != 1 {
		l.reference(pointer, path, noun.Refers[path], name, found)
		return nil
	}
	fields := clone(l.x.fields[id]).(map[string]any)
	inventory.Put(fields, path, found[0])
	_, err := l.put(noun, pointer, id, fields, nil)
	return err
}

// reference notes that a name fits no record, or several.
func (l *loading) reference(pointer, path, noun, name string, found []string) {
	p := vpn.Problem{
		Pointer:  pointer + "/" + strings.ReplaceAll(path, ".", "/"),
		Found:    fmt.Sprintf("%q, which no %s is called", name, noun),
		Expected: "the name of one on record or in the inventory",
		Fix:      "correct the name, or add the " + noun,
	}
	if len(found) > 1 {
		var names []string
		for _, id := range found[:min(len(found), 5)] {
			names = append(names, l.x.Of(noun, id))
		}
		p.Found = fmt.Sprintf("%q, which fits %d records", name, len(found))
		p.Expected, p.Fix = "a name of one alone", "write one of "+strings.Join(names, ", ")
	}
	l.fault(p)
}

func (l *loading) fault(p vpn.Problem) { l.wrong.List = append(l.wrong.List, p) }

// one brings one record in. The identifier is empty where the record is wrong.
func (l *loading) one(
	noun inventory.Noun,
	pointer string,
	fields map[string]any,
) (id string, err error) {
	if len(l.wrong.List) >= maxLoadProblems {
		return "", &l.wrong
	}
	before := len(l.wrong.List)
	noun.Translate(fields, func(to, path, name string) string {
		found := l.x.Find(to, name)
		if to == "account" && len(found) > 1 {
			found = l.ofOwner(fields, found)
		}
		if len(found) > 1 { // those that the inventory has itself are meant first
			if own := l.ofInventory(found); len(own) == 1 {
				found = own
			}
		}
		if len(found) == 1 {
			return found[0]
		}
		l.reference(pointer, path, to, name, found)
		return ""
	})
	if len(l.wrong.List) > before {
		return "", nil
	}
	id, ok := l.match(noun.Name, pointer, fields)
	if !ok {
		return "", nil
	}
	if other, twice := l.seen[id]; twice && id != "" {
		l.fault(vpn.Problem{
			Pointer: pointer, Found: "the same " + noun.Name + " as " + other,
			Expected: "each record once", Fix: "remove one of the two, or tell them apart",
		})
		return "", nil
	}
	return l.put(noun, pointer, id, fields, inventory.Kept(fields))
}

func (l *loading) ofInventory(ids []string) []string {
	return slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return l.seen[id] == "" })
}

// ofOwner leaves of accounts those of the person whose device a profile is for.
func (l *loading) ofOwner(fields map[string]any, ids []string) []string {
	device := text(fields, "device_id")
	if found := l.x.Find("device", device); len(found) == 1 {
		device = found[0] // it may not have been translated yet
	}
	owner := text(l.x.fields[device], "person_id")
	return slices.DeleteFunc(slices.Clone(ids), func(id string) bool {
		return owner == "" || text(l.x.fields[id], "person_id") != owner
	})
}

// match finds the record that a declared one is; empty for a new one. ok is false where it cannot
// be told.
func (l *loading) match(noun, pointer string, fields map[string]any) (id string, ok bool) {
	var found []string
	if id, stated := fields["id"].(string); stated {
		delete(fields, "id")
		if !slices.Contains(l.x.Find(noun, id), id) {
			l.fault(vpn.Problem{
				Pointer: pointer + "/id", Found: fmt.Sprintf("%q", id),
				Expected: "the identifier of a " + noun + " on record",
				Fix:      "leave it out; the name says which it is",
			})
			return "", false
		}
		return id, true
	}
	switch noun {
	case "person":
		found = l.people(fields)
	case "account":
		for _, id := range l.x.Find(noun, text(fields, "login")) {
			has := l.x.fields[id]
			if text(has, "person_id") == text(fields, "person_id") &&
				text(has, "realm") == text(fields, "realm") {
				found = append(found, id)
			}
		}
	case "profile":
		found = l.x.Find(noun, l.x.profileName(fields))
	default:
		found = l.x.Find(noun, text(fields, "name"))
	}
	if len(found) > 1 {
		l.fault(vpn.Problem{
			Pointer: pointer + "/name",
			Found: fmt.Sprintf(
				"%q, as %d records are called",
				l.x.title(noun, fields),
				len(found),
			),
			Expected: "something that tells them apart",
			Fix:      "add the email address, or id: " + strings.Join(found[:2], " or id: "),
		})
		return "", false
	}
	if len(found) == 0 {
		return "", true
	}
	return found[0], true
}

// people lists the people on record that a declared one may be: the one of that name and address;
// else of that name, else of that address, without those that the inventory has otherwise.
func (l *loading) people(fields map[string]any) []string {
	name, mail := text(fields, "name"), text(fields, "mail")
	if exact := l.x.Find("person", fullName(name, mail)); mail != "" && len(exact) == 1 {
		return exact
	}
	free := func(ids []string) []string {
		return slices.DeleteFunc(slices.Clone(ids), func(id string) bool {
			has := l.x.fields[id]
			full := fullName(text(has, "name"), text(has, "mail"))
			_, seen := l.seen[id]
			return seen || l.declared[strings.ToLower(full)]
		})
	}
	called := l.x.Find("person", name)
	if found := free(called); len(found) > 0 {
		return found
	}
	if mail == "" { // nothing tells it from one that the inventory has already
		return slices.DeleteFunc(slices.Clone(called), func(id string) bool {
			return text(l.x.fields[id], "mail") != ""
		})
	}
	return free(l.x.Find("person", mail))
}

func fullName(name, mail string) string { return name + " <" + mail + ">" }

// put stores a record and notes how it differs.
func (l *loading) put(
	noun inventory.Noun,
	pointer, id string,
	fields map[string]any,
	kept []string,
) (string, error) {
	// Most records of an inventory are as they were: that is seen without reading them.
	if id != "" && l.x.has(id, kept) && reflect.DeepEqual(l.x.fields[id], fields) {
		if _, before := l.seen[id]; !before {
			l.seen[id] = pointer
			l.out.Same++
		}
		return id, nil
	}
	if l.look {
		return "", errDiffers
	}
	table := l.s.inventoried()[noun.Name]
	data, err := json.Marshal(fields)
	if err != nil {
		return "", err
	}
	r, err := l.how.Read(noun.Name, table.Blank(), data)
	var done putDone
	if err == nil {
		done, err = table.put(l.ctx, l.tx, id, r, written{kept, func(place string) bool {
			return says(fields, strings.Split(place, "/"))
		}})
	}
	var wrong *vpn.Problems
	if errors.As(err, &wrong) {
		for _, p := range wrong.List {
			p.Pointer = pointer + p.Pointer
			l.fault(p)
		}
		return "", nil
	}
	if err != nil {
		return "", err
	}
	_, before := l.seen[done.is.id]
	l.seen[done.is.id] = pointer
	l.x.know(noun.Name, done.is)
	if done.same {
		if !before {
			l.out.Same++
		}
		return done.is.id, nil
	}
	l.note(noun, id, done, before)
	return done.is.id, nil
}

// says tells whether JSON has something to say of a place, a null included.
func says(fields map[string]any, keys []string) bool {
	value, there := fields[keys[0]]
	if !there || len(keys) == 1 {
		return there
	}
	inner, ok := value.(map[string]any)
	return ok && says(inner, keys[1:])
}

// note adds what became of a record to the outcome; again, where it was touched before.
func (l *loading) note(noun inventory.Noun, id string, done putDone, again bool) {
	was, is := l.x.portable(noun, stored{id: done.is.id, fields: done.was.fields}),
		l.x.portable(noun, stored{id: done.is.id, fields: done.is.fields})
	delete(was, "id")
	delete(is, "id")
	c := api.RecordChange{
		State: api.InventoryChange, Noun: noun.Name, Name: l.x.title(noun.Name, is),
		Fields: append(inventory.Diff(was, is), done.secrets...),
	}
	if id == "" {
		c.State = api.InventoryAdd
		c.Fields = slices.DeleteFunc(c.Fields, func(f inventory.FieldChange) bool {
			return f.Field == "name" // it is its title
		})
	}
	if again {
		at := slices.IndexFunc(l.out.Changes, func(o api.RecordChange) bool {
			return o.Noun == c.Noun && o.Name == c.Name
		})
		if at >= 0 {
			l.out.Changes[at].Fields = append(l.out.Changes[at].Fields, c.Fields...)
			return
		}
		l.out.Same--
	}
	l.out.Changes = append(l.out.Changes, c)
}

// missing finds the records that the inventory does not have, of the nouns that it has, and removes
// them where that is wanted: those first that refer to others.
func (l *loading) missing(inv api.Inventory) error {
	var gone []api.RecordChange
	var ids []string
	for _, noun := range slices.Backward(api.Filed()) {
		if _, there := inv[noun.Plural]; !there {
			continue
		}
		for _, one := range l.x.records[noun.Name] {
			if _, there := l.seen[one.id]; !there {
				gone = append(gone, api.RecordChange{
					State: api.InventoryRemove, Noun: noun.Name,
					Name:   l.x.title(noun.Name, l.x.portable(noun, one)),
					Fields: []inventory.FieldChange{},
				})
				ids = append(ids, one.id)
			}
		}
	}
	l.out.Missing = len(gone)
	if !l.how.Remove || len(gone) == 0 {
		return nil
	}
	if l.look {
		return errDiffers
	}
	if !l.how.Dry && len(gone) > l.how.AtMost {
		return &vpn.Problems{Object: "inventory", List: []vpn.Problem{{
			Found: fmt.Sprintf("%d records that it does not have, %s %s among them", len(gone),
				gone[0].Noun, gone[0].Name),
			Expected: fmt.Sprintf("at most %d to be removed", l.how.AtMost),
			Fix:      "look at them with a dry run, and allow as many",
		}}}
	}
	for i, c := range gone {
		if err := l.s.inventoried()[c.Noun].remove(l.ctx, l.tx, ids[i]); err != nil {
			return err
		}
	}
	l.out.Changes = append(l.out.Changes, gone...)
	return nil
}
