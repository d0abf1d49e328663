package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/rows"
	"wardicon/core/vpn"
	"wardicon/directory"
	"wardicon/store"
)

// maxGone is how many names of people who are no longer in the directory one answer has.
const maxGone = 100

// Directory shows how people are read from a directory, without the password.
func (s *Service) Directory(ctx context.Context) (vpn.Directory, error) {
	d, err := s.store.Read().Directory(ctx)
	d.Password = nil
	return d, err
}

// DirectoryState is what came of the last reading.
func (s *Service) DirectoryState(ctx context.Context) (api.DirectoryState, error) {
	return s.store.Read().DirectoryState(ctx)
}

// SetDirectory replaces how people are read, in the version that was seen; version 0 replaces any.
// keep leaves the password that is stored. It is for owners alone: it decides who comes and goes.
func (s *Service) SetDirectory(
	ctx context.Context,
	d vpn.Directory,
	keep bool,
) (vpn.Directory, error) {
	if err := ownerOnly(ctx); err != nil {
		return d, err
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		old, err := tx.Directory(ctx)
		if err != nil {
			return err
		}
		if d.Version != 0 && d.Version != old.Version {
			return &store.ConflictError{
				Noun: "directory configuration", Found: old.Version, Want: d.Version,
			}
		}
		if keep {
			d.Password = old.Password
		}
		d.Version = old.Version
		d.Normalise()
		if err := d.Validate(); err != nil {
			return err
		}
		if keep && old.Password != nil && (d.URL != old.URL || d.BindDN != old.BindDN) {
			return problem("directory", "/password",
				"another server or name than the stored password is for",
				"the password of the new one", "type the password again")
		}
		return errors.Join(
			tx.PutDirectory(ctx, &d),
			audit(ctx, tx, "change", "directory", "", d.URL),
		)
	})
	d.Password = nil
	return d, err
}

// ReadDirectory reads the directory and begins to import what differs; a dry run only shows it. Who
// is no longer there is noted, and never removed.
func (s *Service) ReadDirectory(ctx context.Context, dry bool) (api.DirectoryReading, error) {
	r := api.DirectoryReading{Gone: []string{}}
	d, err := s.store.Read().Directory(ctx)
	if err != nil {
		return r, err
	}
	if d.URL == "" {
		return r, problem(
			"directory",
			"/url",
			"nothing",
			"the address of a directory",
			"set it first",
		)
	}
	if d.Damaged {
		return r, problem(
			"directory",
			"/password",
			"a stored password that cannot be read any more",
			"the password",
			"set it again",
		)
	}
	if !s.directoryOnce.TryLock() {
		return r, problem("directory", "", "a reading that is under way", "one at a time",
			"wait until it is done")
	}
	defer s.directoryOnce.Unlock()
	sheet, err := directory.Read(ctx, d)
	if err == nil {
		err = s.takeDirectory(ctx, d, sheet, dry, &r)
	}
	if err != nil && !dry && ctx.Err() == nil {
		s.noteReading(ctx, api.DirectoryState{Problem: cut(wordDirectory(err).Error(), 500)})
	}
	return r, wordDirectory(err)
}

// wordDirectory makes what a directory did a problem of its settings.
func wordDirectory(err error) error {
	var fault *directory.Error
	if errors.As(err, &fault) {
		return problem("directory", fault.Pointer, "a server that "+fault.Found, fault.Expected,
			fault.Fix)
	}
	return err
}

// noteReading keeps what came of a reading.
func (s *Service) noteReading(ctx context.Context, st api.DirectoryState) {
	now := s.now()
	st.At = &now
	if err := s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.PutDirectoryState(ctx, st)
	}); err != nil {
		s.log.WarnContext(ctx, "the state of the directory was not kept", slog.Any("error", err))
	}
}

// takeDirectory finds out what a reading comes to, and begins to import it.
func (s *Service) takeDirectory(
	ctx context.Context,
	d vpn.Directory,
	sheet rows.Sheet,
	dry bool,
	r *api.DirectoryReading,
) error {
	u, err := url.Parse(d.URL)
	if err != nil {
		return err
	}
	i := api.RecordImport{
		File: u.Host, Operator: actor(ctx), Noun: rows.People, State: api.ImportRead,
		Kind: sheet.Kind, Encoding: sheet.Encoding, Columns: sheet.Columns, Key: directory.Entry,
		Mapping: rows.Mapping{}, Managed: slices.Compact(slices.Sorted(maps.Values(d.Groups))),
	}
	for _, column := range sheet.Columns {
		i.Mapping[column] = column
	}
	r.Entries = len(sheet.Rows)
	known, gone, err := s.gone(ctx, sheet)
	if err != nil {
		return err
	}
	left := map[string]bool{}
	for _, one := range gone {
		left[one.PersonID] = true
	}
	shown, err := s.lookAt(ctx, &i, sheet, left)
	if err != nil {
		return err
	}
	for _, row := range shown { // somebody with another entry than before has not left
		delete(left, row.personID)
	}
	gone = slices.DeleteFunc(gone, func(one store.Source) bool { return !left[one.PersonID] })
	r.People, r.Missing = len(known), len(gone)
	for _, one := range gone[:min(len(gone), maxGone)] {
		p, err := store.People.Get(ctx, s.store.Read(), one.PersonID)
		if err != nil {
			return err
		}
		r.Gone = append(r.Gone, p.Name)
	}
	if fresh := freshly(gone); !dry && fresh*100 > d.StopOver*len(known) {
		return problem(
			"directory",
			"/stop_over",
			fmt.Sprintf("%d of %d people who are no longer in the directory", fresh, len(known)),
			fmt.Sprintf("at most %d %%", d.StopOver),
			"check base, filter and what the name that signs in may read; if they have left, "+
				"raise the "+
				"limit for one reading",
		)
	}
	// Most readings find nothing new: what is as it was is counted, and not kept.
	differs := slices.DeleteFunc(slices.Clone(shown), func(row shownRow) bool {
		return row.row.Outcome == api.RowSame
	})
	if len(differs) > 0 {
		if err := s.keepShown(ctx, &i, differs); err != nil {
			return err
		}
	}
	if r.Import = i; dry {
		return nil
	}
	if err := s.keepSources(ctx, shown, gone, known); err != nil {
		return err
	}
	st := r.DirectoryState
	if st.ImportID = i.ID; i.Rows[api.RowAdd]+i.Rows[api.RowChange] > 0 {
		j, err := s.MakeImport(ctx, i.ID)
		if err != nil {
			return err
		}
		r.Job = &j
	}
	s.noteReading(ctx, st)
	r.DirectoryState, err = s.DirectoryState(ctx)
	return err
}

// gone lists the people who come from the directory, by entry, and those who are not in a reading.
func (s *Service) gone(
	ctx context.Context,
	sheet rows.Sheet,
) (known map[string]store.Source, gone []store.Source, err error) {
	there := map[string]bool{}
	for _, row := range sheet.Rows {
		there[strings.ToLower(row.Cells[0].Text)] = true
	}
	list, err := s.store.Read().Sources(ctx, store.FromDirectory)
	known = map[string]store.Source{}
	for _, one := range list {
		known[strings.ToLower(one.Entry)] = one
		if !there[strings.ToLower(one.Entry)] {
			gone = append(gone, one)
		}
	}
	return known, gone, err
}

// freshly counts the people who were still there the last time.
func freshly(gone []store.Source) (n int) {
	for _, one := range gone {
		if one.Missing == nil {
			n++
		}
	}
	return n
}

// keepSources notes who was found in the directory, and who not.
func (s *Service) keepSources(
	ctx context.Context,
	shown []shownRow,
	gone []store.Source,
	known map[string]store.Source,
) error {
	now := s.now()
	var changed []store.Source
	for _, one := range gone {
		if one.Missing == nil {
			one.Missing = &now
			changed = append(changed, one)
		}
	}
	for _, row := range shown {
		entry := row.cells[directory.Entry].Text
		before, linked := known[strings.ToLower(entry)]
		if row.personID != "" && row.row.Outcome != api.RowWrong &&
			(!linked || before.Missing != nil) {
			changed = append(changed, store.Source{PersonID: row.personID, Entry: entry})
		}
	}
	for chunk := range slices.Chunk(changed, 200) {
		if err := s.store.Write(ctx, func(tx *store.Tx) error {
			for _, one := range chunk {
				if err := tx.PutSource(ctx, store.FromDirectory, one); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	if freshly(gone) == 0 {
		return nil
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return audit(ctx, tx, "read", "directory", "",
			fmt.Sprintf("%d people are no longer in it", len(gone)))
	})
}

// ReadDirectories reads the directory whenever its schedule says so, until the context ends.
func (s *Service) ReadDirectories(ctx context.Context) {
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		s.readWhenDue(ctx)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (s *Service) readWhenDue(ctx context.Context) {
	d, err := s.store.Read().Directory(ctx)
	if err != nil || d.URL == "" || d.Every == 0 {
		return
	}
	st, err := s.DirectoryState(ctx)
	if err != nil || st.At != nil &&
		s.now().Before(st.At.Add(time.Duration(d.Every)*time.Minute)) {
		return
	}
	limited, stop := context.WithTimeout(ctx, 10*time.Minute)
	defer stop()
	if _, err := s.ReadDirectory(limited, false); err != nil && ctx.Err() == nil {
		s.log.WarnContext(ctx, "the directory was not read", slog.Any("error", err))
	}
}
