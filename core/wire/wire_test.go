package wire_test

import (
	"testing"

	"wardicon/core/wire"
)

// TestWindow lets packets come late, twice, and far ahead.
func TestWindow(t *testing.T) {
	var w wire.Window
	for i, step := range []struct {
		number uint32
		new    bool
	}{
		{0, false}, {1, true}, {1, false}, {3, true}, {2, true}, {2, false}, {70, true}, {7, true},
		{6, false}, {7, false}, {69, true}, {4_000_000_000, true}, {70, false},
		{4_294_967_295, true}, {4_294_967_295, false}, {4_294_967_232, true},
		{4_294_967_231, false},
	} {
		if got := w.Take(step.number); got != step.new {
			t.Errorf("%d, packet %d: new is %t", i, step.number, got)
		}
	}
}
