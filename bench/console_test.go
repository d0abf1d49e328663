package bench

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/chromedp"

	"wardicon/core/secret"
	"wardicon/service"
)

const consolePassword = "halyard-58-Cormorant-shingle-owner"

// scripted are pages of the console, and what is in each once its records have come.
var scripted = []struct{ name, path, there string }{
	{"overview", "/", "main h2"},
	{"devices", "/devices", "tbody tr:nth-child(20)"},
	{"devices, page 30", "/devices?page=30", "tbody tr"},
	{"devices, searched", "/devices?search=tanaka", "tbody tr:nth-child(20)"},
	{"people", "/people", "tbody tr:nth-child(20)"},
	{"profiles", "/profiles", "tbody tr:nth-child(20)"},
	{"gateways", "/gateways", "tbody tr:nth-child(20)"},
	{"findings", "/findings", "tbody tr:nth-child(20)"},
	{"rules", "/rules", "details.rule"},
	{"audit log", "/log", "tbody tr"},
	{"calendar", "/calendar", "main h2"},
}

// pageScripts measures how long the scripts of the console's pages run in Chromium, on the large
// store; the baseline is the page to sign in, which shows a form and no record.
func pageScripts() (err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		fmt.Println("console: Chromium is not installed")
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Minute)
	defer cancel()
	s, dir, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	err = svc.AddOwner(ctx, "harbourmaster", secret.New(consolePassword), "")
	if err = errors.Join(err, loadFleet(ctx, s, fleetSize())); err == nil {
		_, err = svc.CheckAll(ctx)
	}
	if err = errors.Join(err, s.Close()); err != nil {
		return err
	}
	return served(dir, func(address string) error { return pageTimes(ctx, path, dir, address) })
}

func pageTimes(ctx context.Context, chromium, dir, address string) error {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(chromium),
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(filepath.Join(dir, "browser")),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	ctx, closeAll := chromedp.NewExecAllocator(ctx, options...)
	defer closeAll()
	ctx, closeTab := chromedp.NewContext(ctx)
	defer closeTab()
	if err := chromedp.Do(ctx); err != nil { // starts the browser
		return err
	}
	if _, err := chromedp.Call(ctx, performance.Enable, performance.EnableParams{}); err != nil {
		return err
	}
	form, err := scriptOf(ctx, address+"/sign-in", "form button")
	if err != nil {
		return err
	}
	row("console: script of the page to sign in", form, form)
	if err := within(ctx,
		chromedp.SendKeys(chromedp.CSS("form input:not([type=password])"), "harbourmaster"),
		chromedp.SendKeys(chromedp.CSS("form input[type=password]"), consolePassword+"\r"),
		chromedp.WaitVisible(chromedp.CSS("nav"))); err != nil {
		return err
	}
	for _, page := range scripted {
		took, err := scriptOf(ctx, address+page.path, page.there)
		if err != nil {
			return fmt.Errorf("%s: %w", page.name, err)
		}
		row("console: script of the page "+page.name, took, form)
	}
	return nil
}

// scriptOf loads a page five times and takes the median of the time that its scripts ran, up to a
// second after its records came.
func scriptOf(ctx context.Context, url, there string) (time.Duration, error) {
	var took []time.Duration
	for range 5 {
		if err := chromedp.Do(ctx, chromedp.Navigate("about:blank")); err != nil {
			return 0, err
		}
		before, err := scriptTime(ctx)
		if err == nil {
			err = within(ctx, chromedp.Navigate(url), chromedp.WaitReady(chromedp.CSS(there)),
				chromedp.Sleep(time.Second))
		}
		after, err2 := scriptTime(ctx)
		if err = cmp.Or(err, err2); err != nil {
			return 0, err
		}
		if after < before { // counted anew with each document
			before = 0
		}
		took = append(took, after-before)
	}
	slices.Sort(took)
	return took[2], nil
}

// within does steps in the browser and fails where they take half a minute.
func within(ctx context.Context, steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

func scriptTime(ctx context.Context) (time.Duration, error) {
	result, err := chromedp.Call(ctx, performance.GetMetrics, cdp.Empty{})
	if err != nil {
		return 0, err
	}
	for _, m := range result.Metrics {
		if m.Name == "ScriptDuration" {
			return time.Duration(m.Value * float64(time.Second)), nil
		}
	}
	return 0, errors.New("Chromium does not say how long scripts ran")
}
