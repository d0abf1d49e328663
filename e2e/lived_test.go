package e2e

import (
	"encoding/json"
	"errors"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wardicon/client"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/demo"
	"wardicon/store"
)

// TestLivedPages opens pages of a service that has been in use for some weeks: what an empty one
// does not show is shown, and accessible.
func TestLivedPages(t *testing.T) {
	t.Parallel()
	f := startLived(t)
	page, err := f.svc.Switchovers.List(t.Context(), store.Query{
		Limit: 1, Conditions: map[string]string{"active": "true"},
	})
	if err != nil || len(page.Items) == 0 {
		t.Fatalf("no switchover is under way: %v", err)
	}
	lyngholm, err := f.svc.Gateways.List(t.Context(), store.Query{
		Limit: 1, Conditions: map[string]string{"name": "Lyngholm"},
	})
	if err != nil {
		t.Fatal(err)
	}
	profile, err := f.svc.Profiles.List(t.Context(), store.Query{
		Limit: 1, Conditions: map[string]string{"device": "Bridge tablet 1", "gateway": "Norrvik"},
	})
	if err != nil {
		t.Fatal(err)
	}
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	for _, p := range []struct{ name, path, title, text string }{
		{"overview", "/", "Skerry Line", "Norrvik moves"},
		{"switchover", "/switchovers/" + page.Items[0].ID, "Norrvik moves to another line", "connected"},
		{"switchovers", "/switchovers", "Switchovers", "closed"},
		{"handovers", "/handovers", "Handovers", "Connection seen"},
		{"calendar", "/calendar", "Calendar", "Plan: new gateway certificate"},
		{"rehearsals", "/rehearsals", "Rehearsals", "passed"},
		{"profile", "/profiles/" + profile.Items[0].ID, "Bridge tablet 1 → Norrvik", "Seen connected"},
		{"gateway", "/gateways/" + lyngholm.Items[0].ID + "?tab=probe", "Lyngholm", "Response times"},
	} {
		t.Run(p.name, func(t *testing.T) {
			b.t = t
			b.goTo(p.path, p.title)
			b.see(p.text)
			b.accessible(p.name)
			b.fits()
			b.shot("lived-" + p.name)
		})
	}
	b.t = t
}

// TestGermanOfTheService holds that what the service says in its answers is in the catalogue: the title
// and the fix of every rule, and what the audit log of the demo says was done, and with what.
func TestGermanOfTheService(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("../console/src/served/de.json")
	own, err2 := os.ReadFile("../console/src/words/de.json")
	var served, words map[string]string
	if err := errors.Join(err, err2, json.Unmarshal(data, &served), json.Unmarshal(own, &words)); err != nil {
		t.Fatal(err)
	}
	known := map[string]bool{}
	lacks := func(text string) {
		known[text] = true
		if served[text] == "" && words[text] == "" {
			t.Errorf("not in German: %s", text)
		}
	}
	for _, r := range check.Register {
		lacks(r.Title)
		lacks(r.Fix)
		lacks(r.Why)
	}
	f := startLived(t)
	ctx := t.Context()
	f.client = client.New(f.url, "")
	if _, err := f.client.SignIn(ctx, demo.OwnerName, secret.New(demo.OwnerPassword)); err != nil {
		t.Fatal(err)
	}
	entries, err := f.client.Audit(ctx, client.Query{Limit: 500})
	if err != nil || len(entries.Items) < 100 {
		t.Fatal(len(entries.Items), err)
	}
	for _, e := range entries.Items {
		lacks(e.Action)
		lacks(e.Noun)
	}
	for text := range served {
		// What the rules no longer say does not stay.
		if strings.HasSuffix(text, ".") && !known[text] {
			t.Errorf("said by no rule: %s", text)
		}
	}
}

// TestGerman reads the console in German, and goes back.
func TestGerman(t *testing.T) {
	t.Parallel()
	f := startLived(t)
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	b.press("Deutsch")
	b.see("Laufende Umstellungen")
	b.until(`document.documentElement.lang === 'de'`)
	for _, p := range []struct{ path, title, text string }{
		{"/", "Skerry Line", "Profile können nicht gebaut werden"},
		{"/gateways", "Gateways", "5 Gateways"},
		{"/people", "Personen", "15 Personen"},
		{"/profiles", "Profile", "37 Profile"},
		{"/patterns", "Muster", "Muster hinzufügen"},
		{"/handovers", "Übergaben", "An eine Gruppe übergeben"},
		{"/switchovers", "Umstellungen", "abgeschlossen"},
		{"/calendar", "Kalender", "läuft ab"},
		{"/rehearsals", "Generalproben", "bestanden"},
		{"/findings", "Befunde", "Kein Konto an diesem Gateway"},
		{"/log", "Protokoll", "meldet sich an"},
		{"/organisation", "Organisation", "Steht in Profilen und auf Karten."},
		{"/gateways/new", "Neues Gateway", "Öffentliche Adressen der Clients (Egress)"},
	} {
		b.goTo(p.path, p.title)
		b.see(p.text)
		b.accessible(p.path + " in German")
		b.fits()
		b.shot("german" + strings.ReplaceAll(p.path, "/", "-"))
	}
	b.do(chromedp.EmulateViewport(360, 740))
	b.goTo("/profiles", "Profile")
	b.fits()
	b.do(chromedp.EmulateViewport(1280, 800))
	b.press("English")
	b.titled("Profiles")
}
