package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/switchover"
	"wardicon/core/vpn"
	"wardicon/store"
)

// What people must do to get a new value.
const (
	needNothing = "nothing"
	needTap     = "tap"    // a file that the system installs
	needRun     = "run"    // a script
	needRetype  = "retype" // by the card
	needCannot  = "cannot"
)

// touched is the condition for the profiles that a switchover touches.
func touched(ctx context.Context, tx *store.Tx, w *vpn.Switchover) (string, []any, error) {
	condition, args := "", []any{}
	switch w.Kind {
	case vpn.SwitchRelease:
		condition = `device_id IN (SELECT id FROM devices WHERE platform = ? AND release <> ?)`
		args = append(args, w.Platform, w.Next.Release)
	case vpn.SwitchRollover:
		gateways, err := trusting(ctx, tx, w)
		if err != nil {
			return "", nil, err
		}
		marks := strings.TrimSuffix(strings.Repeat("?, ", len(gateways)), ", ")
		condition = `(gateway_id IN (` + marks + `) OR device_id IN (SELECT device_id FROM
			certificates WHERE authority_id = ? AND revoked IS NULL))`
		for _, id := range gateways {
			args = append(args, id)
		}
		args = append(args, w.AuthorityID)
	case vpn.SwitchRetirement, vpn.SwitchPasswords:
		condition, args = `gateway_id = ?`, append(args, w.GatewayID)
	default:
		condition = `(gateway_id = ? OR ` + store.FallbackOf + ` = ?)`
		args = append(args, w.GatewayID, w.GatewayID)
	}
	if w.Group != "" {
		condition += ` AND person_id IN (SELECT person_id FROM person_groups WHERE name = ?)`
		args = append(args, w.Group)
	}
	return condition, args, nil
}

// trusting are the gateways whose offers name a CA that its successor does not share.
func trusting(ctx context.Context, tx *store.Tx, w *vpn.Switchover) (ids []string, err error) {
	from, err := store.Authorities.Get(ctx, tx, w.AuthorityID)
	if err != nil {
		return nil, err
	}
	to, err := store.Authorities.Get(ctx, tx, w.SuccessorID)
	if err != nil {
		return nil, err
	}
	old, _, err := apart(from.Certificate, to.Certificate)
	if err != nil {
		return nil, err
	}
	gateways, err := store.Gateways.Where(ctx, tx, "1 = 1")
	for _, g := range gateways {
		for _, text := range g.Offers.Authorities() {
			if list, err := pki.Certificates(*text); err == nil && among(list, old) {
				ids = append(ids, g.ID)
				break
			}
		}
	}
	return ids, err
}

// Survey begins to compute what a switchover means for every device that it touches: nothing is
// changed. It is a job.
func (s *Service) Survey(ctx context.Context, id string) (j api.Job, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		w, err := store.Switchovers.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		if w.State != vpn.SwitchDraft {
			return problem("switchover", "/state", "a switchover that is "+string(w.State),
				"a draft", "its devices are listed with how far each has come")
		}
		condition, args, err := touched(ctx, tx, w)
		if err != nil {
			return err
		}
		j = api.Job{
			Kind: "survey", Subject: id, Title: "Preview of " + w.Name, Operator: actor(ctx),
			Result: map[string]int{},
		}
		if j.Total, err = tx.CountTouchedBy(ctx, condition, args); err != nil {
			return err
		}
		return errors.Join(tx.ForgetSteps(ctx, id), tx.AddJob(ctx, &j),
			audit(ctx, tx, "preview", "switchover", id, w.Name))
	})
	s.workSoon()
	return j, err
}

// surveys is the kind of the job.
func (s *Service) surveys() kind {
	return kind{
		next: func(
			ctx context.Context, tx *store.Tx, j api.Job, limit int,
		) ([]string, error) {
			w, err := store.Switchovers.Get(ctx, tx, j.Subject)
			if err != nil {
				return nil, err
			}
			condition, args, err := touched(ctx, tx, w)
			if err != nil {
				return nil, err
			}
			return tx.TouchedBy(ctx, condition, args, j.Cursor, limit)
		},
		one: s.surveyOne,
		ended: func(ctx context.Context, tx *store.Tx, j api.Job) error {
			if j.State != api.Done {
				return nil
			}
			w, err := store.Switchovers.Get(ctx, tx, j.Subject)
			if err != nil || w.State != vpn.SwitchDraft || w.Changed.After(j.Created) {
				return err // what was computed may be of another value
			}
			now := s.now().UTC()
			w.Surveyed = &now
			return store.Switchovers.Update(ctx, tx, w, w.Version)
		},
	}
}

// surveyOne computes what a switchover means for one profile.
func (s *Service) surveyOne(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	profileID string,
) (kept, error) {
	w, err := store.Switchovers.Get(ctx, tx, j.Subject)
	if err != nil {
		return nil, err
	}
	now, err := s.work(ctx, tx, profileID)
	if err != nil {
		return nil, err
	}
	in, err := input(ctx, tx, now.in.Profile)
	if err != nil {
		return nil, err
	}
	x := api.SwitchoverStep{
		SwitchoverID: w.ID, ProfileID: profileID,
		Wave: switchover.WaveOf(w, in.Device.ID, func(group string) bool {
			return slices.Contains(in.Person.Groups, group)
		}),
	}
	if w.Kind == vpn.SwitchRetirement {
		err = s.succeed(ctx, tx, w, &in, &x)
	} else {
		err = s.move(w, &in, switchover.Moved)
	}
	if err != nil {
		return nil, err
	}
	if x.Need == "" { // else it is known already
		then, err := s.settled(ctx, tx, in)
		if err != nil {
			return nil, err
		}
		then.signer = now.signer
		if err := s.weigh(ctx, tx, w, now, then, &x); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		if err := now.current(ctx, tx); err != nil {
			return err
		}
		count(x.Need)
		return tx.PutStep(ctx, x)
	}, nil
}

// succeed chooses the gateway that takes the place of a retired one for a device: the nearest one
// that it can use, and among equally near ones by their load shares or, where none is set, by how
// many clients they have addresses for.
func (s *Service) succeed(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	in *plan.Input,
	x *api.SwitchoverStep,
) error {
	var list []vpn.Gateway
	for _, id := range w.SuccessorIDs {
		g, err := store.Gateways.Get(ctx, tx, id)
		if err != nil {
			return err
		}
		list = append(list, *g)
	}
	choice := *in
	choice.Pattern.Gateways, choice.Pattern.Fallback = vpn.ChooseNearest, false
	byCapacity := switchover.ByCapacity(list)
	leads, why := plan.Leads(choice, list)
	if len(leads) == 0 {
		x.Need, x.Why = needCannot, why
		return nil
	}
	x.SuccessorID = leads[0].Gateway.ID
	if there, err := s.thereAlready(ctx, tx, in.Device.ID, x.SuccessorID); err != nil || there {
		x.Need, x.Why = needNothing, "it connects to "+leads[0].Gateway.Name+" already"
		return err
	}
	in.Gateway, in.Fallback, in.Second = leads[0].Gateway, nil, ""
	in.Profile = succeeding(in.Profile, in.Gateway.ID)
	x.Why = leads[0].Reason
	if byCapacity {
		in.Gateway.LoadShare = 0
		x.Why = strings.Replace(x.Why, "by load share", "by client addresses", 1)
	}
	return nil
}

// thereAlready tells whether a device has a profile at a gateway whose parcel is up to date.
func (s *Service) thereAlready(
	ctx context.Context,
	tx *store.Tx,
	deviceID, gatewayID string,
) (bool, error) {
	list, err := store.Profiles.Where(ctx, tx, "device_id = ? AND gateway_id = ?", deviceID,
		gatewayID)
	if err != nil || len(list) == 0 {
		return false, err
	}
	last, err := tx.LastParcel(ctx, list[0].ID)
	if err != nil || last == nil {
		return false, err
	}
	w, err := s.work(ctx, tx, list[0].ID)
	return err == nil && !w.subject.Outdated, err
}

// succeeding is the profile of a device at another gateway.
func succeeding(p vpn.Profile, gatewayID string) vpn.Profile {
	p.Meta, p.GatewayID = vpn.Meta{}, gatewayID
	p.Preferences.FallbackID, p.Preferences.SecondTo = "", ""
	return p
}

// weigh compares what a device has with what it would get.
func (s *Service) weigh(
	ctx context.Context,
	tx *store.Tx,
	w *vpn.Switchover,
	now, then *worked,
	x *api.SwitchoverStep,
) error {
	known := map[string]bool{}
	for _, f := range now.findings {
		known[f.Rule] = true
	}
	var blocks []string
	for _, f := range then.findings {
		if f.Rule == check.CodeUnrehearsed {
			continue
		}
		if !known[f.Rule] {
			x.NewFindings++
		}
		if f.Severity == vpn.Error {
			blocks = append(blocks, f.Title)
		}
	}
	if len(blocks) > 0 || !then.plan.Works() {
		x.Need = needCannot
		x.Why = cut(strings.Join(slices.Compact(blocks), "; "), 300)
		if x.Why == "" {
			x.Why = "no protocol of the gateway is one of the device's"
		}
		return nil
	}
	last, err := tx.LastParcel(ctx, now.in.Profile.ID)
	if err != nil {
		return err
	}
	byHand := then.plan.Format == platform.ByHand
	if last != nil && w.Kind != vpn.SwitchRetirement && w.Kind != vpn.SwitchRollover {
		if !s.outdated(then, *last) {
			x.Need, x.Why = needNothing, "its parcel stays as it is"
			return nil
		}
		byHand = byHand || last.ByHand
	}
	x.Need = needOf(then.in.Device.Platform, byHand)
	if x.Why == "" {
		x.Why = changes(now, then)
	}
	return nil
}

// needOf is what a person must do with a new parcel.
func needOf(p vpn.Platform, byHand bool) string {
	switch {
	case byHand:
		return needRetype
	case p == vpn.Windows || p == vpn.Linux || p == vpn.OpenWrt || p == vpn.LinuxDesktop:
		return needRun
	}
	return needTap
}

// changes says what is another way in a new plan.
func changes(now, then *worked) string {
	a, b := now.plan.Connection, then.plan.Connection
	var list []string
	add := func(what, from, to string) {
		if from != to {
			list = append(list, fmt.Sprintf("%s %s instead of %s", what, to, from))
		}
	}
	add("protocol", a.Protocol.Title(), b.Protocol.Title())
	add("address", a.Server, b.Server)
	add("file", string(now.plan.Format), string(then.plan.Format))
	if len(list) == 0 {
		return "its files change"
	}
	return strings.Join(list, ", ")
}
