package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/i18n"
	"wardicon/core/switchover"
	"wardicon/core/vpn"
	"wardicon/store"
)

// watchEvery is how often switchovers are looked at.
const watchEvery = time.Minute

// WatchSwitchovers begins waves that may begin, pauses switchovers that people report problems
// with, and reminds people, until the context ends.
func (s *Service) WatchSwitchovers(ctx context.Context) {
	for {
		if err := s.WatchSwitchoversOnce(ctx); err != nil && ctx.Err() == nil {
			s.log.ErrorContext(ctx, "switchovers wait", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(watchEvery):
		}
	}
}

// WatchSwitchoversOnce looks at every switchover that runs.
func (s *Service) WatchSwitchoversOnce(ctx context.Context) error {
	list, err := store.Switchovers.Where(ctx, s.store.Read(), "state = 'running'")
	if err != nil {
		return err
	}
	for _, w := range list {
		if err := s.watchOne(ctx, w.ID); err != nil {
			return fmt.Errorf("switchover %s: %w", w.ID, err)
		}
	}
	return nil
}

func (s *Service) watchOne(ctx context.Context, id string) error {
	var rehearse []string
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		rehearse = nil
		w, err := store.Switchovers.Get(ctx, tx, id)
		if err != nil || w.State != vpn.SwitchRunning {
			return err
		}
		reports, handed, err := tx.ReportsSince(ctx, id)
		if err != nil {
			return err
		}
		if w.ReportShare > 0 && handed > 0 && reports*100 > w.ReportShare*handed {
			why := fmt.Sprintf("people of %d of %d devices report a problem, %d %% may",
				reports, handed, w.ReportShare)
			if err := s.pauseSwitchover(ctx, tx, w, why); err != nil {
				return err
			}
			return audit(ctx, tx, "pause", "switchover", id, w.Name+": "+why)
		}
		if err := s.remindWave(ctx, tx, w); err != nil {
			return err
		}
		if w.Begun == 0 || w.SeenShare > 0 && w.Begun < waves(w) {
			why, err := s.waits(ctx, tx, w)
			if err != nil {
				return err
			}
			if why == "" {
				if err := s.beginWave(ctx, tx, w); err != nil {
					return err
				}
				return audit(ctx, tx, "advance", "switchover", id, w.Name)
			}
		}
		if w.Rehearse && w.Begun > 0 && w.Begun < waves(w) {
			rehearse, err = tx.UnrehearsedOf(ctx, id, w.Begun-1)
		}
		return err
	})
	s.workSoon()
	s.mailSoon()
	if err != nil || len(rehearse) == 0 {
		return err
	}
	// Not each can be rehearsed: the password of one is not known here, another client is not one that
	// the service can be.
	for _, profileID := range rehearse {
		if _, err = s.Rehearse(ctx, profileID, api.NewRehearsal{}); err == nil {
			return nil
		}
	}
	s.log.WarnContext(ctx, "a wave cannot be rehearsed", "switchover", id, "error", err)
	return nil
}

// Nudge are the sentences of the email that reminds of a parcel, in its order; the first is its
// subject.
var Nudge = []string{
	"Reminder: your new connection to %s",
	"Hello %s,",
	"the connection of your device %s to the network of %s changes, and you have not fetched the " +
		"new one yet. Please do so with the link that you were sent.",
	"If the link has expired, or you cannot find it, ask whoever looks after your devices.",
	"The present connection ends on %s.",
}

// mostReminded bounds the emails of one look.
const mostReminded = 500

func (s *Service) remindWave(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	if w.RemindDays == 0 || s.canInvite(ctx, tx) != nil {
		return nil
	}
	ids, err := tx.Unreminded(ctx, w.ID, s.now().AddDate(0, 0, -w.RemindDays), mostReminded)
	if err != nil {
		return err
	}
	organisation, err := tx.Organisation(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		x, err := store.SwitchoverSteps.Row(ctx, tx, id)
		if err != nil {
			return err
		}
		p, err := store.Profiles.Get(ctx, tx, x.Tracked)
		if err != nil {
			return err
		}
		d, err := store.Devices.Get(ctx, tx, p.DeviceID)
		if err != nil {
			return err
		}
		person, err := store.People.Get(ctx, tx, d.PersonID)
		if err != nil {
			return err
		}
		if err := tx.NoteReminded(ctx, id); err != nil {
			return err
		}
		if person.Mail == "" {
			continue
		}
		if err := s.nudge(ctx, tx, w, person, d.Name, organisation.Name); err != nil {
			return err
		}
	}
	return nil
}

// nudge writes the email that reminds of a parcel, in the person's language.
func (s *Service) nudge(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	person *vpn.Person,
	device, organisation string,
) error {
	in := i18n.Choose(person.Language)
	lines := []string{
		in.Say(Nudge[1], person.Name),
		in.Say(Nudge[2], device, organisation),
		in.Say(Nudge[3]),
	}
	if w.CutOff != nil {
		lines = append(lines, in.Say(Nudge[4], w.CutOff.UTC().Format(time.DateOnly)))
	}
	lines = append(lines, in.Say(Invitation[5]))
	subject := in.Say(Nudge[0], organisation)
	page, err := emailPage(in.Tag(), subject, lines, "")
	if err != nil {
		return err
	}
	return s.write(ctx, tx, api.Email{
		Kind: "reminder", To: person.Mail, Subject: cut(subject, 150), About: w.ID,
	}, vpn.Message{Text: strings.Join(lines, "\n\n") + "\n", Page: page})
}

// SwitchoverBoard tells where a switchover stands.
func (s *Service) SwitchoverBoard(
	ctx context.Context,
	id string,
) (b api.SwitchoverBoard, err error) {
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		if b.Switchover, err = store.Switchovers.Row(ctx, tx, id); err != nil {
			return err
		}
		w := &b.Switchover.Switchover
		if b.Counts, err = tx.SwitchoverCounts(ctx, id); err != nil {
			return err
		}
		b.Holders = holders(b.Counts)
		if b.Loads, err = loads(ctx, tx, id); err != nil {
			return err
		}
		if b.Needs, err = tx.SwitchoverNeeds(ctx, id); err != nil {
			return err
		}
		if b.Days, err = tx.SwitchoverTimes(ctx, id); err != nil {
			return err
		}
		if b.Reports, _, err = tx.ReportsSince(ctx, id); err != nil {
			return err
		}
		if w.State.Active() {
			if b.Waits, err = s.waits(ctx, tx, w); err != nil {
				return err
			}
		}
		jobs, err := tx.RunningJobs(ctx, "survey", "switch")
		if err != nil {
			return err
		}
		for _, j := range jobs {
			if j.Subject == id {
				b.JobID = j.ID
			}
		}
		return s.holdsAndPlaces(ctx, tx, w, &b)
	})
	return b, err
}

// holdsAndPlaces tells where both values are valid, and where the old one stands.
func (s *Service) holdsAndPlaces(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	b *api.SwitchoverBoard,
) error {
	b.Holds, b.Places = []api.SwitchoverHold{}, []api.SwitchoverPlace{}
	place := func(what, name string, n int) {
		if n > 0 {
			b.Places = append(b.Places, api.SwitchoverPlace{What: what, Name: name, Count: n})
		}
	}
	if w.GatewayID != "" && w.Kind != vpn.SwitchRetirement {
		g, err := store.Gateways.Get(ctx, tx, w.GatewayID)
		var gone *store.NotFoundError
		if errors.As(err, &gone) { // it was removed after the end
			return nil
		}
		if err != nil {
			return err
		}
		for _, p := range switchover.Concerned(w, *g) {
			both, why := switchover.Holds(w.Kind, p)
			b.Holds = append(b.Holds, api.SwitchoverHold{Protocol: p, Both: both, Why: why})
		}
		if w.State != vpn.SwitchClosed {
			place("record", "the record of "+g.Name, 1)
			place("gateway", "the daemons of "+g.Name, 1)
		}
	}
	parcels, links, err := tx.OldParcels(ctx, w.ID)
	if err != nil {
		return err
	}
	place("parcels", "newest parcels with the old value", parcels)
	place("links", "open links to them", links)
	return nil
}

// SwitchoverDevices lists what a switchover means for devices, a page.
func (s *Service) SwitchoverDevices(
	ctx context.Context,
	id string,
	q store.Query,
) (page api.Page[api.SwitchoverStep], err error) {
	tx := s.store.Read()
	if _, err := store.Switchovers.Row(ctx, tx, id); err != nil {
		return page, err
	}
	q.Conditions["switchover_id"] = id
	return store.SwitchoverSteps.List(ctx, tx, q)
}

// loads are what successors take, with how many addresses each has for clients.
func loads(ctx context.Context, tx *store.Tx, id string) ([]api.SwitchoverLoad, error) {
	list, err := tx.SwitchoverLoads(ctx, id)
	if err != nil {
		return nil, err
	}
	for i := range list {
		g, err := store.Gateways.Get(ctx, tx, list[i].GatewayID)
		if err != nil {
			return nil, err
		}
		l := &list[i]
		l.Addresses = switchover.Capacity(g.Pool)
		l.Short = len(g.Pool) > 0 && l.Now+l.Coming > l.Addresses
	}
	return list, nil
}
