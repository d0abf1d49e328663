package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Findings lists what is wrong all over the fleet, a page.
func (s *Service) Findings(ctx context.Context, q store.Query) (api.Page[api.FleetFinding], error) {
	page, err := store.Findings.List(ctx, s.store.Read(), q)
	for i := range page.Items {
		rule, _ := check.Lookup(page.Items[i].Rule)
		page.Items[i].Title = rule.Title
	}
	return page, err
}

// FindingSums counts findings by rule, gateway or person, with what is new and what has
// ended within some days.
func (s *Service) FindingSums(ctx context.Context, by string, days int) ([]api.FindingSum, error) {
	list, err := summed(
		&s.sums,
		fmt.Sprint("findings ", by, " ", days, " ", s.now().Format(time.DateOnly)),
		func() ([]api.FindingSum, error) { return s.store.Read().SumFindings(ctx, by, days, 500) },
	)
	list = slices.Clone(list)
	if by == "rule" {
		for i := range list {
			rule, _ := check.Lookup(list[i].Key)
			list[i].Title = rule.Title
		}
	}
	return list, err
}

// Fixes shows the mechanical changes of records that would fix a rule's findings, of the
// first profiles that have any.
func (s *Service) Fixes(ctx context.Context, rule string, limit int) (api.Page[api.Fix], error) {
	page := api.Page[api.Fix]{Items: []api.Fix{}}
	tx := s.store.Read()
	ids, err := tx.ProfilesWith(ctx, rule, "", limit)
	if err != nil {
		return page, err
	}
	if page.Total, err = tx.CountWith(ctx, rule); err != nil {
		return page, err
	}
	seen := map[api.Fix]bool{}
	for _, id := range ids {
		w, err := s.work(ctx, tx, id)
		if err != nil {
			return page, err
		}
		for _, f := range fixable(w, rule) {
			m := api.Fix{
				Noun:    f.Place.Noun,
				Object:  f.Place.ID,
				Pointer: f.Place.Pointer,
				From:    f.Repair.From,
				To:      f.Repair.To,
			}
			if f.Field == vpn.FieldPassword || f.Field == vpn.FieldPSK {
				m.From, m.To = secret.Hidden, secret.Hidden
			}
			if m.Name, _, err = tx.Title(ctx, m.Noun, m.Object); err != nil {
				return page, err
			}
			if m.Noun == "profile" {
				m.Name = w.in.Device.Name + " to " + w.in.Gateway.Name
			}
			if !seen[m] {
				seen[m] = true
				page.Items = append(page.Items, m)
			}
		}
	}
	return page, nil
}

// fixable are the findings of a rule on a profile that can be fixed on the records.
func fixable(w *worked, rule string) []check.Finding {
	var list []check.Finding
	for _, f := range w.findings {
		if f.Rule == rule && f.Repair != nil && f.Repair.To != "" && f.Place != nil &&
			f.Place.Pointer != "" {
			list = append(list, f)
		}
	}
	return list
}

// FixAll fixes all findings of a rule that are mechanical, as a job.
func (s *Service) FixAll(ctx context.Context, rule string) (api.Job, error) {
	j := api.Job{Kind: "fix", Subject: rule, Operator: actor(ctx), Result: map[string]int{}}
	known, ok := check.Lookup(rule)
	if !ok {
		return j, &store.NotFoundError{Noun: "rule", ID: rule}
	}
	err := s.store.Write(ctx, func(tx *store.Tx) (err error) {
		if j.Total, err = tx.CountWith(ctx, rule); err != nil {
			return err
		}
		j.Title = "Fix: " + known.Title
		if err := tx.AddJob(ctx, &j); err != nil {
			return err
		}
		return audit(ctx, tx, "fix", "rule", rule, j.Title)
	})
	s.workSoon()
	return j, err
}

// nextFix lists profiles with findings of the rule that can be fixed.
func (s *Service) nextFix(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	limit int,
) ([]string, error) {
	return tx.ProfilesWith(ctx, j.Subject, j.Cursor, limit)
}

// fixOne fixes one profile. It is planned again before: what an earlier change of the same record
// has fixed already is not found again.
func (s *Service) fixOne(ctx context.Context, tx *store.Tx, j api.Job, id string) (kept, error) {
	w, err := s.work(ctx, tx, id)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		if err := w.current(ctx, tx); err != nil {
			return err
		}
		for _, f := range fixable(w, j.Subject) {
			var refused *vpn.Problems
			var conflict *store.ConflictError
			switch err := s.carryFix(ctx, tx, f); {
			case errors.As(err, &refused) || errors.As(err, &conflict):
				count(outcomeRefused)
			case err != nil:
				return err
			default:
				count("fixed")
			}
		}
		return nil
	}, nil
}

// carryFix carries one fix out on its record, as a change that is logged.
func (s *Service) carryFix(ctx context.Context, tx *store.Tx, f check.Finding) error {
	at, r := f.Place, f.Repair
	text := func(v *string) {
		if *v == r.From {
			*v = r.To
		}
	}
	fresh := secret.New(r.To)
	keep := func(field string) bool { return "/"+field != at.Pointer }
	var err error
	switch at.Noun {
	case "account":
		_, err = s.Accounts.change(ctx, tx, at.ID, 0, func(a *vpn.Account) (*vpn.Account, error) {
			switch at.Pointer {
			case "/login":
				text(&a.Login)
			case "/realm":
				text(&a.Realm)
			case "/password":
				a.Password = &fresh
			}
			return a, nil
		}, keep)
	case "gateway":
		_, err = s.Gateways.change(ctx, tx, at.ID, 0, func(g *vpn.Gateway) (*vpn.Gateway, error) {
			switch at.Pointer {
			case "/address":
				text(&g.Address)
			case "/routes":
				for i := range g.Routes {
					text(&g.Routes[i])
				}
			case "/pool":
				for i := range g.Pool {
					text(&g.Pool[i])
				}
			default:
				for field, v := range g.Offers.Secrets() {
					if "/"+field == at.Pointer {
						*v = &fresh
					}
				}
			}
			return g, nil
		}, keep)
	case "profile":
		_, err = s.Profiles.change(ctx, tx, at.ID, 0, func(p *vpn.Profile) (*vpn.Profile, error) {
			if at.Pointer == "/preferences/name" {
				p.Preferences.Name = r.To
			}
			return p, nil
		}, keep)
	}
	return err
}
