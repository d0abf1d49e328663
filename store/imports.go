package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/rows"
	"wardicon/core/secret"
)

// importBody is what an import keeps beside its columns.
type importBody struct {
	Kind     string                 `json:"kind"`
	Encoding string                 `json:"encoding"`
	Columns  []string               `json:"columns"`
	Mapping  rows.Mapping           `json:"mapping"`
	Key      string                 `json:"key"`
	Rows     map[api.RowOutcome]int `json:"rows"`
	JobID    string                 `json:"job_id"`
	Managed  []string               `json:"managed,omitempty"`
}

// Imports lists imports of records.
var Imports = &Table[api.RecordImport, api.RecordImport]{
	Noun:   "import",
	name:   "imports",
	prefix: "im",
	list: listing[api.RecordImport]{
		id:     "i.id",
		from:   "imports i",
		cols:   "i.id, i.created, i.operator, i.file, i.noun, i.state, i.body",
		scan:   scanImport,
		search: []string{"i.file", "i.operator"},
		first:  "created",
		sorts:  map[string]string{"created": "i.created DESC, i.id"},
		filters: map[string]string{
			"state": "i.state = ?",
			"noun":  "i.noun = ?",
		},
	},
}

func scanImport(scan scanner) (i api.RecordImport, err error) {
	var created int64
	var body string
	if err := scan(&i.ID, &created, &i.Operator, &i.File, &i.Noun, &i.State, &body); err != nil {
		return i, err
	}
	var b importBody
	err = json.Unmarshal([]byte(body), &b)
	i.Created, i.Kind, i.Encoding, i.Columns, i.Mapping, i.Key, i.Rows, i.JobID =
		fromMillis(created), b.Kind, b.Encoding, b.Columns, b.Mapping, b.Key, b.Rows, b.JobID
	i.Managed = b.Managed
	return i, err
}

// Rows lists the rows of imports; the filter import_id names one.
var Rows = &Table[api.ImportRow, api.ImportRow]{
	Noun: "row",
	name: "import_rows",
	list: listing[api.ImportRow]{
		id:     "r.id",
		from:   "import_rows r",
		cols:   "r.number, r.outcome, r.title, r.body",
		scan:   scanRow,
		search: []string{"r.title"},
		first:  "number",
		sorts:  map[string]string{"number": "r.number ASC, r.id ASC"},
		filters: map[string]string{
			"import_id": "r.import_id = ?",
			"outcome":   "r.outcome = ?",
		},
	},
}

func scanRow(scan scanner) (r api.ImportRow, err error) {
	var body string
	if err := scan(&r.Number, &r.Outcome, &r.Title, &body); err != nil {
		return r, err
	}
	number, outcome, title := r.Number, r.Outcome, r.Title
	err = json.Unmarshal([]byte(body), &r)
	r.Number, r.Outcome, r.Title = number, outcome, title
	return r, err
}

func importOwner(id string) string { return "import:" + id }

// AddImport keeps an import without its rows, and gives it its identity.
func (tx *Tx) AddImport(ctx context.Context, i *api.RecordImport) error {
	i.ID, i.Created = newID(Imports.prefix), tx.s.now().UTC().Truncate(time.Millisecond)
	body, err := importJSON(i)
	if err != nil {
		return err
	}
	_, err = tx.q.ExecContext(
		ctx,
		`INSERT INTO imports (id, created, operator, file, noun, state, body)
		VALUES (?, ?, ?, ?, ?, ?, ?)`,
		i.ID, millis(i.Created), i.Operator, i.File, i.Noun, i.State, body,
	)
	return err
}

func importJSON(i *api.RecordImport) (string, error) {
	body, err := json.Marshal(
		importBody{i.Kind, i.Encoding, i.Columns, i.Mapping, i.Key, i.Rows, i.JobID, i.Managed},
	)
	return string(body), err
}

// PutImport keeps how far an import is.
func (tx *Tx) PutImport(ctx context.Context, i *api.RecordImport) error {
	body, err := importJSON(i)
	if err != nil {
		return err
	}
	ok, err := tx.one(
		ctx,
		`UPDATE imports SET state = ?, body = ? WHERE id = ?`,
		i.State,
		body,
		i.ID,
	)
	if err == nil && !ok {
		err = &NotFoundError{Imports.Noun, i.ID}
	}
	return err
}

// Import reads an import.
func (tx *Tx) Import(ctx context.Context, id string) (i api.RecordImport, err error) {
	err = each(ctx, tx, func(scan scanner) (err error) {
		i, err = scanImport(scan)
		return err
	}, "SELECT "+Imports.list.cols+" FROM "+Imports.list.from+" WHERE i.id = ?", id)
	if err == nil && i.ID == "" {
		err = &NotFoundError{Imports.Noun, id}
	}
	return i, err
}

// AddImportRow keeps a row; a password is sealed.
func (tx *Tx) AddImportRow(
	ctx context.Context,
	id string,
	r api.ImportRow,
	cells map[string]rows.Cell,
	password secret.Text,
) error {
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	values, err := json.Marshal(cells)
	if err != nil {
		return err
	}
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO import_rows (import_id, number, outcome, title, body, cells)
		VALUES (?, ?, ?, ?, ?, ?)`,
		id, r.Number, r.Outcome, r.Title, string(body), string(values),
	); err != nil || password.IsZero() {
		return err
	}
	return tx.putSecret(ctx, importOwner(id), fmt.Sprintf("row %d", r.Number),
		[]byte(password.Reveal()))
}

// ImportRows lists the numbers of rows behind one, in their order or backwards, that came to some
// outcome.
func (tx *Tx) ImportRows(
	ctx context.Context,
	id string,
	after int,
	backwards bool,
	limit int,
	outcomes ...api.RowOutcome,
) ([]int, error) {
	compare, order := "> ?", "ASC"
	if backwards {
		compare, order = "< ?", "DESC"
	}
	args := []any{id, after}
	for _, o := range outcomes {
		args = append(args, o)
	}
	return collect(
		ctx,
		tx,
		func(scan scanner) (n int, err error) { return n, scan(&n) },
		`SELECT number FROM import_rows WHERE import_id = ? AND number `+compare+
			` AND outcome IN (?`+
			strings.Repeat(
				", ?",
				len(outcomes)-1,
			)+`) ORDER BY number `+order+` LIMIT ?`,
		append(args, limit)...)
}

// ImportedRow is a row with its cells by field, the password that it brings, and how what was done
// for it is undone.
type ImportedRow struct {
	api.ImportRow
	Cells    map[string]rows.Cell
	Password secret.Text
	Undo     string
}

// ImportRow reads a row of an import.
func (tx *Tx) ImportRow(ctx context.Context, id string, number int) (r ImportedRow, err error) {
	var body, cells string
	err = tx.q.QueryRowContext(
		ctx,
		"SELECT "+Rows.list.cols+", r.cells, r.undo FROM "+Rows.list.from+
			" WHERE r.import_id = ? AND r.number = ?",
		id, number,
	).Scan(&r.Number, &r.Outcome, &r.Title, &body, &cells, &r.Undo)
	if errors.Is(err, sql.ErrNoRows) {
		err = &NotFoundError{Rows.Noun, fmt.Sprint(number)}
	}
	if err != nil {
		return r, err
	}
	was := r.ImportRow
	err = errors.Join(
		json.Unmarshal([]byte(body), &r.ImportRow),
		json.Unmarshal([]byte(cells), &r.Cells),
	)
	if r.Number, r.Outcome, r.Title = was.Number, was.Outcome, was.Title; err != nil {
		return r, err
	}
	password, err := tx.secret(ctx, importOwner(id), fmt.Sprintf("row %d", number))
	r.Password = secret.New(string(password))
	return r, err
}

// PutImportRow keeps what became of a row, and how it is undone.
func (tx *Tx) PutImportRow(ctx context.Context, id string, r ImportedRow) error {
	body, err := json.Marshal(r.ImportRow)
	if err != nil {
		return err
	}
	_, err = tx.q.ExecContext(
		ctx,
		`UPDATE import_rows SET outcome = ?, body = ?, undo = ? WHERE import_id = ? AND number = ?`,
		r.Outcome, string(body), r.Undo, id, r.Number,
	)
	return err
}

// KeepFormer seals a password that a row replaced, so that it can be put back.
func (tx *Tx) KeepFormer(ctx context.Context, id string, number int, old secret.Text) error {
	return tx.putSecret(
		ctx,
		importOwner(id),
		fmt.Sprintf("before %d", number),
		[]byte(old.Reveal()),
	)
}

// Former opens it again.
func (tx *Tx) Former(ctx context.Context, id string, number int) (secret.Text, error) {
	plain, err := tx.secret(ctx, importOwner(id), fmt.Sprintf("before %d", number))
	return secret.New(string(plain)), err
}

// ForgetImportSecrets removes the passwords that rows brought; those that were replaced stay as
// long as the import can be undone.
func (tx *Tx) ForgetImportSecrets(ctx context.Context, id string, former bool) error {
	condition := ` AND field LIKE 'row %'`
	if former {
		condition = ""
	}
	_, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM secrets WHERE owner = ?`+condition,
		importOwner(id),
	)
	return err
}

// RemoveImport removes an import with its rows and their passwords.
func (tx *Tx) RemoveImport(ctx context.Context, id string) error {
	if err := tx.ForgetImportSecrets(ctx, id, true); err != nil {
		return err
	}
	ok, err := tx.one(ctx, `DELETE FROM imports WHERE id = ?`, id)
	if err == nil && !ok {
		err = &NotFoundError{Imports.Noun, id}
	}
	return err
}

// OldImports lists what was only shown before one moment, and what was done before another.
func (tx *Tx) OldImports(ctx context.Context, shown, done time.Time) ([]string, error) {
	return collect(ctx, tx, func(scan scanner) (id string, err error) { return id, scan(&id) },
		`SELECT id FROM imports WHERE created < iif(state IN (?, ?), ?, ?)`,
		api.ImportRead, api.ImportShown, millis(shown), millis(done))
}

// Mapping reads how such columns were mapped the last time; nil where they never were.
func (tx *Tx) Mapping(
	ctx context.Context,
	noun rows.Noun,
	columns []string,
) (m rows.Mapping, err error) {
	var body string
	err = tx.q.QueryRowContext(ctx,
		`SELECT body FROM import_mappings WHERE noun = ? AND columns = ?`,
		noun, strings.Join(columns, "\x1f")).
		Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	return m, json.Unmarshal([]byte(body), &m)
}

// PutMapping remembers it.
func (tx *Tx) PutMapping(
	ctx context.Context,
	noun rows.Noun,
	columns []string,
	m rows.Mapping,
) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	_, err = tx.q.ExecContext(
		ctx,
		`INSERT INTO import_mappings (noun, columns, body) VALUES (?, ?, ?)
		ON CONFLICT DO UPDATE SET body = excluded.body`,
		noun,
		strings.Join(columns, "\x1f"),
		string(body),
	)
	return err
}

// Try does what may be refused half way: what it has done until then is taken back, and the rest of
// the transaction stands.
func (tx *Tx) Try(ctx context.Context, do func() error) error {
	if _, err := tx.q.ExecContext(ctx, "SAVEPOINT try"); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	err := do()
	end := "RELEASE try"
	if err != nil {
		end = "ROLLBACK TO try; RELEASE try"
	}
	if _, fault := tx.q.ExecContext(ctx, end); fault != nil {
		return errors.Join(err, fmt.Errorf("database: %w", fault))
	}
	return err
}
