package store

import (
	"context"
	"time"

	"wardicon/api"
)

// Group is a group of SCIM. Who is in it stands with the people.
type Group struct {
	ID, Name, External string
	Created, Changed   time.Time
}

const groupPrefix = "sg"

func scanGroup(scan scanner) (g Group, err error) {
	var created, changed int64
	err = scan(&g.ID, &g.Name, &g.External, &created, &changed)
	g.Created, g.Changed = fromMillis(created), fromMillis(changed)
	return g, err
}

// Groups lists the groups of SCIM by name.
func (tx *Tx) Groups(ctx context.Context) ([]Group, error) {
	return collect(ctx, tx, scanGroup,
		`SELECT id, name, external, created, changed FROM scim_groups ORDER BY name`)
}

// Group reads one.
func (tx *Tx) Group(ctx context.Context, id string) (g Group, err error) {
	list, err := collect(ctx, tx, scanGroup,
		`SELECT id, name, external, created, changed FROM scim_groups WHERE id = ?`, id)
	if err == nil && len(list) == 0 {
		return g, &NotFoundError{"group", id}
	}
	if err != nil {
		return g, err
	}
	return list[0], nil
}

// PutGroup keeps a group; a new one gets its identifier.
func (tx *Tx) PutGroup(ctx context.Context, g *Group) error {
	g.Changed = tx.s.now().UTC().Truncate(time.Millisecond)
	if g.ID == "" {
		g.ID, g.Created = newID(groupPrefix), g.Changed
	}
	_, err := tx.q.ExecContext(ctx, `INSERT INTO scim_groups (id, name, external, created, changed)
		VALUES (?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET name = excluded.name,
		external = excluded.external, changed = excluded.changed`,
		g.ID, g.Name, g.External, millis(g.Created), millis(g.Changed))
	return constraint("group", err)
}

// RemoveGroup removes one.
func (tx *Tx) RemoveGroup(ctx context.Context, id string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM scim_groups WHERE id = ?`, id)
	return constraint("group", err)
}

// OfSCIM is the condition on people who came by SCIM and were not removed by it.
const OfSCIM = "id IN (SELECT person_id FROM sources WHERE kind = 'scim' AND body <> '')"

// SCIMPeople lists people with what SCIM says of them, by identifier.
func (tx *Tx) SCIMPeople(
	ctx context.Context,
	condition string,
	args ...any,
) ([]api.Provisioned, error) {
	list, err := People.Where(ctx, tx, OfSCIM+" AND "+condition, args...)
	if err != nil {
		return nil, err
	}
	of := map[string]Source{}
	if len(list) == 1 {
		one, err := tx.SourceOf(ctx, FromSCIM, list[0].ID)
		if err != nil {
			return nil, err
		}
		of[list[0].ID] = *one
	} else {
		sources, err := tx.Sources(ctx, FromSCIM)
		if err != nil {
			return nil, err
		}
		for _, s := range sources {
			of[s.PersonID] = s
		}
	}
	var all []api.Provisioned
	for _, p := range list {
		s := of[p.ID]
		all = append(all, api.Provisioned{
			Person: p, UserName: s.Entry, External: s.External, Attributes: s.Body,
			Active: s.Missing == nil,
		})
	}
	return all, nil
}
