package store

import (
	"context"
	"fmt"
	"time"

	"wardicon/api"
)

// Workload counts what the service still has to do, and lately did.
func (tx *Tx) Workload(ctx context.Context) (w api.Workload, err error) {
	for _, one := range []struct {
		into  *map[string]int
		query string
		args  []any
		zero  []string
	}{
		{&w.Jobs, `SELECT state, COUNT(*) FROM jobs WHERE state IN ('waiting', 'running') GROUP BY 1`,
			nil, []string{"waiting", "running"}},
		{&w.Rehearsals, `SELECT state, COUNT(*) FROM rehearsals WHERE at > ? GROUP BY 1`,
			[]any{millis(tx.s.now().Add(-24 * time.Hour))}, []string{"passed", "failed"}},
		{&w.Switchovers, `SELECT state, COUNT(*) FROM switchovers WHERE state IN ('draft', 'running',
			'paused') GROUP BY 1`, nil, []string{"draft", "running", "paused"}},
	} {
		*one.into = map[string]int{}
		for _, state := range one.zero {
			(*one.into)[state] = 0
		}
		if err := each(ctx, tx, func(scan scanner) error {
			var state string
			var n int
			err := scan(&state, &n)
			(*one.into)[state] = n
			return err
		}, one.query, one.args...); err != nil {
			return w, err
		}
	}
	err = tx.q.QueryRowContext(ctx, `SELECT (SELECT COUNT(*) FROM webhook_calls WHERE due IS NOT NULL),
		(SELECT COUNT(*) FROM reports WHERE done IS NULL), (SELECT lines FROM audit_head)`).
		Scan(&w.Calls, &w.Reports, &w.AuditLines)
	if err != nil {
		return w, fmt.Errorf("database: %w", err)
	}
	return w, nil
}
