package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"wardicon/api"
	"wardicon/core/vpn"
)

// RehearsalSample is one profile for each pattern and platform, whose parcel is the newest, among
// those that a column of profiles says: of a gateway, or of a pattern, for each gateway.
func (tx *Tx) RehearsalSample(ctx context.Context, column, id string) ([]string, error) {
	if column != "gateway_id" && column != "pattern_id" {
		return nil, fmt.Errorf("found %q, expected a column of profiles", column)
	}
	return collect(ctx, tx, func(scan scanner) (id string, err error) {
		var built int64
		return id, scan(&id, &built)
	}, `SELECT p.id, max(a.built) FROM profiles p JOIN parcels a ON a.profile_id = p.id
		AND a.removed IS NULL WHERE p.`+column+` = ?
		GROUP BY p.gateway_id, p.pattern_id, p.platform ORDER BY p.id`, id)
}

// Sampled is one rehearsal of a sample.
type Sampled struct {
	ProfileID string
	Offer     vpn.Protocol // empty: that of the newest parcel
}

// AddSample keeps a job that rehearses, with what it rehearses.
func (tx *Tx) AddSample(ctx context.Context, j *api.Job, list []Sampled) error {
	j.Total = len(list)
	if err := tx.AddJob(ctx, j); err != nil {
		return err
	}
	for _, one := range list {
		if _, err := tx.q.ExecContext(ctx, `INSERT INTO rehearsal_samples (job_id, profile_id,
			protocol) VALUES (?, ?, ?)`, j.ID, one.ProfileID, one.Offer); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	return nil
}

// Sampled are those of a sample that were not begun yet.
func (tx *Tx) Sampled(ctx context.Context, jobID string) ([]Sampled, error) {
	return collect(ctx, tx, func(scan scanner) (one Sampled, err error) {
		err = scan(&one.ProfileID, &one.Offer)
		return one, err
	}, `SELECT profile_id, protocol FROM rehearsal_samples WHERE job_id = ? AND rehearsal_id = ''
		ORDER BY profile_id, protocol`, jobID)
}

// BeginSampled keeps by which rehearsal one of a sample is made. It is a NotFoundError where the
// sample was cancelled.
func (tx *Tx) BeginSampled(
	ctx context.Context,
	jobID string,
	one Sampled,
	rehearsalID string,
) error {
	res, err := tx.q.ExecContext(ctx, `UPDATE rehearsal_samples SET rehearsal_id = ?
		WHERE job_id = ? AND profile_id = ? AND protocol = ? AND rehearsal_id = ''
		AND EXISTS (SELECT 1 FROM jobs WHERE id = job_id AND state = 'running')`,
		rehearsalID, jobID, one.ProfileID, one.Offer)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, &NotFoundError{"rehearsal of a sample", one.ProfileID})
	}
	return nil
}

// LeaveSample takes one out of a sample, and counts what became of it. The job is done with
// the last of them.
func (tx *Tx) LeaveSample(
	ctx context.Context,
	jobID string,
	one Sampled,
	outcome, problem string,
) error {
	j, err := tx.Job(ctx, jobID)
	if err != nil {
		return err
	}
	if _, err := tx.q.ExecContext(ctx, `DELETE FROM rehearsal_samples WHERE job_id = ? AND
		profile_id = ? AND protocol = ?`, jobID, one.ProfileID, one.Offer); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	j.Result = maps.Clone(j.Result)
	if j.Result == nil {
		j.Result = map[string]int{}
	}
	j.Result[outcome]++
	if j.Problem == "" {
		j.Problem = problem
	}
	return tx.advanceSample(ctx, j)
}

// SettleSamples counts rehearsals of samples that have ended but were not counted, and ends jobs of
// which nothing is left: their profiles were removed.
func (tx *Tx) SettleSamples(ctx context.Context) error {
	type over struct {
		Sampled
		job, state string
	}
	list, err := collect(ctx, tx, func(scan scanner) (o over, err error) {
		err = scan(&o.job, &o.ProfileID, &o.Offer, &o.state)
		return o, err
	}, `SELECT s.job_id, s.profile_id, s.protocol, COALESCE(r.state, 'stopped')
		FROM rehearsal_samples s
		LEFT JOIN rehearsals r ON r.id = s.rehearsal_id
		WHERE s.rehearsal_id != '' AND r.state IS NOT 'running'`)
	if err != nil {
		return err
	}
	for _, o := range list {
		if err := tx.LeaveSample(ctx, o.job, o.Sampled, o.state, ""); err != nil {
			return err
		}
	}
	empty, err := tx.jobs(ctx, `state = 'running' AND kind = 'rehearse' AND NOT EXISTS
		(SELECT 1 FROM rehearsal_samples s WHERE s.job_id = jobs.id)`)
	for _, j := range empty {
		err = errors.Join(err, tx.advanceSample(ctx, j))
	}
	return err
}

// DropSample takes all profiles out of a sample: it was cancelled.
func (tx *Tx) DropSample(ctx context.Context, jobID string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM rehearsal_samples WHERE job_id = ?`, jobID)
	return err
}

func (tx *Tx) advanceSample(ctx context.Context, j api.Job) error {
	var left int
	if err := tx.q.QueryRowContext(ctx, `SELECT count(*) FROM rehearsal_samples WHERE job_id = ?`,
		j.ID).Scan(&left); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if j.Done = j.Total - left; left == 0 {
		j.State = api.Done
	}
	_, err := tx.PutJob(ctx, &j)
	return err
}

// ScheduledGateway is a gateway whose parcels are rehearsed by a schedule.
type ScheduledGateway struct {
	ID, Name string
	Every    time.Duration
	// When it last came due; the zero time where it never did.
	Followed time.Time
}

// ScheduledGateways are those whose parcels are rehearsed by a schedule.
func (tx *Tx) ScheduledGateways(ctx context.Context) ([]ScheduledGateway, error) {
	return collect(ctx, tx, func(scan scanner) (g ScheduledGateway, err error) {
		var every, followed int64
		err = scan(&g.ID, &g.Name, &every, &followed)
		g.Every = time.Duration(every) * time.Minute
		if followed > 0 {
			g.Followed = fromMillis(followed)
		}
		return g, err
	}, `SELECT g.id, g.name, json_extract(g.body, '$.rehearsal.every'), COALESCE(s.followed, 0)
		FROM gateways g LEFT JOIN rehearsal_schedules s ON s.gateway_id = g.id
		WHERE iif(json_valid(g.body), json_extract(g.body, '$.rehearsal.every'), 0) > 0
		ORDER BY g.id`)
}

// FollowSchedule keeps when the schedule of a gateway came due.
func (tx *Tx) FollowSchedule(ctx context.Context, gatewayID string, at time.Time) error {
	_, err := tx.q.ExecContext(ctx, `INSERT INTO rehearsal_schedules VALUES (?, ?)
		ON CONFLICT DO UPDATE SET followed = excluded.followed`, gatewayID, millis(at))
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return nil
}
