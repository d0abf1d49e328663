package demo_test

import (
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

// lived is a service with the sample data.
func lived(t *testing.T) (*service.Service, *store.Store) {
	t.Helper()
	var clock demo.Clock
	st, err := store.Open(t.Context(), t.TempDir(), store.Key{}, clock.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = st.Close() })
	svc := service.New(st, slog.New(slog.DiscardHandler), clock.Now)
	begin := time.Now()
	if _, err := demo.Lived(t.Context(), svc, st, &clock); err != nil {
		t.Fatal(err)
	}
	t.Logf("made in %s", time.Since(begin).Round(time.Millisecond))
	return svc, st
}

// TestLivedAgain holds that the sample service is the same at each start.
func TestLivedAgain(t *testing.T) {
	numbers := func() string {
		svc, _ := lived(t)
		o, err := svc.Overview(t.Context())
		links, err2 := svc.SumHandovers(t.Context())
		all, err3 := svc.Switchovers.List(t.Context(), store.Query{Limit: 10, Sort: "name"})
		if err := errors.Join(err, err2, err3); err != nil {
			t.Fatal(err)
		}
		text := fmt.Sprintf("%+v\n%+v\n", o.Counts, links)
		for _, w := range all.Items {
			board, err := svc.SwitchoverBoard(t.Context(), w.ID)
			if err != nil {
				t.Fatal(err)
			}
			text += fmt.Sprintf("%s: %+v\n", w.Name, board.Counts)
		}
		return text
	}
	first := numbers()
	for range 2 {
		if again := numbers(); again != first {
			t.Errorf("once\n%sonce\n%s", first, again)
		}
	}
}

// TestLived holds that the sample service shows what each page is for, and that nothing of it is of
// a time to come.
func TestLived(t *testing.T) {
	ctx := t.Context()
	svc, st := lived(t)
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
