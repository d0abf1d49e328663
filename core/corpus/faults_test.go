// Package corpus holds the rule book to a collection of faults, at least one for each rule,
// and to files without any.
package corpus_test

import (
	"encoding/json"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/core/check"
	"wardicon/core/drift"
	"wardicon/core/filecheck"
	"wardicon/core/format/all"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// now is the day on which the collection is looked at.
var now = time.Date(2026, time.November, 20, 12, 0, 0, 0, time.UTC)

// fault is the case.json of one folder. Records are a merge patch (RFC 7396) on base.json;
// without them the other files of the folder are checked, against the patched gateway where
// Against is there. Also lists the findings that cannot be had without this fault's own.
type fault struct {
	Records     json.RawMessage   `json:"records"`
	Siblings    []check.Sibling   `json:"siblings"`
	Fallback    *vpn.Gateway      `json:"fallback"`
	Reused      []check.Reuse     `json:"reused"`
	Neighbours  []check.Neighbour `json:"neighbours"`
	Alike       []string          `json:"alike"`
	Outdated    bool              `json:"outdated"`
	Rehearsed   *rehearsal.Result `json:"rehearsed"`
	Before      bool              `json:"rehearsed_before"`
	Damaged     []check.Damage    `json:"damaged"`
	Live        *live             `json:"live"`
	Against     json.RawMessage   `json:"against"`
	Release     string            `json:"release"`
	Compared    *check.Compared   `json:"compared"` // what the record says of the file's secrets
	Passphrases []secret.Text     `json:"passphrases"`
	Exposed     bool              `json:"exposed"`
	Written     *written          `json:"written"`
	Handing     *check.Handing    `json:"handing"`
	Also        []string          `json:"also"`
	// what the real client says when it refuses the file
	Client string `json:"client"`
}

// written stands for the files that a format makes of the records, with a line more.
type written struct {
	Format   platform.Format `json:"format"`
	Platform vpn.Platform    `json:"platform"`
	Release  string          `json:"release"`
	Line     string          `json:"line"`
}

type live struct {
	Missing   bool         `json:"missing"`
	Addresses []netip.Addr `json:"addresses"`

	Differences []drift.Difference `json:"differences"`
}

// TestFaults holds that each fault is found under its rule, and nothing else with it.
func TestFaults(t *testing.T) {
	folders, err := os.ReadDir("testdata/faults")
	if err != nil {
		t.Fatal(err)
	}
	missed, alarms, seeded := 0, 0, map[string]bool{}
	for _, folder := range folders {
		rule, _, _ := strings.Cut(folder.Name(), ".")
		seeded[rule] = true
		f, findings := load(t, filepath.Join("testdata/faults", folder.Name()))
		found := codes(findings)
		if !slices.Contains(found, rule) {
			missed++
			t.Errorf("missed: %s", folder.Name())
		}
		for _, code := range found {
			if code != rule && !slices.Contains(f.Also, code) {
				alarms++
				t.Errorf("%s: %s is found too", folder.Name(), code)
			}
		}
		for _, code := range f.Also {
			if !slices.Contains(found, code) {
				t.Errorf("%s: %s is no longer found with it", folder.Name(), code)
			}
		}
	}
	for _, tab := range tables(t) {
		for _, c := range tab.cases {
			for _, one := range c.expected {
				if words := strings.Fields(one); len(words) > 1 {
					seeded[words[1]] = true
				}
			}
		}
	}
	for _, r := range check.Register {
		if !seeded[r.Code] {
			t.Errorf("no fault for the rule %s", r.Code)
		}
	}
	t.Logf(
		"%d faults for %d rules: %d found, %d missed, %d false alarms",
		len(folders),
		len(check.Register),
		len(folders)-missed,
		missed,
		alarms,
	)
}

// codes lists the rules that found something, each once.
func codes(findings []check.Finding) []string {
	var list []string
	for _, f := range findings {
		if !slices.Contains(list, f.Rule) {
			list = append(list, f.Rule)
		}
	}
	return list
}

// load checks one folder.
func load(t *testing.T, folder string) (fault, []check.Finding) {
	t.Helper()
	var f fault
	var files []filecheck.File
	entries, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		data, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		if e.Name() != "case.json" {
			files = append(files, filecheck.File{Name: e.Name(), Data: data, Asked: true})
		} else if err := json.Unmarshal(data, &f); err != nil {
			t.Fatalf("%s: %s", folder, err)
		}
	}
	if w := f.Written; w != nil {
		in := records(t, json.RawMessage("{}"))
		in.Device.Platform, in.Device.Release, in.Profile.Preferences.Format =
			w.Platform, w.Release, string(
				w.Format,
			)
		codec, _ := all.ByName(w.Format)
		made, err := codec.Write(plan.Make(in).Connection)
		if err != nil {
			t.Fatal(err)
		}
		files = []filecheck.File{
			{Name: made[0].Name, Data: append(made[0].Content, w.Line...), Asked: true},
		}
	}
	for i := range files {
		files[i].Exposed = f.Exposed
	}
	if f.Records != nil {
		return f, planned(records(t, f.Records), f)
	}
	o := filecheck.Options{Now: now, Passphrases: f.Passphrases}
	if f.Against != nil {
		patch, _ := json.Marshal(map[string]json.RawMessage{"gateway": f.Against})
		o.Gateways = []vpn.Gateway{records(t, patch).Gateway}
	}
	if f.Compared != nil {
		o.Compare = func(*vpn.Gateway, vpn.Connection, vpn.Field, secret.Text) check.Compared {
			return *f.Compared
		}
	}
	if p, release, ok := strings.Cut(f.Release, " "); ok {
		found, known := platform.Find(vpn.Platform(p), release)
		if !known {
			t.Fatalf("%s: no platform %q", folder, p)
		}
		o.Release = &found
	}
	return f, filecheck.Findings(filecheck.Check(files, o))
}

// planned checks records as the service does.
func planned(in plan.Input, f fault) []check.Finding {
	in.Fallback = f.Fallback
	p := plan.Make(in)
	s := check.Planned(in, p, f.Siblings)
	s.Rehearsed, s.RehearsedBefore = f.Rehearsed, f.Before
	s.RehearsalRequired = in.Pattern.RequireRehearsal
	s.Now, s.Reused, s.Alike, s.Outdated, s.Neighbours, s.Damaged =
		now, f.Reused, f.Alike, f.Outdated, f.Neighbours, f.Damaged
	if f.Live != nil {
		s.Live = &check.Live{
			Name:        p.Connection.Server,
			Missing:     f.Live.Missing,
			Addresses:   f.Live.Addresses,
			Differences: f.Live.Differences,
			At:          now,
		}
		before := *s.Live
		s.Live.Before = &before
	}
	s.Handing = f.Handing
	return check.Run(s)
}

// records are those of base.json with a patch. A text that begins with @ stands for a file
// of the folder certificates.
func records(t *testing.T, patch json.RawMessage) plan.Input {
	t.Helper()
	base, err := os.ReadFile("testdata/base.json")
	if err != nil {
		t.Fatal(err)
	}
	var from, with any
	if err := json.Unmarshal(base, &from); err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(patch, &with); err != nil {
		t.Fatal(err)
	}
	whole, err := json.Marshal(resolve(t, merge(from, with)))
	if err != nil {
		t.Fatal(err)
	}
	var in plan.Input
	if err := json.Unmarshal(whole, &in); err != nil {
		t.Fatal(err)
	}
	in.Gateway.Normalise()
	return in
}

// merge applies a merge patch (RFC 7396 §2).
func merge(target, patch any) any {
	p, ok := patch.(map[string]any)
	if !ok {
		return patch
	}
	out, _ := target.(map[string]any)
	if out == nil {
		out = map[string]any{}
	}
	for k, v := range p {
		if v == nil {
			delete(out, k)
		} else {
			out[k] = merge(out[k], v)
		}
	}
	return out
}

func resolve(t *testing.T, v any) any {
	t.Helper()
	switch v := v.(type) {
	case string:
		if name, ok := strings.CutPrefix(v, "@"); ok {
			data, err := os.ReadFile(filepath.Join("testdata/certificates", name))
			if err != nil {
				t.Fatal(err)
			}
			return string(data)
		}
	case map[string]any:
		for k := range v {
			v[k] = resolve(t, v[k])
		}
	case []any:
		for i := range v {
			v[i] = resolve(t, v[i])
		}
	}
	return v
}
