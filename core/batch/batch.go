// Package batch checks files that came together: it takes archives apart, tells what each
// file is, joins those that belong to one another, and runs the rules on all of them.
package batch

import (
	"bytes"
	"cmp"
	"crypto/x509"
	"encoding/binary"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/format/all"
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
}

// Item is what became of one file.
type Item struct {
	Name        string
	Kind        string // title of its format, or the shape of its certificates; empty where it is neither
	Connections []Connected
	Findings    []check.Finding
	Needed      bool // another file needs it
}

// Connected is a connection that was read, with what both sides will settle on.
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
	u := unpacker{}
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
		if strings.Contains(strings.ToLower(path.Base(w.file.Name)), "passphrase") && len(w.file.Data) < 1024 {
			passphrases = append(passphrases, secret.New(strings.TrimRight(string(w.file.Data), "\r\n")))
			w.needed = w.codec == nil && w.bag == nil
		}
	}
	budget := int64(leastRounds)
	for _, w := range list {
		budget += int64(len(w.file.Data)) * roundsPerByte
	}
	for _, w := range list {
		budget -= w.read(list, passphrases, o.Fetch, budget)
	}
	for _, w := range list {
		if w.needed && w.codec != nil { // whatever needs it has read it, and knows the rest
			w.reading = format.Reading{}
		}
	}
	all := gathered(list)
	items := []Item{}
	items = append(items, judgedAll(list, all, o)...)
	for _, n := range u.notes {
		items = append(items, Item{Name: n.At.File, Kind: "archive", Findings: check.Files(&check.Subject{Notes: []format.Note{n}, Now: o.Now, Policy: o.Policy})})
	}
	return items
}

// judgedAll judges the files side by side, and answers in their order.
func judgedAll(list []*work, l loose, o Options) []Item {
	items := make([]Item, len(list))
	var group sync.WaitGroup
	var next atomic.Int64
	for range min(runtime.GOMAXPROCS(0), len(list)) {
		group.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(list); i = int(next.Add(1)) - 1 {
				items[i] = list[i].judged(l, o)
			}
		})
	}
	group.Wait()
	return items
}

// Sniff tells the format of a file by its content, or by its name where the content does
// not tell. other is set where the two disagree.
func Sniff(name string, data []byte) (codec *format.Codec, other bool) {
	var byContent, byName *format.Codec
	for i := range all.Codecs {
		c := &all.Codecs[i]
		if byContent == nil && c.Detect("", data) {
			byContent = c
		}
		if byName == nil && c.Detect(name, nil) {
			byName = c
		}
	}
	if byContent != nil && byName != nil && !related(byContent.Name, byName.Name) {
		return byContent, true
	}
	if byName != nil {
		return byName, false
	}
	return byContent, false
}

// related tells whether two formats share their ending or their content.
func related(a, b platform.Format) bool {
	tunnel := []platform.Format{platform.OVPN, platform.OVPNFolder, platform.PhoneOVPN}
	return a == b || slices.Contains(tunnel, a) && slices.Contains(tunnel, b)
}

// open finds the text in a file and tells its format.
func (w *work) open() {
	start := format.Position{File: w.file.Name, Line: 1, Column: 1}
	note := func(kind format.NoteKind, found string) {
		w.notes = append(w.notes, format.Note{Kind: kind, Found: found, At: start})
	}
	w.text = w.file.Data
	if len(bytes.TrimSpace(w.file.Data)) == 0 {
		note(format.EmptyFile, "nothing in it")
		return
	}
	if text, ok := fromUTF16(w.file.Data); ok {
		note(format.OtherEncoding, "UTF-16")
		w.text = text
	}
	codec, other := Sniff(w.file.Name, w.text)
	if other {
		note(format.NameSaysOther, "named as "+path.Ext(w.file.Name)+", and it is "+article(codec.Title))
	}
	if w.codec = codec; codec != nil {
		return
	}
	if pki.IsBag(w.file.Data) {
		w.bag = &pki.Bag{}
	}
}

func article(title string) string {
	if strings.ContainsRune("AEIOU", rune(title[0])) {
		return "an " + title
	}
	return "a " + title
}

// fromUTF16 turns a text with a byte order mark into UTF-8.
func fromUTF16(data []byte) ([]byte, bool) {
	if len(data) < 2 || len(data)%2 != 0 || len(data) > format.MaxFile {
		return nil, false
	}
	little := data[0] == 0xFF && data[1] == 0xFE
	if !little && !(data[0] == 0xFE && data[1] == 0xFF) {
		return nil, false
	}
	order := binary.ByteOrder(binary.BigEndian)
	if little {
		order = binary.LittleEndian
	}
	text := make([]byte, 0, len(data)/2)
	for rest := data[2:]; len(rest) > 0; rest = rest[2:] {
		r := rune(order.Uint16(rest))
		if utf16.IsSurrogate(r) && len(rest) >= 4 {
			if joined := utf16.DecodeRune(r, rune(order.Uint16(rest[2:]))); joined != utf8.RuneError {
				r, rest = joined, rest[2:]
			}
		}
		text = utf8.AppendRune(text, r)
	}
	return text, true
}

// Rounds of key derivation that the files of a batch may ask for together: a few seconds of
// work, and more where there is more to read.
const (
	leastRounds   = 4_000_000
	roundsPerByte = 1
)

// read reads a file; those that it names are looked for in its own folder first. It answers
// with the rounds of key derivation that were done.
func (w *work) read(list []*work, passphrases []secret.Text, fetch func(folder, name string) ([]byte, bool), budget int64) (rounds int64) {
	beside := func(name string) ([]byte, bool) {
		var found *work
		for _, other := range list {
			if other == w || path.Base(other.file.Name) != name {
				continue
			}
			if path.Dir(other.file.Name) == path.Dir(w.file.Name) {
				found = other
				break
			}
			if found == nil {
				found = other
			}
		}
		if found == nil && fetch != nil {
			return fetch(path.Dir(w.file.Name), name)
		}
		if found == nil {
			return nil, false
		}
		found.needed = true
		return found.file.Data, true
	}
	tooMuch := func() int64 {
		w.codec, w.bag = nil, nil
		w.notes = append(w.notes, format.Note{Kind: format.NotYetRead, Found: "the files ask for more rounds of key derivation than are done for one lot", At: format.Position{File: w.file.Name, Line: 1, Column: 1}})
		return 0
	}
	switch {
	case budget <= 0 && (w.codec != nil || w.bag != nil):
		return tooMuch()
	case w.codec != nil:
		w.reading = w.codec.Read(path.Base(w.file.Name), w.text, beside)
		placed(&w.reading, w.file.Name)
		return w.reading.Rounds
	case w.bag != nil:
		if rounds = min(pki.Rounds(w.file.Data), pki.MaxRounds) * int64(3+len(passphrases)) / 3; rounds > budget {
			return tooMuch()
		}
		b := pki.Open(w.file.Data, passphrases...)
		w.bag = &b
		w.notes = append(w.notes, check.BagNotes(w.file.Name, b)...)
	}
	return rounds
}

// placed puts the whole name of a file into the places that a reader gave, which know it
// by its last part.
func placed(r *format.Reading, name string) {
	base := path.Base(name)
	for i := range r.Notes {
		if r.Notes[i].At.File == base {
			r.Notes[i].At.File = name
		}
	}
	for _, c := range r.Connections {
		for field, at := range c.Positions {
			if at.File == base {
				at.File = name
				c.Positions[field] = at
			}
		}
	}
}

// loose are the certificates of a batch that stand in files of their own.
type loose struct {
	authorities, servers []check.Held
	others               []check.Held // that do not say whether they are a gateway's
	revoked              []*x509.RevocationList
	bags                 []check.Packed
	hosts                []string
	known                bool // some file is of a kind that is read here
}

func gathered(list []*work) loose {
	var l loose
	for _, w := range list {
		l.known = l.known || w.codec != nil || w.bag != nil
		for _, c := range w.reading.Connections {
			if host := strings.ToLower(c.Connection.Server); !slices.Contains(l.hosts, host) {
				l.hosts = append(l.hosts, host)
			}
		}
		if w.bag == nil {
			continue
		}
		l.revoked = append(l.revoked, w.bag.Revocations...)
		if w.bag.Shape == pki.PKCS12 {
			l.bags = append(l.bags, check.Packed{Name: w.file.Name, Old: w.bag.Old})
		}
		for _, h := range held(w) {
			switch h.Usage {
			case pki.ForAuthority:
				l.authorities = append(l.authorities, h)
			case pki.ForServer:
				l.servers = append(l.servers, h)
			default:
				l.others = append(l.others, h)
			}
		}
		w.partner(list)
	}
	return l
}

// held sorts what a file of certificates holds: authorities each by itself, any other with
// the certificates that can stand between it and its authority.
func held(w *work) []check.Held {
	var out []check.Held
	for _, c := range w.bag.Certificates {
		h := check.Held{Usage: pki.UsageOf(c), Field: vpn.FieldFile, Chain: []*x509.Certificate{c}, At: &format.Position{File: w.file.Name, Line: 1, Column: 1}}
		if h.Usage != pki.ForAuthority {
			for _, other := range w.bag.Certificates {
				if other != c && other.IsCA {
					h.Chain = append(h.Chain, other)
				}
			}
		}
		out = append(out, h)
	}
	return out
}

// partner holds that a key in a file of its own belongs to the certificate beside it that
// has the same name but for the ending.
func (w *work) partner(list []*work) {
	if len(w.bag.Keys) != 1 || len(w.bag.Certificates) > 0 {
		return
	}
	stem := strings.TrimSuffix(w.file.Name, path.Ext(w.file.Name))
	for _, other := range list {
		if other == w || other.bag == nil || len(other.bag.Certificates) == 0 || strings.TrimSuffix(other.file.Name, path.Ext(other.file.Name)) != stem {
			continue
		}
		if !slices.ContainsFunc(other.bag.Certificates, func(c *x509.Certificate) bool { return pki.Belongs(c, w.bag.Keys[0]) }) {
			w.notes = append(w.notes, format.Note{Kind: format.PairBroken, Found: "the key does not belong to the certificate in " + path.Base(other.file.Name), At: format.Position{File: w.file.Name, Line: 1, Column: 1}})
		}
	}
}

// judged runs the rules on one file.
func (w *work) judged(l loose, o Options) Item {
	item := Item{Name: w.file.Name, Needed: w.needed}
	notes := append(w.notes, w.reading.Notes...)
	if w.file.Exposed && slices.ContainsFunc(notes, func(n format.Note) bool { return n.Kind == format.SecretClear || n.Kind == format.PrivateKeyClear }) {
		notes = append(notes, format.Note{Kind: format.OpenToOthers, Found: "others on this computer can read it", At: format.Position{File: w.file.Name, Line: 1, Column: 1}})
	}
	base := check.Subject{Notes: notes, Now: o.Now, Policy: o.Policy, Judge: o.Judge, Revoked: l.revoked, Size: len(w.file.Data), Pieces: w.reading.Pieces, Release: o.Release}
	switch {
	case w.codec != nil:
		item.Kind = w.codec.Title
	case w.bag != nil:
		item.Kind = string(w.bag.Shape)
		base.Beside, base.Keys = held(w), w.bag.Keys
		for _, h := range l.authorities {
			if h.At.File != w.file.Name {
				base.Beside = append(base.Beside, h)
			}
		}
		item.Findings = check.Files(&base)
		item.Findings = slices.DeleteFunc(item.Findings, func(f check.Finding) bool { // an authority of another file is told there
			return f.Position != nil && f.Position.File != w.file.Name
		})
		return item
	case len(notes) == 0 && !w.needed:
		kind, found := format.NotYetRead, "none of the formats that are read here"
		if w.file.Asked && !l.known {
			kind, found = format.Unreadable, found+" ("+all.Titles()+", PEM, DER, PKCS #7, PKCS #12)"
		}
		base.Notes = []format.Note{{Kind: kind, Found: found, At: format.Position{File: w.file.Name, Line: 1, Column: 1}}}
	}
	for i, c := range w.reading.Connections {
		s := base
		s.Connection, s.Positions = c.Connection, c.Positions
		s.Apart = c.Apart
		if slices.ContainsFunc(w.reading.Notes, func(n format.Note) bool { return n.Kind == format.FileMissing || n.Kind == format.BlockEmpty }) {
			s.Apart = append(slices.Clone(c.Apart), vpn.FieldIdentity, vpn.FieldAuthority) // told of as such
		}
		if i > 0 {
			s.Notes = nil // remarks on the file are told once
		}
		for _, other := range w.reading.Connections[i+1:] {
			oc := other.Connection
			s.Siblings = append(s.Siblings, check.Sibling{Name: oc.Name, Routes: oc.Routes, Connect: oc.Connect, Identifier: oc.Identifier})
		}
		s.Beside = append(slices.Clone(l.authorities), l.serving(c.Connection.Server)...)
		if c.Connection.NeedsIdentity() {
			s.Bags = l.bags
		}
		if o.Release != nil {
			a := o.Release.Ability(c.Connection.Protocol)
			s.Ability = &a
		}
		connected := Connected{Located: c}
		if g := recorded(o.Gateways, c.Connection); g != nil {
			s.Against, connected.Gateway = g, g.Name
		}
		if o.Live != nil && c.Connection.Server != "" {
			s.Live = o.Live(c.Connection.Server)
		}
		item.Findings = append(item.Findings, check.Run(&s)...)
		connected.Agreements = s.Agreements()
		item.Connections = append(item.Connections, connected)
	}
	if len(w.reading.Connections) == 0 {
		item.Findings = check.Files(&base)
	}
	for i := range item.Findings {
		if item.Findings[i].Position == nil { // what is missing has no place of its own
			item.Findings[i].Position = &format.Position{File: w.file.Name, Line: 1, Column: 1}
		}
	}
	check.Sort(item.Findings)
	return item
}

// serving are the gateways' certificates that a connection meets: that of the only gateway
// in the batch, or those that have its name, whatever they say that they are for.
func (l loose) serving(host string) []check.Held {
	if len(l.hosts) == 1 && len(l.servers) == 1 {
		return l.servers
	}
	var list []check.Held
	for _, h := range slices.Concat(l.servers, l.others) {
		if pki.Covers(h.Chain[0], host) {
			h.Usage, h.Field = pki.ForServer, vpn.FieldServer
			list = append(list, h)
		}
	}
	return list
}

// recorded finds the gateway on record that a connection leads to.
func recorded(gateways []vpn.Gateway, c vpn.Connection) *vpn.Gateway {
	for i, g := range gateways {
		addresses := append([]string{g.Address}, g.Addresses...)
		if slices.ContainsFunc(addresses, func(a string) bool { return strings.EqualFold(a, c.Server) }) {
			return &gateways[i]
		}
	}
	return nil
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
		return cmp.Or(cmp.Compare(p.File, q.File), cmp.Compare(p.Line, q.Line), cmp.Compare(p.Column, q.Column))
	})
}
