package service

import (
	"context"
	"net/netip"
	"runtime"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Pace of tries: how many at once, and how long until one more.
var (
	doorPace = pace{10, 5 * time.Second}
	widePace = pace{
		40,
		time.Second,
	} // of a network that is given to one customer, not to one host
	codePace   = pace{5, time.Minute}      // a code has only six digits
	fullPace   = pace{50, time.Second}     // of all keys that no more place is for, together
	shownPace  = pace{100, time.Minute}    // of files with secrets that a session is shown
	reportPace = pace{5, 30 * time.Minute} // of what people say about one profile
)

type pace struct {
	burst int
	every time.Duration
}

// Bounds of what is counted at the door.
const (
	mostKeys  = 100_000
	sweepTime = 10 * time.Second
)

// counting counts tries by key. A key is forgotten only once its allowance is whole again, so
// that nobody gets a new one by bringing many keys.
type counting struct {
	sync.Mutex
	limits map[string]*rate.Limiter
	swept  time.Time
	rest   *rate.Limiter
}

// take counts a try; a key that there is no place for shares one allowance with its like.
func (c *counting) take(key string, p pace, now time.Time) error {
	c.Lock()
	defer c.Unlock()
	if c.limits == nil {
		c.limits, c.rest = map[string]*rate.Limiter{}, rate.NewLimiter(
			rate.Every(fullPace.every),
			fullPace.burst,
		)
	}
	limit, ok := c.limits[key]
	if !ok {
		if len(c.limits) >= mostKeys && now.Sub(c.swept) >= sweepTime {
			c.swept = now
			for k, l := range c.limits {
				if l.TokensAt(now) >= float64(l.Burst()) {
					delete(c.limits, k)
				}
			}
		}
		if len(c.limits) >= mostKeys {
			limit = c.rest
		} else {
			limit = rate.NewLimiter(rate.Every(p.every), p.burst)
			c.limits[key] = limit
		}
	}
	r := limit.ReserveN(now, 1)
	if wait := r.DelayFrom(now); wait > 0 {
		r.CancelAt(now)
		return &BusyError{wait}
	}
	return nil
}

func (s *Service) throttled(key string, p pace) error { return s.tries.take(key, p, s.now()) }

// throttle counts a try at the door.
func (s *Service) throttle(key string) error { return s.throttled(key, doorPace) }

// throttleFrom counts a try by the networks that an address is of: one host has a whole /64
// of IPv6, and one customer often a /56 (RFC 6177 §2).
func (s *Service) throttleFrom(from string) error {
	a, err := netip.ParseAddr(from)
	if err != nil || a.Unmap().Is4() {
		return s.throttle("from " + source(from))
	}
	if wide, err := a.WithZone("").Prefix(56); err == nil {
		if err := s.throttled("from "+wide.String(), widePace); err != nil {
			return err
		}
	}
	return s.throttle("from " + source(from))
}

// source is whom a try is counted for: an address of IPv4, or a /64 of IPv6.
func source(from string) string {
	a, err := netip.ParseAddr(from)
	if err != nil {
		return from
	}
	if a = a.Unmap().WithZone(""); a.Is4() {
		return a.String()
	}
	p, _ := a.Prefix(64)
	return p.String()
}

// Bounds of the work that passwords cost. Each takes 64 MiB while it is hashed.
const (
	hashAtOnce  = 2
	hashKnown   = 1 // lanes for those who are known beside them
	hashWaiting = 64
	hashEach    = 4 // that may wait for one source
	hashWait    = 10 * time.Second
)

// hashing bounds how many passwords are hashed side by side, with a queue in which every
// source has its share, and a lane for those who are known.
type hashing struct {
	sync.Mutex
	open, known chan struct{}
	waiting     map[string]int
	total       int
}

func newHashing() *hashing {
	return &hashing{
		open:    make(chan struct{}, hashAtOnce),
		known:   make(chan struct{}, hashKnown),
		waiting: map[string]int{},
	}
}

// enter waits for a place. known are those who have proven before who they are: a session, or
// a device that has signed in.
func (h *hashing) enter(ctx context.Context, source string, known bool) (leave func(), err error) {
	busy := &BusyError{time.Second}
	h.Lock()
	if !known && (h.total >= hashWaiting || h.waiting[source] >= hashEach) {
		h.Unlock()
		return nil, busy
	}
	h.total++
	h.waiting[source]++
	h.Unlock()
	defer func() {
		h.Lock()
		defer h.Unlock()
		h.total--
		if h.waiting[source]--; h.waiting[source] <= 0 {
			delete(h.waiting, source)
		}
	}()
	var lane chan struct{} // nil never lets anybody in
	if known {
		lane = h.known
	}
	end := time.NewTimer(hashWait)
	defer end.Stop()
	select {
	case lane <- struct{}{}:
		return func() { spent(lane) }, nil
	case h.open <- struct{}{}:
		return func() { spent(h.open) }, nil
	case <-end.C:
		return nil, busy
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// spent gives a place back, and the memory that the hash took before the next one takes as much.
func spent(lane chan struct{}) {
	runtime.GC()
	<-lane
}
