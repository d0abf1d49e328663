package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"wardicon/api"
	"wardicon/core/plan"
	"wardicon/core/vpn"
)

// keepTimes is how long answer times count.
const keepTimes = 30 * 24 * time.Hour

// nearby is how far from a person a time may have been measured, in km.
const nearby = 500

// maxTimes is how many times of one gateway are looked at.
const maxTimes = 200

// maxOwnTimes is how many times of one gateway one person's pages may bring.
const maxOwnTimes = 20

// PutAnswerTime keeps how fast a gateway answered. Whatever is older than counts goes.
func (tx *Tx) PutAnswerTime(ctx context.Context, t api.MeasuredTime) error {
	now := tx.s.now()
	if _, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM answer_times WHERE at < ?`,
		millis(now.Add(-keepTimes)),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	var person any
	if t.PersonID != "" {
		person = t.PersonID
	}
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO answer_times VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		t.GatewayID,
		person,
		t.Source,
		t.Place.City,
		t.Place.Latitude,
		t.Place.Longitude,
		t.Milliseconds,
		millis(now),
	)
	if err == nil && t.PersonID != "" {
		_, err = tx.q.ExecContext(
			ctx,
			`DELETE FROM answer_times WHERE person_id = ?1 AND gateway_id = ?2 AND rowid NOT IN
			(SELECT rowid FROM answer_times WHERE person_id = ?1 AND gateway_id = ?2 ORDER BY at
			DESC LIMIT ?3)`,
			t.PersonID,
			t.GatewayID,
			maxOwnTimes,
		)
	}
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return nil
}

// AnswerTimeSums sums up how fast a gateway answered, by place, the most often measured first.
func (tx *Tx) AnswerTimeSums(ctx context.Context, gatewayID string) ([]api.MeasuredTimes, error) {
	return collect(ctx, tx, func(scan scanner) (t api.MeasuredTimes, err error) {
		var last int64
		err = scan(&t.Source, &t.Place, &t.Milliseconds, &t.Count, &last)
		t.Last = fromMillis(last)
		return t, err
	}, `WITH mine AS (SELECT source, CASE WHEN person_id IS NULL THEN place ELSE '' END place,
			milliseconds, at FROM answer_times WHERE gateway_id = ? AND at >= ?),
		ranked AS (SELECT *, ROW_NUMBER() OVER (PARTITION BY source, place ORDER BY milliseconds) n,
		COUNT(*) OVER (PARTITION BY source, place) c, MAX(at) OVER (PARTITION BY source, place) last
		FROM mine)
		SELECT source, place, milliseconds, c, last FROM ranked WHERE n = c / 2 + 1 ORDER BY c DESC,
		source, place LIMIT 100`,
		gatewayID,
		millis(tx.s.now().Add(-keepTimes)))
}

// AnswerTimes is how fast each gateway answers where a person is: on the person's own
// pages first, else at the place nearest to the person.
func (tx *Tx) AnswerTimes(
	ctx context.Context,
	person vpn.Person,
) (map[string]plan.AnswerTime, error) {
	since := millis(tx.s.now().Add(-keepTimes))
	own, err := tx.answerTimes(
		ctx,
		`SELECT gateway_id, place, latitude, longitude, milliseconds FROM answer_times WHERE
			person_id = ? AND at >= ? ORDER BY gateway_id, at DESC`,
		person.ID,
		since,
	)
	if err != nil {
		return nil, err
	}
	list := map[string]plan.AnswerTime{}
	for gateway, times := range own {
		list[gateway] = median(times, "the pages of "+person.Name)
	}
	others, err := tx.answerTimes(
		ctx,
		`SELECT gateway_id, place, latitude, longitude, milliseconds FROM
		(SELECT *, ROW_NUMBER() OVER (PARTITION BY gateway_id, latitude, longitude ORDER BY at DESC)
		n FROM answer_times WHERE latitude IS NOT NULL AND at >= ?) WHERE n <= ?`,
		since,
		maxTimes,
	)
	if err != nil {
		return nil, err
	}
	for gateway, times := range others {
		if _, known := list[gateway]; known {
			continue
		}
		best, where := float64(nearby), ""
		var nearest []answerTime
		for _, t := range times {
			km, ok := plan.Distance(person.Place, t.place)
			switch {
			case !ok || km > best:
			case km < best || nearest == nil:
				best, where, nearest = km, t.place.City, []answerTime{t}
			default:
				nearest = append(nearest, t)
			}
		}
		if nearest != nil {
			list[gateway] = median(nearest, where)
		}
	}
	return list, nil
}

type answerTime struct {
	place        vpn.Place
	milliseconds float64
}

func median(times []answerTime, from string) plan.AnswerTime {
	list := make([]float64, len(times))
	for i, t := range times {
		list[i] = t.milliseconds
	}
	slices.Sort(list)
	return plan.AnswerTime{Milliseconds: list[len(list)/2], From: from, Count: len(list)}
}

func (tx *Tx) answerTimes(
	ctx context.Context,
	query string,
	args ...any,
) (map[string][]answerTime, error) {
	list := map[string][]answerTime{}
	err := each(ctx, tx, func(scan scanner) error {
		var gateway string
		var t answerTime
		err := scan(&gateway, &t.place.City, &t.place.Latitude, &t.place.Longitude, &t.milliseconds)
		if len(list[gateway]) < 10*maxTimes {
			list[gateway] = append(list[gateway], t)
		}
		return err
	}, query, args...)
	return list, err
}
