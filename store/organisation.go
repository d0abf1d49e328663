package store

import (
	"context"

	"wardicon/core/vpn"
)

// Organisation reads who the service works for.
func (tx *Tx) Organisation(ctx context.Context) (o vpn.Organisation, err error) {
	return shelved(tx, "organisation", func() (o vpn.Organisation, err error) {
		err = tx.q.QueryRowContext(ctx,
			`SELECT version, name, domain, links, enrol, links_v4, links_v6, factors, four_eyes, probe_every,
				keep_parcels FROM organisation`).
			Scan(&o.Version, &o.Name, &o.Domain, &o.Links, &o.Enrol, &o.LinksV4, &o.LinksV6, &o.Factors, &o.FourEyes,
				&o.ProbeEvery, &o.KeepParcels)
		return o, err
	})
}

// PutOrganisation replaces it.
func (tx *Tx) PutOrganisation(ctx context.Context, o *vpn.Organisation) error {
	return tx.q.QueryRowContext(ctx,
		`UPDATE organisation SET version = version + 1, name = ?, domain = ?, links = ?, enrol = ?, links_v4 =
			?, links_v6 = ?, factors = ?, four_eyes = ?, probe_every = ?, keep_parcels = ? RETURNING
			version`, o.Name, o.Domain, o.Links, o.Enrol, o.LinksV4, o.LinksV6, o.Factors, o.FourEyes, o.ProbeEvery,
		o.KeepParcels).
		Scan(&o.Version)
}
