package service

import (
	"context"
	"fmt"
	"time"

	"wardicon/api"
	"wardicon/core/filecheck"
	"wardicon/core/platform"
	"wardicon/core/vpn"
	"wardicon/store"
)

// CheckFiles looks at files from anywhere, beside the gateways on record. Nothing of them
// is kept.
func (s *Service) CheckFiles(
	ctx context.Context,
	files []filecheck.File,
	release string,
) (api.Checked, error) {
	items, err := s.looked(ctx, files, release)
	return api.CheckedItems(items), err
}

// releaseOf reads a platform and its release, such as android 14; nil where nothing is named.
func releaseOf(text string) (*platform.Found, error) {
	if text == "" {
		return nil, nil
	}
	var name, number string
	if _, err := fmt.Sscan(text, &name, &number); err == nil {
		if found, ok := platform.Find(vpn.Platform(name), number); ok {
			return &found, nil
		}
	}
	return nil, problem("check", "/for", fmt.Sprintf("%q", text),
		"a platform and a release, such as android 14", "choose one of the platforms")
}

func (s *Service) looked(
	ctx context.Context,
	files []filecheck.File,
	release string,
) ([]filecheck.Item, error) {
	o := filecheck.Options{Now: s.now(), Judge: s.memo.Judge}
	var err error
	if o.Release, err = releaseOf(release); err != nil {
		return nil, err
	}
	tx := s.store.Read()
	if o.Policy.Severities, err = tx.Severities(ctx); err != nil {
		return nil, err
	}
	if o.Gateways, err = store.Gateways.Where(ctx, tx, "1"); err != nil {
		return nil, err
	}
	o.Compare = comparing(ctx, tx)
	// Each lot may take as much memory as all its files. One operator has one place, so that the
	// other is for others.
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
	o.Over = func() bool { return ctx.Err() != nil || time.Since(begun) > filecheck.Longest }
	return filecheck.Check(files, o), nil
}
