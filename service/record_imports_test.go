package service_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/core/rows"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/store"
)

// outcomes words what became of each row: its line, outcome, changes and problems.
func outcomes(t *testing.T, svc *service.Service, id string) string {
	t.Helper()
	page, err := svc.ImportRows(t.Context(), id, store.Query{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, r := range page.Items {
		text := fmt.Sprintf("%d %s", r.Line, r.Outcome)
		for _, c := range r.Changes {
			text += " +" + c
		}
		for _, p := range r.Problems {
			text += fmt.Sprintf(" !%d:%d %s %s", p.Line, p.Column, p.Name, p.Found)
		}
		list = append(list, text)
	}
	return strings.Join(list, "\n")
}

// TestRecordImports previews a table on records that are there, imports it, imports it again, and
// takes it back: what was used since stays.
func TestRecordImports(t *testing.T) {
	svc, s, _ := start(t)
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	ada, err := svc.People.Add(ctx, &vpn.Person{Name: "Ada Fjell", Mail: "Ada@skerryline.example"})
	must(err)
	_, err = svc.People.Add(ctx, &vpn.Person{Name: "Bo Lind", Mail: "bo.1@skerryline.example"})
	must(err)
	_, err = svc.People.Add(ctx, &vpn.Person{Name: "Bo Lind", Mail: "bo.2@skerryline.example"})
	must(err)
	old := words("tern-88-Gannet-orbit")
	account, err := svc.Accounts.Add(
		ctx, &vpn.Account{PersonID: ada.ID, Login: "a_fjell", Password: old},
	)
	must(err)
	table := "Name,Mail,Group,Country,Login,Password,Device,Platform,Release\n" +
		"Ada Fjell,ada@skerryline.example,crew;deck,no,A_Fjell,kelp-4497-Harbor,Ada laptop,Windows 11 Pro,\n" +
		"Bo Lind,bo.1@skerryline.example,,,,,,,\n" + // nothing changes
		"Cleo Roux,cleo@skerryline.example,crew,FR,c_roux,gale-31-Puffin,Cleo Mac,macOS,15.1\n" +
		"Cleo Roux,cleo@skerryline.example,,,c_roux,,Cleo phone,ios,17.4\n" +
		"Cleo Berg,cleo@skerryline.example,,,,,,,\n" + // the same key, another name
		"Dag Holm,dag@skerryline.example,,Norway,a_fjell,,,,\n" +
		"Eli Moe,eli@skerryline.example,,,,x,,,\n" +
		"Fay Orr,fay@skerryline.example,,,,,Cleo Mac,BeOS,5\n" +
		"Gus Ray,,,,,,,,\n" +
		"Hal Sund,hal@skerryline.example,,,,,Hal box,Debian,13\n"
	show := func(how service.Table) api.RecordImport {
		t.Helper()
		i, err := svc.ShowImport(ctx, "people.csv", []byte(table), how)
		must(err)
		return i
	}
	shown := show(service.Table{})
	for n, want := range []string{
		"2 change +groups: nothing → crew, deck +country: nothing → NO +password of a_fjell +device Ada laptop",
		"3 same",
		"4 add +person Cleo Roux +account c_roux +device Cleo Mac",
		"5 add +device Cleo phone",
		`6 wrong !6:11 Mail "cleo@skerryline.example" with other values than in line 4`,
		`7 wrong !7:34 Country "Norway" !7:41 Login "a_fjell", which line 2 has as well`,
		"8 wrong !8:35 Password a password without a login",
		`9 wrong !9:36 Device "Cleo Mac", which line 4 has as well`,
		"10 wrong !10:0 Mail nothing",
		"11 add +person Hal Sund +device Hal box",
	} {
		if got := strings.Split(outcomes(t, svc, shown.ID), "\n")[n]; got != want {
			t.Errorf("row %d: %s\nexpected %s", n, got, want)
		}
	}
	if n, err := s.Read().Size(ctx, "people"); err != nil || n != 3 {
		t.Fatalf("%d people after a preview (%v)", n, err)
	}
	by := show(service.Table{Key: "name"})
	if got := outcomes(t, svc, by.ID); !strings.Contains(got, `"Bo Lind", which 2 people on record have`) {
		t.Errorf("told apart by names:\n%s", got)
	}

	j, err := svc.MakeImport(ctx, shown.ID)
	must(err)
	must(svc.WorkAll(ctx))
	if j, err = svc.Job(ctx, j.ID); err != nil || j.State != api.Done || j.Done != 4 || j.Total != 4 {
		t.Fatalf("job %+v (%v)", j, err)
	}
	made, err := svc.RecordImport(ctx, shown.ID)
	must(err)
	if got := fmt.Sprint(made.State, " ", made.Rows); got != "imported map[added:3 changed:1 same:1 wrong:5]" {
		t.Errorf("imported: %s", got)
	}
	if _, err := svc.MakeImport(ctx, shown.ID); err == nil {
		t.Error("it was imported twice")
	}
	a, err := store.Accounts.Get(ctx, s.Read(), account.ID)
	if err != nil || a.Password.Reveal() != "kelp-4497-Harbor" {
		t.Errorf("the password was not changed (%v)", err)
	}
	again := show(service.Table{Key: "mail"})
	if again.Rows[api.RowSame] != 5 || again.Rows[api.RowAdd]+again.Rows[api.RowChange] != 0 {
		t.Errorf("the same table again: %v\n%s", again.Rows, outcomes(t, svc, again.ID))
	}

	// Hal's device is used meanwhile, and stays; so does Hal. All else goes.
	g, err := svc.Gateways.Add(ctx, &vpn.Gateway{Name: "North", Address: "north.example"})
	must(err)
	hal, err := svc.Devices.List(ctx, store.Query{Search: "Hal box", Limit: 1})
	must(err)
	_, err = svc.Profiles.Add(ctx, &vpn.Profile{DeviceID: hal.Items[0].ID, GatewayID: g.ID})
	must(err)
	_, err = svc.UndoImport(ctx, shown.ID)
	must(err)
	must(svc.WorkAll(ctx))
	undone, err := svc.RecordImport(ctx, shown.ID)
	must(err)
	if got := fmt.Sprint(undone.State, " ", undone.Rows); got != "undone map[kept:1 same:1 undone:3 wrong:5]" {
		t.Errorf("undone: %s\n%s", got, outcomes(t, svc, shown.ID))
	}
	people, err := svc.People.List(ctx, store.Query{Limit: 10})
	must(err)
	var names []string
	for _, p := range people.Items {
		names = append(names, p.Name+" "+strings.Join(p.Groups, ","))
	}
	if got := strings.Join(names, "; "); got != "Ada Fjell ; Bo Lind ; Bo Lind ; Hal Sund " {
		t.Errorf("left: %s", got)
	}
	if a, err = store.Accounts.Get(ctx, s.Read(), account.ID); err != nil ||
		a.Password.Reveal() != "tern-88-Gannet-orbit" {
		t.Errorf("the password was not put back (%v)", err)
	}
}

// TestRecordImportCancelled cancels an import that has not begun, and reads what is left of it.
func TestRecordImportCancelled(t *testing.T) {
	svc, s, _ := start(t)
	ctx := t.Context()
	i, err := svc.ShowImport(ctx, "people.csv",
		[]byte("Name,Login,Password\nAda,a_fjell,kelp-4497-Harbor\n"), service.Table{})
	if err != nil {
		t.Fatal(err)
	}
	sealed := func() string {
		row, err := s.Read().ImportRow(ctx, i.ID, 1)
		if err != nil {
			t.Fatal(err)
		}
		return row.Password.Reveal()
	}
	if sealed() != "kelp-4497-Harbor" {
		t.Fatal("the password is not kept")
	}
	j, err := svc.MakeImport(ctx, i.ID)
	if err == nil {
		_, err = svc.Cancel(ctx, j.ID)
	}
	if err == nil {
		err = svc.WorkAll(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	if i, err = svc.RecordImport(ctx, i.ID); err != nil || i.State != api.ImportDone ||
		i.Rows[api.RowAdd] != 1 || sealed() != "" {
		t.Errorf("cancelled: %s %v, password kept: %v (%v)", i.State, i.Rows, sealed() != "", err)
	}
}

// TestRecordImportsRefused gives tables that are none, and gateways.
func TestRecordImportsRefused(t *testing.T) {
	svc, _, _ := start(t)
	ctx := t.Context()
	for _, test := range []struct {
		name, data, want string
		how              service.Table
	}{
		{"half a file", "Name,Mail\n\"Ada", "a.csv:2:", service.Table{}},
		{"no column that is known", "X,Y\n1,2\n", "no column for the name", service.Table{}},
		{"a field that is none", "X\n1\n", `the field "nom"`, service.Table{Mapping: rows.Mapping{"X": "nom"}}},
		{"a key of no column", "Name\nAda\n", "no column for mail", service.Table{Key: "mail"}},
	} {
		_, err := svc.ShowImport(ctx, "a.csv", []byte(test.data), test.how)
		var kinded interface{ Kind() vpn.Kind }
		if !errors.As(err, &kinded) || kinded.Kind() != vpn.KindInvalid ||
			!strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v, expected %q", test.name, err, test.want)
		}
	}
	i, err := svc.ShowImport(ctx, "gateways.csv", []byte("Name;Host;DNS;Networks;Lat;Lon\n"+
		"North;north.skerryline.example;10.20.0.53,10.20.0.54;10.20.0.0/16;59,91;10.75\n"+
		"South;no host!;;10.20.0.0/33;x;\n"), service.Table{Noun: rows.Gateways})
	if err != nil {
		t.Fatal(err)
	}
	want := "2 add +gateway North\n" +
		"3 wrong !3:30 Lat \"x\" !3:7 Host \"no host!\" !3:17 Networks \"10.20.0.0/33\""
	if got := outcomes(t, svc, i.ID); got != want {
		t.Errorf("gateways:\n%s, expected\n%s", got, want)
	}
}
