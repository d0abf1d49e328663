package service

import (
	"context"
	"errors"
	"sync"
)

// together makes one answer for all who ask while the last one is being made. Nobody is told what
// was read before they asked.
type together[T any] struct {
	making sync.Mutex
	mu     sync.Mutex
	next   *answer[T]
}

type answer[T any] struct {
	made  chan struct{}
	value T
	err   error
}

var errNotMade = errors.New("what makes the answer broke down")

// ask returns the answer of a call of read that begins after this one. The first who asks makes it
// for the others too: their own end does not end it.
func (g *together[T]) ask(
	ctx context.Context,
	read func(context.Context) (T, error),
) (v T, err error) {
	g.mu.Lock()
	a, first := g.next, g.next == nil
	if first {
		a = &answer[T]{made: make(chan struct{}), err: errNotMade}
		g.next = a
	}
	g.mu.Unlock()
	if first {
		g.make(context.WithoutCancel(ctx), a, read)
	}
	select {
	case <-a.made:
		return a.value, a.err
	case <-ctx.Done():
		return v, ctx.Err()
	}
}

func (g *together[T]) make(
	ctx context.Context,
	a *answer[T],
	read func(context.Context) (T, error),
) {
	g.making.Lock()
	defer g.making.Unlock()
	defer close(a.made)
	g.mu.Lock()
	g.next = nil // who asks from here on wants a later one
	g.mu.Unlock()
	a.value, a.err = read(ctx)
}
