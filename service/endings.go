package service

import (
	"cmp"
	"context"
	"math"
	"slices"
	"time"

	"wardicon/core/pki"
	"wardicon/core/view"
	"wardicon/core/vpn"
	"wardicon/store"
)

// reminders are how many days ahead of an end somebody is told.
var reminders = []int{60, 30, 7}

// mostEndings bounds the calendar.
const mostEndings = 5_000

// Endings lists what ends within some days, the first end first: authorities on record, those
// that gateways' offers name, and issued certificates that were not revoked. What has ended
// within the last 30 days is listed too.
func (s *Service) Endings(ctx context.Context, days int) ([]view.Ending, error) {
	tx, now := s.store.Read(), s.now()
	first, last := now.AddDate(0, 0, -30), now.AddDate(0, 0, days)
	list := []view.Ending{}
	add := func(e view.Ending) {
		if e.Ends.After(first) && e.Ends.Before(last) {
			e.Days = int(math.Floor(e.Ends.Sub(now).Hours() / 24))
			list = append(list, e)
		}
	}
	authorities, err := store.Authorities.Where(ctx, tx, "ends < ?", last.UnixMilli())
	if err != nil {
		return nil, err
	}
	for _, a := range authorities {
		if chain, err := pki.Certificates(a.Certificate); err == nil {
			add(view.Ending{Noun: "authority", ID: a.ID, Name: a.Name, What: chain[0].Subject.CommonName, Ends: chain[0].NotAfter})
		}
	}
	gateways, err := store.Gateways.Where(ctx, tx, "1")
	if err != nil {
		return nil, err
	}
	for _, g := range gateways {
		seen := map[string]bool{}
		for _, p := range vpn.Protocols {
			chain, err := pki.Certificates(g.Offers.Authority(p))
			if err != nil {
				continue
			}
			for _, c := range chain {
				if key := string(c.Raw); !seen[key] {
					seen[key] = true
					add(view.Ending{Noun: "gateway", ID: g.ID, Name: g.Name, What: "the authority " + c.Subject.CommonName + " of its offers", Ends: c.NotAfter})
				}
			}
		}
	}
	for offset := 0; offset < mostEndings; offset += 500 {
		page, err := store.Certificates.List(ctx, tx, store.Query{Limit: 500, Offset: offset, Sort: "ends", Conditions: map[string]string{"revoked": "false", "ends_after": first.UTC().Format(time.DateTime)}})
		if err != nil {
			return nil, err
		}
		for _, c := range page.Items {
			noun, id, name := "certificate", c.ID, c.Subject
			if c.DeviceID != "" {
				noun, id, name = "device", c.DeviceID, c.Device
			}
			add(view.Ending{Noun: noun, ID: id, Name: name, What: "its certificate by " + c.Authority, Ends: c.To})
		}
		if len(page.Items) < 500 || page.Items[len(page.Items)-1].To.After(last) {
			break
		}
	}
	slices.SortStableFunc(list, func(a, b view.Ending) int { return cmp.Or(a.Ends.Compare(b.Ends), cmp.Compare(a.Name, b.Name)) })
	return list, nil
}

// remind logs what has come within 60, 30 or 7 days of its end since a day.
func (s *Service) remind(ctx context.Context, since time.Time) error {
	list, err := s.Endings(ctx, slices.Max(reminders))
	if err != nil {
		return err
	}
	now := s.now()
	for _, e := range list {
		for _, days := range reminders {
			if at := e.Ends.AddDate(0, 0, -days); at.After(since) && !at.After(now) {
				s.log.WarnContext(ctx, "something ends soon", "noun", e.Noun, "id", e.ID, "name", e.Name, "what", e.What, "ends", e.Ends.Format(time.DateOnly), "days", e.Days)
				break
			}
		}
	}
	return nil
}
