package service

import (
	"context"
	"strings"
	"time"

	"wardicon/core/drift"
	"wardicon/core/explain"
	"wardicon/core/pki"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Question is what somebody brought: a code, or lines of a log, or what was read of one elsewhere.
type Question struct {
	Text      string
	Reading   *explain.Reading
	ProfileID string
	DeviceID  string
}

// othersTime is how long ago other devices may have been seen to count.
const othersTime = 24 * time.Hour

// Explain tells what lies behind it, ranked by what the records say where a profile or a device is
// given. Nothing of what was brought is kept.
func (s *Service) Explain(ctx context.Context, q Question) (x explain.Explanation, err error) {
	tx := s.store.Read()
	var e explain.Evidence
	profileID := q.ProfileID
	if profileID == "" && q.DeviceID != "" {
		page, err := store.Profiles.List(
			ctx,
			tx,
			store.Query{Limit: 2, Conditions: map[string]string{"device_id": q.DeviceID}},
		)
		if err != nil {
			return x, err
		}
		if page.Total != 1 {
			return x, problem(
				"question",
				"/device_id",
				"a device with several profiles or none",
				"one profile",
				"name the profile",
			)
		}
		profileID = page.Items[0].ID
	}
	if profileID != "" {
		if e, _, err = s.evidence(ctx, tx, profileID); err != nil {
			return x, err
		}
	}
	// The stored secrets are not looked for in the caller's own text: whether one is masked would
	// tell that it is there.
	return explained(q, e, s.now(), nil)
}

// explained works an explanation out.
func explained(
	q Question,
	e explain.Evidence,
	now time.Time,
	known []secret.Text,
) (x explain.Explanation, err error) {
	text := strings.TrimSpace(q.Text)
	code, ok := explain.Find(text)
	switch {
	case q.Reading != nil:
		if !q.Reading.Known() {
			return x, problem(
				"question",
				"/reading",
				"causes that nobody knows",
				"what was read by this version",
				"read the log again",
			)
		}
		q.Reading.Hide(known...) // on the command line nothing is known of the records
		return explain.Explain(nil, q.Reading, e), nil
	case ok:
		return explain.Explain(code, nil, e), nil
	case text == "":
		return x, problem(
			"question",
			"/text",
			"nothing",
			"a code or lines of a log",
			"paste what the device or the log says",
		)
	}
	r, err := explain.Read(strings.NewReader(q.Text+"\n"), now, known...)
	if err != nil {
		return x, err
	}
	return explain.Explain(nil, &r, e), nil
}

// evidence is what the records say of a profile, and the secrets that lines about it may carry.
func (s *Service) evidence(
	ctx context.Context,
	tx *store.Tx,
	profileID string,
) (e explain.Evidence, known []secret.Text, err error) {
	w, err := s.work(ctx, tx, profileID)
	if err != nil {
		return e, nil, err
	}
	g, d, c := w.in.Gateway, w.in.Device, w.plan.Connection
	e = explain.Evidence{
		Now:             s.now(),
		Platform:        d.Platform,
		Release:         d.Release,
		Protocol:        c.Protocol,
		Name:            c.Name,
		Address:         c.Server,
		Gateway:         g.Name,
		Outdated:        w.subject.Outdated,
		Offers:          g.Offers.Protocols(),
		Routes:          c.Routes,
		Proofs:          explain.ProofsOf(c),
		MachineWide:     c.Scope == vpn.ScopeMachine,
		BehindNAT:       g.BehindNAT,
		AuthorityNeeded: g.Offers.Authority(c.Protocol) != "",
		Realm:           g.SignIn.Form != vpn.LoginPlain,
		PasswordAsked:   c.PasswordMode == vpn.PasswordPrompted,
		CannotAsk:       d.CannotAsk,
	}
	for _, f := range w.findings {
		e.Findings = append(e.Findings, f.Rule)
	}
	if err := s.datesOf(ctx, tx, w, &e); err != nil {
		return e, nil, err
	}
	if e.Probe, err = tx.LatestProbe(ctx, g.ID, s.now().Add(-probeFresh)); err != nil {
		return e, nil, err
	}
	if e.Tried, err = s.rehearsedNow(ctx, tx, w); err != nil {
		return e, nil, err
	}
	if c.Authority != "" || c.Protocol == vpn.SSTP || c.Protocol == vpn.TLS {
		e.GatewayExpires = shownEnd(e.Probe, c.Protocol, g.Certificate)
	}
	if e.Others, err = tx.OthersSeen(ctx, g.ID, profileID, s.now().Add(-othersTime)); err != nil {
		return e, nil, err
	}
	seen, err := tx.SeenConnections(ctx, profileID)
	if err != nil {
		return e, nil, err
	}
	for _, one := range seen {
		if one.GatewayID == g.ID {
			e.Seen = one.Last
		}
	}
	return e, w.secrets(), nil
}

// rehearsedNow is the newest rehearsal of a profile's newest parcel, while it counts.
func (s *Service) rehearsedNow(
	ctx context.Context,
	tx *store.Tx,
	w *worked,
) (*explain.Tried, error) {
	r := w.subject.Rehearsed
	if r == nil || r.Protocol != w.plan.Connection.Protocol ||
		s.now().Sub(r.At) > probeFresh || r.CauseID == rehearsal.NotPermitted {
		return nil, nil
	}
	login, err := tx.RehearsalLogin(ctx, w.in.Profile.ID)
	return &explain.Tried{Result: *r, Own: login == w.plan.Connection.Login}, err
}

// datesOf fills in when the parcel was built and fetched, and when secrets were changed.
func (s *Service) datesOf(ctx context.Context, tx *store.Tx, w *worked, e *explain.Evidence) error {
	last, err := tx.LastParcel(ctx, w.in.Profile.ID)
	if err != nil {
		return err
	}
	if last != nil {
		e.Built = last.Built
	}
	page, err := store.Handovers.List(
		ctx,
		tx,
		store.Query{Limit: 1, Conditions: map[string]string{"profile_id": w.in.Profile.ID}},
	)
	if err != nil {
		return err
	}
	if len(page.Items) > 0 && page.Items[0].Fetched != nil {
		e.Delivered = *page.Items[0].Fetched
	}
	changed, err := store.Gateways.SecretsChanged(ctx, tx, w.in.Gateway.ID)
	if err != nil {
		return err
	}
	for field, at := range changed {
		if strings.Contains(field, string(e.Protocol)) && at.After(e.KeyChanged) {
			e.KeyChanged = at
		}
	}
	if a := w.plan.Account; a != nil {
		if changed, err = store.Accounts.SecretsChanged(ctx, tx, a.ID); err != nil {
			return err
		}
		for _, at := range changed {
			e.PasswordChanged = at
		}
	}
	if id := w.plan.Connection.Identity; id != nil {
		if list, err := pki.Certificates(id.Certificate); err == nil && len(list) > 0 {
			e.CertificateExpiring = list[0].NotAfter
		}
	}
	return nil
}

// shownEnd is when the certificate ends that a gateway shows: by the last probe, or by its record.
func shownEnd(p *drift.Probe, protocol vpn.Protocol, record string) time.Time {
	if p != nil {
		for _, a := range p.Answers {
			if a.Protocol != protocol || a.TLS == nil {
				continue
			}
			if end, err := time.Parse(time.RFC3339, a.TLS.Expires); err == nil {
				return end
			}
		}
	}
	if list, err := pki.Certificates(record); err == nil && len(list) > 0 {
		return list[0].NotAfter
	}
	return time.Time{}
}

// secrets are those that lines about the connection may carry.
func (w *worked) secrets() (list []secret.Text) {
	for _, s := range w.plan.Connection.Secrets() {
		list = append(list, *s)
	}
	for _, s := range w.in.Gateway.Offers.Secrets() {
		if *s != nil {
			list = append(list, **s)
		}
	}
	if a := w.plan.Account; a != nil && a.Password != nil {
		list = append(list, *a.Password)
	}
	return list
}
