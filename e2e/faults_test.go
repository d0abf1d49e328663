package e2e

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

func ready(t *testing.T, url string) (int, string) {
	t.Helper()
	res, err := http.Get(url + "/ready")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, strings.TrimSpace(string(text))
}

// TestFullDisk fills the disk under a service: whoever reads goes on reading, what is refused says
// why, readiness says it too, and all goes on once there is room. Nothing that was accepted is
// lost.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("a small disk is made as root")
	}
	dir, small := setUp(t), t.TempDir()
	inside := `mount -t tmpfs -o size=12m none "$1" && cp -a "$2" "$1/data" && exec "$0" serve ` +
		`--data "$1/data" --listen 127.0.0.1:0 --log json`
	cmd := exec.Command("unshare", "-m", "sh", "-c", inside, os.Args[0], small, dir)
	cmd.Env = append(os.Environ(), "WARDICON_PROCESS=1")
	p := begun(t, cmd)
	c := signedIn(t, p.url)
	ctx := t.Context()
	kept, err := c.People.Add(ctx, vpn.Person{Name: "Ada", Groups: []string{}})
	if err != nil {
		t.Fatal(err)
	}
	filler := filepath.Join("/proc", fmt.Sprint(cmd.Process.Pid), "root", small, "filler")
	f, err := os.Create(filler)
	if err != nil {
		t.Fatal(err)
	}
	for err == nil {
		_, err = f.Write(make([]byte, 4096))
	}
	if !errors.Is(err, syscall.ENOSPC) {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	var problem *api.Problem
	for i := 0; problem == nil && i < 200; i++ { // what is in the log already has room
		if _, err := c.People.Add(
			ctx,
			vpn.Person{Name: fmt.Sprint("Ben ", i), Groups: []string{strings.Repeat("x", 90)}},
		); err != nil &&
			!errors.As(err, &problem) {
			t.Fatal(err)
		}
	}
	if problem == nil || problem.Status != http.StatusInsufficientStorage ||
		!strings.HasSuffix(problem.Type, ":storage-full") ||
		!strings.Contains(problem.Detail, "the disk of the data folder "+small+"/data is full") {
		t.Errorf("%+v", problem)
	}
	if status, text := ready(
		t,
		p.url,
	); status != http.StatusServiceUnavailable ||
		text != "not ready: the disk of the data folder is full" {
		t.Errorf("ready: %d %s", status, text)
	}
	for range 3 {
		if row, err := c.People.Show(ctx, kept.ID); err != nil || row.Name != "Ada" {
			t.Errorf("reading: %+v (%v)", row, err)
		}
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	if _, err := c.People.Add(ctx, vpn.Person{Name: "Cleo", Groups: []string{}}); err != nil {
		t.Errorf("with room again: %v", err)
	}
	if status, text := ready(t, p.url); status != http.StatusOK {
		t.Errorf("ready: %d %s", status, text)
	}
	if row, err := c.People.Show(ctx, kept.ID); err != nil || row.Name != "Ada" {
		t.Errorf("afterwards: %+v (%v)", row, err)
	}
	if code, log := p.stop(syscall.SIGTERM); code != 0 || !strings.Contains(log, "full") {
		t.Errorf("ended with %d:\n%s", code, log)
	}
}

// TestLostUpdates has two change the same: the second hears of the first, whatever it is that they
// change.
func TestLostUpdates(t *testing.T) {
	f := start(t, true)
	auth := f.token()
	page, err := f.client.Gateways.List(t.Context(), query("Norrvik"))
	if err != nil {
		t.Fatal(err)
	}
	gateway := "/api/v1/gateways/" + page.Items[0].ID
	people, err := f.client.People.List(t.Context(), query("Ines"))
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		name, method, path, body, seen string
		status                         int
		says                           string
	}{
		{"organisation, unseen", "PUT", "/api/v1/organisation",
			`{"name":"Skerry Line","domain":"skerryline.example"}`, "", 428, "If-Match"},
		{"organisation, an old one", "PUT", "/api/v1/organisation",
			`{"name":"Skerry Line","domain":"skerryline.example"}`, "999", 412,
			"organisation was changed meanwhile"},
		{"organisation, no version", "PUT", "/api/v1/organisation",
			`{"name":"Skerry Line","domain":"skerryline.example"}`, "yesterday", 422,
			"organisation"},
		{"organisation, any", "PUT", "/api/v1/organisation",
			`{"name":"Skerry Line","domain":"skerryline.example"}`, "*", 200, ""},
		{"mail, unseen", "PUT", "/api/v1/mail", `{"server":"","reminders":[]}`, "", 428,
			"mail configuration"},
		{"mail, an old one", "PUT", "/api/v1/mail", `{"server":"","reminders":[]}`, "999", 412,
			"mail configuration was changed"},
		{"signer, unseen", "DELETE", "/api/v1/signer", "", "", 428, "signer"},
		{"signer, an old one", "DELETE", "/api/v1/signer", "", "999", 412, "signer was changed"},
		{"a list, unseen", "PATCH", gateway, `{"dns":["10.20.0.53"]}`, "", 428, "gateway"},
		{"a list, an old one", "PATCH", gateway, `{"dns":["10.20.0.53"]}`, "9999", 412,
			"was changed meanwhile"},
		{"one value, unseen", "PATCH", "/api/v1/people/" + people.Items[0].ID,
			`{"name":"Ines Moreau"}`, "", 200, ""},
		{"a filter with two values", "GET",
			"/api/v1/devices?filter=platform:ios&filter=platform:windows", "", "", 400,
			"two values"},
		{"after nobody", "GET", "/api/v1/devices?after=de-x", "", "", 400, "after"},
	} {
		media := "application/json"
		if test.method == "PATCH" {
			media = "application/merge-patch+json"
		}
		res, p := f.send(
			test.method,
			test.path,
			test.body,
			"Authorization",
			auth,
			"Content-Type",
			media,
			"If-Match",
			test.seen,
		)
		if res.StatusCode != test.status || !strings.Contains(p.Detail, test.says) {
			t.Errorf(
				"%s: %d %s, expected %d with %q",
				test.name,
				res.StatusCode,
				p.Detail,
				test.status,
				test.says,
			)
		}
	}
}

// TestAfter walks a list by the last row of each page, while rows come and go: what stays is seen
// once.
func TestAfter(t *testing.T) {
	f := start(t, true)
	auth := f.token()
	all, err := f.client.Devices.List(t.Context(), query(""))
	if err != nil {
		t.Fatal(err)
	}
	for _, order := range []string{"name", "-name", "person", "-platform", "changed"} {
		seen, after := map[string]int{}, ""
		for turn := 0; ; turn++ {
			_, body, _ := f.raw(
				http.MethodGet,
				"/devices?limit=7&sort="+order+"&after="+after,
				"",
				"Authorization",
				auth,
			)
			page := api.Page[api.Device]{}
			if err := json.Unmarshal([]byte(body), &page); err != nil {
				t.Fatal(err)
			}
			if len(page.Items) == 0 {
				break
			}
			for _, d := range page.Items {
				seen[d.ID]++
				after = d.ID
			}
			if turn == 1 { // one that comes before what is read next shifts nothing
				if _, err := f.client.Devices.Add(
					t.Context(),
					vpn.Device{
						Name:     "AAA " + order,
						PersonID: all.Items[0].PersonID,
						Platform: vpn.IOS,
						Release:  "17",
					},
				); err != nil {
					t.Fatal(err)
				}
			}
		}
		for _, d := range all.Items {
			if seen[d.ID] != 1 {
				t.Errorf("%s: %s was seen %d times", order, d.Name, seen[d.ID])
			}
		}
	}
}

// TestPatience has clients that send a byte now and then, or never read, and a thousand that poll:
// the rest goes on.
func TestPatience(t *testing.T) {
	t.Parallel()
	p := serve(t, setUp(t))
	c := client.New(p.url, "")
	session, err := c.SignIn(t.Context(), "owner", secret.New(ownerPassword))
	if err != nil {
		t.Fatal(err)
	}
	for i := range 100 {
		conn, err := net.Dial("tcp", strings.TrimPrefix(p.url, "http://"))
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = conn.Close() })
		text := "POST /api/v1/people HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " +
			session.Token + "\r\nContent-Type: application/json\r\nContent-Length: 1000000\r\n\r\n{"
		if i%2 == 1 { // asks much and never reads
			text = strings.Repeat("GET /api/v1/openapi.json HTTP/1.1\r\nHost: x\r\n\r\n", 20)
		}
		if _, err := conn.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	transport := &http.Transport{MaxIdleConnsPerHost: 1000}
	defer transport.CloseIdleConnections()
	var all sync.WaitGroup
	faults := make(chan error, 1000)
	for range 1000 {
		all.Go(func() {
			req, err := http.NewRequestWithContext(
				t.Context(),
				http.MethodGet,
				p.url+"/api/v1/overview",
				nil,
			)
			if err != nil {
				faults <- err
				return
			}
			req.Header.Set("Authorization", "Bearer "+session.Token)
			res, err := (&http.Client{Transport: transport}).Do(req)
			if err != nil {
				faults <- err
				return
			}
			_, _ = io.Copy(io.Discard, res.Body)
			if _ = res.Body.Close(); res.StatusCode != http.StatusOK {
				faults <- fmt.Errorf("overview: %d", res.StatusCode)
			}
		})
	}
	for i := range 10 {
		if _, err := c.People.Add(
			t.Context(),
			client.Patch{"name": fmt.Sprint("Late ", i)},
		); err != nil {
			t.Error(err)
		}
		if status, text := ready(t, p.url); status != http.StatusOK {
			t.Errorf("ready: %d %s", status, text)
		}
	}
	all.Wait()
	close(faults)
	for err := range faults {
		t.Fatal(err)
	}
}

// TestEndWhileStuck ends a service while somebody asks for much and does not read it: it waits a
// while, ends the rest, and ends well.
func TestEndWhileStuck(t *testing.T) {
	t.Parallel()
	p := serve(t, setUp(t))
	conn, err := net.Dial("tcp", strings.TrimPrefix(p.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = conn.Close() }()
	if _, err := io.WriteString(
		conn,
		strings.Repeat("GET /api/v1/openapi.json HTTP/1.1\r\nHost: x\r\n\r\n", 100),
	); err != nil {
		t.Fatal(err)
	}
	// It is stuck once it has answered some and answers no more.
	for before := ""; ; time.Sleep(time.Second) {
		now := p.logged()
		if now == before && strings.Contains(now, "openapi.json") {
			break
		}
		before = now
	}
	begin := time.Now()
	code, log := p.stop(syscall.SIGTERM)
	if code != 0 || time.Since(begin) > 20*time.Second ||
		!strings.Contains(log, "still open were terminated") {
		t.Errorf("ended with %d after %s:\n%s", code, time.Since(begin), log)
	}
}

// TestGivenUp has a client give up while it waits: its search ends with it, and does not keep
// others from theirs.
func TestGivenUp(t *testing.T) {
	f := start(t, true)
	token := f.token()
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			ctx, stop := context.WithTimeout(t.Context(), time.Duration(i)*time.Millisecond)
			defer stop()
			req, err := http.NewRequestWithContext(
				ctx,
				http.MethodGet,
				f.url+"/api/v1/findings?search=e&limit=500",
				nil,
			)
			if err != nil {
				t.Error(err)
				return
			}
			req.Header.Set("Authorization", token)
			if res, err := http.DefaultClient.Do(req); err == nil {
				_, _ = bufio.NewReader(res.Body).ReadString('\n')
				_ = res.Body.Close()
			}
		})
	}
	all.Wait()
	if page, err := f.client.Devices.List(
		t.Context(),
		query("laptop"),
	); err != nil ||
		page.Total == 0 {
		t.Errorf("%d (%v)", page.Total, err)
	}
}

// TestBackupDamaged copies a folder in which a value is damaged: the copy is made, and said to have
// it too.
func TestBackupDamaged(t *testing.T) {
	t.Parallel()
	dir := setUp(t)
	p := serve(t, dir)
	c := signedIn(t, p.url)
	person, err := c.People.Add(t.Context(), client.Patch{"name": "Ada"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Accounts.Add(
		t.Context(),
		client.Patch{
			"person_id": person.ID,
			"login":     "ada",
			"password":  "gale-74-Marzipan-hinge-otter",
		},
	); err != nil {
		t.Fatal(err)
	}
	p.stop(os.Interrupt)
	for _, test := range []struct {
		statement string
		code      int
		says      string
	}{
		{"", 0, "wrote"},
		{`UPDATE secrets SET sealed = zeroblob(50) WHERE owner LIKE 'account:%'`, 1,
			"1 of "},
	} {
		if test.statement != "" {
			db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
			if err != nil {
				t.Fatal(err)
			}
			if _, err := db.Exec(test.statement); err != nil {
				t.Fatal(err)
			}
			_ = db.Close()
		}
		cmd := command(
			"service",
			"backup",
			"--data",
			dir,
			"--out",
			filepath.Join(t.TempDir(), "copy.db"),
		)
		out, _ := cmd.CombinedOutput()
		if cmd.ProcessState.ExitCode() != test.code || !strings.Contains(string(out), test.says) {
			t.Errorf("ended with %d: %s", cmd.ProcessState.ExitCode(), out)
		}
	}
}
