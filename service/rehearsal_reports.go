package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strings"

	"wardicon/api"
	"wardicon/core/rehearsal"
	"wardicon/store"
)

// mostFound bounds the text of a step that is reported, in bytes.
const mostFound = 1000

// ReportRehearsal keeps a rehearsal that was made elsewhere with a file of the newest parcel of a
// profile.
func (s *Service) ReportRehearsal(
	ctx context.Context,
	profileID string,
	in api.ReportedRehearsal,
) (row api.Rehearsal, err error) {
	result, err := reported(in)
	if err != nil {
		return row, err
	}
	result.At = s.now() // whatever clock the other machine has
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		p, err := store.Profiles.Get(ctx, tx, profileID)
		if err != nil {
			return err
		}
		list, err := tx.Parcels(ctx, profileID)
		if err != nil {
			return err
		}
		if len(list) == 0 || list[0].Removed != nil {
			return problem("rehearsal", "/profile", "no parcel", "a parcel of the profile",
				"build it first")
		}
		known := false
		for _, f := range list[0].Files {
			content, err := tx.ParcelFile(ctx, list[0].ID, f.Name)
			if err != nil {
				return err
			}
			sum := sha256.Sum256(content)
			known = known || hex.EncodeToString(sum[:]) == strings.ToLower(in.SHA256)
		}
		if !known {
			return problem("rehearsal", "/sha256", "a file of no or of an older parcel",
				"a file of the newest parcel", "rehearse the newest parcel")
		}
		row = api.Rehearsal{
			ProfileID: profileID, ParcelID: list[0].ID, GatewayID: p.GatewayID,
			Operator: actor(ctx),
			State:    api.RehearsalFailed, Result: result,
		}
		if result.Passed {
			row.State = api.RehearsalPassed
		}
		if err := tx.AddRehearsal(ctx, &row); err != nil {
			return err
		}
		if err := errors.Join(tx.EndRehearsal(ctx, &row),
			tx.TouchProfiles(ctx, "id = ?", profileID)); err != nil {
			return err
		}
		row, err = store.Rehearsals.Row(ctx, tx, row.ID)
		return errors.Join(err, audit(ctx, tx, "report-rehearsal", "profile", profileID,
			row.Device+" to "+row.Gateway+", from "+in.Place))
	})
	s.checkSoon()
	return row, err
}

// reported is a result as it is kept: with all its steps, each in bounds.
func reported(in api.ReportedRehearsal) (rehearsal.Result, error) {
	r := in.Result
	r.Place = in.Place
	if len(r.Steps) != len(rehearsal.Steps) {
		return r, problem("rehearsal", "/result/steps", "other steps than a rehearsal has",
			"all of its steps", "send the result as wardicon rehearse makes it")
	}
	for i := range r.Steps {
		r.Steps[i].Found = clipped(r.Steps[i].Found, mostFound)
	}
	if r.Passed == (r.FailedAt() != "") {
		return r, problem("rehearsal", "/result/passed", "another outcome than that of its steps",
			"the outcome of its steps", "send the result as wardicon rehearse makes it")
	}
	r.File, r.Cause, r.Fix = clipped(r.File, mostFound), clipped(r.Cause, mostFound),
		clipped(r.Fix, mostFound)
	return r, nil
}

func clipped(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "") + "…"
}
