package demo_test

import (
	"log/slog"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

// TestLived holds that the sample service shows what each page is for, and that nothing of it is of
// a time to come.
func TestLived(t *testing.T) {
	var clock demo.Clock
	ctx := t.Context()
	st, err := store.Open(ctx, t.TempDir(), store.Key{}, clock.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = st.Close() })
	svc := service.New(st, slog.New(slog.DiscardHandler), clock.Now)
	begin := time.Now()
	if _, err := demo.Lived(ctx, svc, st, &clock); err != nil {
		t.Fatal(err)
	}
	t.Logf("made in %s", time.Since(begin).Round(time.Millisecond))
	sums, err := svc.SumHandovers(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range sums {
		want := s.State == api.HandoverMade || s.State == api.HandoverOpened ||
			s.State == api.HandoverFetched || s.State == api.HandoverConnected ||
			s.State == api.HandoverRecalled
		if want && s.Count == 0 {
			t.Errorf("no handover is %s", s.State)
		}
	}
	running, err := svc.Switchovers.List(ctx, store.Query{
		Limit: 10, Conditions: map[string]string{"active": "true"},
	})
	if err != nil || len(running.Items) != 1 || running.Items[0].Moved == 0 ||
		running.Items[0].Moved >= running.Items[0].Touched {
		t.Fatalf("under way are %+v (%v)", running.Items, err)
	}
	board, err := svc.SwitchoverBoard(ctx, running.Items[0].ID)
	if err != nil || len(board.Days) < 3 {
		t.Errorf("its days are %+v (%v)", board.Days, err)
	}
	if late, err := svc.ClockBehind(ctx); err != nil || !late.IsZero() {
		t.Errorf("something is of a time to come: %v, %v", late, err)
	}
	for name, n := range map[string]func() (int, error){
		"reports": func() (int, error) {
			page, err := svc.Reports(ctx, store.Query{Limit: 1})
			return page.Total, err
		},
		"rehearsals": func() (int, error) {
			page, err := store.Rehearsals.List(ctx, st.Read(), store.Query{
				Limit: 1, Conditions: map[string]string{"state": "failed"},
			})
			return page.Total, err
		},
		"probes": func() (int, error) {
			page, err := store.Probes.List(ctx, st.Read(), store.Query{
				Limit: 1, Conditions: map[string]string{"state": "no-response"},
			})
			return page.Total, err
		},
	} {
		if count, err := n(); err != nil || count == 0 {
			t.Errorf("%s: %d (%v)", name, count, err)
		}
	}
}
