package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// confirmed is what a service has answered as done, over all of its lives.
type confirmed struct {
	mu      sync.Mutex
	mails   map[string]string // of people by identifier; empty once removed
	unsure  map[string]bool   // people whose last change was not answered
	parcels []string
	jobs    []string
}

// kills is how often the service is killed: a few times always, more where somebody asks for it.
func kills() int {
	if n, err := strconv.Atoi(os.Getenv("WARDICON_KILLS")); err == nil {
		return n
	}
	return 12
}

// TestKilled kills a service again and again under mixed load: records, parcels and jobs. What it
// has answered is there after the next start, jobs go on and do nothing twice, the audit log is
// whole, and so is the database.
func TestKilled(t *testing.T) {
	t.Parallel()
	dir := setUp(t)
	p := serve(t, dir)
	c := client.New(p.url, "")
	session, err := c.SignIn(t.Context(), "owner", secret.New(ownerPassword))
	if err != nil {
		t.Fatal(err)
	}
	pattern := crewAboard(t, c, 12)
	done := &confirmed{mails: map[string]string{}, unsure: map[string]bool{}}
	for turn := range kills() {
		ctx, stop := context.WithCancel(t.Context())
		var all sync.WaitGroup
		for _, load := range []func(context.Context, *client.Client, int) error{done.people,
			done.people, done.build, done.work(pattern)} {
			all.Go(func() {
				for i := 0; load(ctx, c, i) == nil; i++ {
				}
			})
		}
		time.Sleep(time.Duration(50+rand.IntN(350)) * time.Millisecond)
		p.stop(os.Kill)
		stop()
		all.Wait()
		p = serve(t, dir)
		c = client.New(p.url, session.Token)
		if turn%20 == 19 {
			done.look(t, c)
		}
	}
	done.look(t, c)
	done.finish(t, c)
	if proof, err := c.VerifyAudit(
		t.Context(),
		"",
	); err != nil || !proof.Sound ||
		proof.Lines < len(done.parcels) {
		t.Errorf("the audit log: %+v (%v)", proof, err)
	}
	if code, log := p.stop(os.Interrupt); code != 0 {
		t.Errorf("ended with %d: %s", code, log)
	}
	if out, err := command(
		"service",
		"inspect",
		"--data",
		dir,
	).CombinedOutput(); err != nil ||
		!strings.Contains(string(out), "all are intact") {
		t.Errorf("the data folder: %s (%v)", out, err)
	}
	t.Logf(
		"killed %d times: %d people, %d parcels and %d jobs were confirmed",
		kills(),
		len(done.mails),
		len(done.parcels),
		len(done.jobs),
	)
}

// crewAboard adds a gateway, a crew with devices, and a pattern for them.
func crewAboard(t *testing.T, c *client.Client, devices int) (pattern string) {
	t.Helper()
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	g, err := c.Gateways.Add(
		ctx,
		client.Patch{
			"name":    "North",
			"address": "north.skerryline.example",
			"offers":  map[string]any{"sstp": map[string]any{"ppp": []string{"mschapv2"}}},
		},
	)
	must(err)
	for i := range devices {
		person, err := c.People.Add(
			ctx,
			vpn.Person{
				Name:   fmt.Sprint("Sailor ", i),
				Mail:   fmt.Sprintf("s%d@skerryline.example", i),
				Groups: []string{"crew"},
			},
		)
		must(err)
		_, err = c.Accounts.Add(
			ctx,
			client.Patch{
				"person_id": person.ID,
				"login":     fmt.Sprint("sailor", i),
				"password":  fmt.Sprintf("gale-%d-Marzipan-hinge-otter", 100+i),
			},
		)
		must(err)
		_, err = c.Devices.Add(
			ctx,
			vpn.Device{
				Name:      fmt.Sprint("Laptop ", i),
				PersonID:  person.ID,
				Platform:  vpn.Windows,
				Release:   "11",
				Encrypted: true,
			},
		)
		must(err)
	}
	row, err := c.Patterns.Add(
		ctx,
		client.Patch{"name": "Crew", "groups": []string{"crew"}, "gateway_ids": []string{g.ID}},
	)
	must(err)
	return row.ID
}

// people adds, changes and removes people.
func (d *confirmed) people(ctx context.Context, c *client.Client, i int) error {
	row, err := c.People.Add(ctx, client.Patch{"name": fmt.Sprint("Ada ", i)})
	if err != nil {
		return err
	}
	d.note(row.ID, "none")
	for n := range 3 {
		mail := fmt.Sprintf("a%d-%d@skerryline.example", i, n)
		d.doubt(row.ID)
		if row, err = c.People.Change(
			ctx,
			row.ID,
			row.Version,
			client.Patch{"mail": mail},
		); err != nil {
			return err
		}
		d.note(row.ID, mail)
	}
	if i%3 == 0 {
		d.doubt(row.ID)
		if err := c.People.Remove(ctx, row.ID); err != nil {
			return err
		}
		d.note(row.ID, "")
	}
	return nil
}

func (d *confirmed) note(id, mail string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.mails[id] = mail
	delete(d.unsure, id)
}

// doubt notes that a change was asked for: until it is answered, either is right.
func (d *confirmed) doubt(id string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.unsure[id] = true
}

func (d *confirmed) build(ctx context.Context, c *client.Client, i int) error {
	page, err := c.Profiles.List(ctx, client.Query{Limit: 50})
	if err != nil || len(page.Items) == 0 {
		time.Sleep(5 * time.Millisecond)
		return err
	}
	made, err := c.Build(ctx, page.Items[i%len(page.Items)].ID, false)
	if err == nil {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.parcels = append(d.parcels, made.ID)
	}
	return err
}

// work begins jobs.
func (d *confirmed) work(pattern string) func(context.Context, *client.Client, int) error {
	return func(ctx context.Context, c *client.Client, i int) error {
		j, err := c.RollOut(ctx, pattern)
		if err == nil && i%2 == 1 {
			d.job(j)
			j, err = c.HandOverGroup(ctx, "crew", api.HandoverRequest{Link: check.ByOperator})
			if p, ok := err.(*api.Problem); ok && p.Status == 422 { // no profile yet
				err = nil
			}
		}
		if err == nil {
			d.job(j)
			time.Sleep(20 * time.Millisecond)
		}
		return err
	}
}

func (d *confirmed) job(j api.Job) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if j.ID != "" {
		d.jobs = append(d.jobs, j.ID)
	}
}

// look holds that everything that was answered is there.
func (d *confirmed) look(t *testing.T, c *client.Client) {
	t.Helper()
	for id, mail := range d.mails {
		if d.unsure[id] {
			continue
		}
		row, err := c.People.Show(t.Context(), id)
		if p, ok := err.(*api.Problem); ok && p.Status == 404 && mail == "" {
			continue
		}
		if err != nil || mail != "none" && row.Mail != mail {
			t.Fatalf("%s was answered with %q, and is %+v (%v)", id, mail, row.Person, err)
		}
	}
	for _, id := range d.parcels {
		if data, err := c.Fetch(t.Context(), id, "nothing"); err == nil || len(data) > 0 {
			t.Fatalf("a file of a name that is not there: %v", err)
		} else if p, ok := err.(*api.Problem); !ok || !strings.Contains(p.Detail, "file") {
			t.Fatalf("parcel %s was answered: %v", id, err)
		}
	}
}

// finish waits for every job, and holds that none did anything twice.
func (d *confirmed) finish(t *testing.T, c *client.Client) {
	t.Helper()
	end := time.Now().Add(60 * time.Second)
	for _, id := range d.jobs {
		for {
			j, err := c.Job(t.Context(), id)
			if err != nil {
				t.Fatalf("job %s was answered: %v", id, err)
			}
			if j.State == api.Done {
				break
			}
			if j.State != api.Running || time.Now().After(end) {
				t.Fatalf("%+v", j)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	page, err := c.Profiles.List(t.Context(), client.Query{Limit: 500})
	if err != nil || page.Total > 12 {
		t.Errorf("%d profiles of 12 devices (%v)", page.Total, err)
	}
	made := map[string]int{}
	for offset := 0; ; offset += 500 {
		list, err := c.Handovers(t.Context(), client.Query{Limit: 500, Offset: offset})
		if err != nil {
			t.Fatal(err)
		}
		for _, h := range list.Items {
			if made[h.Batch+" "+h.ProfileID]++; h.Batch != "" && made[h.Batch+" "+h.ProfileID] > 1 {
				t.Errorf("job %s made two links for %s", h.Batch, h.Device)
			}
		}
		if len(list.Items) < 500 {
			return
		}
	}
}
