package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"wardicon/api"
	"wardicon/core/platform"
	"wardicon/core/rows"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/directory"
	"wardicon/store"
)

// rowPlanner finds out what is to be done for rows of one import, one after the other: a later row
// may name the person of an earlier one once more, with a further account or device.
type rowPlanner struct {
	s    *Service
	tx   *store.Tx
	i    api.RecordImport
	seen map[string]seenRow // by the key's value, in small letters
	used map[string]usedRow // logins and names of devices
	left map[string]bool    // people whose entry in the directory is gone
}

// usedRow is who has a login or a name already: the row, and the key of its person.
type usedRow struct {
	line int
	key  string
}

type seenRow struct {
	line   int
	person vpn.Person
}

func newRowPlanner(s *Service, tx *store.Tx, i api.RecordImport) *rowPlanner {
	return &rowPlanner{
		s: s, tx: tx, i: i, seen: map[string]seenRow{}, used: map[string]usedRow{},
	}
}

// plannedRow is what is to be done for a row.
type plannedRow struct {
	row     api.ImportRow
	s       *Service
	gateway *vpn.Gateway
	person  *vpn.Person // new where it has no identity yet; its version tells
	entry   string      // of the directory that the person comes from
	account *vpn.Account
	device  *vpn.Device
	changed map[string]bool // nouns of records that are there and change
	former  secret.Text     // of the account, where its password changes
}

// undoStep is how one record goes back to what it was: away, or to its former contents.
type undoStep struct {
	Noun    string          `json:"noun"`
	ID      string          `json:"id"`
	Version int             `json:"version"` // as the import left it
	Before  json.RawMessage `json:"before,omitempty"`
}

// plan says what is to be done for a row, or what is wrong with it. Errors are the store's.
func (p *rowPlanner) plan(
	ctx context.Context,
	line int,
	cells map[string]rows.Cell,
) (*plannedRow, error) {
	r := &plannedRow{
		s: p.s,
		row: api.ImportRow{
			Line: line, Outcome: api.RowSame, Changes: []string{}, Problems: []api.RowProblem{},
		},
		changed: map[string]bool{},
	}
	var err error
	if p.i.Noun == rows.Gateways {
		err = p.planGateway(ctx, r, cells)
	} else {
		err = p.planPerson(ctx, r, cells)
	}
	if err != nil {
		return nil, err
	}
	if len(r.row.Problems) > 0 {
		r.row.Outcome, r.row.Changes = api.RowWrong, []string{}
	}
	return r, nil
}

// wrong adds a problem of a field's cell, or of the row.
func (p *rowPlanner) wrong(
	r *plannedRow,
	cells map[string]rows.Cell,
	field, found, expected, fix string,
) {
	at := api.RowProblem{Line: r.row.Line, Found: found, Expected: expected, Fix: fix}
	if c, ok := cells[field]; ok {
		at.Line, at.Column = c.Line, c.Column
	}
	for column, name := range p.i.Mapping {
		if name == field {
			at.Name = column
		}
	}
	r.row.Problems = append(r.row.Problems, at)
}

// refused adds the problems of a record, each at the cell that it came from. Other errors are
// passed on.
func (p *rowPlanner) refused(
	r *plannedRow,
	cells map[string]rows.Cell,
	noun string,
	err error,
) error {
	var problems *vpn.Problems
	if !errors.As(err, &problems) {
		return err
	}
	for _, one := range problems.List {
		field := ""
		for _, f := range rows.Fields[p.i.Noun] {
			_, there := cells[f.Name]
			if f.On == noun &&
				(f.Pointer == one.Pointer || strings.HasPrefix(one.Pointer, f.Pointer+"/")) &&
				(field == "" || there) {
				field = f.Name
			}
		}
		p.wrong(r, cells, field, one.Found, one.Expected, one.Fix)
	}
	return nil
}

func (p *rowPlanner) planPerson(
	ctx context.Context,
	r *plannedRow,
	cells map[string]rows.Cell,
) error {
	text := func(field string) string { return cells[field].Text }
	name := cmp.Or(text("name"), strings.TrimSpace(text("given_name")+" "+text("family_name")))
	r.row.Title = cmp.Or(name, text("mail"), text("login"))
	key := text(p.i.Key)
	if p.i.Key == "name" {
		key = name
	}
	if key == "" {
		p.wrong(r, cells, p.i.Key, "nothing", "a value: records are matched by it",
			"fill it in, or choose another key")
		return nil
	}
	known, err := p.person(ctx, key, cells)
	if err != nil {
		return err
	}
	if len(known) > 1 {
		p.wrong(r, cells, p.i.Key,
			fmt.Sprintf("%q, which %d people on record have", key, len(known)), "one person",
			"choose another key")
		return nil
	}
	person, before := &vpn.Person{}, vpn.Person{}
	if len(known) == 1 {
		person, before = &known[0], known[0]
		before.Groups = slices.Clone(before.Groups)
	}
	earlier, again := p.seen[strings.ToLower(key)]
	if again { // the same person with a further account or device
		*person = earlier.person
		person.Groups = slices.Clone(person.Groups)
	}
	person.Name = respelt(name, person.Name)
	person.Mail = respelt(text("mail"), person.Mail)
	person.Language = cmp.Or(text("language"), person.Language)
	person.Place.City = cmp.Or(text("city"), person.Place.City)
	person.Place.Country = cmp.Or(countryOf(text("country")), person.Place.Country)
	if v := text("groups"); v != "" || p.i.Kind == directory.Kind && p.maps("groups") {
		person.Groups = p.groups(person.Groups, groupNames(v))
	}
	person.Normalise()
	before.Normalise()
	if err := p.refused(r, cells, "person", person.Validate()); err != nil {
		return err
	}
	r.row.Title = cmp.Or(person.Name, r.row.Title)
	switch {
	case again:
		if len(known) == 0 {
			r.row.Outcome = api.RowAdd
		}
		if !reflect.DeepEqual(*person, earlier.person) {
			p.wrong(r, cells, p.i.Key,
				fmt.Sprintf("%q with other values than in line %d", key, earlier.line),
				"the same person with the same values, or another "+p.i.Key,
				"correct one of the lines")
			return nil
		}
	case len(known) == 0:
		r.row.Outcome = api.RowAdd
		r.row.Changes = append(r.row.Changes, "person "+person.Name)
	default:
		r.differs(personChanges(before, *person), "person")
	}
	r.person = person
	if p.i.Key == directory.Entry {
		r.entry = key
	}
	if !again {
		p.seen[strings.ToLower(key)] = seenRow{r.row.Line, *person}
	}
	if err := p.planAccount(ctx, r, cells, key); err != nil {
		return err
	}
	return p.planDevice(ctx, r, cells)
}

// differs notes changes of a record that is there.
func (r *plannedRow) differs(changes []string, noun string) {
	if len(changes) == 0 {
		return
	}
	if r.row.Outcome == api.RowSame {
		r.row.Outcome = api.RowChange
	}
	r.changed[noun] = true
	r.row.Changes = append(r.row.Changes, changes...)
}

func (p *rowPlanner) maps(field string) bool {
	for _, name := range p.i.Mapping {
		if name == field {
			return true
		}
	}
	return false
}

// groups are those that a row brings. A directory that manages some of them leaves the others.
func (p *rowPlanner) groups(old, brought []string) []string {
	if p.i.Kind != directory.Kind || len(p.i.Managed) == 0 {
		return brought
	}
	kept := slices.DeleteFunc(slices.Clone(old), func(group string) bool {
		return slices.Contains(p.i.Managed, group) && !slices.Contains(brought, group)
	})
	for _, group := range brought {
		if !slices.Contains(kept, group) {
			kept = append(kept, group)
		}
	}
	return kept
}

// ofEntry finds the person of an entry of the directory: the one that came from it, else one with
// its address or its login who comes from no entry that is still there.
func (p *rowPlanner) ofEntry(
	ctx context.Context,
	entry string,
	cells map[string]rows.Cell,
) ([]vpn.Person, error) {
	list, err := store.People.Where(ctx, p.tx, "id IN (SELECT person_id FROM sources WHERE kind = "+
		"'directory' AND lower(entry) = lower(?))", entry)
	for _, way := range [][2]string{
		{cells["mail"].Text, "lower(mail) = lower(?)"},
		{cells["login"].Text, "id IN (SELECT person_id FROM accounts WHERE lower(login) = " +
			"lower(?))"},
	} {
		if err != nil || len(list) > 0 {
			return list, err
		}
		if way[0] == "" {
			continue
		}
		alike, found := store.People.Where(ctx, p.tx, way[1], way[0])
		err = found
		for _, person := range alike {
			from, found := p.tx.SourceOf(ctx, store.FromDirectory, person.ID)
			err = errors.Join(err, found)
			if from == nil || from.Missing != nil || p.left[person.ID] {
				list = append(list, person)
			}
		}
	}
	return list, err
}

// person finds the people on record whom a key means.
func (p *rowPlanner) person(
	ctx context.Context,
	key string,
	cells map[string]rows.Cell,
) ([]vpn.Person, error) {
	switch p.i.Key {
	case directory.Entry:
		return p.ofEntry(ctx, key, cells)
	case "mail":
		return store.People.Where(ctx, p.tx, "lower(mail) = lower(?)", key)
	case "login":
		return store.People.Where(ctx, p.tx,
			"id IN (SELECT person_id FROM accounts WHERE lower(login) = lower(?))", key)
	}
	return store.People.Where(ctx, p.tx, "lower(name) = lower(?)", key)
}

func personChanges(from, to vpn.Person) []string {
	var list []string
	add := func(what, from, to string) {
		if from != to {
			list = append(list, fmt.Sprintf("%s: %s → %s", what, shownValue(from), shownValue(to)))
		}
	}
	add("name", from.Name, to.Name)
	add("email", from.Mail, to.Mail)
	add("language", from.Language, to.Language)
	add("groups", strings.Join(from.Groups, ", "), strings.Join(to.Groups, ", "))
	add("city", from.Place.City, to.Place.City)
	add("country", from.Place.Country, to.Place.Country)
	return list
}

func shownValue(v string) string { return cmp.Or(v, "nothing") }

// respelt is a new value, unless it differs from the old one in capitals alone.
func respelt(value, old string) string {
	if value == "" || strings.EqualFold(value, old) {
		return old
	}
	return value
}

// countryOf puts a country's two letters in capitals.
func countryOf(v string) string {
	if len(v) == 2 {
		return strings.ToUpper(v)
	}
	return v
}

// groupNames takes a list of groups apart; of a distinguished name only its first part is the name
// (RFC 4514).
func groupNames(text string) []string {
	list := rows.List(text)
	if strings.Contains(text, "=") {
		list = nil
		for _, dn := range strings.Split(text, ";") {
			first, _, _ := strings.Cut(dn, ",")
			if _, name, ok := strings.Cut(first, "="); ok {
				first = name
			}
			if first = strings.TrimSpace(first); first != "" && !slices.Contains(list, first) {
				list = append(list, first)
			}
		}
	}
	return list
}

func (p *rowPlanner) planAccount(
	ctx context.Context,
	r *plannedRow,
	cells map[string]rows.Cell,
	key string,
) error {
	login, password := cells["login"].Text, secret.New(cells["password"].Text)
	if login == "" {
		if !password.IsZero() {
			p.wrong(r, cells, "password", "a password without a login", "both, or neither",
				"fill in the login")
		}
		return nil
	}
	if by, twice := p.used["login "+strings.ToLower(login)]; twice {
		if !strings.EqualFold(by.key, key) {
			p.wrong(r, cells, "login", fmt.Sprintf("%q, which line %d has as well", login, by.line),
				"a login of its own for each person", "correct one of the lines")
		}
		return nil // the row before has it
	}
	p.used["login "+strings.ToLower(login)] = usedRow{r.row.Line, key}
	known, err := store.Accounts.Where(ctx, p.tx, "lower(login) = lower(?)", login)
	if err != nil {
		return err
	}
	realm := cells["realm"].Text
	for i, a := range known {
		switch {
		case a.PersonID != r.person.ID:
			p.wrong(r, cells, "login", fmt.Sprintf("%q, an account of another person", login),
				"a login of its own for each person", "correct it, or choose login as the key")
			return nil
		case realm != "" && a.Realm != realm:
			continue
		}
		r.account = &known[i]
		if !password.IsZero() && (a.Password == nil || !a.Password.Equal(password)) {
			if a.Password != nil {
				r.former = *a.Password
			}
			r.account.Password = &password
			r.differs([]string{"password of " + a.Login}, "account")
		}
		return p.refused(r, cells, "account", r.account.Validate())
	}
	r.account = &vpn.Account{PersonID: cmp.Or(r.person.ID, "new"), Login: login, Realm: realm}
	if !password.IsZero() {
		r.account.Password = &password
	}
	if r.row.Outcome == api.RowSame {
		r.row.Outcome = api.RowChange
	}
	r.row.Changes = append(r.row.Changes, "account "+login)
	r.account.Normalise()
	return p.refused(r, cells, "account", r.account.Validate())
}

func (p *rowPlanner) planDevice(
	ctx context.Context,
	r *plannedRow,
	cells map[string]rows.Cell,
) error {
	name := cells["device"].Text
	if name == "" {
		for _, field := range []string{"platform", "release"} {
			if cells[field].Text != "" {
				p.wrong(r, cells, field, "the "+field+" of no device", "a device, or neither",
					"fill in the name of the device")
			}
		}
		return nil
	}
	if by, twice := p.used["device "+strings.ToLower(name)]; twice {
		p.wrong(r, cells, "device", fmt.Sprintf("%q, which line %d has as well", name, by.line),
			"a name of its own for each device", "correct one of the lines")
		return nil
	}
	p.used["device "+strings.ToLower(name)] = usedRow{line: r.row.Line}
	r.row.Title += ", " + name
	known, err := store.Devices.Where(ctx, p.tx, "name = ? COLLATE NOCASE", name)
	if err != nil {
		return err
	}
	system, release, understood := platform.Named(cells["platform"].Text, cells["release"].Text)
	if !understood {
		p.wrong(r, cells, "platform", fmt.Sprintf("%q", cells["platform"].Text),
			"one of "+platform.Names(), "correct it")
		return nil
	}
	if len(known) == 1 {
		d := &known[0]
		if d.PersonID != r.person.ID {
			p.wrong(r, cells, "device", fmt.Sprintf("%q, a device of another person", name),
				"a name of its own for each device", "rename one of them")
			return nil
		}
		before := *d
		d.Platform, d.Release = cmp.Or(system, d.Platform), cmp.Or(release, d.Release)
		var changes []string
		if before.Platform != d.Platform || before.Release != d.Release {
			changes = []string{fmt.Sprintf("device %s: %s %s → %s %s", name, before.Platform,
				before.Release, d.Platform, d.Release)}
		}
		r.device = d
		r.differs(changes, "device")
		return p.refused(r, cells, "device", d.Validate())
	}
	r.device = &vpn.Device{
		Name: name, PersonID: cmp.Or(r.person.ID, "new"), Platform: system, Release: release,
	}
	if r.row.Outcome == api.RowSame {
		r.row.Outcome = api.RowChange
	}
	r.row.Changes = append(r.row.Changes, "device "+name)
	return p.refused(r, cells, "device", r.device.Validate())
}

func (p *rowPlanner) planGateway(
	ctx context.Context,
	r *plannedRow,
	cells map[string]rows.Cell,
) error {
	key := cells[p.i.Key].Text
	r.row.Title = cmp.Or(cells["name"].Text, key)
	if key == "" {
		p.wrong(r, cells, p.i.Key, "nothing", "a value: records are matched by it", "fill it in")
		return nil
	}
	if by, twice := p.used[strings.ToLower(key)]; twice {
		p.wrong(r, cells, p.i.Key, fmt.Sprintf("%q, which line %d has as well", key, by.line),
			"a row for each gateway", "leave one of them out")
		return nil
	}
	p.used[strings.ToLower(key)] = usedRow{line: r.row.Line}
	known, err := store.Gateways.Where(ctx, p.tx, "lower("+p.i.Key+") = lower(?)", key)
	if err != nil {
		return err
	}
	if len(known) > 1 {
		p.wrong(r, cells, p.i.Key,
			fmt.Sprintf("%q, which %d gateways on record have", key, len(known)), "one gateway",
			"choose another key")
		return nil
	}
	g, before := &vpn.Gateway{}, vpn.Gateway{}
	if len(known) == 1 {
		g, before = &known[0], known[0]
	}
	for field, to := range map[string]*string{
		"name": &g.Name, "address": &g.Address, "city": &g.Place.City, "country": &g.Place.Country,
		"note": &g.Note,
	} {
		*to = cmp.Or(cells[field].Text, *to)
	}
	g.Place.Country = countryOf(g.Place.Country)
	for field, to := range map[string]*[]string{
		"addresses": &g.Addresses, "dns": &g.DNS, "domains": &g.Domains, "routes": &g.Routes,
		"pool": &g.Pool,
	} {
		if v := cells[field].Text; v != "" {
			*to = rows.List(v)
		}
	}
	for field, to := range map[string]**float64{
		"latitude": &g.Place.Latitude, "longitude": &g.Place.Longitude,
	} {
		if v := cells[field].Text; v != "" {
			number, err := strconv.ParseFloat(strings.ReplaceAll(v, ",", "."), 64)
			if err != nil {
				p.wrong(
					r,
					cells,
					field,
					fmt.Sprintf("%q", v),
					"degrees, such as 59.91",
					"correct it",
				)
				continue
			}
			*to = &number
		}
	}
	g.Normalise()
	before.Normalise()
	r.gateway = g
	if len(known) == 0 {
		r.row.Outcome, r.row.Changes = api.RowAdd, []string{"gateway " + g.Name}
	} else {
		r.differs(gatewayChanges(before, *g), "gateway")
	}
	return p.refused(r, cells, "gateway", g.Validate())
}

func gatewayChanges(from, to vpn.Gateway) []string {
	var list []string
	add := func(what string, from, to any) {
		if !reflect.DeepEqual(from, to) {
			list = append(list, fmt.Sprintf("%s: %v → %v", what, from, to))
		}
	}
	add("name", from.Name, to.Name)
	add("address", from.Address, to.Address)
	add("further addresses", from.Addresses, to.Addresses)
	add("DNS servers", from.DNS, to.DNS)
	add("internal domains", from.Domains, to.Domains)
	add("routes", from.Routes, to.Routes)
	add("address pool", from.Pool, to.Pool)
	add("city", from.Place.City, to.Place.City)
	add("country", from.Place.Country, to.Place.Country)
	if !reflect.DeepEqual(from.Place.Latitude, to.Place.Latitude) ||
		!reflect.DeepEqual(from.Place.Longitude, to.Place.Longitude) {
		list = append(list, "place on the map")
	}
	add("note", from.Note, to.Note)
	return list
}

// apply keeps what was planned and answers with how it is undone.
func (r *plannedRow) apply(
	ctx context.Context,
	tx *store.Tx,
	importID string,
	number int,
) (string, error) {
	if len(r.row.Problems) > 0 {
		return "", nil
	}
	var steps []undoStep
	if r.gateway != nil {
		err := keepRecord(ctx, tx, r.s.Gateways, r.gateway, r.changed["gateway"], &steps)
		if err != nil {
			return "", err
		}
		return undoJSON(steps)
	}
	if err := keepRecord(ctx, tx, r.s.People, r.person, r.changed["person"], &steps); err != nil {
		return "", err
	}
	if r.entry != "" {
		source := store.Source{PersonID: r.person.ID, Entry: r.entry}
		if err := tx.PutSource(ctx, store.FromDirectory, source); err != nil {
			return "", err
		}
	}
	if r.account != nil {
		r.account.PersonID = r.person.ID
		if err := keepRecord(
			ctx, tx, r.s.Accounts, r.account, r.changed["account"], &steps,
		); err != nil {
			return "", err
		}
		if !r.former.IsZero() {
			if err := tx.KeepFormer(ctx, importID, number, r.former); err != nil {
				return "", err
			}
		}
	}
	if r.device != nil {
		r.device.PersonID = r.person.ID
		err := keepRecord(ctx, tx, r.s.Devices, r.device, r.changed["device"], &steps)
		if err != nil {
			return "", err
		}
	}
	return undoJSON(steps)
}

func undoJSON(steps []undoStep) (string, error) {
	text, err := json.Marshal(steps)
	return string(text), err
}

// keepRecord adds a record that has no identity yet, or changes one, and notes how it is undone.
func keepRecord[R, Row any, P Record[R]](
	ctx context.Context,
	tx *store.Tx,
	u *Records[R, Row, P],
	r P,
	changed bool,
	steps *[]undoStep,
) (err error) {
	step := undoStep{Noun: u.table.Noun}
	switch meta := u.meta(r); {
	case meta.ID == "":
		_, err = u.add(ctx, tx, r)
	case changed:
		_, err = u.change(ctx, tx, meta.ID, meta.Version, func(before P) (_ P, err error) {
			step.Before, err = json.Marshal(before)
			return r, err
		}, func(string) bool { return false }) // it has its secrets
	default:
		return nil
	}
	step.ID, step.Version = u.meta(r).ID, u.meta(r).Version
	*steps = append(*steps, step)
	return err
}

// undoSteps takes back what a row did, the last record first. What was changed or used since is
// refused, and all of the row stays.
func (s *Service) undoSteps(
	ctx context.Context,
	tx *store.Tx,
	importID string,
	number int,
	undo string,
) error {
	var steps []undoStep
	if err := json.Unmarshal([]byte(undo), &steps); err != nil {
		return err
	}
	former, err := tx.Former(ctx, importID, number)
	if err != nil {
		return err
	}
	for _, step := range slices.Backward(steps) {
		switch step.Noun {
		case store.Gateways.Noun:
			err = undoRecord(ctx, tx, s.Gateways, step, nil)
		case store.People.Noun:
			err = undoRecord(ctx, tx, s.People, step, nil)
		case store.Devices.Noun:
			err = undoRecord(ctx, tx, s.Devices, step, nil)
		case store.Accounts.Noun:
			err = undoRecord(ctx, tx, s.Accounts, step, func(a *vpn.Account) {
				if a.Password = nil; !former.IsZero() {
					a.Password = &former
				}
			})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// undoRecord takes one record back, in the version in which the import left it. Restore sets the
// secrets that were replaced; nil leaves all as they are.
func undoRecord[R, Row any, P Record[R]](
	ctx context.Context,
	tx *store.Tx,
	u *Records[R, Row, P],
	step undoStep,
	restore func(P),
) error {
	found, err := u.table.Version(ctx, tx, step.ID)
	if err != nil {
		return err
	}
	if found != step.Version {
		return &store.ConflictError{Noun: step.Noun, ID: step.ID, Found: found, Want: step.Version}
	}
	if step.Before == nil {
		return u.remove(ctx, tx, step.ID)
	}
	_, err = u.change(ctx, tx, step.ID, step.Version, func(P) (P, error) {
		before := P(new(R))
		err := json.Unmarshal(step.Before, before)
		if restore != nil {
			restore(before)
		}
		return before, err
	}, func(string) bool { return restore == nil })
	return err
}
