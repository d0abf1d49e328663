package e2e

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestHandoverPages gives a parcel to a person: link and passcode on the command line, the page
// without scripts, the files; nothing secret in the log.
func TestHandoverPages(t *testing.T) {
	t.Parallel() // each has a service and a browser of its own
	f := start(t, true)
	run := f.commands()
	run(1, "build it first", "handover", "make", "Planner Mac 1/Norrvik")
	run(0, ".mobileconfig", "build", "Planner Mac 1/Norrvik", "--out", t.TempDir()+"/mac")
	words := strings.Fields(
		run(
			0,
			"Send the passcode another way",
			"handover",
			"make",
			"Planner Mac 1/Norrvik",
			"--uses",
			"2",
		),
	)
	link, passcode, id := words[1], words[3], strings.Trim(words[len(words)-9], "().")
	run(0, "made", "handover", "list", "--filter", "state=made")

	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: jar}
	ask := func(method, address, body, agent string) (int, string, http.Header) {
		t.Helper()
		req, err := http.NewRequestWithContext(
			t.Context(),
			method,
			address,
			strings.NewReader(body),
		)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("User-Agent", agent)
		if body != "" {
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		answer, err := browser.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = answer.Body.Close() }()
		text, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, string(text), answer.Header
	}
	const mac, windows = "Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7)", "Mozilla/5.0 (Windows NT 10.0; Win64; x64)"
	status, page, header := ask("GET", link, "", mac)
	if status != 200 || !strings.Contains(page, "Passcode") || len(page) > 60<<10 ||
		strings.Contains(page, "<script") ||
		strings.Contains(page, "Planner") {
		t.Errorf("%d: %s", status, page)
	}
	for name, want := range map[string]string{
		"Cache-Control":           "no-store",
		"Referrer-Policy":         "no-referrer",
		"X-Robots-Tag":            "noindex, nofollow",
		"Content-Security-Policy": "default-src 'none'",
	} {
		if got := header.Get(name); !strings.HasPrefix(got, want) {
			t.Errorf("%s is %q", name, got)
		}
	}
	if status, page, _ := ask(
		"POST",
		link,
		"passcode=abcde-fghij-kmnpq",
		mac,
	); status != 403 ||
		!strings.Contains(page, "That is not the passcode") {
		t.Errorf("%d: %s", status, page)
	}
	status, page, _ = ask(
		"POST",
		link,
		url.Values{"passcode": {" " + strings.ToUpper(passcode)}}.Encode(),
		windows,
	)
	if status != 200 || !strings.Contains(page, "Planner Mac 1") ||
		!strings.Contains(page, "You seem to be on a Windows computer, and this is for a Mac.") {
		t.Errorf("%d: %s", status, page)
	}
	if _, page, _ = ask(
		"GET",
		link,
		"",
		mac,
	); strings.Contains(page, "You seem to be") || !strings.Contains(page, ".mobileconfig") ||
		strings.Contains(page, " download") { // a phone would keep the profile as a file
		t.Errorf("on the device itself: %s", page)
	}
	at := strings.Index(page, `class="main" href="`) + len(`class="main" href="`)
	file := page[at : at+strings.Index(page[at:], `"`)]
	status, content, header := ask("GET", f.url+file, "", mac)
	if status != 200 || header.Get("Content-Type") != "application/x-apple-aspen-config" ||
		!strings.HasPrefix(header.Get("Content-Disposition"), "inline") ||
		content[0] != 0x30 {
		t.Errorf("%d, %v", status, header)
	}
	if status, page, _ := ask(
		"GET",
		f.url+strings.Replace(file, "/files/", "/files/x", 1),
		"",
		mac,
	); status != 404 ||
		!strings.Contains(page, "This link has expired") {
		t.Errorf("%d: %s", status, page)
	}
	run(0, "fetched", "handover", "list")
	run(0, "is closed", "handover", "recall", id)
	for _, address := range []string{link, f.url + file, f.url + "/h/nobody"} {
		if status, page, _ := ask(
			"GET",
			address,
			"",
			mac,
		); status != 404 && status != 410 ||
			!strings.Contains(page, "Ask the person who gave it to you") {
			t.Errorf("%s: %d: %s", address, status, page)
		}
	}
	log := f.log.String()
	for _, hidden := range []string{passcode, strings.TrimPrefix(link, f.url+"/h/"),
		strings.ToUpper(passcode)} {
		if strings.Contains(log, hidden) {
			t.Errorf("the log has %q", hidden)
		}
	}

	b := open(t, f.url)
	words = strings.Fields(run(0, "Send the passcode", "handover", "make", "Planner Mac 1/Norrvik"))
	b.signIn()
	b.goTo("/profiles/"+f.profile("Planner Mac 1", "Norrvik")+"?tab=handover",
		"Planner Mac 1 → Norrvik")
	b.see("Hand over")
	b.fill("Days until it expires", "99")
	b.press("Create a link")
	b.until(
		`[...document.querySelectorAll('.invalid-feedback')].some(e => e.textContent.includes('1 ` +
			`to 60 days'))`,
	)
	b.fill("Days until it expires", "2")
	b.press("Create a link")
	b.see("Passcode, to be sent another way")
	b.accessible("a link that was made")
	eval[bool](
		b,
		`(document.getElementById('handing').scrollIntoView({behavior: 'instant'}), true)`,
	)
	b.shot("handover-panel")
	b.until(`document.querySelector('.made img').naturalWidth > 0`)
	b.press("Reissue")
	b.press("Recall")
	b.see("The link is closed.")
	b.do(chromedp.Navigate(words[1]))
	b.until(`document.title.startsWith('Your connection')`)
	if title := eval[string](b, `document.title`); title != "Your connection to Skerry Line" {
		t.Errorf("the page is called %q", title)
	}
}

// TestHandingCommands goes the other ways out on the command line: archive, folder, a group on
// slips, who was seen, who leaves, what translators get.
func TestHandingCommands(t *testing.T) {
	t.Parallel() // each has a service and a browser of its own
	f := start(t, true)
	run := f.commands()
	dir := t.TempDir()
	run(2, "either a profile or --group", "handover", "archive")
	run(
		1,
		"no parcel that is up to date",
		"handover",
		"archive",
		"--group",
		"engineers",
		"--out",
		dir+"/e.zip",
	)
	run(
		1,
		"left out: Engine laptop 1 to Norrvik",
		"handover",
		"folder",
		"engineers",
		"--out",
		dir+"/empty",
	)
	out := run(0, "4 made", "handover", "group", "engineers", "--sheets")
	words := strings.Fields(out)
	job := words[len(words)-1]
	for _, half := range [][]string{{"passcode"}, {"/h/", "--links"}} {
		if out := run(
			0,
			half[0],
			append([]string{"handover", "slips", job}, half[1:]...)...); strings.Count(
			out,
			"Engine",
		) != 4 {
			t.Errorf("%s", out)
		}
	}
	run(0, "4 parcels", "handover", "archive", "--group", "engineers", "--out", dir+"/e.zip")
	run(
		1,
		"remove it or choose another name",
		"handover",
		"archive",
		"--group",
		"engineers",
		"--out",
		dir+"/e.zip",
	)
	run(0, "4 parcels", "handover", "folder", "engineers", "--out", dir+"/e")
	if files, err := filepath.Glob(
		dir + "/e/Hal Brenner/Engine laptop 2 Norrvik/*-card.pdf",
	); err != nil ||
		len(files) != 1 {
		t.Errorf("%q (%v)", files, err)
	}
	run(0, `"count": 4`, "handover", "states", "--output", "json")
	run(0, "", "handover", "seen", "Engine laptop 2/Norrvik")
	run(1, "not connected", "me", "address")
	run(
		0,
		"link         Engine laptop 2 to Norrvik",
		"offboard",
		"person",
		"Hal Brenner",
		"--dry-run",
	)
	run(1, "left for a person", "offboard", "person", "Hal Brenner", "--why", "lost")
	id := regexp.MustCompile(`wd-\w+`).
		FindString(run(0, "1 link closed", "offboard", "person", "Hal Brenner"))
	run(2, "expected its number, from 1", "offboard", "done", id, "0")
	run(0, "by harbourmaster", "offboard", "done", id, "1")
	run(0, "Hal Brenner", "offboard", "list", "--filter", "open=true")
	run(1, "offboarded", "build", "Engine laptop 2/Norrvik", "--out", dir+"/x")
	run(0, `"Sie sind nicht verbunden."`, "service", "translations", "de")
	run(0, `"You are not connected.": ""`, "service", "translations", "pt")
}
