package service

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// The nouns with the use cases they share.
type (
	Gateways = Records[vpn.Gateway, api.Gateway, *vpn.Gateway]
	People   = Records[vpn.Person, api.Person, *vpn.Person]
	Accounts = Records[vpn.Account, api.Account, *vpn.Account]
	Devices  = Records[vpn.Device, api.Device, *vpn.Device]
	Profiles = Records[vpn.Profile, api.Profile, *vpn.Profile]
	Patterns = Records[vpn.Pattern, api.Pattern, *vpn.Pattern]

	Authorities = Records[vpn.Authority, api.Authority, *vpn.Authority]
	Switchovers = Records[vpn.Switchover, api.Switchover, *vpn.Switchover]
)

// Nouns are the records of every noun.
type Nouns struct {
	Gateways    *Gateways
	People      *People
	Accounts    *Accounts
	Devices     *Devices
	Profiles    *Profiles
	Patterns    *Patterns
	Authorities *Authorities
	Switchovers *Switchovers
}

func (s *Service) nouns() Nouns {
	return Nouns{
		Gateways:    s.gateways(),
		People:      s.people(),
		Accounts:    s.accounts(),
		Devices:     s.devices(),
		Profiles:    s.profiles(),
		Patterns:    s.patterns(),
		Authorities: s.authorities(),
		Switchovers: s.switchovers(),
	}
}

// All are those of the struct, in its order.
func (n Nouns) All() (list []Noun) {
	fields := reflect.ValueOf(n)
	for i := range fields.NumField() {
		list = append(list, fields.Field(i).Interface().(Noun))
	}
	return list
}

func (s *Service) gateways() *Gateways {
	return &Gateways{
		s: s, table: store.Gateways, unique: "/name",
		meta:   func(g *vpn.Gateway) *vpn.Meta { return &g.Meta },
		name:   func(g api.Gateway) string { return g.Name },
		hide:   func(g *vpn.Gateway) { g.Offers = g.Offers.Hidden() },
		before: nothing[*vpn.Gateway],
		refers: func(ctx context.Context, tx *store.Tx, g *vpn.Gateway) error {
			if g.Rehearsal.AccountID == "" {
				return nil
			}
			return reference(ctx, tx, store.Accounts, "gateway", "/rehearsal/account_id",
				g.Rehearsal.AccountID)
		},
		used: func(ctx context.Context, tx *store.Tx, g *vpn.Gateway) error {
			return unused(
				ctx,
				tx,
				"gateway",
				g.Name,
				g.ID,
				[3]string{"profiles", "gateway_id", "profiles"},
				[3]string{"account_gateways", "gateway_id", "accounts"},
				[3]string{store.OpenSwitchovers, "gateway_id", "switchovers"},
				[3]string{store.OpenSuccessors, "json_each.value", "switchovers that lead to it"},
				[3]string{"profiles", store.FallbackOf, "profiles as their second gateway"},
				[3]string{"profiles", store.SecondTo, "profiles as the first before their own"},
				[3]string{
					"patterns, json_each(iif(json_valid(patterns.body), patterns.body, '{}'), " +
						"'$.gateway_ids')",
					"json_each.value",
					"patterns",
				},
			)
		},
		touch: func(ctx context.Context, tx *store.Tx, g *vpn.Gateway) error {
			// Profiles of the same devices look at each other's names and routes.
			if err := tx.TouchGateways(ctx, g.ID); err != nil {
				return err
			}
			return tx.TouchProfiles(
				ctx,
				"device_id IN (SELECT device_id FROM profiles WHERE gateway_id = ?1 OR "+
					store.FallbackOf+" = ?1 OR "+store.SecondTo+" = ?1)",
				g.ID,
			)
		},
	}
}

func touchPerson(ctx context.Context, tx *store.Tx, personID string) error {
	return tx.TouchProfiles(
		ctx,
		"device_id IN (SELECT id FROM devices WHERE person_id = ?)",
		personID,
	)
}

func (s *Service) people() *People {
	return &People{
		s:      s,
		table:  store.People,
		meta:   func(p *vpn.Person) *vpn.Meta { return &p.Meta },
		name:   func(p api.Person) string { return p.Name },
		hide:   func(*vpn.Person) {},
		refers: nothing[*vpn.Person],
		before: nothing[*vpn.Person],
		used: func(ctx context.Context, tx *store.Tx, p *vpn.Person) error {
			return unused(
				ctx,
				tx,
				"person",
				p.Name,
				p.ID,
				[3]string{"devices", "person_id", "devices"},
				[3]string{"accounts", "person_id", "accounts"},
			)
		},
		touch: func(ctx context.Context, tx *store.Tx, p *vpn.Person) error {
			return touchPerson(ctx, tx, p.ID)
		},
	}
}

func (s *Service) accounts() *Accounts {
	return &Accounts{
		s:      s,
		table:  store.Accounts,
		unique: "/login",
		meta:   func(a *vpn.Account) *vpn.Meta { return &a.Meta },
		name:   func(a api.Account) string { return a.Login + " of " + a.Person },
		hide:   func(a *vpn.Account) { a.Password = nil },
		refers: func(ctx context.Context, tx *store.Tx, a *vpn.Account) error {
			err := reference(ctx, tx, store.People, "account", "/person_id", a.PersonID)
			for i, id := range a.GatewayIDs {
				if err == nil {
					err = reference(
						ctx,
						tx,
						store.Gateways,
						"account",
						fmt.Sprintf("/gateway_ids/%d", i),
						id,
					)
				}
			}
			return err
		},
		used: func(ctx context.Context, tx *store.Tx, a *vpn.Account) error {
			return unused(
				ctx,
				tx,
				"account",
				a.Login,
				a.ID,
				[3]string{
					"gateways",
					store.RehearsedAs,
					"gateways whose rehearsals sign in with it",
				},
			)
		},
		before: nothing[*vpn.Account],
		touch: func(ctx context.Context, tx *store.Tx, a *vpn.Account) error {
			alike := tx.TouchProfiles(
				ctx,
				`device_id IN (SELECT d.id FROM accounts a JOIN devices d ON d.person_id =
					a.person_id WHERE lower(a.login) = lower(?) AND a.id <> ?)`,
				a.Login,
				a.ID,
			)
			return errors.Join(touchPerson(ctx, tx, a.PersonID), alike)
		},
	}
}

// touchDevice touches the profiles of a device, and those of routers whose sites are behind
// the same gateways: they look at each other's networks.
func touchDevice(ctx context.Context, tx *store.Tx, deviceID string) error {
	return tx.TouchProfiles(
		ctx,
		`device_id = ?1 OR device_id IN (SELECT id FROM devices WHERE `+store.Sited+`)
		AND gateway_id IN (SELECT gateway_id FROM profiles WHERE device_id = ?1)`,
		deviceID,
	)
}

func (s *Service) devices() *Devices {
	return &Devices{
		s:      s,
		table:  store.Devices,
		unique: "/name",
		meta:   func(d *vpn.Device) *vpn.Meta { return &d.Meta },
		name:   func(d api.Device) string { return d.Name },
		hide: func(d *vpn.Device) {
			if d.Identity != nil {
				identity := *d.Identity
				d.Identity = &identity
			}
			d.Others = slices.Clone(d.Others)
			for id := range d.Identities() {
				id.Key = nil
			}
		},
		before: nothing[*vpn.Device],
		refers: func(ctx context.Context, tx *store.Tx, d *vpn.Device) error {
			if d.Enrolment != nil {
				if err := reference(ctx, tx, store.Authorities, "device", "/enrolment/authority_id",
					d.Enrolment.AuthorityID); err != nil {
					return err
				}
				for i, id := range d.Enrolment.OtherIDs {
					if err := reference(ctx, tx, store.Authorities, "device", fmt.Sprintf(
						"/enrolment/other_authority_ids/%d", i), id); err != nil {
						return err
					}
				}
			}
			return reference(ctx, tx, store.People, "device", "/person_id", d.PersonID)
		},
		used: func(ctx context.Context, tx *store.Tx, d *vpn.Device) error {
			return unused(
				ctx,
				tx,
				"device",
				d.Name,
				d.ID,
				[3]string{"profiles", "device_id", "profiles"},
			)
		},
		touch: func(ctx context.Context, tx *store.Tx, d *vpn.Device) error {
			return touchDevice(ctx, tx, d.ID)
		},
	}
}

func (s *Service) profiles() *Profiles {
	return &Profiles{
		s:      s,
		table:  store.Profiles,
		unique: "/device_id",
		meta:   func(p *vpn.Profile) *vpn.Meta { return &p.Meta },
		name:   func(p api.Profile) string { return p.Device + " to " + p.Gateway },
		hide:   func(*vpn.Profile) {},
		refers: func(ctx context.Context, tx *store.Tx, p *vpn.Profile) error {
			return errors.Join(
				reference(ctx, tx, store.Devices, "profile", "/device_id", p.DeviceID),
				reference(ctx, tx, store.Gateways, "profile", "/gateway_id", p.GatewayID),
				preferredAccount(
					ctx,
					tx,
					p,
				),
				knownPattern(ctx, tx, p.PatternID),
				preferredGateway(ctx, tx, "/preferences/fallback_id", p.Preferences.FallbackID),
				preferredGateway(ctx, tx, "/preferences/second_to", p.Preferences.SecondTo),
			)
		},
		used: nothing[*vpn.Profile],
		before: func(ctx context.Context, tx *store.Tx, p *vpn.Profile) error {
			return tx.ForgetParcels(ctx, p.ID)
		},
		touch: func(ctx context.Context, tx *store.Tx, p *vpn.Profile) error {
			return touchDevice(ctx, tx, p.DeviceID)
		},
	}
}

// preferredGateway refuses a gateway that is not there.
func preferredGateway(ctx context.Context, tx *store.Tx, pointer, id string) error {
	if id == "" {
		return nil
	}
	return reference(ctx, tx, store.Gateways, "profile", pointer, id)
}

// preferredAccount refuses an account that is not the device owner's.
func preferredAccount(ctx context.Context, tx *store.Tx, p *vpn.Profile) error {
	if p.Preferences.AccountID == "" {
		return nil
	}
	found, err := store.Accounts.Where(
		ctx,
		tx,
		"id = ? AND person_id = (SELECT person_id FROM devices WHERE id = ?)",
		p.Preferences.AccountID,
		p.DeviceID,
	)
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return missing(
			"profile",
			"/preferences/account_id",
			"account of the device's owner",
			p.Preferences.AccountID,
		)
	}
	return nil
}

func knownPattern(ctx context.Context, tx *store.Tx, id string) error {
	if id == "" {
		return nil
	}
	return reference(ctx, tx, store.Patterns, "profile", "/pattern_id", id)
}

func (s *Service) patterns() *Patterns {
	return &Patterns{
		s:      s,
		table:  store.Patterns,
		unique: "/name",
		meta:   func(p *vpn.Pattern) *vpn.Meta { return &p.Meta },
		name:   func(p api.Pattern) string { return p.Name },
		hide:   func(*vpn.Pattern) {},
		before: nothing[*vpn.Pattern],
		refers: func(ctx context.Context, tx *store.Tx, p *vpn.Pattern) error {
			for i, id := range p.GatewayIDs {
				if err := reference(
					ctx,
					tx,
					store.Gateways,
					"pattern",
					fmt.Sprintf("/gateway_ids/%d", i),
					id,
				); err != nil {
					return err
				}
			}
			return nil
		},
		used: func(ctx context.Context, tx *store.Tx, p *vpn.Pattern) error {
			return unused(
				ctx,
				tx,
				"pattern",
				p.Name,
				p.ID,
				[3]string{"profiles", "pattern_id", "profiles"},
			)
		},
		touch: func(ctx context.Context, tx *store.Tx, p *vpn.Pattern) error {
			return tx.TouchProfiles(
				ctx,
				"device_id IN (SELECT device_id FROM profiles WHERE pattern_id = ?)",
				p.ID,
			)
		},
	}
}
