package service

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/vpn"
	"wardicon/store"
)

const (
	selectionJob = "selection"
	mostSelected = 100_000
)

// selectionWork is what a job does with each of its targets.
type selectionWork struct {
	Action    api.SelectionAction `json:"action"`
	Noun      string              `json:"noun"`
	GatewayID string              `json:"gateway_id,omitempty"`
	Why       vpn.OffboardReason  `json:"why,omitempty"`
	Request   api.HandoverRequest `json:"request"`
	Undone    string              `json:"undone,omitempty"` // job whose moves are undone
}

// Act begins an action on every record of a selection, as a job.
func (s *Service) Act(ctx context.Context, in api.Selection) (j api.Job, err error) {
	work := selectionWork{
		Action: in.Action, Noun: in.Noun, GatewayID: in.GatewayID, Why: in.Why,
		Request: in.HandoverRequest,
	}
	var title string
	var targets []string
	if err := s.store.Snapshot(ctx, func(tx *store.Tx) error {
		var err error
		if title, err = s.mayAct(ctx, tx, in, &work); err != nil {
			return err
		}
		targets, err = selected(ctx, tx, in)
		return err
	}); err != nil {
		return j, err
	}
	if len(targets) == 0 {
		return j, problem("selection", "/ids", "no record to "+string(in.Action),
			"one or more", "choose others")
	}
	title += " " + counted(len(targets), work.Noun, plurals[work.Noun])
	if in.Action == api.SelectionRehearse {
		if len(targets) > mostRehearsed {
			return j, problem("selection", "/ids", fmt.Sprint(len(targets), " profiles"),
				fmt.Sprint(mostRehearsed, " at most"), "choose fewer: each of them signs in")
		}
		sample, err := s.beginSample(ctx, "selection", "se-"+rand.Text(), title, ofParcels(targets))
		return sample.Job, err
	}
	return s.beginSelection(ctx, work, title, targets)
}

func (s *Service) beginSelection(
	ctx context.Context, work selectionWork, title string, targets []string,
) (j api.Job, err error) {
	subject, err := json.Marshal(work)
	if err != nil {
		return j, err
	}
	j = api.Job{
		Kind: selectionJob, Subject: string(subject), Title: title, Operator: actor(ctx),
		Total: len(targets), Result: map[string]int{},
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(
			tx.AddJob(ctx, &j),
			tx.AddTargets(ctx, j.ID, targets),
			audit(ctx, tx, string(work.Action), "selection", j.ID, title),
		)
	})
	s.workSoon()
	return j, err
}

// moveBack is the action of a job that undoes the moves of another one.
const moveBack api.SelectionAction = "move back"

// Undo moves the profiles that a job has moved back to where they were, as a job. One that was
// changed to another gateway since stays there.
func (s *Service) Undo(ctx context.Context, id string) (j api.Job, err error) {
	var moved []string
	if err := s.store.Snapshot(ctx, func(tx *store.Tx) error {
		if j, err = tx.Job(ctx, id); err != nil {
			return err
		}
		moved, err = tx.Moved(ctx, id)
		return err
	}); err != nil {
		return j, err
	}
	if j.State == api.Running {
		return j, problem("job", "/state", "a job that still runs", "one that has ended",
			"cancel it, or wait until it has ended")
	}
	if len(moved) == 0 {
		return j, problem("job", "/result", j.Title+", with nothing left to undo",
			"a job that has moved profiles", "only moves are undone, and only once")
	}
	return s.beginSelection(ctx, selectionWork{Action: moveBack, Noun: "profile", Undone: id},
		"Move back "+counted(len(moved), "profile", plurals["profile"]), moved)
}

// mostRehearsed are the profiles that one selection rehearses.
const mostRehearsed = 200

var plurals = map[string]string{"profile": "profiles", "device": "devices", "person": "people"}

// mayAct says what a job does, and refuses what is missing or does not fit.
func (s *Service) mayAct(
	ctx context.Context,
	tx *store.Tx,
	in api.Selection,
	work *selectionWork,
) (title string, err error) {
	if len(in.IDs) > 0 && (in.Search != "" || len(in.Filter) > 0) {
		return "", problem("selection", "/ids", "identifiers and a search or filters",
			"one of both", "leave the other out")
	}
	if in.Action == api.SelectionOffboard {
		if in.Noun == "profile" {
			return "", problem("selection", "/noun", "profiles", "people or devices",
				"choose whose or which devices leave")
		}
		return "Offboard", reason(in.Noun, in.Why)
	}
	work.Noun = "profile"
	switch in.Action {
	case api.SelectionMove:
		g, err := store.Gateways.Get(ctx, tx, in.GatewayID)
		var none *store.NotFoundError
		if errors.As(err, &none) {
			return "", missing("selection", "/gateway_id", "gateway", in.GatewayID)
		}
		if err != nil {
			return "", err
		}
		return "Move to " + g.Name + ":", nil
	case api.SelectionHandOver:
		if work.Request, err = mayHandOver("the selection", in.HandoverRequest); err != nil {
			return "", err
		}
		if work.Request.Link == check.ByMail {
			return "Hand over", s.canInvite(ctx, tx)
		}
		return "Hand over", nil
	case api.SelectionRehearse:
		return "Rehearse", nil
	}
	return "Build", nil
}

// selected are the records that an action is for: those that were named, or that a search and
// filters fit; of devices and people their profiles, unless they leave.
func selected(ctx context.Context, tx *store.Tx, in api.Selection) ([]string, error) {
	ids := in.IDs
	if len(ids) == 0 {
		var err error
		if ids, err = fitting(ctx, tx, in); err != nil {
			return nil, err
		}
	}
	ids = slices.Compact(slices.Sorted(slices.Values(ids)))
	if in.Expected > 0 && in.Expected != len(ids) {
		return nil, problem("selection", "/expected", fmt.Sprint(in.Expected),
			fmt.Sprintf("%d, the number of records that it fits now", len(ids)),
			"look at the list again, then confirm its number")
	}
	column := map[string]string{"device": "device_id", "person": "person_id"}[in.Noun]
	if in.Action == api.SelectionOffboard || column == "" {
		return ids, nil
	}
	var profiles []string
	for _, id := range ids {
		of, err := tx.ProfilesOf(ctx, column, id)
		if err != nil {
			return nil, err
		}
		profiles = append(profiles, of...)
	}
	return profiles, nil
}

// fitting are the records of a noun that a search and filters fit.
func fitting(ctx context.Context, tx *store.Tx, in api.Selection) (ids []string, err error) {
	q := store.Query{Search: in.Search, Limit: 500}
	q.Filter(in.Filter)
	for {
		before := len(ids)
		switch in.Noun {
		case "profile":
			ids, err = page(ctx, tx, store.Profiles, q, ids,
				func(p api.Profile) string { return p.ID })
		case "device":
			ids, err = page(ctx, tx, store.Devices, q, ids,
				func(d api.Device) string { return d.ID })
		default:
			ids, err = page(ctx, tx, store.People, q, ids,
				func(p api.Person) string { return p.ID })
		}
		if err != nil || len(ids)-before < q.Limit {
			return ids, err
		}
		if len(ids) > mostSelected {
			return nil, problem("selection", "/filter", "more than "+fmt.Sprint(mostSelected),
				"fewer records", "filter them further")
		}
		q.After = ids[len(ids)-1]
	}
}

// page adds the identifiers of a page of a list.
func page[R, Row any](
	ctx context.Context,
	tx *store.Tx,
	table *store.Table[R, Row],
	q store.Query,
	ids []string,
	id func(Row) string,
) ([]string, error) {
	rows, err := table.List(ctx, tx, q)
	for _, row := range rows.Items {
		ids = append(ids, id(row))
	}
	return ids, err
}

func (s *Service) selections() kind {
	return kind{
		next: func(ctx context.Context, tx *store.Tx, j api.Job, limit int) ([]string, error) {
			return tx.Targets(ctx, j.ID, j.Cursor, limit)
		},
		one: s.actOne,
		ended: func(ctx context.Context, tx *store.Tx, j api.Job) error {
			return tx.DropTargets(ctx, j.ID)
		},
	}
}

// actOne does what a selection is for with one of its records.
func (s *Service) actOne(ctx context.Context, tx *store.Tx, j api.Job, id string) (kept, error) {
	var work selectionWork
	if err := json.Unmarshal([]byte(j.Subject), &work); err != nil {
		return nil, err
	}
	switch work.Action {
	case api.SelectionHandOver:
		return s.deliver(ctx, tx, id, work.Request, j.ID, nil)
	case api.SelectionMove:
		return s.moveOne(ctx, tx, j.ID, id, work.GatewayID)
	case moveBack:
		return s.moveBackOne(ctx, tx, work.Undone, id)
	case api.SelectionOffboard:
		return func(ctx context.Context, tx *store.Tx, count func(string)) error {
			_, err := s.leave(ctx, tx, work.Noun, id, work.Why)
			if err == nil {
				count("offboarded")
			}
			return err
		}, nil
	}
	return s.buildOne(ctx, tx, id)
}

// buildOne builds the parcel of a profile, unless it is up to date.
func (s *Service) buildOne(ctx context.Context, tx *store.Tx, id string) (kept, error) {
	w, err := s.work(ctx, tx, id)
	if err != nil {
		return nil, err
	}
	last, err := tx.LastParcel(ctx, id)
	if err != nil {
		return nil, err
	}
	if last != nil && !w.subject.Outdated {
		return tallied("up to date"), nil
	}
	var blocked *BlockedError
	p, err := s.parcel(ctx, tx, w, false)
	if errors.As(err, &blocked) {
		return tallied("blocked"), nil
	}
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		if err := w.current(ctx, tx); err != nil {
			return err
		}
		count("built")
		return s.keepParcel(ctx, tx, w, &p)
	}, nil
}

// moveOne has a profile lead to another gateway. What was set by hand stays.
func (s *Service) moveOne(
	ctx context.Context,
	tx *store.Tx,
	jobID, id, gatewayID string,
) (kept, error) {
	p, err := store.Profiles.Get(ctx, tx, id)
	if err != nil {
		return nil, err
	}
	if p.GatewayID == gatewayID {
		return tallied("there already"), nil
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		from, outcome, err := s.moveTo(ctx, tx, id, gatewayID)
		if err == nil && outcome == "moved" {
			err = tx.AddMove(ctx, jobID, id, store.Move{From: from, To: gatewayID})
		}
		count(outcome)
		return err
	}, nil
}

// moveBackOne undoes what a job has done to a profile, unless somebody has changed it since.
func (s *Service) moveBackOne(ctx context.Context, tx *store.Tx, jobID, id string) (kept, error) {
	if _, err := store.Profiles.Get(ctx, tx, id); err != nil {
		return nil, err
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		m, err := tx.Move(ctx, jobID, id)
		if err != nil {
			return err
		}
		now, err := store.Profiles.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		if m == nil || now.GatewayID != m.To {
			count("changed since")
			return nil
		}
		_, outcome, err := s.moveTo(ctx, tx, id, m.From)
		if err == nil && outcome == "moved" {
			outcome, err = "moved back", tx.DropMove(ctx, jobID, id)
		}
		count(outcome)
		return err
	}, nil
}

// moveTo gives a profile another gateway, and tells which one it had and what came of it.
func (s *Service) moveTo(ctx context.Context, tx *store.Tx, id, gatewayID string) (
	from, outcome string, err error,
) {
	p, err := store.Profiles.Get(ctx, tx, id)
	if err != nil {
		return "", "", err
	}
	there, err := store.Profiles.Where(ctx, tx, "device_id = ? AND gateway_id = ?", p.DeviceID,
		gatewayID)
	if err != nil {
		return "", "", err
	}
	if len(there) > 0 {
		return "", "has a profile there already", nil
	}
	from = p.GatewayID
	var refused *vpn.Problems
	_, err = s.Profiles.change(ctx, tx, id, 0, func(p *vpn.Profile) (*vpn.Profile, error) {
		p.GatewayID = gatewayID
		return p, nil
	}, func(string) bool { return true })
	if errors.As(err, &refused) {
		return "", outcomeRefused, nil
	}
	return from, "moved", err
}
