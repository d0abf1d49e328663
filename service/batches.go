package service

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/vpn"
	"wardicon/store"
)

// slipLife is how long links and passcodes of a batch can be read.
const slipLife = 24 * time.Hour

// groupWork is what a job of handing over is to do.
type groupWork struct {
	Group   string              `json:"group"`
	Request api.HandoverRequest `json:"request"`
}

// HandOverGroup begins to hand over the parcels of all devices of a group's people: what is not
// built, or no longer as it would be built now, is built first. Links and passcodes that are not
// sent by mail can be read for a day.
func (s *Service) HandOverGroup(
	ctx context.Context,
	group string,
	preference api.HandoverRequest,
) (j api.Job, err error) {
	if strings.TrimSpace(group) == "" {
		return j, problem(
			"handover",
			"/group",
			"nothing",
			"the name of a group",
			"say whose parcels are to be handed over",
		)
	}
	if preference, err = mayHandOver("group "+group, preference); err != nil {
		return j, err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if preference.Link == check.ByMail {
			if err := s.canInvite(ctx, tx); err != nil {
				return err
			}
		}
		subject, err := json.Marshal(groupWork{group, preference})
		if err != nil {
			return err
		}
		j = api.Job{
			Kind:     "hand-over",
			Subject:  string(subject),
			Title:    "Hand over to the group " + group,
			Operator: actor(ctx),
			Result:   map[string]int{},
		}
		if j.Total, err = tx.CountGroup(ctx, group); err != nil {
			return err
		}
		if j.Total == 0 {
			return problem(
				"handover",
				"/group",
				`"`+group+`"`,
				"a group of people who have devices with profiles",
				"correct the name",
			)
		}
		return errors.Join(tx.AddJob(ctx, &j), audit(ctx, tx, "hand over", "group", group, j.ID))
	})
	s.workSoon()
	return j, err
}

// mayHandOver completes how many are handed over to. What speaks against it is said before the job
// begins.
func mayHandOver(whose string, preference api.HandoverRequest) (api.HandoverRequest, error) {
	handing := handingOf(preference, check.ByMail, check.BySheet)
	preference.Link, preference.Passcode = handing.Link, handing.Passcode
	if err := measured(handing); err != nil {
		return preference, err
	}
	if preference.Attach {
		handing.Attached = []format.File{{Name: "the files of the parcels", Private: true}}
	}
	if findings := check.Hand(check.Subject{}, handing); len(findings) > 0 {
		return preference, &BlockedError{whose, findings}
	}
	return preference, nil
}

// nextHandOver lists profiles of the group.
func (s *Service) nextHandOver(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	limit int,
) ([]string, error) {
	var b groupWork
	if err := json.Unmarshal([]byte(j.Subject), &b); err != nil {
		return nil, err
	}
	return tx.ProfilesOfGroup(ctx, b.Group, j.Cursor, limit)
}

// handOverOne makes the link of one profile, and builds its parcel before where that is not up to
// date. Who holds an open link to that parcel already gets no second one.
func (s *Service) handOverOne(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	profileID string,
) (kept, error) {
	var b groupWork
	if err := json.Unmarshal([]byte(j.Subject), &b); err != nil {
		return nil, err
	}
	return s.deliver(ctx, tx, profileID, b.Request, j.ID, nil)
}

// deliver makes the link of one profile, and builds its parcel before where that is not up to date.
// What belongs to it is kept beside it.
func (s *Service) deliver(
	ctx context.Context,
	tx *store.Tx,
	profileID string,
	request api.HandoverRequest,
	batch string,
	beside func(context.Context, *store.Tx) error,
) (kept, error) {
	w, err := s.work(ctx, tx, profileID)
	if err != nil {
		return nil, err
	}
	if request.Link == check.ByMail && w.in.Person.Mail == "" {
		return tallied("without a mail address"), nil
	}
	last, err := tx.LastParcel(ctx, profileID)
	if err != nil {
		return nil, err
	}
	var blocked *BlockedError
	var fresh *api.Parcel
	if last == nil || w.subject.Outdated {
		p, err := s.parcel(ctx, tx, w, false)
		if errors.As(err, &blocked) {
			return tallied("blocked"), nil
		}
		if err != nil {
			return nil, err
		}
		fresh = &p
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		if err := w.current(ctx, tx); err != nil {
			return err
		}
		if fresh != nil {
			p := *fresh
			if err := s.keepParcel(ctx, tx, w, &p); err != nil {
				return err
			}
		} else if told, err := tx.Told(ctx, last.ID); err != nil || told {
			count("has a link already")
			return err
		}
		made, err := s.handOver(ctx, tx, w, request, batch)
		var refused *vpn.Problems
		if errors.As(err, &blocked) || errors.As(err, &refused) {
			count("blocked")
			return nil
		}
		if err != nil {
			return err
		}
		if beside != nil {
			if err := beside(ctx, tx); err != nil {
				return err
			}
		}
		count("made")
		if request.Link != check.ByMail {
			if err := tx.AddSlip(ctx, made.Handover.ID, store.SlipLink, made.Path); err != nil {
				return err
			}
		}
		return tx.AddSlip(ctx, made.Handover.ID, store.SlipPasscode, made.Passcode)
	}, nil
}

// Slips reads one half of what the people of a batch are to be told: links, or passcodes. They are
// read apart, so that they do not travel together, and for a day alone.
func (s *Service) Slips(ctx context.Context, jobID, half string) (list []api.Slip, err error) {
	list = []api.Slip{}
	if half != store.SlipLink && half != store.SlipPasscode {
		return nil, problem(
			"slips",
			"/half",
			quoted(half),
			"link or passcode",
			"choose one of them",
		)
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Job(ctx, jobID); err != nil {
			return err
		}
		if err := tx.ForgetSlips(ctx, s.now().Add(-slipLife)); err != nil {
			return err
		}
		organisation, err := tx.Organisation(ctx)
		if err != nil {
			return err
		}
		for offset := 0; ; offset += 500 {
			page, err := store.Handovers.List(
				ctx,
				tx,
				store.Query{
					Limit:      500,
					Offset:     offset,
					Sort:       "person",
					Conditions: map[string]string{"batch": jobID, "open": "true"},
				},
			)
			if err != nil {
				return err
			}
			for _, h := range page.Items {
				value, err := tx.Slip(ctx, h.ID, half)
				if err != nil {
					return err
				}
				if value == "" {
					continue
				}
				slip := api.Slip{
					HandoverID: h.ID,
					Person:     h.Person,
					Device:     h.Device,
					Gateway:    h.Gateway,
				}
				if half == store.SlipLink {
					slip.Link = organisation.Links + value
				} else {
					slip.Passcode = value
				}
				list = append(list, slip)
			}
			if len(page.Items) < 500 {
				break
			}
		}
		return audit(ctx, tx, "read "+half+"s", "job", jobID, "")
	})
	return list, err
}
