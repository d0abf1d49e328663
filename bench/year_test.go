package bench

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/drift"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// shares of the fleet that something happens to in a month, one in so many.
const (
	yearJoin     = 1000 // people who come, and as many who go
	yearHandOver = 200
	yearIssued   = 100 // devices with certificates, which last 60 days
)

// year lets a large fleet live through a year by the clock, and says by month how large the database is,
// how much memory is held and how slow the slowest of a hundred lists is; the baseline is the first month.
func year() (err error) {
	n := fleetSize()
	dir, err := os.MkdirTemp("", "wardicon-bench-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	y := &yearly{n: n, dir: dir}
	ctx := service.As(context.Background(), "harbourmaster")
	if y.s, err = store.Open(ctx, dir, store.Key{}, y.now); err != nil {
		return err
	}
	y.svc = service.New(y.s, slog.New(slog.DiscardHandler), y.now)
	if err := y.begin(ctx); err != nil {
		return err
	}
	fmt.Printf("%-8s %9s %9s %9s %8s %10s\n", "month", "MB", "memory", "p99", "ratio", "work")
	for month := range 12 {
		begun := time.Now()
		if err := y.live(ctx, month); err != nil {
			return fmt.Errorf("month %d: %w", month+1, err)
		}
		if err := y.tell(ctx, month, time.Since(begun)); err != nil {
			return err
		}
	}
	if p, err := y.svc.VerifyAudit(ctx, ""); err != nil || !p.Sound {
		return fmt.Errorf("the audit log is not sound: %w", err)
	}
	if err := y.s.Close(); err != nil {
		return err
	}
	return largeStart(ctx, dir)
}

type yearly struct {
	n, joined int
	dir       string
	s         *store.Store
	svc       *service.Service
	ahead     atomic.Int64
	authority string
	gateways  []api.Gateway
	first     time.Duration
}

func (y *yearly) now() time.Time { return time.Now().Add(time.Duration(y.ahead.Load())) }

// begin fills the store, gives some devices certificates, and checks all.
func (y *yearly) begin(ctx context.Context) error {
	begun := time.Now()
	if err := y.svc.AddOwner(ctx, "harbourmaster", secret.New(consolePassword),
		"https://connect.skerryline.example"); err != nil {
		return err
	}
	o, err := y.svc.Organisation(ctx)
	if err != nil {
		return err
	}
	o.Name, o.KeepParcels, o.ProbeEvery = "Skerry Line", 30, 0
	_, err = y.svc.SetOrganisation(ctx, o)
	if err := errors.Join(err, loadFleet(ctx, y.s, y.n)); err != nil {
		return err
	}
	made, err := y.svc.MakeAuthority(ctx, api.NewAuthority{Name: "Skerry Line Authority"})
	if err != nil {
		return err
	}
	y.authority = made[0].ID
	if _, err := y.svc.Authorities.Change(ctx, y.authority, 0,
		func(a *vpn.Authority) (*vpn.Authority, error) {
			a.DeviceDays, a.RenewDays = 60, 20
			return a, nil
		}, func(string) bool { return true }); err != nil {
		return err
	}
	devices, err := store.Devices.Where(ctx, y.s.Read(), "id IN (SELECT id FROM devices WHERE "+
		"platform = 'windows' ORDER BY name LIMIT ?)", y.n/yearIssued)
	if err != nil {
		return err
	}
	for _, d := range devices {
		if _, err := y.svc.IssueToDevice(ctx, d.ID, y.authority, nil, 0); err != nil {
			return err
		}
	}
	page, err := y.svc.Gateways.List(ctx, store.Query{Limit: 100})
	if err != nil {
		return err
	}
	y.gateways = page.Items
	_, err = y.svc.CheckAll(ctx)
	fmt.Printf("\n%d devices, put there and checked in %s\n", y.n, time.Since(begun).Round(time.Second))
	return err
}

// live lets 30 days pass.
func (y *yearly) live(ctx context.Context, month int) error {
	for day := range 30 {
		y.ahead.Store(int64(month*30+day+1) * int64(24*time.Hour))
		if err := y.probes(ctx); err != nil {
			return err
		}
		if day%7 != 6 {
			continue
		}
		if err := y.svc.Pass(ctx); err != nil {
			return err
		}
		if err := y.svc.WorkAll(ctx); err != nil {
			return err
		}
	}
	if err := errors.Join(y.people(ctx), y.handovers(ctx, month)); err != nil {
		return err
	}
	if month%3 == 1 {
		if err := y.switchover(ctx, month); err != nil {
			return err
		}
	}
	_, err := y.svc.CheckAll(ctx)
	return err
}

// probes of every gateway, twice a day.
func (y *yearly) probes(ctx context.Context) error {
	return y.s.Write(ctx, func(tx *store.Tx) error {
		for _, g := range y.gateways {
			for half := range 2 {
				p := drift.Probe{
					GatewayID: g.ID, Gateway: g.Name, By: service.Schedule,
					At: y.now().Add(-time.Duration(half) * 12 * time.Hour).UTC(), Names: []drift.Resolved{},
					Differences: []drift.Difference{},
					Answers: []drift.Answer{{
						Protocol: vpn.IKEv2, Method: drift.MethodIKEv2, Transport: vpn.UDP, Port: 500,
						Address: "198.51.100.7:500", State: drift.Answered, Packets: 1, Notes: []string{},
						Milliseconds: 20,
					}},
				}
				if err := tx.AddProbe(ctx, &p); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// people come with a device, and others go.
func (y *yearly) people(ctx context.Context) error {
	for range max(1, y.n/yearJoin) {
		i := y.n + y.joined
		if err := y.s.Write(ctx, func(tx *store.Tx) error {
			return loadDevice(ctx, tx, i, y.gateways[i%len(y.gateways)].ID)
		}); err != nil {
			return err
		}
		gone, err := y.svc.People.List(ctx, store.Query{Limit: 1, Search: fmt.Sprintf("p%05d@", y.joined)})
		if err != nil || len(gone.Items) == 0 {
			return fmt.Errorf("nobody is number %d (%w)", y.joined, err)
		}
		y.joined++
		if _, err := y.svc.Offboard(ctx, "person", gone.Items[0].ID, vpn.Left); err != nil {
			return err
		}
	}
	return nil
}

// handovers of parcels that are built anew; those that an error keeps from it stay.
func (y *yearly) handovers(ctx context.Context, month int) error {
	many := max(1, y.n/yearHandOver)
	page := 200
	for done := 0; done < many; {
		list, err := y.svc.Profiles.List(ctx, store.Query{
			Limit: min(page, many-done), Offset: (month*many + done) % (y.n - page),
		})
		if err != nil {
			return err
		}
		for _, p := range list.Items {
			done++
			var blocked *service.BlockedError
			if _, err := y.svc.Build(ctx, p.ID, false); errors.As(err, &blocked) {
				continue
			} else if err != nil {
				return err
			}
			if _, err := y.svc.MakeHandover(ctx, p.ID, api.HandoverRequest{
				Link: check.ByOperator, Passcode: check.ByOperator,
			}); err != nil && !errors.As(err, &blocked) {
				return err
			}
		}
	}
	return nil
}

// switchover moves the profiles of one gateway to another pre-shared key.
func (y *yearly) switchover(ctx context.Context, month int) error {
	psk := secret.New("capstan-31-Meridian-" + strconv.Itoa(month) + "-bulwark-flint")
	w := vpn.Switchover{
		Name: "New key " + strconv.Itoa(month), Kind: vpn.SwitchPSK, GatewayID: y.gateways[month].ID,
		Next: vpn.NextValue{PSK: &psk},
	}
	if _, err := y.svc.Switchovers.Add(ctx, &w); err != nil {
		return err
	}
	for _, step := range []func() error{
		func() error { _, err := y.svc.Survey(ctx, w.ID); return err },
		func() error { return y.svc.WorkAll(ctx) },
		func() error { _, err := y.svc.Switch(ctx, w.ID, service.PhaseStart, 0, false); return err },
		func() error { return y.svc.WorkAll(ctx) },
		func() error {
			board, err := y.svc.SwitchoverBoard(ctx, w.ID)
			if err != nil {
				return err
			}
			_, err = y.svc.Switch(ctx, w.ID, service.PhaseCutOff, board.Holders, false)
			return err
		},
	} {
		if err := step(); err != nil {
			return fmt.Errorf("switchover: %w", err)
		}
	}
	return nil
}

// tell prints how a month has ended.
func (y *yearly) tell(ctx context.Context, month int, work time.Duration) error {
	var lists []time.Duration
	for i := range 100 {
		begun := time.Now()
		var err error
		switch i % 4 {
		case 0:
			_, err = y.svc.Devices.List(ctx, store.Query{Limit: 50, Search: "Tanaka"})
		case 1:
			_, err = y.svc.Profiles.List(ctx, store.Query{Limit: 50, Sort: "worst"})
		case 2:
			_, err = y.svc.Findings(ctx, store.Query{Limit: 50})
		default:
			_, err = y.svc.People.List(ctx, store.Query{Limit: 50, Offset: y.n / 2})
		}
		if err != nil {
			return err
		}
		lists = append(lists, time.Since(begun))
	}
	_, late := quantiles(lists)
	if month == 0 {
		y.first = late
	}
	var size int64
	for _, name := range []string{store.File, store.File + "-wal"} {
		if info, err := os.Stat(filepath.Join(y.dir, name)); err == nil {
			size += info.Size()
		}
	}
	fmt.Printf("%-8d %9.1f %9.1f %9s %8.1f %10s\n", month+1, float64(size)/1e6, held(), late.Round(
		100*time.Microsecond), float64(late)/float64(y.first), work.Round(time.Second))
	return nil
}

// held is the memory of this process, in MB (proc(5)).
func held() float64 {
	data, _ := os.ReadFile("/proc/self/status")
	for line := range strings.Lines(string(data)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(rest), " kB"), 64)
			return kb / 1000
		}
	}
	return 0
}
