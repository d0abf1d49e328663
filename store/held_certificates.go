package store

import (
	"context"
	"fmt"

	"wardicon/core/pki"
	"wardicon/core/vpn"
)

var _ = step(43, `
-- The certificates that stand in devices' records, by their serial numbers.
CREATE TABLE held_certificates (
    device_id TEXT NOT NULL REFERENCES devices ON DELETE CASCADE,
    serial    TEXT NOT NULL,
    on_device INTEGER NOT NULL, -- the device made the key itself, and renews by itself
    PRIMARY KEY (device_id, serial)
) WITHOUT ROWID;
CREATE INDEX held_certificates_serial ON held_certificates (serial);
`, `DROP TABLE held_certificates;`)

// holds keeps in step which certificates a device has.
func (tx *Tx) holds(ctx context.Context, d *vpn.Device) error {
	if _, err := tx.q.ExecContext(ctx, `DELETE FROM held_certificates WHERE device_id = ?`,
		d.ID); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	for id := range d.Identities() {
		list, err := pki.Certificates(id.Certificate)
		if err != nil {
			continue // refused before it comes here
		}
		if _, err := tx.q.ExecContext(ctx, `INSERT INTO held_certificates VALUES (?, ?, ?)
			ON CONFLICT DO NOTHING`, d.ID, list[0].SerialNumber.Text(16), id.OnDevice); err != nil {
			return fmt.Errorf("database: %w", err)
		}
	}
	return nil
}

// fillHeld fills in what was not kept before.
func (s *Store) fillHeld(ctx context.Context) error {
	return s.once(ctx, "held certificates", func(tx *Tx) error {
		list, err := Devices.Where(ctx, tx,
			`json_valid(body) AND json_extract(body, '$.identity') IS NOT NULL`)
		for _, d := range list {
			if err := tx.holds(ctx, &d); err != nil {
				return err
			}
		}
		return err
	})
}
