package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"wardicon/api"
	"wardicon/core/rows"
	"wardicon/core/secret"
	"wardicon/store"
)

// How long an import that was only shown is kept, and one that was made: as long it can be undone.
const (
	shownLife  = 24 * time.Hour
	importLife = 30 * 24 * time.Hour
)

// importChunk is how many rows one step of a job takes while nobody else asks for anything;
// otherwise it takes one, so that nobody who writes waits for many.
const importChunk = 20

// Table says how a table of records is to be read.
type Table struct {
	Noun    rows.Noun    // people where it is empty
	Mapping rows.Mapping // nil: as such columns were mapped the last time, else by their names
	Key     string       // empty: the most telling one that has a column
}

// FieldsToImport lists what columns may be mapped to.
func (s *Service) FieldsToImport() []api.FieldsToImport {
	var list []api.FieldsToImport
	for _, noun := range rows.Nouns {
		list = append(list, api.FieldsToImport{Noun: noun, Fields: rows.Fields[noun]})
	}
	return list
}

// ShowImport reads a table of records and keeps what would become of each row, for a day. Nothing
// of it is on record before it is made.
func (s *Service) ShowImport(
	ctx context.Context,
	file string,
	data []byte,
	how Table,
) (api.RecordImport, error) {
	i := api.RecordImport{
		File:     cut(file, 200),
		Operator: actor(ctx),
		Noun:     cmp.Or(how.Noun, rows.People),
		State:    api.ImportRead,
	}
	sheet, err := rows.Read(file, data)
	if err != nil {
		return i, err
	}
	i.Kind, i.Encoding, i.Columns = sheet.Kind, sheet.Encoding, sheet.Columns
	if i.Mapping = how.Mapping; i.Mapping == nil {
		if i.Mapping, err = s.store.Read().Mapping(ctx, i.Noun, i.Columns); err != nil {
			return i, err
		}
	}
	if i.Mapping == nil {
		i.Mapping = rows.Guess(i.Noun, i.Columns)
	}
	i.Key = cmp.Or(how.Key, i.Mapping.Key(i.Noun))
	if err := i.Mapping.Check(i.Noun, i.Columns, i.Key); err != nil {
		return i, err
	}
	shown, err := s.lookAt(ctx, &i, sheet, nil)
	if err != nil {
		return i, err
	}
	return i, s.keepShown(ctx, &i, shown)
}

// shownRow is a row with what it would come to.
type shownRow struct {
	row      api.ImportRow
	cells    map[string]rows.Cell
	password secret.Text
	personID string // of whom it changes, or finds as it is
}

// lookAt finds out what would become of each row. left are people of a directory whose entries are
// not among the rows.
func (s *Service) lookAt(
	ctx context.Context,
	i *api.RecordImport,
	sheet rows.Sheet,
	left map[string]bool,
) (list []shownRow, err error) {
	i.Rows = map[api.RowOutcome]int{}
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		p := newRowPlanner(s, tx, *i)
		p.left = left
		for n, row := range sheet.Rows {
			cells := i.Mapping.Values(sheet.Columns, row)
			one := shownRow{cells: cells, password: secret.New(cells["password"].Text)}
			planned, err := p.plan(ctx, row.Line, cells)
			if err != nil {
				return err
			}
			delete(cells, "password") // it is kept sealed
			one.row = planned.row
			if planned.person != nil {
				one.personID = planned.person.ID
			}
			one.row.Number = n + 1
			i.Rows[one.row.Outcome]++
			list = append(list, one)
		}
		return nil
	})
	return list, err
}

// keepShown keeps a preview, in short transactions, and forgets old ones.
func (s *Service) keepShown(ctx context.Context, i *api.RecordImport, list []shownRow) error {
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		now := s.now()
		old, err := tx.OldImports(ctx, now.Add(-shownLife), now.Add(-importLife))
		if err != nil {
			return err
		}
		for _, id := range old {
			if err := tx.RemoveImport(ctx, id); err != nil {
				return err
			}
		}
		return tx.AddImport(ctx, i)
	})
	for chunk := range slices.Chunk(list, 500) {
		if err != nil {
			break
		}
		err = s.store.Write(ctx, func(tx *store.Tx) error {
			for _, one := range chunk {
				if err := tx.AddImportRow(ctx, i.ID, one.row, one.cells, one.password); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err != nil {
		return err
	}
	i.State = api.ImportShown
	return s.store.Write(ctx, func(tx *store.Tx) error { return tx.PutImport(ctx, i) })
}

// RecordImports lists imports of records, the newest first.
func (s *Service) RecordImports(
	ctx context.Context,
	q store.Query,
) (api.Page[api.RecordImport], error) {
	return store.Imports.List(ctx, s.store.Read(), q)
}

// RecordImport reads one.
func (s *Service) RecordImport(ctx context.Context, id string) (api.RecordImport, error) {
	return s.store.Read().Import(ctx, id)
}

// ImportRows lists the rows of an import.
func (s *Service) ImportRows(
	ctx context.Context,
	id string,
	q store.Query,
) (api.Page[api.ImportRow], error) {
	if _, err := s.RecordImport(ctx, id); err != nil {
		return api.Page[api.ImportRow]{}, err
	}
	if q.Conditions == nil {
		q.Conditions = map[string]string{}
	}
	q.Conditions["import_id"] = id
	return store.Rows.List(ctx, s.store.Read(), q)
}

// MakeImport begins to import what was shown, as a job. Rows that are wrong are left out.
func (s *Service) MakeImport(ctx context.Context, id string) (api.Job, error) {
	return s.importJob(ctx, id, "import", "Import %s", func(i *api.RecordImport) error {
		n := i.Rows[api.RowAdd] + i.Rows[api.RowChange]
		if i.State != api.ImportShown || n == 0 {
			return importState(i, "a preview with something to add or change",
				"read the file again, and correct what is wrong in it")
		}
		i.State = api.ImportRunning
		return nil
	}, toImport)
}

// UndoImport begins to take back what an import has added and changed, as a job; what was changed
// or used since stays.
func (s *Service) UndoImport(ctx context.Context, id string) (api.Job, error) {
	return s.importJob(ctx, id, "undo-import", "Undo the import of %s",
		func(i *api.RecordImport) error {
			if i.State != api.ImportDone {
				fix := "only what was imported can be undone"
				if i.State == api.ImportRunning {
					fix = "wait until it is done"
				}
				return importState(i, "an import that was made", fix)
			}
			i.State = api.ImportUndoing
			return nil
		}, toUndo)
}

func importState(i *api.RecordImport, expected, fix string) error {
	return problem("import", "/state", string(i.State), expected, fix)
}

// importJob begins a job on the rows of an import that came to some outcome.
func (s *Service) importJob(
	ctx context.Context,
	id, kind, title string,
	begin func(*api.RecordImport) error,
	outcomes []api.RowOutcome,
) (j api.Job, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		i, err := tx.Import(ctx, id)
		if err != nil {
			return err
		}
		total := 0
		for _, o := range outcomes {
			total += i.Rows[o]
		}
		if err := begin(&i); err != nil {
			return err
		}
		j = api.Job{
			Kind:     kind,
			Subject:  id,
			Title:    fmt.Sprintf(title, i.File),
			Operator: actor(ctx),
			Total:    total,
			Result:   map[string]int{},
		}
		if err := tx.AddJob(ctx, &j); err != nil {
			return err
		}
		i.JobID = j.ID
		if kind == "import" {
			err = tx.PutMapping(ctx, i.Noun, i.Columns, i.Mapping)
		}
		return errors.Join(err, tx.PutImport(ctx, &i), audit(ctx, tx, kind, "import", id,
			fmt.Sprintf("%d rows of %s", total, i.File)))
	})
	s.workSoon()
	return j, err
}

// Rows that a job goes through, by what they came to until then.
var (
	toImport = []api.RowOutcome{api.RowAdd, api.RowChange}
	toUndo   = []api.RowOutcome{api.RowAdded, api.RowChanged}
)

// imports is the kind of the jobs that import rows, and undoes that of those that take them back:
// backwards, so that a device goes before its person. Each goes through rows in steps of a few.
func (s *Service) imports() kind {
	return s.eachRow(false, toImport, s.importRow, api.ImportDone)
}

func (s *Service) undoes() kind { return s.eachRow(true, toUndo, s.undoRow, api.ImportUndone) }

// eachRow is a kind that does something with each row of an import. A job that ends before its
// time leaves an import that can be undone as far as it came.
func (s *Service) eachRow(
	backwards bool,
	outcomes []api.RowOutcome,
	do func(ctx context.Context, tx *store.Tx, i api.RecordImport, r *store.ImportedRow) error,
	done api.ImportState,
) kind {
	list := func(ctx context.Context, tx *store.Tx, j api.Job, limit int) ([]int, error) {
		from := 0
		if j.Cursor != "" {
			from, _ = strconv.Atoi(j.Cursor)
		} else if backwards {
			from = rows.MaxRows + 1
		}
		return tx.ImportRows(ctx, j.Subject, from, backwards, limit, outcomes...)
	}
	return kind{
		several: true,
		// A step is named by its last row: the next one begins behind it.
		next: func(
			ctx context.Context, tx *store.Tx, j api.Job, limit int,
		) (steps []string, err error) {
			size := 1
			if !s.busy() {
				size, limit = importChunk, 2*importChunk
			}
			numbers, err := list(ctx, tx, j, limit)
			for chunk := range slices.Chunk(numbers, size) {
				steps = append(steps, strconv.Itoa(chunk[len(chunk)-1]))
			}
			return steps, err
		},
		one: func(_ context.Context, _ *store.Tx, j api.Job, last string) (kept, error) {
			return func(ctx context.Context, tx *store.Tx, count func(string)) error {
				i, err := tx.Import(ctx, j.Subject)
				if err != nil {
					return err
				}
				numbers, err := list(ctx, tx, j, importChunk)
				if err != nil {
					return err
				}
				for _, number := range numbers {
					r, err := tx.ImportRow(ctx, i.ID, number)
					if err != nil {
						return err
					}
					was := r.Outcome
					if err := do(ctx, tx, i, &r); err != nil {
						return err
					}
					i.Rows[was]--
					i.Rows[r.Outcome]++
					count(string(r.Outcome))
					if err := tx.PutImportRow(ctx, i.ID, r); err != nil {
						return err
					}
					if strconv.Itoa(number) == last {
						break
					}
				}
				maps.DeleteFunc(i.Rows, func(_ api.RowOutcome, n int) bool { return n == 0 })
				return tx.PutImport(ctx, &i)
			}, nil
		},
		ended: func(ctx context.Context, tx *store.Tx, j api.Job) error {
			i, err := tx.Import(ctx, j.Subject)
			if err != nil {
				return err
			}
			if i.State = api.ImportDone; j.State == api.Done {
				i.State = done
			}
			return errors.Join(
				tx.PutImport(ctx, &i),
				tx.ForgetImportSecrets(ctx, i.ID, i.State == api.ImportUndone),
			)
		},
	}
}

// importRow keeps what a row brings. It is looked at again: records may have changed since the
// preview.
func (s *Service) importRow(
	ctx context.Context,
	tx *store.Tx,
	i api.RecordImport,
	r *store.ImportedRow,
) error {
	if !r.Password.IsZero() {
		r.Cells["password"] = rows.Cell{Text: r.Password.Reveal(), Line: r.Line}
	}
	planned, err := newRowPlanner(s, tx, i).plan(ctx, r.Line, r.Cells)
	if err != nil {
		return err
	}
	err = tx.Try(ctx, func() (err error) {
		r.Undo, err = planned.apply(ctx, tx, i.ID, r.Number)
		return err
	})
	was := r.Outcome
	r.Changes, r.Problems = planned.row.Changes, planned.row.Problems
	switch refused := passedOver(err); {
	case refused != "":
		r.Problems = append(r.Problems, api.RowProblem{
			Line: r.Line, Found: cut(err.Error(), 300), Expected: "a record that can be kept",
		})
		r.Outcome = api.RowRefused
	case err != nil:
		return err
	case len(r.Problems) > 0:
		r.Outcome = api.RowRefused
	case planned.row.Outcome == api.RowSame:
		r.Outcome = api.RowSame
	case was == api.RowAdd: // to a person whom a row before has brought, where it only changes one
		r.Outcome = api.RowAdded
	default:
		r.Outcome = api.RowChanged
	}
	return nil
}

// undoRow takes back what was done for a row.
func (s *Service) undoRow(
	ctx context.Context,
	tx *store.Tx,
	i api.RecordImport,
	r *store.ImportedRow,
) error {
	err := tx.Try(ctx, func() error { return s.undoSteps(ctx, tx, i.ID, r.Number, r.Undo) })
	if refused := passedOver(err); refused == "" && err != nil {
		return err
	}
	r.Outcome, r.Undo = api.RowUndone, ""
	if err != nil {
		r.Outcome = api.RowKept
		r.Problems = append(r.Problems, api.RowProblem{
			Line: r.Line, Found: cut(err.Error(), 300), Expected: "a record as it was imported",
			Fix: "change or remove it by hand",
		})
	}
	return nil
}
