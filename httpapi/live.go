package httpapi

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"wardicon/api"
)

// livePause is what changes are gathered for, so that a busy service does not keep pages busy.
const livePause = 300 * time.Millisecond

// live are the changes as they happen, as server-sent events. A connection ends after the time that
// a request may take; whoever listens connects again, and is asked for a session that still holds.
func (a *handlers) live() {
	op := operation(http.MethodGet, "/changes", "watch-changes",
		"Be told which kinds of records change, as server-sent events", "session")
	op.DefaultStatus = http.StatusOK
	sse.Register(a.huma, op, map[string]any{"change": api.Changes{}},
		func(ctx context.Context, _ *none, send sse.Sender) {
			w, ok := a.svc.Watch()
			if !ok {
				return
			}
			defer w.End()
			// The first one says that the connection stands.
			for topics := []string{}; ; {
				slices.Sort(topics)
				if err := send(sse.Message{
					Data: api.Changes{Topics: topics}, Retry: 2000,
				}); err != nil {
					return
				}
				if topics = w.Next(ctx, livePause); len(topics) == 0 {
					// The time for writing has passed long ago; one more event renews it, so that
					// the answer ends as it should.
					_ = send(sse.Message{Data: api.Changes{Topics: []string{}}, Retry: 2000})
					return
				}
			}
		})
}
