package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wardicon/client"
	"wardicon/core/secret"
)

// TestListViews sets a list up in one browser and finds it so in another one, and in nobody else's.
func TestListViews(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	b := open(t, f.url)
	b.signIn()
	b.do(chromedp.EmulateViewport(1280, 800))
	b.goTo("/devices?search=Bridge", "Devices")
	b.until(`document.querySelector('thead').innerText.toLowerCase().includes('platform')`)
	b.press("View")
	eval[bool](b, `([...document.querySelectorAll('.tools label')].find(x =>
		x.textContent.trim() === 'Platform').click(), true)`)
	b.do(chromedp.SendKeys(`[aria-label^="Name for this search"]`, "On the bridge"))
	b.press("Save")
	b.until(`[...document.querySelectorAll('.tools button')].some(x => x.innerText === 'On the bridge')`)

	other := open(t, f.url)
	other.signIn()
	other.goTo("/devices", "Devices")
	other.until(`!document.querySelector('thead').innerText.toLowerCase().includes('platform')`)
	other.press("View")
	other.press("On the bridge")
	other.until(`location.search.includes('search=Bridge')`)

	long := `{"list": "devices", "hidden": [], "filters": [{"name": "x", "query": {"search": "` +
		strings.Repeat("x", 5000) + `"}}]}`
	for body, want := range map[string]string{
		long: "4000 bytes at most",
		`{"list": "../x", "hidden": [], "filters": []}`: "pattern",
	} {
		if _, p := f.send("PUT", "/api/v1/list-views", body, "Authorization",
			f.as("auditor"), "Content-Type", "application/json"); p.Status != 422 ||
			!strings.Contains(fmt.Sprint(p), want) {
			t.Errorf("%+v", p)
		}
	}
	made, err := f.client.AddOperator(t.Context(), "pilot", "auditor", nil)
	if err != nil {
		t.Fatal(err)
	}
	pilot, words := client.New(f.url, ""), secret.New("kelp-72-Driftwood-lantern-oar")
	if _, err := pilot.SignIn(t.Context(), "pilot", secret.New(made.Password)); err != nil {
		t.Fatal(err)
	}
	if err := pilot.ChangePassword(t.Context(), secret.New(made.Password), words); err != nil {
		t.Fatal(err)
	}
	third := open(t, f.url)
	third.signInAs("pilot", words.Reveal())
	third.goTo("/devices", "Devices")
	third.press("View")
	third.see("None saved yet.")
}
