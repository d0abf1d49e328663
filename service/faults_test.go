package service_test

import (
	"context"
	"database/sql"
	"errors"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// TestDamage changes a byte in each kind of row on the disk: the service starts, goes on with
// everything else, names what is damaged, and takes what is set again in its place.
func TestDamage(t *testing.T) {
	fresh := secret.New("quay-81-Damson-lantern-grebe")
	for _, test := range []struct {
		name, statement, noun string
		replace               func(ctx context.Context, svc *service.Service, id string) error
	}{
		{"a password", `UPDATE secrets SET sealed = zeroblob(64) WHERE owner = (SELECT 'account:' ||
			id FROM accounts LIMIT 1)`, "account", func(ctx context.Context, svc *service.Service,
			id string) error {
			_, err := svc.Accounts.Change(ctx, id, 0,
				func(a *vpn.Account) (*vpn.Account, error) {
					a.Password = &fresh
					return a,
						nil
				}, func(string) bool { return false })
			return err
		}},
		{"a record", `UPDATE accounts SET body = '{' || body WHERE id = (SELECT id FROM accounts
			LIMIT 1)`, "account", func(ctx context.Context, svc *service.Service, id string) error {
			return svc.Accounts.Remove(ctx, id)
		}},
		{"a file of a parcel",
			`UPDATE secrets SET sealed = zeroblob(64) WHERE owner LIKE
				'parcel:%'`, "", func(ctx context.Context, svc *service.Service, _ string) error {
				page, err := svc.Profiles.List(ctx, store.Query{Limit: 1})
				if err != nil {
					return err
				}
				p, err := svc.Build(ctx, page.Items[0].ID, false)
				if err == nil {
					_, err = svc.ParcelFile(ctx, p.ID, p.Files[0].Name)
				}
				return err
			}},
		{"a secret without a mark",
			`UPDATE secrets SET sealed = zeroblob(64), mark = NULL WHERE owner LIKE
				'account:%'`, "account", nil},
	} {
		t.Run(test.name, func(t *testing.T) {
			c := &clock{at: time.Now()}
			dir := t.TempDir()
			begin := func() (*service.Service, *store.Store) {
				t.Helper()
				s, err := store.Open(t.Context(), dir, store.Key{}, c.now)
				if err != nil {
					t.Fatal(err)
				}
				return service.New(s, slog.New(slog.DiscardHandler), c.now), s
			}
			svc, s := begin()
			ctx := service.As(t.Context(), "issuer")
			laptopCrew(t, svc, 3)
			page, err := svc.Profiles.List(ctx, store.Query{Limit: 1})
			if err != nil {
				t.Fatal(err)
			}
			old, err := svc.Build(ctx, page.Items[0].ID, false)
			if err != nil {
				t.Fatal(err)
			}
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			sqlOn(t, dir, test.statement)
			svc, s = begin()
			t.Cleanup(func() { _ = s.Close() })
			for _, noun := range []func() error{
				func() error {
					_, err := svc.Accounts.List(ctx,
						store.Query{Limit: 50})
					return err
				},
				func() error {
					_, err := svc.Devices.List(ctx,
						store.Query{Limit: 50})
					return err
				},
				func() error { _, err := svc.Overview(ctx); return err },
			} {
				if err := noun(); err != nil {
					t.Errorf("a list: %v", err)
				}
			}
			if _, err := svc.SetOrganisation(
				ctx,
				vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example"},
			); err != nil {
				t.Fatal(err)
			}
			if n, err := svc.CheckAll(ctx); err != nil || n < 3 {
				t.Errorf("%d checked (%v)", n, err)
			}
			found, err := svc.Findings(
				ctx,
				store.Query{Limit: 50, Conditions: map[string]string{"rule": check.CodeDamaged}},
			)
			if err != nil || (len(found.Items) > 0) != (test.noun != "") ||
				len(found.Items) > 0 && found.Items[0].Noun != test.noun {
				t.Errorf("%+v (%v)", found.Items, err)
			}
			var damaged *store.DamagedError
			if _, err := svc.ParcelFile(
				ctx,
				old.ID,
				old.Files[0].Name,
			); test.name == "a file of a parcel" &&
				(!errors.As(err, &damaged) || !strings.Contains(err.Error(), old.ID)) {
				t.Errorf("a damaged file: %v", err)
			}
			j, err := svc.HandOverGroup(ctx, "crew", api.HandoverRequest{Link: check.ByOperator})
			if err != nil {
				t.Fatal(err)
			}
			if err := svc.WorkAll(ctx); err != nil {
				t.Fatal(err)
			}
			if j, err = svc.Job(ctx, j.ID); err != nil || j.State != api.Done || j.Done != 3 {
				t.Errorf("a job beside it: %+v (%v)", j, err)
			}
			if test.replace == nil {
				return
			}
			accounts, err := svc.Accounts.List(ctx, store.Query{Limit: 1})
			if err != nil {
				t.Fatal(err)
			}
			if err := test.replace(ctx, svc, accounts.Items[0].ID); err != nil {
				t.Errorf("set again: %v", err)
			}
			if _, err := svc.CheckAll(ctx); err != nil {
				t.Error(err)
			}
			if found, err := svc.Findings(
				ctx,
				store.Query{Limit: 1, Conditions: map[string]string{"rule": check.CodeDamaged}},
			); err != nil ||
				found.Total != 0 {
				t.Errorf("still damaged: %+v (%v)", found, err)
			}
		})
	}
}

func sqlOn(t *testing.T, dir, statement string) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	if res, err := db.Exec(statement); err != nil {
		t.Fatal(err)
	} else if n, _ := res.RowsAffected(); n == 0 {
		t.Fatal("nothing was changed")
	}
}

// TestLock has another program hold the database while a job runs: what was asked for is refused
// with the reason, the job waits, and goes on by itself once the lock is gone. Nothing is done
// twice.
func TestLock(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s, err := store.Open(t.Context(), dir, store.Key{}, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	ctx, stop := context.WithCancel(service.As(t.Context(), "issuer"))
	defer stop()
	laptopCrew(t, svc, 30)
	other, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = other.Close() }()
	other.SetMaxOpenConns(1)
	j, err := svc.HandOverGroup(ctx, "crew", api.HandoverRequest{Link: check.ByOperator})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Exec(`BEGIN IMMEDIATE`); err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() { defer close(ended); svc.Work(ctx) }()
	var fault *store.FaultError
	_, err = svc.People.Add(ctx, &vpn.Person{Name: "Late"})
	if !errors.As(err, &fault) || fault.Why != vpn.KindLocked ||
		!strings.Contains(err.Error(), dir) {
		t.Errorf("with a lock: %v", err)
	}
	if now, err := svc.Job(ctx, j.ID); err != nil || now.State != api.Running {
		t.Errorf("while locked: %+v (%v)", now, err)
	}
	if err := svc.Ready(ctx); !errors.As(err, &fault) {
		t.Errorf("ready while nothing can be kept: %v", err)
	}
	if _, err := other.Exec(`ROLLBACK`); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(30 * time.Second); j.State != api.Done &&
		time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if j, err = svc.Job(ctx, j.ID); err != nil {
			t.Fatal(err)
		}
	}
	if j.State != api.Done || j.Result["made"] != 30 || j.Done != 30 {
		t.Errorf("after the lock: %+v", j)
	}
	if page, err := svc.Handovers(ctx, store.Query{Limit: 50}); err != nil || page.Total != 30 {
		t.Errorf("%d links (%v)", page.Total, err)
	}
	if err := svc.Ready(ctx); err != nil {
		t.Error(err)
	}
	stop()
	<-ended
}

// TestQueue has many write while a long job runs: each gets its turn in the order of coming, and
// none waits for the job as a whole.
func TestQueue(t *testing.T) {
	_, s, _ := start(t)
	ctx := t.Context()
	hold, begun := make(chan struct{}), make(chan struct{})
	go func() {
		_ = s.Write(ctx, func(*store.Tx) error { close(begun); <-hold; return nil })
	}()
	<-begun
	const n = 40
	order := make(chan int, n)
	for i := range n {
		entered := make(chan struct{})
		go func() {
			close(entered)
			_ = s.Write(ctx, func(*store.Tx) error { order <- i; return nil })
		}()
		<-entered
		time.Sleep(2 * time.Millisecond) // it stands in the queue by now
	}
	cancelled, stop := context.WithCancel(ctx)
	stop()
	if err := s.Write(
		cancelled,
		func(*store.Tx) error { return nil },
	); !errors.Is(
		err,
		context.Canceled,
	) {
		t.Errorf("somebody who went away: %v", err)
	}
	close(hold)
	var got []int
	for range n {
		got = append(got, <-order)
	}
	if !slices.IsSorted(got) {
		t.Errorf("%v", got)
	}
}

// TestClock starts with a clock that is a year behind what was written: it says so.
func TestClock(t *testing.T) {
	svc, _, c := start(t)
	ctx := service.As(t.Context(), "owner")
	if _, err := svc.People.Add(ctx, &vpn.Person{Name: "Ada"}); err != nil {
		t.Fatal(err)
	}
	written := c.now()
	for _, test := range []struct {
		turned time.Duration
		behind bool
	}{
		{0, false},
		{-time.Minute, false},
		{-365 * 24 * time.Hour, true},
		{366 * 24 * time.Hour, false},
	} {
		c.turn(test.turned)
		if last, err := svc.ClockBehind(
			ctx,
		); err != nil || last.IsZero() == test.behind ||
			test.behind && !last.Equal(written) {
			t.Errorf("turned by %s: %s (%v)", test.turned, last, err)
		}
	}
}

// TestLostSubject removes what a job works on before its turn: that job fails with the reason, and
// the next one is done.
func TestLostSubject(t *testing.T) {
	svc, _, _ := start(t)
	ctx := service.As(t.Context(), "issuer")
	pattern, gateways := fleet(t, svc, 2)
	other, err := svc.Patterns.Add(
		ctx,
		&vpn.Pattern{Name: "Gone", Groups: []string{"crew"}, GatewayIDs: gateways[:1]},
	)
	if err != nil {
		t.Fatal(err)
	}
	var jobs []api.Job
	for _, id := range []string{other.ID, pattern} {
		j, err := svc.RollOut(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		jobs = append(jobs, j)
	}
	if err := svc.Patterns.Remove(ctx, other.ID); err != nil {
		t.Fatal(err)
	}
	if err := svc.WorkAll(ctx); err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{api.Failed, api.Done} {
		if j, err := svc.Job(
			ctx,
			jobs[i].ID,
		); err != nil || j.State != want ||
			(j.Problem == "") != (want == api.Done) {
			t.Errorf("%+v (%v)", j, err)
		}
	}
}
