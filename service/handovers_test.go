package service_test

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// built is a service with a profile whose parcel is up to date.
func built(t *testing.T) (svc *service.Service, s *store.Store, c *clock, profile string) {
	t.Helper()
	svc, s, c, authority, laptop, _ := certified(t)
	c.turn(time.Since(c.now())) // the database tells the state of a handover by its own clock
	ctx := t.Context()
	if _, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 0); err != nil {
		t.Fatal(err)
	}
	page, err := svc.Profiles.List(
		ctx,
		store.Query{Limit: 1, Conditions: map[string]string{"device_id": laptop}},
	)
	if err != nil {
		t.Fatal(err)
	}
	profile = page.Items[0].ID
	_, err = svc.MakeHandover(ctx, profile, api.HandoverRequest{})
	refusedAt(t, "without a parcel", err, "/profile_id", "without a parcel")
	if _, err := svc.Build(ctx, profile, false); err != nil {
		t.Fatal(err)
	}
	return svc, s, c, profile
}

// TestHandover goes the ways of a link: looked at, opened, fetched, ended, used up, recalled,
// locked.
func TestHandover(t *testing.T) {
	svc, _, c, profile := built(t)
	ctx := service.As(t.Context(), "issuer")
	for _, test := range []struct {
		days, uses int
		pointer    string
	}{{-1, 3, "/days"}, {61, 3, "/days"}, {7, 21, "/uses"}} {
		_, err := svc.MakeHandover(
			ctx,
			profile,
			api.HandoverRequest{Days: &test.days, Uses: &test.uses},
		)
		refusedAt(t, "out of bounds", err, test.pointer, "")
	}
	hand := func(days, uses int) (made api.NewHandover, token string) {
		t.Helper()
		made, err := svc.MakeHandover(ctx, profile, api.HandoverRequest{Days: &days, Uses: &uses})
		if err != nil {
			t.Fatal(err)
		}
		token = strings.TrimPrefix(made.Path, "/h/")
		if len(token) < 32 || len(made.Passcode) < 15 || made.Handover.State != api.HandoverMade {
			t.Fatalf("%+v", made.Handover)
		}
		return made, token
	}
	state := func(id, want string) {
		t.Helper()
		page, err := svc.Handovers(
			ctx,
			store.Query{Limit: 50, Conditions: map[string]string{"state": want}},
		)
		if err != nil {
			t.Fatal(err)
		}
		for _, h := range page.Items {
			if h.ID == id && h.State == want {
				return
			}
		}
		t.Errorf("%s is not %s", id, want)
	}
	open := func(token, passcode string) (string, error) {
		bearer, _, err := svc.OpenLink(t.Context(), token, secret.New(passcode), "192.0.2.9")
		return bearer, err
	}
	visited := func(token, bearer string) (api.Handover, api.Parcel, error) {
		o, err := svc.Visited(t.Context(), token, bearer, "", "")
		return o.Handover, o.Parcel, err
	}
	made, token := hand(2, 2)
	for range 20 { // programs that preview links
		if _, err := svc.Link(ctx, token); err != nil {
			t.Fatal(err)
		}
	}
	state(made.Handover.ID, api.HandoverMade)
	if _, _, err := visited(token, "wi_x"); !errors.Is(err, service.ErrVisit) {
		t.Errorf("without a passcode: %v", err)
	}
	if _, err := open(token, "abcde-fghij-kmnpq"); !errors.Is(err, service.ErrPasscode) {
		t.Errorf("a wrong passcode: %v", err)
	}
	bearer, err := open(token, " "+strings.ToUpper(strings.ReplaceAll(made.Passcode, "-", " "))+" ")
	if err != nil {
		t.Fatalf("the passcode in capitals and with blanks: %v", err)
	}
	state(made.Handover.ID, api.HandoverOpened)
	h, parcel, err := visited(token, bearer)
	if err != nil || h.Uses != 1 || h.Wrong != 1 || len(parcel.Files) == 0 {
		t.Fatalf("%+v (%v)", h, err)
	}
	if _, err := svc.VisitedFile(
		ctx,
		token,
		bearer,
		"other.txt",
	); !errors.Is(
		err,
		service.ErrLink,
	) {
		t.Errorf("a file of another parcel: %v", err)
	}
	if f, err := svc.VisitedFile(
		ctx,
		token,
		bearer,
		parcel.Files[0].Name,
	); err != nil ||
		len(f.Content) == 0 {
		t.Errorf("%v", err)
	}
	state(made.Handover.ID, api.HandoverFetched)
	second, token2 := hand(2, 1)
	if _, _, err := visited(token2, bearer); !errors.Is(err, service.ErrVisit) {
		t.Errorf("opened by what opened another one: %v", err)
	}
	if _, err := open(token2, made.Passcode); !errors.Is(err, service.ErrPasscode) {
		t.Errorf("opened by the passcode of another one: %v", err)
	}
	c.turn(31 * time.Minute)
	if _, _, err := visited(token, bearer); !errors.Is(err, service.ErrVisit) {
		t.Errorf("still open after half an hour: %v", err)
	}
	if _, err := open(token2, second.Passcode); err != nil {
		t.Fatal(err)
	}
	if _, err := open(token2, second.Passcode); !errors.Is(err, service.ErrLink) {
		t.Errorf("opened once too often: %v", err)
	}
	state(second.Handover.ID, api.HandoverUsedUp)

	third, token3 := hand(2, 5)
	bearer, err = open(token3, third.Passcode)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.RecallHandover(ctx, third.Handover.ID); err != nil {
		t.Fatal(err)
	}
	state(third.Handover.ID, api.HandoverRecalled)
	if _, _, err := visited(token3, bearer); err == nil {
		t.Error("a browser that had opened it goes on after it was recalled")
	}
	if _, err := open(token3, third.Passcode); !errors.Is(err, service.ErrLink) {
		t.Errorf("opened after it was recalled: %v", err)
	}
	fourth, token4 := hand(1, 5)
	c.turn(25 * time.Hour)
	for _, token := range []string{token4, "nobody's"} {
		if _, err := open(token, fourth.Passcode); !errors.Is(err, service.ErrLink) {
			t.Errorf("opened after its end, or nobody's: %v", err)
		}
		if _, err := svc.Link(ctx, token); !errors.Is(err, service.ErrLink) {
			t.Errorf("%v", err)
		}
	}
	row, err := svc.Profiles.Get(ctx, profile)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Devices.Change(
		ctx,
		row.DeviceID,
		0,
		func(d *vpn.Device) (*vpn.Device, error) { d.Identity = nil; return d, nil },
		func(string) bool { return false },
	); err != nil {
		t.Fatal(err)
	}
	_, err = svc.MakeHandover(ctx, profile, api.HandoverRequest{})
	refusedAt(t, "a parcel that is out of date", err, "/profile_id", "older than")
}

// TestPasscodeGuessed tries a thousand wrong passcodes side by side: ten are looked at, and the
// right one opens nothing after that.
func TestPasscodeGuessed(t *testing.T) {
	svc, s, _, profile := built(t)
	made, err := svc.MakeHandover(service.As(t.Context(), "issuer"), profile, api.HandoverRequest{})
	if err != nil {
		t.Fatal(err)
	}
	token := strings.TrimPrefix(made.Path, "/h/")
	var looked, closed atomic.Int32
	var guessers sync.WaitGroup
	for n := range 20 {
		guessers.Go(func() {
			for i := range 50 {
				_, _, err := svc.OpenLink(
					t.Context(),
					token,
					secret.New(fmt.Sprintf("guess-%d-%d", n, i)),
					"192.0.2.9",
				)
				switch {
				case errors.Is(err, service.ErrPasscode):
					looked.Add(1)
				case errors.Is(err, service.ErrLink):
					closed.Add(1)
				default:
					t.Errorf("%v", err)
				}
			}
		})
	}
	guessers.Wait()
	if looked.Load() != store.MostWrong || closed.Load() != 1000-store.MostWrong {
		t.Errorf(
			"%d passcodes were looked at and %d not, expected %d",
			looked.Load(),
			closed.Load(),
			store.MostWrong,
		)
	}
	if _, _, err := svc.OpenLink(
		t.Context(),
		token,
		secret.New(made.Passcode),
		"192.0.2.9",
	); !errors.Is(
		err,
		service.ErrLink,
	) {
		t.Errorf("the right one after that: %v", err)
	}
	if h, err := store.Handovers.Row(
		t.Context(),
		s.Read(),
		made.Handover.ID,
	); err != nil || h.State != api.HandoverLocked ||
		h.Uses != 0 {
		t.Errorf("%+v (%v)", h, err)
	}
}

// TestTogether makes and opens many handovers at the same time: none is opened more often than it
// allows.
func TestTogether(t *testing.T) {
	svc, s, _, profile := built(t)
	ctx := service.As(t.Context(), "issuer")
	many, once := 500, 1
	if testing.Short() { // under the race detector, in every run
		many = 150
	}
	var opened, refused atomic.Int32
	var all sync.WaitGroup
	for range 25 {
		all.Go(func() {
			for range many / 25 {
				made, err := svc.MakeHandover(
					ctx,
					profile,
					api.HandoverRequest{Days: &once, Uses: &once},
				)
				if err != nil {
					t.Error(err)
					return
				}
				var tries sync.WaitGroup
				for range 3 {
					tries.Go(func() {
						switch _, _, err := svc.OpenLink(ctx, strings.TrimPrefix(made.Path, "/h/"),
							secret.New(made.Passcode), "192.0.2.9"); {
						case err == nil:
							opened.Add(1)
						case errors.Is(err, service.ErrLink):
							refused.Add(1)
						default:
							t.Error(err)
						}
					})
				}
				tries.Wait()
			}
		})
	}
	all.Wait()
	if opened.Load() != int32(many) || refused.Load() != 2*int32(many) {
		t.Errorf(
			"%d were opened and %d refused, expected %d and %d",
			opened.Load(),
			refused.Load(),
			many,
			2*many,
		)
	}
	page, err := store.Handovers.List(ctx, s.Read(), store.Query{Limit: 500})
	if err != nil || page.Total != many {
		t.Fatalf("%d handovers (%v)", page.Total, err)
	}
	for _, h := range page.Items {
		if h.Uses != 1 || h.Wrong != 0 {
			t.Errorf("%+v", h)
		}
	}
}

// TestSee follows a browser through the gateway: what is new is noted, and what is not is not
// written again.
func TestSee(t *testing.T) {
	svc, s, c, profile := built(t)
	ctx := service.As(t.Context(), "issuer")
	made, err := svc.MakeHandover(ctx, profile, api.HandoverRequest{})
	if err != nil {
		t.Fatal(err)
	}
	row, err := svc.Profiles.Get(ctx, profile)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Gateways.Change(
		ctx,
		row.GatewayID,
		0,
		func(g *vpn.Gateway) (*vpn.Gateway, error) {
			g.Egress = []string{"198.51.100.7"}
			return g,
				nil
		},
		func(string) bool { return true },
	); err != nil {
		t.Fatal(err)
	}
	token := strings.TrimPrefix(made.Path, service.LinkPath)
	bearer, _, err := svc.OpenLink(ctx, token, secret.New(made.Passcode), "192.0.2.9")
	if err != nil {
		t.Fatal(err)
	}
	var last time.Time
	for _, test := range []struct {
		after            time.Duration
		from             string
		right, seen, new bool
	}{
		{0, "192.0.2.9", false, false, false},
		{0, "198.51.100.7", true, true, true},
		{5 * time.Second, "198.51.100.7", true, true, false},
		{2 * time.Minute, "198.51.100.7", true, true, true},
		{0, "192.0.2.9", false, true, false},
	} {
		c.turn(test.after)
		seen, err := svc.See(ctx, token, bearer, test.from)
		if err != nil || seen.Proof.Right != test.right || seen.Proof.Before != "192.0.2.9" ||
			seen.Probe == "" {
			t.Errorf("%+v: %+v (%v)", test, seen, err)
		}
		list, err := svc.SeenConnections(ctx, profile)
		if err != nil || (len(list) == 1) != test.seen ||
			test.seen && list[0].Last.After(last) != test.new {
			t.Errorf("%+v: %+v (%v)", test, list, err)
		}
		if len(list) == 1 {
			last = list[0].Last
		}
	}
	if h, err := store.Handovers.Row(
		ctx,
		s.Read(),
		made.Handover.ID,
	); err != nil ||
		h.State != api.HandoverConnected {
		t.Errorf("%+v (%v)", h, err)
	}
	if _, err := svc.See(ctx, token, "wi_x", "198.51.100.7"); !errors.Is(err, service.ErrVisit) {
		t.Errorf("somebody else: %v", err)
	}
}
