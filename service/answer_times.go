package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Limits of answer times.
const (
	maxAnswerTime = 60_000 // in ms
	timedAtOnce   = 6      // gateways that one page asks
)

// AddAnswerTime keeps how fast a gateway answered from a place.
func (s *Service) AddAnswerTime(ctx context.Context, t api.MeasuredTime) error {
	if t.Source == "" {
		t.Source = api.TimedByProbe
	}
	var list []vpn.Problem
	var place *vpn.Problems
	if t.Milliseconds <= 0 || t.Milliseconds > maxAnswerTime {
		list = append(
			list,
			vpn.Problem{
				Pointer:  "/milliseconds",
				Found:    fmt.Sprint(t.Milliseconds),
				Expected: fmt.Sprintf("more than 0, at most %d", maxAnswerTime),
				Fix:      "measure again",
			},
		)
	}
	if t.Place.Latitude == nil || t.Place.Longitude == nil {
		list = append(
			list,
			vpn.Problem{
				Pointer:  "/place/latitude",
				Found:    "nothing",
				Expected: "latitude and longitude of where it was measured",
				Fix:      "fill them in",
			},
		)
	} else if errors.As(t.Place.Validate(), &place) {
		list = append(list, place.List...)
	}
	if t.Source != api.TimedByProbe && t.Source != api.TimedByRehearsal {
		list = append(
			list,
			vpn.Problem{
				Pointer:  "/source",
				Found:    fmt.Sprintf("%q", t.Source),
				Expected: "probe or rehearsal",
				Fix:      "choose one of them",
			},
		)
	}
	if len(list) > 0 {
		return &vpn.Problems{Object: "answer time", List: list}
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		if err := store.Gateways.Known(ctx, tx, t.GatewayID); err != nil {
			return err
		}
		return tx.PutAnswerTime(ctx, t)
	})
}

// AnswerTimesOf sums up how fast a gateway answered, by place.
func (s *Service) AnswerTimesOf(
	ctx context.Context,
	gatewayID string,
) ([]api.MeasuredTimes, error) {
	tx := s.store.Read()
	if err := store.Gateways.Known(ctx, tx, gatewayID); err != nil {
		return nil, err
	}
	return tx.AnswerTimeSums(ctx, gatewayID)
}

// Timed keeps how fast gateways answered the browser of a recipient.
func (s *Service) Timed(ctx context.Context, token, bearer string, times map[string]float64) error {
	tx := s.store.Read()
	h, _, err := s.visited(ctx, tx, token, bearer)
	if err != nil {
		return err
	}
	doors, person, err := s.doors(ctx, tx, h.ProfileID)
	if err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		for _, d := range doors {
			if ms := times[d.GatewayID]; ms > 0 && ms <= maxAnswerTime {
				if err := tx.PutAnswerTime(
					ctx,
					api.MeasuredTime{
						GatewayID:    d.GatewayID,
						PersonID:     person,
						Source:       api.TimedByPage,
						Milliseconds: ms,
					},
				); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// doors are where a browser can knock at the gateways that a profile's pattern chooses the
// fastest of: those that answer by TLS over TCP.
func (s *Service) doors(
	ctx context.Context,
	tx *store.Tx,
	profileID string,
) (list []api.Door, personID string, err error) {
	profile, err := store.Profiles.Get(ctx, tx, profileID)
	if err != nil {
		return nil, "", err
	}
	device, err := store.Devices.Get(ctx, tx, profile.DeviceID)
	if err != nil {
		return nil, "", err
	}
	personID = device.PersonID
	p, err := pattern(ctx, tx, profile.PatternID)
	if err != nil || p.Gateways != vpn.ChooseFastest {
		return nil, personID, err
	}
	gateways, err := s.choice(ctx, tx, p)
	for _, g := range gateways {
		if host, port := door(g); port > 0 && len(list) < timedAtOnce {
			list = append(
				list,
				api.Door{
					GatewayID: g.ID,
					URL:       "https://" + net.JoinHostPort(host, strconv.Itoa(port)) + "/",
				},
			)
		}
	}
	return list, personID, err
}

// door is where a gateway answers by TLS over TCP; port 0 stands for nowhere.
func door(g vpn.Gateway) (host string, port int) {
	if o := g.Offers.SSTP; o != nil {
		return g.Address, cmp.Or(o.Port, 443)
	}
	if o := g.Offers.TLS; o != nil {
		if i := slices.IndexFunc(
			o.Remotes,
			func(r vpn.Remote) bool { return r.Transport == vpn.TCP },
		); i >= 0 {
			r := o.Remotes[i]
			if r.Address == "" {
				r.Address = g.Address
			}
			return r.Address, r.Port
		}
	}
	return "", 0
}
