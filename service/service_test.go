package service_test

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf16"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

// clock is a clock that a test turns.
type clock struct {
	mu sync.Mutex
	at time.Time
}

func (c *clock) now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.at
}

func (c *clock) turn(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = c.at.Add(d)
}

func start(t *testing.T) (*service.Service, *store.Store, *clock) {
	t.Helper()
	c := &clock{at: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)}
	s, err := store.Open(t.Context(), t.TempDir(), store.Key{}, c.now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	svc := service.New(s, slog.New(slog.DiscardHandler), c.now)
	svc.ProbeInternal() // simulators for gateways are on this machine
	return svc, s, c
}

var right = secret.New(demo.OwnerPassword)

// TestSessionsEnd lets time pass over a cookie, a token, and one that was signed out.
func TestSessionsEnd(t *testing.T) {
	svc, _, c := start(t)
	ctx := t.Context()
	if err := svc.AddOwner(ctx, "owner", right, ""); err != nil {
		t.Fatal(err)
	}
	bearers := map[string]string{}
	for _, kind := range []string{"cookie", "token", "left"} {
		bearer, session, err := svc.SignIn(
			ctx,
			service.Entry{
				Name:     "Owner",
				Password: right,
				From:     "192.0.2.1",
				Token:    kind == "token",
			},
		)
		if err != nil || session.Operator.Name != "owner" ||
			session.Operator.Role != service.RoleOwner {
			t.Fatal(session, err)
		}
		if len(bearer) < 40 ||
			slices.Contains([]string{bearers["cookie"], bearers["token"]}, bearer) {
			t.Errorf("the bearer %q is short or was given before", bearer)
		}
		bearers[kind] = bearer
	}
	left, err := svc.Session(ctx, bearers["left"], service.Caller{})
	if err != nil {
		t.Fatal(err)
	}
	if err := svc.SignOut(ctx, left); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		after               time.Duration
		cookie, token, left bool
	}{
		{0, true, true, false},
		{11 * time.Hour, true, true, false},
		{2 * time.Hour, false, true, false},
		{88 * 24 * time.Hour, false, true, false},
		{3 * 24 * time.Hour, false, false, false},
	} {
		// somebody works at the console
		for gone := time.Duration(0); gone < test.after; gone += 30 * time.Minute {
			c.turn(30 * time.Minute)
			_, _ = svc.Session(ctx, bearers["cookie"], service.Caller{})
		}
		for kind, want := range map[string]bool{
			"cookie": test.cookie,
			"token":  test.token,
			"left":   test.left,
		} {
			if _, err := svc.Session(
				ctx,
				bearers[kind],
				service.Caller{},
			); (err == nil) != want ||
				err != nil && !errors.Is(err, service.ErrNoSession) {
				t.Errorf("%s at %s: %v, expected open %t", kind, c.now(), err, want)
			}
		}
	}
}

// TestThrottle guesses passwords: after ten the door is shut for a while, for that name
// and for that address, and the right password waits too.
func TestThrottle(t *testing.T) {
	svc, _, c := start(t)
	ctx := t.Context()
	if err := svc.AddOwner(ctx, "owner", right, ""); err != nil {
		t.Fatal(err)
	}
	try := func(name, from string, password secret.Text) error {
		_, _, err := svc.SignIn(ctx, service.Entry{Name: name, Password: password, From: from})
		return err
	}
	var busy *service.BusyError
	for i := range 10 {
		if err := try(
			"owner",
			fmt.Sprintf("192.0.2.%d", i),
			secret.New("wrong"),
		); !errors.Is(
			err,
			service.ErrSignIn,
		) {
			t.Fatalf("guess %d: %v", i, err)
		}
	}
	if err := try(
		"OWNER",
		"192.0.2.99",
		right,
	); !errors.As(err, &busy) || busy.Wait <= 0 ||
		busy.Wait > 6*time.Second {
		t.Errorf("the eleventh try for the name: %v", err)
	}
	for i := range 12 {
		err := try(fmt.Sprintf("nobody %d", i), "198.51.100.1", right)
		if shut := errors.As(err, &busy); shut != (i >= 10) {
			t.Errorf("try %d from one address: %v", i, err)
		}
	}
	c.turn(6 * time.Second)
	if err := try("owner", "192.0.2.99", right); err != nil {
		t.Errorf("after waiting: %v", err)
	}
	page, err := svc.Audit(ctx, store.Query{Search: "sign-in refused", Limit: 100})
	if err != nil || page.Total != 20 {
		t.Errorf("%d refused sign-ins in the audit log, expected 20 (%v)", page.Total, err)
	}
}

// TestOwnerPasswords tries passwords for the owner.
func TestOwnerPasswords(t *testing.T) {
	for password, want := range map[string]string{
		"": "15 to 256", "fourteen chars": "15 to 256", strings.Repeat("x",
			257): "15 to 256", strings.Repeat("a", 20): "or more",
		"qwertyuiopasdfgh": "or more", "wardiconwardiconwardicon": "or more",
		demo.OwnerPassword: "",
		// no rules of composition, and long ones whole
		"velvet anchor pepper rudder quay moss": "", demo.OwnerPassword + strings.Repeat("é%7 Kj",
			36): "",
	} {
		svc, _, _ := start(t)
		err := svc.AddOwner(t.Context(), "owner", secret.New(password), "")
		if want == "" {
			if err != nil {
				t.Errorf("a good password: %v", err)
			}
			continue
		}
		var problems *vpn.Problems
		if !errors.As(err, &problems) || len(problems.List) != 1 ||
			problems.List[0].Pointer != "/password" ||
			!strings.Contains(problems.List[0].Expected, want) {
			t.Errorf("%.20q: %v, expected %q at the password", password, err, want)
		} else if len(
			password,
		) > 10 &&
			strings.Contains(err.Error(), password) {
			t.Error("the error tells the password")
		}
	}
}

// TestAudit does everything once and looks whether each entry stands in the log, with
// who did it.
func TestAudit(t *testing.T) {
	svc, _, _ := start(t)
	if err := demo.Load(t.Context(), svc); err != nil {
		t.Fatal(err)
	}
	ctx := service.As(t.Context(), "harbourmaster")
	person, err := svc.People.Add(ctx, &vpn.Person{Name: "Nils"})
	if err != nil {
		t.Fatal(err)
	}
	rename := func(p *vpn.Person) (*vpn.Person, error) { p.Name = "Nils Berg"; return p, nil }
	if _, err := svc.People.Change(
		ctx,
		person.ID,
		0,
		rename,
		func(string) bool { return true },
	); err != nil {
		t.Fatal(err)
	}
	if err := svc.People.Remove(ctx, person.ID); err != nil {
		t.Fatal(err)
	}
	profiles, err := svc.Profiles.List(ctx, store.Query{Search: "Engine laptop 2", Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	id := profiles.Items[0].ID
	parcel, err := svc.Build(ctx, id, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.ParcelFile(ctx, parcel.ID, parcel.Files[0].Name); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Preview(ctx, id, false, false); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Preview(ctx, id, false, true); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.SetOrganisation(
		ctx,
		vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example"},
	); err != nil {
		t.Fatal(err)
	}
	page, err := svc.Audit(ctx, store.Query{Limit: 7})
	if err != nil {
		t.Fatal(err)
	}
	var entries []string
	for _, d := range slices.Backward(page.Items) {
		entries = append(entries, d.Action+" "+d.Noun)
		if d.Operator != "harbourmaster" || d.At.IsZero() {
			t.Errorf("%+v tells not who or when", d)
		}
	}
	want := "add person, change person, remove person, build parcel, fetch parcel, reveal " +
		"profile, change organisation"
	if got := strings.Join(entries, ", "); got != want {
		t.Errorf("the log says %s, expected %s", got, want)
	}
}

// TestFailedChange lets the edit of a change fail: nothing is changed and nothing said.
func TestFailedChange(t *testing.T) {
	svc, _, _ := start(t)
	ctx := t.Context()
	person, err := svc.People.Add(ctx, &vpn.Person{Name: "Nils", Groups: []string{"deck"}})
	if err != nil {
		t.Fatal(err)
	}
	failed := errors.New("failed")
	for name, edit := range map[string]func(*vpn.Person) (*vpn.Person, error){
		"the edit fails": func(p *vpn.Person) (*vpn.Person, error) {
			p.Name = "Eve"
			return nil,
				failed
		},
		"it is not valid": func(p *vpn.Person) (*vpn.Person, error) { p.Name = ""; return p, nil },
		"another identity": func(p *vpn.Person) (*vpn.Person, error) {
			p.ID, p.Mail = "pe-other",
				"x"
			return p, nil
		},
	} {
		if _, err := svc.People.Change(
			ctx,
			person.ID,
			0,
			edit,
			func(string) bool { return true },
		); err == nil {
			t.Errorf("%s: it was changed", name)
		}
	}
	var conflict *store.ConflictError
	same := func(p *vpn.Person) (*vpn.Person, error) { return p, nil }
	if _, err := svc.People.Change(
		ctx,
		person.ID,
		7,
		same,
		func(string) bool { return true },
	); !errors.As(err, &conflict) || conflict.Found != 1 ||
		conflict.Want != 7 {
		t.Errorf("a change to a version that never was: %v", err)
	}
	now, err := svc.People.Get(ctx, person.ID)
	if err != nil || now.Name != "Nils" || now.Version != 1 {
		t.Errorf("it is %+v (%v)", now, err)
	}
	if page, err := svc.Audit(ctx, store.Query{Limit: 9}); err != nil || page.Total != 1 {
		t.Errorf("%d lines in the audit log, expected that of adding (%v)", page.Total, err)
	}
}

// TestTry plans without keeping anything, and refuses what cannot be planned.
func TestTry(t *testing.T) {
	svc, _, _ := start(t)
	ctx := t.Context()
	if err := demo.Load(ctx, svc); err != nil {
		t.Fatal(err)
	}
	before, err := svc.Overview(ctx)
	if err != nil {
		t.Fatal(err)
	}
	profiles, err := svc.Profiles.List(ctx, store.Query{Search: "Bridge tablet 2", Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	p := vpn.Profile{
		DeviceID:    profiles.Items[0].DeviceID,
		GatewayID:   profiles.Items[0].GatewayID,
		Preferences: vpn.Preferences{Tunnel: vpn.TunnelSplit},
	}
	planned, err := svc.Try(ctx, p)
	if err != nil || planned.Connection.Tunnel != vpn.TunnelSplit || planned.Tally.Warnings != 1 ||
		planned.Connection.Password.Reveal() != secret.Hidden {
		t.Errorf("%+v (%v)", planned, err)
	}
	var problems *vpn.Problems
	for pointer, change := range map[string]func(*vpn.Profile){
		"/device_id":              func(p *vpn.Profile) { p.DeviceID = "de-x" },
		"/gateway_id":             func(p *vpn.Profile) { p.GatewayID = "gw-x" },
		"/preferences/tunnel":     func(p *vpn.Profile) { p.Preferences.Tunnel = "half" },
		"/preferences/account_id": func(p *vpn.Profile) { p.Preferences.AccountID = "ac-x" },
	} {
		wrong := p
		change(&wrong)
		if _, err := svc.Try(
			ctx,
			wrong,
		); !errors.As(err, &problems) ||
			problems.List[0].Pointer != pointer {
			t.Errorf("%s: %v", pointer, err)
		}
	}
	if after, err := svc.Overview(ctx); err != nil || after.Counts != before.Counts {
		t.Errorf("something was kept: %+v (%v)", after.Counts, err)
	}
}

// TestUnfitParcel plants a value that the device's file cannot carry: the parcel is
// refused with a finding, and the card can still be built.
func TestUnfitParcel(t *testing.T) {
	svc, s, _ := start(t)
	ctx := t.Context()
	if err := demo.Load(ctx, svc); err != nil {
		t.Fatal(err)
	}
	page, err := svc.Profiles.List(ctx, store.Query{Search: "Purser laptop 3", Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	id := page.Items[0].ID
	gateway, err := store.Gateways.Get(ctx, s.Read(), page.Items[0].GatewayID)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Accounts.List(ctx, store.Query{Limit: 1}); err != nil {
		t.Fatal(err)
	}
	accounts, err := svc.Accounts.List(
		ctx,
		store.Query{Conditions: map[string]string{"login": "l_sund"}, Limit: 1},
	)
	if err != nil {
		t.Fatal(err)
	}
	long := func(a *vpn.Account) (*vpn.Account, error) {
		a.Login = strings.Repeat("ä",
			240)
		return a, nil
	}
	if _, err := svc.Accounts.Change(
		ctx,
		accounts.Items[0].ID,
		0,
		long,
		func(string) bool { return true },
	); err != nil {
		t.Fatal(err)
	}
	var blocked *service.BlockedError
	if _, err := svc.Build(
		ctx,
		id,
		false,
	); !errors.As(err, &blocked) || len(blocked.Findings) != 1 ||
		blocked.Findings[0].Rule != "format-unfit" ||
		blocked.Findings[0].Field != vpn.FieldLogin {
		t.Errorf(
			"built with a login of %d characters for %s: %v",
			240+len(gateway.SignIn.Realm),
			gateway.Name,
			err,
		)
	}
	parcel, err := svc.Build(ctx, id, true)
	if err != nil || !parcel.ByHand ||
		len(parcel.Files) != 5 { // three of the card, the list of digests and its signature
		t.Errorf("the card: %d files (%v)", len(parcel.Files), err)
	}
	list, err := svc.Parcels(ctx, id)
	if err != nil || len(list) != 1 || list[0].Outdated {
		t.Errorf("%+v (%v)", list, err)
	}
	var shown []api.ShownFile
	if shown, err = svc.Preview(
		ctx,
		id,
		true,
		false,
	); err != nil || len(shown) != 2 ||
		strings.Contains(shown[1].Text, "halyard") {
		t.Errorf("%d files shown (%v)", len(shown), err)
	}
}

// TestPreviewHides looks for every secret on record in the masked previews of all profiles.
func TestPreviewHides(t *testing.T) {
	svc, kept, _ := start(t)
	ctx := t.Context()
	if err := demo.Load(ctx, svc); err != nil {
		t.Fatal(err)
	}
	var secrets []string
	add := func(v *secret.Text) {
		if v != nil && !v.IsZero() {
			secrets = append(secrets, v.Reveal(),
				base64.StdEncoding.EncodeToString([]byte(v.Reveal())), string(utf16le(v.Reveal())))
		}
	}
	accounts, err := store.Accounts.Where(ctx, kept.Read(), "1")
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range accounts {
		if a.Password == nil || a.Password.Reveal() != a.Login { // a fault of the sample data
			add(a.Password)
		}
	}
	gateways, err := store.Gateways.Where(ctx, kept.Read(), "1")
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range gateways {
		if g.Offers.L2TP != nil {
			add(g.Offers.L2TP.PSK)
		}
		if g.Offers.TLS != nil && g.Offers.TLS.ControlKey != nil {
			add(g.Offers.TLS.ControlKey.Key)
		}
	}
	profiles, err := svc.Profiles.List(ctx, store.Query{Limit: 100})
	if err != nil || len(secrets) < 20 {
		t.Fatal(len(secrets), err)
	}
	files := 0
	for _, p := range profiles.Items {
		for _, byHand := range []bool{false, true} {
			shown, err := svc.Preview(ctx, p.ID, byHand, false)
			var blocked *service.BlockedError
			if err != nil && !errors.As(err, &blocked) {
				t.Error(p.Device, err)
			}
			for _, f := range shown {
				files++
				for _, s := range secrets {
					if strings.Contains(f.Text, s) || bytes.Contains(f.Content, []byte(s)) {
						t.Errorf("%s of %s shows a secret", f.Name, p.Device)
					}
				}
			}
		}
	}
	if files < 100 {
		t.Errorf("only %d files", files)
	}
}

func utf16le(v string) (b []byte) {
	for _, u := range utf16.Encode([]rune(v)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}
