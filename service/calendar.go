package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/icalendar"
	"wardicon/core/platform"
	"wardicon/core/vpn"
	"wardicon/store"
)

// calendarDays is how far a calendar looks ahead.
const calendarDays = 365

// Calendar lists what expires or changes within some days, the first first: certificates, CAs, what
// signs parcels, links, overrides, releases that reach their end of support, and switchovers.
func (s *Service) Calendar(ctx context.Context, days int) ([]api.CalendarEntry, error) {
	expiries, err := s.Expiries(ctx, days)
	if err != nil {
		return nil, err
	}
	now := s.now()
	until := now.AddDate(0, 0, days)
	list := []api.CalendarEntry{}
	for _, e := range expiries {
		list = append(list, ofExpiry(e))
	}
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		more, err := tx.CalendarCounts(ctx, now, until)
		if err != nil {
			return err
		}
		list = append(list, more...)
		releases, err := releaseEndings(ctx, tx, now.AddDate(0, 0, -30), until)
		if err != nil {
			return err
		}
		list = append(list, releases...)
		running, err := store.Switchovers.Where(ctx, tx,
			"state IN ('draft', 'running', 'paused')")
		for _, w := range running {
			list = append(list, ofSwitchover(&w, now.AddDate(0, 0, -30), until)...)
		}
		return err
	})
	slices.SortStableFunc(list, func(a, b api.CalendarEntry) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Name, b.Name))
	})
	return list, err
}

func ofExpiry(e api.Expiry) api.CalendarEntry {
	entry := api.CalendarEntry{
		At: e.Expires, Kind: "certificate", Noun: e.Noun, ID: e.ID, Name: e.Name,
		What: e.What + " expires", Count: 1,
	}
	switch {
	case e.Noun == "authority":
		entry.Kind, entry.Plan = "authority", vpn.SwitchRollover
	case e.Noun == "signer":
		entry.Kind = "signer"
	case e.Noun == "gateway" && strings.HasPrefix(e.What, "the authority"):
		entry.Plan = vpn.SwitchAuthority
	case e.Noun == "gateway":
		entry.Plan = vpn.SwitchCertificate
	}
	return entry
}

func ofSwitchover(w *vpn.Switchover, from, until time.Time) (list []api.CalendarEntry) {
	add := func(at *time.Time, what string) {
		if at != nil && at.After(from) && at.Before(until) {
			list = append(list, api.CalendarEntry{
				At: *at, Kind: "switchover", Noun: "switchover", ID: w.ID, Name: w.Name,
				What: what, Count: 1,
			})
		}
	}
	add(w.ValidFrom, w.Kind.Title()+": the new value is valid")
	add(w.CutOff, w.Kind.Title()+": the old value ends")
	return list
}

// releaseEndings are the days on which releases that devices have reach their end of support, with
// what a later release can no longer do.
func releaseEndings(ctx context.Context, tx *store.Tx, from, until time.Time) (
	list []api.CalendarEntry, err error,
) {
	releases, err := tx.Releases(ctx)
	for _, r := range releases {
		day, known := platform.Ending(r.Platform, r.Release)
		if !known || !day.After(from) || !day.Before(until) {
			continue
		}
		what := "reaches its end of support"
		if lost := platform.Losses(r.Platform, r.Release); len(lost) > 0 {
			var names []string
			for _, p := range lost {
				names = append(names, p.Title())
			}
			what += "; later releases have no " + strings.Join(names, " and no ")
		}
		list = append(list, api.CalendarEntry{
			At: day, Kind: "release", Noun: "device", Platform: r.Platform,
			Name: platform.Title(r.Platform) + " " + r.Release, What: what, Count: r.Count,
			Plan: vpn.SwitchRelease,
		})
	}
	return list, err
}

// FeedPath is what the path of a calendar's feed begins with.
const FeedPath = "/calendar/"

// ErrNoFeed is the error for a feed that is not there, or no longer.
var ErrNoFeed = vpn.Refuse(vpn.KindNotFound, "there is no such calendar")

// NewFeed makes the address of a calendar that programs subscribe to, in the place of the
// operator's earlier one. Whoever has it can read the calendar, and nothing else.
func (s *Service) NewFeed(ctx context.Context) (made api.NewFeed, err error) {
	token := strings.ToLower(rand.Text() + rand.Text()[:8])
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		organisation, err := tx.Organisation(ctx)
		if err != nil {
			return err
		}
		made.URL = organisation.Links + FeedPath + token + ".ics"
		return errors.Join(tx.PutFeed(ctx, actor(ctx), token),
			audit(ctx, tx, "make", "calendar", "", "address of a feed"))
	})
	return made, err
}

// EndFeed takes the operator's feed away.
func (s *Service) EndFeed(ctx context.Context) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		ended, err := tx.EndFeed(ctx, actor(ctx))
		if err != nil || !ended {
			return err
		}
		return audit(ctx, tx, "remove", "calendar", "", "address of a feed")
	})
}

// Feed is the calendar of a feed (RFC 5545).
func (s *Service) Feed(ctx context.Context, token string) ([]byte, error) {
	known, err := s.store.Read().Feed(ctx, token)
	if err != nil {
		return nil, err
	}
	if !known {
		return nil, ErrNoFeed
	}
	list, err := s.Calendar(ctx, calendarDays)
	if err != nil {
		return nil, err
	}
	organisation, err := s.store.Read().Organisation(ctx)
	if err != nil {
		return nil, err
	}
	events := make([]icalendar.Event, len(list))
	for i, e := range list {
		remind := 0
		if e.Kind == "certificate" || e.Kind == "authority" || e.Kind == "signer" {
			remind = reminders[1]
		}
		events[i] = icalendar.Event{
			UID: s.store.Digest([]byte("event " + e.Kind + " " + e.ID + " " + e.What +
				e.At.UTC().Format(time.DateOnly)))[:24] + "@wardicon",
			Day: e.At, Summary: e.Text(), Categories: []string{e.Kind}, RemindDays: remind,
		}
	}
	return icalendar.Write("VPN connections of "+organisation.Name, events, s.now()), nil
}
