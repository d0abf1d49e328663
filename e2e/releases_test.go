package e2e

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/demo"
)

// TestReleases starts this release on the data folder of each earlier one, as that one's own program
// wrote it, and holds what the service says to what the earlier one said: every record with every field,
// every secret, what was built.
func TestReleases(t *testing.T) {
	t.Parallel()
	archives, err := filepath.Glob("testdata/releases/*.tar.gz")
	if err != nil || len(archives) == 0 {
		t.Fatal("no data of earlier releases", err)
	}
	for _, archive := range archives {
		t.Run(strings.TrimSuffix(filepath.Base(archive), ".tar.gz"), func(t *testing.T) {
			t.Parallel()
			upgrade(t, archive)
		})
	}
}

// renamed are fields that are answered under another name since; computed ones are not on record.
var renamed = map[string]string{"profile.wishes": "preferences"}

var computed = []string{"version", "changed", "tally", "checked", "profiles"}

func upgrade(t *testing.T, archive string) {
	ctx, dir := t.Context(), t.TempDir()
	unpack(t, archive, dir)
	typed, err := os.ReadFile(filepath.Join(dir, "said", "password"))
	if err != nil {
		t.Fatal(err)
	}
	password := secret.New(strings.TrimSpace(string(typed)))
	p := serve(t, filepath.Join(dir, "data"))
	c := client.New(p.url, "")
	c.Prove = func(bool) (secret.Text, error) { return password, nil }
	var session api.SignedIn
	for range 2 { // at the first one the password is hashed as it is now
		if session, err = c.SignIn(ctx, demo.OwnerName, password); err != nil {
			t.Fatal(err)
		}
	}
	for noun, collection := range map[string]string{
		"account": "accounts", "device": "devices", "gateway": "gateways", "person": "people",
		"profile": "profiles",
	} {
		said := records(t, filepath.Join(dir, "said", noun+".json"))
		var answered struct{ Items []map[string]any }
		if err := json.Unmarshal(answer(t, p.url+"/api/v1/"+collection+"?limit=200", session.Token), &answered); err != nil {
			t.Fatal(err)
		}
		now := map[string]map[string]any{}
		for _, r := range answered.Items {
			now[r["id"].(string)] = r
		}
		if len(now) != len(said) {
			t.Errorf("%d %s, expected %d", len(now), collection, len(said))
		}
		for _, r := range said {
			for _, field := range slices.Sorted(maps.Keys(r)) {
				if slices.Contains(computed, field) {
					continue
				}
				name := field
				if other, ok := renamed[noun+"."+field]; ok {
					name = other
				}
				if now := now[r["id"].(string)][name]; !holds(now, r[field]) {
					t.Errorf("%s %s %v, %s: found %v, expected %v", noun, r["id"], r["name"], field, now, r[field])
				}
			}
		}
	}
	built, err := filepath.Glob(filepath.Join(dir, "built", "*"))
	profiles, err2 := c.Profiles.List(ctx, query("Planner Mac 1"))
	at := slices.IndexFunc(profiles.Items, func(x api.Profile) bool { return x.Gateway == "Norrvik" })
	if err := errors.Join(err, err2); err != nil || len(built) == 0 || at < 0 {
		t.Fatal(len(built), at, err)
	}
	profile := profiles.Items[at].ID
	parcels, err := c.Parcels(ctx, profile)
	if err != nil || len(parcels.Items) != 1 {
		t.Fatal(len(parcels.Items), err)
	}
	anew, err := c.Build(ctx, profile, false)
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range built {
		want, err := os.ReadFile(path)
		kept, err2 := c.Fetch(ctx, parcels.Items[0].ID, filepath.Base(path))
		if err := errors.Join(err, err2); err != nil || !bytes.Equal(kept, want) {
			t.Errorf("%s is not what was built (%v)", filepath.Base(path), err)
		}
		if filepath.Ext(path) != ".mobileconfig" {
			continue
		}
		file, err := c.Fetch(ctx, anew.ID, filepath.Base(path))
		key := sharedSecret.FindString(string(want))
		if err != nil || key == "" || !strings.Contains(string(file), key) {
			t.Errorf("%s has another key when it is built anew (%v)", filepath.Base(path), err)
		}
	}
	if proof, err := c.VerifyAudit(ctx, ""); err != nil || !proof.Sound {
		t.Errorf("the audit log is %+v (%v)", proof, err)
	}
}

var sharedSecret = regexp.MustCompile(`<key>SharedSecret</key>\s*<data>[^<]+</data>`)

// answer is what the service answers to a call.
func answer(t *testing.T, url, bearer string) []byte {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+bearer)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	data, err := io.ReadAll(res.Body)
	if err := errors.Join(err, res.Body.Close()); err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(res.StatusCode, string(data), err)
	}
	return data
}

// holds tells whether all that was said is still answered; there may be more by now.
func holds(now, said any) bool {
	switch said := said.(type) {
	case map[string]any:
		now, ok := now.(map[string]any)
		for key := range said {
			ok = ok && holds(now[key], said[key])
		}
		return ok
	case []any:
		now, ok := now.([]any)
		return ok && slices.EqualFunc(now, said, holds)
	}
	return now == said
}

func records(t *testing.T, file string) []map[string]any {
	t.Helper()
	data, err := os.ReadFile(file)
	var list struct{ Items []map[string]any }
	if err := errors.Join(err, json.Unmarshal(data, &list)); err != nil || len(list.Items) == 0 {
		t.Fatal(file, err)
	}
	return list.Items
}

// unpack writes what is in an archive into a folder.
func unpack(t *testing.T, archive, dir string) {
	t.Helper()
	f, err := os.Open(archive)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, h.Name)
		if h.Typeflag == tar.TypeDir {
			err = os.MkdirAll(path, 0o700)
		} else if data, err2 := io.ReadAll(r); err2 == nil {
			err = os.WriteFile(path, data, 0o600)
		} else {
			err = err2
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}
