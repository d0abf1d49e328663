package service

import (
	"context"
	"slices"

	"wardicon/core/check"
	"wardicon/core/view"
	"wardicon/store"
)

// Overview sums up the fleet.
func (s *Service) Overview(ctx context.Context) (o view.Overview, err error) {
	tx := s.store.Read()
	if o.Organisation, err = tx.Organisation(ctx); err != nil {
		return o, err
	}
	if o.Counts, err = tx.Count(ctx); err != nil {
		return o, err
	}
	if o.Rules, err = tx.CountRules(ctx); err != nil {
		return o, err
	}
	for i := range o.Rules {
		rule, _ := check.Lookup(o.Rules[i].Rule)
		o.Rules[i].Title = rule.Title
	}
	page, err := store.Profiles.List(ctx, tx, store.Query{Sort: "worst", Limit: 8})
	o.Worst = slices.DeleteFunc(page.Items, func(p view.Profile) bool { return p.Tally.Blockers+p.Tally.Warnings == 0 })
	return o, err
}
