package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// UserAttributes are what a client of SCIM says of a person (RFC 7643 §4.1), by their names there.
type UserAttributes map[string]any

func (a UserAttributes) text(path ...string) string {
	var at any = map[string]any(a)
	for _, key := range path {
		inner, _ := at.(map[string]any)
		at = inner[key]
	}
	text, _ := at.(string)
	return strings.TrimSpace(text)
}

// chosen is the primary one of several values, or the first (RFC 7643 §2.4).
func (a UserAttributes) chosen(name string) UserAttributes {
	list, _ := a[name].([]any)
	var first UserAttributes
	for _, item := range list {
		value, _ := item.(map[string]any)
		if primary, _ := value["primary"].(bool); primary {
			return value
		}
		if first == nil {
			first = value
		}
	}
	return first
}

// active tells whether the person is there; who is not spoken of is (RFC 7643 §4.1.1).
func (a UserAttributes) active() bool {
	active, said := a["active"].(bool)
	return !said || active
}

// person puts what the attributes say into a record.
func (a UserAttributes) person(p *vpn.Person) {
	full := strings.TrimSpace(a.text("name", "givenName") + " " + a.text("name", "familyName"))
	p.Name = cmp.Or(a.text("displayName"), a.text("name", "formatted"), full, a.text("userName"))
	p.Mail = a.chosen("emails").text("value")
	// A header such as da, en-gb;q=0.8 may stand here (RFC 9110 §12.5.4).
	language, _, _ := strings.Cut(a.text("preferredLanguage"), ",")
	language, _, _ = strings.Cut(language, ";")
	p.Language = cmp.Or(language, p.Language)
	home := a.chosen("addresses")
	p.Place.City = cmp.Or(home.text("locality"), p.Place.City)
	if country := countryOf(home.text("country")); len(country) == 2 {
		p.Place.Country = country
	}
}

// SCIMUsers lists the people who came by SCIM; by their user name, where one is given.
func (s *Service) SCIMUsers(ctx context.Context, userName string) ([]api.Provisioned, error) {
	if userName != "" {
		return s.store.Read().SCIMPeople(ctx, "id IN (SELECT person_id FROM sources WHERE kind = "+
			"'scim' AND lower(entry) = lower(?))", userName)
	}
	return s.store.Read().SCIMPeople(ctx, "1 = 1")
}

// SCIMUser reads one.
func (s *Service) SCIMUser(ctx context.Context, id string) (api.Provisioned, error) {
	return provisioned(ctx, s.store.Read(), id)
}

func provisioned(ctx context.Context, tx *store.Tx, id string) (p api.Provisioned, err error) {
	list, err := tx.SCIMPeople(ctx, "id = ?", id)
	if err == nil && len(list) == 0 {
		return p, &store.NotFoundError{Noun: "user", ID: id}
	}
	if err != nil {
		return p, err
	}
	return list[0], nil
}

// PutSCIMUser adds a person, or replaces what SCIM says of one. Who is not active any more is
// offered for offboarding, and never removed.
func (s *Service) PutSCIMUser(
	ctx context.Context,
	id string,
	a UserAttributes,
) (done api.Provisioned, err error) {
	a = maps.Clone(a)
	for _, own := range []string{"password", "groups", "id", "meta", "schemas"} {
		delete(a, own) // it is set here, and a password is kept by nobody
	}
	body, err := json.Marshal(a)
	if err != nil {
		return done, err
	}
	source := store.Source{
		Entry:    a.text("userName"),
		External: a.text("externalId"),
		Body:     string(body),
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		known, err := s.provision(ctx, tx, id, a, &source)
		if err != nil {
			return err
		}
		now := s.now()
		if source.Missing = known; a.active() {
			source.Missing = nil
		} else if known == nil {
			source.Missing = &now
		}
		if err := tx.PutSource(ctx, store.FromSCIM, source); err != nil {
			return err
		}
		done, err = provisioned(ctx, tx, source.PersonID)
		return err
	})
	s.checkSoon()
	return done, err
}

// provision adds or changes the person, and gives those who are new an account. What comes back is
// since when the person has not been active.
func (s *Service) provision(
	ctx context.Context,
	tx *store.Tx,
	id string,
	a UserAttributes,
	source *store.Source,
) (missing *time.Time, err error) {
	taken, err := tx.SCIMPeople(
		ctx,
		"id IN (SELECT person_id FROM sources WHERE kind = 'scim' AND "+
			"lower(entry) = lower(?)) AND id <> ?",
		source.Entry,
		id,
	)
	if err != nil {
		return nil, err
	}
	if len(taken) > 0 {
		return nil, &store.TakenError{Noun: "user", Column: "userName"}
	}
	if id != "" {
		if _, err := provisioned(ctx, tx, id); err != nil {
			return nil, err
		}
		before, err := tx.SourceOf(ctx, store.FromSCIM, id)
		if err != nil {
			return nil, err
		}
		source.PersonID = id
		_, err = s.People.change(ctx, tx, id, 0, func(p *vpn.Person) (*vpn.Person, error) {
			a.person(p)
			return p, nil
		}, func(string) bool { return true })
		return before.Missing, err
	}
	p := &vpn.Person{}
	a.person(p)
	if _, err := s.People.add(ctx, tx, p); err != nil {
		return nil, err
	}
	source.PersonID = p.ID
	return nil, s.firstAccount(ctx, tx, p.ID, source.Entry)
}

// firstAccount gives a new person the account that a user name stands for, unless somebody has it.
func (s *Service) firstAccount(ctx context.Context, tx *store.Tx, personID, name string) error {
	o, err := tx.Organisation(ctx)
	if err != nil {
		return err
	}
	if login, domain, ok := strings.Cut(name, "@"); ok && strings.EqualFold(domain, o.Domain) {
		name = login
	}
	known, err := store.Accounts.Where(ctx, tx, "lower(login) = lower(?)", name)
	if err != nil || len(known) > 0 {
		return err
	}
	account := &vpn.Account{PersonID: personID, Login: name}
	err = tx.Try(ctx, func() error {
		_, err := s.Accounts.add(ctx, tx, account)
		return err
	})
	if passedOver(err) != "" {
		return nil // a name that is no login
	}
	return err
}

// RemoveSCIMUser notes that SCIM knows somebody no more. The person stays, to be offboarded.
func (s *Service) RemoveSCIMUser(ctx context.Context, id string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		p, err := provisioned(ctx, tx, id)
		if err != nil {
			return err
		}
		now := s.now()
		return errors.Join(
			// Its user name is free again.
			tx.PutSource(ctx, store.FromSCIM, store.Source{PersonID: id, Entry: id, Missing: &now}),
			audit(ctx, tx, "deprovision", "person", id, p.Person.Name),
		)
	})
}

// SCIMGroup is a group with the people in it who came by SCIM.
type SCIMGroup struct {
	store.Group
	Members []vpn.Person
}

// SCIMGroups lists all groups with their members.
func (s *Service) SCIMGroups(ctx context.Context) (list []SCIMGroup, err error) {
	groups, err := s.store.Read().Groups(ctx)
	for _, g := range groups {
		if err == nil {
			var members []vpn.Person
			members, err = membersOf(ctx, s.store.Read(), g.Name)
			list = append(list, SCIMGroup{g, members})
		}
	}
	return list, err
}

// SCIMGroupOf reads one.
func (s *Service) SCIMGroupOf(ctx context.Context, id string) (g SCIMGroup, err error) {
	if g.Group, err = s.store.Read().Group(ctx, id); err != nil {
		return g, err
	}
	g.Members, err = membersOf(ctx, s.store.Read(), g.Name)
	return g, err
}

func membersOf(ctx context.Context, tx *store.Tx, group string) ([]vpn.Person, error) {
	return store.People.Where(ctx, tx, store.OfSCIM+
		" AND id IN (SELECT person_id FROM person_groups WHERE name = ?)", group)
}

// PutSCIMGroup adds a group, or replaces one with its members.
func (s *Service) PutSCIMGroup(
	ctx context.Context,
	g store.Group,
	members []string,
) (done SCIMGroup, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		before := g
		if g.ID != "" {
			if before, err = tx.Group(ctx, g.ID); err != nil {
				return err
			}
			g.Created = before.Created
		}
		now, err := membersOf(ctx, tx, before.Name)
		if err != nil {
			return err
		}
		if err := tx.PutGroup(ctx, &g); err != nil {
			return err
		}
		touched := map[string]bool{}
		for _, p := range now {
			touched[p.ID] = true
		}
		for _, id := range members {
			if _, err := provisioned(ctx, tx, id); err != nil {
				return err
			}
			touched[id] = true
		}
		for _, id := range slices.Sorted(maps.Keys(touched)) {
			in := slices.Contains(members, id)
			if err := s.regroup(ctx, tx, id, before.Name, g.Name, in); err != nil {
				return err
			}
		}
		done.Group = g
		done.Members, err = membersOf(ctx, tx, g.Name)
		return errors.Join(err, audit(ctx, tx, "change", "group", g.ID, g.Name))
	})
	s.checkSoon()
	return done, err
}

// regroup takes a person out of a group, under its old name, and puts it into it, under its new
// one.
func (s *Service) regroup(
	ctx context.Context,
	tx *store.Tx,
	id, from, to string,
	in bool,
) error {
	p, err := store.People.Get(ctx, tx, id)
	if err != nil {
		return err
	}
	groups := slices.DeleteFunc(slices.Clone(p.Groups), func(g string) bool {
		return g == from && (!in || from != to)
	})
	if in && !slices.Contains(groups, to) {
		groups = append(groups, to)
	}
	if slices.Equal(groups, p.Groups) {
		return nil
	}
	_, err = s.People.change(ctx, tx, id, 0, func(p *vpn.Person) (*vpn.Person, error) {
		p.Groups = groups
		return p, nil
	}, func(string) bool { return true })
	return err
}

// RemoveSCIMGroup takes a group away, from its people, too.
func (s *Service) RemoveSCIMGroup(ctx context.Context, id string) error {
	g, err := s.SCIMGroupOf(ctx, id)
	if err != nil {
		return err
	}
	if _, err := s.PutSCIMGroup(ctx, g.Group, nil); err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.RemoveGroup(ctx, id), audit(ctx, tx, "remove", "group", id, g.Name))
	})
}
