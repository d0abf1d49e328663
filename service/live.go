package service

import (
	"context"
	"sync"
	"time"
)

// mostWatching bounds how many pages are told of changes at a time.
const mostWatching = 500

// watching are those who are told what has changed.
type watching struct {
	mu    sync.Mutex
	all   map[*Watch]bool
	ended bool
}

// Watch is told of changes; several that come together are one.
type Watch struct {
	mu      sync.Mutex
	pending map[string]bool
	soon    chan struct{}
	of      *watching
}

// tell says to all what has changed. It never waits.
func (w *watching) tell(topics []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for one := range w.all {
		one.mu.Lock()
		for _, t := range topics {
			one.pending[t] = true
		}
		one.mu.Unlock()
		notify(one.soon)
	}
}

// Watch begins to be told what changes; false where too many are already, or the service ends.
func (s *Service) Watch() (*Watch, bool) {
	w := &Watch{pending: map[string]bool{}, soon: make(chan struct{}, 1), of: &s.watching}
	s.watching.mu.Lock()
	defer s.watching.mu.Unlock()
	if s.watching.ended || len(s.watching.all) >= mostWatching {
		return nil, false
	}
	if s.watching.all == nil {
		s.watching.all = map[*Watch]bool{}
	}
	s.watching.all[w] = true
	return w, true
}

// EndWatching ends all watches, so that the service can.
func (s *Service) EndWatching() {
	s.watching.mu.Lock()
	defer s.watching.mu.Unlock()
	s.watching.ended = true
	for w := range s.watching.all {
		close(w.soon)
	}
	clear(s.watching.all)
}

// Next waits for changes and returns what kinds of records they are of; none once it ends. Changes
// within the pause after the first are one answer.
func (w *Watch) Next(ctx context.Context, pause time.Duration) []string {
	select {
	case <-ctx.Done():
		return nil
	case _, open := <-w.soon:
		if !open {
			return nil
		}
	}
	select {
	case <-ctx.Done():
	case <-time.After(pause):
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	var topics []string
	for t := range w.pending {
		topics = append(topics, t)
	}
	clear(w.pending)
	return topics
}

// End stops being told.
func (w *Watch) End() {
	w.of.mu.Lock()
	defer w.of.mu.Unlock()
	delete(w.of.all, w)
}
