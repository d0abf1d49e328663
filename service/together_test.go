package service

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"
)

// TestTogether has many ask at once, at different times, one of them gone in between and one whose
// answer breaks down: nobody gets an answer from before they asked, and few are made.
func TestTogether(t *testing.T) {
	var g together[time.Time]
	made := 0 // one at a time
	read := func(ctx context.Context) (time.Time, error) {
		made++
		begun := time.Now()
		time.Sleep(50 * time.Millisecond)
		return begun, ctx.Err()
	}
	var all sync.WaitGroup
	for i := range 1000 {
		all.Go(func() {
			time.Sleep(time.Duration(i) * time.Millisecond / 2)
			asked := time.Now()
			ctx, stop := context.WithCancel(t.Context())
			if i%10 == 0 {
				time.AfterFunc(time.Millisecond, stop)
			}
			begun, err := g.ask(ctx, read)
			if stop(); i%10 == 0 && errors.Is(err, context.Canceled) {
				return
			}
			if err != nil || begun.Before(asked) {
				t.Errorf("asked at %v: %v from %v", asked, err, begun)
			}
		})
	}
	if all.Wait(); made < 5 || made > 20 {
		t.Errorf("%d answers were made in half a second, of 50 ms each", made)
	}
	func() {
		defer func() { _ = recover() }()
		_, _ = g.ask(t.Context(), func(context.Context) (time.Time, error) { panic("broken") })
	}()
	if _, err := g.ask(t.Context(), read); err != nil {
		t.Errorf("after one that broke down: %v", err)
	}
}
