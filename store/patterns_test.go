package store_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/core/vpn"
	"wardicon/store"
)

// TestClass holds which devices a pattern is for, counted, by page and after a cursor.
func TestClass(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	known := small(t, s)
	ctx, tx := t.Context(), s.Read()
	name := func(list []string) string {
		var names []string
		for _, id := range list {
			for n, known := range known {
				if known == id {
					names = append(names, strings.TrimPrefix(n, "Device "))
				}
			}
		}
		return strings.Join(names, " ")
	}
	for _, test := range []struct {
		pattern vpn.Pattern
		want    string
	}{
		{vpn.Pattern{}, "0 1 2 3 4"},
		{vpn.Pattern{Groups: []string{"deck"}}, "0 1 2"},
		{vpn.Pattern{Groups: []string{"bridge"}}, "0 1"},
		{vpn.Pattern{Groups: []string{"bridge", "deck"}}, "0 1 2"}, // a person of both counts once
		{vpn.Pattern{Groups: []string{"Deck"}}, ""},
		{vpn.Pattern{Groups: []string{"' OR 1=1 --"}}, ""},
		{vpn.Pattern{Platforms: []vpn.Platform{vpn.IOS}}, "0 2 4"},
		{vpn.Pattern{Platforms: []vpn.Platform{vpn.IOS, vpn.Android}}, "0 2 3 4"},
		{vpn.Pattern{Groups: []string{"deck"}, Platforms: []vpn.Platform{vpn.IOS}}, "0 2"},
	} {
		n, err := tx.CountClass(ctx, test.pattern)
		if err != nil {
			t.Fatal(err)
		}
		page, err := tx.ClassPage(ctx, test.pattern, 100, 0)
		if err != nil {
			t.Fatal(err)
		}
		if got := name(page); got != test.want || n != len(page) {
			t.Errorf(
				"%v %v: %q and a count of %d, expected %q",
				test.pattern.Groups,
				test.pattern.Platforms,
				got,
				n,
				test.want,
			)
		}
		if second, err := tx.ClassPage(
			ctx,
			test.pattern,
			2,
			1,
		); err != nil ||
			len(page) > 2 && (len(second) != 2 || second[0] != page[1]) {
			t.Errorf("the page from the second on is %v, %v", second, err)
		}
		var walked []string
		for after := ""; ; after = walked[len(walked)-1] {
			part, err := tx.Class(ctx, test.pattern, after, 2)
			if err != nil {
				t.Fatal(err)
			}
			if walked = append(walked, part...); len(part) < 2 {
				break
			}
		}
		seen := map[string]bool{}
		for _, id := range walked {
			seen[id] = true
		}
		if len(walked) != n || len(seen) != n {
			t.Errorf(
				"by cursor there are %d, %d of them different, expected %d",
				len(walked),
				len(seen),
				n,
			)
		}
	}
}

// TestJobRecords keeps jobs through their states.
func TestJobRecords(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	ctx := t.Context()
	var jobs []api.Job
	for i := range 3 {
		j := api.Job{
			Kind:     "roll-out",
			Subject:  fmt.Sprint("pa-", i),
			Title:    "Crew",
			Operator: "ada",
			Total:    10,
			Result:   map[string]int{},
		}
		if err := s.Write(ctx, func(tx *store.Tx) error { return tx.AddJob(ctx, &j) }); err != nil {
			t.Fatal(err)
		}
		jobs = append(jobs, j)
	}
	put := func(j api.Job) bool {
		t.Helper()
		var going bool
		if err := s.Write(
			ctx,
			func(tx *store.Tx) (err error) { going, err = tx.PutJob(ctx, &j); return err },
		); err != nil {
			t.Fatal(err)
		}
		return going
	}
	first := jobs[0]
	first.Done, first.Cursor, first.Result = 5, "de-5", map[string]int{"made": 4, "unchanged": 1}
	if !put(first) {
		t.Error("a job that runs counts as ended")
	}
	kept, err := s.Read().Job(ctx, first.ID)
	if err != nil || kept.Done != 5 || kept.Cursor != "de-5" || kept.Result["made"] != 4 ||
		kept.State != api.Running {
		t.Errorf("kept as %+v, %v", kept, err)
	}
	first.State = api.Cancelled
	if !put(first) {
		t.Error("a job that runs could not be cancelled")
	}
	first.State, first.Done = api.Done, 10
	if put(first) {
		t.Error("a cancelled job went on")
	}
	if kept, _ := s.Read().Job(ctx, first.ID); kept.State != api.Cancelled || kept.Done != 5 {
		t.Errorf("a cancelled job changed: %+v", kept)
	}
	page, err := store.Jobs.List(ctx, s.Read(), store.Query{Limit: 10})
	if err != nil || len(page.Items) != 3 || page.Total != 3 {
		t.Errorf("%d of %d, %v", len(page.Items), page.Total, err)
	}
	if page, err = store.Jobs.List(
		ctx,
		s.Read(),
		store.Query{Limit: 10, Conditions: map[string]string{"kind": "fix"}},
	); err != nil || len(page.Items) != 0 ||
		page.Total != 0 {
		t.Errorf("%d of %d of a kind that there is none of, %v", len(page.Items), page.Total, err)
	}
	for kind, want := range map[string]int{"roll-out": 2, "probe": 0} {
		if list, err := s.Read().RunningJobs(ctx, "fix", kind); err != nil || len(list) != want {
			t.Errorf("%d jobs of the kind %s run, expected %d (%v)", len(list), kind, want, err)
		}
	}
	var missing *store.NotFoundError
	if _, err := s.Read().Job(ctx, "jo-x"); !errors.As(err, &missing) {
		t.Errorf("a job that is not there: %v", err)
	}
	// A transaction that fails leaves nothing.
	lost := api.Job{Kind: "roll-out"}
	failed := errors.New("no")
	if err := s.Write(ctx, func(tx *store.Tx) error {
		if err := tx.AddJob(ctx, &lost); err != nil {
			return err
		}
		return failed
	}); !errors.Is(err, failed) {
		t.Errorf("%v", err)
	}
	if _, err := s.Read().Job(context.Background(), lost.ID); !errors.As(err, &missing) {
		t.Errorf("a job of a transaction that failed is there: %v", err)
	}
}
