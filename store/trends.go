package store

import (
	"context"
	"fmt"
	"time"

	"wardicon/api"
)

var _ = step(31, `
-- How many findings there were at the end of each day (UTC).
CREATE TABLE finding_days (
    day      INTEGER PRIMARY KEY, -- since the epoch
    errors   INTEGER NOT NULL,
    warnings INTEGER NOT NULL
);
`, `
DROP TABLE finding_days;
`)

// keptDays are how many days of findings are kept.
const keptDays = 400

// NoteFindings keeps how many findings there are today, in the place of an earlier count of today.
func (tx *Tx) NoteFindings(ctx context.Context) error {
	today := millis(tx.s.now()) / dayMillis
	if _, err := tx.q.ExecContext(ctx, `INSERT INTO finding_days SELECT ?,
			COALESCE((SELECT n FROM sizes WHERE name = 'errors'), 0),
			COALESCE((SELECT n FROM sizes WHERE name = 'warnings'), 0) WHERE true
		ON CONFLICT DO UPDATE SET errors = excluded.errors, warnings = excluded.warnings`,
		today); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	_, err := tx.q.ExecContext(ctx, `DELETE FROM finding_days WHERE day < ?`, today-keptDays)
	return err
}

// FindingDays are the counts since a moment.
func (tx *Tx) FindingDays(ctx context.Context, since time.Time) ([]api.FindingDay, error) {
	return collect(ctx, tx, func(scan scanner) (d api.FindingDay, err error) {
		var day int64
		err = scan(&day, &d.Errors, &d.Warnings)
		d.Day = fromMillis(day * dayMillis)
		return d, err
	}, `SELECT day, errors, warnings FROM finding_days WHERE day >= ? ORDER BY day`,
		millis(since)/dayMillis)
}

// AnswerDays are the mean and the longest time that gateways took to answer probes, by day.
func (tx *Tx) AnswerDays(ctx context.Context, since time.Time) ([]api.AnswerDay, error) {
	return collect(ctx, tx, func(scan scanner) (d api.AnswerDay, err error) {
		var day int64
		err = scan(&day, &d.Mean, &d.Longest)
		d.Day = fromMillis(day * dayMillis)
		return d, err
	}, fmt.Sprintf(`SELECT b.at / %d, round(avg(t.value ->> 'milliseconds'), 1), max(t.value ->> 'milliseconds')
		FROM probes b, json_each(b.times) t WHERE b.at >= ? AND t.value ->> 'milliseconds' > 0
		GROUP BY 1 ORDER BY 1`, dayMillis), millis(since))
}
