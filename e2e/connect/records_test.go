package connect

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"wardicon/cli"
	"wardicon/httpapi"
	"wardicon/service"
	"wardicon/store"
)

// records is a running service, spoken to by the command line as an administrator would.
type records struct {
	t   testing.TB
	dir string // the folder that the command lines run beside
	url string
	svc *service.Service
}

const ownerPassword = "lantern over the harbour 9"

// newRecords starts an empty service and signs in.
func newRecords(t testing.TB) *records {
	t.Helper()
	r := &records{t: t, dir: t.TempDir()}
	data := filepath.Join(r.dir, "data")
	r.file("confirm", ownerPassword)
	if code, out := r.try(
		ownerPassword+"\n",
		"service",
		"set-up",
		"--data",
		data,
		"--owner",
		"me",
		"--password-file",
		"-",
	); code != 0 {
		t.Fatal(out)
	}
	ctx, stop := context.WithCancel(context.Background())
	s, err := store.Open(ctx, data, store.Key{}, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.DiscardHandler)
	svc := service.New(s, log, time.Now)
	r.svc = svc
	var background sync.WaitGroup
	background.Go(func() { svc.Run(ctx) })
	server := httptest.NewServer(httpapi.New(svc, log, httpapi.Options{Version: "test"}))
	t.Cleanup(func() {
		server.Close()
		stop()
		background.Wait()
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	r.url = server.URL
	if code, out := r.try(
		ownerPassword+"\n",
		"me",
		"sign-in",
		"--name",
		"me",
		"--password-file",
		"-",
	); code != 0 {
		t.Fatal(out)
	}
	r.do("organisation", "change", "--name", "Skerry Line", "--domain", "skerryline.example")
	return r
}

// try runs one command line.
func (r *records) try(stdin string, args ...string) (int, string) {
	var out bytes.Buffer
	code := cli.Run(
		args,
		cli.Streams{
			In:  strings.NewReader(stdin),
			Out: &out,
			Err: &out,
			Env: func(name string) string {
				return map[string]string{
					"XDG_CONFIG_HOME":  filepath.Join(r.dir, "config"),
					"WARDICON_SERVICE": r.url,
					"WARDICON_CONFIRM_FILE": filepath.Join(r.dir,
						"confirm"),
				}[name]
			},
		},
	)
	return code, out.String()
}

// do runs one that must succeed.
func (r *records) do(args ...string) string {
	r.t.Helper()
	code, out := r.try("", args...)
	if code != 0 {
		r.t.Fatalf("%s ended with %d\n%s", strings.Join(args, " "), code, out)
	}
	return out
}

// configured is the folder with the configuration that the service makes for a gateway's daemons.
func (r *records) configured(name string) string {
	r.t.Helper()
	folder := filepath.Join(r.t.TempDir(), "configured")
	r.do("gateway", "config", name, "--out", folder)
	return folder
}

// file writes a file for a flag that wants one.
func (r *records) file(name, content string) string {
	r.t.Helper()
	path := filepath.Join(r.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		r.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
		r.t.Fatal(err)
	}
	return path
}

// build builds a parcel and gives the folder that it lies in.
func (r *records) build(profile string, more ...string) string {
	r.t.Helper()
	dir := filepath.Join(
		r.dir,
		"parcels",
		strings.NewReplacer(" ", "-", "/", "-").Replace(strings.ToLower(profile)),
	)
	r.do(append([]string{"build", profile, "--out", dir}, more...)...)
	return dir
}

// authority writes the certificates of an authority on record to a file, and gives its path.
func (r *records) authority(name string) string {
	r.t.Helper()
	var a struct{ Certificate string }
	if err := json.Unmarshal(
		[]byte(r.do("authority", "show", name, "-o", "json")),
		&a,
	); err != nil {
		r.t.Fatal(err)
	}
	return r.file("authorities/"+name+".pem", a.Certificate)
}

// despite builds a parcel in a folder of its own, letting some errors pass: a test's gateway
// may lack what a sound one has.
func (r *records) despite(profile, name string, rules ...string) string {
	r.t.Helper()
	for _, rule := range rules {
		r.do(
			"finding",
			"override",
			profile,
			rule,
			"--reason",
			"the test's gateway has no more",
			"--until",
			time.Now().AddDate(0, 0, 7).Format(time.DateOnly),
		)
	}
	dir := filepath.Join(
		r.dir,
		"parcels",
		strings.NewReplacer(" ", "-", "/", "-").Replace(strings.ToLower(profile))+"-"+name,
	)
	r.do("build", profile, "--out", dir)
	return dir
}
