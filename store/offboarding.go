package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"wardicon/api"
)

// Offboardings lists who left and what was lost.
var Offboardings = &Table[api.Offboarding, api.Offboarding]{
	Noun:   "offboarding",
	name:   "offboardings",
	prefix: "wd",
	list: listing[api.Offboarding]{
		id:      "w.id",
		from:    "offboardings w",
		cols:    "w.id, w.noun, w.object, w.name, w.why, w.open, w.operator, w.created, w.body",
		scan:    scanOffboarding,
		search:  []string{"w.name"},
		first:   "created",
		sorts:   map[string]string{"created": "w.created DESC, w.id DESC"},
		filters: map[string]string{"object": "w.object = ?", "open": "(w.open > 0) = ?flag"},
	},
}

// offboarded is what of an offboarding stands in its body.
type offboarded struct {
	Recalled int        `json:"recalled"`
	Revoked  int        `json:"revoked"`
	Items    []api.Item `json:"items"`
}

func scanOffboarding(scan func(...any) error) (w api.Offboarding, err error) {
	var created int64
	var body []byte
	if err := scan(
		&w.ID,
		&w.Noun,
		&w.Object,
		&w.Name,
		&w.Why,
		&w.Open,
		&w.Operator,
		&created,
		&body,
	); err != nil {
		return w, err
	}
	var b offboarded
	err = json.Unmarshal(body, &b)
	w.Created, w.Recalled, w.Revoked, w.Items = fromMillis(created), b.Recalled, b.Revoked, b.Items
	return w, err
}

// PutOffboarding keeps an offboarding, a new one or how far it has come.
func (tx *Tx) PutOffboarding(ctx context.Context, w *api.Offboarding) error {
	if w.ID == "" {
		w.ID, w.Created = newID(Offboardings.prefix), tx.s.now().UTC().Truncate(time.Millisecond)
	}
	w.Open = len(
		slices.DeleteFunc(slices.Clone(w.Items), func(i api.Item) bool { return i.Done != nil }),
	)
	body, err := json.Marshal(offboarded{w.Recalled, w.Revoked, w.Items})
	if err != nil {
		return err
	}
	if _, err := tx.q.ExecContext(
		ctx,
		`INSERT INTO offboardings VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET open
			= excluded.open, body = excluded.body`,
		w.ID,
		w.Noun,
		w.Object,
		w.Name,
		w.Why,
		w.Open,
		w.Operator,
		millis(w.Created),
		string(body),
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	return nil
}

// ProfilesOfOthers counts the profiles of other devices at a gateway.
func (tx *Tx) ProfilesOfOthers(
	ctx context.Context,
	gatewayID string,
	devices []string,
) (n int, err error) {
	ids, err := json.Marshal(devices)
	if err != nil {
		return 0, err
	}
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(*) FROM profiles WHERE gateway_id = ? AND device_id NOT IN (SELECT value FROM
			json_each(?))`, gatewayID, string(ids)).
		Scan(&n)
	return n, err
}
