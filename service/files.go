package service

import (
	"context"
	"fmt"
	"time"

	"wardicon/core/batch"
	"wardicon/core/platform"
	"wardicon/core/view"
	"wardicon/core/vpn"
	"wardicon/store"
)

// CheckFiles looks at files from anywhere, beside the gateways on record. Nothing of them
// is kept.
func (s *Service) CheckFiles(ctx context.Context, files []batch.File, release string) (view.Checked, error) {
	items, err := s.looked(ctx, files, release)
	return view.CheckedItems(items), err
}

func (s *Service) looked(ctx context.Context, files []batch.File, release string) ([]batch.Item, error) {
	o := batch.Options{Now: s.now(), Judge: s.memo.Judge}
	if release != "" {
		var name, number string
		if _, err := fmt.Sscan(release, &name, &number); err != nil {
			return nil, problem("check", "/for", fmt.Sprintf("%q", release), "a platform and a release, such as android 14", "choose one of the platforms")
		}
		found, ok := platform.Find(vpn.Platform(name), number)
		if !ok {
			return nil, problem("check", "/for", fmt.Sprintf("%q", release), "a platform and a release, such as android 14", "choose one of the platforms")
		}
		o.Release = &found
	}
	tx := s.store.Read()
	var err error
	if o.Policy.Severities, err = tx.Severities(ctx); err != nil {
		return nil, err
	}
	if o.Gateways, err = store.Gateways.Where(ctx, tx, "1"); err != nil {
		return nil, err
	}
	// Each lot may take as much memory as all its files. One operator has one place, so that the other is for others.
	own, _ := s.readingOf.LoadOrStore(actor(ctx), make(chan struct{}, 1))
	for _, place := range []chan struct{}{own.(chan struct{}), s.reading} {
		select {
		case place <- struct{}{}:
			defer func() { <-place }()
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	begun := time.Now()
	o.Over = func() bool { return ctx.Err() != nil || time.Since(begun) > batch.Longest }
	return batch.Check(files, o), nil
}
