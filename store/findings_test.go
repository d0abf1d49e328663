package store_test

import (
	"database/sql"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// TestFindingRecords keeps the findings of checks: their first day stays, what is gone is
// counted as ended, and a check of data that has changed meanwhile is not kept.
func TestFindingRecords(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	known := small(t, s)
	ctx := t.Context()
	due := func() []store.Due {
		t.Helper()
		list, err := s.Read().DueProfiles(ctx, 100)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	put := func(d store.Due, rules ...string) {
		t.Helper()
		var list []check.Finding
		for _, r := range rules {
			code, severity, _ := strings.Cut(r, " ")
			list = append(
				list,
				check.Finding{
					Rule:     code,
					Severity: vpn.Severity(severity),
					Field:    vpn.FieldLogin,
					Found:    "x",
					Place: &check.Spot{
						Noun:    "account",
						ID:      known["ada's account"],
						Pointer: "/login",
					},
					Fixable: code == "edge-space",
				},
			)
		}
		if err := s.Write(
			ctx,
			func(tx *store.Tx) error { return tx.PutFindings(ctx, d, list) },
		); err != nil {
			t.Fatal(err)
		}
	}
	touch := func() {
		t.Helper()
		if err := s.Write(
			ctx,
			func(tx *store.Tx) error { return tx.TouchProfiles(ctx, "1") },
		); err != nil {
			t.Fatal(err)
		}
	}
	list := func(q store.Query) string {
		t.Helper()
		q.Limit = 100
		page, err := store.Findings.List(ctx, s.Read(), q)
		if err != nil {
			t.Fatal(err)
		}
		var rules []string
		for _, f := range page.Items {
			rules = append(rules, f.Rule)
		}
		if page.Total != len(rules) {
			t.Errorf("a total of %d for %d", page.Total, len(rules))
		}
		return strings.Join(rules, " ")
	}
	first := due()
	if len(first) < 2 {
		t.Fatalf("%d profiles are due", len(first))
	}
	put(first[0], "psk-short warning", "edge-space error", "name-lacks-gateway note")
	put(first[1], "edge-space error")
	if left := due(); len(left) != len(first)-2 {
		t.Errorf("%d are due after two of %d", len(left), len(first))
	}
	for _, test := range []struct {
		query store.Query
		want  string
	}{
		{store.Query{}, "edge-space edge-space psk-short name-lacks-gateway"},
		{store.Query{Sort: "rule"}, "edge-space edge-space name-lacks-gateway psk-short"},
		{store.Query{Conditions: map[string]string{"rule": "psk-short"}}, "psk-short"},
		{store.Query{Conditions: map[string]string{"severity": "error", "profile_id": first[1].ID}},
			"edge-space"},
		{store.Query{Conditions: map[string]string{"fixable": "true"}}, "edge-space edge-space"},
		{store.Query{Conditions: map[string]string{"fixable": "false"}},
			"psk-short name-lacks-gateway"},
		{store.Query{Conditions: map[string]string{"overridden": "true"}}, ""},
		{store.Query{Conditions: map[string]string{"rule": "' OR 1=1 --"}}, ""},
		{store.Query{Search: "nobody"}, ""},
	} {
		if got := list(test.query); got != test.want {
			t.Errorf("%+v lists %q, expected %q", test.query, got, test.want)
		}
	}
	ids, err := s.Read().ProfilesWith(ctx, "edge-space", "", 1)
	if err != nil || len(ids) != 1 {
		t.Fatalf("%v (%v)", ids, err)
	}
	if next, err := s.Read().
		ProfilesWith(ctx, "edge-space", ids[0], 10); err != nil || len(next) != 1 ||
		next[0] == ids[0] {
		t.Errorf("after the first: %v (%v)", next, err)
	}

	stale := first[0]
	touch()
	put(stale, "value-too-long warning")
	if got := list(
		store.Query{Conditions: map[string]string{"profile_id": stale.ID}},
	); strings.Contains(
		got,
		"value-too-long",
	) {
		t.Errorf("a check of old data was kept: %s", got)
	}
	again := due()
	i := slices.IndexFunc(again, func(d store.Due) bool { return d.ID == stale.ID })
	put(again[i], "edge-space error")
	sums, err := s.Read().SumFindings(ctx, "rule", 7, 100)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]api.FindingSum{}
	for _, sum := range sums {
		seen[sum.Key] = sum
	}
	if f := seen["edge-space"]; f.Tally.Errors != 2 || f.Profiles != 2 || f.Fixable != 2 ||
		f.Ended != 0 {
		t.Errorf("still there: %+v", f)
	}
	if f := seen["psk-short"]; f.Tally != (vpn.Tally{}) || f.Ended != 1 {
		t.Errorf("gone: %+v", f)
	}
	if sums[0].Key != "edge-space" {
		t.Errorf("the worst comes first, not %s", sums[0].Key)
	}
	var wrong *store.QueryError
	if _, err := s.Read().SumFindings(ctx, "colour", 7, 100); !errors.As(err, &wrong) {
		t.Errorf("by colour: %v", err)
	}
}

// TestMarks holds that equal secrets of any records are found, and nothing about them can be
// read from the file of the database.
func TestMarks(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Key{})
	known := small(t, s)
	ctx := t.Context()
	set := func(name, v string) {
		t.Helper()
		err := s.Write(ctx, func(tx *store.Tx) error {
			a, err := store.Accounts.Get(ctx, tx, known[name+"'s account"])
			if err != nil {
				return err
			}
			password := secret.New(v)
			a.Password = &password
			return store.Accounts.Update(ctx, tx, a, a.Version)
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	sharers := func(name string) string {
		t.Helper()
		list, err := s.Read().Sharers(ctx, "account", known[name+"'s account"], "password", 10)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, other := range list {
			for n, id := range known {
				if id == other.ID {
					names = append(names, strings.TrimSuffix(n, "'s account"))
				}
			}
		}
		slices.Sort(names)
		return strings.Join(names, " ")
	}
	const one, two = "oakum-71-Reef-lantern", "oakum-71-Reef-lanterN"
	set("ada", one)
	set("bosse", one)
	set("cleo", two)
	for name, want := range map[string]string{"ada": "bosse", "bosse": "ada", "cleo": ""} {
		if got := sharers(name); got != want {
			t.Errorf("%s shares with %q, expected %q", name, got, want)
		}
	}
	set("bosse", two)
	for name, want := range map[string]string{"ada": "", "bosse": "cleo", "cleo": "bosse"} {
		if got := sharers(name); got != want {
			t.Errorf("then %s shares with %q, expected %q", name, got, want)
		}
	}
	// The same secret in another installation has another mark: they cannot be compared.
	elsewhere := t.TempDir()
	s = open(t, elsewhere, store.Key{})
	known = small(t, s)
	set("cleo", two)
	if mine, theirs := marks(
		t,
		dir,
	), marks(
		t,
		elsewhere,
	); len(mine) != 2 || len(theirs) != 1 ||
		slices.Contains(mine, theirs[0]) {
		t.Errorf("marks %v in one installation, %v in another", mine, theirs)
	}
}

// marks are the different ones in a file of the database.
func marks(t *testing.T, dir string) []string {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	rows, err := db.QueryContext(
		t.Context(),
		"SELECT DISTINCT hex(mark) FROM secrets WHERE mark IS NOT NULL ORDER BY 1",
	)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = rows.Close() }()
	var list []string
	for rows.Next() {
		var mark string
		if err := rows.Scan(&mark); err != nil {
			t.Fatal(err)
		}
		list = append(list, mark)
	}
	if err := rows.Err(); err != nil {
		t.Fatal(err)
	}
	return list
}
