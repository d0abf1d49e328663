package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// crewGateway is where devices of this test seem to come from once they are connected.
const crewGateway = "203.0.113.77"

// crew is a fleet that moves to another key, and what became of each of its devices in truth.
type crew struct {
	t       *testing.T
	dir     string
	p       *process
	c       *client.Client
	token   string
	id      string // of the switchover
	gateway string
	truth   map[string]api.SwitchoverStepState // by device
}

// fleetSize is how many devices move: a few hundred always, more where somebody asks for it.
func fleetSize() int {
	if n, err := strconv.Atoi(os.Getenv("WARDICON_FLEET")); err == nil {
		return n
	}
	return 200
}

// again kills the service, and starts it on what is in its folder.
func (w *crew) again() {
	w.t.Helper()
	w.p.stop(os.Kill)
	w.serve()
}

func (w *crew) serve() {
	w.t.Helper()
	w.p = serve(w.t, w.dir, "--proxy", "127.0.0.1")
	w.c = client.New(w.p.url, w.token)
}

func (w *crew) must(err error) {
	w.t.Helper()
	if err != nil {
		w.t.Fatal(err)
	}
}

// change changes many records in one call each thousand, and returns their identifiers.
func (w *crew) change(list []api.RecordOperation) (ids []string) {
	w.t.Helper()
	for part := range slices.Chunk(list, 1000) {
		done, err := w.c.ChangeRecords(w.t.Context(), "", part)
		w.must(err)
		for _, one := range done.Items {
			if one.Problem != nil {
				w.t.Fatal(one.Problem)
			}
			ids = append(ids, one.ID)
		}
	}
	return ids
}

// board adds n people with a device and a profile each, a tenth of them pilots.
func (w *crew) board(n int) {
	w.t.Helper()
	ctx := w.t.Context()
	g, err := w.c.Gateways.Add(ctx, client.Patch{
		"name": "Harbour", "address": "harbour.skerryline.example",
		"egress": []string{crewGateway}, "offers": map[string]any{"l2tp": map[string]any{
			"psk": "halyard-58-Cormorant-shingle", "ppp": []string{"mschapv2"},
			"ike": []string{"aes256-sha256-modp2048"}, "esp": []string{"aes256-sha256"},
		}},
	})
	w.must(err)
	w.gateway = g.ID
	var people, others []api.RecordOperation
	for i := range n {
		groups := []string{"crew"}
		if i%10 == 0 {
			groups = append(groups, "pilots")
		}
		people = append(people, api.RecordOperation{
			Operation: "add", Noun: "person", Fields: map[string]any{
				"name": fmt.Sprintf("Sailor %05d", i), "groups": groups,
			}})
	}
	for i, id := range w.change(people) {
		others = append(others,
			api.RecordOperation{Operation: "add", Noun: "account", Fields: map[string]any{
				"person_id": id, "login": fmt.Sprintf("sailor%05d", i),
				"password": fmt.Sprintf("gale-%d-Marzipan-hinge-otter", i),
			}},
			api.RecordOperation{Operation: "add", Noun: "device", Fields: map[string]any{
				"name": fmt.Sprintf("Laptop %05d", i), "person_id": id, "platform": "windows",
				"release": "11", "encrypted": true,
			}})
	}
	w.change(others)
	pattern, err := w.c.Patterns.Add(ctx, client.Patch{
		"name": "Crew", "groups": []string{"crew"}, "gateway_ids": []string{g.ID},
	})
	w.must(err)
	j, err := w.c.RollOut(ctx, pattern.ID)
	w.must(err)
	w.finish(j.ID)
}

// finish waits until a job is done.
func (w *crew) finish(id string) api.Job {
	w.t.Helper()
	for end := time.Now().Add(10 * time.Minute); time.Now().Before(end); {
		j, err := w.c.Job(w.t.Context(), id)
		w.must(err)
		if j.State != api.Running {
			if j.State != api.Done || j.Problem != "" {
				w.t.Fatalf("%+v", j)
			}
			return j
		}
		time.Sleep(20 * time.Millisecond)
	}
	w.t.Fatal("a job does not end")
	return api.Job{}
}

// interrupted waits until a job has done some of its work, kills the service, and waits for its end.
func (w *crew) interrupted(id string) api.Job {
	w.t.Helper()
	for end := time.Now().Add(time.Minute); ; time.Sleep(time.Millisecond) {
		j, err := w.c.Job(w.t.Context(), id)
		w.must(err)
		if time.Now().After(end) {
			w.t.Fatalf("it does not go on: %+v", j)
		}
		if j.State != api.Running { // others have kept this test from its turn
			w.t.Logf("it has ended before it could be interrupted: %+v", j)
		}
		if j.Done > 2 || j.State != api.Running {
			w.again()
			return w.finish(id)
		}
	}
}

// delivering is the job that hands over.
func (w *crew) delivering() string {
	w.t.Helper()
	page, err := w.c.Jobs(w.t.Context(), client.Query{
		Limit: 1, Filter: map[string]string{"kind": "switch"},
	})
	w.must(err)
	if len(page.Items) != 1 {
		w.t.Fatal("nothing is handed over")
	}
	return page.Items[0].ID
}

// follow lets people do as they please: some do nothing, some open their link and connect, and some
// of those only read. It returns once all have done so.
func (w *crew) follow(job string, chance *rand.Rand) {
	w.t.Helper()
	links, err := w.c.Slips(w.t.Context(), job, store.SlipLink)
	w.must(err)
	codes, err := w.c.Slips(w.t.Context(), job, store.SlipPasscode)
	w.must(err)
	passcodes := map[string]string{}
	for _, one := range codes.Items {
		passcodes[one.HandoverID] = one.Passcode
	}
	type visitor struct {
		api.Slip
		connects bool
	}
	todo := make(chan visitor)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for v := range todo {
				if err := visit(w.t.Context(), w.p.url, v.Link, passcodes[v.HandoverID],
					v.connects); err != nil {
					w.t.Errorf("%s: %v", v.Device, err)
				}
			}
		})
	}
	for _, one := range links.Items {
		if _, twice := w.truth[one.Device]; twice {
			w.t.Errorf("%s was handed over to twice", one.Device)
		}
		switch chance.IntN(3) {
		case 0:
			w.truth[one.Device] = api.StepHanded
			continue
		case 1:
			w.truth[one.Device] = api.StepTaken
		default:
			w.truth[one.Device] = api.StepConnected
		}
		todo <- visitor{one, w.truth[one.Device] == api.StepConnected}
	}
	close(todo)
	all.Wait()
}

// visit opens a link, fetches its files, and looks again through the gateway.
func visit(ctx context.Context, base, link, passcode string, connects bool) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	browser := &http.Client{Jar: jar}
	ask := func(method, path, from string, form url.Values) ([]byte, error) {
		req, err := http.NewRequestWithContext(ctx, method, base+path,
			strings.NewReader(form.Encode()))
		if err != nil {
			return nil, err
		}
		req.Header.Set("Accept", "application/json")
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		req.Header.Set("X-Forwarded-For", from)
		answer, err := browser.Do(req)
		if err != nil {
			return nil, err
		}
		defer func() { _ = answer.Body.Close() }()
		data, err := io.ReadAll(answer.Body)
		if err == nil && answer.StatusCode != http.StatusOK {
			err = fmt.Errorf("%s: %s", answer.Status, data)
		}
		return data, err
	}
	path := link[strings.Index(link, service.LinkPath):]
	data, err := ask(http.MethodPost, path, "198.51.100.4", url.Values{"passcode": {passcode}})
	if err != nil {
		return err
	}
	var list api.FetchList
	if err := json.Unmarshal(data, &list); err != nil {
		return err
	}
	for _, f := range list.Files {
		if _, err := ask(http.MethodGet, f.Path, "198.51.100.4", nil); err != nil {
			return err
		}
	}
	if connects {
		_, err = ask(http.MethodGet, path, crewGateway, nil)
	}
	return err
}

// compare holds the board and its list against the truth.
func (w *crew) compare(when string) api.SwitchoverBoard {
	w.t.Helper()
	b, err := w.c.SwitchoverBoard(w.t.Context(), w.id)
	w.must(err)
	expected, found := map[api.SwitchoverStepState]int{}, map[api.SwitchoverStepState]int{}
	for _, state := range w.truth {
		expected[state]++
	}
	for _, k := range b.Counts {
		if k.State != api.StepWaiting {
			found[k.State] += k.Count
		}
	}
	if !maps.Equal(expected, found) {
		w.t.Errorf("%s: the board says %v, expected %v", when, found, expected)
	}
	for q := (client.Query{Limit: 500}); ; q.Offset += q.Limit {
		page, err := w.c.SwitchoverDevices(w.t.Context(), w.id, q)
		w.must(err)
		for _, x := range page.Items {
			if truth, known := w.truth[x.Device]; known && truth != x.State {
				w.t.Errorf("%s: %s is %s, expected %s", when, x.Device, x.State, truth)
			}
		}
		if len(page.Items) < q.Limit {
			return b
		}
	}
}

// TestSwitchoverFleet moves a fleet to another pre-shared key from preview to cut-off, with people
// who follow by chance or never, and kills the service in every phase: the board tells the truth,
// nothing is lost, and nobody is handed over to twice.
func TestSwitchoverFleet(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	w := &crew{t: t, dir: setUp(t), truth: map[string]api.SwitchoverStepState{}}
	w.serve()
	session, err := client.New(w.p.url, "").SignIn(ctx, "owner", secret.New(ownerPassword))
	w.must(err)
	w.token = session.Token
	w.c = client.New(w.p.url, w.token)
	n := fleetSize()
	w.board(n)
	old, err := w.c.HandOverGroup(ctx, "pilots", api.HandoverRequest{
		Link: check.ByOperator, Passcode: check.BySheet,
	})
	w.must(err)
	w.finish(old.ID)

	row, err := w.c.Switchovers.Add(ctx, client.Patch{
		"name": "Spring key", "kind": vpn.SwitchPSK, "gateway_id": w.gateway,
		"waves": []vpn.Wave{{Group: "pilots"}, {Share: 100}},
	})
	w.must(err)
	w.id = row.ID
	reading := w.read()
	began := time.Now()
	j, err := w.c.PreviewSwitchover(ctx, w.id)
	w.must(err)
	if n > 1000 { // measured without being interrupted, and then once more
		w.finish(j.ID)
		t.Logf("preview of %d: %v, %.1f of reading their records", n, time.Since(began),
			float64(time.Since(began))/float64(reading))
		j, err = w.c.PreviewSwitchover(ctx, w.id)
		w.must(err)
	}
	if j = w.interrupted(j.ID); j.Done != n {
		t.Errorf("the preview has looked at %d of %d", j.Done, n)
	}
	began = time.Now()
	_, err = w.c.Switch(ctx, w.id, client.Phase{Phase: service.PhaseStart})
	w.must(err)
	t.Logf("start of %d: %v, %.2f of reading their records", n, time.Since(began),
		float64(time.Since(began))/float64(reading))

	chance := rand.New(rand.NewPCG(21, 5))
	for wave := range 2 {
		if wave > 0 {
			_, err := w.c.Switch(ctx, w.id, client.Phase{Phase: service.PhaseAdvance})
			w.must(err)
		}
		began = time.Now()
		w.interrupted(w.delivering())
		t.Logf("wave %d handed over: %v", wave+1, time.Since(began))
		began = time.Now()
		w.follow(w.delivering(), chance)
		t.Logf("wave %d followed: %v", wave+1, time.Since(began))
		w.again()
		w.compare(fmt.Sprintf("after wave %d", wave+1))
	}
	if len(w.truth) != n {
		t.Errorf("%d of %d devices have a link", len(w.truth), n)
	}

	// A cut-off is whole or has not been, whenever it is interrupted.
	b := w.compare("before the cut-off")
	answered := make(chan error, 1)
	began = time.Now()
	go func(c *client.Client) {
		_, err := c.Switch(ctx, w.id, client.Phase{Phase: service.PhaseCutOff, Holders: b.Holders})
		answered <- err
	}(w.c)
	select {
	case err = <-answered:
	case <-time.After(time.Duration(chance.IntN(20)) * time.Millisecond):
		w.p.stop(syscall.SIGKILL)
		err = <-answered
		w.serve()
	}
	s, found := w.c.Switchovers.Show(ctx, w.id)
	w.must(found)
	if err == nil && s.State != vpn.SwitchClosed {
		t.Errorf("a cut-off that was answered is lost: %s", s.State)
	}
	if s.State == vpn.SwitchRunning {
		w.compare("after a cut-off that was not")
		began = time.Now()
		_, err := w.c.Switch(ctx, w.id, client.Phase{
			Phase: service.PhaseCutOff, Holders: b.Holders,
		})
		w.must(err)
	}
	t.Logf("cut-off of %d: %v", n, time.Since(began))
	w.compare("after the cut-off")
	links, err := w.c.Slips(ctx, old.ID, store.SlipLink)
	w.must(err)
	for _, one := range links.Items {
		err := visit(ctx, w.p.url, one.Link, "any", false)
		if err == nil || !strings.Contains(err.Error(), "410") {
			t.Errorf("%s: the link to the old key says %v", one.Device, err)
		}
	}
}

// read reads all records that a switchover looks at, and returns how long that takes.
func (w *crew) read() time.Duration {
	w.t.Helper()
	began := time.Now()
	for q := (client.Query{Limit: 500}); ; q.Offset += q.Limit {
		profiles, err := w.c.Profiles.List(w.t.Context(), q)
		w.must(err)
		_, err = w.c.Devices.List(w.t.Context(), q)
		w.must(err)
		_, err = w.c.People.List(w.t.Context(), q)
		w.must(err)
		_, err = w.c.Accounts.List(w.t.Context(), q)
		w.must(err)
		if len(profiles.Items) < q.Limit {
			return time.Since(began)
		}
	}
}
