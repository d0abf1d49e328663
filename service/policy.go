package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Rules lists the rules with the severities that the owner has set.
func (s *Service) Rules(ctx context.Context) ([]api.Rule, error) {
	set, err := s.store.Read().Severities(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]api.Rule, len(check.Register))
	for i, r := range check.Register {
		list[i] = api.Rule{Rule: r, Set: set[r.Code]}
	}
	return list, nil
}

// settable are the severities that a rule can be set to; the empty one takes its own back.
var settable = []vpn.Severity{"", vpn.Error, vpn.Warning, vpn.Note, check.Off}

// SetSeverity sets the severity of a rule for the whole fleet, and has every profile
// checked again.
func (s *Service) SetSeverity(
	ctx context.Context,
	code string,
	severity vpn.Severity,
) (r api.Rule, err error) {
	rule, ok := check.Lookup(code)
	if !ok {
		return r, &store.NotFoundError{Noun: "rule", ID: code}
	}
	if !slices.Contains(settable, severity) {
		return r, problem(
			"rule",
			"/severity",
			fmt.Sprintf("%q", severity),
			"error, warning, note, off or nothing",
			"choose one of them",
		)
	}
	if slices.Contains(rule.Fields, vpn.FieldHandover) {
		return r, problem(
			"rule",
			"/severity",
			rule.Code,
			"a rule that looks at profiles",
			"this one holds whenever a parcel is handed over; it cannot be set",
		)
	}
	if severity == rule.Severity {
		severity = ""
	}
	shown := string(severity)
	if shown == "" {
		shown = "its own"
	}
	use, err := s.approved(ctx, "severity", code, "set the severity of "+code+" to "+shown, RoleOwner)
	if err != nil {
		return r, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := use(ctx, tx); err != nil {
			return err
		}
		if err := tx.SetSeverity(ctx, code, severity, actor(ctx)); err != nil {
			return err
		}
		if err := errors.Join(tx.TouchAll(ctx), tx.TouchGateways(ctx, "")); err != nil {
			return err
		}
		said := string(severity)
		if said == "" {
			said = string(rule.Severity) + ", its own"
		}
		return audit(ctx, tx, "set severity", "rule", code, said)
	})
	s.checkSoon()
	return api.Rule{Rule: rule, Set: severity}, err
}

func problem(object, pointer, found, expected, fix string) error {
	return &vpn.Problems{
		Object: object,
		List:   []vpn.Problem{{Pointer: pointer, Found: found, Expected: expected, Fix: fix}},
	}
}

// longestOverride bounds how long an error may pass.
const longestOverride = 366 * 24 * time.Hour

// Override lets an error pass on one profile, for a reason and a time.
func (s *Service) Override(
	ctx context.Context,
	profileID, code, reason string,
	until time.Time,
) (o check.Override, err error) {
	if _, ok := check.Lookup(code); !ok {
		return o, &store.NotFoundError{Noun: "rule", ID: code}
	}
	now := s.now()
	var problems []vpn.Problem
	if reason = strings.TrimSpace(
		reason,
	); reason == "" || len(reason) > 500 ||
		strings.ContainsAny(reason, "\x00\n\r") {
		problems = append(
			problems,
			vpn.Problem{
				Pointer:  "/reason",
				Found:    "none, or more than 500 characters",
				Expected: "why the error may pass, on one line",
				Fix:      "give the reason",
			},
		)
	}
	if !until.After(now) || until.After(now.Add(longestOverride)) {
		problems = append(
			problems,
			vpn.Problem{
				Pointer:  "/until",
				Found:    until.Format(time.DateOnly),
				Expected: "a day to come, within a year",
				Fix:      "choose a day on which somebody will look at it again",
			},
		)
	}
	if len(problems) > 0 {
		return o, &vpn.Problems{Object: "override", List: problems}
	}
	o = check.Override{Rule: code, Reason: reason, Until: until.UTC(), Operator: actor(ctx)}
	profile, err := store.Profiles.Row(ctx, s.store.Read(), profileID)
	if err != nil {
		return o, err
	}
	use, err := s.approved(ctx, "override", profileID, fmt.Sprintf(
		"let %s pass on %s to %s until %s: %s",
		code, profile.Device, profile.Gateway, o.Until.Format(time.DateOnly), reason), RoleIssuer)
	if err != nil {
		return o, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := use(ctx, tx); err != nil {
			return err
		}
		w, err := s.work(ctx, tx, profileID)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(w.findings, func(f check.Finding) bool {
			return f.Rule == code && (f.Severity == vpn.Error || f.Override != nil)
		}) {
			return problem(
				"override",
				"/rule",
				code,
				"an error that is found on this profile",
				"look at the profile's findings",
			)
		}
		if code == check.CodeUnfit {
			return problem(
				"override",
				"/rule",
				code,
				"an error that is about sense, not about what a file can hold",
				"choose another file, or a card",
			)
		}
		if err := tx.PutOverride(ctx, profileID, o); err != nil {
			return err
		}
		return s.overridden(
			ctx,
			tx,
			w,
			"override",
			code+" until "+o.Until.Format(time.DateOnly)+": "+reason,
		)
	})
	s.checkSoon()
	return o, err
}

// EndOverride takes an override back before its time.
func (s *Service) EndOverride(ctx context.Context, profileID, code string) error {
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		w, err := s.work(ctx, tx, profileID)
		if err != nil {
			return err
		}
		if err := tx.EndOverride(ctx, profileID, code); err != nil {
			return err
		}
		return s.overridden(ctx, tx, w, "end override", code)
	})
	s.checkSoon()
	return err
}

func (s *Service) overridden(
	ctx context.Context,
	tx *store.Tx,
	w *worked,
	action, detail string,
) error {
	if err := tx.TouchProfiles(ctx, "id = ?", w.in.Profile.ID); err != nil {
		return err
	}
	return audit(
		ctx,
		tx,
		action,
		"profile",
		w.in.Profile.ID,
		w.in.Device.Name+" to "+w.in.Gateway.Name+", "+detail,
	)
}
