package bench

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"sync"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/plan"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// growth measures what must not grow with the fleet.
func growth() (err error) {
	ctx := context.Background()
	s, dir, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close(), os.RemoveAll(dir)) }()
	n := fleetSize()
	begin := time.Now()
	if err := loadFleet(ctx, s, n); err != nil {
		return err
	}
	fmt.Printf(
		"\n%d devices with profiles and parcels, put there in %s\n",
		n,
		time.Since(begin).Round(time.Second),
	)
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	if _, err := svc.CheckAll(ctx); err != nil {
		return err
	}
	if err := s.Write(
		ctx,
		func(tx *store.Tx) error { return tx.TouchProfiles(ctx, "rowid <= 5000") },
	); err != nil {
		return err
	}
	begin = time.Now()
	checked, err := svc.CheckAll(ctx)
	if err != nil {
		return err
	}
	in := input(vpn.LinuxDesktop, "1.42")
	memo := secret.NewMemo([]byte("key"), 1000)
	bare := measure(func() {
		subject := check.Planned(in, plan.Make(in), nil)
		subject.Judge = memo.Judge
		check.Run(subject)
	})
	row("check a kept profile again", time.Since(begin)/time.Duration(checked), bare)
	if err := pages(ctx, svc, n); err != nil {
		return err
	}
	if err := foreground(ctx, svc); err != nil {
		return err
	}
	if err := s.Close(); err != nil {
		return err
	}
	return largeStart(ctx, dir)
}

// largeStart times the start on a large store; the baseline is the start on an empty one.
func largeStart(ctx context.Context, dir string) error {
	s, empty, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(empty) }()
	if err := s.Close(); err != nil {
		return err
	}
	var took, baseline []time.Duration
	for range 5 {
		for _, of := range []struct {
			dir  string
			list *[]time.Duration
		}{{dir, &took}, {empty, &baseline}} {
			t, err := startTime(of.dir)
			if err != nil {
				return err
			}
			*of.list = append(*of.list, t)
		}
	}
	slices.Sort(took)
	slices.Sort(baseline)
	row("start on the large store", took[2], baseline[2])
	return nil
}

// pages times a page of 50 rows of lists at their worst; the baseline reads as many rows by key.
func pages(ctx context.Context, svc *service.Service, n int) error {
	one, err := svc.Devices.List(ctx, store.Query{Limit: 1, Search: "Device"})
	if err != nil {
		return err
	}
	gateways, err := svc.Gateways.List(ctx, store.Query{Limit: 1})
	if err != nil {
		return err
	}
	key := 50 * measure(func() { _, err = svc.Devices.Get(ctx, one.Items[0].ID) })
	by := func(pairs ...string) map[string]string {
		m := map[string]string{}
		for i := 0; i < len(pairs); i += 2 {
			m[pairs[i]] = pairs[i+1]
		}
		return m
	}
	gateway := gateways.Items[0].ID
	var faults error
	show := func(work string, do func() error) {
		row(work, measure(func() { faults = errors.Join(faults, do()) }), key)
	}
	for _, q := range []struct {
		work  string
		query store.Query
	}{
		{"first page", store.Query{Limit: 50}},
		{"last page", store.Query{Limit: 50, Offset: n - 50}},
		{"middle page", store.Query{Limit: 50, Offset: n / 2}},
		{"by person", store.Query{Limit: 50, Sort: "person"}},
		{"of a platform", store.Query{Limit: 50, Conditions: by("platform", "ios")}},
		{"of a group", store.Query{Limit: 50, Conditions: by("group", "crew")}},
		{"search, one hit", store.Query{Limit: 50, Search: fmt.Sprintf("%06d", n/2)}},
		{"search, a tenth", store.Query{Limit: 50, Search: "Moreau"}},
		{"search, all", store.Query{Limit: 50, Search: "device"}},
		{"search, none", store.Query{Limit: 50, Search: "nothing here"}},
	} {
		show(
			"devices: "+q.work,
			func() error { _, err := svc.Devices.List(ctx, q.query); return err },
		)
	}
	for _, q := range []struct {
		work  string
		query store.Query
	}{
		{"first page", store.Query{Limit: 50}},
		{"last page by gateway", store.Query{Limit: 50, Offset: n - 50, Sort: "gateway"}},
		{"of a gateway", store.Query{Limit: 50, Conditions: by("gateway_id", gateway)}},
		{"of a group", store.Query{Limit: 50, Conditions: by("group", "pilots")}},
		{"of a rule", store.Query{Limit: 50, Conditions: by("rule", "password-weak")}},
		{"worst first", store.Query{Limit: 50, Sort: "worst"}},
		{"search, a tenth", store.Query{Limit: 50, Search: "Lindqvist"}},
		{"search, none", store.Query{Limit: 50, Search: "nothing here"}},
	} {
		show(
			"profiles: "+q.work,
			func() error { _, err := svc.Profiles.List(ctx, q.query); return err },
		)
	}
	for _, q := range []struct {
		work  string
		query store.Query
	}{
		{"first page", store.Query{Limit: 50}},
		{"warnings", store.Query{Limit: 50, Conditions: by("severity", "warning")}},
		{"of a gateway", store.Query{Limit: 50, Conditions: by("gateway_id", gateway)}},
		{"by device, last page", store.Query{Limit: 50, Sort: "-device"}},
		{"search, a tenth", store.Query{Limit: 50, Search: "Okafor"}},
		{"search, none", store.Query{Limit: 50, Search: "nothing here"}},
	} {
		show("findings: "+q.work, func() error { _, err := svc.Findings(ctx, q.query); return err })
	}
	side, ready, err := sideBySide(ctx, svc)
	if err != nil {
		return err
	}
	row("8 searches side by side, the slowest", side, key)
	row("  whether it is ready meanwhile, the slowest", ready, key)
	show("people of a group", func() error {
		_, err := svc.People.List(ctx, store.Query{Limit: 50, Conditions: by("group", "crew")})
		return err
	})
	show("overview", func() error { _, err := svc.Overview(ctx); return err })
	show(
		"findings summed up by rule",
		func() error { _, err := svc.FindingSums(ctx, "rule", 7); return err },
	)
	show("handovers summed up", func() error { _, err := svc.SumHandovers(ctx); return err })
	return errors.Join(err, faults)
}

// sideBySide has several search at once, again and again, and asks meanwhile whether the service is
// ready.
func sideBySide(
	ctx context.Context,
	svc *service.Service,
) (search, ready time.Duration, err error) {
	var mu sync.Mutex
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 5 {
				begin := time.Now()
				_, fault := svc.Findings(ctx, store.Query{Limit: 50, Search: "Okafor"})
				mu.Lock()
				search, err = max(search, time.Since(begin)), errors.Join(err, fault)
				mu.Unlock()
			}
		})
	}
	for range 20 {
		begin := time.Now()
		fault := svc.Ready(ctx)
		mu.Lock()
		ready, err = max(ready, time.Since(begin)), errors.Join(err, fault)
		mu.Unlock()
		time.Sleep(time.Millisecond)
	}
	all.Wait()
	return search, ready, err
}

// foreground times what operators change while long work goes on; the baseline is the same on an
// idle service.
func foreground(ctx context.Context, svc *service.Service) error {
	ctx = service.As(ctx, "harbourmaster")
	people, err := svc.People.List(ctx, store.Query{Limit: 200})
	if err != nil {
		return err
	}
	turn := 0
	change := func() (time.Duration, error) {
		turn++
		svc.Called()
		begin := time.Now()
		_, err := svc.People.Change(
			ctx,
			people.Items[turn%len(people.Items)].ID,
			0,
			func(p *vpn.Person) (*vpn.Person, error) {
				p.Mail = fmt.Sprintf("m%06d@skerryline.example", turn)
				return p, nil
			},
			func(string) bool { return true },
		)
		return time.Since(begin), err
	}
	look := func(of int, until <-chan struct{}) (list []time.Duration, err error) {
		for range of {
			took, err := change()
			if err != nil {
				return nil, err
			}
			list = append(list, took)
			select {
			case <-until:
				return list, nil
			case <-time.After(5 * time.Millisecond):
			}
		}
		return list, nil
	}
	idle, err := look(400, nil)
	if err != nil {
		return err
	}
	work, stop := context.WithCancel(ctx)
	defer stop()
	go svc.Recheck(work)
	median, late := quantiles(idle)
	row("change of a person, idle: p99 to the median", late, median)
	pattern, err := svc.Patterns.Add(
		ctx,
		&vpn.Pattern{Name: "Everybody", Gateways: vpn.ChooseNearest, Groups: []string{"office"}},
	)
	if err != nil {
		return err
	}
	authority, err := renewable(ctx, svc)
	if err != nil {
		return err
	}
	for _, of := range []struct {
		work  string
		begin func() (api.Job, error)
	}{
		{"a roll-out", func() (api.Job, error) { return svc.RollOut(ctx, pattern.ID) }},
		{"a group handover", func() (api.Job, error) {
			return svc.HandOverGroup(ctx, "pilots", api.HandoverRequest{Link: check.ByOperator})
		}},
		{"a renewal of certificates", func() (api.Job, error) {
			return svc.Renew(ctx, authority, -1)
		}},
		{"an import of a table", func() (api.Job, error) {
			shown, err := svc.ShowImport(ctx, "people.csv", peopleTable(), service.Table{})
			if err != nil {
				return api.Job{}, err
			}
			return svc.MakeImport(ctx, shown.ID)
		}},
	} {
		j, err := of.begin()
		if err != nil {
			return err
		}
		ended := make(chan struct{})
		var fault error
		go func() { defer close(ended); fault = svc.WorkAll(work) }()
		busy, err := look(600, ended)
		if err != nil {
			return err
		}
		if _, err := svc.Cancel(ctx, j.ID); err != nil {
			return err
		}
		<-ended
		if fault != nil {
			return fault
		}
		m, l := quantiles(busy)
		row(fmt.Sprintf("  during %s: median of %d", of.work, len(busy)), m, median)
		row(fmt.Sprintf("  during %s: p99", of.work), l, late)
	}
	return nil
}

// renewable issues certificates, of which phones have RSA keys.
func renewable(ctx context.Context, svc *service.Service) (authority string, err error) {
	made, err := svc.MakeAuthority(ctx, api.NewAuthority{Name: "Bench"})
	if err != nil {
		return "", err
	}
	devices, err := svc.Devices.List(ctx, store.Query{Limit: 60})
	if err != nil {
		return "", err
	}
	for _, d := range devices.Items {
		if _, err := svc.IssueToDevice(ctx, d.ID, made[0].ID, nil, 0); err != nil {
			return "", err
		}
	}
	return made[0].ID, nil
}

// quantiles are the median and the 99th percentile.
func quantiles(list []time.Duration) (median, late time.Duration) {
	slices.Sort(list)
	return list[len(list)/2], list[len(list)*99/100]
}
