package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"wardicon/api"
	"wardicon/cli"
	"wardicon/client"
	"wardicon/core/drift"
	"wardicon/core/secret"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

// Each test here is an attack that once worked: by an account, a file, patience, or the database
// alone.

// raw sends a request as an attacker writes it.
func (f *fleet) raw(method, path, body string, header ...string) (int, string, http.Header) {
	f.t.Helper()
	req, err := http.NewRequestWithContext(
		f.t.Context(),
		method,
		f.url+"/api/v1"+path,
		strings.NewReader(body),
	)
	if err != nil {
		f.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		f.t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	data, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(data), res.Header
}

// token makes a session of a role, by an operator of its own.
func (f *fleet) as(role string) string {
	f.t.Helper()
	made, err := f.client.AddToken(f.t.Context(), role, role, 1)
	if err != nil {
		f.t.Fatal(err)
	}
	return "Bearer " + made.Bearer
}

// TestAttackOracle asks, as an auditor, whether a text holds a stored secret.
func TestAttackOracle(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	profile := f.profile("Purser laptop 3", "Norrvik")
	auditor := f.as("auditor")
	ask := func(text string) string {
		body, _ := json.Marshal(
			map[string]string{
				"text":       "pppd: MS-CHAP authentication failed " + text,
				"profile_id": profile,
			},
		)
		code, answer, _ := f.raw(
			http.MethodPost,
			"/explanations",
			string(body),
			"Authorization",
			auditor,
		)
		if code != http.StatusOK {
			t.Fatalf("%d %s", code, answer)
		}
		return strings.ReplaceAll(answer, text, "")
	}
	right, wrong := ask(
		"halyard-58-Cormorant-shingle-27-thrift",
	), ask(
		"halyard-58-Cormorant-shingle-27-thrifu",
	)
	if right != wrong {
		t.Errorf("the answer tells a stored secret from another text:\n%s\n%s", right, wrong)
	}
}

// TestAttackLockout demands the second factor of everybody, and then wants to get in again: by
// enrolling, and after that by recovery on the data folder.
func TestAttackLockout(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	o, err := f.client.Organisation(ctx)
	if err != nil {
		t.Fatal(err)
	}
	o.Factors = true
	if _, err := f.client.SetOrganisation(ctx, o); err != nil {
		t.Fatal(err)
	}
	var refused *api.Problem
	if _, err := f.client.Overview(
		ctx,
	); !errors.As(err, &refused) ||
		!strings.Contains(refused.Detail, "second factor") {
		t.Fatalf("without a factor it goes on: %v", err)
	}
	enrol := func(c *client.Client) string {
		t.Helper()
		factor, err := c.OfferFactor(ctx)
		if err != nil {
			t.Fatalf("who must enrol is refused: %v", err)
		}
		code, err := totp.GenerateCode(factor.Key, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		if err := c.ConfirmFactor(ctx, code); err != nil {
			t.Fatal(err)
		}
		return factor.Key
	}
	enrol(f.client)
	if _, err := f.client.Overview(ctx); err != nil {
		t.Errorf("with a factor it does not go on: %v", err)
	}
	// The phone is lost: whoever has the data folder gets in.
	made, err := f.svc.RecoverOperator(ctx, demo.OwnerName)
	if err != nil {
		t.Fatal(err)
	}
	again := client.New(f.url, "")
	password := made.Password
	again.Prove = func(bool) (secret.Text, error) { return secret.New(password), nil }
	if _, err := again.SignIn(ctx, demo.OwnerName, secret.New(password)); err != nil {
		t.Fatal(err)
	}
	const chosen = "anchor-velvet-52-pepper-rudder"
	if err := again.ChangePassword(ctx, secret.New(password), secret.New(chosen)); err != nil {
		t.Fatal(err)
	}
	password = chosen
	enrol(again)
	if _, err := again.Overview(ctx); err != nil {
		t.Errorf("after recovery: %v", err)
	}
}

// TestAttackMemory signs in 64 times at once, and holds memory, and that who is known gets in
// meanwhile.
func TestAttackMemory(t *testing.T) {
	f := start(t, true) // not beside others: memory is measured
	ctx := t.Context()
	known := client.New(f.url, "")
	if _, err := known.SignIn(ctx, demo.OwnerName, secret.New(demo.OwnerPassword)); err != nil {
		t.Fatal(err)
	}
	runtime.GC()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	var most atomic.Uint64
	stop := make(chan struct{})
	go func() {
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most.Store(max(most.Load(), m.HeapInuse))
			select {
			case <-stop:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	}()
	var all sync.WaitGroup
	var answered atomic.Int64
	begin := make(chan struct{})
	for i := range 64 {
		all.Go(func() {
			<-begin
			defer answered.Add(1)
			body := fmt.Sprintf(
				`{"name":"nobody %d","password":"wrong wrong wrong %d","kind":"token"}`,
				i,
				i,
			)
			req, _ := http.NewRequestWithContext(
				ctx,
				http.MethodPost,
				f.url+"/api/v1/session",
				strings.NewReader(body),
			)
			req.Header.Set("Content-Type", "application/json")
			if res, err := http.DefaultClient.Do(req); err == nil {
				_ = res.Body.Close()
				if res.StatusCode != http.StatusUnauthorized &&
					res.StatusCode != http.StatusTooManyRequests {
					t.Errorf("answered with %d", res.StatusCode)
				}
			}
		})
	}
	close(begin)
	time.Sleep(50 * time.Millisecond)
	begun := time.Now()
	if _, err := known.SignIn(ctx, demo.OwnerName, secret.New(demo.OwnerPassword)); err != nil {
		t.Errorf("the right password from a known device: %v", err)
	}
	took, before64 := time.Since(begun), answered.Load()
	all.Wait()
	close(stop)
	grown := (most.Load() - min(before.HeapInuse, most.Load())) >> 20
	t.Logf(
		"64 sign-ins at once: %d MB more at the most; a known device is in after %s",
		grown,
		took.Round(time.Millisecond),
	)
	if grown > 400 || before64 == 64 {
		t.Errorf("%d MB, and %d others were answered before the known device", grown, before64)
	}
}

// TestAttackThrottle tries to get new allowances by bringing many keys, and to keep an owner out by
// trying elsewhere.
func TestAttackThrottle(t *testing.T) {
	t.Parallel()
	// The clock stands still: nothing is given back meanwhile, however slow the machine is.
	at := time.Now()
	f := startBy(t, func() time.Time { return at }, true, trusting)
	ctx := t.Context()
	try := func(name, password, from string, device ...string) int {
		body, _ := json.Marshal(
			map[string]string{
				"name":     name,
				"password": password,
				"kind":     "token",
				"device":   strings.Join(device, ""),
			},
		)
		code, _, _ := f.raw(http.MethodPost, "/session", string(body), "X-Forwarded-For", from)
		return code
	}
	// One host of IPv6 has 2^64 addresses.
	busy := 0
	for i := range 30 {
		if try(
			"nobody",
			"wrong wrong wrong",
			fmt.Sprintf("2001:db8:7:1::%x", i+1),
		) == http.StatusTooManyRequests {
			busy++
		}
	}
	if let := 30 - busy; let != 10 {
		t.Errorf("%d of 30 tries from one /64 were let through, expected 10", let)
	}
	// The owner is tried from sixty addresses; who has signed in before gets in, by the mark and by
	// a token.
	known := client.New(f.url, "")
	if _, err := known.SignIn(ctx, demo.OwnerName, secret.New(demo.OwnerPassword)); err != nil {
		t.Fatal(err)
	}
	for i := range 60 {
		try(demo.OwnerName, "wrong wrong wrong", fmt.Sprintf("192.0.2.%d", i+1))
	}
	if code := try(
		demo.OwnerName,
		demo.OwnerPassword,
		"198.51.100.9",
	); code != http.StatusTooManyRequests {
		t.Errorf("an unknown device: %d, expected that it has to wait", code)
	}
	for range 5 {
		if code := try(
			demo.OwnerName,
			demo.OwnerPassword,
			"198.51.100.9",
			known.Device,
		); code != http.StatusOK {
			t.Errorf("the right password from a known device: %d", code)
		}
	}
	if code := try(
		"somebody else",
		demo.OwnerPassword,
		"198.51.100.10",
		known.Device,
	); code == http.StatusOK {
		t.Error("a mark opens another name")
	}
	if _, err := f.client.Overview(ctx); err != nil {
		t.Errorf("a token in use: %v", err)
	}
}

// TestAttackStolenSession has nothing but the cookie, and wants to stay.
func TestAttackStolenSession(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	body := fmt.Sprintf(
		`{"name":%q,"password":%q,"kind":"cookie"}`,
		demo.OwnerName,
		demo.OwnerPassword,
	)
	code, answer, header := f.raw(http.MethodPost, "/session", body, "User-Agent", "console")
	if code != http.StatusOK {
		t.Fatal(answer)
	}
	var pairs []string
	for _, c := range header.Values("Set-Cookie") {
		pair, _, _ := strings.Cut(c, ";")
		pairs = append(pairs, pair)
	}
	stolen := []string{"Cookie", strings.Join(pairs, "; "), "User-Agent", "console"}
	authority := ""
	if page, err := f.client.Authorities.List(
		t.Context(),
		query(""),
	); err == nil &&
		len(page.Items) > 0 {
		authority = page.Items[0].ID
	}
	for _, attack := range []struct{ name, method, path, body string }{
		{"another second factor", http.MethodPost, "/second-factor", ""},
		{"a token",
			http.MethodPost, "/tokens", `{"name":"x","role":"owner","days":365}`},
		{"an operator", http.MethodPost, "/operators",
			`{"name":"mallory","role":"owner"}`},
		{"an authority with its key",
			http.MethodPost, "/authorities/" + authority + "/exports",
			`{"passphrase":"anchor velvet 52 pepper rudder"}`},
		{"an archive of parcels", http.MethodPost, "/archives",
			`{"group":"crew"}`},
		{"no second factor",
			http.MethodPost, "/second-factor/removal", `{"password":"x"}`},
	} {
		if code, answer, _ := f.raw(
			attack.method,
			attack.path,
			attack.body,
			stolen...); code != http.StatusForbidden ||
			!strings.Contains(answer, "problem:confirm") {
			t.Errorf("%s: %d %s", attack.name, code, answer)
		}
	}
	// Secrets one by one, until it is many.
	profile, last := f.profile("Engine laptop 1", "Norrvik"), 0
	for range 110 {
		if last, answer, _ = f.raw(
			http.MethodPost,
			"/profiles/"+profile+"/secret-preview",
			"",
			stolen...); last != http.StatusOK {
			break
		}
	}
	if last != http.StatusForbidden || !strings.Contains(answer, "problem:confirm") {
		t.Errorf("all secrets are revealed one by one: %d %s", last, answer)
	}
	if code, answer, _ := f.raw(
		http.MethodPost,
		"/session/confirmation",
		`{"password":"guessed guessed guessed"}`,
		stolen...); code != http.StatusUnprocessableEntity {
		t.Errorf("a guessed password confirms: %d %s", code, answer)
	}
	// What is right once opens for a while.
	if code, answer, _ := f.raw(
		http.MethodPost,
		"/session/confirmation",
		fmt.Sprintf(`{"password":%q}`, demo.OwnerPassword),
		stolen...); code != http.StatusNoContent {
		t.Fatalf("%d %s", code, answer)
	}
	if code, answer, _ := f.raw(
		http.MethodPost,
		"/tokens",
		`{"name":"x","role":"owner","days":366}`,
		stolen...); code != http.StatusUnprocessableEntity {
		t.Errorf("a token of more than a year: %d %s", code, answer)
	}
	code, answer, _ = f.raw(
		http.MethodPost,
		"/tokens",
		`{"name":"x","role":"auditor","days":1,"addresses":["203.0.113.0/24"]}`,
		stolen...)
	var made api.NewToken
	if err := json.Unmarshal([]byte(answer), &made); err != nil || code != http.StatusCreated {
		t.Fatal(code, answer)
	}
	if code, _, _ := f.raw(
		http.MethodGet,
		"/overview",
		"",
		"Authorization",
		"Bearer "+made.Bearer,
	); code != http.StatusForbidden {
		t.Errorf("a token bound to other networks opens: %d", code)
	}
	if list, err := f.client.Sessions(
		t.Context(),
		true,
	); err != nil ||
		!slices.ContainsFunc(
			list.Items,
			func(s api.Session) bool { return s.Client == "console" && s.Origin == "127.0.0.1" },
		) {
		t.Errorf("sessions are listed without place and client: %+v %v", list, err)
	}
	// Used by another program, it is over.
	stolen[3] = "another program"
	if code, _, _ := f.raw(
		http.MethodGet,
		"/overview",
		"",
		stolen...); code != http.StatusUnauthorized {
		t.Errorf("another program uses it: %d", code)
	}
	stolen[3] = "console"
	if code, _, _ := f.raw(
		http.MethodGet,
		"/overview",
		"",
		stolen...); code != http.StatusUnauthorized {
		t.Errorf("it goes on after that: %d", code)
	}
}

// TestAttackDatabase writes the database past the service: sessions, roles, visits and the audit
// log.
func TestAttackDatabase(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	db, err := sql.Open("sqlite", filepath.Join(f.dir, store.File)+"?_pragma=busy_timeout(10000)")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	exec := func(statement string, args ...any) {
		t.Helper()
		if _, err := db.ExecContext(ctx, statement, args...); err != nil {
			t.Fatal(err)
		}
	}
	made, err := f.client.AddToken(ctx, "auditor", "auditor", 1)
	if err != nil {
		t.Fatal(err)
	}
	auditor := client.New(f.url, made.Bearer)
	profile := f.profile("Engine laptop 1", "Norrvik")
	if _, err := auditor.Overview(ctx); err != nil {
		t.Fatal(err)
	}
	exec(`UPDATE sessions SET role = 'owner' WHERE id = ?`, made.Session.ID)
	if _, err := auditor.Preview(ctx, profile, false, true); err == nil {
		t.Error("a session that was made an owner's reveals secrets")
	}
	if _, err := auditor.Overview(ctx); err == nil {
		t.Error("a forged session counts at all")
	}
	pilot, err := f.client.AddOperator(ctx, "pilot", "auditor", nil)
	if err != nil {
		t.Fatal(err)
	}
	exec(`UPDATE operators SET role = 'owner', must_change = 0 WHERE id = ?`, pilot.Operator.ID)
	if _, err := client.New(f.url, "").
		SignIn(ctx, "pilot", secret.New(pilot.Password)); err == nil {
		t.Error("an operator who was made an owner signs in")
	}
	if p, err := f.client.VerifyAudit(ctx, ""); err != nil || !p.Sound {
		t.Fatalf("%+v %v", p, err)
	}
	exec(`DROP TRIGGER IF EXISTS audit_keeps_rows`)
	exec(`DELETE FROM audit WHERE seq = (SELECT MAX(seq) FROM audit)`)
	if p, err := f.client.VerifyAudit(ctx, ""); err != nil || p.Sound {
		t.Errorf("a tail that was cut off: %+v %v", p, err)
	}
	if code, out, _ := f.run(
		demo.OwnerPassword,
		"me",
		"sign-in",
		"--name",
		demo.OwnerName,
		"--password-file",
		"-",
	); code != 0 {
		t.Fatal(out)
	}
	if code, out, _ := f.run(
		"",
		"audit",
		"verify",
	); code != 1 ||
		!strings.Contains(out, "were removed at the end") && !strings.Contains(out, "was changed") {
		t.Errorf("on the command line: %d %s", code, out)
	}
}

// TestAttackTerminal has hostile text steer a terminal, in each form of output.
func TestAttackTerminal(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	made := f.handed("Bridge tablet 2", true)
	cookies, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: cookies}
	post := func(path string, form string) {
		res, err := browser.Post(
			f.url+made.Path+path,
			"application/x-www-form-urlencoded",
			strings.NewReader(form),
		)
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
	}
	post("", "passcode="+strings.ReplaceAll(made.Passcode, " ", "+"))
	const hostile = "\u001b]0;owned\u0007 \u009b31m \u202e gnp.exe 809"
	post("/help", "said="+url.QueryEscape(hostile))
	for _, form := range []string{"table", "json", "yaml"} {
		code, out, errs := f.run("", "handover", "problem", "list", "--output", form)
		if code != 0 || !strings.Contains(out, "809") {
			t.Errorf("%s: %d %s%s", form, code, out, errs)
		}
		if i := strings.IndexFunc(out, func(r rune) bool {
			return r != '\n' && (r < 0x20 || r >= 0x7f && r < 0xa0 || r >= 0x202a && r <= 0x202e)
		}); i >= 0 {
			t.Errorf("%s reaches the terminal raw: %q", form, out[max(0, i-20):min(len(out), i+20)])
		}
		if form == "json" {
			var v any
			if err := json.Unmarshal([]byte(out), &v); err != nil {
				t.Errorf("what was cleaned is no JSON: %v", err)
			}
		}
	}
	// A file that is checked.
	path := filepath.Join(t.TempDir(), "a.ovpn")
	if err := os.WriteFile(
		path,
		[]byte("client\nremote "+hostile+" 1194\nsetenv FRIENDLY_NAME \"\u202e\u009b\"\n"),
		0o600,
	); err != nil {
		t.Fatal(err)
	}
	for _, form := range []string{"table", "json", "yaml", "sarif"} {
		if _, out, errs := f.run(
			"",
			"check",
			path,
			"--output",
			form,
		); strings.ContainsAny(
			out+errs,
			"\u001b\u009b\u202e\u0007",
		) {
			t.Errorf("check --output %s reaches the terminal raw", form)
		}
	}
	// Nobody fills the list of reports from one link.
	for i := range 300 {
		post("/help", fmt.Sprintf("said=flood+%d+809", i))
	}
	if page, err := f.client.Reports(
		t.Context(),
		query(""),
	); err != nil || page.Total > 10 ||
		!slices.ContainsFunc(
			page.Items,
			func(r api.Report) bool { return !strings.Contains(r.Message, "flood") },
		) {
		t.Errorf("%d reports, and the first is pushed out (%v)", page.Total, err)
	}
}

// TestAttackProbe has an issuer look, through the service, at what listens on its own machine.
func TestAttackProbe(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	svc := service.New(
		f.store,
		slog.New(slog.DiscardHandler),
		time.Now,
	) // started without --probe-internal
	for i, at := range []string{"127.0.0.1", "::1", "169.254.169.254", "fe80::1", "0.0.0.0"} {
		g, err := f.client.Gateways.Add(
			ctx,
			map[string]any{
				"name":    fmt.Sprintf("Inner %d", i),
				"address": at,
				"offers": map[string]any{
					"sstp": map[string]any{"port": 22, "ppp": []string{"mschapv2"}},
				},
			},
		)
		if err != nil {
			t.Fatal(err)
		}
		p, err := svc.Probe(service.AsRole(ctx, "issuer", "issuer"), g.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range p.Answers {
			if a.State != drift.Unprobed || !strings.Contains(a.Fault, "--probe-internal") {
				t.Errorf("%s: %s %s was asked: %s %s", at, a.Method, a.Address, a.State, a.Fault)
			}
		}
		if len(p.Answers) == 0 {
			t.Errorf("%s: nothing is said", at)
		}
	}
	name, err := f.client.Gateways.Add(
		ctx,
		map[string]any{
			"name":    "By name",
			"address": "localhost",
			"offers": map[string]any{
				"sstp": map[string]any{"port": 22, "ppp": []string{"mschapv2"}},
			},
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	p, err := svc.Probe(service.AsRole(ctx, "issuer", "issuer"), name.ID)
	if err != nil ||
		slices.ContainsFunc(
			p.Answers,
			func(a drift.Answer) bool { return a.State != drift.Unprobed },
		) {
		t.Errorf("a name that leads inside is asked: %+v %v", p.Answers, err)
	}
}

// TestAttackAuthority has an issuer ask for certificates that say more than an issuer may.
func TestAttackAuthority(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	page, err := f.client.Authorities.List(ctx, query(""))
	if err != nil || len(page.Items) == 0 {
		t.Fatal(err)
	}
	issuer := f.as("issuer")
	person, err := f.client.People.List(ctx, query("Ada Fjell"))
	if err != nil || len(person.Items) == 0 {
		t.Fatal(err)
	}
	device, err := f.client.Devices.Add(
		ctx,
		map[string]any{
			"name":      "norrvik.skerryline.example",
			"person_id": person.Items[0].ID,
			"platform":  "linux",
			"release":   "6",
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	other, err := f.client.Devices.List(ctx, query("Engine laptop 2"))
	if err != nil || len(other.Items) == 0 {
		t.Fatal(err)
	}
	for _, attack := range []struct {
		name, body, want string
	}{
		{"the name of somebody else", `"names":["root@skerryline.example"]`,
			"/names"},
		{"a gateway's name", `"names":["norrvik.skerryline.example"]`, "/names"},
		{"a gateway's name as the device's own", `"names":[]`, "/names"},
		{"ten years",
			`"names":["a.devices.skerryline.example"],"days":3650`, "/days"},
	} {
		id := device.ID
		if attack.want == "/days" {
			id = other.Items[0].ID
		}
		body := fmt.Sprintf(
			`{"device_id":%q,"authority_id":%q,%s}`,
			id,
			page.Items[0].ID,
			attack.body,
		)
		if code, answer, _ := f.raw(
			http.MethodPost,
			"/certificates",
			body,
			"Authorization",
			issuer,
		); code != http.StatusUnprocessableEntity ||
			!strings.Contains(answer, attack.want) {
			t.Errorf("%s: %d %s", attack.name, code, answer)
		}
	}
}

// TestAttackDoors holds the smaller ways in: a folder and a passphrase that others can read, a
// password in clear, tries that nobody sees.
func TestAttackDoors(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	dir := t.TempDir()
	run := func(args ...string) (int, string) {
		var out bytes.Buffer
		code := cli.Run(
			args,
			cli.Streams{
				In:  strings.NewReader("anchor velvet 52 pepper rudder\n"),
				Out: &out,
				Err: &out,
				Env: func(name string) string {
					return map[string]string{"XDG_CONFIG_HOME": filepath.Join(dir, "config")}[name]
				},
			},
		)
		return code, out.String()
	}
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	open, easy := write(
		"open",
		"anchor velvet pepper rudder 52\n",
		0o644,
	), write(
		"easy",
		strings.Repeat("a", 12)+"\n",
		0o600,
	)
	for _, attack := range []struct {
		name string
		args []string
		want string
	}{
		{"a passphrase that others read", []string{"service",
			"set-up", "--data", filepath.Join(dir,
				"a"), "--owner", "me", "--password-file", "-", "--passphrase-file", open}, "0600"},
		{"a passphrase that is guessed", []string{"service",
			"set-up", "--data", filepath.Join(dir,
				"a"), "--owner", "me", "--password-file", "-", "--passphrase-file", easy}, "find"},
		{"a password over the network in clear", []string{"me",
			"sign-in", "--service", "http://192.0.2.9:7480", "--name", "me", "--password-file",
			"-"}, "unencrypted"},
	} {
		if code, out := run(attack.args...); code != 2 || !strings.Contains(out, attack.want) {
			t.Errorf("%s: %d %s", attack.name, code, out)
		}
	}
	if code, out := run(
		"service",
		"set-up",
		"--data",
		filepath.Join(dir, "b"),
		"--owner",
		"me",
		"--password-file",
		"-",
	); code != 0 {
		t.Fatal(out)
	}
	data := filepath.Join(dir, "b")
	if err := os.Chmod(data, 0o755); err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(t.Context(), data, store.Key{}, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(data); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the data folder is left open: %v %v", info.Mode(), err)
	}
	write("b/other", "", 0o600)
	if err := os.Chmod(data, 0o755); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(
		t.Context(),
		data,
		store.Key{},
		time.Now,
	); err == nil ||
		!strings.Contains(err.Error(), "0700") {
		t.Errorf("a folder with other things in it is closed for them, or left open: %v", err)
	}
	// The right password with no code is on record.
	factor, err := f.client.OfferFactor(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	code, _ := totp.GenerateCode(factor.Key, time.Now())
	if err := f.client.ConfirmFactor(t.Context(), code); err != nil {
		t.Fatal(err)
	}
	if _, err := client.New(f.url, "").
		SignIn(context.Background(), demo.OwnerName, secret.New(demo.OwnerPassword)); err == nil {
		t.Fatal("the second factor is not asked for")
	}
	if log, err := f.client.Audit(t.Context(), query("no code")); err != nil || log.Total != 1 {
		t.Errorf("a right password without a code is not on record: %+v %v", log, err)
	}
}

// TestAttackEndless has the command line look at files that take long, and ends it: it goes at
// once, whatever it is at.
func TestAttackEndless(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	remotes := []byte(
		"client\ndev tun\n" + strings.Repeat(
			"remote norrvik.skerryline.example 1194 udp\n",
			100_000,
		),
	)
	for i := range 14 {
		if err := os.WriteFile(
			filepath.Join(dir, fmt.Sprintf("%d.ovpn", i)),
			remotes,
			0o600,
		); err != nil {
			t.Fatal(err)
		}
	}
	cmd := command("check", dir)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case <-done:
		t.Fatal("it was done before it could be ended")
	case <-time.After(400 * time.Millisecond):
	}
	begun := time.Now()
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	select {
	case <-done:
		t.Logf("ended %s after SIGTERM", time.Since(begun).Round(time.Millisecond))
	case <-time.After(5 * time.Second):
		_ = cmd.Process.Kill()
		t.Error("SIGTERM does not end it within 5 seconds")
	}
}
