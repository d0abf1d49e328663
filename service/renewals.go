package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"wardicon/core/view"
	"wardicon/core/vpn"
	"wardicon/store"
)

// allDays stands for certificates whatever their end is.
const allDays = -1

// Renew begins to renew the certificates of devices that an authority has issued and that end within
// some days; allDays renews all, 0 goes by the authority's own rule. They come from its successor, where
// there is one. Certificates that are renewed stay valid until they end or are revoked.
func (s *Service) Renew(ctx context.Context, authorityID string, days int) (j view.Job, err error) {
	if days < allDays || days > mostDays {
		return j, problem("authority", "/days", fmt.Sprint(days), fmt.Sprintf("1 to %d days, 0 for the authority's own rule, or -1 for all", mostDays), "choose a number within")
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		a, err := store.Authorities.Get(ctx, tx, authorityID)
		if err != nil {
			return err
		}
		j, err = s.beginRenewal(ctx, tx, a, days)
		return err
	})
	s.workSoon()
	return j, err
}

func (s *Service) beginRenewal(ctx context.Context, tx *store.Tx, a *vpn.Authority, days int) (j view.Job, err error) {
	if days == 0 {
		days, _ = a.Renews()
	}
	j = view.Job{Kind: "renew", Subject: fmt.Sprintf("%s within %d", a.ID, days), Title: "Renew certificates of " + a.Name, Operator: actor(ctx), Result: map[string]int{}}
	if j.Total, err = tx.CountNewest(ctx, a.ID, s.before(days)); err != nil {
		return j, err
	}
	return j, errors.Join(tx.AddJob(ctx, &j), deed(ctx, tx, "renew", "authority", a.ID, a.Name))
}

func (s *Service) before(days int) int64 {
	if days == allDays {
		return math.MaxInt64
	}
	return s.now().AddDate(0, 0, days).UnixMilli()
}

// renewPart renews the certificates of some devices after the cursor.
func (s *Service) renewPart(ctx context.Context, tx *store.Tx, j *view.Job) (finished bool, err error) {
	id, text, _ := strings.Cut(j.Subject, " within ")
	days, err := strconv.Atoi(text)
	if err != nil {
		return false, err
	}
	from, err := store.Authorities.Row(ctx, tx, id)
	if err != nil {
		return false, err
	}
	to, err := store.Authorities.Row(ctx, tx, cmp.Or(from.SuccessorID, id))
	if err != nil {
		return false, err
	}
	devices, err := tx.NewestOf(ctx, id, s.before(days), j.Cursor, jobBatch)
	if err != nil {
		return false, err
	}
	for _, device := range devices {
		outcome, err := s.renewOne(ctx, tx, device, to)
		if err != nil {
			return false, err
		}
		j.Result[outcome]++
		j.Done++
		j.Cursor = device
	}
	return len(devices) < jobBatch, nil
}

// renewOne renews one device's certificate, or asks for it where the key is elsewhere.
func (s *Service) renewOne(ctx context.Context, tx *store.Tx, deviceID string, to view.Authority) (outcome string, err error) {
	page, err := store.Certificates.List(ctx, tx, store.Query{Limit: 1, Sort: "-created", Conditions: map[string]string{"device_id": deviceID, "revoked": "false"}})
	if err != nil || len(page.Items) == 0 {
		return "gone", err
	}
	names := page.Items[0].Names
	var refused *vpn.Problems
	if to.KeySet {
		switch _, err := s.issueToDevice(ctx, tx, deviceID, to.ID, names, 0); {
		case errors.As(err, &refused):
			return "refused", nil
		case err != nil:
			return "", err
		}
		return "renewed", nil
	}
	waiting, err := store.Requests.List(ctx, tx, store.Query{Limit: 1, Conditions: map[string]string{"device_id": deviceID, "authority_id": to.ID}})
	if err != nil || waiting.Total > 0 {
		return "waiting", err
	}
	switch err := s.requestForDevice(ctx, tx, new(view.Request), deviceID, to.ID, names); {
	case errors.As(err, &refused):
		return "refused", nil
	case err != nil:
		return "", err
	}
	return "requested", nil
}

// renewDue begins renewals that are due, for the daily look at the calendar.
func (s *Service) renewDue(ctx context.Context) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		list, err := store.Authorities.Where(ctx, tx, "1")
		if err != nil {
			return err
		}
		for _, a := range list {
			days, ok := a.Renews()
			if !ok {
				continue
			}
			n, err := tx.CountNewest(ctx, a.ID, s.before(days))
			if err != nil {
				return err
			}
			if n == 0 {
				continue
			}
			if _, err := s.beginRenewal(ctx, tx, &a, days); err != nil {
				return err
			}
			s.workSoon()
		}
		return nil
	})
}
