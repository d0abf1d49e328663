package service

import (
	"context"
	"slices"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// RehearsalMatrix is the last rehearsal of each gateway of a page, by protocol that it offers, and
// platform.
func (s *Service) RehearsalMatrix(
	ctx context.Context,
	q store.Query,
) (m api.RehearsalMatrix, err error) {
	m.Platforms, m.Rows = []vpn.Platform{}, []api.RehearsalRow{}
	err = s.store.Snapshot(ctx, func(tx *store.Tx) error {
		page, err := store.Gateways.List(ctx, tx, q)
		if err != nil {
			return err
		}
		m.Total, m.More = page.Total, page.More
		for _, g := range page.Items {
			cells, err := tx.RehearsalCells(ctx, g.ID)
			if err != nil {
				return err
			}
			for _, p := range g.Offers.Protocols() {
				row := api.RehearsalRow{
					GatewayID: g.ID, Gateway: g.Name, Protocol: p, Cells: []api.RehearsalCell{},
				}
				for _, c := range cells {
					if c.Protocol == p {
						row.Cells = append(row.Cells, c)
					}
				}
				m.Rows = append(m.Rows, row)
			}
		}
		seen, err := tx.RehearsedPlatforms(ctx)
		for _, p := range vpn.Platforms {
			if slices.Contains(seen, p) {
				m.Platforms = append(m.Platforms, p)
			}
		}
		return err
	})
	return m, err
}
