package service

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"wardicon/api"
	"wardicon/core/card"
	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/format/diagnostics"
	"wardicon/core/secret"
	"wardicon/core/switchover"
	"wardicon/core/vpn"
	"wardicon/store"
)

// files makes the files of a parcel: what the device takes, and the card.
func (w *worked) files(byHand bool) ([]format.File, error) {
	var files []format.File
	var err error
	if _, ok := all.ByName(w.plan.Format); ok && !byHand && w.plan.Ability.Support.Usable() {
		files, err = w.plan.Files()
	} else {
		files, err = card.Material(w.in.Device.Platform, w.plan.Connection)
	}
	if err != nil {
		return nil, err
	}
	c := w.card(files, byHand)
	page, err := c.HTML()
	if err != nil {
		return nil, err
	}
	private := len(c.Values) > 1
	name := w.plan.Connection.Name
	files = append(
		files,
		format.File{
			Name:      format.FileName(name, "-card.html"),
			MediaType: "text/html; charset=utf-8",
			Purpose:   "Card for screen and print",
			Private:   private,
			Content:   page,
		},
		format.File{
			Name:      format.FileName(name, "-card.txt"),
			MediaType: "text/plain; charset=utf-8",
			Purpose:   "Card as plain text",
			Private:   private,
			Content:   c.Text(),
		},
	)
	if script, ok := w.diagnostics(); ok && !byHand {
		files = append(files, script)
	}
	return files, nil
}

// diagnostics is the script that looks why the connection does not work, for platforms that run
// one.
func (w *worked) diagnostics() (format.File, bool) {
	s := diagnostics.Subject{
		Connection: w.plan.Connection,
		BehindNAT:  w.in.Gateway.BehindNAT,
		Hosts:      w.in.Gateway.Hosts,
	}
	if o := w.in.Organisation; o.Links != "" {
		s.WhereAmI = o.Links + whereamiPath
	}
	return diagnostics.Script(w.in.Device.Platform, s)
}

const whereamiPath = "/api/v1/caller"

// card makes the card that goes with files; those that are cards themselves, and lists of digests,
// are not named on it.
func (w *worked) card(files []format.File, byHand bool) card.Card {
	var taken []format.File
	for _, f := range files {
		if !strings.Contains(f.Name, "-card.") && !strings.Contains(f.Name, "-digests.") &&
			f.Purpose != diagnostics.Purpose {
			taken = append(taken, f)
		}
	}
	return card.Make(w.in, w.plan, taken, byHand)
}

// sheet draws the card for paper. It is left out of digests: nothing is on it that is not
// on the page.
func (w *worked) sheet(files []format.File, byHand bool) (format.File, error) {
	c := w.card(files, byHand)
	data, err := c.PDF()
	return format.File{
		Name: format.FileName(
			w.plan.Connection.Name,
			"-card.pdf",
		),
		MediaType: "application/pdf",
		Purpose:   "Card for paper",
		Private:   len(c.Values) > 1,
		Content:   data,
	}, err
}

// build makes the files, or says with a finding why a value cannot be carried.
func (s *Service) build(w *worked, byHand bool) ([]format.File, error) {
	files, err := w.files(byHand)
	var unfit *format.UnfitError
	if errors.As(err, &unfit) {
		return nil, &BlockedError{
			w.in.Device.Name + " to " + w.in.Gateway.Name,
			[]check.Finding{check.Unfit(w.subject, unfit)},
		}
	}
	return files, err
}

// digest stands for everything that went into the files: writers are functions of it. Signatures
// are not, and so the signer stands for them.
func (s *Service) digest(files []format.File, signer string) string {
	all := []byte(signer)
	for _, f := range files {
		if f.Purpose == diagnostics.Purpose {
			continue // it sets nothing up
		}
		for _, part := range [][]byte{[]byte(f.Name), f.Content} {
			all = binary.BigEndian.AppendUint64(all, uint64(len(part)))
			all = append(all, part...)
		}
	}
	return s.store.Digest(all)
}

// Build makes a parcel of a profile and keeps it. Errors keep it from being made.
func (s *Service) Build(ctx context.Context, profileID string, byHand bool) (api.Parcel, error) {
	var p api.Parcel
	type made struct {
		w *worked
		p api.Parcel
	}
	err := settle(ctx, s, func(tx *store.Tx) (m made, err error) {
		if m.w, err = s.work(ctx, tx, profileID); err == nil {
			m.p, err = s.parcel(ctx, tx, m.w, byHand)
		}
		return m, err
	}, func(tx *store.Tx, m made) error {
		if err := m.w.current(ctx, tx); err != nil {
			return err
		}
		p = m.p
		return s.keepParcel(ctx, tx, m.w, &p)
	})
	s.checkSoon()
	return p, err
}

// parcel builds a parcel.
func (s *Service) parcel(
	ctx context.Context,
	tx *store.Tx,
	w *worked,
	byHand bool,
) (p api.Parcel, err error) {
	title := w.in.Device.Name + " to " + w.in.Gateway.Name
	if errs := slices.DeleteFunc(slices.Clone(w.findings), func(f check.Finding) bool {
		// What a file cannot carry can still be typed.
		return f.Severity != vpn.Error || byHand && f.Rule == check.CodeUnfit ||
			f.Rule == check.CodeUnrehearsed // of the parcel before
	}); len(errs) > 0 {
		return p, &BlockedError{title, errs}
	}
	files, err := s.build(w, byHand)
	if err != nil {
		return p, err
	}
	sheet, err := w.sheet(files, byHand)
	if err != nil {
		return p, err
	}
	k, err := s.signet(ctx, tx)
	if err != nil {
		return p, err
	}
	p = api.Parcel{ProfileID: w.in.Profile.ID, ByHand: byHand, Digest: s.digest(files, w.signer)}
	if p.Later, err = s.later(ctx, tx, w, byHand); err != nil {
		return p, err
	}
	p.Files, err = k.signed(w.plan.Connection.Name, append(files, sheet))
	return p, err
}

// later is the digest of what a profile that carries two values will be built as once only the new
// ones are valid: until its records change otherwise, the parcel with both stays good. It is empty
// where none of its values is about to change.
func (s *Service) later(ctx context.Context, tx *store.Tx, w *worked, byHand bool) (string, error) {
	if len(w.moved) == 0 {
		return "", nil
	}
	in, err := input(ctx, tx, w.in.Profile)
	if err != nil {
		return "", err
	}
	if _, err := s.moved(ctx, tx, &in, switchover.Final); err != nil {
		return "", err
	}
	then, err := s.settled(ctx, tx, in)
	if err != nil {
		return "", err
	}
	files, err := s.build(then, byHand)
	if blocked := new(BlockedError); errors.As(err, &blocked) {
		return "", nil
	}
	return s.digest(files, w.signer), err
}

// keepParcel keeps what was built.
func (s *Service) keepParcel(ctx context.Context, tx *store.Tx, w *worked, p *api.Parcel) error {
	if err := tx.AddParcel(ctx, p); err != nil {
		return err
	}
	if w.in.Enrol != nil && w.plan.Connection.NeedsIdentity() {
		if err := s.enrolByParcel(ctx, tx, w); err != nil {
			return err
		}
	}
	w.subject.Outdated = false
	// Its last parcel is no longer outdated.
	return errors.Join(
		tx.TouchProfiles(ctx, "id = ?", w.in.Profile.ID),
		audit(ctx, tx, "build", "parcel", p.ID, w.in.Device.Name+" to "+w.in.Gateway.Name),
	)
}

// Parcels lists the parcels of a profile, newest first, and says which are outdated.
func (s *Service) Parcels(ctx context.Context, profileID string) ([]api.Parcel, error) {
	tx := s.store.Read()
	w, err := s.work(ctx, tx, profileID)
	if err != nil {
		return nil, err
	}
	list, err := tx.Parcels(ctx, profileID)
	if err != nil {
		return nil, err
	}
	for i := range list {
		list[i].Outdated = s.outdated(w, list[i])
	}
	return list, nil
}

// outdated tells whether building now would give another parcel.
func (s *Service) outdated(w *worked, p api.Parcel) bool {
	if w.built == nil {
		w.built = map[bool]string{}
	}
	if _, known := w.built[p.ByHand]; !known {
		w.built[p.ByHand] = ""
		if files, err := s.build(w, p.ByHand); err == nil {
			w.built[p.ByHand] = s.digest(files, w.signer)
		}
	}
	now := w.built[p.ByHand]
	return now != p.Digest && (now == "" || now != p.Later)
}

// ParcelFile opens one file of a parcel. That is logged: secrets are in it. private is asked before
// one with secrets is opened.
func (s *Service) ParcelFile(
	ctx context.Context,
	id, name string,
	private ...func() error,
) (format.File, error) {
	var found format.File
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		p, err := tx.Parcel(ctx, id)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(p.Files, func(f format.File) bool { return f.Name == name })
		if i < 0 {
			return &store.NotFoundError{Noun: "file", ID: name}
		}
		found = p.Files[i]
		for _, may := range private {
			if found.Private {
				if err := may(); err != nil {
					return err
				}
			}
		}
		if p.Removed != nil {
			return &store.NotFoundError{
				Noun: "file any more, since " + p.Removed.Format(
					time.DateOnly,
				) + " when a newer parcel had taken its place: file",
				ID: name,
			}
		}
		if found.Content, err = tx.ParcelFile(ctx, id, name); err != nil {
			return err
		}
		return audit(ctx, tx, "fetch", "parcel", id, name)
	})
	return found, err
}

// Preview makes the files of a profile without keeping them. Secrets are masked unless
// they are to be revealed, which is logged.
func (s *Service) Preview(
	ctx context.Context,
	profileID string,
	byHand, reveal bool,
) ([]api.ShownFile, error) {
	var shown []api.ShownFile
	look := func(tx *store.Tx) error {
		w, err := s.work(ctx, tx, profileID)
		if err != nil {
			return err
		}
		if !reveal {
			w.plan = w.plan.Masked()
		}
		files, err := s.build(w, byHand)
		if err != nil {
			return err
		}
		for _, f := range files {
			text := string(f.Content)
			if !utf8.Valid(f.Content) {
				text = fmt.Sprintf("a binary file of %d bytes", len(f.Content))
			}
			if !reveal { // some formats carry a secret, and so its mask, in base64
				text = strings.ReplaceAll(
					text,
					base64.StdEncoding.EncodeToString([]byte(secret.Hidden)),
					secret.Hidden,
				)
			}
			shown = append(shown, api.ShownFile{File: f, Text: text})
		}
		return nil
	}
	err := s.store.Snapshot(ctx, look)
	if err == nil && reveal {
		err = s.store.Write(ctx, func(tx *store.Tx) error {
			return audit(
				ctx,
				tx,
				"reveal",
				"profile",
				profileID,
				fmt.Sprintf("%d files shown with their secrets", len(shown)),
			)
		})
	}
	if err != nil {
		return nil, err // nothing is shown that is not on record
	}
	return shown, nil
}
