package service

import (
	"context"
	"errors"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// AsOperator says who acts in a context: an operator, in the role of their session and confined as
// they are.
func AsOperator(ctx context.Context, o api.Operator, role string) context.Context {
	return context.WithValue(ctx, actorKey{}, acting{o.Name, role, o.Confined})
}

// confinement is what whoever acts is confined to; nil for all others.
func confinement(ctx context.Context) *api.Confinement {
	who, _ := ctx.Value(actorKey{}).(acting)
	return who.confined
}

// ErrBeyond is the error for what is about more than some people and gateways.
var ErrBeyond = confinedError("this is about more than people and gateways")

func confinedError(what string) error {
	return vpn.Refuse(vpn.KindRole, "your changes are confined to some groups and gateways, and "+
		what+"; ask an owner")
}

// permits refuses a record that is not within what whoever acts is confined to. What is no person,
// device, account, profile or gateway is within nothing.
func (s *Service) permits(ctx context.Context, tx *store.Tx, record any) error {
	c := confinement(ctx)
	if c == nil {
		return nil
	}
	switch r := record.(type) {
	case *vpn.Person:
		if !inGroups(c, r) {
			return confinedError("the person " + r.Name + " is in none of these groups")
		}
	case *vpn.Device:
		return s.permitsPerson(ctx, tx, c, r.PersonID)
	case *vpn.Account:
		return s.permitsPerson(ctx, tx, c, r.PersonID)
	case *vpn.Gateway:
		if r.ID == "" || !slices.Contains(c.Gateways, r.ID) {
			return confinedError("the gateway " + r.Name + " is none of these")
		}
	case *vpn.Profile:
		if len(c.Gateways) > 0 && !slices.Contains(c.Gateways, r.GatewayID) {
			return confinedError("the profile is for another gateway")
		}
		if len(c.Groups) == 0 {
			return nil
		}
		d, err := store.Devices.Get(ctx, tx, r.DeviceID)
		if err != nil {
			return unknownIsOutside(err)
		}
		return s.permitsPerson(ctx, tx, c, d.PersonID)
	default:
		return ErrBeyond
	}
	return nil
}

func inGroups(c *api.Confinement, p *vpn.Person) bool {
	return slices.ContainsFunc(p.Groups, func(g string) bool {
		return slices.ContainsFunc(
			c.Groups,
			func(own string) bool { return strings.EqualFold(own, g) },
		)
	})
}

func (s *Service) permitsPerson(
	ctx context.Context,
	tx *store.Tx,
	c *api.Confinement,
	id string,
) error {
	p, err := store.People.Get(ctx, tx, id)
	if err != nil {
		return unknownIsOutside(err)
	}
	if !inGroups(c, p) {
		return confinedError("the person " + p.Name + " is in none of these groups")
	}
	return nil
}

// unknownIsOutside makes what is not there, or belongs to nobody, something outside.
func unknownIsOutside(err error) error {
	if none := new(store.NotFoundError); errors.As(err, &none) {
		return confinedError("this belongs to nobody in these groups")
	}
	return err
}

// Permits refuses what is about a record, by noun and identifier, that is not within what whoever
// acts is confined to. A parcel and a handover are their profile's.
func (s *Service) Permits(ctx context.Context, noun, id string) error {
	if confinement(ctx) == nil {
		return nil
	}
	return s.permitsID(ctx, s.store.Read(), noun, id)
}

func (s *Service) permitsID(ctx context.Context, tx *store.Tx, noun, id string) (err error) {
	var record any
	switch noun {
	case "person":
		record, err = store.People.Get(ctx, tx, id)
	case "device":
		record, err = store.Devices.Get(ctx, tx, id)
	case "gateway":
		record, err = store.Gateways.Get(ctx, tx, id)
	case "profile":
		record, err = store.Profiles.Get(ctx, tx, id)
	case "parcel":
		p, err := tx.Parcel(ctx, id)
		if err != nil {
			return err
		}
		return s.permitsID(ctx, tx, "profile", p.ProfileID)
	case "handover":
		h, err := store.Handovers.Row(ctx, tx, id)
		if err != nil {
			return err
		}
		return s.permitsID(ctx, tx, "profile", h.ProfileID)
	}
	if err != nil {
		return err
	}
	return s.permits(ctx, tx, record)
}

// confine checks what an operator shall be confined to; nil where both are empty.
func (s *Service) confine(
	ctx context.Context,
	role string,
	c *api.Confinement,
) (*api.Confinement, error) {
	if c.Empty() {
		return nil, nil
	}
	if role != RoleIssuer {
		return nil, problem(
			"operator",
			"/confined",
			"an operator with the role "+role,
			"an issuer",
			"leave groups and gateways empty: auditors change nothing, and owners cannot be confined",
		)
	}
	for _, id := range c.Gateways {
		_, err := store.Gateways.Row(ctx, s.store.Read(), id)
		if none := new(store.NotFoundError); errors.As(err, &none) {
			return nil, missing("operator", "/confined/gateways", "gateway", id)
		}
		if err != nil {
			return nil, err
		}
	}
	for _, g := range c.Groups {
		if strings.TrimSpace(g) == "" || len(g) > 200 {
			return nil, problem(
				"operator",
				"/confined/groups",
				quoted(g),
				"the name of a group",
				"write it out",
			)
		}
	}
	return c, nil
}
