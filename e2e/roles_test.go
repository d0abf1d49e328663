package e2e

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/demo"
	"wardicon/httpapi"
)

// ownersAlone are the operations for owners; auditorsToo those that change nothing although they
// are no GET, or are one's own affair.
var (
	ownersAlone = []string{
		"make-authority",
		"take-authority",
		"export-authority",
		"roll-over-authority",
		"add-authority",
		"change-authority",
		"remove-authority",
		"make-signer",
		"end-delivery",
		"make-delivery",
		"make-gateway-configuration",
		"make-user-lists",
		"take-signer",
		"remove-signer",
		"list-webhooks",
		"add-webhook",
		"change-webhook",
		"remove-webhook",
		"try-webhook",
		"list-webhook-deliveries",
		"show-single-sign-on",
		"change-single-sign-on",
		"change-directory",
		"change-mail",
		"try-mail",
		"change-organisation",
		"set-severity",
		"list-operators",
		"add-operator",
		"change-operator",
		"reset-operator",
		"remove-operator",
	}
	auditorsToo = []string{
		"keep-list-view",
		"make-feed",
		"end-feed",
		"explain-failure",
		"make-secret",
		"check-files",
		"show-prospects",
		"try-plan",
		"begin-confirmation-entry",
		"sign-out",
		"change-password",
		"confirm-session",
		"offer-factor",
		"offer-passkey",
		"add-passkey",
		"remove-passkey",
		"confirm-factor",
		"drop-factor",
		"end-session",
		"add-token",
	}
	issuersToo = []string{"fetch-file"} // a GET that has secrets
	openToAll  = []string{"ask-passkey", "begin-entry", "start", "set-up", "sign-in", "whereami"}
)

// described are the operations of the API by path and method, and its whole description.
func described(t *testing.T) (description []byte, paths map[string]map[string]struct {
	ID string `json:"operationId"`
}) {
	t.Helper()
	description, err := json.Marshal(httpapi.Describe("test"))
	if err != nil {
		t.Fatal(err)
	}
	var api struct {
		Paths map[string]map[string]struct {
			ID string `json:"operationId"`
		} `json:"paths"`
	}
	if err := json.Unmarshal(description, &api); err != nil {
		t.Fatal(err)
	}
	return description, api.Paths
}

// TestRoles calls every operation of the API in every role, and holds that no role does more than
// it may.
func TestRoles(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	tokens := map[string]string{}
	for _, role := range []string{"auditor", "issuer", "owner"} {
		made, err := f.client.AddToken(ctx, role, role, 1)
		if err != nil {
			t.Fatal(err)
		}
		tokens[role] = made.Bearer
	}
	data, paths := described(t)
	call := func(method, path, token string) (int, string) {
		t.Helper()
		path = strings.NewReplacer("{id}", "xx-none", "{rule}", "edge-space", "{name}", "none",
			"{noun}", "device", "{half}", "link", "{item}", "0").
			Replace(path)
		req, err := http.NewRequestWithContext(
			ctx,
			strings.ToUpper(method),
			f.url+path,
			strings.NewReader("{}"),
		)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set(
			"Content-Type",
			map[string]string{"patch": "application/merge-patch+json"}[method],
		)
		if req.Header.Get("Content-Type") == "" {
			req.Header.Set("Content-Type", "application/json")
		}
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		answer, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = answer.Body.Close() }()
		text, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, string(text)
	}
	seen := 0
	for path, methods := range paths {
		for method, op := range methods {
			if slices.Contains(openToAll, op.ID) || op.ID == "sign-out" {
				continue
			}
			seen++
			if status, _ := call(method, path, ""); status != http.StatusUnauthorized {
				t.Errorf("%s: nobody gets %d, expected 401", op.ID, status)
			}
			if op.ID == "watch-changes" {
				continue // it answers as long as a request may take
			}
			allowed := map[string]bool{
				"owner":  true,
				"issuer": !slices.Contains(ownersAlone, op.ID),
			}
			allowed["auditor"] = slices.Contains(auditorsToo, op.ID) ||
				method == "get" && !slices.Contains(ownersAlone, op.ID) &&
					!slices.Contains(issuersToo, op.ID)
			for role, may := range allowed {
				status, text := call(method, path, tokens[role])
				// A program's token may not change how its operator signs in, whatever its role.
				refused := status == http.StatusForbidden &&
					!strings.Contains(text, "a program's token")
				if refused == may {
					t.Errorf(
						"%s by %s: %d, allowed should be %t: %.200s",
						op.ID,
						role,
						status,
						may,
						text,
					)
				}
			}
		}
	}
	if seen < 70 {
		t.Errorf("%d operations were called: the walk misses some", seen)
	}
	for _, list := range [][]string{ownersAlone, auditorsToo, issuersToo, openToAll} {
		for _, id := range list {
			if !strings.Contains(string(data), `"operationId":"`+id+`"`) {
				t.Errorf("there is no operation %s", id)
			}
		}
	}
}

// TestOperatorCommands goes the ways of operators on the command line, up to a recovery on the data
// folder.
func TestOperatorCommands(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := func(code int, want, stdin string, args ...string) string {
		t.Helper()
		got, out, errs := f.run(stdin, args...)
		if got != code || !strings.Contains(out+errs, want) {
			t.Errorf(
				"%s ended with %d, expected %d and %q\n%s%s",
				strings.Join(args, " "),
				got,
				code,
				want,
				out,
				errs,
			)
		}
		return out
	}
	signIn := func(code int, want, name, password string) {
		t.Helper()
		run(code, want, password+"\n", "me", "sign-in", "--name", name, "--password-file", "-")
	}
	first := func(out string) string {
		t.Helper()
		words := strings.Fields(out)
		i := slices.Index(words, "with")
		if i < 0 || i+1 >= len(words) {
			t.Fatalf("no password in %q", out)
		}
		return words[i+1]
	}
	const owner, chosen = "ferry-lantern-osprey-47-quarterdeck", "anchor-velvet-52-pepper-rudder"
	signIn(0, "signed in", "harbourmaster", owner)
	password := first(
		run(0, "signs in for the first time", "", "operator", "add", "pilot", "--role", "auditor"),
	)
	run(0, "must change the password", "", "operator", "list")
	head := strings.Fields(run(0, "entries are unchanged", "", "audit", "verify"))
	run(0, "entries are unchanged", "", "audit", "verify", "--head", head[len(head)-1])
	run(1, "entries were removed", "", "audit", "verify", "--head", strings.Repeat("0", 64))
	if out := run(
		0,
		`"action":"sign in"`,
		"",
		"audit",
		"export",
		"--search",
		"sign in",
	); strings.Count(
		out,
		"\n",
	) < 2 {
		t.Errorf("exported is %q", out)
	}
	run(0, "(this one)", "", "me", "session", "list", "--all")
	token := strings.TrimSpace(run(0, "wi_", "", "me", "token", "inventory", "--days", "3"))
	if _, err := client.New(f.url, token).Overview(context.Background()); err != nil {
		t.Errorf("the token does not open: %v", err)
	}
	run(1, "last owner", "", "operator", "change", "harbourmaster", "--role", "issuer")
	run(1, "there is no operator", "", "operator", "change", "nobody", "--role", "issuer")

	signIn(0, "signed in", "pilot", password)
	run(1, "change it first", "", "gateway", "list")
	run(2, "two new passwords differ", password+"\n"+chosen+"\n"+chosen+"s\n", "me", "password")
	run(0, "password is changed", password+"\n"+chosen+"\n"+chosen+"\n", "me", "password")
	run(0, "Norrvik", "", "gateway", "list")
	run(1, "this needs the role issuer", "", "gateway", "change", "Norrvik", "--note", "x")
	run(1, "this needs the role owner", "", "operator", "list")
	mine := filepath.Join(t.TempDir(), "mine")
	if err := os.WriteFile(mine, []byte(chosen), 0o600); err != nil {
		t.Fatal(err)
	}
	run(1, "another code", "000000\n", "me", "second-factor", "on", "--confirm-file", mine)

	signIn(0, "signed in", "harbourmaster", owner)
	run(0, "disabled", "", "operator", "change", "pilot", "--disabled")
	signIn(1, "name, password or code is wrong", "pilot", chosen)
	made, err := f.svc.RecoverOperator(context.Background(), "harbourmaster")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := client.New(f.url, "").
		SignIn(context.Background(), "harbourmaster", secret.New(made.Password)); err != nil {
		t.Errorf("after the recovery: %v", err)
	}
}

// TestOperatorPages adds an operator on its page, who then signs in, must choose a password, sees
// less, and sets a second factor up.
func TestOperatorPages(t *testing.T) {
	_, b := signedInTab(t)
	const chosen = "anchor-velvet-52-pepper-rudder"
	b.goTo("/operators", "Operators")
	b.press("Add an operator")
	b.press("Add")
	b.confirm(demo.OwnerPassword)
	b.until(
		`[...document.querySelectorAll('.invalid-feedback')].some(e => e.textContent.includes('1 ` +
			`to 64 characters'))`,
	)
	b.fill("Name", "pilot")
	b.press("Add")
	b.see("signs in for the first time")
	first := eval[string](b, `document.querySelector('.finding .mono').textContent`)
	b.accessible("an operator that was added")
	b.press("Change…")
	b.see("Reset password")
	b.accessible("changing an operator")
	b.goTo("/log", "Audit log")
	b.press("Verify the log")
	b.see("entries are unchanged")
	b.press("Sign out")
	b.until(`document.title === 'Sign in to Wardicon · Wardicon'`)
	signIn := func(password string) {
		t.Helper()
		b.fill("Name", "pilot")
		b.fill("Password", password)
		b.press("Sign in")
	}
	signIn(first)
	b.see("Your password was set by somebody else.")
	b.accessible("a password to be changed")
	b.fill("Current password", first)
	for _, label := range []string{"New password", "Repeat"} {
		b.fill(label, chosen)
	}
	b.press("Change")
	b.see("Needs attention")
	if eval[bool](
		b,
		`[...document.querySelectorAll('nav a')].some(a => a.textContent.includes('Operators'))`,
	) {
		t.Error("an issuer is led to the operators")
	}
	b.goTo("/me", "Your sign-in")
	b.press("Set up")
	b.confirm(chosen)
	b.see("Scan this with your app")
	key := eval[string](b, `document.querySelector('section .mono.mt-2').textContent`)
	b.accessible("a second factor on its way")
	b.shot("second-factor")
	code := func(off time.Duration) string {
		t.Helper()
		v, err := totp.GenerateCode(key, time.Now().Add(off))
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	b.fill("Current code of the app", code(0))
	b.press("Turn on")
	b.see("The second factor is on.")
	b.press("Sign out")
	b.until(`document.title === 'Sign in to Wardicon · Wardicon'`)
	signIn(chosen)
	b.fill("Code of the second factor", code(30*time.Second))
	b.press("Sign in")
	b.see("Needs attention")
}
