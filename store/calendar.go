package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/vpn"
)

var _ = step(26, `
CREATE TABLE calendar_feeds (
    operator TEXT PRIMARY KEY,
    token    TEXT NOT NULL UNIQUE, -- keyed digest
    created  INTEGER NOT NULL
) WITHOUT ROWID;
`, `DROP TABLE calendar_feeds;`)

func (tx *Tx) feedDigest(token string) string {
	return tx.s.seal.mac([]byte("calendar feed\x00" + token))
}

// PutFeed keeps the token of an operator's feed, in the place of an earlier one.
func (tx *Tx) PutFeed(ctx context.Context, operator, token string) error {
	_, err := tx.q.ExecContext(ctx, `INSERT INTO calendar_feeds VALUES (?, ?, ?)
		ON CONFLICT (operator) DO UPDATE SET token = excluded.token, created = excluded.created`,
		operator, tx.feedDigest(token), millis(tx.s.now()))
	return err
}

// EndFeed takes an operator's feed away; false where there was none.
func (tx *Tx) EndFeed(ctx context.Context, operator string) (bool, error) {
	return tx.one(ctx, `DELETE FROM calendar_feeds WHERE operator = ?`, operator)
}

// Feed tells whether a token is that of the feed of an operator who may still sign in.
func (tx *Tx) Feed(ctx context.Context, token string) (known bool, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT 1 FROM calendar_feeds c JOIN operators o ON
		o.name = c.operator WHERE c.token = ? AND NOT o.disabled`, tx.feedDigest(token)).
		Scan(&known)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return known, err
}

// CalendarCounts are the days (UTC) on which links and overrides end, with how many do.
func (tx *Tx) CalendarCounts(
	ctx context.Context,
	from, until time.Time,
) ([]api.CalendarEntry, error) {
	return collect(ctx, tx, func(scan scanner) (e api.CalendarEntry, err error) {
		var number int64
		err = scan(&e.Kind, &number, &e.Count)
		e.At = fromMillis(number * dayMillis)
		e.Noun = e.Kind
		return e, err
	}, fmt.Sprintf(`SELECT 'link', expires / %[1]d, COUNT(*) FROM handovers WHERE recalled IS NULL
		AND uses < max_uses AND expires BETWEEN ?1 AND ?2 GROUP BY 2
		UNION ALL SELECT 'override', until / %[1]d, COUNT(*) FROM overrides
		WHERE until BETWEEN ?1 AND ?2 GROUP BY 2`, dayMillis), millis(from), millis(until))
}

// Release is a release of a platform with how many devices have it.
type Release struct {
	Platform vpn.Platform
	Release  string
	Count    int
}

// Releases are the releases that devices have.
func (tx *Tx) Releases(ctx context.Context) ([]Release, error) {
	return collect(ctx, tx, func(scan scanner) (r Release, err error) {
		return r, scan(&r.Platform, &r.Release, &r.Count)
	}, `SELECT platform, release, COUNT(*) FROM devices GROUP BY 1, 2 ORDER BY 1, 2`)
}
