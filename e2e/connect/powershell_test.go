package connect

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// A small interpreter of PowerShell: what a grammar of others parsed is run against a
// machine of the test's own. It is strict where PowerShell is lenient: what it does not
// know, and what the real cmdlet would refuse, ends the script.

// node is one part of a script.
type node struct {
	Kind string `json:"k"`
	Text string `json:"t"`
	Line int    `json:"l"`
	Kids []node `json:"c"`
}

// parsed lets the grammar parse scripts; a part that it cannot is a failure.
func parsed(t testing.TB, paths ...string) []node {
	t.Helper()
	modules, err := filepath.Abs("../../console/node_modules")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := exec.LookPath("node"); err != nil {
		t.Skip("skipped: node is not installed")
	}
	cmd := exec.Command(
		"node",
		append(
			[]string{"--liftoff-only", "testdata/parse.mjs"},
			paths...)...) // else it compiles for ten seconds
	cmd.Env = append(cmd.Environ(), "NODE_MODULES="+modules)
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("the grammar: %v %s", err, out)
	}
	var list []node
	for line := range bytes.Lines(out) {
		var n node
		if err := json.Unmarshal(line, &n); err != nil {
			t.Fatal(err)
		}
		if bad := n.find("ERROR"); bad != nil {
			t.Errorf(
				"%s, line %d: this is no PowerShell: %s",
				paths[len(list)],
				bad.Line,
				bad.all(),
			)
		}
		list = append(list, n)
	}
	return list
}

func (n *node) find(kind string) *node {
	if n.Kind == kind {
		return n
	}
	for i := range n.Kids {
		if found := n.Kids[i].find(kind); found != nil {
			return found
		}
	}
	return nil
}

func (n *node) all() string {
	s := n.Text
	for i := range n.Kids {
		s += n.Kids[i].all()
	}
	return s
}

// kid is the first child of a kind.
func (n *node) kid(kinds ...string) *node {
	for i := range n.Kids {
		if slices.Contains(kinds, n.Kids[i].Kind) {
			return &n.Kids[i]
		}
	}
	return nil
}

// table is a hash table or an object: names without regard to case.
type table struct {
	kind   string // of an object
	values map[string]any
	call   func(method string, args []any) (any, error)
}

func newTable(kind string, pairs ...any) *table {
	o := &table{kind: kind, values: map[string]any{}}
	for i := 0; i < len(pairs); i += 2 {
		o.values[strings.ToLower(pairs[i].(string))] = pairs[i+1]
	}
	return o
}

type (
	block   struct{ body *node } // a script block
	typed   string               // a type literal
	thrown  struct{ text string }
	skipped struct{} // continue
)

func (e thrown) Error() string { return e.text }
func (skipped) Error() string  { return "continue outside of a loop" }
func wrong(n *node, format string, args ...any) error {
	return thrown{fmt.Sprintf("line %d: ", n.Line) + fmt.Sprintf(format, args...)}
}

// shell runs a script on a machine.
type powershell struct {
	m         *windows
	parse     func(script string) *node
	scopes    []map[string]any
	functions map[string]*node
}

func (p *powershell) lookup(name string) (any, bool) {
	name = strings.ToLower(name)
	for i := len(p.scopes) - 1; i >= 0; i-- {
		if v, ok := p.scopes[i][name]; ok {
			return v, true
		}
	}
	return nil, false
}

// run runs a whole script, with arguments for what it declares.
func (p *powershell) run(n *node, args ...any) error {
	p.scopes, p.functions = []map[string]any{
		{"pscommandpath": `C:\parcel\x-install.ps1`, "lastexitcode": 0},
	}, map[string]*node{}
	_, err := p.function(n, args)
	return err
}

// statements runs a list; what they put out is collected.
func (p *powershell) statements(n *node) (out []any, err error) {
	list := n
	if inner := n.kid("statement_list"); inner != nil {
		list = inner
	}
	for i := range list.Kids {
		one := &list.Kids[i]
		switch one.Kind {
		case "comment", ";", "{", "}", "empty_statement", "@(", ")", "param_block":
			continue
		}
		v, err := p.statement(one)
		if err != nil {
			return out, err
		}
		out = append(out, v...)
	}
	return out, nil
}

func (p *powershell) statement(n *node) ([]any, error) {
	switch n.Kind {
	case "function_statement":
		p.functions[strings.ToLower(n.kid("function_name").Text)] = n
		return nil, nil
	case "if_statement":
		return p.choose(n)
	case "foreach_statement":
		return p.each(n)
	case "while_statement":
		for rounds := 0; ; rounds++ {
			v, err := p.value(n.kid("while_condition"))
			if err != nil || !truth(v) {
				return nil, err
			}
			if rounds > 1000 {
				return nil, wrong(n, "a loop that does not end")
			}
			if _, err := p.statements(n.kid("statement_block")); err != nil {
				return nil, err
			}
		}
	case "try_statement":
		out, err := p.statements(n.kid("statement_block"))
		if f := n.kid("finally_clause"); f != nil {
			_, last := p.statements(f.kid("statement_block"))
			err = errors.Join(err, last)
		}
		return out, err
	case "flow_control_statement":
		if n.Kids[0].Kind == "continue" {
			return nil, skipped{}
		}
		v, err := p.value(&n.Kids[1])
		if err != nil {
			return nil, err
		}
		return nil, wrong(n, "%s", text(v))
	case "assignment_expression":
		return nil, p.assign(n)
	}
	v, err := p.value(n)
	if err != nil || v == nil {
		return nil, err
	}
	return spread(v), nil
}

func (p *powershell) choose(n *node) ([]any, error) {
	for i := range n.Kids {
		k := &n.Kids[i]
		switch {
		case k.Kind == "elseif_clauses":
			for j := range k.Kids {
				clause := &k.Kids[j]
				v, err := p.value(&clause.Kids[2])
				if err != nil {
					return nil, err
				}
				if truth(v) {
					return p.statements(clause.kid("statement_block"))
				}
			}
		case k.Kind == "else_clause":
			return p.statements(k.kid("statement_block"))
		case i == 2:
			v, err := p.value(k)
			if err != nil {
				return nil, err
			}
			if truth(v) {
				return p.statements(n.kid("statement_block"))
			}
		}
	}
	return nil, nil
}

func (p *powershell) each(n *node) (out []any, err error) {
	list, err := p.value(&n.Kids[4])
	if err != nil {
		return nil, err
	}
	name := strings.ToLower(strings.TrimPrefix(n.Kids[2].Text, "$"))
	for _, v := range spread(list) {
		p.scopes[len(p.scopes)-1][name] = v
		more, err := p.statements(n.kid("statement_block"))
		if out = append(out, more...); err != nil && !errors.Is(err, skipped{}) {
			return out, err
		}
	}
	return out, nil
}

func (p *powershell) assign(n *node) error {
	target, op := &n.Kids[0], n.Kids[1].all()
	v, err := p.value(&n.Kids[2])
	if err != nil {
		return err
	}
	if op == "+=" {
		old, err := p.value(target)
		if err != nil {
			return err
		}
		if v, err = add(n, old, v); err != nil {
			return err
		}
	}
	switch target.Kind {
	case "variable":
		p.scopes[len(p.scopes)-1][strings.ToLower(strings.TrimPrefix(target.Text, "$"))] = v
		return nil
	case "member_access":
		on, err := p.value(&target.Kids[0])
		if err != nil {
			return err
		}
		if kind, ok := on.(typed); ok && strings.EqualFold(string(kind), "Net.ServicePointManager") {
			p.m.tls = text(v)
			return nil
		}
		o, ok := on.(*table)
		if !ok {
			return wrong(n, "%s has no members", target.all())
		}
		name := strings.ToLower(target.Kids[2].all())
		if _, there := o.values[name]; !there && o.kind != "" {
			return wrong(n, "a %s has no %s", o.kind, name)
		}
		o.values[name] = v
		return nil
	}
	return wrong(n, "nothing can be assigned to %s", target.Kind)
}

func add(n *node, a, b any) (any, error) {
	switch a := a.(type) {
	case nil:
		return b, nil
	case []any:
		return append(slices.Clone(a), spread(b)...), nil
	case int:
		if b, ok := b.(int); ok {
			return a + b, nil
		}
	case string:
		return a + text(b), nil
	}
	return nil, wrong(n, "%T and %T cannot be added", a, b)
}

// value works an expression out.
func (p *powershell) value(n *node) (any, error) {
	switch n.Kind {
	case "variable":
		return p.variable(n)
	case "string_literal":
		return literal(n)
	case "integer_literal", "decimal_integer_literal":
		return strconv.Atoi(n.all())
	case "real_literal":
		return n.all(), nil
	case "generic_token":
		return n.Text, nil
	case "type_literal":
		return typed(strings.Trim(n.Text, "[]")), nil
	case "parenthesized_expression":
		return p.value(&n.Kids[1])
	case "while_condition":
		return p.value(&n.Kids[0])
	case "array_expression":
		out, err := p.statements(n)
		if out == nil {
			out = []any{}
		}
		return out, err
	case "array_literal_expression", "argument_expression_list":
		list := []any{}
		for i := range n.Kids {
			if n.Kids[i].Kind == "," {
				continue
			}
			v, err := p.value(&n.Kids[i])
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		return list, nil
	case "hash_literal_expression":
		o := newTable("")
		if body := n.kid("hash_literal_body"); body != nil {
			for i := range body.Kids {
				e := &body.Kids[i]
				v, err := p.value(&e.Kids[2])
				if err != nil {
					return nil, err
				}
				o.values[strings.ToLower(e.Kids[0].all())] = v
			}
		}
		return o, nil
	case "member_access":
		return p.member(n)
	case "element_access":
		on, err := p.value(&n.Kids[0])
		if err != nil {
			return nil, err
		}
		at, err := p.value(&n.Kids[2])
		if err != nil {
			return nil, err
		}
		if o, ok := on.(*table); ok {
			if name, ok := at.(string); ok {
				return o.values[strings.ToLower(name)], nil
			}
			on = o.values["items"]
		}
		list, i := spread(on), at.(int)
		if i >= len(list) {
			return nil, wrong(n, "there is no element %d of %d", i, len(list))
		}
		return list[i], nil
	case "invokation_expression":
		return p.invoke(n)
	case "expression_with_unary_operator":
		return p.unary(n)
	case "cast_expression":
		v, err := p.value(&n.Kids[1])
		if err != nil {
			return nil, err
		}
		return cast(
			n,
			strings.ToLower(strings.TrimSuffix(strings.TrimPrefix(n.Kids[0].Text, "["), "]")),
			v,
		)
	case "comparison_expression", "logical_expression", "additive_expression", "format_expression":
		return p.binary(n)
	case "pipeline_chain":
		return p.pipeline(n)
	case "command":
		out, err := p.command(n, nil)
		return single(out), err
	case "script_block_expression":
		return block{n}, nil
	case "pipeline", "statement_list":
		out, err := p.statements(n)
		return single(out), err
	}
	return nil, wrong(n, "a part of the kind %s is not known to the test", n.Kind)
}

func (p *powershell) variable(n *node) (any, error) {
	name := strings.Trim(strings.TrimLeft(n.Text, "$@"), "{}")
	switch strings.ToLower(name) {
	case "true":
		return true, nil
	case "false":
		return false, nil
	case "null":
		return nil, nil
	case "env:programdata":
		return `C:\ProgramData`, nil
	case "env:programfiles":
		return `C:\Program Files`, nil
	case "env:localappdata":
		return `C:\Users\ada\AppData\Local`, nil
	}
	v, ok := p.lookup(name)
	if !ok {
		return nil, wrong(n, "the variable $%s was not set (strict mode)", name)
	}
	return v, nil
}

// literal reads a string; nothing is expanded that would have to be.
func literal(n *node) (any, error) {
	s := n.Text
	switch {
	case strings.HasPrefix(s, "@'"):
		return strings.TrimSuffix(strings.TrimPrefix(s, "@'\n"), "\n'@"), nil
	case strings.HasPrefix(s, "'"):
		var b strings.Builder
		in := []rune(s[1 : len(s)-1])
		for i := 0; i < len(in); i++ { // each of the five single quotes is doubled
			b.WriteRune(in[i])
			if strings.ContainsRune("'‘’‚‛", in[i]) {
				i++
			}
		}
		return b.String(), nil
	case strings.HasPrefix(s, `"`) && !strings.ContainsAny(s, "$`"):
		return s[1 : len(s)-1], nil
	}
	return nil, wrong(n, "a string that expands: %s", s)
}

func (p *powershell) member(n *node) (any, error) {
	on, err := p.value(&n.Kids[0])
	if err != nil {
		return nil, err
	}
	name := strings.ToLower(n.Kids[2].all())
	switch on := on.(type) {
	case typed:
		if strings.EqualFold(string(on), "Text.Encoding") {
			o := newTable("encoding")
			o.call = func(method string, args []any) (any, error) {
				if method == "getstring" {
					return string(args[0].([]byte)), nil
				}
				return []byte(text(args[0])), nil
			}
			return o, nil
		}
	case *table:
		v, ok := on.values[name]
		if !ok {
			return nil, wrong(n, "%s has no %s (strict mode)", n.Kids[0].all(), name)
		}
		return v, nil
	case []any:
		if name == "count" {
			return len(on), nil
		}
		var list []any
		for _, v := range on {
			if o, ok := v.(*table); ok {
				list = append(list, o.values[name])
			}
		}
		return list, nil
	}
	if name == "count" && on != nil {
		return 1, nil
	}
	return nil, wrong(n, "%s is %T and has no %s", n.Kids[0].all(), on, name)
}

func (p *powershell) arguments(n *node) ([]any, error) {
	list := n.kid("argument_expression_list")
	if list == nil {
		return nil, nil
	}
	v, err := p.value(list)
	if err != nil {
		return nil, err
	}
	return v.([]any), nil
}

func (p *powershell) invoke(n *node) (any, error) {
	on, err := p.value(&n.Kids[0])
	if err != nil {
		return nil, err
	}
	method := strings.ToLower(n.Kids[2].all())
	args, err := p.arguments(n.kid("argument_list"))
	if err != nil {
		return nil, err
	}
	switch on := on.(type) {
	case typed:
		if strings.EqualFold(string(on), "ScriptBlock") && method == "create" {
			return block{p.parse(text(args[0]))}, nil
		}
		return p.m.static(n, string(on), method, args)
	case *table:
		if on.call == nil {
			return nil, wrong(n, "a %s has no method %s", on.kind, method)
		}
		v, err := on.call(method, args)
		if err != nil {
			return nil, wrong(n, "%s", err)
		}
		return v, nil
	case string:
		return onString(n, on, method, args)
	}
	return nil, wrong(n, "%T has no method %s", on, method)
}

func onString(n *node, on, method string, args []any) (any, error) {
	switch method {
	case "replace":
		return strings.ReplaceAll(on, text(args[0]), text(args[1])), nil
	case "split":
		var list []any
		for _, part := range strings.Split(on, text(args[0])) {
			list = append(list, part)
		}
		return list, nil
	case "startswith":
		return strings.HasPrefix(on, text(args[0])), nil
	case "tolowerinvariant":
		return strings.ToLower(on), nil
	}
	return nil, wrong(n, "a string has no method %s that the test knows", method)
}

func (p *powershell) unary(n *node) (any, error) {
	if n.Kids[0].Kind == "cast_expression" {
		return p.value(&n.Kids[0])
	}
	v, err := p.value(&n.Kids[1])
	if err != nil {
		return nil, err
	}
	switch op := n.Kids[0].all(); op {
	case "-not", "!":
		return !truth(v), nil
	case ",":
		return []any{v}, nil
	case "-":
		return -v.(int), nil
	default:
		return nil, wrong(n, "the operator %s is not known to the test", op)
	}
}

func cast(n *node, to string, v any) (any, error) {
	switch to {
	case "string":
		return text(v), nil
	case "bool", "switch":
		return truth(v), nil
	case "ref":
		return v, nil
	case "string[]":
		list := []any{}
		for _, one := range spread(v) {
			list = append(list, text(one))
		}
		return list, nil
	case "security.cryptography.x509certificates.x509keystorageflags":
		for part := range strings.SplitSeq(text(v), ",") {
			if !slices.Contains(
				[]string{"PersistKeySet", "UserKeySet", "MachineKeySet", "Exportable"},
				strings.TrimSpace(part),
			) {
				return nil, wrong(n, "%s is no key storage flag", part)
			}
		}
		return v, nil
	}
	return nil, wrong(n, "the type [%s] is not known to the test", to)
}

func (p *powershell) binary(n *node) (any, error) {
	left, err := p.value(&n.Kids[0])
	if err != nil {
		return nil, err
	}
	op := strings.ToLower(n.Kids[1].all())
	if op == "-and" && !truth(left) {
		return false, nil
	}
	if op == "-or" && truth(left) {
		return true, nil
	}
	right, err := p.value(&n.Kids[2])
	if err != nil {
		return nil, err
	}
	switch op {
	case "-and", "-or":
		return truth(right), nil
	case "+":
		return add(n, left, right)
	case "-f":
		s := text(left)
		for i, v := range spread(right) {
			s = strings.ReplaceAll(s, fmt.Sprintf("{%d}", i), text(v))
		}
		return s, nil
	case "-is":
		_, is := left.([]byte)
		return is && right == typed("byte"), nil
	case "-eq":
		return alike(left, right), nil
	case "-ceq":
		return text(left) == text(right), nil
	case "-ne":
		return !alike(left, right), nil
	case "-gt", "-lt":
		a, first := left.(int)
		b, second := right.(int)
		if !first || !second {
			return nil, wrong(n, "%v %s %v", left, op, right)
		}
		return op == "-gt" && a > b || op == "-lt" && a < b, nil
	case "-contains", "-notcontains":
		has := slices.ContainsFunc(spread(left), func(v any) bool { return alike(v, right) })
		return has == (op == "-contains"), nil
	case "-like", "-notlike":
		pattern := "(?i)^" + strings.ReplaceAll(regexp.QuoteMeta(text(right)), `\*`, ".*") + "$"
		return regexp.MustCompile(pattern).MatchString(text(left)) == (op == "-like"), nil
	case "-replace":
		pair := spread(right)
		return regexp.MustCompile("(?i)"+text(pair[0])).
				ReplaceAllString(text(left), text(pair[1])),
			nil
	case "-join":
		var parts []string
		for _, v := range spread(left) {
			parts = append(parts, text(v))
		}
		return strings.Join(parts, text(right)), nil
	}
	return nil, wrong(n, "the operator %s is not known to the test", op)
}

func alike(a, b any) bool {
	if a == nil || b == nil {
		return a == nil && b == nil
	}
	return strings.EqualFold(text(a), text(b))
}

func truth(v any) bool {
	switch v := v.(type) {
	case nil:
		return false
	case bool:
		return v
	case int:
		return v != 0
	case string:
		return v != ""
	case []any:
		return len(v) > 1 || len(v) == 1 && truth(v[0])
	}
	return true
}

func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case []any:
		var parts []string
		for _, one := range v {
			parts = append(parts, text(one))
		}
		return strings.Join(parts, " ")
	case bool:
		return map[bool]string{true: "True", false: "False"}[v]
	}
	return fmt.Sprint(v)
}

func spread(v any) []any {
	switch v := v.(type) {
	case nil:
		return nil
	case []any:
		return v
	}
	return []any{v}
}

func single(out []any) any {
	switch len(out) {
	case 0:
		return nil
	case 1:
		return out[0]
	}
	return out
}

// pipeline hands what one part puts out to the next.
func (p *powershell) pipeline(n *node) (any, error) {
	var carried []any
	for i := range n.Kids {
		k := &n.Kids[i]
		switch {
		case k.Kind == "|":
		case k.Kind == "command":
			out, err := p.command(k, carried)
			if err != nil {
				return nil, err
			}
			carried = out
		default:
			v, err := p.value(k)
			if err != nil {
				return nil, err
			}
			carried = spread(v)
		}
	}
	return single(carried), nil
}

// command runs a cmdlet, a function or a program.
func (p *powershell) command(n *node, carried []any) ([]any, error) {
	var name string
	if called := n.kid("command_name"); called != nil {
		name = called.Text
	}
	var positional []any
	named := map[string]any{}
	if elements := n.kid("command_elements"); elements != nil {
		kids := elements.Kids
		for i := 0; i < len(kids); i++ {
			k := &kids[i]
			switch {
			case k.Kind == "command_argument_sep":
			case k.Kind == "command_parameter":
				key := strings.ToLower(strings.TrimPrefix(k.Text, "-"))
				next := i + 1
				colon := next < len(kids) && kids[next].Kind == "command_argument_sep" &&
					strings.Contains(kids[next].all(), ":")
				for next < len(kids) && kids[next].Kind == "command_argument_sep" {
					next++
				}
				if next == len(kids) || kids[next].Kind == "command_parameter" ||
					!colon && p.m.isSwitch(name, key) {
					named[key] = true
					continue
				}
				v, err := p.value(&kids[next])
				if err != nil {
					return nil, err
				}
				named[key], i = v, next
			case k.Kind == "variable" && strings.HasPrefix(k.Text, "@"):
				v, err := p.value(k)
				if err != nil {
					return nil, err
				}
				for key, one := range v.(*table).values {
					named[key] = one
				}
			default:
				v, err := p.value(k)
				if err != nil {
					return nil, err
				}
				positional = append(positional, v)
			}
		}
	}
	if name == "" { // & and what is to be run
		v, err := p.value(n.kid("command_name_expr").kid("parenthesized_expression"))
		if err != nil {
			return nil, err
		}
		return p.function(v.(block).body, positional)
	}
	if f := p.functions[strings.ToLower(name)]; f != nil {
		return p.function(f, positional)
	}
	switch strings.ToLower(name) {
	case "where-object", "foreach-object":
		return p.filter(n, name, positional, carried)
	case "out-null":
		return nil, nil
	}
	out, err := p.m.cmdlet(name, named, positional, carried)
	if err != nil {
		if quiet, ok := named["erroraction"]; ok && alike(quiet, "SilentlyContinue") &&
			strings.HasPrefix(strings.ToLower(name), "get-") {
			return nil, nil // whether something is there may be asked
		}
		return nil, wrong(n, "%s: %s", name, err)
	}
	return out, nil
}

func (p *powershell) function(f *node, args []any) ([]any, error) {
	scope := map[string]any{}
	n := 0
	if list := f.find("parameter_list"); list != nil {
		for i := range list.Kids {
			if list.Kids[i].Kind != "script_parameter" {
				continue
			}
			name := strings.ToLower(strings.TrimPrefix(list.Kids[i].find("variable").Text, "$"))
			if n < len(args) {
				scope[name] = args[n]
			} else if given := list.Kids[i].find("string_literal"); given != nil {
				scope[name], _ = literal(given)
			}
			n++
		}
	}
	p.scopes = append(p.scopes, scope)
	defer func() { p.scopes = p.scopes[:len(p.scopes)-1] }()
	if body := f.find("script_block_body"); f.Kind == "function_statement" {
		return p.statements(body)
	}
	return p.statements(f)
}

func (p *powershell) filter(
	n *node,
	name string,
	positional, carried []any,
) (out []any, err error) {
	b, ok := positional[0].(block)
	if !ok {
		return nil, wrong(n, "%s without a script block", name)
	}
	for _, v := range carried {
		p.scopes = append(p.scopes, map[string]any{"_": v})
		result, err := p.statements(b.body.find("script_block_body"))
		p.scopes = p.scopes[:len(p.scopes)-1]
		if err != nil {
			return nil, err
		}
		if strings.EqualFold(name, "ForEach-Object") {
			out = append(out, result...)
		} else if truth(single(result)) {
			out = append(out, v)
		}
	}
	return out, nil
}
