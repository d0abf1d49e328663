package service

import (
	"fmt"
	"strings"
	"sync"

	"wardicon/api"
)

// mostCompared bounds what is remembered of parcels.
const mostCompared = 200_000

// compared remembers whether parcels are as they would be built now, as long as the records are the
// same: files are functions of those, and building them is most of what a check costs.
type compared struct {
	mu    sync.Mutex
	known map[string]comparison // by profile
}

type comparison struct {
	parcel, state string
	outdated      bool
}

func (c *compared) find(profile, parcel, state string) (outdated, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	k, ok := c.known[profile]
	return k.outdated, ok && k.parcel == parcel && k.state == state
}

func (c *compared) keep(profile string, k comparison) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known == nil || len(c.known) >= mostCompared {
		c.known = map[string]comparison{}
	}
	c.known[profile] = k
}

// state stands for all that the files of a parcel are made from.
func (w *worked) state() string {
	in := w.in
	var b strings.Builder
	fmt.Fprint(
		&b,
		in.Organisation.Version,
		" ",
		in.Profile.Version,
		" ",
		in.Gateway.ID,
		" ",
		in.Gateway.Version,
		" ",
		in.Device.Version,
		" ",
		in.Person.ID,
		" ",
		in.Person.Version,
		" ",
		in.Pattern.ID,
		" ",
		in.Pattern.Version,
		" ",
		len(w.signer),
		w.signer,
	)
	if in.Fallback != nil {
		fmt.Fprint(&b, " ", in.Fallback.ID, " ", in.Fallback.Version)
	}
	fmt.Fprint(&b, " ", in.Second)
	for _, by := range w.moved {
		fmt.Fprint(&b, " ", by.ID)
	}
	for _, a := range in.Accounts {
		fmt.Fprint(&b, " ", a.ID, " ", a.Version)
	}
	return b.String()
}

// isOutdated tells whether building now would give another parcel than the last one.
func (s *Service) isOutdated(w *worked, last api.Parcel) bool {
	state := w.state()
	if outdated, ok := s.compared.find(w.in.Profile.ID, last.ID, state); ok {
		return outdated
	}
	outdated := s.outdated(w, last)
	s.compared.keep(w.in.Profile.ID, comparison{last.ID, state, outdated})
	return outdated
}
