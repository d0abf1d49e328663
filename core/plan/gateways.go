package plan

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"math"
	"slices"

	"wardicon/core/vpn"
)

// Lead is a gateway that a pattern leads a device to, with the reason.
type Lead struct {
	Gateway vpn.Gateway
	Reason  string
}

// near is how much farther a gateway may be and still count as equally near, in km.
const near = 10

// Leads chooses the gateways of a device by its pattern. in holds all but the gateway;
// candidates are the gateways of the pattern, in its order. One that the device cannot
// use is passed over as long as another can be; why is nil where there is a lead.
func Leads(in Input, candidates []vpn.Gateway) (leads []Lead, why string) {
	if len(candidates) == 0 {
		return nil, "there is no gateway to choose from"
	}
	works := func(g vpn.Gateway) bool {
		in.Gateway = g
		return Make(in).Works()
	}
	if in.Pattern.Gateways == vpn.ChooseEach {
		for _, g := range candidates {
			leads = append(leads, Lead{g, "one profile for each gateway"})
		}
		return leads, ""
	}
	list, reason := ordered(in, candidates)
	for i, g := range list {
		switch {
		case !works(g):
		case len(leads) > 0:
			return append(
				leads,
				Lead{g, "fallback for when " + leads[0].Gateway.Name + " does not respond"},
			), ""
		default:
			leads = append(leads, Lead{g, reason(i, g)})
			if !in.Pattern.Fallback {
				return leads, ""
			}
		}
	}
	if len(leads) > 0 {
		return leads, ""
	}
	return []Lead{{list[0], "no gateway can be used; see the first for the reason"}}, ""
}

// ordered puts gateways into the order in which a pattern wants them, and says why one is
// where it is.
func ordered(
	in Input,
	candidates []vpn.Gateway,
) (list []vpn.Gateway, reason func(int, vpn.Gateway) string) {
	list = slices.Clone(candidates)
	here, placed := point(in.Person.Place)
	switch {
	case in.Pattern.Gateways == vpn.ChooseFastest && len(in.Times) > 0:
		list = bySpan(list, in.Device.ID, func(g vpn.Gateway) float64 {
			if t, ok := in.Times[g.ID]; ok {
				return t.Milliseconds
			}
			return math.Inf(1)
		}, alike)
		return list, func(_ int, g vpn.Gateway) string {
			return in.Times[g.ID].text(in.Person.Name)
		}
	case in.Pattern.Gateways == vpn.ChooseNearest && placed,
		in.Pattern.Gateways == vpn.ChooseFastest && placed:
		list = byDistance(list, here, in.Device.ID)
		before := ""
		if in.Pattern.Gateways == vpn.ChooseFastest {
			before = "no response times were measured near " + in.Person.Name + ": "
		}
		return list, func(_ int, g vpn.Gateway) string {
			return before + distanceText(g, here, in.Person.Name, list)
		}
	case in.Pattern.Gateways == vpn.ChooseNearest || in.Pattern.Gateways == vpn.ChooseFastest:
		return list, func(int, vpn.Gateway) string {
			return fmt.Sprintf(
				"the first of the list, because the location of %s is not on record",
				in.Person.Name,
			)
		}
	}
	return list, func(i int, _ vpn.Gateway) string {
		if i == 0 {
			return "the first of the list"
		}
		return "the first of the list that the device can use"
	}
}

// AnswerTime is how fast a gateway answers where a person is: the median of what was
// measured.
type AnswerTime struct {
	Milliseconds float64
	From         string // where it was measured, such as "the pages of Ada Fjell" or "Norrvik"
	Count        int
}

// alike is how much slower a gateway may be and still count as equally fast, in ms.
const alike = 10

func (t AnswerTime) text(person string) string {
	if t.Count == 0 {
		return "the first without a measured response time near " + person
	}
	return fmt.Sprintf(
		"fastest from the location of %s: %.0f ms, median of %d measurements from %s",
		person,
		t.Milliseconds,
		t.Count,
		t.From,
	)
}

// degree is a place on the globe in radians.
type degree struct{ latitude, longitude float64 }

func point(p vpn.Place) (degree, bool) {
	if p.Latitude == nil || p.Longitude == nil {
		return degree{}, false
	}
	return degree{*p.Latitude * math.Pi / 180, *p.Longitude * math.Pi / 180}, true
}

// Distance is the length of the great circle between two places in km, on a globe of
// mean radius (the haversine formula).
func Distance(a, b vpn.Place) (km float64, ok bool) {
	x, ok1 := point(a)
	y, ok2 := point(b)
	if !ok1 || !ok2 {
		return 0, false
	}
	return x.to(y), true
}

func (d degree) to(e degree) float64 {
	const radius = 6371.0088 // km, mean radius of the Earth (IUGG)
	h := math.Pow(
		math.Sin((e.latitude-d.latitude)/2),
		2,
	) + math.Cos(
		d.latitude,
	)*math.Cos(
		e.latitude,
	)*math.Pow(
		math.Sin((e.longitude-d.longitude)/2),
		2,
	)
	return 2 * radius * math.Asin(math.Min(1, math.Sqrt(h)))
}

// byDistance puts the nearest first and gateways without a place last. Those equally
// near are in an order of the device's own, in which each comes first as often as its
// share of the load says (weighted rendezvous hashing): a device stays where it is as
// long as its gateway stays.
func byDistance(list []vpn.Gateway, here degree, deviceID string) []vpn.Gateway {
	distance := func(g vpn.Gateway) float64 {
		if there, ok := point(g.Place); ok {
			return here.to(there)
		}
		return math.Inf(1)
	}
	return bySpan(list, deviceID, distance, near)
}

// bySpan sorts by a measure; those within a span count as equal.
func bySpan(
	list []vpn.Gateway,
	deviceID string,
	measure func(vpn.Gateway) float64,
	span float64,
) []vpn.Gateway {
	sorted := slices.Clone(list)
	slices.SortStableFunc(
		sorted,
		func(a, b vpn.Gateway) int { return cmp.Compare(measure(a), measure(b)) },
	)
	for start := 0; start < len(sorted); {
		end := start + 1
		for end < len(sorted) && !math.IsInf(measure(sorted[start]), 1) &&
			measure(sorted[end])-measure(sorted[start]) <= span {
			end++
		}
		slices.SortStableFunc(
			sorted[start:end],
			func(a, b vpn.Gateway) int {
				return cmp.Compare(score(b, deviceID),
					score(a, deviceID))
			},
		)
		start = end
	}
	return sorted
}

func score(g vpn.Gateway, deviceID string) float64 {
	digest := sha256.Sum256([]byte(g.ID + "\x00" + deviceID))
	u := (float64(binary.BigEndian.Uint64(digest[:8])>>11) + 0.5) / (1 << 53) // between 0 and 1
	return float64(max(g.LoadShare, 1)) / -math.Log(u)
}

func distanceText(g vpn.Gateway, here degree, person string, all []vpn.Gateway) string {
	there, ok := point(g.Place)
	if !ok {
		return "no usable gateway has its location on record"
	}
	km := here.to(there)
	equal := 0
	for _, other := range all {
		if p, ok := point(other.Place); ok && math.Abs(here.to(p)-km) <= near {
			equal++
		}
	}
	if equal > 1 {
		return fmt.Sprintf(
			"nearest to %s, %.0f km; of %d equally near ones by load share",
			person,
			km,
			equal,
		)
	}
	return fmt.Sprintf("nearest usable gateway to %s, %.0f km", person, km)
}
