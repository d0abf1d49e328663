package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"

	"wardicon/client"
	"wardicon/core/secret"
)

// TestBoard hands over to a group in the console, reads the passcodes, makes one again and recalls
// it; an auditor sees it all and nothing that changes something.
func TestBoard(t *testing.T) {
	t.Parallel() // each has a service and a browser of its own
	f := start(t, true)
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	b.goTo("/handovers", "Handovers")
	b.see("No handovers yet.")
	b.fill("Group", "nobody")
	b.press("Hand over")
	b.until(
		`[...document.querySelectorAll('.invalid-feedback')].some(e => e.textContent.includes('a ` +
			`mail server to send it through'))`,
	)
	b.fill("Links", "shown")
	b.press("Hand over")
	b.until(
		`[...document.querySelectorAll('.invalid-feedback')].some(e => e.textContent.includes('a ` +
			`group of people who have devices'))`,
	)
	b.fill("Group", "bridge")
	b.press("Hand over")
	b.see("3 made")
	b.until(`document.querySelectorAll('.board li').length === 3`)
	b.accessible("the board")
	b.shot("handovers")
	b.press("Show passcodes")
	b.until(`document.querySelectorAll('.slips tbody tr').length === 3`)
	b.accessible("passcodes of a group")
	b.shot("slips")
	b.press("Show links")
	b.until(
		`[...document.querySelectorAll('.slips td.mono')].every(e => ` +
			`e.textContent.includes('/h/'))`,
	)
	b.press("Hide")
	b.press("Reissue for Bridge tablet 2")
	b.see("Passcode, to be sent another way")
	b.see("recalled")
	b.do(chromedp.EmulateViewport(360, 740))
	b.accessible("the board on a phone")
	b.fits()
	b.shot("phone-handovers")
	b.do(chromedp.EmulateViewport(1280, 800))

	// A device is lost.
	d, err := f.client.Devices.List(t.Context(), query("Bridge tablet 2"))
	if err != nil {
		t.Fatal(err)
	}
	b.goTo("/devices/"+d.Items[0].ID, "Bridge tablet 2")
	b.press("Show what it holds")
	b.see("Change the pre-shared key of Norrvik")
	eval[bool](
		b,
		`(document.getElementById('offboard').scrollIntoView({behavior: 'instant'}), true)`,
	)
	b.accessible("what a device holds")
	b.shot("offboard")
	b.press("Offboard Bridge tablet 2")
	b.see("1 link closed")
	b.until(labelled("Offboarded"))
	b.goTo("/offboardings", "Offboarding")
	b.see("Change the pre-shared key of Norrvik")
	b.accessible("what is to be done")
	b.shot("offboardings")
	b.until(`document.querySelector('table input[type=checkbox]')`)
	eval[bool](b, `(document.querySelector('table input[type=checkbox]').click(), true)`)
	b.see("Done on")
	if _, err := f.client.Build(
		t.Context(),
		f.profile("Bridge tablet 2", "Norrvik"),
		false,
	); err == nil {
		t.Error("something was built for a lost device")
	}

	made, err := f.client.AddOperator(t.Context(), "pilot", "auditor", nil)
	if err != nil {
		t.Fatal(err)
	}
	pilot := client.New(f.url, "")
	if _, err := pilot.SignIn(t.Context(), "pilot", secret.New(made.Password)); err != nil {
		t.Fatal(err)
	}
	if err := pilot.ChangePassword(
		t.Context(),
		secret.New(made.Password),
		secret.New("kelp-72-Driftwood-lantern-oar"),
	); err != nil {
		t.Fatal(err)
	}
	other := open(t, f.url)
	other.do(chromedp.EmulateViewport(1280, 800))
	other.signInAs("pilot", "kelp-72-Driftwood-lantern-oar")
	for _, page := range []struct{ path, title string }{
		{"/handovers", "Handovers"},
		{"/profiles/" + f.profile("Planner Mac 1", "Norrvik"), "Planner Mac 1 → Norrvik"},
		{"/devices/" +
			d.Items[0].ID, "Bridge tablet 2"},
		{"/gateways", "Gateways"},
	} {
		other.goTo(page.path, page.title)
		other.until(`!document.body.innerText.includes('Looking…')`)
		if shown := eval[[]string](
			other,
			`[...document.querySelectorAll('.alters')].filter(e => e.getClientRects().length > `+
				`0).map(e => e.textContent)`,
		); len(
			shown,
		) > 0 {
			t.Errorf("%s shows an auditor %q", page.path, shown)
		}
	}
	if hidden := eval[int](other, `document.querySelectorAll('.alters').length`); hidden == 0 {
		t.Error("nothing is marked as changing something")
	}
}

// TestSwitchoverPage plans a switchover in the console, looks at its preview, hands it over in
// waves, and cuts the old value off with the number of devices that hold it.
func TestSwitchoverPage(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	b.goTo("/calendar", "Calendar")
	b.see("Plan: new gateway certificate")
	b.press("Create the address")
	b.see("/calendar/")
	b.goTo("/switchovers/new", "Plan a switchover")
	b.fill("Name", "New key at Norrvik")
	b.press("Save the draft")
	b.until(`[...document.querySelectorAll('.invalid-feedback')].some(e => ` +
		`e.textContent.includes('the gateway that changes'))`)
	b.fill("Gateway", f.gateway("Norrvik"))
	b.fill("Waves", "bridge\n50\n100")
	b.fill("Percent seen before the next wave", "50")
	eval[bool](b, "("+labelled("Send links by mail")+".click(), true)")
	b.fill("Old value until", "2027-06-01")
	b.press("Save the draft")
	b.see("A draft changes nothing.")
	b.press("Compute the preview")
	b.see("Devices by wave")
	b.see("IKEv1 in main mode finds a key by addresses alone")
	b.see("cannot follow: No common IKE proposal")
	b.accessible("a preview")
	b.shot("switchover-preview")
	b.press("Start")
	b.see("The next wave waits: 0 of 3 devices of wave 1 were seen connected")
	b.until(`document.querySelector('canvas')`)
	b.accessible("a switchover")
	b.shot("switchover")
	b.press("Begin it anyway")
	b.see("Begin wave 3")
	b.press("Confirm")
	b.see("1 connected")
	b.do(chromedp.EmulateViewport(360, 740))
	b.accessible("a switchover on a phone")
	b.fits()
	b.shot("phone-switchover")
	b.do(chromedp.EmulateViewport(1280, 800))
	b.press("Cut off the old value")
	b.see("devices hold the old value")
	b.shot("switchover-cut-off")
	b.press("Cut off")
	b.until(`document.querySelector('.tag').textContent === 'closed'`)
	b.accessible("a switchover that is closed")
	b.goTo("/switchovers", "Switchovers")
	b.see("New key at Norrvik")
	b.accessible("switchovers")
}
