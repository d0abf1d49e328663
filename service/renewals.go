package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// allDays stands for certificates whatever their end is.
const allDays = -1

// Renew begins to renew the certificates of devices that an authority has issued and that end
// within some days; allDays renews all, 0 goes by the authority's own rule. They come from its
// successor, where there is one. Certificates that are renewed stay valid until they end or are
// revoked.
func (s *Service) Renew(ctx context.Context, authorityID string, days int) (j api.Job, err error) {
	if days < allDays || days > mostDays {
		return j, problem(
			"authority",
			"/days",
			fmt.Sprint(days),
			fmt.Sprintf("1 to %d days, 0 for the authority's own rule, or -1 for all", mostDays),
			"choose a number within",
		)
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

func (s *Service) beginRenewal(
	ctx context.Context,
	tx *store.Tx,
	a *vpn.Authority,
	days int,
) (j api.Job, err error) {
	if days == 0 {
		days, _ = a.Renews()
	}
	j = api.Job{
		Kind:     "renew",
		Subject:  fmt.Sprintf("%s within %d", a.ID, days),
		Title:    "Renew certificates of " + a.Name,
		Operator: actor(ctx),
		Result:   map[string]int{},
	}
	if j.Total, err = tx.CountHolders(ctx, a.ID, s.before(days)); err != nil {
		return j, err
	}
	return j, errors.Join(tx.AddJob(ctx, &j), audit(ctx, tx, "renew", "authority", a.ID, a.Name))
}

func (s *Service) before(days int) int64 {
	if days == allDays {
		return math.MaxInt64
	}
	return s.now().AddDate(0, 0, days).UnixMilli()
}

// renewal is what a job that renews is to do.
func (s *Service) renewal(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
) (days int, from, to api.Authority, err error) {
	id, text, _ := strings.Cut(j.Subject, " within ")
	if days, err = strconv.Atoi(text); err != nil {
		return days, from, to, err
	}
	if from, err = store.Authorities.Row(ctx, tx, id); err != nil {
		return days, from, to, err
	}
	to, err = store.Authorities.Row(ctx, tx, cmp.Or(from.SuccessorID, id))
	return days, from, to, err
}

// nextRenewal lists devices whose certificates are to be renewed.
func (s *Service) nextRenewal(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	limit int,
) ([]string, error) {
	days, from, _, err := s.renewal(ctx, tx, j)
	if err != nil {
		return nil, err
	}
	return tx.HoldersOf(ctx, from.ID, s.before(days), j.Cursor, limit)
}

// renewOne renews one device's certificate, or asks for it where the key is elsewhere.
func (s *Service) renewOne(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	deviceID string,
) (kept, error) {
	_, from, to, err := s.renewal(ctx, tx, j)
	if err != nil {
		return nil, err
	}
	return s.reissue(ctx, tx, deviceID, from.ID, to)
}

// reissue renews a device's certificate of one CA by another, or asks for it where the key is
// elsewhere.
func (s *Service) reissue(
	ctx context.Context,
	tx *store.Tx,
	deviceID, from string,
	to api.Authority,
) (kept, error) {
	page, err := store.Certificates.List(
		ctx,
		tx,
		store.Query{
			Limit: 1,
			Sort:  "-created",
			Conditions: map[string]string{
				"device_id": deviceID, "revoked": "false", "authority_id": from,
			},
		},
	)
	if err != nil {
		return nil, err
	}
	if len(page.Items) == 0 {
		return tallied(outcomeGone), nil
	}
	names := page.Items[0].Names
	var refused *vpn.Problems
	if !to.KeySet {
		return s.probeAgain(ctx, tx, deviceID, to.ID, names)
	}
	i, err := s.prepareIssue(ctx, tx, deviceID, to.ID, names, 0)
	if errors.As(err, &refused) {
		return tallied(outcomeRefused), nil
	}
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		if _, err := s.keepIssue(ctx, tx, i); errors.As(err, &refused) {
			count(outcomeRefused)
			return nil
		} else if err != nil {
			return err
		}
		count("renewed")
		return nil
	}, nil
}

// probeAgain makes a request for a device, unless one waits already.
func (s *Service) probeAgain(
	ctx context.Context,
	tx *store.Tx,
	deviceID, authorityID string,
	names []string,
) (kept, error) {
	waiting, err := store.Requests.List(
		ctx,
		tx,
		store.Query{
			Limit:      1,
			Conditions: map[string]string{"device_id": deviceID, "authority_id": authorityID},
		},
	)
	if err != nil {
		return nil, err
	}
	if waiting.Total > 0 {
		return tallied("waiting"), nil
	}
	var refused *vpn.Problems
	asked, err := s.prepareRequest(ctx, tx, deviceID, authorityID, names)
	if errors.As(err, &refused) {
		return tallied(outcomeRefused), nil
	}
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		if _, err := s.keepRequest(ctx, tx, asked); err != nil {
			return err
		}
		count("requested")
		return nil
	}, nil
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
			n, err := tx.CountHolders(ctx, a.ID, s.before(days))
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
