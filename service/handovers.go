package service

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/i18n"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// What a handover allows where nothing else is said, and at the most.
const (
	handoverDays  = 7
	mostDaysOpen  = 60
	handoverTimes = 3
	mostUses      = 20
	passcodeBits  = 60
	visitLife     = 30 * time.Minute // that a browser has it open
)

// Errors of links. What is wrong with one that does not open is not told to whoever tries it.
var (
	ErrLink = vpn.Refuse(
		vpn.KindExpired,
		"this link cannot be opened: it has expired, was used up or recalled, or the passcode was "+
			"wrong too often",
	)
	ErrPasscode = vpn.Refuse(vpn.KindExpired, "this is not the passcode")
	ErrVisit    = vpn.Refuse(vpn.KindExpired, "open the link with its passcode first")
)

// MakeHandover makes a link to the newest parcel of a profile, which must be as it would be built
// now. Link and passcode come back once; only their hashes are kept.
func (s *Service) MakeHandover(
	ctx context.Context,
	profileID string,
	preference api.HandoverRequest,
) (made api.NewHandover, err error) {
	if preference.Link == check.BySheet || preference.Passcode == check.BySheet {
		return made, problem(
			"handover",
			"/passcode",
			"sheet",
			"shown or mail",
			"sheets are printed for groups",
		)
	}
	if err := s.Permits(ctx, "profile", profileID); err != nil {
		return made, err
	}
	err = settle(
		ctx,
		s,
		func(tx *store.Tx) (*worked, error) { return s.work(ctx, tx, profileID) },
		func(tx *store.Tx, w *worked) error {
			if err := w.current(ctx, tx); err != nil {
				return err
			}
			made, err = s.handOver(ctx, tx, w, preference, "")
			return err
		},
	)
	s.mailSoon()
	return made, err
}

// Reissue closes a link and makes another one to the newest parcel of the same profile, for as many
// days and uses.
func (s *Service) Reissue(
	ctx context.Context,
	id string,
	link check.Way,
) (made api.NewHandover, err error) {
	err = settle(ctx, s, func(tx *store.Tx) (*worked, error) {
		old, err := store.Handovers.Row(ctx, tx, id)
		if err != nil {
			return nil, err
		}
		return s.work(ctx, tx, old.ProfileID)
	}, func(tx *store.Tx, w *worked) error {
		if err := w.current(ctx, tx); err != nil {
			return err
		}
		old, err := store.Handovers.Row(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := s.recall(ctx, tx, old); err != nil {
			return err
		}
		made, err = s.handOver(
			ctx,
			tx,
			w,
			api.HandoverRequest{Days: &old.Days, Uses: &old.MaxUses, Link: link},
			"",
		)
		return err
	})
	s.mailSoon()
	return made, err
}

// handOver makes one link, alone or in a batch.
func (s *Service) handOver(
	ctx context.Context,
	tx *store.Tx,
	w *worked,
	preference api.HandoverRequest,
	batch string,
) (made api.NewHandover, err error) {
	handing := handingOf(preference, check.ByOperator, check.ByOperator)
	last, err := tx.LastParcel(ctx, w.in.Profile.ID)
	if err != nil {
		return made, err
	}
	switch {
	case last == nil:
		return made, problem(
			"handover",
			"/profile_id",
			"a profile without a parcel",
			"one with a parcel",
			"build it first",
		)
	case w.in.Device.Offboarded != "":
		return made, problem(
			"handover",
			"/profile_id",
			"a device that is offboarded ("+string(w.in.Device.Offboarded)+")",
			"one in use",
			"use another device",
		)
	case w.subject.Outdated:
		return made, problem(
			"handover",
			"/profile_id",
			"a parcel that is older than what it was built from",
			"one that is up to date",
			"build it again first",
		)
	}
	if err := measured(handing); err != nil {
		return made, err
	}
	if preference.Attach {
		p, err := tx.Parcel(ctx, last.ID)
		if err != nil {
			return made, err
		}
		handing.Attached = p.Files
	}
	title := w.in.Device.Name + " to " + w.in.Gateway.Name
	if missing := slices.DeleteFunc(slices.Clone(w.findings), func(f check.Finding) bool {
		return f.Rule != check.CodeUnrehearsed || f.Severity != vpn.Error
	}); len(missing) > 0 {
		return made, &BlockedError{title, missing}
	}
	if findings := check.Hand(*w.subject, handing); len(findings) > 0 {
		return made, &BlockedError{title, findings}
	}
	if handing.Link == check.ByMail && w.in.Person.Mail == "" {
		return made, problem(
			"handover",
			"/link",
			w.in.Person.Name+" has no mail address",
			"a person with one",
			"note it on the person's record, or tell the link another way",
		)
	}
	passcode, _, err := secret.Make(rand.Reader, passcodeBits)
	if err != nil {
		return made, err
	}
	token := strings.ToLower(rand.Text() + rand.Text()[:8]) // 170 bits
	h := api.Handover{
		ParcelID: last.ID,
		Days:     handing.Days,
		Expires:  s.now().AddDate(0, 0, handing.Days),
		MaxUses:  handing.Uses,
		Batch:    batch,
		Operator: actor(ctx),
	}
	if err := tx.AddHandover(ctx, &h, token, s.passcodeHash(token, passcode)); err != nil {
		return made, err
	}
	if made.Handover, err = store.Handovers.Row(ctx, tx, h.ID); err != nil {
		return made, err
	}
	made.Path, made.Passcode = LinkPath+token, passcode.Reveal()
	made.Link = w.in.Organisation.Links + made.Path
	if handing.Link == check.ByMail {
		made.Mailed = w.in.Person.Mail
		if err := s.invite(ctx, tx, w, made); err != nil {
			return made, err
		}
	}
	return made, audit(ctx, tx, "make", "handover", h.ID, title+", link "+string(handing.Link))
}

// LinkPath is what the path of a link begins with.
const LinkPath = "/h/"

// handingOf is what is requested, with what stands for what was left out.
func handingOf(preference api.HandoverRequest, link, passcode check.Way) check.Handing {
	h := check.Handing{
		Days:     handoverDays,
		Uses:     handoverTimes,
		Link:     cmp.Or(preference.Link, link),
		Passcode: cmp.Or(preference.Passcode, passcode),
	}
	if preference.Days != nil {
		h.Days = *preference.Days
	}
	if preference.Uses != nil {
		h.Uses = *preference.Uses
	}
	return h
}

// measured refuses days and uses out of bounds; none of either is for a rule to say.
func measured(h check.Handing) error {
	switch {
	case h.Days < 0 || h.Days > mostDaysOpen:
		return problem(
			"handover",
			"/days",
			fmt.Sprint(h.Days),
			fmt.Sprintf("1 to %d days", mostDaysOpen),
			"choose fewer",
		)
	case h.Uses < 0 || h.Uses > mostUses:
		return problem(
			"handover",
			"/uses",
			fmt.Sprint(h.Uses),
			fmt.Sprintf("1 to %d uses", mostUses),
			"choose fewer",
		)
	}
	return nil
}

// passcodeHash is how a passcode is kept and compared: without spaces and hyphens, in small
// letters, bound to its link under the master key. It has 75 random bits and ten tries: a slow hash
// would only help who floods the page.
func (s *Service) passcodeHash(token string, passcode secret.Text) string {
	plain := strings.NewReplacer(" ", "", "-", "", "\u00a0", "").
		Replace(strings.ToLower(passcode.Reveal()))
	return s.store.Digest([]byte("handover passcode " + token + " " + plain))
}

// Handovers lists parcels on their way, a page.
func (s *Service) Handovers(ctx context.Context, q store.Query) (api.Page[api.Handover], error) {
	return store.Handovers.List(ctx, s.store.Read(), q)
}

// SumHandovers counts handovers by state.
func (s *Service) SumHandovers(ctx context.Context) ([]api.HandoverSum, error) {
	return summed(
		&s.sums,
		"handovers",
		func() ([]api.HandoverSum, error) { return s.store.Read().SumHandovers(ctx) },
	)
}

// RecallHandover closes a link at once.
func (s *Service) RecallHandover(ctx context.Context, id string) (h api.Handover, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if h, err = store.Handovers.Row(ctx, tx, id); err != nil {
			return err
		}
		if err := s.recall(ctx, tx, h); err != nil {
			return err
		}
		h, err = store.Handovers.Row(ctx, tx, id)
		return err
	})
	return h, err
}

// recall closes a link, and stops the email that would carry it; nothing is done where it is
// closed.
func (s *Service) recall(ctx context.Context, tx *store.Tx, h api.Handover) error {
	closed, err := tx.Recall(ctx, h.ID)
	if err != nil || !closed {
		return err
	}
	return errors.Join(
		tx.StopEmails(ctx, h.ID, "the link was recalled"),
		audit(ctx, tx, "recall", "handover", h.ID, h.Device+" to "+h.Gateway),
	)
}

// Link finds the handover of a link that can still be opened; looking at it, as programs that
// preview links do, uses nothing up.
func (s *Service) Link(ctx context.Context, token string) (api.Handover, error) {
	tx := s.store.Read()
	h, _, err := tx.HandoverByLink(ctx, token)
	var none *store.NotFoundError
	if errors.As(err, &none) ||
		err == nil &&
			(h.Recalled != nil || h.Wrong >= store.MostWrong || h.Uses >= h.MaxUses ||
				!s.now().Before(h.Expires)) {
		return h, ErrLink
	}
	return h, err
}

// OpenLink opens a link by its passcode: each try is counted before it is looked at, so that no
// number of tries side by side gets more of them. The bearer is for the browser that has opened it,
// from is the address that it comes from.
func (s *Service) OpenLink(
	ctx context.Context,
	token string,
	passcode secret.Text,
	from string,
) (bearer string, until time.Time, err error) {
	var h api.Handover
	var hash string
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if h, hash, err = tx.HandoverByLink(ctx, token); err != nil {
			return err
		}
		counted, err := tx.CountTry(ctx, h.ID)
		if err == nil && !counted {
			err = ErrLink
		}
		return err
	})
	var none *store.NotFoundError
	if errors.As(err, &none) {
		return "", until, ErrLink
	}
	if err != nil {
		return "", until, err
	}
	if !hmac.Equal([]byte(hash), []byte(s.passcodeHash(token, passcode))) {
		return "", until, errors.Join(
			ErrPasscode,
			s.store.Write(
				ctx,
				func(tx *store.Tx) error {
					return audit(ctx,
						tx, "passcode refused", "handover", h.ID, h.Device)
				},
			),
		)
	}
	bearer, until = newBearer(), s.now().Add(visitLife)
	counted := false
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if counted, err = tx.CountUse(ctx, h.ID); err != nil || !counted {
			return errors.Join(
				err,
				tx.TakeTryBack(ctx, h.ID),
			) // somebody else was first; the passcode was right
		}
		return errors.Join(
			tx.TakeTryBack(ctx, h.ID),
			tx.AddVisit(
				ctx,
				store.Visit{HandoverID: h.ID, Before: from, Probe: strings.ToLower(rand.Text())},
				bearer,
				until,
			),
			audit(ctx, tx, "open", "handover", h.ID, h.Device+" to "+h.Gateway),
		)
	})
	if err == nil && !counted {
		err = ErrLink
	}
	return bearer, until, err
}

// visited finds what a browser has opened.
func (s *Service) visited(
	ctx context.Context,
	tx *store.Tx,
	token, bearer string,
) (h api.Handover, v *store.Visit, err error) {
	if h, _, err = tx.HandoverByLink(ctx, token); err != nil {
		return h, nil, ErrLink
	}
	if v, err = tx.Visit(ctx, h.ID, bearer); err == nil && v == nil {
		err = ErrVisit
	}
	return h, v, err
}

// Visited shows a parcel to the browser that has opened its link: the files without their content,
// and the card in the language that was chosen, or else the person's, or else the browser's.
func (s *Service) Visited(
	ctx context.Context,
	token, bearer, chosen, browsers string,
) (o api.Opened, err error) {
	tx := s.store.Read()
	h, _, err := s.visited(ctx, tx, token, bearer)
	if err != nil {
		return o, err
	}
	o.Handover = h
	if o.Parcel, err = tx.Parcel(ctx, h.ParcelID); err != nil {
		return o, err
	}
	w, err := s.work(ctx, tx, h.ProfileID)
	if err != nil {
		return o, err
	}
	o.Platform = w.in.Device.Platform
	o.Language = i18n.Choose(chosen, w.in.Person.Language, browsers)
	if !s.outdated(w, o.Parcel) {
		w.in.Person.Language = o.Language.Tag()
		c := w.card(o.Parcel.Files, o.Parcel.ByHand)
		o.Card = &c
	}
	return o, nil
}

// VisitedFile hands a file out to the browser that has opened its link.
func (s *Service) VisitedFile(
	ctx context.Context,
	token, bearer, name string,
) (f format.File, err error) {
	tx := s.store.Read()
	h, _, err := s.visited(ctx, tx, token, bearer)
	if err != nil {
		return f, err
	}
	p, err := tx.Parcel(ctx, h.ParcelID)
	if err != nil {
		return f, err
	}
	i := slices.IndexFunc(p.Files, func(f format.File) bool { return f.Name == name })
	if i < 0 {
		return f, ErrLink
	}
	f = p.Files[i]
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if f.Content, err = tx.ParcelFile(ctx, p.ID, name); err != nil {
			return err
		}
		return errors.Join(
			tx.NoteFetched(ctx, h.ID),
			audit(ctx, tx, "fetch", "handover", h.ID, name),
		)
	})
	return f, err
}
