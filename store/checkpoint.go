package store

import (
	"context"
	"os"
	"time"
)

// When the log of changes is written back into the database: beside whoever writes, and not by
// them.
const (
	checkpointTick = 250 * time.Millisecond
	smallLog       = 4 << 20   // bytes that wait for more
	hugeLog        = 256 << 20 // bytes at which writers wait until it is written back whole
)

// LeaveLog leaves it to somebody else who is at work on the database to write the log back: a
// mirror must have read it before.
func (s *Store) LeaveLog() { s.left.Store(true) }

// checkpoints writes the log back until the context ends.
func (s *Store) checkpoints(ctx context.Context) {
	clock := time.NewTicker(checkpointTick)
	defer clock.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-clock.C:
		}
		if s.left.Load() {
			continue
		}
		info, err := os.Stat(s.path + "-wal")
		if err != nil || info.Size() < smallLog {
			continue
		}
		if info.Size() > hugeLog {
			s.writeBack(ctx)
			continue
		}
		// What fails here is tried again; whoever writes meets a fault of the disk by itself.
		_, _ = s.behind.ExecContext(ctx, `PRAGMA wal_checkpoint(PASSIVE)`)
	}
}

// writeBack empties the log while nobody writes.
func (s *Store) writeBack(ctx context.Context) {
	select {
	case s.writer.turn <- struct{}{}:
	case <-ctx.Done():
		return
	}
	defer func() { <-s.writer.turn }()
	_, _ = s.writer.lane.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`)
}
