package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Phases of a switchover that an operator asks for.
const (
	PhaseStart   = "start"
	PhasePause   = "pause"
	PhaseResume  = "resume"
	PhaseAdvance = "advance" // begin the next wave
	PhaseUndo    = "undo"
	PhaseCutOff  = "cut-off"
)

// Switch brings a switchover into another phase. holders is the number of devices that hold the old
// value alone, as its operator has seen it: a cut-off of another number is refused. anyway begins a
// wave although something waits.
func (s *Service) Switch(
	ctx context.Context,
	id, phase string,
	holders int,
	anyway bool,
) (row api.Switchover, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		w, err := store.Switchovers.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		switch phase {
		case PhaseStart:
			err = s.startSwitchover(ctx, tx, w)
		case PhasePause:
			err = s.pauseSwitchover(ctx, tx, w, "paused by "+actor(ctx))
		case PhaseResume:
			err = s.resumeSwitchover(ctx, tx, w)
		case PhaseAdvance:
			err = s.advance(ctx, tx, w, anyway)
		case PhaseUndo:
			err = s.undoSwitchover(ctx, tx, w)
		case PhaseCutOff:
			err = s.cutOff(ctx, tx, w, holders)
		default:
			err = problem("switchover", "/phase", quoted(phase),
				"start, pause, resume, advance, undo or cut-off", "choose one of them")
		}
		if err != nil {
			return err
		}
		if err := audit(ctx, tx, phase, "switchover", id, w.Name); err != nil {
			return err
		}
		row, err = store.Switchovers.Row(ctx, tx, id)
		return err
	})
	s.checkSoon()
	s.workSoon()
	return row, err
}

// inState refuses a switchover in another state.
func inState(w *vpn.Switchover, expected string, states ...vpn.SwitchoverState) error {
	for _, one := range states {
		if w.State == one {
			return nil
		}
	}
	return problem("switchover", "/state", "a switchover that is "+string(w.State),
		"one that is "+expected, "look at its state first")
}

func keepSwitchover(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	return store.Switchovers.Update(ctx, tx, w, w.Version)
}

// startSwitchover begins: from now on two values are valid, and the first wave gets the new one.
func (s *Service) startSwitchover(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	if err := inState(w, "a draft", vpn.SwitchDraft); err != nil {
		return err
	}
	if w.Surveyed == nil {
		return problem("switchover", "/surveyed", "nothing", "a preview of its devices",
			"compute the preview first, and look at who cannot follow")
	}
	if w.Mail {
		if err := s.canInvite(ctx, tx); err != nil {
			return err
		}
	}
	if err := s.notTwice(ctx, tx, w); err != nil {
		return err
	}
	if w.Kind == vpn.SwitchRollover {
		if err := s.beginRollover(ctx, tx, w.AuthorityID, w.SuccessorID, true); err != nil {
			return err
		}
	}
	now := s.now().UTC()
	w.State, w.Started = vpn.SwitchRunning, &now
	if w.ValidFrom != nil && now.Before(*w.ValidFrom) {
		return keepSwitchover(ctx, tx, w) // its waves begin by themselves then
	}
	return s.beginWave(ctx, tx, w)
}

// notTwice refuses a second switchover of the same value of a gateway.
func (s *Service) notTwice(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	others, err := store.Switchovers.Where(ctx, tx,
		"state IN ('running', 'paused') AND kind = ? AND gateway_id IS ? AND id <> ?",
		w.Kind, orNull(w.GatewayID), w.ID)
	if err != nil || len(others) == 0 || w.GatewayID == "" && w.Kind == vpn.SwitchRelease {
		return err
	}
	return problem("switchover", "/kind", others[0].Name+", which is of the same kind and is "+
		string(others[0].State), "one switchover of a value at a time",
		"cut off or undo "+others[0].Name+" first")
}

func orNull(id string) any {
	if id == "" {
		return nil
	}
	return id
}

// waves is how many waves a switchover has.
func waves(w *vpn.Switchover) int { return max(1, len(w.Waves)) }

// beginWave lets the next wave have the new value, and begins to hand it over.
func (s *Service) beginWave(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	if err := tx.ReleaseWave(ctx, w.ID, w.Begun); err != nil {
		return err
	}
	w.Begun++
	return errors.Join(keepSwitchover(ctx, tx, w), s.beginDelivery(ctx, tx, w))
}

// beginDelivery adds the job that hands over, unless one does so already.
func (s *Service) beginDelivery(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	running, err := tx.RunningJobs(ctx, "switch")
	if err != nil {
		return err
	}
	for _, j := range running {
		if j.Subject == w.ID {
			return nil
		}
	}
	j := api.Job{
		Kind: "switch", Subject: w.ID, Title: fmt.Sprintf("%s: wave %d", w.Name, w.Begun),
		Operator: actor(ctx), Result: map[string]int{},
	}
	if j.Total, err = tx.CountToDeliver(ctx, w.ID); err != nil {
		return err
	}
	if prepares(w) {
		j.Total *= 2
	}
	return tx.AddJob(ctx, &j)
}

// prepares tells whether parcels with the new value need something before they are built.
func prepares(w *vpn.Switchover) bool {
	return w.Kind == vpn.SwitchRetirement || w.Kind == vpn.SwitchRollover
}

func (s *Service) pauseSwitchover(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	why string,
) error {
	if err := inState(w, "running", vpn.SwitchRunning); err != nil {
		return err
	}
	w.State, w.Paused = vpn.SwitchPaused, why
	return keepSwitchover(ctx, tx, w)
}

func (s *Service) resumeSwitchover(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	if err := inState(w, "paused", vpn.SwitchPaused); err != nil {
		return err
	}
	w.State, w.Paused = vpn.SwitchRunning, ""
	return errors.Join(keepSwitchover(ctx, tx, w), s.beginDelivery(ctx, tx, w))
}

func (s *Service) advance(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	anyway bool,
) error {
	if err := inState(w, "running", vpn.SwitchRunning); err != nil {
		return err
	}
	if w.Begun >= waves(w) {
		return problem("switchover", "/begun", "a switchover whose last wave has begun",
			"one with a wave to come", "wait for its devices, then cut off the old value")
	}
	if !anyway {
		why, err := s.waits(ctx, tx, w)
		if err != nil {
			return err
		}
		if why != "" {
			return problem("switchover", "/begun", why, "a wave that may begin",
				"wait, or begin it anyway")
		}
	}
	return s.beginWave(ctx, tx, w)
}

// waits says why the next wave does not begin; empty where it may.
func (s *Service) waits(ctx context.Context, tx *store.Tx, w *vpn.Switchover) (string, error) {
	now := s.now()
	if w.ValidFrom != nil && now.Before(*w.ValidFrom) {
		return "the new value is valid from " + w.ValidFrom.UTC().Format(time.DateTime) + " UTC",
			nil
	}
	if w.Begun == 0 || w.Begun >= waves(w) {
		return "", nil
	}
	if w.Rehearse {
		passed, failed, err := tx.WaveRehearsals(ctx, w.ID, w.Begun-1)
		switch {
		case err != nil:
			return "", err
		case failed > 0:
			verb := "rehearsals of wave %d have failed"
			if failed == 1 {
				verb = "rehearsal of wave %d has failed"
			}
			return fmt.Sprintf("%d "+verb, failed, w.Begun), nil
		case passed == 0:
			return fmt.Sprintf("no rehearsal of wave %d has passed yet", w.Begun), nil
		}
	}
	if w.SeenShare > 0 {
		seen, all, err := s.seenOf(ctx, tx, w)
		if err != nil {
			return "", err
		}
		if all > 0 && seen*100 < w.SeenShare*all {
			return fmt.Sprintf("%d of %d devices of wave %d were seen connected, fewer than %d %%",
				seen, all, w.Begun, w.SeenShare), nil
		}
	}
	return "", nil
}

// seenOf counts the devices of the last wave that has begun, without those that need nothing or
// cannot follow, and of them those that were seen.
func (s *Service) seenOf(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
) (seen, all int, err error) {
	counts, err := tx.SwitchoverCounts(ctx, w.ID)
	for _, c := range counts {
		if c.Wave != w.Begun || c.State == api.StepNothing || c.State == api.StepCannot {
			continue
		}
		all += c.Count
		if c.State == api.StepConnected {
			seen += c.Count
		}
	}
	return seen, all, err
}

// switches are the kind of the job that hands over the released devices of a switchover: first
// what a new parcel needs, such as a profile at another gateway, then the parcel and its link.
func (s *Service) switches() kind {
	return kind{
		next: func(
			ctx context.Context, tx *store.Tx, j api.Job, limit int,
		) ([]string, error) {
			w, err := store.Switchovers.Get(ctx, tx, j.Subject)
			if err != nil || w.State != vpn.SwitchRunning {
				return nil, err
			}
			return tx.ToDeliver(ctx, j.Subject, prepares(w), j.Cursor, limit)
		},
		one: s.switchOne,
	}
}

func (s *Service) switchOne(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	step string,
) (kept, error) {
	w, err := store.Switchovers.Get(ctx, tx, j.Subject)
	if err != nil {
		return nil, err
	}
	profileID := step[len("1:"):]
	x, err := tx.StepOf(ctx, w.ID, profileID)
	if err != nil {
		return nil, err
	}
	if step[0] == '1' {
		return s.prepareStep(ctx, tx, w, x)
	}
	request := api.HandoverRequest{
		Link: check.ByOperator, Passcode: check.BySheet, Days: s.linkDays(w),
	}
	if w.Mail {
		request.Link = check.ByMail
	}
	return s.deliver(ctx, tx, x.Tracked, request, j.ID, func(
		ctx context.Context, tx *store.Tx,
	) error {
		return s.endOldLinks(ctx, tx, x, *x.Released)
	})
}

// linkDays is how long links of a switchover are open: until its cut-off, as far as links may be.
func (s *Service) linkDays(w *vpn.Switchover) *int {
	if w.CutOff == nil {
		return nil
	}
	days := int(w.CutOff.Sub(s.now()).Hours()/24) + 1
	days = min(max(days, handoverDays), mostDaysOpen)
	return &days
}

// prepareStep does what a parcel with the new value needs before it is built.
func (s *Service) prepareStep(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	x api.SwitchoverStep,
) (kept, error) {
	switch w.Kind {
	case vpn.SwitchRetirement:
		if x.Tracked != x.ProfileID {
			return tallied("prepared"), nil
		}
		return func(ctx context.Context, tx *store.Tx, count func(string)) error {
			old, err := store.Profiles.Get(ctx, tx, x.ProfileID)
			if err != nil {
				return err
			}
			there, err := store.Profiles.Where(ctx, tx, "device_id = ? AND gateway_id = ?",
				old.DeviceID, x.SuccessorID)
			if err != nil {
				return err
			}
			tracked := ""
			if len(there) > 0 {
				tracked = there[0].ID
			} else {
				p := succeeding(*old, x.SuccessorID)
				if _, err := s.Profiles.add(ctx, tx, &p); err != nil {
					return err
				}
				tracked = p.ID
			}
			count("prepared")
			return tx.TrackStep(ctx, w.ID, x.ProfileID, tracked)
		}, nil
	case vpn.SwitchRollover:
		p, err := store.Profiles.Get(ctx, tx, x.ProfileID)
		if err != nil {
			return nil, err
		}
		old, err := tx.HasCertificateOf(ctx, p.DeviceID, w.AuthorityID)
		if err != nil || !old {
			return tallied("prepared"), err
		}
		to, err := store.Authorities.Row(ctx, tx, w.SuccessorID)
		if err != nil {
			return nil, err
		}
		return s.reissue(ctx, tx, p.DeviceID, w.AuthorityID, to)
	}
	return tallied("prepared"), nil
}

// endOldLinks closes links that lead to parcels with the old value: who opens one is not given it
// any more.
func (s *Service) endOldLinks(
	ctx context.Context,
	tx *store.Tx,
	x api.SwitchoverStep,
	before time.Time,
) error {
	ids, err := tx.OpenLinks(ctx, x.ProfileID, before)
	if err != nil {
		return err
	}
	for _, id := range ids {
		h, err := store.Handovers.Row(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := s.recall(ctx, tx, h); err != nil {
			return err
		}
	}
	return nil
}

// ConfirmSwitched notes that an operator knows that a device has the new value, such as one whose
// values were typed.
func (s *Service) ConfirmSwitched(
	ctx context.Context,
	id, profileID string,
) (x api.SwitchoverStep, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		w, err := store.Switchovers.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		if err := inState(w, "running or paused", vpn.SwitchRunning,
			vpn.SwitchPaused); err != nil {
			return err
		}
		if _, err := tx.StepOf(ctx, id, profileID); err != nil {
			return err
		}
		done, err := tx.ConfirmStep(ctx, id, profileID)
		if err != nil {
			return err
		}
		if !done {
			return problem("switchover", "/profile_id", "a device whose wave has not begun, or "+
				"that is confirmed already", "one that has the new value", "choose another one")
		}
		if x, err = tx.StepOf(ctx, id, profileID); err != nil {
			return err
		}
		return audit(ctx, tx, "confirm", "switchover", id, w.Name+": "+x.Device)
	})
	return x, err
}
