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

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/view"
	"wardicon/store"
)

// What a handover allows where nothing else is said, and at the most.
const (
	handoverDays  = 7
	mostDaysOpen  = 60
	handoverTimes = 3
	mostOpenings  = 20
	passcodeBits  = 60
	visitLife     = 30 * time.Minute // that a browser has it open
)

// Errors of links. What is wrong with one that does not open is not told to whoever tries it.
var (
	ErrLink     = errors.New("this link does not open: it has ended, was used up or recalled, or the passcode was wrong too often")
	ErrPasscode = errors.New("this is not the passcode")
	ErrVisit    = errors.New("open the link with its passcode first")
)

// MakeHandover makes a link to the newest parcel of a profile, which must be as it would be built now. Link and
// passcode come back once; only their hashes are kept.
func (s *Service) MakeHandover(ctx context.Context, profileID string, days, openings int) (made view.NewHandover, err error) {
	if days < 0 || days > mostDaysOpen {
		return made, problem("handover", "/days", fmt.Sprint(days), fmt.Sprintf("1 to %d days, or 0 for %d", mostDaysOpen, handoverDays), "choose fewer")
	}
	if openings < 0 || openings > mostOpenings {
		return made, problem("handover", "/openings", fmt.Sprint(openings), fmt.Sprintf("1 to %d openings, or 0 for %d", mostOpenings, handoverTimes), "choose fewer")
	}
	days, openings = cmp.Or(days, handoverDays), cmp.Or(openings, handoverTimes)
	passcode, _, err := secret.Make(rand.Reader, passcodeBits)
	if err != nil {
		return made, err
	}
	token := strings.ToLower(rand.Text() + rand.Text()[:8]) // 170 bits
	hash := s.passcodeHash(token, passcode)
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		w, err := s.work(ctx, tx, profileID)
		if err != nil {
			return err
		}
		last, err := tx.LastParcel(ctx, profileID)
		if err != nil {
			return err
		}
		switch {
		case last == nil:
			return problem("handover", "/profile_id", "a profile without a parcel", "one with a parcel", "build it first")
		case w.subject.Outdated:
			return problem("handover", "/profile_id", "a parcel that is older than what it was built from", "one that is up to date", "build it again first")
		}
		h := view.Handover{ParcelID: last.ID, Expires: s.now().AddDate(0, 0, days), Most: openings, Operator: actor(ctx)}
		if err := tx.AddHandover(ctx, &h, token, hash); err != nil {
			return err
		}
		if made.Handover, err = store.Handovers.Row(ctx, tx, h.ID); err != nil {
			return err
		}
		return deed(ctx, tx, "make", "handover", h.ID, made.Handover.Device+" to "+made.Handover.Gateway)
	})
	made.Path, made.Passcode = "/h/"+token, passcode.Reveal()
	return made, err
}

// passcodeHash is how a passcode is kept and compared: without blanks and hyphens, in small letters, bound to its
// link under the master key. It has 75 random bits and ten tries: a slow hash would only help who floods the page.
func (s *Service) passcodeHash(token string, passcode secret.Text) string {
	plain := strings.NewReplacer(" ", "", "-", "", "\u00a0", "").Replace(strings.ToLower(passcode.Reveal()))
	return s.store.Digest([]byte("handover passcode " + token + " " + plain))
}

// Handovers lists parcels on their way, a page.
func (s *Service) Handovers(ctx context.Context, q store.Query) (view.Page[view.Handover], error) {
	return store.Handovers.List(ctx, s.store.Read(), q)
}

// RecallHandover closes a link at once.
func (s *Service) RecallHandover(ctx context.Context, id string) (h view.Handover, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		closed, err := tx.Recall(ctx, id)
		if err != nil {
			return err
		}
		if h, err = store.Handovers.Row(ctx, tx, id); err != nil || !closed {
			return err
		}
		return deed(ctx, tx, "recall", "handover", id, h.Device+" to "+h.Gateway)
	})
	return h, err
}

// Link finds the handover of a link that can still be opened; looking at it, as programs that preview links do, uses nothing up.
func (s *Service) Link(ctx context.Context, token string) (view.Handover, error) {
	tx := s.store.Read()
	h, _, err := tx.HandoverByLink(ctx, token)
	var none *store.NotFoundError
	if errors.As(err, &none) || err == nil && (h.Recalled != nil || h.Wrong >= store.MostWrong || h.Openings >= h.Most || !s.now().Before(h.Expires)) {
		return h, ErrLink
	}
	return h, err
}

// OpenLink opens a link by its passcode: each try is counted before it is looked at, so that no number of tries
// side by side gets more of them. The bearer is for the browser that has opened it.
func (s *Service) OpenLink(ctx context.Context, token string, passcode secret.Text) (bearer string, until time.Time, err error) {
	var h view.Handover
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
		return "", until, errors.Join(ErrPasscode, s.store.Write(ctx, func(tx *store.Tx) error { return deed(ctx, tx, "passcode refused", "handover", h.ID, h.Device) }))
	}
	bearer, until = newBearer(), s.now().Add(visitLife)
	counted := false
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if counted, err = tx.CountOpening(ctx, h.ID); err != nil || !counted {
			return errors.Join(err, tx.TakeTryBack(ctx, h.ID)) // somebody else was first; the passcode was right
		}
		return errors.Join(tx.TakeTryBack(ctx, h.ID), tx.AddVisit(ctx, h.ID, bearer, until), deed(ctx, tx, "open", "handover", h.ID, h.Device+" to "+h.Gateway))
	})
	if err == nil && !counted {
		err = ErrLink
	}
	return bearer, until, err
}

// Visited shows a parcel to the browser that has opened its link: the files without their content.
func (s *Service) Visited(ctx context.Context, token, bearer string) (h view.Handover, p view.Parcel, err error) {
	tx := s.store.Read()
	if h, _, err = tx.HandoverByLink(ctx, token); err != nil {
		return h, p, ErrLink
	}
	open, err := tx.Visit(ctx, h.ID, bearer)
	if err != nil {
		return h, p, err
	}
	if !open {
		return h, p, ErrVisit
	}
	p, err = tx.Parcel(ctx, h.ParcelID)
	return h, p, err
}

// VisitedFile hands a file out to the browser that has opened its link.
func (s *Service) VisitedFile(ctx context.Context, token, bearer, name string) (f format.File, err error) {
	h, p, err := s.Visited(ctx, token, bearer)
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
		return errors.Join(tx.NoteFetched(ctx, h.ID), deed(ctx, tx, "fetch", "handover", h.ID, name))
	})
	return f, err
}

// DeviceOf is the device of a profile.
func (s *Service) DeviceOf(ctx context.Context, profileID string) (view.Device, error) {
	tx := s.store.Read()
	p, err := store.Profiles.Row(ctx, tx, profileID)
	if err != nil {
		return view.Device{}, err
	}
	return store.Devices.Row(ctx, tx, p.DeviceID)
}
