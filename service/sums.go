package service

import (
	"sync"
	"time"
)

// Sums over a whole fleet take long where it is large. They are made again as often as that costs a
// twentieth of the time; small ones are made for each question.
const (
	cheapSum = 5 * time.Millisecond
	sumShare = 20
)

// sums remembers sums by what they count.
type sums struct {
	mu    sync.Mutex
	known map[string]sum
}

type sum struct {
	value any
	at    time.Time
	cost  time.Duration
}

// summed answers with a sum that is fresh enough, or makes it; one at a time each.
func summed[T any](s *sums, key string, make func() (T, error)) (T, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if k, ok := s.known[key]; ok && k.cost > cheapSum && time.Since(k.at) < sumShare*k.cost {
		return k.value.(T), nil
	}
	begin := time.Now()
	v, err := make()
	if err != nil {
		return v, err
	}
	if s.known == nil {
		s.known = map[string]sum{}
	}
	if len(s.known) >= mostSums {
		clear(s.known)
	}
	s.known[key] = sum{v, time.Now(), time.Since(begin)}
	return v, nil
}

const mostSums = 100
