package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"regexp"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/demo"
	"wardicon/simulate"
)

// TestSignOn signs operators in by a provider that holds clients to every word of the protocol, and
// that lies in every way that a token has.
func TestSignOn(t *testing.T) {
	t.Parallel()
	f := start(t, true, trusting)
	run := f.commands()
	p, err := simulate.NewIdentity("127.0.0.1:0", "wardicon", "kelp-harbour-lantern",
		simulate.Member{Subject: "u-1", Name: "m_strand", Groups: []string{"office", "helpdesk"}},
		simulate.Member{Subject: "u-2", Name: "t_holm", Groups: []string{"crew"}},
		simulate.Member{Subject: "u-3", Name: demo.OwnerName, Groups: []string{"office"}})
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	run(1, "no group", "service", "single-sign-on", "set", "--issuer", p.URL, "--client-id", "wardicon")
	run(1, "without query", "service", "single-sign-on", "set", "--issuer", "http://id.example?x",
		"--client-id", "wardicon", "--role", "office=owner")
	run(0, "office = issuer, helpdesk = auditor", "service", "single-sign-on", "set", "--issuer", p.URL, "--client-id",
		"wardicon", "--secret-file", write(t, "client", "kelp-harbour-lantern"),
		"--role", "office=issuer", "--role", "helpdesk=auditor", "--title", "Skerry Line")
	run(1, "the client secret of the new one", "service", "single-sign-on", "set", "--issuer",
		"http://127.0.0.1:9")

	// enter signs a member in with a browser of its own, and tells where it ends.
	calls := 0
	browser := func() *http.Client {
		jar, _ := cookiejar.New(nil)
		calls++
		from := fmt.Sprintf("192.0.2.%d", calls)
		return &http.Client{Jar: jar, Transport: &from4{from}, CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}
	}
	get := func(b *http.Client, address string) *http.Response {
		t.Helper()
		res, err := b.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		return res
	}
	begin := func(b *http.Client, path string) string {
		t.Helper()
		res, err := b.Post(f.url+"/api/v1/session/"+path, "application/json",
			strings.NewReader(`{"to": "/devices"}`))
		if err != nil {
			t.Fatal(err)
		}
		var answer struct{ Address string }
		decode(t, res, &answer)
		return answer.Address
	}
	enter := func(b *http.Client, member string) (back string, to string) {
		t.Helper()
		back = get(b, begin(b, "entry")+"&member="+member).Header.Get("Location")
		return back, get(b, back).Header.Get("Location")
	}
	who := func(b *http.Client) (o api.SignedIn) {
		t.Helper()
		res, err := b.Get(f.url + "/api/v1/session")
		if err != nil {
			t.Fatal(err)
		}
		if res.StatusCode == 200 {
			decode(t, res, &o)
		}
		return o
	}
	one := browser()
	if back, to := enter(one, "u-1"); to != "/devices" {
		t.Fatalf("it ends at %s (%s)\n%s\n%v", to, back, f.log, p.Problems)
	}
	if o := who(one).Operator; o.Name != "m_strand" || o.Role != "issuer" || !o.Provider ||
		o.MustEnrol || o.MustChange {
		t.Errorf("signed in is %+v", o)
	}
	for member, want := range map[string]string{"u-2": "refused=role", "u-3": "refused=name"} {
		b := browser()
		if _, to := enter(b, member); !strings.Contains(to, want) || who(b).Operator.Name != "" {
			t.Errorf("%s ends at %s", member, to)
		}
	}
	// What was sent back once counts once, and only in the browser that began.
	b := browser()
	back, _ := enter(b, "u-1")
	for name, with := range map[string]*http.Client{"again": b, "in another browser": browser()} {
		if to := get(with, back).Header.Get("Location"); !strings.Contains(to, "refused=entry") {
			t.Errorf("the same answer %s ends at %s", name, to)
		}
	}
	stranger := browser()
	mine := begin(stranger, "entry")
	other := get(browser(), begin(browser(), "entry")+"&member=u-1").Header.Get("Location")
	if to := get(stranger, other).Header.Get("Location"); !strings.Contains(to, "refused=entry") {
		t.Errorf("somebody else's answer ends at %s (%s)", to, mine)
	}
	for name, lie := range map[string]func(map[string]any){
		"another issuer":   func(c map[string]any) { c["iss"] = "https://id.example" },
		"another client":   func(c map[string]any) { c["aud"] = "other" },
		"another sign-in":  func(c map[string]any) { c["nonce"] = "x" },
		"no sign-in":       func(c map[string]any) { delete(c, "nonce") },
		"an expired token": func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() },
		"no signature":     func(c map[string]any) { c["alg"] = "none" },
		"nobody":           func(c map[string]any) { c["sub"] = "" },
		"no name":          func(c map[string]any) { c["sub"] = "u-9"; delete(c, "preferred_username") },
		"a hostile name":   func(c map[string]any) { c["sub"] = "u-9"; c["preferred_username"] = "a\x1b[31m" },
		"another's hash":   func(c map[string]any) { c["at_hash"] = "AAAAAAAAAAAAAAAAAAAAAA" },
	} {
		p.Change(func() { p.Lie = lie })
		b := browser()
		if _, to := enter(b, "u-1"); !strings.Contains(to, "refused=provider") ||
			who(b).Operator.Name != "" {
			t.Errorf("a token with %s ends at %s", name, to)
		}
	}
	// Roles are those of the groups at each sign-in.
	p.Change(func() { p.Lie = func(c map[string]any) { c["groups"] = "helpdesk" } })
	if _, to := enter(one, "u-1"); to != "/devices" || who(one).Operator.Role != "auditor" {
		t.Errorf("with other groups it is %+v (%s)", who(one).Operator, to)
	}
	p.Change(func() { p.Lie = nil })
	if _, to := enter(one, "u-1"); to != "/devices" {
		t.Error(to)
	}
	// It has no password here, and nobody signs in with an empty one.
	for _, password := range []string{"", "kelp-harbour-lantern"} {
		body := `{"name": "m_strand", "password": "` + password + `", "kind": "token"}`
		if res, p := f.send("POST", "/api/v1/session", body, "Content-Type",
			"application/json"); res.StatusCode != 401 && p.Status != 422 {
			t.Errorf("the password %q answers with %d", password, res.StatusCode)
		}
	}
	// What wants a confirmation gets it there.
	sure := func() int {
		t.Helper()
		res, err := one.Post(f.url+"/api/v1/tokens", "application/json",
			strings.NewReader(`{"name": "x", "role": "auditor", "days": 1, "addresses": []}`))
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		return res.StatusCode
	}
	if got := sure(); got != 403 {
		t.Errorf("without a confirmation it answers with %d", got)
	}
	again := begin(one, "confirmation-entry")
	if !strings.Contains(again, "prompt=login") {
		t.Error(again)
	}
	p.Change(func() {
		p.Lie = func(c map[string]any) { c["auth_time"] = time.Now().Add(-time.Hour).Unix() }
	})
	if to := get(one, get(one, again+"&member=u-1").Header.Get("Location")).Header.Get("Location"); !strings.
		Contains(to, "refused=entry") {
		t.Errorf("a sign-in of an hour ago confirms: %s", to)
	}
	p.Change(func() { p.Lie = nil })
	if to := get(one, get(one, begin(one, "confirmation-entry")+"&member=u-1").Header.
		Get("Location")).Header.Get("Location"); to != "/confirmed" {
		t.Error(to)
	}
	if got := sure(); got != 201 {
		t.Errorf("with a confirmation it answers with %d", got)
	}
	// The provider is away: it is said, and local operators sign in.
	run(0, "", "service", "single-sign-on", "set", "--title", "Skerry Line again")
	p.Change(func() { p.Away = true })
	res, problem := f.send("POST", "/api/v1/session/entry", `{}`, "Content-Type", "application/json")
	if res.StatusCode != 401 || !strings.Contains(problem.Detail, "does not respond") {
		t.Errorf("%d %+v", res.StatusCode, problem)
	}
	run(0, "", "me", "sign-in", "--name", demo.OwnerName, "--password-file",
		write(t, "owner", demo.OwnerPassword))
	p.Change(func() { p.Away = false })
	// Turned off, and an open redirect.
	if res, _ := f.send("POST", "/api/v1/session/entry", `{"to": "//evil.example"}`, "Content-Type",
		"application/json"); res.StatusCode != 422 {
		t.Errorf("another site's page is taken: %d", res.StatusCode)
	}
	run(0, "Single sign-on is off", "service", "single-sign-on", "set", "--issuer", "")
	if res, _ := f.send("POST", "/api/v1/session/entry", `{}`, "Content-Type",
		"application/json"); res.StatusCode != 404 {
		t.Errorf("turned off it answers with %d", res.StatusCode)
	}
	for _, text := range regexp.MustCompile(`code=[A-Z0-9]+|kelp-harbour`).FindAllString(
		f.log.String(), -1) {
		t.Errorf("in the log is %s", text)
	}
}

// from4 comes from an address of its own, as a proxy tells.
type from4 struct{ address string }

func (f *from4) RoundTrip(r *http.Request) (*http.Response, error) {
	r.Header.Set("X-Forwarded-For", f.address)
	return http.DefaultTransport.RoundTrip(r)
}

// decode reads an answer.
func decode(t *testing.T, res *http.Response, into any) {
	t.Helper()
	defer func() { _ = res.Body.Close() }()
	if err := json.NewDecoder(res.Body).Decode(into); err != nil {
		t.Fatal(err)
	}
}

// TestSignOnPage does the same in the console, with the confirmation in a window of its own.
func TestSignOnPage(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	p, err := simulate.NewIdentity("127.0.0.1:0", "wardicon", "kelp-harbour-lantern",
		simulate.Member{Subject: "u-1", Name: "m_strand", Groups: []string{"office"}})
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	b := open(t, f.url)
	b.signIn()
	b.goTo("/operators", "Operators")
	b.fill("Issuer", p.URL)
	b.fill("Client ID", "wardicon")
	b.fill("Client secret", "kelp-harbour-lantern")
	b.fill("Groups and their roles", "office=owner")
	b.fill("Name on the sign-in page", "Skerry Line")
	b.accessible("operators with a provider")
	b.press("Save")
	b.confirm(demo.OwnerPassword)
	b.see("One is stored.")
	b.press("Sign out")
	b.see("Sign in with Skerry Line")
	b.accessible("sign-in with a provider")
	b.fits()
	b.press("Sign in with Skerry Line")
	b.press("m_strand")
	b.see("Overview")
	b.see("m_strand, owner")
}
