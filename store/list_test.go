package store_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/vpn"
	"wardicon/store"
)

// ids are the identifiers of a small fleet, by name.
type ids map[string]string

// small fills a store with two gateways, three people, five devices and four profiles.
func small(t *testing.T, s *store.Store) ids {
	t.Helper()
	ctx, known := t.Context(), ids{}
	write := func(do func(tx *store.Tx) error) {
		t.Helper()
		if err := s.Write(ctx, do); err != nil {
			t.Fatal(err)
		}
	}
	for _, g := range []vpn.Gateway{
		{
			Name:    "Norrvik",
			Address: "b.example",
			Place:   vpn.Place{City: "Norrvik"},
		},
		{
			Name:    "Äppelholm_100%",
			Address: "a.example",
			Place:   vpn.Place{City: "Tallholm"},
		},
	} {
		g.Normalise()
		write(func(tx *store.Tx) error { return store.Gateways.Insert(ctx, tx, &g) })
		known[g.Name] = g.ID
	}
	for _, p := range []vpn.Person{
		{
			Name:   "Ada",
			Mail:   "z@x.example",
			Groups: []string{"deck", "bridge"},
		},
		{Name: "bosse", Groups: []string{"deck"}},
		{Name: "Cleo", Mail: "a@x.example", Groups: []string{}},
	} {
		write(func(tx *store.Tx) error { return store.People.Insert(ctx, tx, &p) })
		known[p.Name] = p.ID
		a := vpn.Account{
			PersonID:   p.ID,
			Login:      strings.ToLower(p.Name),
			GatewayIDs: []string{known["Norrvik"]},
		}
		write(func(tx *store.Tx) error { return store.Accounts.Insert(ctx, tx, &a) })
		known[a.Login+"'s account"] = a.ID
	}
	for i, d := range []struct {
		owner    string
		platform vpn.Platform
	}{
		{"Ada", vpn.IOS},
		{"Ada", vpn.Windows},
		{"bosse", vpn.IOS},
		{"Cleo", vpn.Android},
		{"Cleo", vpn.IOS},
	} {
		device := vpn.Device{
			Name:     fmt.Sprintf("Device %d", i),
			PersonID: known[d.owner],
			Platform: d.platform,
			Release:  "10",
		}
		write(func(tx *store.Tx) error { return store.Devices.Insert(ctx, tx, &device) })
		known[device.Name] = device.ID
	}
	for device, gateway := range map[string]string{
		"Device 0": "Norrvik",
		"Device 1": "Norrvik",
		"Device 2": "Äppelholm_100%",
		"Device 3": "Norrvik",
	} {
		p := vpn.Profile{DeviceID: known[device], GatewayID: known[gateway]}
		write(func(tx *store.Tx) error { return store.Profiles.Insert(ctx, tx, &p) })
		known[device+"'s profile"] = p.ID
	}
	return known
}

func names[Row any](page api.Page[Row], name func(Row) string) string {
	var list []string
	for _, r := range page.Items {
		list = append(list, name(r))
	}
	return fmt.Sprintf("%d: %s", page.Total, strings.Join(list, " "))
}

// TestLists searches, filters, sorts and pages every table.
func TestLists(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	known := small(t, s)
	ctx, tx := t.Context(), s.Read()
	gateways := func(q store.Query) (string, error) {
		page, err := store.Gateways.List(ctx, tx, q)
		return names(
			page,
			func(g api.Gateway) string { return fmt.Sprintf("%s/%d", g.Name, g.Profiles) },
		), err
	}
	people := func(q store.Query) (string, error) {
		page, err := store.People.List(ctx, tx, q)
		return names(
			page,
			func(p api.Person) string {
				return fmt.Sprintf("%s/%d/%d",
					p.Name, p.Accounts, p.Devices)
			},
		), err
	}
	accounts := func(q store.Query) (string, error) {
		page, err := store.Accounts.List(ctx, tx, q)
		return names(page, func(a api.Account) string { return a.Login + "/" + a.Person }), err
	}
	devices := func(q store.Query) (string, error) {
		page, err := store.Devices.List(ctx, tx, q)
		return names(
			page,
			func(d api.Device) string {
				return strings.TrimPrefix(d.Name, "Device ") + "/" +
					d.Person
			},
		), err
	}
	profiles := func(q store.Query) (string, error) {
		page, err := store.Profiles.List(ctx, tx, q)
		return names(page, func(p api.Profile) string {
			return strings.TrimPrefix(p.Device, "Device ") + "/" + p.Gateway[:2] + "/" + p.Person
		}), err
	}
	by := func(name, value string) map[string]string { return map[string]string{name: value} }
	for _, test := range []struct {
		name string
		list func(store.Query) (string, error)
		q    store.Query
		want string
	}{
		{"all gateways", gateways, store.Query{Limit: 9}, "2: Norrvik/3 Äppelholm_100%/1"},
		{"gateways by address", gateways, store.Query{Limit: 9, Sort: "address"},
			"2: Äppelholm_100%/1 Norrvik/3"},
		{"gateways turned round", gateways, store.Query{Limit: 9, Sort: "-name"},
			"2: Äppelholm_100%/1 Norrvik/3"},
		{"a name in capitals", gateways, store.Query{Limit: 9, Conditions: by("name", "NORRVIK")},
			"1: Norrvik/3"},
		{"signs of LIKE are taken as they are", gateways, store.Query{Limit: 9, Search: "_100%"},
			"1: Äppelholm_100%/1"},
		{"signs of LIKE fit nothing else", gateways, store.Query{Limit: 9, Search: "N%k"}, "0: "},
		{"a quote", gateways, store.Query{Limit: 9, Search: "' OR 1=1 --"}, "0: "},
		{"a backslash", gateways, store.Query{Limit: 9, Search: `\`}, "0: "},

		{"people, capitals apart", people, store.Query{Limit: 9}, "3: Ada/1/2 bosse/1/1 Cleo/1/2"},
		{"people by mail", people, store.Query{Limit: 9, Sort: "-mail"},
			"3: Ada/1/2 Cleo/1/2 bosse/1/1"},
		{"people of a group", people, store.Query{Limit: 9, Conditions: by("group", "deck")},
			"2: Ada/1/2 bosse/1/1"},
		{"one page of people", people, store.Query{Limit: 1, Offset: 1}, "3: bosse/1/1"},
		{"past the end", people, store.Query{Limit: 5, Offset: 5}, "3: "},

		{"accounts by person", accounts, store.Query{Limit: 9, Sort: "-person"},
			"3: cleo/Cleo bosse/bosse ada/Ada"},
		{"accounts of a person", accounts, store.Query{
			Limit:      9,
			Conditions: by("person_id", known["Cleo"]),
		}, "1: cleo/Cleo"},
		{"accounts by the person's name", accounts, store.Query{Limit: 9, Search: "bos"},
			"1: bosse/bosse"},

		{"devices by person", devices, store.Query{Limit: 9, Sort: "person"},
			"5: 0/Ada 1/Ada 2/bosse 3/Cleo 4/Cleo"},
		{"devices of a platform", devices, store.Query{Limit: 2, Conditions: by("platform", "ios")},
			"3: 0/Ada 2/bosse"},
		{"devices by the person's name", devices, store.Query{Limit: 9, Search: "CLEO"},
			"2: 3/Cleo 4/Cleo"},
		{"two conditions", devices, store.Query{
			Limit:  9,
			Search: "Device",
			Conditions: map[string]string{
				"platform":  "ios",
				"person_id": known["Cleo"],
			},
		}, "1: 4/Cleo"},

		{"profiles by gateway", profiles, store.Query{Limit: 9, Sort: "-gateway"},
			"4: 2/Ä/bosse 3/No/Cleo 1/No/Ada 0/No/Ada"},
		{"profiles of a gateway", profiles, store.Query{
			Limit:      9,
			Conditions: by("gateway_id", known["Norrvik"]),
		}, "3: 0/No/Ada 1/No/Ada 3/No/Cleo"},
		{"profiles of a person", profiles, store.Query{
			Limit:      9,
			Conditions: by("person_id", known["bosse"]),
		}, "1: 2/Ä/bosse"},
		{"profiles without findings", profiles, store.Query{
			Limit:      9,
			Conditions: by("severity", "error"),
		}, "0: "},
	} {
		got, err := test.list(test.q)
		if err != nil || got != test.want {
			t.Errorf("%s: %s (%v), expected %s", test.name, got, err, test.want)
		}
	}
	var wrong *store.QueryError
	if _, err := devices(
		store.Query{Limit: 1, Sort: "body; DROP TABLE devices"},
	); !errors.As(err, &wrong) ||
		len(wrong.Expected) == 0 {
		t.Errorf("an order that is not there: %v", err)
	}
	if _, err := devices(
		store.Query{Limit: 1, Conditions: by("1=1 OR platform", "x")},
	); !errors.As(
		err,
		&wrong,
	) {
		t.Errorf("a filter that is not there: %v", err)
	}
}

// TestFilterValues filters by values of each kind, and by some that are none: those are refused,
// not turned round.
func TestFilterValues(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	by := func(name, value string) map[string]string { return map[string]string{name: value} }
	if err := s.Write(t.Context(), func(tx *store.Tx) error {
		a := vpn.Authority{Name: "Skerry Line"}
		err := store.Authorities.Insert(t.Context(), tx, &a)
		return errors.Join(
			err,
			tx.AddCertificate(
				t.Context(),
				&vpn.Certificate{
					AuthorityID: a.ID,
					Serial:      "1",
					Names:       []string{},
					Usage:       "client",
					From:        time.Now(),
					To:          time.Now().Add(10 * 24 * time.Hour),
				},
			),
		)
	}); err != nil {
		t.Fatal(err)
	}
	var wrong *store.QueryError
	for _, test := range []struct {
		name, value string
		rows        int // or refused
	}{
		{"revoked", "true", 0},
		{"revoked", "false", 1},
		{"revoked", "yes", -1},
		{"revoked", "no", -1},
		{"revoked", "1", -1},
		{"revoked", "", -1},
		{"revoked", "TRUE ", -1},
		{"days", "30", 1},
		{"days", "5", 0},
		{"days", "soon", -1},
		{"days", "-1", -1},
		{"days", "99999999999", -1},
		{"expires_after", "2020-01-01", 1},
		{"expires_after", "2020-01-01T00:00:00+02:00", 1},
		{"expires_after", "2999-01-01", 0},
		{"expires_after", "yesterday", -1},
	} {
		page, err := store.Certificates.List(
			t.Context(),
			s.Read(),
			store.Query{Limit: 9, Conditions: by(test.name, test.value)},
		)
		if refused := errors.As(
			err,
			&wrong,
		); refused != (test.rows < 0) ||
			!refused && (err != nil || page.Total != test.rows) {
			t.Errorf(
				"certificates with %s %q: %d (%v), expected %d",
				test.name,
				test.value,
				page.Total,
				err,
				test.rows,
			)
		}
	}
	for i, d := range []api.AuditEntry{
		{Operator: "ada", Action: "add", Noun: "gateway"},
		{Operator: "bosse", Action: "add", Noun: "device"},
		{
			Operator: "ada",
			Action:   "change",
			Noun:     "device",
			Object:   "de-1",
		},
	} {
		if err := s.Write(
			t.Context(),
			func(tx *store.Tx) error { return tx.Log(t.Context(), d) },
		); err != nil {
			t.Fatal(i, err)
		}
	}
	for _, test := range []struct{ filter, want string }{
		{"operator:ada", "2 change"},
		{"operator:ad", "0 "},
		{"action:add", "2 add"},
		{"noun:device", "2 change"},
		{"object:de-1", "1 change"},
		{"operator:ada noun:gateway", "1 add"},
		{"days:1", "3 change"},
		{"before:2020-01-01", "0 "},
		{"since:2020-01-01", "3 change"},
	} {
		conditions := map[string]string{}
		for _, f := range strings.Fields(test.filter) {
			name, value, _ := strings.Cut(f, ":")
			conditions[name] = value
		}
		page, err := store.AuditEntries.List(
			t.Context(),
			s.Read(),
			store.Query{Limit: 1, Conditions: conditions},
		)
		first := ""
		if len(page.Items) > 0 {
			first = page.Items[0].Action
		}
		if got := fmt.Sprintf("%d %s", page.Total, first); err != nil || got != test.want {
			t.Errorf("the log with %s: %s (%v), expected %s", test.filter, got, err, test.want)
		}
	}
}

// TestFindings keeps results of checks, and drops one that a change has overtaken.
func TestFindings(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	known := small(t, s)
	ctx := t.Context()
	due := func() []store.Due {
		t.Helper()
		list, err := s.Read().DueProfiles(ctx, 10)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	first := due()
	if len(first) != 4 {
		t.Fatalf("%d profiles wait for their first check, expected 4", len(first))
	}
	found := []check.Finding{
		{Rule: "edge-space", Severity: vpn.Error, Field: vpn.FieldLogin},
		{Rule: "pfs-missing", Severity: vpn.Note, Field: vpn.FieldESP},
	}
	write := func(do func(tx *store.Tx) error) {
		t.Helper()
		if err := s.Write(ctx, do); err != nil {
			t.Fatal(err)
		}
	}
	touched := known["Device 0's profile"]
	write(func(tx *store.Tx) error { return tx.TouchProfiles(ctx, "id = ?", touched) })
	write(func(tx *store.Tx) error {
		for _, d := range first {
			if err := tx.PutFindings(ctx, d, found); err != nil {
				return err
			}
		}
		return nil
	})
	left := due()
	if len(left) != 1 || left[0].ID != touched {
		t.Fatalf("still to be checked: %v, expected %s", left, touched)
	}
	if row, err := store.Profiles.Row(
		ctx,
		s.Read(),
		touched,
	); err != nil || row.Checked ||
		row.Tally != (vpn.Tally{}) {
		t.Errorf("the overtaken result was kept: %+v (%v)", row.Tally, err)
	}
	page, err := store.Profiles.List(
		ctx,
		s.Read(),
		store.Query{Limit: 9, Sort: "worst", Conditions: map[string]string{"rule": "edge-space"}},
	)
	if err != nil || page.Total != 3 || !page.Items[0].Checked ||
		page.Items[0].Tally != (vpn.Tally{Errors: 1, Notes: 1}) {
		t.Errorf("%+v (%v)", page, err)
	}
	counts, err := s.Read().Count(ctx)
	if err != nil || counts.Blocked != 3 || counts.Due != 1 || counts.Tally.Notes != 3 ||
		counts.Gateways != 2 ||
		counts.People != 3 ||
		counts.Devices != 5 {
		t.Errorf("%+v (%v)", counts, err)
	}
	rules, err := s.Read().CountRules(ctx)
	if err != nil || len(rules) != 2 || rules[0].Rule != "edge-space" || rules[0].Profiles != 3 {
		t.Errorf("%+v (%v)", rules, err)
	}
	write(func(tx *store.Tx) error { return tx.PutFindings(ctx, left[0], nil) })
	if len(due()) != 0 {
		t.Error("a profile without findings still waits")
	}
}

// TestReferences holds that the database itself keeps references whole.
func TestReferences(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	known := small(t, s)
	ctx := t.Context()
	for name, remove := range map[string]func(*store.Tx) error{
		"a person with devices": func(tx *store.Tx) error {
			return store.People.Delete(ctx, tx, known["Ada"])
		},
		"a gateway with accounts": func(tx *store.Tx) error {
			return store.Gateways.Delete(ctx, tx, known["Norrvik"])
		},
		"a device with a profile": func(tx *store.Tx) error {
			return store.Devices.Delete(ctx, tx, known["Device 0"])
		},
	} {
		if err := s.Write(ctx, remove); err == nil {
			t.Errorf("%s was removed", name)
		}
	}
	var none *store.NotFoundError
	if err := s.Write(
		ctx,
		func(tx *store.Tx) error { return store.Devices.Delete(ctx, tx, "de-nowhere") },
	); !errors.As(
		err,
		&none,
	) {
		t.Errorf("what is not there was removed: %v", err)
	}
	var taken *store.TakenError
	for column, insert := range map[string]func(*store.Tx) error{
		"name": func(tx *store.Tx) error {
			return store.Gateways.Insert(ctx, tx, &vpn.Gateway{Name: "norrvik", Address: "x"})
		},
		"device_id": func(tx *store.Tx) error {
			return store.Profiles.Insert(ctx, tx, &vpn.Profile{
				DeviceID:  known["Device 0"],
				GatewayID: known["Norrvik"],
			})
		},
		"person_id": func(tx *store.Tx) error {
			return store.Accounts.Insert(ctx, tx, &vpn.Account{
				PersonID: known["Ada"],
				Login:    "ada",
			})
		},
	} {
		if err := s.Write(ctx, insert); !errors.As(err, &taken) || taken.Column != column {
			t.Errorf("a second of the same %s: %v", column, err)
		}
	}

	// Parcels go with their profile, and nothing sealed stays behind.
	id := known["Device 1's profile"]
	parcel := api.Parcel{
		ProfileID: id,
		Digest:    "x",
		Files:     []format.File{{Name: "a", Content: []byte("sealed")}},
	}
	if err := s.Write(
		ctx,
		func(tx *store.Tx) error { return tx.AddParcel(ctx, &parcel) },
	); err != nil {
		t.Fatal(err)
	}
	if data, err := s.Read().
		ParcelFile(ctx, parcel.ID, "a"); err != nil ||
		string(data) != "sealed" {
		t.Errorf("%q (%v)", data, err)
	}
	if _, err := s.Read().ParcelFile(ctx, parcel.ID, "b"); !errors.As(err, &none) {
		t.Errorf("a file that is not there: %v", err)
	}
	if err := s.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.ForgetParcels(ctx, id), store.Profiles.Delete(ctx, tx, id))
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Read().Parcel(ctx, parcel.ID); !errors.As(err, &none) {
		t.Errorf("the parcel is still there: %v", err)
	}
	if n, err := s.Read().
		References(ctx, "secrets", "owner", "parcel:"+parcel.ID); err != nil ||
		n != 0 {
		t.Errorf("%d sealed files stayed behind (%v)", n, err)
	}
}

// TestMigrations goes down to nothing and up again, and holds that no write is half
// done when its transaction fails.
func TestMigrations(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, store.Key{})
	failed := errors.New("failed")
	err := s.Write(t.Context(), func(tx *store.Tx) error {
		if err := store.People.Insert(t.Context(), tx, &vpn.Person{Name: "Ada"}); err != nil {
			return err
		}
		return failed
	})
	if page, listed := store.People.List(
		t.Context(),
		s.Read(),
		store.Query{Limit: 1},
	); !errors.Is(err, failed) || listed != nil ||
		page.Total != 0 {
		t.Errorf("%d people after a failed write (%v, %v)", page.Total, err, listed)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	tables := func() []string {
		rows, err := db.Query(
			`SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%' AND
				name NOT LIKE 'goose%' ORDER BY name`,
		)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = rows.Close() }()
		var list []string
		for rows.Next() {
			var name string
			if err := rows.Scan(&name); err != nil {
				t.Fatal(err)
			}
			list = append(list, name)
		}
		return list
	}
	before := tables()
	provider, err := store.Migrations(db)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := provider.DownTo(context.Background(), 0); err != nil {
		t.Fatal(err)
	}
	if left := tables(); len(left) > 0 {
		t.Errorf("left after going down: %v", left)
	}
	if _, err := provider.Up(context.Background()); err != nil {
		t.Fatal(err)
	}
	if after := tables(); len(before) < 12 || !slices.Equal(before, after) {
		t.Errorf("after going up again: %v, before %v", after, before)
	}
}

// TestBounded walks a filter that fits more rows than are counted: the page says that there are
// more, and every row comes once.
func TestBounded(t *testing.T) {
	s := open(t, t.TempDir(), store.Key{})
	known := small(t, s)
	const many = 1300
	if err := s.Write(t.Context(), func(tx *store.Tx) error {
		for i := range many {
			if err := store.Devices.Insert(
				t.Context(),
				tx,
				&vpn.Device{
					Name:     fmt.Sprintf("Many %04d", i),
					PersonID: known["Ada"],
					Platform: vpn.ChromeOS,
					Release:  "120",
				},
			); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for _, q := range []store.Query{
		{Conditions: map[string]string{"platform": string(vpn.ChromeOS)}},
		{
			Conditions: map[string]string{"platform": string(vpn.ChromeOS), "group": "deck"},
			Sort:       "-name",
		},
		{Search: "many"},
		{Search: "Ma"},
	} {
		seen := map[string]bool{}
		for q.Limit = 500; ; q.Offset += q.Limit {
			page, err := store.Devices.List(t.Context(), s.Read(), q)
			if err != nil {
				t.Fatal(err)
			}
			if q.Offset == 0 && (!page.More || page.Total > 1000) {
				t.Errorf("%+v: %d of more: %t", q, page.Total, page.More)
			}
			for _, d := range page.Items {
				seen[d.ID] = true
			}
			if len(page.Items) < q.Limit {
				break
			}
		}
		if len(seen) != many {
			t.Errorf("%+v: %d rows", q, len(seen))
		}
	}
	if page, err := store.Devices.List(
		t.Context(),
		s.Read(),
		store.Query{Limit: 1},
	); err != nil || page.Total != many+5 ||
		page.More {
		t.Errorf("all: %d, more: %t (%v)", page.Total, page.More, err)
	}
}
