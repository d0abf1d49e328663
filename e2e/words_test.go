package e2e_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// glossary has words that no text of ours uses, and the term of the trade that stands for each.
var glossary = []struct{ refused, say string }{
	{`mend(s|ed|ing|able)?`, "fix"},
	{`blockers?`, "error"},
	{`pieces? of advice`, "note"},
	{`anew`, "again"},
	{`outfits?`, "gateway certificate bundle"},
	{`(cross|crosses|crossed|crossing) over`, "roll over, rollover"},
	{`vouch(es|ed|ing)?`, "issue, sign, trust"},
	{`believ(e|es|ed|ing)`, "trust"},
	{`what ends when|ends? soon|has ended (on|since)`, "expire, expiry"},
	{`deeds?`, "audit entry"},
	{`soundest`, "strongest"},
	{`wish(es|ed)?`, "preference"},
	{`settled? (by hand|on the profile)|left to planning`, "set manually, automatic"},
	{`withdr(aw|aws|awn|awing|awals?)`, "offboard, revoke, remove"},
	{`leavers?`, "offboarding"},
	{`let it pass|lets? an error pass`, "override temporarily"},
	{`examin(e|es|ed|ation)`, "diagnostic script, diagnose"},
	{`stand-ins?`, "simulator"},
	{`sightings?`, "connection seen, connection check"},
	{`(what|that) the world sees|the world sees`, "public address"},
	{`blanks?`, "space"},
	{`nobody's|of nobody`, "unassigned"},
	{`at the most`, "at most, maximum"},
	{`to pass over|passed over`, "skip, not chosen"},
	{`turned round|turns it round`, "descending"},
	{`shut out|shuts out`, "disabled"},
	{`last here`, "last sign-in"},
	{`signs of life`, "keepalives, dead peer detection"},
	{`inside the house`, "internal network"},
	{`inside (domains?|networks?|names?|hosts?|DNS|address(es)?)`, "internal"},
	{`in one piece`, "single file"},
	{`fail-on`, "exit-on"},
	{`rightly`, "as expected"},
	{
		`(ask|asks|asked|asking) (what (it|they|a gateway|every gateway) ` +
			`answers?|(a|the|every|all) gateways?)`,
		"probe",
	},
	{`(goes|go|traffic) past the tunnel`, "bypasses the tunnel"},
	{`open=yes|latest=yes`, "true or false"},
	{`letters? (that|of the|which) (wait|mail)`, "email"},
}

// TestWords reads every text that a person may read, and file names, and refuses the words of the
// glossary.
func TestWords(t *testing.T) {
	t.Parallel()
	type refusal struct {
		pattern *regexp.Regexp
		say     string
	}
	var refused []refusal
	for _, g := range glossary {
		refused = append(
			refused,
			refusal{regexp.MustCompile(`(?i)\b(?:` + g.refused + `)\b`), g.say},
		)
	}
	texts := 0
	look := func(place, text string) {
		texts++
		for _, r := range refused {
			if found := r.pattern.FindString(text); found != "" {
				t.Errorf("%s: %q in %.120q; say: %s", place, found, text, r.say)
			}
		}
	}
	skipped := regexp.MustCompile(
		`^(\.git|console/node_modules|console/dist|bin|demo-data|store/migrations|core/corpus/testdata)$|testdata$`,
	)
	generated := regexp.MustCompile(`schema\.d\.ts$|package-lock\.json$|_test\.go$|words_test\.go$`)
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name, _ := filepath.Rel("..", path)
		if d.IsDir() {
			if skipped.MatchString(name) {
				return filepath.SkipDir
			}
			return nil
		}
		look(name, strings.NewReplacer("_", " ", "-", " ").Replace(d.Name()))
		if generated.MatchString(name) {
			return nil
		}
		switch filepath.Ext(name) {
		case ".go":
			return goTexts(
				path,
				func(line int, text string) { look(name+":"+strconv.Itoa(line), text) },
			)
		case ".vue", ".ts", ".md", ".html", ".tmpl", ".sh", ".ps1":
			data, err := os.ReadFile(path)
			for i, line := range strings.Split(string(data), "\n") {
				look(name+":"+strconv.Itoa(i+1), line)
			}
			return err
		case ".json":
			if strings.Contains(name, "catalogue") {
				data, err := os.ReadFile(path)
				for i, line := range strings.Split(string(data), "\n") {
					english, _, _ := strings.Cut(line, `": "`)
					look(name+":"+strconv.Itoa(i+1), english)
				}
				return err
			}
		}
		return nil
	})
	if err != nil || texts < 10_000 {
		t.Errorf("%d texts were read (%v)", texts, err)
	}
}

// goTexts gives the texts of a file that have more than one word, whole where they are written in
// pieces, and the descriptions of fields.
func goTexts(path string, give func(line int, text string)) error {
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, path, nil, parser.ParseComments)
	if err != nil {
		return err
	}
	said := func(n ast.Node, text string) {
		if strings.Contains(text, " ") {
			give(set.Position(n.Pos()).Line, text)
		}
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if text, ok := literal(n); ok {
				said(n, text)
				return false
			}
		case *ast.BasicLit:
			if text, ok := literal(n); ok {
				said(n, text)
			}
		case *ast.Field:
			if n.Tag != nil && strings.Contains(n.Tag.Value, "json:") {
				said(n, strings.Join(strings.Fields(n.Doc.Text()), " "))
			}
		}
		return true
	})
	return nil
}

// literal is the text of a literal, or of several that are joined.
func literal(n ast.Expr) (string, bool) {
	switch n := n.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(n.Value)
		return text, n.Kind == token.STRING && err == nil
	case *ast.BinaryExpr:
		left, ok := literal(n.X)
		right, also := literal(n.Y)
		return left + right, ok && also && n.Op == token.ADD
	}
	return "", false
}
