package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"wardicon/client"
	"wardicon/store"
)

// TestMirror keeps a second folder up to date and loses the first: killed while it writes, the service
// has in the mirror what was written but for the last moment, and never something without what came
// before it; stopped well, it has all. Earlier states can be restored, and a mirror that was away
// catches up.
func TestMirror(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	dir, mirror := setUp(t), filepath.Join(t.TempDir(), "mirror")
	if err := os.Mkdir(mirror, 0o700); err != nil {
		t.Fatal(err)
	}
	master := filepath.Join(dir, "master.key")
	restored := func(more ...string) string {
		t.Helper()
		to := filepath.Join(t.TempDir(), "data")
		code, out := said(t, nil, append([]string{"service", "restore", "--from", mirror, "--key-file",
			master, "--data", to}, more...)...)
		if code != 0 || !strings.Contains(out, "all are intact") {
			t.Fatalf("ended with %d: %s", code, out)
		}
		return to
	}
	people := func(c *client.Client) int {
		t.Helper()
		list, err := c.People.List(ctx, client.Query{Limit: 1})
		if err != nil {
			t.Fatal(err)
		}
		return list.Total
	}
	// in is how many people a data folder has; they were added in the order of their names.
	in := func(dir string) int {
		t.Helper()
		p := serve(t, dir, "--key-file", master)
		defer p.stop(os.Interrupt)
		c := signedIn(t, p.url)
		n := people(c)
		if n > 0 {
			last, err := c.People.List(ctx, client.Query{Search: fmt.Sprintf("Sailor %05d", n-1), Limit: 1})
			if err != nil || last.Total != 1 {
				t.Errorf("of %d people the last is not there (%v)", n, err)
			}
		}
		return n
	}
	number := 0
	add := func(c *client.Client) error {
		_, err := c.People.Add(ctx, client.Patch{"name": fmt.Sprintf("Sailor %05d", number)})
		if err == nil {
			number++
		}
		return err
	}

	p := serve(t, dir, "--mirror-to", mirror)
	c := signedIn(t, p.url)
	if _, err := c.Gateways.Add(ctx, client.Patch{"name": "Norrvik", "address": "norrvik.skerryline.example",
		"offers": map[string]any{"l2tp": map[string]any{
			"psk": "halyard-58-Cormorant-shingle-27-thrift", "ppp": []string{"mschapv2"},
			"ike": []string{"aes256-sha256-modp2048"}, "esp": []string{"aes256-sha256"},
		}}}); err != nil {
		t.Fatal(err)
	}
	var written []time.Time
	for begun := time.Now(); time.Since(begun) < 4*time.Second; {
		if err := add(c); err != nil {
			t.Fatal(err)
		}
		written = append(written, time.Now())
	}
	p.stop(syscall.SIGKILL)
	killed := time.Now()
	n := in(restored())
	if n == 0 || n > number {
		t.Fatalf("the mirror has %d of %d people", n, number)
	}
	lost := killed.Sub(written[n-1])
	t.Logf("killed: %d of %d lost, what was written in the last %v", number-n, number, lost.Round(time.Millisecond))
	if lost > 15*time.Second {
		t.Errorf("what was written within %v is lost", lost)
	}

	p = serve(t, dir, "--mirror-to", mirror)
	c = signedIn(t, p.url)
	if got := people(c); got != number {
		t.Fatalf("%d people after the kill, expected %d", got, number)
	}
	if err := add(c); err != nil {
		t.Fatal(err)
	}
	p.stop(syscall.SIGTERM)
	if n := in(restored()); n != number {
		t.Errorf("stopped well, the mirror has %d of %d people", n, number)
	}
	if n := in(restored("--at", time.Now().Add(time.Second).UTC().Format(time.RFC3339))); n != number {
		t.Errorf("now, the mirror has %d of %d people", n, number)
	}
	early := written[len(written)/2].Add(time.Second).Truncate(time.Second).UTC()
	if n := in(restored("--at", early.Format(time.RFC3339))); n == 0 || n >= len(written) {
		t.Errorf("at %v the mirror has %d people of %d", early, n, len(written))
	}
	if err := filepath.WalkDir(mirror, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		data, err := os.ReadFile(path)
		if bytes.Contains(data, []byte("Cormorant")) || info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s has mode %v, or a secret in it", path, info.Mode())
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}

	// The folder goes away for a while, as a disk does that was not mounted.
	metrics := freeAddress(t)
	p = serve(t, dir, "--mirror-to", mirror, "--metrics", metrics)
	c = signedIn(t, p.url)
	// behind is how long ago the mirror had all that was written, by what monitoring is told.
	behind := func() time.Duration {
		t.Helper()
		found := regexp.MustCompile(`(?m)^wardicon_mirror_synced_timestamp_seconds (\S+)$`).
			FindStringSubmatch(fetched(t, "http://"+metrics+"/metrics"))
		if found == nil {
			t.Fatal("monitoring is not told of the mirror")
		}
		at, err := strconv.ParseFloat(found[1], 64)
		if err != nil {
			t.Fatal(err)
		}
		return time.Since(time.UnixMilli(int64(at * 1000)))
	}
	time.Sleep(8 * time.Second) // nothing is written meanwhile
	if d := behind(); d > 5*time.Second {
		t.Errorf("while nothing is written the mirror is %v behind", d)
	}
	if err := os.Rename(mirror, mirror+".away"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(mirror, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := add(c); err != nil {
		t.Fatal(err)
	}
	waited, stop := context.WithTimeout(ctx, 30*time.Second)
	defer stop()
	for !strings.Contains(p.logged(), "the mirror of the database is behind") {
		if waited.Err() != nil {
			t.Fatalf("nothing is said of a mirror that is away:\n%s", p.logged())
		}
		time.Sleep(50 * time.Millisecond)
	}
	first := behind()
	time.Sleep(2 * time.Second)
	if d := behind(); d < first+time.Second {
		t.Errorf("a mirror that is away is %v behind, and was %v two seconds before", d, first)
	}
	if err := os.Remove(mirror); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(mirror+".away", mirror); err != nil {
		t.Fatal(err)
	}
	if err := add(c); err != nil {
		t.Fatal(err)
	}
	p.stop(syscall.SIGTERM)
	if n := in(restored()); n != number {
		t.Errorf("after it was away the mirror has %d of %d people", n, number)
	}

	// Another database goes on with the same folder: it is what the mirror has from then on.
	other := restored("--at", early.Format(time.RFC3339))
	if err := os.Link(master, filepath.Join(other, "master.key")); err != nil {
		t.Fatal(err)
	}
	before := in(other)
	p = serve(t, other, "--mirror-to", mirror)
	c = signedIn(t, p.url)
	number = before
	if err := add(c); err != nil {
		t.Fatal(err)
	}
	p.stop(syscall.SIGTERM)
	if n := in(restored()); n != before+1 {
		t.Errorf("the mirror has %d people of the restored service, expected %d", n, before+1)
	}

	here := t.TempDir()
	for _, test := range []struct {
		name, want string
		code       int
		args       []string
	}{
		{"before the first", "expected one from", 1, []string{"--from", mirror, "--at", "2020-01-01T00:00:00Z"}},
		{"no time", `found "yesterday", expected a time`, 2, []string{"--from", mirror, "--at", "yesterday"}},
		{"a time of a copy", "--at is for a mirror", 2, []string{"--from", here, "--at", "2026-01-01T00:00:00Z"}},
		{"nothing", "there is no copy", 4, []string{"--from", here, "--backup-key", master}},
		{"a folder with a database", "found a database there", 2, []string{"--from", mirror, "--data", dir}},
	} {
		code, out := said(t, nil, append([]string{"service", "restore", "--key-file", master, "--data",
			filepath.Join(here, "to")}, test.args...)...)
		if code != test.code || !strings.Contains(out, test.want) {
			t.Errorf("%s: ended with %d, expected %d and %q: %s", test.name, code, test.code, test.want, out)
		}
		if _, err := os.Stat(filepath.Join(here, "to", store.File)); err == nil {
			t.Errorf("%s: a database was left", test.name)
		}
	}
	code, out := said(t, nil, "serve", "--data", dir, "--mirror-to", filepath.Join(here, "none"))
	if code != 2 || !strings.Contains(out, "mirror-to") || !strings.Contains(out, "make the folder first") {
		t.Errorf("a folder that is not there: ended with %d: %s", code, out)
	}
}
