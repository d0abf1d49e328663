package api

import (
	"time"

	"wardicon/core/rows"
)

// ImportState is how far an import of records is.
type ImportState string

// The states.
const (
	ImportRead    ImportState = "reading"
	ImportShown   ImportState = "preview"
	ImportRunning ImportState = "running"
	ImportDone    ImportState = "imported"
	ImportUndoing ImportState = "undoing"
	ImportUndone  ImportState = "undone"
)

// RecordImport is a table of records that was read, and what becomes of its rows.
type RecordImport struct {
	ID       string    `json:"id"`
	Created  time.Time `json:"created"`
	Operator string    `json:"operator"`
	File     string    `json:"file"`
	// CSV, JSON, YAML or LDIF, and the encoding that it came in.
	Kind     string      `json:"kind"`
	Encoding string      `json:"encoding"`
	Noun     rows.Noun   `json:"noun" enum:"people,gateways"`
	State    ImportState `json:"state" enum:"reading,preview,running,imported,undoing,undone"`
	Columns  []string    `json:"columns"`
	// Column to field; a column that is not here is left out.
	Mapping rows.Mapping `json:"mapping"`
	// Field that matches rows to records.
	Key string `json:"key"`
	// Groups that a directory manages, where it does not manage all.
	Managed []string `json:"managed,omitempty"`
	// Rows by what becomes, or became, of them.
	Rows map[RowOutcome]int `json:"rows"`
	// The job that imports it, or undoes that.
	JobID string `json:"job_id,omitempty"`
}

// Total is how many rows there are.
func (i RecordImport) Total() int {
	n := 0
	for _, rows := range i.Rows {
		n += rows
	}
	return n
}

// RowOutcome is what becomes of a row.
type RowOutcome string

// The outcomes: of a preview, and of what was done.
const (
	RowAdd     RowOutcome = "add"
	RowChange  RowOutcome = "change"
	RowSame    RowOutcome = "same"
	RowWrong   RowOutcome = "wrong"
	RowAdded   RowOutcome = "added"
	RowChanged RowOutcome = "changed"
	RowRefused RowOutcome = "refused" // the records were changed meanwhile
	RowUndone  RowOutcome = "undone"
	RowKept    RowOutcome = "kept" // not undone: changed or used since
)

// ImportRow is a row with what becomes of it.
type ImportRow struct {
	Number  int        `json:"number"`
	Line    int        `json:"line"`
	Title   string     `json:"title"`
	Outcome RowOutcome `json:"outcome" enum:"add,change,same,wrong,added,changed,refused,undone,kept"`
	// What is added or changed, such as "device Bridge tablet 2"; passwords are never shown.
	Changes  []string     `json:"changes"`
	Problems []RowProblem `json:"problems"`
}

// RowProblem is what is wrong with a cell, or with a row where it names no column.
type RowProblem struct {
	Line     int    `json:"line"`
	Column   int    `json:"column,omitempty"`
	Name     string `json:"name,omitempty"` // of the column
	Found    string `json:"found"`
	Expected string `json:"expected"`
	Fix      string `json:"fix,omitempty"`
}

// FieldsToImport are the fields that columns may be mapped to.
type FieldsToImport struct {
	Noun   rows.Noun    `json:"noun"`
	Fields []rows.Field `json:"fields"`
}
