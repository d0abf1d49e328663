package filecheck

import (
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"path"
	"reflect"
	"slices"
	"strings"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Fixed is a file with its mechanical fixes carried out. Done are the findings that are
// gone by it, Left those that could be fixed by hand only. Secrets are those of both
// states as the file writes them, so that the two can be compared without them.
type Fixed struct {
	Name       string
	Old, New   []byte
	Done, Left []check.Finding
	Secrets    []string
}

// Fix carries out the mechanical fixes of a file's findings, one after the other. Each is
// kept only if the file, read again, says exactly what was meant and nothing else: one
// value changed, or one remark gone.
func Fix(f File, beside []File, item Item) Fixed {
	m := Fixed{Name: f.Name, Old: f.Data, New: f.Data}
	codec, _ := Sniff(f.Name, f.Data)
	if codec == nil {
		m.Left = item.Findings
		return m
	}
	look := func(name string) ([]byte, bool) {
		i := slices.IndexFunc(beside, func(b File) bool { return path.Base(b.Name) == name })
		if i < 0 {
			return nil, false
		}
		return beside[i].Data, true
	}
	// From the end of the file to its beginning, so that lines keep their numbers.
	list := slices.Clone(item.Findings)
	ByPlace(list)
	slices.Reverse(list)
	for _, finding := range list {
		changed := false
		if finding.Repair != nil && finding.Position != nil && finding.Position.File == f.Name {
			before := codec.Read(path.Base(f.Name), m.New, look)
			for _, attempt := range attempts(string(m.New), finding) {
				after := codec.Read(path.Base(f.Name), []byte(attempt), look)
				if meant(before, after, finding) {
					m.New, changed = []byte(attempt), true
					break
				}
			}
		}
		if changed {
			m.Done = append(m.Done, finding)
		} else {
			m.Left = append(m.Left, finding)
		}
	}
	slices.Reverse(m.Done)
	m.Secrets = secrets(
		append(
			codec.Read(path.Base(f.Name), m.Old, look).Connections,
			codec.Read(path.Base(f.Name), m.New, look).Connections...),
	)
	return m
}

// attempts are the texts that might be the fixed file.
func attempts(text string, f check.Finding) []string {
	lines := strings.SplitAfter(text, "\n")
	n := f.Position.Line - 1
	if n < 0 || n >= len(lines) {
		return nil
	}
	if l := f.Repair.Line; l != nil {
		end := lines[n][len(strings.TrimRight(lines[n], "\r\n")):]
		with := ""
		if l.Text != "" {
			with = l.Text + end
		}
		return []string{strings.Join(slices.Concat(lines[:n], []string{with}, lines[n+1:]), "")}
	}
	var list []string
	for _, encode := range encodings {
		from, to := encode(f.Repair.From), encode(f.Repair.To)
		if from == "" || from == to || strings.Count(lines[n], from) != 1 {
			continue
		}
		list = append(
			list,
			strings.Join(
				slices.Concat(
					lines[:n],
					[]string{strings.Replace(lines[n], from, to, 1)},
					lines[n+1:],
				),
				"",
			),
		)
	}
	return list
}

// encodings are the ways in which formats write a value; the one that was used shows when
// the file is read again.
var encodings = []func(string) string{
	func(v string) string { return v },
	func(v string) string { // XML
		var b strings.Builder
		_ = xml.EscapeText(&b, []byte(v)) // a builder takes everything
		return b.String()
	},
	func(v string) string { // JSON
		b, err := json.Marshal(v)
		if err != nil {
			return ""
		}
		return string(b)
	},
	func(v string) string { // keyfile
		v = strings.ReplaceAll(v, `\`, `\\`)
		blanks := len(v) - len(strings.TrimLeft(v, " "))
		return strings.Repeat(`\s`, blanks) + v[blanks:]
	},
	// double quotes
	func(v string) string { return strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) },
	// PowerShell
	func(v string) string { return strings.ReplaceAll(v, "'", "''") },
	func(v string) string { return strings.ReplaceAll(v, "'", `'\''`) }, // shell
	func(v string) string { return base64.StdEncoding.EncodeToString([]byte(v)) },
}

// meant tells whether a fix did what it says and nothing else.
func meant(before, after format.Reading, f check.Finding) bool {
	if len(before.Connections) != len(after.Connections) {
		return false
	}
	if f.Repair.Line != nil {
		for i := range before.Connections {
			if !same(before.Connections[i].Connection, after.Connections[i].Connection) &&
				f.Rule != string(format.DirectiveOutdated) {
				return false
			}
		}
		return len(after.Notes) < len(before.Notes)
	}
	changes := 0
	for i := range before.Connections {
		was, is := before.Connections[i].Connection, after.Connections[i].Connection
		if same(was, is) {
			continue
		}
		if put(&was, *f.Repair); !same(was, is) {
			return false
		}
		changes++
	}
	return changes == 1 && len(after.Notes) <= len(before.Notes)
}

func same(a, b vpn.Connection) bool { return reflect.DeepEqual(a, b) }

// put carries a repair out on a connection.
func put(c *vpn.Connection, r check.Repair) {
	*c = c.Clone()
	text := func(v *string) {
		if *v == r.From {
			*v = r.To
		}
	}
	hidden := func(v *secret.Text) {
		if v.Reveal() == r.From {
			*v = secret.New(r.To)
		}
	}
	switch r.Field {
	case vpn.FieldName:
		text(&c.Name)
	case vpn.FieldServer:
		text(&c.Server)
		if c.TLS != nil {
			for i := range c.TLS.Remotes {
				text(&c.TLS.Remotes[i].Address)
			}
		}
	case vpn.FieldLogin:
		text(&c.Login)
	case vpn.FieldPassword:
		hidden(&c.Password)
	case vpn.FieldPSK:
		if c.L2TP != nil {
			hidden(&c.L2TP.PSK)
		}
		if c.IKEv2 != nil {
			hidden(&c.IKEv2.PSK)
		}
	case vpn.FieldRoutes:
		for i := range c.Routes {
			text(&c.Routes[i])
		}
	}
}

// secrets are those of connections, in every way in which a format may write them.
func secrets(list []format.Located) []string {
	var out []string
	for _, c := range list {
		for _, s := range c.Connection.Secrets() {
			for _, encode := range encodings {
				if v := encode(s.Reveal()); len(v) > 3 && !slices.Contains(out, v) {
					out = append(out, v)
				}
			}
		}
	}
	slices.SortFunc(out, func(a, b string) int { return len(b) - len(a) })
	return out
}
