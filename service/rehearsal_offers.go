package service

import (
	"context"
	"slices"
	"strconv"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// RehearseOffers begins a job that rehearses a profile by offers of its gateway, all where none is
// named: by files as they would be built if the profile asked for each. It signs in as the
// profile's parcel does, a login at most once a minute. What it shows stands in the matrix, and
// says nothing of the parcel.
func (s *Service) RehearseOffers(
	ctx context.Context,
	profileID string,
	in api.OfferRehearsals,
) (sample api.RehearsalSample, err error) {
	sample.Profiles, sample.Skipped = []string{}, []api.SkippedRehearsal{}
	var offers []vpn.Protocol
	if err := s.store.Snapshot(ctx, func(tx *store.Tx) error {
		running, err := runningSample(ctx, tx, profileID)
		if err != nil || running != nil {
			if running != nil {
				sample.Job = *running
			}
			return err
		}
		row, err := store.Profiles.Row(ctx, tx, profileID)
		if err != nil {
			return err
		}
		g, err := store.Gateways.Get(ctx, tx, row.GatewayID)
		if err != nil {
			return err
		}
		sample.Job.Title = "Rehearse the offers of " + row.Gateway + " as " + row.Device
		offers = g.Offers.Protocols()
		for i, p := range in.Offers {
			if !slices.Contains(offers, p) {
				return problem("rehearsal", "/offers/"+strconv.Itoa(i), string(p),
					"an offer of "+g.Name, "name one that stands on its record")
			}
		}
		return nil
	}); err != nil || sample.Job.ID != "" {
		return sample, err
	}
	if len(offers) == 0 {
		return sample, problem("rehearsal", "/offers", "no offer on the gateway's record", "one",
			"add an offer to the gateway")
	}
	var list []store.Sampled
	for _, p := range offers {
		if len(in.Offers) == 0 || slices.Contains(in.Offers, p) {
			list = append(list, store.Sampled{ProfileID: profileID, Offer: p})
		}
	}
	return s.beginSample(ctx, "profile", profileID, sample.Job.Title, list)
}
