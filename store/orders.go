package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"wardicon/api"
)

var _ = step(41, `
-- Gateways whose certificates an ACME CA issues.
CREATE TABLE orders (
    gateway_id TEXT PRIMARY KEY REFERENCES gateways ON DELETE CASCADE,
    request    BLOB NOT NULL,    -- PKCS #10, DER
    names      TEXT NOT NULL,    -- with spaces between
    challenge  TEXT NOT NULL,
    state      TEXT NOT NULL DEFAULT 'waiting',
    problem    TEXT NOT NULL DEFAULT '',
    tries      INTEGER NOT NULL DEFAULT 0, -- that failed since the last that did not
    next       INTEGER NOT NULL,
    expires    INTEGER
);
CREATE INDEX orders_next ON orders (next);
`, `DROP TABLE orders;`)

// Order is one as it is kept.
type Order struct {
	api.Order
	Request []byte // PKCS #10, DER
	Tries   int
}

const orderColumns = `SELECT o.gateway_id, g.name, o.names, o.challenge, o.state, o.problem, o.next,
	o.expires, o.request, o.tries FROM orders o JOIN gateways g ON g.id = o.gateway_id `

func scanOrder(scan scanner) (o Order, err error) {
	var names string
	var next int64
	var expires sql.NullInt64
	err = scan(
		&o.GatewayID,
		&o.Gateway,
		&names,
		&o.Challenge,
		&o.State,
		&o.Problem,
		&next,
		&expires,
		&o.Request,
		&o.Tries,
	)
	o.Names, o.Next, o.Setup = strings.Fields(names), fromMillis(next), []string{}
	if expires.Valid {
		at := fromMillis(expires.Int64)
		o.Expires = &at
	}
	return o, err
}

// Orders lists all, by the names of their gateways.
func (tx *Tx) Orders(ctx context.Context) ([]Order, error) {
	return collect(ctx, tx, scanOrder, orderColumns+`ORDER BY g.name`)
}

// DueOrders lists those for which the CA is to be asked.
func (tx *Tx) DueOrders(ctx context.Context, now time.Time) ([]Order, error) {
	return collect(
		ctx,
		tx,
		scanOrder,
		orderColumns+`WHERE o.next <= ? ORDER BY o.next`,
		millis(now),
	)
}

// Order reads that of a gateway.
func (tx *Tx) Order(ctx context.Context, gatewayID string) (Order, error) {
	o, err := scanOrder(
		tx.q.QueryRowContext(ctx, orderColumns+`WHERE o.gateway_id = ?`, gatewayID).Scan,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return o, &NotFoundError{"order for gateway", gatewayID}
	}
	if err != nil {
		err = fmt.Errorf("database: %w", err)
	}
	return o, err
}

// PutOrder keeps one, in the place of an earlier one of the gateway.
func (tx *Tx) PutOrder(ctx context.Context, o Order) error {
	var expires any
	if o.Expires != nil {
		expires = millis(*o.Expires)
	}
	_, err := tx.q.ExecContext(
		ctx,
		`INSERT OR REPLACE INTO orders (gateway_id, request, names,
		challenge, state, problem, tries, next, expires) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		o.GatewayID,
		o.Request,
		strings.Join(o.Names, " "),
		o.Challenge,
		o.State,
		o.Problem,
		o.Tries,
		millis(o.Next),
		expires,
	)
	return constraint("order", err)
}

// RemoveOrder ends one.
func (tx *Tx) RemoveOrder(ctx context.Context, gatewayID string) error {
	_, err := tx.q.ExecContext(ctx, `DELETE FROM orders WHERE gateway_id = ?`, gatewayID)
	return err
}
