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
	shown, err := s.lookAt(ctx, &i, sheet)
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
}

// lookAt finds out what would become of each row.
func (s *Service) lookAt(
	ctx context.Context,
	i *api.RecordImport,
	sheet rows.Sheet,
) (list []shownRow, err error) {
	i.Rows = map[api.RowOutcome]int{}
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		p := newRowPlanner(s, tx, *i)
		for n, row := range sheet.Rows {
			cells := i.Mapping.Values(sheet.Columns, row)
			one := shownRow{cells: cells, password: secret.New(cells["password"].Text)}
			planned, err := p.plan(ctx, row.Line, cells)
			if err != nil {
				return err
			}
			delete(cells, "password") // it is kept sealed
			one.row = planned.row
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
	return importNow(ctx, s.store.Read(), id)
}

// importNow reads an import. One whose job was cancelled, or failed, is as far as that came.
func importNow(ctx context.Context, tx *store.Tx, id string) (api.RecordImport, error) {
	i, err := tx.Import(ctx, id)
	if err != nil || i.State != api.ImportRunning && i.State != api.ImportUndoing {
		return i, err
	}
	j, err := tx.Job(ctx, i.JobID)
	if err == nil && j.State != api.Running {
		i.State = api.ImportDone
	}
	return i, err
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
	}, api.RowAdd, api.RowChange)
}

// UndoImport begins to take back what an import has added and changed, as a job; what was changed
// or used since stays.
func (s *Service) UndoImport(ctx context.Context, id string) (api.Job, error) {
	return s.importJob(ctx, id, "undo-import", "Undo the import of %s",
		func(i *api.RecordImport) error {
			if i.State != api.ImportDone {
				return importState(i, "an import that was made", "wait until it is done")
			}
			i.State = api.ImportUndoing
			return nil
		}, api.RowAdded, api.RowChanged)
}

func importState(i *api.RecordImport, expected, fix string) error {
	return problem("import", "/state", string(i.State), expected, fix)
}

// endImport ends an import whose job was cancelled: what it has done stays, and can be undone; the
// passwords of the other rows are forgotten.
func endImport(ctx context.Context, tx *store.Tx, id string) error {
	i, err := tx.Import(ctx, id)
	if err != nil {
		return err
	}
	i.State = api.ImportDone
	return errors.Join(tx.PutImport(ctx, &i), tx.ForgetImportSecrets(ctx, id, false))
}

// importJob begins a job on the rows of an import that came to some outcome.
func (s *Service) importJob(
	ctx context.Context,
	id, kind, title string,
	begin func(*api.RecordImport) error,
	outcomes ...api.RowOutcome,
) (j api.Job, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		i, err := importNow(ctx, tx, id)
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

// nextImport lists the rows with which the next steps of an import begin.
func (s *Service) nextImport(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	limit int,
) ([]string, error) {
	after, _ := strconv.Atoi(j.Cursor)
	return s.chunks(limit, func(limit int) ([]int, error) {
		return tx.ImportRows(ctx, j.Subject, after, false, limit, api.RowAdd, api.RowChange)
	})
}

// nextUndo does so backwards: a device goes before its person.
func (s *Service) nextUndo(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	limit int,
) ([]string, error) {
	before := rows.MaxRows + 1
	if j.Cursor != "" {
		before, _ = strconv.Atoi(j.Cursor)
	}
	return s.chunks(limit, func(limit int) ([]int, error) {
		return tx.ImportRows(ctx, j.Subject, before, true, limit, api.RowAdded, api.RowChanged)
	})
}

// chunks names each step by its last row, so that the next one begins behind it.
func (s *Service) chunks(limit int, read func(limit int) ([]int, error)) ([]string, error) {
	size := 1
	if !s.busy() {
		size, limit = importChunk, 2*importChunk
	}
	numbers, err := read(limit)
	var list []string
	for chunk := range slices.Chunk(numbers, size) {
		list = append(list, strconv.Itoa(chunk[len(chunk)-1]))
	}
	return list, err
}

// importSome imports the rows of one step. Each is looked at anew: records may have changed since
// the preview.
func (s *Service) importSome(
	ctx context.Context,
	_ *store.Tx,
	j api.Job,
	last string,
) (kept, error) {
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		return s.eachRow(ctx, tx, j, last, false, func(i *api.RecordImport, number int) error {
			row, cells, password, _, err := tx.ImportRow(ctx, i.ID, number)
			if err != nil {
				return err
			}
			if !password.IsZero() {
				cells["password"] = rows.Cell{Text: password.Reveal(), Line: row.Line}
			}
			planned, err := newRowPlanner(s, tx, *i).plan(ctx, row.Line, cells)
			if err != nil {
				return err
			}
			var undo string
			err = tx.Try(ctx, func() (err error) {
				undo, err = planned.apply(ctx, tx, i.ID, number)
				return err
			})
			if refused := passedOver(err); refused != "" {
				planned.row.Problems = append(planned.row.Problems, api.RowProblem{
					Line: row.Line, Found: cut(err.Error(), 300), Expected: "a record that can be kept",
				})
				planned.row.Outcome = api.RowRefused
			} else if err != nil {
				return err
			}
			was := row.Outcome
			i.Rows[was]--
			row.Outcome = map[api.RowOutcome]api.RowOutcome{
				api.RowAdd: api.RowAdded, api.RowChange: api.RowChanged, api.RowSame: api.RowSame,
			}[planned.row.Outcome]
			if was == api.RowAdd && row.Outcome == api.RowChanged {
				row.Outcome = api.RowAdded // to a person whom a row before has brought
			}
			row.Outcome = cmp.Or(row.Outcome, api.RowRefused)
			row.Changes, row.Problems = planned.row.Changes, planned.row.Problems
			i.Rows[row.Outcome]++
			count(string(row.Outcome))
			return tx.PutImportRow(ctx, i.ID, row, undo)
		})
	}, nil
}

// undoSome takes the rows of one step back.
func (s *Service) undoSome(
	ctx context.Context,
	_ *store.Tx,
	j api.Job,
	last string,
) (kept, error) {
	return func(ctx context.Context, tx *store.Tx, count func(string)) error {
		return s.eachRow(ctx, tx, j, last, true, func(i *api.RecordImport, number int) error {
			row, _, _, undo, err := tx.ImportRow(ctx, i.ID, number)
			if err != nil {
				return err
			}
			was := row.Outcome
			row.Outcome = api.RowUndone
			err = tx.Try(ctx, func() error { return s.undoRow(ctx, tx, i.ID, number, undo) })
			if refused := passedOver(err); refused != "" {
				row.Outcome = api.RowKept
				row.Problems = append(row.Problems, api.RowProblem{
					Line: row.Line, Found: cut(err.Error(), 300), Expected: "a record as it was imported",
					Fix: "change or remove it by hand",
				})
			} else if err != nil {
				return err
			}
			i.Rows[was]--
			i.Rows[row.Outcome]++
			count(string(row.Outcome))
			return tx.PutImportRow(ctx, i.ID, row, "")
		})
	}, nil
}

// eachRow does the rows of one step, up to the last of it, and keeps how many came to what. After
// the last step of all the import is done.
func (s *Service) eachRow(
	ctx context.Context,
	tx *store.Tx,
	j api.Job,
	last string,
	backwards bool,
	do func(i *api.RecordImport, number int) error,
) error {
	i, err := tx.Import(ctx, j.Subject)
	if err != nil {
		return err
	}
	end, err := strconv.Atoi(last)
	if err != nil {
		return err
	}
	outcomes := []api.RowOutcome{api.RowAdd, api.RowChange}
	from, done, former := 0, api.ImportDone, false
	if backwards {
		outcomes = []api.RowOutcome{api.RowAdded, api.RowChanged}
		from, done, former = rows.MaxRows+1, api.ImportUndone, true
	}
	if j.Cursor != "" {
		from, _ = strconv.Atoi(j.Cursor)
	}
	numbers, err := tx.ImportRows(ctx, i.ID, from, backwards, importChunk, outcomes...)
	if err != nil {
		return err
	}
	i.Rows = maps.Clone(i.Rows)
	for _, number := range numbers {
		if backwards && number < end || !backwards && number > end {
			break
		}
		if err := do(&i, number); err != nil {
			return err
		}
	}
	left, err := tx.ImportRows(ctx, i.ID, end, backwards, 1, outcomes...)
	if err != nil {
		return err
	}
	if len(left) == 0 {
		i.State = done
		if err := tx.ForgetImportSecrets(ctx, i.ID, former); err != nil {
			return err
		}
	}
	maps.DeleteFunc(i.Rows, func(_ api.RowOutcome, n int) bool { return n == 0 })
	return tx.PutImport(ctx, &i)
}
