package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Authorities is the table of authorities.
var Authorities = kept(&Table[vpn.Authority, api.Authority]{
	Noun:   "authority",
	name:   "authorities",
	prefix: "au",
	meta:   func(a *vpn.Authority) *vpn.Meta { return &a.Meta },
	columns: []column[vpn.Authority]{
		{"name", func(a *vpn.Authority) any { return a.Name }},
		{"expires", func(a *vpn.Authority) any {
			list, err := pki.Certificates(a.Certificate)
			if err != nil {
				return 0 // refused before it comes here
			}
			return millis(list[0].NotAfter)
		}},
	},
	secrets: func(a *vpn.Authority) map[string]**secret.Text {
		return map[string]**secret.Text{"key": &a.Key}
	},
	list: listing[api.Authority]{
		id:    "a.id",
		from:  "authorities a",
		joins: "LEFT JOIN authorities n ON n.id = a.successor_id",
		cols: `a.id, a.version, a.created, a.changed, a.body, a.expires, (SELECT COUNT(*) FROM
			certificates c WHERE c.authority_id = a.id),
			(SELECT COUNT(*) FROM certificates c WHERE c.authority_id = a.id AND c.revoked IS NOT
			NULL), COALESCE(n.id, ''), COALESCE(n.name, '')`,
		scan: func(scan scanner) (row api.Authority, err error) {
			var expires int64
			err = scanRecord(
				scan,
				&row.Authority,
				&row.Meta,
				&expires,
				&row.Certificates,
				&row.Revoked,
				&row.SuccessorID,
				&row.Successor,
			)
			row.Expires = fromMillis(expires)
			return row, err
		},
		search: []string{"a.name"},
		first:  "name",
		sorts: map[string]string{
			"name":    "a.name ASC, a.id ASC",
			"expires": "a.expires ASC, a.id ASC",
			"changed": "a.changed ASC, a.id ASC",
		},
		filters: map[string]string{
			"name": "a.name = ?",
			"days": "a.expires BETWEEN unixepoch() * 1000 AND (unixepoch() + 86400 * ?days) * 1000",
		},
	},
})

// Certificates lists what was issued.
var Certificates = &Table[vpn.Certificate, api.Certificate]{
	Noun:   "certificate",
	name:   "certificates",
	prefix: "ce",
	list: listing[api.Certificate]{
		id:   "c.id",
		from: "certificates c",
		joins: "JOIN authorities a ON a.id = c.authority_id LEFT JOIN devices d ON d.id = " +
			"c.device_id LEFT JOIN gateways g ON g.id = c.gateway_id",
		cols: `c.id, c.authority_id, c.serial, c.subject, c.names, c.usage, COALESCE(c.device_id,
			''), COALESCE(c.gateway_id, ''), c.starts, c.expires, c.revoked, c.reason, c.pem,
			c.operator, c.created,
			a.name, COALESCE(d.name, ''), COALESCE(g.name, '')`,
		scan: scanCertificate,
		search: []string{
			"c.subject",
			"c.names",
			"c.serial",
			"d.name",
			"g.name",
		},
		first: "expires",
		size:  "certificates",
		hits: map[string]string{
			"certificate": "c.id",
			"device":      "c.device_id",
			"gateway":     "c.gateway_id",
		},
		sorts: map[string]string{
			"expires": "c.expires ASC, c.id ASC",
			"subject": "c.subject ASC, c.id ASC",
			"device":  "d.name ASC, c.id ASC",
			"created": "c.created ASC, c.id ASC",
		},
		filters: map[string]string{
			"authority_id": "c.authority_id = ?",
			"device_id":    "c.device_id = ?",
			"gateway_id":   "c.gateway_id = ?",
			"usage":        "c.usage = ?",
			"serial":       "c.serial = ?",
			"revoked":      "(c.revoked IS NOT NULL) = ?flag",
			"days": "c.expires BETWEEN unixepoch() * 1000 AND (unixepoch() + 86400 * " +
				"?days) * 1000",
			"expires_after": "c.expires >= ?time",
		},
	},
}

func scanCertificate(scan func(...any) error) (row api.Certificate, err error) {
	var starts, expires, created int64
	var revoked sql.NullInt64
	var names []byte
	c := &row.Certificate
	if err := scan(
		&c.ID,
		&c.AuthorityID,
		&c.Serial,
		&c.Subject,
		&names,
		&c.Usage,
		&c.DeviceID,
		&c.GatewayID,
		&starts,
		&expires,
		&revoked,
		&c.Reason,
		&c.PEM,
		&c.Operator,
		&created,
		&row.Authority,
		&row.Device,
		&row.Gateway,
	); err != nil {
		return row, err
	}
	c.From, c.To, c.Created = fromMillis(starts), fromMillis(expires), fromMillis(created)
	if revoked.Valid {
		at := fromMillis(revoked.Int64)
		c.Revoked = &at
	}
	return row, json.Unmarshal(names, &c.Names)
}

// AddCertificate keeps what was issued, and gives it its identity.
func (tx *Tx) AddCertificate(ctx context.Context, c *vpn.Certificate) error {
	names, err := json.Marshal(c.Names)
	if err != nil {
		return err
	}
	c.ID, c.Created = newID(Certificates.prefix), tx.s.now().UTC().Truncate(time.Millisecond)
	_, err = tx.q.ExecContext(
		ctx,
		`INSERT INTO certificates (id, authority_id, serial, subject, names, usage, device_id,
			gateway_id, starts, expires, pem, operator, created) VALUES (?, ?, ?, ?, ?, ?, NULLIF(?,
			''), NULLIF(?, ''), ?, ?, ?, ?, ?)`,
		c.ID,
		c.AuthorityID,
		c.Serial,
		c.Subject,
		string(names),
		c.Usage,
		c.DeviceID,
		c.GatewayID,
		millis(c.From),
		millis(c.To),
		c.PEM,
		c.Operator,
		millis(c.Created),
	)
	return constraint(Certificates.Noun, err)
}

// IssuedSince counts what an authority has issued since a moment.
func (tx *Tx) IssuedSince(
	ctx context.Context,
	authorityID string,
	since time.Time,
) (n int, err error) {
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(*) FROM certificates WHERE authority_id = ? AND created >
			?`, authorityID, millis(since)).
		Scan(&n)
	return n, err
}

// ValidOf counts the certificates of a device that are valid.
func (tx *Tx) ValidOf(ctx context.Context, deviceID string) (n int, err error) {
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(*) FROM certificates WHERE device_id = ? AND revoked IS NULL AND expires >
			?`, deviceID, millis(tx.s.now())).
		Scan(&n)
	return n, err
}

// Revoke marks a certificate as revoked; once is for good.
func (tx *Tx) Revoke(ctx context.Context, id string, reason pki.Reason) error {
	res, err := tx.q.ExecContext(
		ctx,
		`UPDATE certificates SET revoked = ?, reason = ? WHERE id = ? AND revoked IS NULL`,
		millis(tx.s.now()),
		reason,
		id,
	)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, &NotFoundError{"certificate that is not revoked", id})
	}
	return nil
}

// RevokedBy lists what an authority has revoked and what has not ended by itself, by serial
// number (RFC 5280 §5: an entry may go once the certificate has ended and was on a list).
// Lately leaves out what was revoked before a moment; the zero one nothing.
func (tx *Tx) RevokedBy(
	ctx context.Context,
	authorityID string,
	since, lately time.Time,
) ([]pki.Revoked, error) {
	// One text instead of a row each: a list of 100,000 is read in a fifth of the time.
	var lines sql.NullString
	err := tx.q.QueryRowContext(ctx,
		`SELECT group_concat(line, char(10)) FROM (SELECT serial || ' ' || revoked || ' ' || reason
			AS line FROM certificates WHERE authority_id = ? AND revoked > ? AND expires > ? ORDER
			BY revoked, serial)`, authorityID, millis(lately), millis(since)).
		Scan(&lines)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	list := make([]pki.Revoked, 0, strings.Count(lines.String, "\n")+1)
	for line := range strings.Lines(lines.String) {
		serial, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		at, reason, _ := strings.Cut(rest, " ")
		number, err1 := hex.DecodeString(strings.Repeat("0", len(serial)%2) + serial)
		ms, err2 := strconv.ParseInt(at, 10, 64)
		if err1 != nil || err2 != nil {
			return nil, fmt.Errorf("the serial number %q cannot be read", serial)
		}
		list = append(
			list,
			pki.Revoked{
				Serial: new(big.Int).SetBytes(number),
				At:     fromMillis(ms),
				Reason: pki.Reason(reason),
			},
		)
	}
	return list, nil
}

// CountRevoked counts them, and tells when the last one was added.
func (tx *Tx) CountRevoked(ctx context.Context, authorityID string) (n int, last int64, err error) {
	err = tx.q.QueryRowContext(ctx,
		`SELECT COUNT(*), COALESCE(MAX(revoked), 0) FROM certificates WHERE authority_id = ? AND
			revoked IS NOT NULL`, authorityID).
		Scan(&n, &last)
	return n, last, err
}

// RevokedSerial tells whether and when the certificate of a serial number was revoked.
func (tx *Tx) RevokedSerial(
	ctx context.Context,
	serial string,
) (at time.Time, found bool, err error) {
	var ms int64
	err = tx.q.QueryRowContext(ctx,
		`SELECT revoked FROM certificates WHERE serial = ? AND revoked IS NOT NULL`, serial).
		Scan(&ms)
	if errors.Is(err, sql.ErrNoRows) {
		return at, false, nil
	}
	return fromMillis(ms), err == nil, err
}

// Issued is a certificate that was issued here, with the time of its revocation; zero where it was
// not revoked.
type Issued struct {
	PEM     string
	Revoked time.Time
}

// IssuedAs lists the certificates of a serial number.
func (tx *Tx) IssuedAs(ctx context.Context, serial *big.Int) (list []Issued, err error) {
	return collect(ctx, tx, func(scan scanner) (one Issued, err error) {
		var ms int64
		err = scan(&one.PEM, &ms)
		if ms != 0 {
			one.Revoked = fromMillis(ms)
		}
		return one, err
	}, `SELECT pem, COALESCE(revoked, 0) FROM certificates WHERE serial = ?`, serial.Text(16))
}

// IdentityExpiries lists the certificates of devices that end within a time, the first end first.
func (tx *Tx) IdentityExpiries(
	ctx context.Context,
	from, to time.Time,
	limit int,
) (list []api.Expiry, err error) {
	return collect(ctx, tx, func(scan scanner) (api.Expiry, error) {
		e := api.Expiry{Noun: "device", What: "its certificate"}
		var expires int64
		err := scan(&e.ID, &e.Name, &expires)
		e.Expires = fromMillis(expires)
		return e, err
	}, `SELECT id, name, identity_expires FROM devices WHERE identity_expires BETWEEN ? AND ? ORDER
			BY identity_expires, id LIMIT ?`,
		millis(from),
		millis(to),
		limit)
}
