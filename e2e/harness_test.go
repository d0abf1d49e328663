// Package e2e drives the real service on loopback: through its API, its client, its
// command line, and its console in a real browser.
package e2e

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/cli"
	"wardicon/client"
	"wardicon/console"
	"wardicon/core/secret"
	"wardicon/demo"
	"wardicon/httpapi"
	"wardicon/service"
	"wardicon/store"
)

// fleet is a running service with the sample data.
type fleet struct {
	t      *testing.T
	dir    string // data folder
	url    string
	svc    *service.Service
	store  *store.Store   // what svc works on
	client *client.Client // signed in
	log    *buffer
}

// buffer is a log that several goroutines write.
type buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *buffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

func (b *buffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}

// sampled is a data folder with the sample data, which is loaded once and copied for each test.
var sampled = sync.OnceValues(func() (dir string, err error) {
	forgetSample = func() { _ = os.RemoveAll(dir) }
	if dir, err = os.MkdirTemp("", "wardicon-sample-"); err != nil {
		return "", err
	}
	ctx := context.Background()
	s, err := store.Open(ctx, dir, store.Key{}, time.Now)
	if err != nil {
		return "", err
	}
	return dir, errors.Join(
		demo.Load(ctx, service.New(s, slog.New(slog.DiscardHandler), time.Now)),
		s.Close(),
	)
})

var forgetSample = func() {}

// copySample puts the data folder of the demo into another one.
func copySample(t *testing.T, dir string) {
	t.Helper()
	from, err := sampled()
	if err != nil {
		t.Fatal(err)
	}
	copyData(t, from, dir)
}

// copyData copies a data folder.
func copyData(t *testing.T, from, to string) {
	t.Helper()
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(to, "master.key"), 0o600); err != nil {
		t.Fatal(err)
	}
}

// start runs a service; with sample data it is signed in too.
func start(t *testing.T, sample bool, change ...func(*httpapi.Options)) *fleet {
	t.Helper()
	return startBy(t, time.Now, sample, change...)
}

// startBy does it by a clock of the test's own.
func startBy(
	t *testing.T,
	now func() time.Time,
	sample bool,
	change ...func(*httpapi.Options),
) *fleet {
	t.Helper()
	f := &fleet{t: t, dir: filepath.Join(t.TempDir(), "data"), log: &buffer{}}
	log := slog.New(slog.NewJSONHandler(f.log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	if sample {
		copySample(t, f.dir)
	}
	ctx, stop := context.WithCancel(t.Context())
	s, err := store.Open(ctx, f.dir, store.Key{}, now)
	if err != nil {
		t.Fatal(err)
	}
	f.store, f.svc = s, service.New(s, log, now)
	f.svc.ProbeInternal() // simulators for gateways are on this machine
	options := httpapi.Options{Version: "test", Console: console.Dist()}
	for _, c := range change {
		c(&options)
	}
	f.serve(ctx, stop, log, options)
	f.client = client.New(f.url, "")
	f.client.Prove = func(bool) (secret.Text, error) { return secret.New(demo.OwnerPassword), nil }
	if sample {
		if _, err := f.client.SignIn(
			ctx,
			demo.OwnerName,
			secret.New(demo.OwnerPassword),
		); err != nil {
			t.Fatal(err)
		}
	}
	return f
}

// startLived runs a service whose sample data have been in use for some weeks.
func startLived(t *testing.T) *fleet {
	t.Helper()
	f := &fleet{t: t, dir: filepath.Join(t.TempDir(), "data"), log: &buffer{}}
	log := slog.New(slog.NewJSONHandler(f.log, nil))
	var clock demo.Clock
	ctx, stop := context.WithCancel(t.Context())
	s, err := store.Open(ctx, f.dir, store.Key{}, clock.Now)
	if err != nil {
		t.Fatal(err)
	}
	f.store, f.svc = s, service.New(s, log, clock.Now)
	if _, err := demo.Lived(ctx, f.svc, s, &clock); err != nil {
		t.Fatal(err)
	}
	f.serve(ctx, stop, log, httpapi.Options{Version: "test", Console: console.Dist()})
	return f
}

// serve runs the service until the test ends.
func (f *fleet) serve(
	ctx context.Context,
	stop context.CancelFunc,
	log *slog.Logger,
	options httpapi.Options,
) {
	var background sync.WaitGroup
	background.Go(func() { f.svc.Run(ctx) })
	server := httptest.NewServer(httpapi.New(f.svc, log, options))
	f.t.Cleanup(func() {
		server.Close()
		stop()
		background.Wait()
		if err := f.store.Close(); err != nil {
			f.t.Error(err)
		}
	})
	f.url = server.URL
}

// profile finds a profile of the sample data.
func (f *fleet) profile(device, gateway string) string {
	f.t.Helper()
	page, err := f.client.Profiles.List(f.t.Context(), client.Query{Search: device, Limit: 100})
	if err != nil {
		f.t.Fatal(err)
	}
	for _, p := range page.Items {
		if p.Device == device && p.Gateway == gateway {
			return p.ID
		}
	}
	f.t.Fatalf("no profile of %s for %s", device, gateway)
	return ""
}

// confirmFile is where command lines find the owner's password, for what wants it once more.
func (f *fleet) confirmFile() string {
	path := filepath.Join(f.dir, "..", "confirm")
	if err := os.WriteFile(path, []byte(demo.OwnerPassword), 0o600); err != nil {
		f.t.Fatal(err)
	}
	return path
}

// run runs a command line against the service.
func (f *fleet) run(stdin string, args ...string) (code int, out, errs string) {
	f.t.Helper()
	var stdout, stderr bytes.Buffer
	code = cli.Run(
		args,
		cli.Streams{
			In:  strings.NewReader(stdin),
			Out: &stdout,
			Err: &stderr,
			Env: func(name string) string {
				return map[string]string{
					"XDG_CONFIG_HOME":       filepath.Join(f.dir, "..", "config"),
					"WARDICON_SERVICE":      f.url,
					"WARDICON_CONFIRM_FILE": f.confirmFile(),
				}[name]
			},
		},
	)
	return code, stdout.String(), stderr.String()
}

// commands runs command lines as the demo's owner, and holds how each ends and what it says.
func (f *fleet) commands() func(code int, want string, args ...string) string {
	f.t.Helper()
	run := func(code int, want string, args ...string) string {
		f.t.Helper()
		got, out, errs := f.run(demo.OwnerPassword+"\n", args...)
		if got != code || !strings.Contains(out+errs, want) {
			f.t.Errorf(
				"%s ended with %d, expected %d and %q\n%s%s",
				strings.Join(args, " "),
				got,
				code,
				want,
				out,
				errs,
			)
		}
		return out
	}
	run(0, "signed in", "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	return run
}

// svcGateways counts the gateways past the API.
func (f *fleet) svcGateways() (int, error) {
	page, err := f.svc.Gateways.List(f.t.Context(), store.Query{Limit: 1})
	return page.Total, err
}

func query(search string) client.Query { return client.Query{Search: search, Limit: 100} }
