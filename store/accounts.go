package store

import (
	"context"
	"fmt"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Accounts is the table of accounts.
var Accounts = kept(&Table[vpn.Account, api.Account]{
	Noun:   "account",
	name:   "accounts",
	prefix: "ac",
	meta:   func(a *vpn.Account) *vpn.Meta { return &a.Meta },
	columns: []column[vpn.Account]{
		{"person_id", func(a *vpn.Account) any { return a.PersonID }},
		{"login", func(a *vpn.Account) any { return a.Login }},
		{"realm", func(a *vpn.Account) any { return a.Realm }},
	},
	secrets: func(a *vpn.Account) map[string]**secret.Text {
		return map[string]**secret.Text{"password": &a.Password}
	},
	after: linkGateways,
	list: listing[api.Account]{
		id:   "a.id",
		from: "accounts a",
		cols: "a.id, a.version, a.created, a.changed, a.body, a.person_name",
		scan: func(scan scanner) (row api.Account, err error) {
			err = scanRecord(scan, &row.Account, &row.Meta, &row.Person)
			return row, err
		},
		search: []string{
			"a.login",
			"a.realm",
			"a.person_name",
		},
		hits:  map[string]string{"account": "a.id", "person": "a.person_id"},
		first: "login",
		size:  "accounts",
		sorts: map[string]string{
			"login":   "a.login ASC, a.id ASC",
			"person":  "a.person_name ASC, a.login ASC, a.id ASC",
			"changed": "a.changed ASC, a.id ASC",
		},
		filters: map[string]string{
			"person_id": "a.person_id = ?",
			"person":    "a.person_name = ?",
			"login":     "a.login = ?",
		},
	},
})

// StillThere is the condition on accounts that leaves out those of people who were offboarded.
const StillThere = `NOT EXISTS (SELECT 1 FROM offboardings o WHERE o.noun = 'person' AND
	o.object = accounts.person_id)`

// linkGateways repeats the gateways of an account in a table of their own, so that the
// database holds them to be there.
func linkGateways(ctx context.Context, tx *Tx, a *vpn.Account) error {
	if _, err := tx.q.ExecContext(
		ctx,
		`DELETE FROM account_gateways WHERE account_id = ?`,
		a.ID,
	); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	for _, id := range a.GatewayIDs {
		if _, err := tx.q.ExecContext(
			ctx,
			`INSERT OR IGNORE INTO account_gateways VALUES (?, ?)`,
			a.ID,
			id,
		); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	return nil
}
