package e2e

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"wardicon/client"
	"wardicon/core/check"
	"wardicon/core/secret"
	"wardicon/demo"
)

// tells are where the service makes what it tells: fields of what it answers with, and arguments,
// from one on, of calls by their names.
var (
	tellingFields = []string{
		"Found", "Expected", "Fix", "Detail", "Cause", "Confirm", "Changes", "Reason", "Change",
		"why", "reason", "fix", "found", "expected",
	}
	tellingCalls = map[string]int{
		"problem": 2, "Refuse": 1, "because": 1, "choose": 4, "about": 3, "add": 1,
	}
)

var (
	verb    = regexp.MustCompile(`%[-+#]?[0-9.]*[a-zA-Z]`)
	letters = regexp.MustCompile(`\p{L}{2}.*\s|\p{L} \p{L}|\p{L}\.$`)
)

// unknownValue stands where a sentence has a value of a record.
const unknownValue = "\x00"

// sentence is a text in the source, with marks where values come in.
func sentence(x ast.Expr) string {
	switch e := x.(type) {
	case *ast.ParenExpr:
		return sentence(e.X)
	case *ast.BasicLit:
		if e.Kind == token.STRING {
			s, _ := strconv.Unquote(e.Value)
			return s
		}
	case *ast.BinaryExpr:
		return sentence(e.X) + sentence(e.Y)
	case *ast.CallExpr:
		if of, ok := e.Fun.(*ast.SelectorExpr); ok &&
			slices.Contains([]string{"Sprintf", "Errorf", "New"}, of.Sel.Name) && len(e.Args) > 0 {
			return formatted(e.Args[0])
		}
	}
	return unknownValue
}

func formatted(x ast.Expr) string {
	return strings.ReplaceAll(verb.ReplaceAllString(sentence(x), unknownValue), "%%", "%")
}

// sentences are those of some folders of the source, with {0}, {1} … for their values, and where
// each stands.
func sentences(t *testing.T, folders ...string) map[string]string {
	t.Helper()
	all := map[string]string{}
	note := func(path, text string) {
		for n := 0; strings.Contains(text, unknownValue); n++ {
			text = strings.Replace(text, unknownValue, fmt.Sprintf("{%d}", n), 1)
		}
		if letters.MatchString(text) {
			all[text] = path
		}
	}
	look := func(path string, x ast.Node) {
		switch v := x.(type) {
		case *ast.KeyValueExpr:
			if key, ok := v.Key.(*ast.Ident); ok && slices.Contains(tellingFields, key.Name) {
				note(path, sentence(v.Value))
			}
		case *ast.AssignStmt:
			for i, left := range v.Lhs {
				var name string
				switch of := left.(type) {
				case *ast.SelectorExpr:
					name = of.Sel.Name
				case *ast.Ident:
					name = of.Name
				}
				if len(v.Lhs) == len(v.Rhs) && slices.Contains(tellingFields, name) {
					note(path, sentence(v.Rhs[i]))
				}
			}
		case *ast.FuncDecl:
			if v.Type.Results == nil || v.Body == nil {
				return
			}
			var results []string
			for _, of := range v.Type.Results.List {
				for _, name := range of.Names {
					results = append(results, name.Name)
				}
			}
			ast.Inspect(v.Body, func(x ast.Node) bool {
				r, ok := x.(*ast.ReturnStmt)
				for i := 0; ok && len(r.Results) == len(results) && i < len(results); i++ {
					if slices.Contains(tellingFields, results[i]) {
						note(path, sentence(r.Results[i]))
					}
				}
				return true
			})
		case *ast.CallExpr:
			name := ""
			switch f := v.Fun.(type) {
			case *ast.Ident:
				name = f.Name
			case *ast.SelectorExpr:
				name = f.Sel.Name
			}
			from, ok := tellingCalls[name]
			for i := from; ok && i < len(v.Args); i++ {
				note(path, formatted(v.Args[i]))
			}
		}
	}
	for _, folder := range folders {
		err := filepath.WalkDir("../"+folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err == nil {
				ast.Inspect(f, func(x ast.Node) bool { look(path, x); return true })
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return all
}

// catalogue tells as the console's told.ts does.
type catalogue struct {
	words    map[string]string
	patterns []pattern
	used     map[string]bool
}

type pattern struct {
	key  string
	says *regexp.Regexp
}

var (
	placed = regexp.MustCompile(`\{(\d)\}`)
	quoted = regexp.MustCompile(`"[^"]*"`)
	common = regexp.MustCompile(`\b(a|and|are|at|by|for|has|is|it|no|not|of|one|that|the|which|while|with)\b`)
)

func foreign(text string) bool { return common.MatchString(quoted.ReplaceAllString(text, "")) }

func germanOf(served, words map[string]string) *catalogue {
	c := &catalogue{words: maps.Clone(words), used: map[string]bool{}}
	maps.Copy(c.words, served)
	length := func(p pattern) int { return len(placed.ReplaceAllString(p.key, "")) }
	for key := range served {
		if placed.MatchString(key) {
			says := placed.ReplaceAllString(regexp.QuoteMeta(placed.ReplaceAllString(key, "\x00$1")), "")
			says = regexp.MustCompile("\x00\\d").ReplaceAllString(says, "(.+?)")
			c.patterns = append(c.patterns, pattern{key, regexp.MustCompile("(?s)^" + says + "$")})
		}
	}
	slices.SortFunc(c.patterns, func(a, b pattern) int { return length(b) - length(a) })
	return c
}

func (c *catalogue) told(text string, depth int) string {
	c.used[text] = true
	if german := c.words[text]; german != "" || depth > 3 {
		return cmp.Or(german, text)
	}
next:
	for _, p := range c.patterns {
		found := p.says.FindStringSubmatch(text)
		if found == nil {
			continue
		}
		inner := map[string]string{}
		for i, n := range placed.FindAllString(p.key, -1) {
			if inner[n] = c.told(found[i+1], depth+1); inner[n] == found[i+1] && foreign(inner[n]) {
				continue next
			}
		}
		c.used[p.key] = true
		return placed.ReplaceAllStringFunc(c.words[p.key], func(n string) string { return inner[n] })
	}
	for _, between := range []string{"; ", ", "} {
		parts := strings.Split(text, between)
		for i, part := range parts {
			if part != text {
				parts[i] = c.told(part, depth+1)
			}
		}
		if !slices.ContainsFunc(parts, foreign) {
			return strings.Join(parts, between)
		}
	}
	return text
}

// TestGermanOfTheService holds that what the service says in its answers is in the catalogue: the
// texts of every rule, every sentence of the source that a refusal, a finding, a plan, a probe or a
// rehearsal tells, and what the audit log of the demo says was done, and with what.
func TestGermanOfTheService(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("../console/src/served/de.json")
	console, err2 := os.ReadFile("../console/src/words/de.json")
	var served, words map[string]string
	if err := errors.Join(err, err2, json.Unmarshal(data, &served), json.Unmarshal(console, &words)); err != nil {
		t.Fatal(err)
	}
	lacks := func(text, where string) {
		if served[text] == "" && words[text] == "" {
			t.Errorf("%s: not in German: %s", where, text)
		}
	}
	known := sentences(t, "core/check", "core/vpn", "core/rows", "core/plan", "core/drift",
		"core/explain", "core/filecheck", "rehearse", "service", "httpapi", "store")
	for text, where := range known {
		lacks(text, where)
	}
	for _, r := range check.Register {
		for _, text := range []string{r.Title, r.Fix, r.Why, r.Plain} {
			known[text] = r.Code
			lacks(text, r.Code)
		}
	}
	// What the rules find in their bad examples, told as the console tells it, has nothing English
	// left in it.
	g := germanOf(served, words)
	for _, r := range check.Register {
		bad := check.Sound()
		r.Bad.Apply(bad)
		for _, found := range check.Run(bad) {
			for _, text := range []string{found.Found, found.Fix} {
				if german := g.told(text, 0); foreign(german) {
					t.Errorf("%s: %s\n\tis told as %s", found.Rule, text, german)
				}
			}
		}
	}
	values := regexp.MustCompile(`\{\w+\}`)
	for text, german := range served {
		of, in := values.FindAllString(text, -1), values.FindAllString(german, -1)
		slices.Sort(of)
		if slices.Sort(in); !slices.Equal(of, in) {
			t.Errorf("other values in German: %s", text)
		}
		// What is no longer said does not stay.
		if strings.HasSuffix(text, ".") && known[text] == "" && !g.used[text] {
			t.Errorf("said nowhere: %s", text)
		}
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
		lacks(e.Action, "audit log")
		lacks(e.Noun, "audit log")
	}
	// What is planned reads in German too; only what people and standards have named stays.
	profiles, err := f.client.Profiles.List(ctx, client.Query{Limit: 100})
	if err != nil || len(profiles.Items) < 30 {
		t.Fatal(len(profiles.Items), err)
	}
	own := regexp.MustCompile(`^(name|account|login|identity|authority)$`)
	named := regexp.MustCompile(`[0-9.@_]|^(SSTP|IKEv2|L2TP/IPsec|VPN|Open Network Configuration|EAP-\w+|mschapv2|chap|pap|AES.*)$`)
	for _, x := range profiles.Items {
		planned, err := f.client.Plan(ctx, x.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range planned.Choices {
			german := g.told(c.Value, 0)
			for part := range strings.SplitSeq(german, ", ") {
				if (c.Value == "none" || !own.MatchString(string(c.Field))) && strings.Contains(c.Value, part) && !named.MatchString(part) {
					t.Errorf("%s: %s %s is told as %s", x.Device, c.Field, c.Value, german)
				}
			}
		}
	}
}
