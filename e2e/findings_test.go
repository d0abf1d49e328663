package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wardicon/api"
	"wardicon/client"
	"wardicon/demo"
)

const foreignKeyfile = `[connection]
id=Skerry Line Norrvik
uuid=6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11
type=vpn

[vpn]
service-type=org.freedesktop.NetworkManager.l2tp
gateway=norrvik.skerryline.example
user=a_fjell 
ipsec-enabled=yes
refuse-pap=yes
ipsec-ike=aes256-sha256-modp2048

[vpn-secrets]
ipsec-psk=kelp-4497-Harbor-mizzen-93-osprey 
`

// TestCheckCommand tries the command on files, folders, archives and standard input, with
// every flag.
func TestCheckCommand(t *testing.T) {
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	dir := t.TempDir()
	put := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	broken, sound := put(
		"broken/a.nmconnection",
		foreignKeyfile,
	), put(
		"sound/a.nmconnection",
		strings.NewReplacer("a_fjell ", "a_fjell", "osprey ", "osprey").Replace(foreignKeyfile),
	)
	tunnel := put("tunnel/b.ovpn", "client\nremote brattvik.skerryline.example\nca gone.pem\n")
	for _, test := range []struct {
		name  string
		stdin string
		args  []string
		code  int
		want  string
	}{
		{"a sound file", "", []string{sound}, 0, "findings: 3 notes"},
		{"a broken one", "", []string{broken}, 1, "[edge-space]"},
		{"only errors count", "", []string{tunnel, "--exit-on", "error"}, 1, "[file-missing]"},
		{"a folder", "", []string{dir, "-o", "json"}, 1, `"edge-space"`},
		{"standard input", foreignKeyfile, []string{"-"}, 1, "-:9:6 vpn.user"},
		{"as SARIF", "", []string{broken, "-o", "sarif"}, 1, `"ruleId": "edge-space"`},
		{"for a device that cannot", "", []string{sound, "--for", "android 14"}, 1,
			"[protocol-gone]"},
		{"against the record", "", []string{sound, "--against"}, 1, "on record as Norrvik"},
		{"with another key than on record", "", []string{sound, "--against"}, 1,
			"[secret-not-gateways]"},
		{"nothing there", "", []string{filepath.Join(dir, "none")}, 2, "there is no file or folder"},
		{"no device", "", []string{sound, "--for", "toaster 1"}, 2, "expected a platform"},
		{"no severity", "", []string{sound, "--exit-on", "much"}, 2, "expected error"},
		{"SARIF of something else", "", nil, 2, "expected table, json or yaml"},
	} {
		t.Run(test.name, func(t *testing.T) {
			args := append([]string{"check"}, test.args...)
			if test.args == nil {
				args = []string{"overview", "-o", "sarif"}
			}
			code, out, errs := f.run(test.stdin, args...)
			if code != test.code || !strings.Contains(out+errs, test.want) {
				t.Errorf(
					"%v ended with %d, expected %d and %q\n%s%s",
					args,
					code,
					test.code,
					test.want,
					out,
					errs,
				)
			}
			if strings.Contains(out+errs, "kelp-4497") {
				t.Error("a secret is shown")
			}
		})
	}

	twin := put("with blanks/a b#1.nmconnection", foreignKeyfile)
	_, out, _ := f.run("", "check", twin, "-o", "sarif")
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				RuleIndex     int
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(
		[]byte(out),
		&log,
	); err != nil || log.Version != "2.1.0" || len(log.Runs) != 1 ||
		len(log.Runs[0].Results) < 3 {
		t.Fatalf("no SARIF log: %v\n%s", err, out)
	}
	for _, r := range log.Runs[0].Results {
		place := r.Locations[0].PhysicalLocation
		if log.Runs[0].Tool.Driver.Rules[r.RuleIndex].ID != r.RuleID ||
			!strings.HasSuffix(
				place.ArtifactLocation.URI,
				"/with%20blanks/a%20b%231.nmconnection",
			) ||
			place.Region.StartLine < 1 ||
			place.Region.StartColumn < 1 {
			t.Errorf("%+v leads nowhere", r)
		}
		if want := map[string]string{
			"edge-space":      "error",
			"ppp-clear":       "warning",
			"secret-in-clear": "note",
		}[r.RuleID]; want != "" &&
			r.Level != want {
			t.Errorf("%s has the level %q", r.RuleID, r.Level)
		}
	}
	if err := os.Remove(twin); err != nil {
		t.Fatal(err)
	}

	ignore := put(
		"broken/wardicon-ignore.yaml",
		"ignore:\n  - {rule: edge-space, reason: as at the gateway, until: 2099-01-31}\n  - "+
			"{rule: secret-in-clear, reason: old, until: 2020-01-31}\n",
	)
	if code, _, _ := f.run("", "check", broken); code != 1 {
		t.Errorf("a file that silences its own findings is obeyed: ended with %d", code)
	}
	code, out, _ := f.run("", "check", broken, "--ignore", ignore)
	if code != 0 || !strings.Contains(out, "ignored: 2") ||
		!strings.Contains(out, "the ignore entry for secret-in-clear expired on 2020-01-31") {
		t.Errorf("with an ignore file it ended with %d: %s", code, out)
	}
	for _, bad := range []string{"ignore:\n  - {rule: edge-space, until: 2099-01-31}",
		"ignore:\n  - {rule: none, reason: x, until: 2099-01-31}", "ignore:\n  - {rule: " +
			"edge-space, reason: x, until: soon}", "ignored: []"} {
		put("broken/wardicon-ignore.yaml", bad)
		if code, _, errs := f.run(
			"",
			"check",
			broken,
			"--ignore",
			ignore,
		); code != 2 ||
			!strings.Contains(errs, "wardicon-ignore.yaml") {
			t.Errorf("%q: ended with %d: %s", bad, code, errs)
		}
	}
	if err := os.Remove(ignore); err != nil {
		t.Fatal(err)
	}

	code, out, errs := f.run("", "check", broken, "--fix")
	if code != 0 || !strings.Contains(errs, "-user=a_fjell␣\n+user=a_fjell\n") ||
		strings.Contains(out+errs, "kelp-4497") {
		t.Errorf("the fix ended with %d: %s%s", code, out, errs)
	}
	fixed, err := os.ReadFile(broken)
	if err != nil || strings.Contains(string(fixed), "fjell ") ||
		strings.Contains(string(fixed), "osprey ") {
		t.Errorf("the file was not fixed: %v", err)
	}
	if kept, err := os.ReadFile(
		broken + ".before-fix",
	); err != nil ||
		string(kept) != foreignKeyfile {
		t.Errorf("the file as it was is not there: %v", err)
	}
}

// TestWorkList lists, counts and fixes findings, sets severities, lets an error pass, and
// takes facts out of a file, all by command.
func TestWorkList(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	must := func(want string, args ...string) string {
		t.Helper()
		code, out, errs := f.run("", args...)
		if code != 0 || !strings.Contains(out, want) {
			t.Fatalf("%v ended with %d, expected %q\n%s%s", args, code, want, out, errs)
		}
		return out
	}
	f.checked()
	must("edge-space", "finding", "sums")
	must("Easthaven", "finding", "sums", "--by", "gateway")
	must(`"b_ravn "  "b_ravn"`, "finding", "fix", "edge-space", "--dry-run")
	must("1 fixed", "finding", "fix", "edge-space", "--yes")
	f.checked()
	if out := must(
		"",
		"finding",
		"list",
		"--filter",
		"rule=edge-space",
	); !strings.Contains(
		out,
		"no findings",
	) {
		t.Errorf("still there: %s", out)
	}
	var sums api.Items[api.FindingSum]
	if err := json.Unmarshal([]byte(must("", "finding", "sums", "-o", "json")), &sums); err != nil {
		t.Fatal(err)
	}
	for _, s := range sums.Items {
		if s.Key == "edge-space" && (s.Ended != 1 || s.Tally.Errors != 0) {
			t.Errorf("a fixed finding counts as %+v", s)
		}
	}
	must("no finding of password-is-login", "finding", "fix", "password-is-login", "--dry-run")

	must("set to off", "rule", "set", "pattern-unmet", "off")
	f.checked()
	if out := must(
		"",
		"finding",
		"list",
		"--filter",
		"rule=pattern-unmet",
	); !strings.Contains(
		out,
		"no findings",
	) {
		t.Errorf("a rule that is off still finds: %s", out)
	}
	var here api.Items[api.Rule]
	if err := json.Unmarshal(
		[]byte(must("", "rule", "list", "--effective", "-o", "json")),
		&here,
	); err != nil ||
		!slices.ContainsFunc(
			here.Items,
			func(r api.Rule) bool {
				return r.Code == "pattern-unmet" && r.Set != "" &&
					r.Set != r.Severity
			},
		) {
		t.Errorf("the rules do not say what was set (%v)", err)
	}
	must("has its default severity", "rule", "set", "pattern-unmet", "default")

	const profile = "Deck phone 1/Easthaven"
	if code, _, _ := f.run("", "build", profile, "--out", t.TempDir()); code != 1 {
		t.Fatal("a profile with an error was built")
	}
	until := time.Now().AddDate(0, 0, 7).Format(time.DateOnly)
	must(
		"is overridden until "+until,
		"finding",
		"override",
		profile,
		"password-is-login",
		"--reason",
		"test bench",
		"--until",
		until,
	)
	must("test bench", "audit", "list", "--search", "override")
	if _, out, _ := f.run(
		"",
		"plan",
		"Deck phone 1",
		"Easthaven",
	); !strings.Contains(
		out,
		"error overridden until "+until+": test bench (",
	) {
		t.Errorf("the plan does not say why the error passes:\n%s", out)
	}
	must("card", "build", profile, "--out", t.TempDir())
	f.checked()
	must("(overridden)", "finding", "list", "--filter", "overridden=true")
	must("", "finding", "override", profile, "password-is-login", "--end")
	if code, _, _ := f.run("", "build", profile, "--out", t.TempDir()); code != 1 {
		t.Error("an error passes after its override was taken back")
	}
	for _, bad := range [][]string{
		{"finding", "override", profile, "password-is-login", "--reason", "", "--until", until},
		{"finding", "override", profile, "password-is-login", "--reason", "x",
			"--until", "2020-01-01"},
		{"finding", "override", profile, "protocol-gone", "--reason", "x", "--until", until},
		{"finding", "override", profile, "none", "--reason", "x", "--until", until},
		{"rule", "set", "psk-short", "loud"},
		{"rule", "set", "none", "off"},
	} {
		want := 1
		if slices.Contains(bad, "none") {
			want = 4 // there is no such rule
		}
		if code, out, errs := f.run("", bad...); code != want || errs == "" {
			t.Errorf("%v ended with %d: %s%s", bad, code, out, errs)
		}
	}

	file := write(
		t,
		"new.nmconnection",
		strings.ReplaceAll(
			strings.ReplaceAll(foreignKeyfile, "a_fjell ", "n_ost"),
			"norrvik.skerryline",
			"vestholm.skerryline",
		),
	)
	must("--dry-run", "import", file, "--person", "Ada Fjell", "--dry-run")
	if page, err := f.client.Gateways.List(
		t.Context(),
		client.Query{Search: "vestholm"},
	); err != nil ||
		page.Total != 0 {
		t.Errorf("what was only shown is kept: %v %v", page.Total, err)
	}
	must("n_ost", "import", file, "--person", "Ada Fjell")
	must("is on record", "import", file, "--person", "Ada Fjell")
}

// checked waits until every profile is checked.
func (f *fleet) checked() {
	f.t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if o, err := f.client.Overview(f.t.Context()); err == nil && o.Counts.Due == 0 {
			return
		}
	}
	f.t.Fatal("profiles are still to be checked")
}

// TestFindingsPages works through the console: fixing all of a rule, letting an error
// pass, setting a severity, and dropping a file.
func TestFindingsPages(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	f.checked()
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()

	b.goTo("/findings", "Findings")
	b.see("Space before or after a value")
	b.shot("findings")
	b.press("Space before or after a value")
	b.see("Fix all: Space before or after a value")
	b.see("b_ravn␣")
	b.accessible("findings with a fix")
	b.press("Fix all: 1 profile")
	b.see("Fixed: 1")

	b.goTo("/profiles/"+f.profile("Deck phone 1", "Easthaven")+"?tab=findings",
		"Deck phone 1 → Easthaven")
	b.press("Override temporarily…")
	b.press("Override")
	b.see("expected why the error may pass")
	b.fill("Reason", "on the test bench")
	b.press("Override")
	b.see("on the test bench")
	b.accessible("profile with an override")
	b.press("End the override")
	b.see("Override temporarily…")

	b.goTo("/rules", "Rules")
	b.see("psk-short")
	eval[bool](
		b,
		`(() => { const s = document.getElementById('set-psk-short'); s.value = 'note'; `+
			`s.dispatchEvent(new Event('change', {bubbles: true})); return true })()`,
	)
	b.see("The severity of psk-short is now note")

	b.goTo("/check", "Check files")
	b.see("Drop files here")
	eval[bool](
		b,
		fmt.Sprintf(
			`(() => { const d = new DataTransfer(); d.items.add(new File([%q], `+
				`'a.nmconnection')); document.querySelector('.drop').dispatchEvent(new `+
				`DragEvent('drop', {dataTransfer: d, bubbles: true})); return true })()`,
			foreignKeyfile,
		),
	)
	b.see("on record as Norrvik")
	b.see("a.nmconnection, line 9")
	b.see("IKE proposal")
	b.shot("check")
	b.accessible("checked files")
	b.press("Preview")
	b.see("is on record with L2TP/IPsec")
	if text := eval[string](b, "document.body.innerText"); strings.Contains(text, "kelp-4497") {
		t.Error("a secret is on the page")
	}
	page, err := f.client.Audit(t.Context(), client.Query{Search: "import"})
	if err != nil || page.Total != 0 {
		t.Errorf("looking at a file was kept as %d entries, %v", page.Total, err)
	}
}
