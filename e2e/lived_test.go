package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

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

// TestGerman reads the console in German, and goes back.
func TestGerman(t *testing.T) {
	t.Parallel()
	f := startLived(t)
	profile, err := f.svc.Profiles.List(t.Context(), store.Query{
		Limit: 1, Conditions: map[string]string{"device": "Bridge tablet 1", "gateway": "Norrvik"},
	})
	if err != nil {
		t.Fatal(err)
	}
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
		{"/findings?q=account", "Befunde", "oder nicht das gesetzte, gilt an Norrvik"},
		{"/profiles/" + profile.Items[0].ID, "Bridge tablet 1 → Norrvik", "die iPadOS 16 sendet und Norrvik annimmt"},
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
	b.press("Deutsch")
	b.titled("Profile")
	// What the service refuses is in German too, with what was found and expected.
	b.goTo("/gateways/new", "Neues Gateway")
	b.fill("Name (nötig)", "Ytterholm")
	b.fill("Adresse (nötig)", "vpn ytterholm")
	b.press("Gateway hinzufügen")
	b.see("Gefunden: \"vpn ytterholm\"; erwartet: ein Hostname oder eine IP-Adresse ohne Leerzeichen.")
	b.shot("german-refused")
}
