package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/demo"
)

// walker is somebody at work in the console; what they click is counted.
type walker struct {
	*tab
	clicks int
}

func (w *walker) click(text string) {
	w.t.Helper()
	w.clicks++
	w.press(text)
}

func (w *walker) enter(label, value string) {
	w.t.Helper()
	w.clicks++
	w.fill(label, value)
}

// TestTasks does five tasks of a working day in the console, each from the overview, in at most so
// many clicks and choices.
func TestTasks(t *testing.T) {
	t.Parallel()
	f := startLived(t)
	ctx := t.Context()
	f.client = client.New(f.url, "")
	if _, err := f.client.SignIn(ctx, demo.OwnerName, secret.New(demo.OwnerPassword)); err != nil {
		t.Fatal(err)
	}
	ada, err := f.client.People.List(ctx, client.Query{Search: "Ada Fjell", Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 40 {
		d, err := f.client.Devices.Add(ctx, client.Patch{
			"name": fmt.Sprintf("Ferry laptop %02d", i), "person_id": ada.Items[0].ID,
			"platform": "windows", "release": "11", "encrypted": true,
		})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.client.Profiles.Add(ctx, vpn.Profile{
			DeviceID: d.ID, GatewayID: f.gateway("Brattvik"),
		}); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := f.client.Build(ctx, f.profile("Ferry laptop 00", "Brattvik"), false); err != nil {
		t.Fatal(err)
	}
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	at := func(gateway string) int {
		t.Helper()
		page, err := f.client.Profiles.List(ctx, client.Query{
			Search: "Ferry laptop", Limit: 50,
			Filter: map[string]string{"gateway_id": f.gateway(gateway)},
		})
		if err != nil {
			t.Fatal(err)
		}
		return page.Total
	}
	// movedAway holds what was moved, and moves it back but for one that somebody changes meanwhile.
	movedAway := func() {
		t.Helper()
		if n := at("Norrvik"); n != 40 {
			t.Errorf("%d were moved", n)
		}
		if _, err := f.client.Profiles.Change(ctx, f.profile("Ferry laptop 07", "Norrvik"), 0,
			client.Patch{"gateway_id": f.gateway("Easthaven")}); err != nil {
			t.Fatal(err)
		}
		b.press("Undo")
		b.see("1 changed since, 39 moved back")
		if n := at("Brattvik"); n != 39 {
			t.Errorf("%d were moved back", n)
		}
		f.commands()(4, "no job", "job", "undo", "jo-none")
	}
	for _, task := range []struct {
		name string
		most int
		do   func(*walker)
	}{
		{"who holds the old value", 2, func(w *walker) {
			w.click("Norrvik moves to another line")
			w.see("hold the old value")
			w.click("Show them")
			w.until(`document.querySelector('table.stack tbody tr')`)
		}},
		{"hand over to a new colleague", 5, func(w *walker) {
			w.click("Profiles")
			w.enter("Search", "Ferry laptop 00")
			w.click("Ferry laptop 00 → Brattvik")
			w.clicks++
			w.part("Handover")
			w.click("Create a link")
			w.see("Passcode, to be sent another way")
		}},
		{"why one person cannot connect", 3, func(w *walker) {
			w.click("Profiles")
			w.enter("Search", "Deck phone 1")
			w.click("Deck phone 1 → Easthaven")
			w.see("Password equals the login")
		}},
		{"move 40 devices to another gateway", 7, func(w *walker) {
			w.click("Profiles")
			w.enter("Search", "Ferry laptop")
			w.see("40 profiles")
			w.clicks++
			eval[bool](w.tab, `(document.querySelector('thead input').click(), true)`)
			w.see("25 selected")
			w.click("Select all 40 that match")
			w.click("Move to another gateway")
			w.accessible("a selection")
			w.shot("selection")
			w.until(labelled("To the gateway") + `.options.length > 1`)
			w.enter("To the gateway", f.gateway("Norrvik"))
			w.click("Move to another gateway: 40")
			w.see("40 moved")
			movedAway()
		}},
		{"what expires", 1, func(w *walker) {
			w.click("Calendar")
			w.see("expires")
		}},
	} {
		w := &walker{tab: b}
		b.load("/", "Skerry Line")
		b.see("Norrvik moves to another line")
		began := time.Now()
		task.do(w)
		t.Logf("%s: %d clicks, %.1f s", task.name, w.clicks, time.Since(began).Seconds())
		if w.clicks > task.most {
			t.Errorf("%s took %d clicks, at most %d are wanted", task.name, w.clicks, task.most)
		}
	}
	// What was typed is not lost by going elsewhere.
	b.goTo("/people/"+ada.Items[0].ID, "Ada Fjell")
	b.fill("Name", "Ada of the fjells")
	b.press("Profiles")
	b.see("Leave without saving?")
	b.accessible("leaving a page")
	b.press("Stay")
	b.until(labelled("Name") + `.value === 'Ada of the fjells'`)
	b.press("Profiles")
	b.press("Leave")
	b.until(`document.title === 'Profiles · Wardicon'`)
}

// TestSelections acts on many records by the API and the command line: what is done, counted and
// refused.
func TestSelections(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	run := f.commands()
	count := func(noun string, q client.Query) int {
		t.Helper()
		q.Limit = 1
		var total int
		var err error
		switch noun {
		case "parcels":
			var list api.Items[api.Parcel]
			list, err = f.client.Parcels(ctx, f.profile("Planner Mac 1", "Norrvik"))
			total = len(list.Items)
		default:
			var page api.Page[api.Offboarding]
			page, err = f.client.Offboardings(ctx, q)
			total = page.Total
		}
		if err != nil {
			t.Fatal(err)
		}
		return total
	}
	run(0, "1 built", "bulk", "build", "Planner Mac 1/Norrvik")
	run(0, "1 up to date", "bulk", "build", "Planner Mac 1/Norrvik")
	if n := count("parcels", client.Query{}); n != 1 {
		t.Errorf("it has %d parcels", n)
	}
	run(0, "made", "bulk", "hand-over", "--of", "people", "--filter", "group=planners", "--sheets")
	run(0, "1 moved", "bulk", "move", "--of", "profiles", "Yard phone/Brattvik", "--to", "Norrvik",
		"--yes")
	f.profile("Yard phone", "Norrvik")
	run(0, "1 there already", "bulk", "move", "Yard phone/Norrvik", "--to", "Norrvik", "--yes")
	run(0, "2 offboarded", "bulk", "offboard", "--of", "people", "Leif Sund", "Rune Sand", "--yes")
	if n := count("offboardings", client.Query{}); n != 2 {
		t.Errorf("%d offboardings are on record", n)
	}
	run(2, "expected names, --search or --filter", "bulk", "build")
	run(2, "expected profiles, devices or people", "bulk", "build", "--of", "gateways", "x")

	for _, test := range []struct {
		name    string
		in      api.Selection
		pointer string
	}{
		{"nothing fits", api.Selection{Action: "build", Noun: "profile", Search: "nothing such"},
			"/ids"},
		{"names and a filter", api.Selection{Action: "build", Noun: "profile", IDs: []string{"x"},
			Filter: []string{"severity:error"}}, "/ids"},
		{"no gateway to move to", api.Selection{Action: "move", Noun: "profile", Search: "Yard"},
			"/gateway_id"},
		{"offboarding profiles", api.Selection{Action: "offboard", Noun: "profile", Search: "Yard"},
			"/noun"},
		{"a person is lost", api.Selection{Action: "offboard", Noun: "person", Search: "Ada",
			Why: vpn.Lost}, "/why"},
		{"another number than was seen", api.Selection{Action: "build", Noun: "device",
			Search: "Yard", Expected: 77}, "/expected"},
		{"an unknown filter", api.Selection{Action: "build", Noun: "device",
			Filter: []string{"colour:red"}}, ""},
	} {
		_, err := f.client.Act(ctx, test.in)
		problem, ok := err.(*api.Problem)
		if test.pointer == "" && ok && strings.Contains(problem.Detail, `found "colour"`) {
			continue
		}
		if !ok || len(problem.Errors) == 0 || problem.Errors[0].Pointer != test.pointer {
			t.Errorf("%s: %v (%+v)", test.name, err, problem)
		}
	}
}

// TestChanges is told what changes as it happens, and by whom it may be heard.
func TestChanges(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	listen := func(token string) *http.Response {
		t.Helper()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, f.url+"/api/v1/changes", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = answer.Body.Close() })
		return answer
	}
	if answer := listen("nobody"); answer.StatusCode != http.StatusUnauthorized {
		t.Errorf("a stranger is answered %s", answer.Status)
	}
	session, err := client.New(f.url, "").SignIn(ctx, demo.OwnerName,
		secret.New(demo.OwnerPassword))
	if err != nil {
		t.Fatal(err)
	}
	answer := listen(session.Token)
	if kind := answer.Header.Get("Content-Type"); kind != "text/event-stream" {
		t.Fatalf("%s (%s)", kind, answer.Status)
	}
	lines := bufio.NewScanner(answer.Body)
	next := func() (topics []string) {
		t.Helper()
		for lines.Scan() {
			data, found := strings.CutPrefix(lines.Text(), "data: ")
			if !found {
				continue
			}
			var c api.Changes
			if err := json.Unmarshal([]byte(data), &c); err != nil {
				t.Fatal(err)
			}
			return c.Topics
		}
		t.Fatal("nothing more is told")
		return nil
	}
	if first := next(); len(first) != 0 {
		t.Errorf("at first it tells %v", first)
	}
	if _, err := f.client.People.Add(ctx, client.Patch{"name": "Runa Berg"}); err != nil {
		t.Fatal(err)
	}
	if topics := next(); len(topics) != 1 || topics[0] != "person" {
		t.Errorf("it tells %v", topics)
	}
}
