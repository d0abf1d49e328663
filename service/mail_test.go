package service_test

import (
	"bytes"
	"errors"
	"net"
	"strings"
	"sync/atomic"
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

// postbox is a simulator for a mail server, and the settings that lead to it.
func postbox(t *testing.T) (*simulate.MailServer, vpn.Mail) {
	t.Helper()
	server, err := simulate.NewMailServer("wardicon", "oar-lock-71-Spindrift")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = server.Close() })
	password := secret.New(server.Password)
	return server, vpn.Mail{
		Server:    server.Host,
		Port:      server.Port,
		Authority: server.Authority,
		Login:     server.Login,
		Password:  &password,
		From:      "wardicon@skerryline.example",
		Reminders: []string{"ada@skerryline.example", "ben@skerryline.example"},
	}
}

// TestMail sends emails through a server that takes them, refuses them, or is not the one that is
// meant.
func TestMail(t *testing.T) {
	svc, s, c, authority, laptop, _ := certified(t)
	ctx := service.As(t.Context(), "owner")
	server, settings := postbox(t)
	for _, test := range []struct {
		name, pointer string
		change        func(*vpn.Mail)
	}{
		{"a server that is none", "/server", func(m *vpn.Mail) { m.Server = "https://mail" }},
		{"nobody as sender", "/from", func(m *vpn.Mail) { m.From = "" }},
		{"a way without TLS", "/security", func(m *vpn.Mail) { m.Security = "none" }},
		{"a port that is none", "/port", func(m *vpn.Mail) { m.Port = 70000 }},
		{"a receiver that is none", "/reminders/0",
			func(m *vpn.Mail) { m.Reminders = []string{"ada"} }},
		{"a header in an address", "/from",
			func(m *vpn.Mail) { m.From = "a@skerryline.example\r\nBcc: b@skerryline.example" }},
		{"an authority that is none", "/authority", func(m *vpn.Mail) { m.Authority = "hello" }},
	} {
		m := settings
		test.change(&m)
		_, err := svc.SetMail(ctx, m, false)
		refusedAt(t, test.name, err, test.pointer, "")
	}
	if _, err := svc.SetMail(
		service.AsRole(ctx, "somebody", "issuer"),
		settings,
		false,
	); !errors.Is(
		err,
		service.ErrRole,
	) {
		t.Errorf("set by an issuer: %v", err)
	}
	shown, err := svc.SetMail(ctx, settings, false)
	if err != nil || shown.Password != nil || !shown.PasswordSet {
		t.Fatalf("%+v (%v)", shown, err)
	}
	if err := svc.TryMail(ctx, "ada@skerryline.example"); err != nil {
		t.Fatal(err)
	}
	elsewhere := settings
	elsewhere.Server, elsewhere.Password = "localhost", nil
	_, err = svc.SetMail(ctx, elsewhere, true)
	refusedAt(t, "another server with the stored password", err, "/password", "another server")
	for name, change := range map[string]func(*vpn.Mail){
		"another authority": func(m *vpn.Mail) { m.Authority = authority.Certificate },
		"a wrong password":  func(m *vpn.Mail) { wrong := secret.New("oar-lock-72"); m.Password = &wrong },
		"another name":      func(m *vpn.Mail) { m.Server = "localhost" },
		"nobody there":      func(m *vpn.Mail) { m.Port = 1 },
	} {
		m := settings
		change(&m)
		if _, err := svc.SetMail(ctx, m, false); err != nil {
			t.Fatal(err)
		}
		err := svc.TryMail(ctx, "ada@skerryline.example")
		refusedAt(t, name, err, "/server", "")
		if strings.Contains(err.Error(), "oar-lock") {
			t.Errorf("%s: the error tells the password", name)
		}
	}
	if _, err := svc.SetMail(ctx, settings, false); err != nil {
		t.Fatal(err)
	}
	emails := func(state string) api.Page[api.Email] {
		t.Helper()
		page, err := svc.Emails(
			ctx,
			store.Query{Limit: 50, Conditions: map[string]string{"state": state}},
		)
		if err != nil {
			t.Fatal(err)
		}
		return page
	}
	pass := func() {
		t.Helper()
		if err := errors.Join(svc.Pass(ctx), svc.PostDue(ctx)); err != nil {
			t.Fatal(err)
		}
	}
	pass()
	if _, err := svc.IssueToDevice(ctx, laptop, authority.ID, nil, 61); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Devices.Change(
		ctx,
		laptop,
		0,
		func(d *vpn.Device) (*vpn.Device, error) { d.Name = "<b>Ada</b>"; return d, nil },
		func(string) bool { return true },
	); err != nil {
		t.Fatal(err)
	}
	before := len(server.Emails())
	server.Refuse(false)
	c.turn(26 * time.Hour)
	pass()
	if w := emails(
		api.Waiting,
	); w.Total != 2 || w.Items[0].Kind != "reminder" ||
		!strings.Contains(w.Items[0].Problem, "the harbour office is closed") ||
		!w.Items[0].Due.After(c.now()) {
		t.Fatalf("%d emails wait: %+v", w.Total, w.Items)
	}
	kept, err := s.Read().References(ctx, "secrets", "field", "body")
	if err != nil || kept != 2 {
		t.Errorf("%d emails are kept sealed (%v)", kept, err)
	}
	server.Accept()
	pass()
	if len(server.Emails()) != before {
		t.Error("tried again before its time")
	}
	c.turn(time.Hour)
	pass()
	got := server.Emails()[before:]
	if len(got) != 2 || emails(api.Sent).Total != 2 || emails(api.Waiting).Total != 0 {
		t.Fatalf("%d emails came", len(got))
	}
	for _, l := range got {
		_, page, _ := bytes.Cut(l.Raw, []byte("text/html"))
		if l.From != "wardicon@skerryline.example" ||
			!strings.HasSuffix(l.To, "@skerryline.example") ||
			!strings.Contains(l.Subject, "its certificate expires on") ||
			bytes.Contains(page, []byte("<b>Ada")) ||
			!bytes.Contains(page, []byte("&lt;b&gt;Ada")) ||
			bytes.Contains(l.Raw, []byte("PRIVATE")) {
			t.Errorf("%+v\n%s", l, l.Raw)
		}
	}
	if kept, err := s.Read().References(ctx, "secrets", "field", "body"); err != nil || kept != 0 {
		t.Errorf("%d emails that were sent are kept (%v)", kept, err)
	}

	// A server that never takes them: given up in the end.
	server.Refuse(true)
	c.turn(30 * 24 * time.Hour)
	for range 12 {
		pass()
		c.turn(25 * time.Hour)
	}
	if f := emails(
		api.GivenUp,
	); f.Total == 0 || !strings.Contains(f.Items[len(f.Items)-1].Problem, "nobody of that name") ||
		f.Items[len(f.Items)-1].Tries < 5 {
		t.Errorf("%d emails were given up: %+v", f.Total, f.Items)
	}
}

// TestOutage has a mail server go silent for an hour: it costs one look at a time and no email its
// turn, and all leave as soon as it is back; at once where somebody says so.
func TestOutage(t *testing.T) {
	t.Parallel()
	svc, _, c := start(t)
	c.turn(time.Since(c.now()))
	ctx := service.As(t.Context(), "owner")
	server, settings := postbox(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = silent.Close() })
	var calls atomic.Int64
	go func() {
		for {
			conn, err := silent.Accept()
			if err != nil {
				return
			}
			calls.Add(1)
			t.Cleanup(func() { _ = conn.Close() })
		}
	}()
	away := settings
	away.Port = silent.Addr().(*net.TCPAddr).Port
	if _, err := svc.SetMail(ctx, away, false); err != nil {
		t.Fatal(err)
	}
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
	laptopCrew(t, svc, 12)
	if _, err := svc.HandOverGroup(
		ctx,
		"crew",
		api.HandoverRequest{Link: check.ByMail},
	); err != nil {
		t.Fatal(err)
	}
	if err := svc.WorkAll(ctx); err != nil {
		t.Fatal(err)
	}
	begin := time.Now()
	for range 3 { // within one pause
		if err := svc.PostDue(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if took := time.Since(begin); took > 25*time.Second || calls.Load() != 1 {
		t.Errorf("12 emails to a silent server took %s and %d calls", took, calls.Load())
	}
	waiting := func() api.Page[api.Email] {
		t.Helper()
		page, err := svc.Emails(
			ctx,
			store.Query{Limit: 50, Conditions: map[string]string{"state": api.Waiting}},
		)
		if err != nil {
			t.Fatal(err)
		}
		return page
	}
	if w := waiting(); w.Total != 12 || w.Items[0].Tries != 0 || w.Items[0].Problem == "" {
		t.Errorf("%d wait: %+v", w.Total, w.Items[0])
	}
	c.turn(time.Hour)
	settings.Port = server.Port
	if _, err := svc.SetMail(ctx, settings, false); err != nil {
		t.Fatal(err)
	}
	server.Refuse(false) // each of them for now
	if err := svc.PostDue(ctx); err != nil {
		t.Fatal(err)
	}
	server.Accept()
	if err := svc.PostDue(ctx); err != nil || waiting().Total != 12 {
		t.Errorf("each was refused for a while, and %d wait (%v)", waiting().Total, err)
	}
	if n, err := svc.SendNow(ctx); err != nil || n != 12 {
		t.Errorf("%d hurry (%v)", n, err)
	}
	if err := svc.PostDue(ctx); err != nil || waiting().Total != 0 || len(server.Emails()) != 12 {
		t.Errorf("%d wait, %d came (%v)", waiting().Total, len(server.Emails()), err)
	}
}
