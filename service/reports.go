package service

import (
	"unicode"

	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/explain"
	"wardicon/core/vpn"
	"wardicon/store"
)

// mostSaid bounds what is kept of what a person says, in characters; mostAdvice what they are told
// to do.
const (
	mostSaid   = 4 << 10
	mostAdvice = 2
)

// ReportFailure takes in what a person says does not work, tells what they can do, and keeps it for
// the administrator, with secrets masked.
func (s *Service) ReportFailure(
	ctx context.Context,
	token, bearer, said string,
	from Caller,
) (advice []explain.Person, err error) {
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
	r := api.Report{
		ProfileID: o.Handover.ProfileID,
		Message:   cut(explain.Mask(strings.ToValidUTF8(said, "\uFFFD"), known...), mostSaid),
	}
	if r.Facts, err = s.factsOf(ctx, token, bearer, o, from); err != nil {
		return nil, err
	}
	for _, c := range x.Causes {
		if r.Cause == "" {
			r.Cause = c.Title
		}
		if !slices.Contains(advice, c.Person) && len(advice) < mostAdvice {
			advice = append(advice, c.Person)
		}
	}
	// Advice is free; what is kept is bounded, so that a flood does not push out what others said.
	if s.throttled("report "+r.ProfileID, reportPace) != nil {
		return advice, nil
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := s.tellOf(ctx, tx, r); err != nil {
			return err
		}
		return tx.AddReport(ctx, r)
	})
	s.mailSoon()
	return advice, err
}

// factsOf are what is known of a device at the moment at which somebody says that it fails.
func (s *Service) factsOf(
	ctx context.Context,
	token, bearer string,
	o api.Opened,
	from Caller,
) (string, error) {
	seen, err := s.See(ctx, token, bearer, from.Address)
	if err != nil {
		return "", err
	}
	day := func(t *time.Time, otherwise string) string {
		if t == nil {
			return otherwise
		}
		return t.UTC().Format(time.DateTime) + " UTC"
	}
	where := "through no gateway"
	if seen.Proof.Now.Match != nil {
		where = "through " + seen.Proof.Now.Match.Gateway
	}
	if seen.Proof.Past {
		where += ", part of the traffic past it"
	}
	state := "up to date"
	if o.Card == nil {
		state = "out of date"
	}
	return strings.Join([]string{
		"Browser: " + cut(plainly(from.Client), 200),
		"Public address: " + seen.Proof.Now.Address + ", " + where,
		"Parcel: built " + o.Parcel.Built.UTC().Format(time.DateTime) + " UTC, " + state,
		"Files fetched: " + day(o.Handover.Fetched, "not yet"),
		"Connection seen: " + day(o.Handover.Connected, "never"),
	}, "\n"), nil
}

// plainly leaves out what cannot be printed.
func plainly(text string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, ""))
}

// quiet is how long no other email is written about the same profile.
const quiet = time.Hour

// tellOf writes to those who are reminded by mail. What the person said is not in the email: it may
// have more in it than can be masked.
func (s *Service) tellOf(ctx context.Context, tx *store.Tx, r api.Report) error {
	m, err := tx.Mail(ctx)
	if err != nil || m.Server == "" || len(m.Reminders) == 0 {
		return err
	}
	before, err := store.Reports.List(
		ctx,
		tx,
		store.Query{Limit: 1, Conditions: map[string]string{"profile_id": r.ProfileID}},
	)
	if err != nil || len(before.Items) > 0 && s.now().Sub(before.Items[0].Created) < quiet {
		return err
	}
	page, err := store.Profiles.Row(ctx, tx, r.ProfileID)
	if err != nil {
		return err
	}
	organisation, err := tx.Organisation(ctx)
	if err != nil {
		return err
	}
	text := fmt.Sprintf(
		"%s says that %s does not get through to %s.\n\nLikeliest cause: %s\n\nWhat they said is "+
			"on the page Explain of the console",
		page.Person,
		page.Device,
		page.Gateway,
		cmp.Or(r.Cause, "nothing is known of it"),
	)
	if organisation.Links != "" {
		text += ": " + organisation.Links + "/explain"
	}
	email := api.Email{
		Kind: "report",
		Subject: cut(
			fmt.Sprintf(
				"%s: %s does not get through to %s",
				page.Person,
				page.Device,
				page.Gateway,
			),
			150,
		),
	}
	for _, to := range m.Reminders {
		email.To = to
		if err := s.write(ctx, tx, email, vpn.Message{Text: text + ".\n"}); err != nil {
			return err
		}
	}
	return nil
}

// Reports lists what people said does not work.
func (s *Service) Reports(ctx context.Context, q store.Query) (api.Page[api.Report], error) {
	return store.Reports.List(ctx, s.store.Read(), q)
}

// CloseReport notes that a report was dealt with.
func (s *Service) CloseReport(ctx context.Context, id string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.CloseReport(ctx, id, s.now()); err != nil {
			return err
		}
		return audit(ctx, tx, "close", "report", id, "")
	})
}
