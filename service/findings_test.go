package service_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// crew is a small fleet with what its tests change.
type crew struct {
	*service.Service
	t                       *testing.T
	clock                   *clock
	store                   *store.Store
	north, south            string // gateways
	ada, bo                 string // people
	adas, bos               string // accounts
	laptop, phone           string // devices of Ada and of Bo
	profile, second, others string // Ada to North, Ada to South, Bo to North
}

func words(v string) *secret.Text { t := secret.New(v); return &t }

func crewed(t *testing.T) *crew {
	t.Helper()
	svc, kept, clock := start(t)
	c := &crew{Service: svc, t: t, clock: clock, store: kept}
	ctx := t.Context()
	id := func(v string, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	gateway := func(name, psk string) string {
		g, err := svc.Gateways.Add(ctx, &vpn.Gateway{
			Name:      name,
			Address:   strings.ToLower(name) + ".skerryline.example",
			Addresses: []string{"198.51.100.7"},
			DNS:       []string{"10.20.0.53"},
			Routes:    []string{"10.20.0.0/16"},
			SignIn:    vpn.SignIn{Form: vpn.LoginPlain},
			Offers: vpn.Offers{
				L2TP: &vpn.L2TPOffer{
					PSK: words(psk),
					PPP: []suite.PPPMethod{suite.MSCHAPv2},
					IKE: []string{"aes256-sha256-modp2048"},
					ESP: []string{"aes256-sha256-modp2048"},
				},
			},
		})
		return id(g.ID, err)
	}
	person := func(name string) string {
		p, err := svc.People.Add(ctx,
			&vpn.Person{Name: name})
		return id(p.ID, err)
	}
	account := func(person, login, password string) string {
		a, err := svc.Accounts.Add(
			ctx,
			&vpn.Account{PersonID: person, Login: login, Password: words(password)},
		)
		return id(a.ID, err)
	}
	device := func(name, person string) string {
		d, err := svc.Devices.Add(
			ctx,
			&vpn.Device{
				Name:      name,
				PersonID:  person,
				Platform:  vpn.LinuxDesktop,
				Release:   "1.42",
				Encrypted: true,
			},
		)
		return id(d.ID, err)
	}
	profile := func(device, gateway string) string {
		p, err := svc.Profiles.Add(ctx, &vpn.Profile{DeviceID: device, GatewayID: gateway})
		return id(p.ID, err)
	}
	c.north, c.south = gateway(
		"North",
		"kelp-4497-Harbor-mizzen-93-osprey",
	), gateway(
		"South",
		"wick-7310-Lantern-brig-58-dunlin",
	)
	c.ada, c.bo = person("Ada Fjell"), person("Bo Holm")
	c.adas, c.bos = account(
		c.ada,
		"a_fjell",
		"tern-88-Gannet-orbit-luff",
	), account(
		c.bo,
		"b_holm",
		"brine-93-Kettle-thwart-sole",
	)
	c.laptop, c.phone = device("Ada's laptop", c.ada), device("Bo's laptop", c.bo)
	c.profile, c.second, c.others = profile(
		c.laptop,
		c.north,
	), profile(
		c.laptop,
		c.south,
	), profile(
		c.phone,
		c.north,
	)
	return c
}

// found checks what is due and lists the rules that find something on a profile, but for
// those that the fleet of the tests has from the start.
func (c *crew) found(profile string) string {
	c.t.Helper()
	if err := c.Pass(c.t.Context()); err != nil {
		c.t.Fatal(err)
	}
	if _, err := c.CheckAll(c.t.Context()); err != nil {
		c.t.Fatal(err)
	}
	page, err := c.Findings(
		c.t.Context(),
		store.Query{Limit: 100, Conditions: map[string]string{"profile_id": profile}},
	)
	if err != nil {
		c.t.Fatal(err)
	}
	var list []string
	for _, f := range page.Items {
		if f.Rule != "routes-shared" && f.Rule != "hard-to-type" {
			list = append(list, f.Rule)
		}
	}
	slices.Sort(list)
	return strings.Join(slices.Compact(list), " ")
}

func (c *crew) set(what string, err error) {
	c.t.Helper()
	if err != nil {
		c.t.Fatalf("%s: %v", what, err)
	}
}

// TestReuse changes secrets and looks at everybody else: reuse shows on both sides, and is
// gone on both when one of them changes.
func TestReuse(t *testing.T) {
	c := crewed(t)
	ctx := t.Context()
	password := func(account, v string) {
		t.Helper()
		_, err := c.Accounts.Change(
			ctx,
			account,
			0,
			func(a *vpn.Account) (*vpn.Account, error) { a.Password = words(v); return a, nil },
			func(string) bool { return false },
		)
		c.set("password", err)
	}
	psk := func(gateway, v string) {
		t.Helper()
		_, err := c.Gateways.Change(
			ctx,
			gateway,
			0,
			func(g *vpn.Gateway) (*vpn.Gateway, error) {
				g.Offers.L2TP.PSK = words(v)
				return g,
					nil
			},
			func(string) bool { return false },
		)
		c.set("key", err)
	}
	expect := func(when, ada, south, bo string) {
		t.Helper()
		for profile, want := range map[string]string{
			c.profile: ada,
			c.second:  south,
			c.others:  bo,
		} {
			if got := c.found(profile); got != want {
				t.Errorf("%s: %s has %q, expected %q", when, profile, got, want)
			}
		}
	}
	expect("at first", "", "", "")
	password(c.bos, "tern-88-Gannet-orbit-luff")
	expect("Bo has Ada's password", "password-reused", "password-reused", "password-reused")
	password(c.adas, "other-41-Scupper-keel-plover")
	expect("Ada has another", "", "", "")
	psk(c.south, "kelp-4497-Harbor-mizzen-93-osprey")
	expect("one key at two gateways", "psk-reused", "psk-reused", "psk-reused")
	psk(c.south, "tern-88-Gannet-orbit-luff")
	expect("South's key is Bo's password", "", "psk-is-others-password", "")
	psk(c.south, "anchor-47-Sextant-petrel-61-cuddy")
	spare, err := c.Accounts.Add(
		ctx,
		&vpn.Account{
			PersonID:   c.ada,
			Login:      "ada.spare",
			Password:   words("other-41-Scupper-keel-plover"),
			GatewayIDs: []string{c.south},
		},
	)
	c.set("second account", err)
	expect("Ada's own second account", "", "", "")
	_, err = c.Accounts.Change(
		ctx,
		spare.ID,
		0,
		func(a *vpn.Account) (*vpn.Account,
			error) {
			a.Login = "B_HOLM"
			a.GatewayIDs = nil
			return a, nil
		},
		func(f string) bool { return f == "password" },
	)
	c.set("alike", err)
	if got := c.found(c.others); got != "login-capitals" {
		t.Errorf("a login that differs in capitals: %q", got)
	}
}

// TestOverride lets an error pass for a time, over its end and back before it, and refuses
// what is no good reason.
func TestOverride(t *testing.T) {
	c := crewed(t)
	ctx := t.Context()
	_, err := c.Accounts.Change(
		ctx,
		c.adas,
		0,
		func(a *vpn.Account) (*vpn.Account, error) { a.Login = "a_fjell "; return a, nil },
		func(f string) bool { return f == "password" },
	)
	c.set("login", err)
	tally := func(profile string) vpn.Tally {
		t.Helper()
		c.found(profile)
		p, err := c.Profiles.Get(ctx, profile)
		c.set("profile", err)
		return p.Tally
	}
	if n := tally(c.profile); n.Errors != 1 {
		t.Fatalf("%+v, expected an error", n)
	}
	week := c.clock.now().AddDate(0, 0, 7)
	var refused *vpn.Problems
	for name, try := range map[string]func() error{
		"no reason": func() error {
			_, err := c.Override(ctx,
				c.profile, "edge-space", " ", week)
			return err
		},
		"two lines": func() error {
			_, err := c.Override(ctx,
				c.profile, "edge-space", "a\nb", week)
			return err
		},
		"ended": func() error {
			_, err := c.Override(ctx,
				c.profile, "edge-space", "x", c.clock.now())
			return err
		},
		"two years": func() error {
			_, err := c.Override(ctx, c.profile, "edge-space", "x", week.AddDate(2, 0, 0))
			return err
		},
		"nothing is found": func() error {
			_, err := c.Override(ctx,
				c.profile, "psk-short", "x", week)
			return err
		},
		"only a warning": func() error {
			_, err := c.Override(ctx,
				c.second, "routes-shared", "x", week)
			return err
		},
	} {
		if err := try(); !errors.As(err, &refused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	var none *store.NotFoundError
	if _, err := c.Override(ctx, c.profile, "no-rule", "x", week); !errors.As(err, &none) {
		t.Errorf("no such rule: %v", err)
	}
	if err := c.EndOverride(ctx, c.profile, "edge-space"); !errors.As(err, &none) {
		t.Errorf("nothing to take back: %v", err)
	}
	_, err = c.Override(
		service.As(ctx, "owner"),
		c.profile,
		"edge-space",
		"as at the gateway",
		week,
	)
	c.set("override", err)
	if n := tally(c.profile); n.Errors != 0 {
		t.Errorf("%+v although it may pass", n)
	}
	if n := tally(c.second); n.Errors != 1 {
		t.Errorf("%+v on another profile, where it may not", n)
	}
	planned, err := c.Plan(ctx, c.profile)
	c.set("plan", err)
	i := slices.IndexFunc(
		planned.Findings,
		func(f check.Finding) bool { return f.Rule == "edge-space" },
	)
	if i < 0 || planned.Findings[i].Override == nil ||
		planned.Findings[i].Override.Operator != "owner" ||
		planned.Findings[i].Override.Reason != "as at the gateway" {
		t.Errorf("the plan does not say why it passes: %+v", planned.Findings)
	}
	c.clock.turn(8 * 24 * time.Hour)
	if n := tally(c.profile); n.Errors != 1 {
		t.Errorf("%+v after the end", n)
	}
	_, err = c.Override(ctx, c.profile, "edge-space", "once more", c.clock.now().AddDate(0, 0, 7))
	c.set("again", err)
	c.set("back", c.EndOverride(ctx, c.profile, "edge-space"))
	if n := tally(c.profile); n.Errors != 1 {
		t.Errorf("%+v after it was taken back", n)
	}
	entries, err := c.Audit(ctx, store.Query{Limit: 100})
	c.set("audit", err)
	var said []string
	for _, d := range entries.Items {
		if strings.Contains(d.Action, "override") {
			said = append(said, d.Action)
		}
	}
	if strings.Join(said, " ") != "end override override override" {
		t.Errorf("the audit says %q", said)
	}
}

// TestSeverity sets severities for the fleet and counts again.
func TestSeverity(t *testing.T) {
	c := crewed(t)
	ctx := t.Context()
	total := func() (t vpn.Tally) {
		for _, p := range []string{c.profile, c.second, c.others} {
			c.found(p)
			row, err := c.Profiles.Get(ctx, p)
			c.set("profile", err)
			t.Errors, t.Warnings, t.Notes =
				t.Errors+row.Tally.Errors, t.Warnings+row.Tally.Warnings, t.Notes+row.Tally.Notes
		}
		return t
	}
	if n := total(); n != (vpn.Tally{Warnings: 2}) { // the routes of North and South are one
		t.Fatalf("%+v", n)
	}
	for _, test := range []struct {
		severity vpn.Severity
		want     vpn.Tally
	}{
		{vpn.Error, vpn.Tally{Errors: 2}},
		{vpn.Note, vpn.Tally{Notes: 2}},
		{check.Off, vpn.Tally{}},
		{"", vpn.Tally{Warnings: 2}},
		{vpn.Warning, vpn.Tally{Warnings: 2}},
	} {
		rule, err := c.SetSeverity(ctx, "routes-shared", test.severity)
		c.set("severity", err)
		if n := total(); n != test.want ||
			rule.Set != test.severity && test.severity != vpn.Warning {
			t.Errorf("set to %q: %+v and %q, expected %+v", test.severity, n, rule.Set, test.want)
		}
	}
	var refused *vpn.Problems
	if _, err := c.SetSeverity(ctx, "routes-shared", "loud"); !errors.As(err, &refused) {
		t.Errorf("%v", err)
	}
}

// TestWorkOverTime lets findings come and go over weeks, and fixes them.
func TestWorkOverTime(t *testing.T) {
	c := crewed(t)
	ctx := t.Context()
	sum := func(by, key string, days int) api.FindingSum {
		t.Helper()
		c.found(c.profile)
		list, err := c.FindingSums(ctx, by, days)
		c.set("sums", err)
		for _, s := range list {
			if s.Key == key {
				return s
			}
		}
		return api.FindingSum{}
	}
	c.found(c.profile)
	c.clock.turn(10 * 24 * time.Hour)
	route := func(v string) {
		t.Helper()
		_, err := c.Gateways.Change(
			ctx,
			c.north,
			0,
			func(g *vpn.Gateway) (*vpn.Gateway, error) { g.Routes = []string{v}; return g, nil },
			func(string) bool { return true },
		)
		c.set("routes", err)
	}
	route("10.20.3.4/16")
	if s := sum(
		"rule",
		"route-host-bits",
		7,
	); s.Profiles != 2 || s.New != 2 || s.Fixable != 2 || s.Ended != 0 ||
		s.Title == "" {
		t.Errorf("at first: %+v", s)
	}
	if s := sum("rule", "routes-shared", 7); s.New != 0 || s.Profiles != 2 {
		t.Errorf("what is older is not new: %+v", s)
	}
	if s := sum("gateway", c.north, 7); s.Title != "North" || s.New != 2 {
		t.Errorf("by gateway: %+v", s)
	}
	if s := sum("person", c.bo, 7); s.Title != "Bo Holm" || s.Profiles != 1 {
		t.Errorf("by person: %+v", s)
	}
	c.clock.turn(8 * 24 * time.Hour)
	if s := sum("rule", "route-host-bits", 7); s.New != 0 || s.Tally.Warnings != 2 {
		t.Errorf("a week later: %+v", s)
	}
	fixes, err := c.Fixes(ctx, "route-host-bits", 10)
	if err != nil || fixes.Total != 2 || len(fixes.Items) != 1 ||
		fixes.Items[0] != (api.Fix{
			Noun:    "gateway",
			Object:  c.north,
			Name:    "North",
			Pointer: "/routes",
			From:    "10.20.3.4/16",
			To:      "10.20.0.0/16",
		}) {
		t.Errorf("fixes: %+v (%v)", fixes, err)
	}
	j, err := c.FixAll(ctx, "route-host-bits")
	c.set("fix", err)
	c.set("work", c.WorkAll(ctx))
	if j, err = c.Job(
		ctx,
		j.ID,
	); err != nil || j.State != api.Done || j.Result["fixed"] != 1 ||
		j.Done != 2 {
		t.Errorf("the job: %+v (%v)", j, err)
	}
	if s := sum("rule", "route-host-bits", 7); s.Ended != 2 || s.Tally != (vpn.Tally{}) {
		t.Errorf("fixed: %+v", s)
	}
	g, err := c.Gateways.Get(ctx, c.north)
	if err != nil || strings.Join(g.Routes, " ") != "10.20.0.0/16" || !g.Offers.L2TP.PSKSet {
		t.Errorf("the gateway has %v (%v)", g.Routes, err)
	}
	c.clock.turn(8 * 24 * time.Hour)
	if s := sum("rule", "route-host-bits", 7); s.Ended != 0 {
		t.Errorf("another week later: %+v", s)
	}
	if s := sum("rule", "route-host-bits", 30); s.Ended != 2 {
		t.Errorf("looking back a month: %+v", s)
	}
	c.clock.turn(100 * 24 * time.Hour)
	if s := sum("rule", "route-host-bits", 365); s.Ended != 0 {
		t.Errorf("what is gone for long is forgotten: %+v", s)
	}

	var none *store.NotFoundError
	if _, err := c.FixAll(ctx, "no-rule"); !errors.As(err, &none) {
		t.Errorf("%v", err)
	}
	if _, err := c.FindingSums(ctx, "colour", 7); err == nil {
		t.Error("summed by colour")
	}
}

// TestOutdated builds a parcel and changes what it was built from.
func TestOutdated(t *testing.T) {
	c := crewed(t)
	ctx := t.Context()
	_, err := c.Build(ctx, c.profile, false)
	c.set("build", err)
	if got := c.found(c.profile); got != "" {
		t.Errorf("right after it was built: %q", got)
	}
	note := func(change func(*vpn.Gateway)) {
		t.Helper()
		_, err := c.Gateways.Change(
			ctx,
			c.north,
			0,
			func(g *vpn.Gateway) (*vpn.Gateway, error) { change(g); return g, nil },
			func(string) bool { return true },
		)
		c.set("gateway", err)
	}
	note(func(g *vpn.Gateway) { g.Note = "moved to the other rack" })
	if got := c.found(c.profile); got != "" {
		t.Errorf("after a change that is in no parcel: %q", got)
	}
	note(func(g *vpn.Gateway) { g.DNS = []string{"10.20.0.54"} })
	if got := c.found(c.profile); got != "parcel-outdated" {
		t.Errorf("after another DNS server: %q", got)
	}
	_, err = c.Build(ctx, c.profile, false)
	c.set("build again", err)
	if got := c.found(c.profile); got != "" {
		t.Errorf("built again: %q", got)
	}
}

// TestImport imports what a file says: shown first, then kept, then known; and what the
// records refuse leaves nothing behind.
func TestImport(t *testing.T) {
	c := crewed(t)
	ctx := t.Context()
	file := func(gateway, login, more string) []filecheck.File {
		return []filecheck.File{
			{
				Name:  "east.ovpn",
				Asked: true,
				Data: []byte(
					"client\nremote " + gateway + " 1194\nremote-cert-tls server\ndata-ciphers " +
						"AES-256-GCM\nsetenv FRIENDLY_NAME \"East\"\n<auth-user-pass>\n" + login +
						"\ntern-11-Oakum-reef-fathom\n</auth-user-pass>\n" + more,
				),
			},
		}
	}
	bring := func(files []filecheck.File, person string, keep bool) string {
		t.Helper()
		got, err := c.Import(ctx, files, api.ImportFor{PersonID: person, Keep: keep})
		c.set("import", err)
		if got.Kept != keep {
			t.Errorf("kept is %t", got.Kept)
		}
		var list []string
		for _, f := range got.Items {
			list = append(list, f.State+" "+f.Noun+" "+f.Name)
			if strings.Contains(f.Detail, "tern-11") {
				t.Error("a secret is shown")
			}
		}
		return strings.Join(list, ", ")
	}
	count := func() (int, int) {
		g, err := c.Gateways.List(ctx, store.Query{Limit: 1})
		c.set("gateways", err)
		a, err := c.Accounts.List(ctx, store.Query{Limit: 1})
		c.set("accounts", err)
		return g.Total, a.Total
	}
	east := file("east.skerryline.example", "ada.east", "")
	if got := bring(east, c.ada, false); got != "new gateway East, new account ada.east" {
		t.Errorf("shown: %s", got)
	}
	if g, a := count(); g != 2 || a != 2 {
		t.Errorf("only shown, and there are %d gateways and %d accounts", g, a)
	}
	if got := bring(east, "", true); got != "new gateway East" {
		t.Errorf("kept without a person: %s", got)
	}
	if got := bring(east, c.ada, true); got != "same gateway East, new account ada.east" {
		t.Errorf("kept for Ada: %s", got)
	}
	if got := bring(east, c.ada, true); got != "same gateway East, same account ada.east" {
		t.Errorf("once more: %s", got)
	}
	if got := bring(
		file("NORTH.skerryline.example", "a_fjell", ""),
		"",
		true,
	); got != "changed gateway North" {
		t.Errorf("another offer: %s", got)
	}
	g, err := c.Gateways.Get(ctx, c.north)
	if err != nil || g.Offers.TLS == nil || g.Offers.L2TP == nil || !g.Offers.L2TP.PSKSet {
		t.Errorf("North offers %+v (%v)", g.Offers, err)
	}
	before, accounts := count()
	var refused *vpn.Problems
	if _, err := c.Import(
		ctx,
		append(file("west.skerryline.example", "x", ""), file("http://west", "x", "")...),
		api.ImportFor{PersonID: c.ada, Keep: true},
	); !errors.As(
		err,
		&refused,
	) {
		t.Errorf("a gateway with a blank in its name: %v", err)
	}
	if _, err := c.Import(
		ctx,
		file("west.skerryline.example", "x", ""),
		api.ImportFor{PersonID: "pe-x", Keep: true},
	); !errors.As(
		err,
		&refused,
	) {
		t.Errorf("a person that is not there: %v", err)
	}
	if g, a := count(); g != before || a != accounts {
		t.Errorf("something of what was refused was kept: %d gateways, %d accounts", g, a)
	}
}
