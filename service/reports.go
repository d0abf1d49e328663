package service

import (
	"context"
	"slices"
	"strings"

	"wardicon/core/explain"
	"wardicon/core/view"
	"wardicon/store"
)

// mostSaid bounds what is kept of what a person says, in bytes; mostAdvice what they are told to do.
const (
	mostSaid   = 4 << 10
	mostAdvice = 2
)

// ReportFailure takes in what a person says does not work, tells what they can do, and keeps it for the administrator, with
// secrets masked.
func (s *Service) ReportFailure(ctx context.Context, token, bearer, said string) (advice []explain.Person, err error) {
	o, err := s.Visited(ctx, token, bearer, "", "")
	if err != nil {
		return nil, err
	}
	tx := s.store.Read()
	e, known, err := s.evidence(ctx, tx, o.Handover.ProfileID)
	if err != nil {
		return nil, err
	}
	x, err := explained(Question{Text: said}, e, s.now(), known)
	if err != nil {
		return nil, err
	}
	r := view.Report{ProfileID: o.Handover.ProfileID, Said: explain.Mask(strings.ToValidUTF8(said[:min(len(said), mostSaid)], "\uFFFD"), known...)}
	for _, c := range x.Causes {
		if r.Cause == "" {
			r.Cause = c.Title
		}
		if !slices.Contains(advice, c.Person) && len(advice) < mostAdvice {
			advice = append(advice, c.Person)
		}
	}
	return advice, s.store.Write(ctx, func(tx *store.Tx) error { return tx.AddReport(ctx, r) })
}

// Reports lists what people said does not work.
func (s *Service) Reports(ctx context.Context, q store.Query) (view.Page[view.Report], error) {
	return store.Reports.List(ctx, s.store.Read(), q)
}

// CloseReport notes that a report was dealt with.
func (s *Service) CloseReport(ctx context.Context, id string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.CloseReport(ctx, id, s.now()); err != nil {
			return err
		}
		return deed(ctx, tx, "close", "report", id, "")
	})
}
