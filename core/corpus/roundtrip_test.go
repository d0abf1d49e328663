package corpus_test

import (
	"cmp"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	gocmp "github.com/google/go-cmp/cmp"

	"wardicon/core/filecheck"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// TestRoundTrip reads files of others, writes what they say in the same format, and reads it back:
// it means the same, or the conversion has said what is lost. The files are those of the cases, and
// random choices of the options that testdata/options of the formats lists.
func TestRoundTrip(t *testing.T) {
	same, seen := 0, map[string]bool{}
	look := func(origin, name, text string, beside format.Beside) {
		codec, ok := detected(name, []byte(text))
		if !ok {
			return
		}
		for _, one := range all.Read(name, []byte(text), beside).Connections {
			switch fault := again(codec, one.Connection); {
			case fault == "":
				same++
			case !seen[codec.Title+fault]:
				seen[codec.Title+fault] = true
				t.Errorf("%s: %s", origin, fault)
			}
		}
	}
	for _, tab := range tables(t) {
		for _, c := range tab.cases {
			if slices.ContainsFunc(c.expected, func(e string) bool {
				return strings.HasPrefix(e, "error ")
			}) {
				continue // what is wrong need not be written again
			}
			look(fmt.Sprintf("%s:%d", tab.path, c.line), tab.file, c.text, lying(tab.beside))
		}
	}
	lists, err := filepath.Glob("../format/all/testdata/options/*")
	if err != nil || len(lists) == 0 {
		t.Fatal(lists, err)
	}
	for _, path := range lists {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		base, list, _ := strings.Cut(string(data), "\n-----\n")
		options := readOptions(list)
		r := rand.New(rand.NewPCG(16, 18))
		for range 200 {
			text, chosen := choose(r, base, options)
			look(path+strings.Join(chosen, ""), filepath.Base(path), text, nil)
		}
	}
	if same < 4000 {
		t.Errorf("%d connections came back, expected at least 4000", same)
	}
}

func lying(files []filecheck.File) format.Beside {
	return func(name string) ([]byte, bool) {
		i := slices.IndexFunc(files, func(f filecheck.File) bool { return f.Name == name })
		if i < 0 {
			return nil, false
		}
		return files[i].Data, true
	}
}

func detected(name string, data []byte) (format.Codec, bool) {
	i := slices.IndexFunc(all.Codecs, func(c format.Codec) bool { return c.Detect(name, data) })
	if i < 0 {
		return format.Codec{}, false
	}
	return all.Codecs[i], true
}

// told is what a format reads and does not write, for the reason beside it: whoever converts is told
// of it as lost.
var told = map[string]string{
	"keyfile lost: scope":                     "names people of that computer",
	"powershell lost: connect demand.domains": "Windows triggers people's connections only",
	"apple lost: connect":                     "on demand, and no rule when",
}

// again writes a connection in its own format and reads it back; it words what became different.
func again(codec format.Codec, c vpn.Connection) string {
	whole := c
	whole.UUID = cmp.Or(c.UUID, "2F9B4D36-8D0A-5C2B-9E1D-0C2F7E1B6A55")
	whole.Identifier = cmp.Or(c.Identifier, "example.skerryline.vpn")
	files, err := codec.Write(whole)
	var unfit *format.UnfitError
	if errors.As(err, &unfit) {
		return "" // told by name
	}
	if err != nil {
		return err.Error()
	}
	if lost := format.Lost(whole, codec); len(lost) > 0 {
		fault := "lost: " + strings.Join(lost, " ")
		if told[string(codec.Name)+" "+fault] != "" {
			return ""
		}
		return fault
	}
	back := codec.Read(files[0].Name, files[0].Content, format.Files(files))
	if len(back.Connections) != 1 {
		return fmt.Sprintf("%d connections came back", len(back.Connections))
	}
	if len(back.NotCarried) > 0 {
		return fmt.Sprintf("what came back does not carry %v", back.NotCarried)
	}
	got := back.Connections[0].Connection
	if c.UUID == "" {
		got.UUID = ""
	}
	if c.Identifier == "" {
		got.Identifier = ""
	}
	// A connection that is always there is brought back, and that it is gone is looked for.
	c.Reconnect = c.Reconnect || got.Reconnect && c.Connect == vpn.Always
	if c.IKEv2 != nil && got.IKEv2 != nil && c.Reconnect && c.IKEv2.DPD == 0 {
		got.IKEv2.DPD = 0
	}
	var d differences
	gocmp.Equal(c, got, gocmp.Comparer(secret.Text.Equal), gocmp.Reporter(&d))
	return strings.Join(d.list, "; ")
}

// differences lists the fields in which two connections differ.
type differences struct {
	path gocmp.Path
	list []string
}

func (d *differences) PushStep(s gocmp.PathStep) { d.path = append(d.path, s) }
func (d *differences) PopStep()                  { d.path = d.path[:len(d.path)-1] }
func (d *differences) Report(r gocmp.Result) {
	if !r.Equal() {
		from, to := d.path.Last().Values()
		d.list = append(d.list, fmt.Sprintf("%s: %v became %v", d.path, from, to))
	}
}

type option struct{ at, text string }

var (
	place     = regexp.MustCompile(`@[a-z0-9-]+@`)
	optionKey = regexp.MustCompile(`^\W*[\w.-]+`)
)

// readOptions takes out of a list the options that a reader takes without a remark.
func readOptions(list string) (options []option) {
	at := ""
	for line := range strings.SplitSeq(strings.TrimSpace(list), "\n") {
		text, fate, ok := strings.Cut(line, " => ")
		switch {
		case !ok:
			at = line
		case fate == "carried", fate == "left", fate == "idle":
			options = append(options, option{at, escaped.Replace(text)})
		}
	}
	return options
}

// choose puts up to eight options into a sound file, none of one key twice.
func choose(r *rand.Rand, base string, options []option) (text string, chosen []string) {
	text = base
	used := map[string]bool{}
	for _, i := range r.Perm(len(options))[:min(len(options), 1+r.IntN(8))] {
		o := options[i]
		key := o.at + optionKey.FindString(o.text)
		before, after, ok := strings.Cut(text, o.at)
		if used[key] || !ok {
			continue
		}
		used[key] = true
		end := ""
		if after == "" || after[0] == '\n' {
			end = "\n"
		}
		text = before + o.text + end + o.at + after
		chosen = append(chosen, "\n\t"+o.at+" "+o.text)
	}
	return place.ReplaceAllString(text, ""), chosen
}
