package service

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"path"

	"wardicon/api"
	"wardicon/core/aeszip"
	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/store"
)

// mostArchived bounds an archive, in parcels and in bytes.
const (
	mostArchived = 1000
	mostBytes    = 40 << 20
)

// Archive puts the newest parcels of a profile, or of a group's people, into an archive that is
// encrypted under a passphrase of its own. Parcels that are missing or out of date are named and
// left out.
func (s *Service) Archive(ctx context.Context, profileID, group string) (a api.Archive, err error) {
	a.Left = []string{}
	passphrase, _, err := secret.Make(rand.Reader, aeszip.LeastBits)
	if err != nil {
		return a, err
	}
	use := func(context.Context, *store.Tx) error { return nil }
	if group != "" {
		if use, err = s.approved(ctx, "archive", group, "archive the parcels of the group "+group,
			RoleOwner); err != nil {
			return a, err
		}
	}
	var files []aeszip.File
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if err := use(ctx, tx); err != nil {
			return err
		}
		profiles, name, err := s.chosen(ctx, tx, profileID, group)
		if err != nil {
			return err
		}
		a.Name = format.FileName(name, "-parcels.zip")
		size := 0
		for _, p := range profiles {
			title := p.Device + " to " + p.Gateway
			w, err := s.work(ctx, tx, p.ID)
			if err != nil {
				return err
			}
			last, err := tx.LastParcel(ctx, p.ID)
			if err != nil {
				return err
			}
			if last == nil || w.subject.Outdated || w.in.Device.Offboarded != "" {
				a.Left = append(a.Left, title)
				continue
			}
			parcel, err := tx.Parcel(ctx, last.ID)
			if err != nil {
				return err
			}
			for _, f := range parcel.Files {
				content, err := tx.ParcelFile(ctx, parcel.ID, f.Name)
				if err != nil {
					return err
				}
				if size += len(content); size > mostBytes {
					return problem(
						"archive",
						"/group",
						fmt.Sprintf("more than %d MB of files", mostBytes>>20),
						"less",
						"export a folder on the command line instead",
					)
				}
				files = append(
					files,
					aeszip.File{Name: path.Join(p.Folder(), f.Name), Content: content},
				)
			}
			a.Profiles++
			if err := audit(ctx, tx, "archive", "parcel", parcel.ID, title); err != nil {
				return err
			}
		}
		if a.Profiles == 0 {
			return problem(
				"archive",
				"/profile_id",
				"no parcel that is up to date",
				"at least one",
				"build it first",
			)
		}
		return nil
	})
	if err != nil {
		return a, err
	}
	var b bytes.Buffer
	err = aeszip.Write(&b, rand.Reader, passphrase, s.now(), files)
	a.Passphrase, a.Content = passphrase.Reveal(), b.Bytes()
	return a, err
}

// chosen are the profiles of an archive, and what it is called.
func (s *Service) chosen(
	ctx context.Context,
	tx *store.Tx,
	profileID, group string,
) ([]api.Profile, string, error) {
	if (profileID == "") == (group == "") {
		return nil, "", problem(
			"archive",
			"/profile_id",
			"both or neither",
			"either a profile or a group",
			"choose one of them",
		)
	}
	if profileID != "" {
		p, err := store.Profiles.Row(ctx, tx, profileID)
		return []api.Profile{p}, p.Device + " " + p.Gateway, err
	}
	switch n, err := tx.CountGroup(ctx, group); { // a page counts to a bound
	case err != nil:
		return nil, "", err
	case n == 0:
		return nil, "", problem(
			"archive",
			"/group",
			quoted(group),
			"a group of people who have devices with profiles",
			"correct the name",
		)
	case n > mostArchived:
		return nil, "", problem(
			"archive",
			"/group",
			fmt.Sprintf("%d profiles", n),
			fmt.Sprintf("at most %d", mostArchived),
			"export a folder on the command line instead",
		)
	}
	var list []api.Profile
	for {
		page, err := store.Profiles.List(
			ctx,
			tx,
			store.Query{
				Limit:      500,
				Offset:     len(list),
				Conditions: map[string]string{"group": group},
			},
		)
		if err != nil {
			return nil, "", err
		}
		if list = append(list, page.Items...); len(page.Items) < 500 {
			return list, group, nil
		}
	}
}
