package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// shots names a folder for pictures of every page that a test visits.
var shots = os.Getenv("WARDICON_SHOTS")

// tab is one tab of a headless browser.
type tab struct {
	t   *testing.T
	ctx context.Context
	url string
	axe string
}

// open starts a browser. Where there is none the test is skipped, but not in CI.
func open(t *testing.T, url string) *tab {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("Chromium is not installed")
		}
		t.Skip("Chromium is not installed")
	}
	axe, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("the console's packages are not installed; run make build: %v", err)
	}
	dir, err := os.MkdirTemp(
		"",
		"wardicon-browser-",
	) // not t.TempDir: the browser's last writes may outlive the test
	if err != nil {
		t.Fatal(err)
	}
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.UserDataDir(dir),
		chromedp.Flag(
			"disable-quic",
			true,
		),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true),
		chromedp.Flag("lang", "en-US"),
	)
	alloc, closeAlloc := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, closeTab := chromedp.NewContext(alloc)
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	t.Cleanup(func() {
		cancel()
		closeTab()
		closeAlloc()
		for range 20 {
			if os.RemoveAll(dir) == nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	b := &tab{t, ctx, url, string(axe)}
	if err := chromedp.Do(ctx); err != nil { // starts the browser
		t.Fatal(err)
	}
	if err := chromedp.Listen(ctx, func(ev any) {
		if e, ok := ev.(*runtime.EventExceptionThrown); ok {
			t.Errorf("the page threw: %s", e.ExceptionDetails.Text)
		}
	}); err != nil {
		t.Fatal(err)
	}
	return b
}

func (b *tab) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	if err := chromedp.Do(b.ctx, steps...); err != nil {
		b.t.Fatal(err)
	}
}

// eval runs a script in the page and returns its value, awaited.
func eval[T any](b *tab, script string) T {
	b.t.Helper()
	v, err := chromedp.Run(
		b.ctx,
		chromedp.Evaluate[T](
			script,
			func(p *runtime.EvaluateParams) { yes := true; p.AwaitPromise = &yes },
		),
	)
	if err != nil {
		b.t.Fatalf("%s: %v", script, err)
	}
	return v
}

// until waits for a script to become true. What it throws counts as not yet: the page
// may be on its way to another.
func (b *tab) until(script string) {
	b.t.Helper()
	tried := fmt.Sprintf("(() => { try { return !!(%s) } catch { return false } })()", script)
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if yes, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](tried)); err == nil && yes {
			return
		}
		if time.Now().After(end) {
			b.t.Fatalf(
				"did not become true: %s\npage: %s",
				script,
				eval[string](b, "document.body?.innerText.slice(0, 2000) ?? ''"),
			)
		}
	}
}

// see waits for a text on the page.
func (b *tab) see(text string) {
	b.t.Helper()
	b.until(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// load opens a page of the console by its address and waits for its title.
func (b *tab) load(path, title string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.url + path))
	b.titled(title)
}

// goTo goes to a page as a person does: within the console where it is open and shows another one,
// by its address elsewhere.
func (b *tab) goTo(path, title string) {
	b.t.Helper()
	inside := eval[bool](
		b,
		fmt.Sprintf(
			"!!document.getElementById('app')?.__vue_app__ && !!document.querySelector('nav') && "+
				"location.pathname !== new URL(%q, location.href).pathname",
			path,
		),
	)
	if !inside {
		b.load(path, title)
		return
	}
	eval[bool](
		b,
		fmt.Sprintf(
			"(history.pushState({}, '', %q), dispatchEvent(new PopStateEvent('popstate')), true)",
			path,
		),
	)
	b.titled(title)
}

// titled waits for the page of a title.
func (b *tab) titled(title string) {
	b.t.Helper()
	b.until(
		fmt.Sprintf(
			"document.title === %q && document.querySelector('h1')?.textContent === %q",
			title+" · Wardicon",
			title,
		),
	)
}

// labelled finds the field that a label belongs to.
func labelled(label string) string {
	return fmt.Sprintf(
		`(() => { const l = [...document.querySelectorAll('label')].find(l => `+
			`l.textContent.replace('(required)','').trim() === %q); return l && `+
			`document.getElementById(l.htmlFor) })()`,
		label,
	)
}

// fill types into the field with a label.
func (b *tab) fill(label, value string) {
	b.t.Helper()
	b.until(labelled(label))
	eval[bool](
		b,
		fmt.Sprintf(
			`(() => { const f = %s; f.value = %q; f.dispatchEvent(new Event(f.tagName === `+
				`'SELECT' ? 'change' : 'input', {bubbles: true})); return true })()`,
			labelled(label),
			value,
		),
	)
}

// upload chooses a file in the field with a label.
func (b *tab) upload(label, path string) {
	b.t.Helper()
	b.until(labelled(label))
	id := eval[string](b, labelled(label)+".id")
	b.do(chromedp.SetUploadFiles(`[id="`+id+`"]`, []string{path}))
}

// press clicks the button or link with a text.
func (b *tab) press(text string) {
	b.t.Helper()
	find := fmt.Sprintf(
		`[...document.querySelectorAll('button, a, summary')].find(e => e.textContent.trim() === `+
			`%q && !e.disabled && e.getClientRects().length > 0)`,
		text,
	)
	b.until(find)
	eval[bool](b, "("+find+".click(), true)")
}

// part shows a part of a page by its tab.
func (b *tab) part(text string) {
	b.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll('[role=tab]')].find(e => `+
		`e.firstChild.textContent.trim() === %q)`, text)
	b.until(find)
	eval[bool](b, "("+find+".click(), true)")
}

// confirm proves once more who it is, where the console asks.
func (b *tab) confirm(password string) {
	b.t.Helper()
	b.see("A session alone is not enough for this.")
	b.accessible("confirming who it is")
	b.shot("confirm")
	b.fill("Your password", password)
	b.press("Confirm")
	b.until(`!document.querySelector('dialog.confirm')`)
}

// shot keeps a picture, where pictures are wanted.
func (b *tab) shot(name string) {
	b.t.Helper()
	if shots == "" {
		return
	}
	time.Sleep(250 * time.Millisecond) // transitions
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	if err != nil {
		b.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(shots, name+".png"), png, 0o600); err != nil {
		b.t.Fatal(err)
	}
}

// fits holds that nothing of the page is beyond the window's edge.
func (b *tab) fits() {
	b.t.Helper()
	if over := eval[int](b, `document.documentElement.scrollWidth - innerWidth`); over > 0 {
		b.t.Errorf("the page is %d pixels wider than the window", over)
	}
}

// violation is what the accessibility check found.
type violation struct {
	ID    string   `json:"id"`
	Help  string   `json:"help"`
	Nodes []string `json:"nodes"`
}

// accessible runs axe-core on the page as it is.
func (b *tab) accessible(where string) {
	b.t.Helper()
	// Colours are half-way in a transition: wait for its end.
	b.until(
		`document.getAnimations().every(a => a.playState !== 'running') && ` +
			`[...document.querySelectorAll('.modal, .modal-backdrop')].every(e => ['1', ` +
			`'0.5'].includes(getComputedStyle(e).opacity))`,
	)
	if !eval[bool](
		b,
		"typeof axe === 'object'",
	) { // a page that was gone to within the console has it still
		eval[bool](b, "("+"(() => {"+b.axe+"})(), typeof axe === 'object')")
	}
	found := eval[[]violation](
		b,
		`axe.run(document, {iframes: false}).then(r => r.violations.map(v => ({id: v.id, help: `+
			`v.help, nodes: v.nodes.map(n => n.html.slice(0, 200) + ' ' + (n.any[0]?.message ?? `+
			`''))})))`,
	)
	for _, v := range found {
		b.t.Errorf("%s: %s: %s\n%q", where, v.ID, v.Help, v.Nodes)
	}
}

// scanned is what a camera reads of a part of the page.
func scanned(b *tab, selector string) string {
	b.t.Helper()
	png, err := chromedp.Run(b.ctx, chromedp.Screenshot(selector))
	if err != nil {
		b.t.Fatal(err)
	}
	path := filepath.Join(b.t.TempDir(), "code.png")
	if err := os.WriteFile(path, png, 0o600); err != nil {
		b.t.Fatal(err)
	}
	out, err := exec.Command("zbarimg", "--quiet", "--raw", path).Output()
	if err != nil {
		b.t.Fatalf("zbarimg: %v", err)
	}
	return strings.TrimSpace(string(out))
}
