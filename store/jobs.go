package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"wardicon/api"
)

// Jobs lists work that takes long.
var Jobs = &Table[api.Job, api.Job]{
	Noun:   "job",
	name:   "jobs",
	prefix: "jo",
	list: listing[api.Job]{
		id:     "j.id",
		from:   "jobs j",
		cols:   "j." + strings.ReplaceAll(jobColumns, ", ", ", j."),
		scan:   scanJob,
		search: []string{"j.title", "j.problem"},
		first:  "created",
		sorts:  map[string]string{"created": "j.created DESC, j.id DESC"},
		filters: map[string]string{
			"kind":     "j.kind = ?",
			"state":    "j.state = ?",
			"operator": "j.operator = ?",
		},
	},
}

const jobColumns = "id, kind, subject, title, operator, state, total, done, cursor, result, " +
	"problem, created, changed"

// AddJob keeps new work.
func (tx *Tx) AddJob(ctx context.Context, j *api.Job) error {
	tx.note("job")
	j.ID, j.State, j.Created = newID(Jobs.prefix), api.Running, tx.s.now().UTC()
	j.Changed = j.Created
	result, err := json.Marshal(j.Result)
	if err != nil {
		return err
	}
	_, err = tx.q.ExecContext(
		ctx,
		"INSERT INTO jobs ("+jobColumns+") VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		j.ID,
		j.Kind,
		j.Subject,
		j.Title,
		j.Operator,
		j.State,
		j.Total,
		j.Done,
		j.Cursor,
		string(result),
		j.Problem,
		millis(j.Created),
		millis(j.Changed),
	)
	return err
}

// PutJob keeps how far work has come, unless it was cancelled meanwhile. going tells
// whether it still runs.
func (tx *Tx) PutJob(ctx context.Context, j *api.Job) (going bool, err error) {
	tx.note("job")
	j.Changed = tx.s.now().UTC()
	result, err := json.Marshal(j.Result)
	if err != nil {
		return false, err
	}
	res, err := tx.q.ExecContext(
		ctx,
		"UPDATE jobs SET state = ?, total = ?, done = ?, cursor = ?, result = ?, problem = ?, "+
			"changed = ? WHERE id = ? AND state = 'running'",
		j.State,
		j.Total,
		j.Done,
		j.Cursor,
		string(result),
		j.Problem,
		millis(j.Changed),
		j.ID,
	)
	if err != nil {
		return false, fmt.Errorf("database: %w", err)
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// DropEndedJobs forgets jobs of a kind that have ended, of a subject and an operator.
func (tx *Tx) DropEndedJobs(ctx context.Context, kind, subject, operator string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM jobs WHERE kind = ? AND subject = ? AND
		operator = ? AND state != 'running'`, kind, subject, operator)
	return err
}

// Job reads one job.
func (tx *Tx) Job(ctx context.Context, id string) (api.Job, error) {
	j, err := scanJob(
		tx.q.QueryRowContext(ctx, "SELECT "+jobColumns+" FROM jobs WHERE id = ?", id).Scan,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return j, &NotFoundError{Jobs.Noun, id}
	}
	return j, err
}

// RunningJobs lists jobs of some kinds that run, the oldest first.
func (tx *Tx) RunningJobs(ctx context.Context, kinds ...string) ([]api.Job, error) {
	args := make([]any, len(kinds))
	for i, k := range kinds {
		args[i] = k
	}
	return tx.jobs(
		ctx,
		"state = 'running' AND kind IN (?"+strings.Repeat(
			", ?",
			len(kinds)-1,
		)+") ORDER BY created, id",
		args...)
}

func (tx *Tx) jobs(ctx context.Context, where string, args ...any) ([]api.Job, error) {
	return collect(ctx, tx, scanJob, "SELECT "+jobColumns+" FROM jobs WHERE "+where, args...)
}

func scanJob(scan func(...any) error) (j api.Job, err error) {
	var result string
	var created, changed int64
	if err := scan(
		&j.ID,
		&j.Kind,
		&j.Subject,
		&j.Title,
		&j.Operator,
		&j.State,
		&j.Total,
		&j.Done,
		&j.Cursor,
		&result,
		&j.Problem,
		&created,
		&changed,
	); err != nil {
		return j, err
	}
	j.Created, j.Changed = fromMillis(created), fromMillis(changed)
	return j, json.Unmarshal([]byte(result), &j.Result)
}
