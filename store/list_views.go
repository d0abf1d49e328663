package store

import (
	"context"
	"encoding/json"

	"wardicon/api"
)

var _ = step(33, `
-- How each operator has set up the lists of the console.
CREATE TABLE list_views (
    operator_id TEXT NOT NULL REFERENCES operators ON DELETE CASCADE,
    list        TEXT NOT NULL,
    body        TEXT NOT NULL,
    PRIMARY KEY (operator_id, list)
) WITHOUT ROWID;
`, `DROP TABLE list_views;`)

// ListViews are the lists that an operator has set up.
func (tx *Tx) ListViews(ctx context.Context, operatorID string) ([]api.ListView, error) {
	return collect(ctx, tx, func(scan scanner) (v api.ListView, err error) {
		var body string
		if err = scan(&v.List, &body); err != nil {
			return v, err
		}
		return v, json.Unmarshal([]byte(body), &v)
	}, `SELECT list, body FROM list_views WHERE operator_id = ? ORDER BY list`, operatorID)
}

// PutListView keeps how an operator has set up a list.
func (tx *Tx) PutListView(ctx context.Context, operatorID string, v api.ListView) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = tx.q.ExecContext(ctx, `INSERT INTO list_views VALUES (?, ?, ?)
		ON CONFLICT DO UPDATE SET body = excluded.body`, operatorID, v.List, string(body))
	return err
}
