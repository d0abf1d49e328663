// Package filecheck checks files that came together: it takes archives apart, tells what each
// file is, joins those that belong to one another, and runs the rules on all of them.
package filecheck

import (
	"cmp"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// File is one file as it came. Name may lead through folders. Asked tells that somebody
// named this very file, so that not being able to read it is an answer; Exposed that
// others on its computer can read it.
type File struct {
	Name    string
	Data    []byte
	Asked   bool
	Exposed bool
}

// Options say what is known beside the files. The zero value knows nothing.
type Options struct {
	Now         time.Time
	Release     *platform.Found // the release that the files are for
	Gateways    []vpn.Gateway   // records to compare connections with, by their address
	Passphrases []secret.Text   // for PKCS #12
	Policy      check.Policy
	Live        func(host string) *check.Live
	Fetch       func(folder, name string) ([]byte, bool) // a file that did not come along
	Judge       func(t secret.Text, words ...string) secret.Estimate
	// Compare holds a secret to the record of the gateway that it is for.
	Compare func(
		g *vpn.Gateway, c vpn.Connection, field vpn.Field, value secret.Text,
	) check.Compared
	Over func() bool // there is no more time: asked again and again; nil never ends
}

// Longest is how long callers let one lot be looked at. What was not looked at by then is told as
// such.
const Longest = 10 * time.Second

func (o Options) over() bool { return o.Over != nil && o.Over() }

// unread says of a file that there was no time for it.
func (w *work) unread() {
	w.codec, w.bag, w.reading = nil, nil, format.Reading{}
	w.notes = []format.Note{
		{
			Kind:  format.NotYetRead,
			Found: "nothing yet: the files together took too long, or whoever asked went away",
			At:    format.Position{File: w.file.Name, Line: 1, Column: 1},
		},
	}
}

// Item is what became of one file.
type Item struct {
	Name string
	// title of its format, or the shape of its certificates; empty where it is neither
	Kind        string
	Connections []Connected
	Findings    []check.Finding
	Chains      [][]pki.Link // of its certificates, drawn
	Needed      bool         // another file needs it
	NotCarried  []format.Unsaid
}

// Connected is a connection that was read, with what both sides will negotiate.
type Connected struct {
	format.Located
	Gateway    string // name of the record that it was compared with
	Agreements []check.Agreement
}

// work is one file on its way.
type work struct {
	file    File
	text    []byte // in UTF-8
	codec   *format.Codec
	reading format.Reading
	bag     *pki.Bag
	notes   []format.Note
	needed  bool
}

// Check looks at files together. It answers for every file, in the order in which they
// came.
func Check(files []File, o Options) []Item {
	u := unpacker{over: o.over}
	for _, f := range files {
		u.add(f, 0)
	}
	list := make([]*work, len(u.files))
	for i, f := range u.files {
		list[i] = &work{file: f}
		list[i].open()
	}
	passphrases := slices.Clone(o.Passphrases)
	for _, w := range list {
		if strings.Contains(strings.ToLower(path.Base(w.file.Name)), "passphrase") &&
			len(w.file.Data) < 1024 {
			passphrases = append(
				passphrases,
				secret.New(strings.TrimRight(string(w.file.Data), "\r\n")),
			)
			w.needed = w.codec == nil && w.bag == nil
		}
	}
	size := int64(0)
	for _, w := range list {
		size += int64(len(w.file.Data))
	}
	budget := format.NewBudget(size, o.over)
	for _, w := range list {
		if o.over() {
			w.unread()
			continue
		}
		w.read(list, passphrases, o.Fetch, budget)
	}
	for _, w := range list {
		if w.needed && w.codec != nil { // whatever needs it has read it, and knows the rest
			w.reading = format.Reading{}
		}
	}
	twice(list)
	all := gathered(list)
	items := []Item{}
	items = append(items, judgedAll(list, all, o)...)
	for _, n := range u.notes {
		items = append(
			items,
			Item{
				Name: n.At.File,
				Kind: "archive",
				Findings: check.Files(
					&check.Subject{Notes: []format.Note{n}, Now: o.Now, Policy: o.Policy},
				),
			},
		)
	}
	return items
}

// few files are judged sooner than others would begin to help.
const few = 4

// judgedAll judges the files side by side, and answers in their order.
func judgedAll(list []*work, l loose, o Options) []Item {
	items := make([]Item, len(list))
	var next atomic.Int64
	judge := func() {
		for i := int(next.Add(1)) - 1; i < len(list); i = int(next.Add(1)) - 1 {
			if o.over() {
				list[i].unread()
			}
			items[i] = list[i].judged(l, o)
		}
	}
	var group sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(list)/few) - 1 {
		group.Go(judge)
	}
	judge()
	group.Wait()
	return items
}

// Findings joins what was found in all files, the most severe first.
func Findings(items []Item) []check.Finding {
	list := []check.Finding{}
	for _, i := range items {
		list = append(list, i.Findings...)
	}
	check.Sort(list)
	return list
}

// ByPlace orders findings by file and line, for a reader who goes through the files.
func ByPlace(list []check.Finding) {
	slices.SortStableFunc(list, func(a, b check.Finding) int {
		var p, q format.Position
		if a.Position != nil {
			p = *a.Position
		}
		if b.Position != nil {
			q = *b.Position
		}
		return cmp.Or(
			cmp.Compare(p.File, q.File),
			cmp.Compare(p.Line, q.Line),
			cmp.Compare(p.Column, q.Column),
		)
	})
}
