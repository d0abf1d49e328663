package service

import (
	"context"
	"errors"
	"fmt"

	"wardicon/api"
	"wardicon/core/switchover"
	"wardicon/core/vpn"
	"wardicon/store"
)

// eachStep calls for every step of a switchover that conditions select.
func eachStep(
	ctx context.Context,
	tx *store.Tx,
	id string,
	conditions map[string]string,
	do func(api.SwitchoverStep) error,
) error {
	conditions["switchover_id"] = id
	after := ""
	for {
		page, err := store.SwitchoverSteps.List(ctx, tx, store.Query{
			Limit: 500, After: after, Conditions: conditions,
		})
		if err != nil {
			return err
		}
		for _, x := range page.Items {
			if err := do(x); err != nil {
				return err
			}
			after = x.ID
		}
		if len(page.Items) < 500 {
			return nil
		}
	}
}

// undoSwitchover keeps the old value: devices are planned with it again, and links to parcels with
// the new one are closed. Devices that have taken those need another parcel.
func (s *Service) undoSwitchover(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	if err := inState(w, "running or paused", vpn.SwitchRunning, vpn.SwitchPaused); err != nil {
		return err
	}
	if err := eachStep(ctx, tx, w.ID, map[string]string{}, func(x api.SwitchoverStep) error {
		if x.Released == nil {
			return nil
		}
		fresh := x
		fresh.ProfileID = x.Tracked
		if err := s.endOldLinks(ctx, tx, fresh, s.now()); err != nil {
			return err
		}
		if x.Tracked != x.ProfileID && x.Taken == nil {
			return s.Profiles.remove(ctx, tx, x.Tracked) // nobody has it
		}
		return nil
	}); err != nil {
		return err
	}
	if w.Kind == vpn.SwitchRollover {
		if err := s.undoRollover(ctx, tx, w.AuthorityID, true); err != nil {
			return err
		}
	}
	return s.endSwitchover(ctx, tx, w, vpn.SwitchUndone)
}

// endSwitchover forgets the secrets of a switchover and freezes its steps.
func (s *Service) endSwitchover(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	state vpn.SwitchoverState,
) error {
	now := s.now().UTC()
	w.State, w.Ended, w.Paused = state, &now, ""
	hideNext(w)
	return errors.Join(keepSwitchover(ctx, tx, w), tx.CloseSteps(ctx, w.ID))
}

// holders counts the devices that hold the old value alone.
func holders(counts []api.SwitchoverCount) (n int) {
	for _, c := range counts {
		if c.State.HoldsOld() {
			n += c.Count
		}
	}
	return n
}

// cutOff ends the old value: records get the new one, and links to what has the old one are closed.
func (s *Service) cutOff(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	seen int,
) error {
	if err := inState(w, "running or paused", vpn.SwitchRunning, vpn.SwitchPaused); err != nil {
		return err
	}
	now := s.now()
	if w.ValidFrom != nil && now.Before(*w.ValidFrom) {
		return problem("switchover", "/valid_from", "a new value that is not valid yet",
			"one that the gateway accepts", "wait until it is, or change the date")
	}
	counts, err := tx.SwitchoverCounts(ctx, w.ID)
	if err != nil {
		return err
	}
	if n := holders(counts); n != seen {
		return problem("switchover", "/holders", fmt.Sprint(seen),
			fmt.Sprintf("%d, the number of devices that hold the old value", n),
			"look at the list of them again, then confirm its number")
	}
	if err := eachStep(ctx, tx, w.ID, map[string]string{}, func(x api.SwitchoverStep) error {
		before := now
		if x.Released != nil {
			before = *x.Released
		}
		if x.State == api.StepNothing { // its parcel stays valid
			return nil
		}
		return s.endOldLinks(ctx, tx, x, before)
	}); err != nil {
		return err
	}
	if err := s.settleRecords(ctx, tx, w); err != nil {
		return err
	}
	return s.endSwitchover(ctx, tx, w, vpn.SwitchClosed)
}

// settleRecords puts the new value on record.
func (s *Service) settleRecords(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	switch w.Kind {
	case vpn.SwitchRetirement:
		return eachStep(ctx, tx, w.ID, map[string]string{}, func(x api.SwitchoverStep) error {
			if x.Tracked == x.ProfileID {
				return nil // it cannot follow, or was not released: its operator decides
			}
			return s.Profiles.remove(ctx, tx, x.ProfileID)
		})
	case vpn.SwitchRollover:
		return s.finishRollover(ctx, tx, w.AuthorityID, true)
	case vpn.SwitchRelease:
		return eachStep(ctx, tx, w.ID, map[string]string{}, func(x api.SwitchoverStep) error {
			return s.upgrade(ctx, tx, w, x)
		})
	case vpn.SwitchPasswords:
		return s.settlePasswords(ctx, tx, w)
	}
	_, err := s.Gateways.change(ctx, tx, w.GatewayID, 0, func(old *vpn.Gateway) (*vpn.Gateway,
		error) {
		kept, err := store.Gateways.Get(ctx, tx, w.GatewayID)
		if err != nil {
			return nil, err
		}
		next := switchover.Final(w, *kept)
		return &next, nil
	}, func(string) bool { return false })
	return err
}

func (s *Service) upgrade(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	x api.SwitchoverStep,
) error {
	if x.State == api.StepCannot {
		return nil
	}
	p, err := store.Profiles.Get(ctx, tx, x.ProfileID)
	if err != nil {
		return err
	}
	_, err = s.Devices.change(ctx, tx, p.DeviceID, 0, func(old *vpn.Device) (*vpn.Device, error) {
		d := *old
		d.Release = w.Next.Release
		return &d, nil
	}, func(string) bool { return true })
	return err
}

// settlePasswords gives the accounts of all touched people their new passwords.
func (s *Service) settlePasswords(ctx context.Context, tx *store.Tx, w *vpn.Switchover) error {
	done := map[string]bool{}
	return eachStep(ctx, tx, w.ID, map[string]string{}, func(x api.SwitchoverStep) error {
		p, err := store.Profiles.Get(ctx, tx, x.ProfileID)
		if err != nil {
			return err
		}
		d, err := store.Devices.Get(ctx, tx, p.DeviceID)
		if err != nil {
			return err
		}
		accounts, err := store.Accounts.Where(ctx, tx, "person_id = ?", d.PersonID)
		if err != nil {
			return err
		}
		for _, a := range accounts {
			if done[a.ID] || !givesPassword(a, w) {
				continue
			}
			done[a.ID] = true
			next, err := s.nextPassword(w.ID, a.ID)
			if err != nil {
				return err
			}
			if _, err := s.Accounts.change(ctx, tx, a.ID, 0, func(old *vpn.Account) (*vpn.Account,
				error) {
				changed := *old
				changed.Password = &next
				return &changed, nil
			}, func(string) bool { return false }); err != nil {
				return err
			}
		}
		return nil
	})
}

// servedNow is a gateway as its daemons serve it: with both values of switchovers that run. next is
// how it is to devices that have another pre-shared key; nil where there is none.
func (s *Service) servedNow(
	ctx context.Context,
	tx *store.Tx,
	g *vpn.Gateway,
) (served *vpn.Gateway, next *vpn.Gateway, passwords []vpn.Switchover, err error) {
	list, err := store.Switchovers.Where(ctx, tx,
		"gateway_id = ? AND state IN ('running', 'paused')", g.ID)
	served = g
	for i := range list {
		w := &list[i]
		if w.ValidFrom != nil && s.now().Before(*w.ValidFrom) {
			continue
		}
		switch w.Kind {
		case vpn.SwitchRetirement:
		case vpn.SwitchPasswords:
			passwords = append(passwords, *w)
		default:
			if w.Kind == vpn.SwitchPSK || w.Kind == vpn.SwitchAddress {
				if next == nil {
					next = served
				}
				moved := switchover.Final(w, *next)
				next = &moved
			}
			both := switchover.Served(w, *served)
			served = &both
		}
	}
	return served, next, passwords, err
}

// nextAccounts are accounts with the passwords that switchovers give them, of people who have got
// theirs.
func (s *Service) nextAccounts(
	ctx context.Context,
	tx *store.Tx,
	list []vpn.Switchover,
	accounts []vpn.Account,
) (second []vpn.Account, err error) {
	for _, w := range list {
		released, err := tx.ReleasedPeople(ctx, w.ID)
		if err != nil {
			return nil, err
		}
		for _, a := range accounts {
			if !released[a.PersonID] {
				continue
			}
			next, err := s.nextPassword(w.ID, a.ID)
			if err != nil {
				return nil, err
			}
			a.Password = &next
			second = append(second, a)
		}
	}
	return second, nil
}
