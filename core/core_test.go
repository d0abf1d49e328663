// Package core_test holds the house rules of core.
package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// forbidden in core: interfaces to the world, the clock and randomness. Time as a type
// is allowed; what reads the clock is looked for by name.
var forbidden = []string{
	"net/http",
	"database/sql",
	"os",
	"os/exec",
	"crypto/rand",
	"math/rand",
	"math/rand/v2",
	"golang.org/x/term",
	"github.com/spf13/cobra",
	"github.com/danielgtaylor/huma/v2",
	"github.com/go-chi/chi/v5",
}

// levels orders the packages of core: one imports only what stands before it.
var levels = []string{
	"core/shape",
	"core/icalendar",
	"core/httpsig",
	"core/secret",
	"core/suite",
	"core/pki",
	"core/vpn",
	"core/wire",
	"core/wire/isakmp",
	"core/wire/ikev1",
	"core/wire/ikev2",
	"core/wire/l2tp",
	"core/wire/ppp",
	"core/session/l2tp",
	"core/session/eap",
	"core/session/ppp",
	"core/session/ipsec",
	"core/session/ikev1",
	"core/session/ikev2",
	"core/inside",
	"core/rehearsal",
	"core/wire/pptp",
	"core/wire/sstp",
	"core/wire/tlstunnel",
	"core/session/tunnel",
	"core/drift",
	"core/platform",
	"core/format",
	"core/format/digests",
	"core/format/tree",
	"core/rows",
	"core/inventory",
	"core/format/shell",
	"core/format/ovpn",
	"core/format/apple",
	"core/format/keyfile",
	"core/format/powershell",
	"core/format/windowsxml",
	"core/format/phonebook",
	"core/format/daemons",
	"core/format/sswan",
	"core/format/onc",
	"core/format/uci",
	"core/format/prose",
	"core/format/all",
	"core/format/diagnostics",
	"core/aeszip",
	"core/egress",
	"core/i18n",
	"core/plan",
	"core/explain",
	"core/check",
	"core/signature",
	"core/filecheck",
	"core/card",
	"core/switchover",
}

func TestImports(t *testing.T) {
	seen := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		seen++
		own := "core/" + filepath.ToSlash(filepath.Dir(path))
		level := slices.Index(levels, own)
		if level < 0 {
			t.Errorf("%s has no level", own)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if call, ok := n.(*ast.SelectorExpr); ok {
				if of, ok := call.X.(*ast.Ident); ok && of.Name == "time" &&
					slices.Contains(
						[]string{"Now", "Since", "Until", "After", "Tick"},
						call.Sel.Name,
					) {
					t.Errorf("%s reads the clock by time.%s", path, call.Sel.Name)
				}
			}
			return true
		})
		for _, spec := range file.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			if slices.Contains(forbidden, name) {
				t.Errorf("%s imports %s", path, name)
			}
			if other, ours := strings.CutPrefix(
				name,
				"wardicon/",
			); ours &&
				slices.Index(levels, other) >= level {
				t.Errorf("%s imports %s, which does not stand below it", path, other)
			}
			if other, ours := strings.CutPrefix(
				name,
				"wardicon/",
			); ours &&
				!strings.HasPrefix(other, "core/") {
				t.Errorf("%s imports %s from outside core", path, other)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if seen < 30 {
		t.Errorf("%d files were looked at: the walk misses some", seen)
	}
}
