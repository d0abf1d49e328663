package service_test

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/service"
	"wardicon/simulate"
	"wardicon/store"
)

// laptopCrew rolls a pattern out to laptops of a group, of whose people one has no mail address.
func laptopCrew(t *testing.T, svc *service.Service, laptops int) {
	t.Helper()
	ctx := t.Context()
	pattern, _ := fleet(t, svc, laptops)
	people, err := svc.People.List(ctx, store.Query{Limit: 10, Search: "crew"})
	if err != nil {
		t.Fatal(err)
	}
	_, err = svc.People.Change(
		ctx,
		people.Items[0].ID,
		0,
		func(p *vpn.Person) (*vpn.Person, error) {
			p.Mail, p.Language = "crew@skerryline.example", "de"
			return p, nil
		},
		nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	password := secret.New("gale-74-Marzipan-hinge-otter")
	if _, err := svc.Accounts.Add(
		ctx,
		&vpn.Account{PersonID: people.Items[0].ID, Login: "crew", Password: &password},
	); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.RollOut(ctx, pattern); err != nil {
		t.Fatal(err)
	}
	if err := svc.WorkAll(ctx); err != nil {
		t.Fatal(err)
	}
}

// TestGroup hands over to a group: by mail with passcodes on slips, and all of it on slips; a
// cancelled job keeps what it did, and slips are gone after a day.
func TestGroup(t *testing.T) {
	svc, s, c := start(t)
	c.turn(time.Since(c.now())) // the database tells the state of a handover by its own clock
	ctx := service.As(t.Context(), "issuer")
	laptopCrew(t, svc, 30)
	preference := api.HandoverRequest{}
	_, err := svc.HandOverGroup(ctx, "crew", preference)
	refusedAt(t, "without a mail server", err, "/link", "mail")
	emails, err := simulate.NewMailServer("", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = emails.Close() })
	if _, err := svc.SetMail(
		service.As(ctx, "owner"),
		vpn.Mail{
			Server:    emails.Host,
			Port:      emails.Port,
			Authority: emails.Authority,
			Security:  vpn.MailStartTLS,
			From:      "w@skerryline.example",
		},
		false,
	); err != nil {
		t.Fatal(err)
	}
	_, err = svc.HandOverGroup(ctx, "crew", preference)
	refusedAt(t, "without an address", err, "/link", "mail")
	if _, err := svc.SetOrganisation(
		ctx,
		vpn.Organisation{
			Name:   "Skerry Line",
			Domain: "skerryline.example",
			Links:  "https://connect.skerryline.example",
		},
	); err != nil {
		t.Fatal(err)
	}
	_, err = svc.HandOverGroup(ctx, "nobody", preference)
	refusedAt(t, "nobody", err, "/group", "nobody")
	many := 61
	_, err = svc.HandOverGroup(ctx, "crew", api.HandoverRequest{Days: &many})
	refusedAt(t, "too many days", err, "/days", "61")
	_, err = svc.HandOverGroup(ctx, "crew", api.HandoverRequest{Uses: &many})
	refusedAt(t, "too many uses", err, "/uses", "61")
	for name, w := range map[string]api.HandoverRequest{
		"link-endless":      {Uses: new(int)},
		"passcode-same-way": {Link: check.BySheet},
		"secret-in-mail":    {Attach: true},
	} {
		var blocked *service.BlockedError
		if _, err := svc.HandOverGroup(
			ctx,
			"crew",
			w,
		); !errors.As(err, &blocked) ||
			blocked.Findings[0].Rule != name {
			t.Errorf("%s: %v", name, err)
		}
	}
	begin := func(w api.HandoverRequest) api.Job {
		t.Helper()
		j, err := svc.HandOverGroup(ctx, "crew", w)
		if err != nil {
			t.Fatal(err)
		}
		if err := svc.WorkAll(ctx); err != nil {
			t.Fatal(err)
		}
		if j, err = svc.Job(ctx, j.ID); err != nil || j.State != api.Done {
			t.Fatalf("%+v (%v)", j, err)
		}
		return j
	}
	j := begin(preference)
	if j.Result["made"] != 30 || j.Done != j.Total {
		t.Fatalf("%+v", j)
	}
	read := func(j api.Job, half string) []api.Slip {
		t.Helper()
		list, err := svc.Slips(ctx, j.ID, half)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	passcodes := read(j, store.SlipPasscode)
	if len(passcodes) != 30 || len(read(j, store.SlipLink)) != 0 {
		t.Fatalf("%d passcodes", len(passcodes))
	}
	if err := svc.PostDue(ctx); err != nil {
		t.Fatal(err)
	}
	sent := emails.Emails()
	if len(sent) != 30 ||
		!strings.HasPrefix(sent[0].Link(), "https://connect.skerryline.example/h/") ||
		sent[0].Subject != "Ihre Verbindung zu Skerry Line" {
		t.Fatalf("%d emails: %+v", len(sent), sent[0])
	}
	for _, slip := range passcodes {
		for _, l := range sent {
			if bytes.Contains(l.Raw, []byte(slip.Passcode)) {
				t.Fatalf("a passcode is in an email")
			}
		}
	}
	if sums, err := svc.SumHandovers(
		ctx,
	); err != nil ||
		!slices.Contains(sums, api.HandoverSum{State: api.HandoverSent, Count: 30}) {
		t.Errorf("%+v (%v)", sums, err)
	}

	// Doing it twice changes nothing: who has a link gets no second one.
	if twice := begin(
		preference,
	); twice.Result["has a link already"] != 30 ||
		twice.Result["made"] != 0 {
		t.Errorf("a second time: %+v", twice.Result)
	}
	for _, slip := range passcodes {
		if _, err := svc.RecallHandover(ctx, slip.HandoverID); err != nil {
			t.Fatal(err)
		}
	}

	// A recalled link's email is not sent any more.
	emails.Refuse(false)
	again := begin(preference)
	if err := svc.PostDue(ctx); err != nil {
		t.Fatal(err)
	}
	for _, slip := range read(again, store.SlipPasscode) {
		if _, err := svc.RecallHandover(ctx, slip.HandoverID); err != nil {
			t.Fatal(err)
		}
	}
	emails.Accept()
	c.turn(time.Hour)
	if err := svc.PostDue(ctx); err != nil {
		t.Fatal(err)
	}
	if got := len(emails.Emails()); got != 30 {
		t.Errorf("%d emails, those of recalled links among them", got)
	}
	if left := read(again, store.SlipPasscode); len(left) != 0 {
		t.Errorf("%d passcodes of recalled links are kept", len(left))
	}

	kept := begin(api.HandoverRequest{Link: check.ByOperator})
	links, codes := read(kept, store.SlipLink), read(kept, store.SlipPasscode)
	if len(links) != 30 || len(codes) != 30 || links[0].HandoverID != codes[0].HandoverID ||
		links[0].Passcode != "" ||
		codes[0].Link != "" {
		t.Fatalf("%d links, %d passcodes", len(links), len(codes))
	}
	if _, _, err := svc.OpenLink(
		ctx,
		links[0].Link[strings.LastIndex(links[0].Link, "/")+1:],
		secret.New(codes[0].Passcode),
		"192.0.2.9",
	); err != nil {
		t.Errorf("a link and its passcode of the slips: %v", err)
	}
	if _, err := svc.Slips(ctx, kept.ID, "other"); err == nil {
		t.Error("there is no such half")
	}
	c.turn(25 * time.Hour)
	if left := len(read(kept, store.SlipLink)) + len(read(kept, store.SlipPasscode)); left != 0 {
		t.Errorf("%d slips are kept for more than a day", left)
	}

	// One again: the old one is closed, the new one has the same measure.
	page, err := svc.Handovers(
		ctx,
		store.Query{Limit: 1, Conditions: map[string]string{"batch": kept.ID, "open": "true"}},
	)
	if err != nil || page.Total == 0 {
		t.Fatal(err)
	}
	old := page.Items[0]
	made, err := svc.Reissue(ctx, old.ID, check.ByMail)
	if err != nil || made.Handover.MaxUses != old.MaxUses || made.Handover.Days != old.Days ||
		made.Mailed == "" {
		t.Fatalf("%+v (%v)", made, err)
	}
	if h, err := store.Handovers.Row(
		ctx,
		s.Read(),
		old.ID,
	); err != nil ||
		h.State != api.HandoverRecalled {
		t.Errorf("%+v (%v)", h, err)
	}
}

// TestArchive packs the parcels of a group: names inside, nothing in clear, what is not up to date
// is named.
func TestArchive(t *testing.T) {
	svc, _, _ := start(t)
	ctx := service.As(t.Context(), "issuer")
	laptopCrew(t, svc, 3)
	for _, test := range []struct{ profile, group, pointer string }{{"", "", "/profile_id"},
		{"x", "y", "/profile_id"}, {"", "nobody", "/group"}, {"", "crew", "/profile_id"}} {
		_, err := svc.Archive(ctx, test.profile, test.group)
		refusedAt(t, fmt.Sprint(test), err, test.pointer, "")
	}
	page, err := svc.Profiles.List(
		ctx,
		store.Query{Limit: 10, Conditions: map[string]string{"group": "crew"}},
	)
	if err != nil || page.Total != 3 {
		t.Fatalf("%d profiles (%v)", page.Total, err)
	}
	for _, p := range page.Items[:2] {
		if _, err := svc.Build(ctx, p.ID, false); err != nil {
			t.Fatal(err)
		}
	}
	archive, err := svc.Archive(ctx, "", "crew")
	if err != nil || archive.Profiles != 2 || len(archive.Left) != 1 ||
		len(strings.ReplaceAll(archive.Passphrase, "-", "")) < 20 {
		t.Fatalf("%d profiles, left %q (%v)", archive.Profiles, archive.Left, err)
	}
	files, err := zip.NewReader(bytes.NewReader(archive.Content), int64(len(archive.Content)))
	if err != nil || len(files.File) < 8 {
		t.Fatalf("%d files (%v)", len(files.File), err)
	}
	for _, f := range files.File {
		if !strings.HasPrefix(f.Name, "crew/crew 00") || f.Method != 99 {
			t.Errorf("%s, method %d", f.Name, f.Method)
		}
	}
	if bytes.Contains(archive.Content, []byte("Add-VpnConnection")) {
		t.Error("a script is there in clear")
	}
	if again, err := svc.Archive(
		ctx,
		page.Items[0].ID,
		"",
	); err != nil ||
		again.Passphrase == archive.Passphrase {
		t.Errorf("the same passphrase twice (%v)", err)
	}
}

// TestOffboard takes everything back from a person with two devices, and from a lost one alone.
func TestOffboard(t *testing.T) {
	svc, _, _, profile := built(t)
	ctx := service.As(t.Context(), "issuer")
	made, err := svc.MakeHandover(ctx, profile, api.HandoverRequest{})
	if err != nil {
		t.Fatal(err)
	}
	row, err := svc.Profiles.Get(ctx, profile)
	if err != nil {
		t.Fatal(err)
	}
	device, err := svc.Devices.Get(ctx, row.DeviceID)
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		noun, id string
		why      vpn.OffboardReason
	}{
		{"person", device.PersonID, vpn.Lost},
		{"device", device.ID, ""},
		{"device", device.ID, "eaten"},
	} {
		_, err := svc.Offboard(ctx, test.noun, test.id, test.why)
		refusedAt(t, fmt.Sprint(test), err, "/why", "")
	}
	look := func(noun, id string, why vpn.OffboardReason) api.Holdings {
		t.Helper()
		h, err := svc.Holdings(ctx, noun, id, why)
		if err != nil {
			t.Fatal(err)
		}
		return h
	}
	lost, left := look("device", device.ID, vpn.Lost), look("person", device.PersonID, vpn.Left)
	if len(lost.Links) != 1 || len(lost.Certificates) == 0 || len(lost.Profiles) == 0 ||
		len(left.Devices) < 1 ||
		len(left.Certificates) < len(lost.Certificates) {
		t.Errorf("lost: %+v\nleft: %+v", lost, left)
	}
	has := func(items []api.Item, text string) bool {
		return slices.ContainsFunc(
			items,
			func(i api.Item) bool { return strings.Contains(i.What, text) },
		)
	}
	if !has(lost.Items, "wiped from afar") || !has(lost.Items, "takes the new revocation list") ||
		has(left.Items, "wiped from afar") ||
		!has(left.Items, "Collect") {
		t.Errorf("lost: %+v\nleft: %+v", lost.Items, left.Items)
	}
	w, err := svc.Offboard(ctx, "device", device.ID, vpn.Lost)
	if err != nil || w.Recalled != 1 || w.Revoked != len(lost.Certificates) ||
		w.Open != len(w.Items) ||
		len(w.Items) != len(lost.Items) {
		t.Fatalf("%+v (%v)", w, err)
	}
	if _, err := svc.Link(
		ctx,
		strings.TrimPrefix(made.Path, service.LinkPath),
	); !errors.Is(
		err,
		service.ErrLink,
	) {
		t.Errorf("its link: %v", err)
	}
	certificates, err := svc.Certificates(
		ctx,
		store.Query{Limit: 50, Conditions: map[string]string{"device_id": device.ID}},
	)
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range certificates.Items {
		if one.Revoked == nil || one.Reason != "key-compromise" {
			t.Errorf("%+v", one)
		}
	}
	var blocked *service.BlockedError
	if _, err := svc.Build(
		ctx,
		profile,
		false,
	); !errors.As(err, &blocked) ||
		!slices.ContainsFunc(
			blocked.Findings,
			func(f check.Finding) bool { return f.Rule == "device-offboarded" },
		) {
		t.Errorf("a parcel for a lost device: %v", err)
	}
	_, err = svc.MakeHandover(ctx, profile, api.HandoverRequest{})
	refusedAt(t, "a handover for a lost device", err, "/profile_id", "offboarded")
	for i := range w.Items {
		if w, err = svc.TickItem(ctx, w.ID, i, true); err != nil {
			t.Fatal(err)
		}
	}
	if w.Open != 0 || w.Items[0].By != "issuer" {
		t.Errorf("%+v", w)
	}
	if w, err = svc.TickItem(ctx, w.ID, 0, false); err != nil || w.Open != 1 {
		t.Errorf("%+v (%v)", w, err)
	}
	var none *store.NotFoundError
	if _, err := svc.TickItem(ctx, w.ID, 99, true); !errors.As(err, &none) {
		t.Errorf("an item that is not there: %v", err)
	}
	page, err := svc.Offboardings(
		ctx,
		store.Query{Limit: 5, Conditions: map[string]string{"open": "true"}},
	)
	if err != nil || page.Total != 1 || page.Items[0].ID != w.ID {
		t.Errorf("%+v (%v)", page, err)
	}
	// Once it is back it is used again.
	if _, err := svc.Devices.Change(
		ctx,
		device.ID,
		0,
		func(d *vpn.Device) (*vpn.Device, error) { d.Offboarded = ""; return d, nil },
		func(string) bool { return true },
	); err != nil {
		t.Fatal(err)
	}
}
