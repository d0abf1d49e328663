package service

import (
	"context"
	"slices"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/drift"
	"wardicon/store"
)

// Overview sums up the fleet. It is what every open console asks for at every change, so those who
// ask at the same time share one.
func (s *Service) Overview(ctx context.Context) (api.Overview, error) {
	return s.overview.ask(ctx, s.overviewNow)
}

func (s *Service) overviewNow(ctx context.Context) (o api.Overview, err error) {
	tx := s.store.Read()
	if o.Organisation, err = tx.Organisation(ctx); err != nil {
		return o, err
	}
	if o.Counts, err = tx.Count(ctx); err != nil {
		return o, err
	}
	if o.Answers, err = answers(ctx, tx); err != nil {
		return o, err
	}
	probes, err := store.Probes.List(
		ctx,
		tx,
		store.Query{
			Sort:       "state",
			Limit:      mostShown,
			Conditions: map[string]string{"latest": "true"},
		},
	)
	if err != nil {
		return o, err
	}
	o.Probes = probes.Items
	reports, err := store.Reports.List(
		ctx,
		tx,
		store.Query{Limit: 1, Conditions: map[string]string{"open": "true"}},
	)
	if err != nil {
		return o, err
	}
	o.Reports, o.TokensAway = reports.Total, s.TokensAway()
	failing, err := store.Rehearsals.List(ctx, tx, store.Query{
		Limit: 1, Conditions: map[string]string{"latest": "true", "state": "failed"},
	})
	if err != nil {
		return o, err
	}
	o.Failing = failing.Total
	if o.Days, err = summed(&s.sums, "handover days", func() ([]api.HandoverDay, error) {
		return tx.HandoverDays(ctx, s.now().AddDate(0, 0, -trendDays))
	}); err != nil {
		return o, err
	}
	since := s.now().AddDate(0, 0, -trendDays)
	if o.FindingDays, err = tx.FindingDays(ctx, since); err != nil {
		return o, err
	}
	if o.AnswerDays, err = summed(&s.sums, "answer days", func() ([]api.AnswerDay, error) {
		return tx.AnswerDays(ctx, since)
	}); err != nil {
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
	o.Worst = slices.DeleteFunc(
		page.Items,
		func(p api.Profile) bool { return p.Tally.Errors+p.Tally.Warnings == 0 },
	)
	return o, err
}

// trendDays is how far the overview's plot looks back.
const trendDays = 28

// mostShown bounds how many gateways the overview names.
const mostShown = 30

// unprobed are gateways without a probe, beside the states of those with one.
const unprobed = "unprobed"

// answers counts gateways by how they stand.
func answers(ctx context.Context, tx *store.Tx) (map[string]int, error) {
	counts, err := tx.CountAnswers(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string]int{unprobed: counts[""]}
	for _, state := range []drift.State{drift.Matches, drift.Differs, drift.NoResponse,
		drift.Unresolved} {
		all[string(state)] = counts[string(state)]
	}
	return all, nil
}

// Workload is what the service still has to do, and lately did, in numbers.
func (s *Service) Workload(ctx context.Context) (api.Workload, error) {
	return s.store.Read().Workload(ctx)
}

// RefusedSignIns are how many sign-ins were refused since the start.
func (s *Service) RefusedSignIns() int64 { return s.refusals.Load() }
