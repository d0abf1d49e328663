package store_test

import (
	"context"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/store"
)

// TestCancelled ends the context of writes at every moment: the writer is never left within a
// transaction.
func TestCancelled(t *testing.T) {
	s, err := store.Open(t.Context(), t.TempDir(), store.Key{}, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	for i := range 400 {
		ctx, stop := context.WithCancel(t.Context())
		go func() {
			time.Sleep(time.Duration(i%40) * 5 * time.Microsecond)
			stop()
		}()
		_ = s.Write(ctx, func(tx *store.Tx) error {
			return tx.Log(ctx, api.AuditEntry{Operator: "test", Action: "test", Noun: "test"})
		})
		_ = s.Snapshot(ctx, func(tx *store.Tx) error { _, err := tx.Organisation(ctx); return err })
		stop()
		if err := s.Write(t.Context(), func(*store.Tx) error { return nil }); err != nil {
			t.Fatalf("after %d: %v", i, err)
		}
		if err := s.Snapshot(t.Context(), func(*store.Tx) error { return nil }); err != nil {
			t.Fatalf("after %d: %v", i, err)
		}
	}
}
