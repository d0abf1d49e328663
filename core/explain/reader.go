package explain

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"wardicon/core/secret"
)

// Bounds of reading.
const (
	readBuffer = 256 << 10
	mostLine   = 8 << 10 // of a line that is looked at, in bytes
	mostRaw    = 2 << 10 // of a line that is kept, in bytes
	mostShown  = 400     // of a line that is shown, in characters
	mostEvents = 4096    // that are kept while reading
	mostKept   = 60      // that are kept of one try
	tryGap     = 10 * time.Minute
)

// Event is a line that says something.
type Event struct {
	Line   int64     `json:"line"`
	At     time.Time `json:"at,omitzero"`
	Source Source    `json:"source"`
	// The line, with secrets masked.
	Text string `json:"text"`
	// It tells the cause; others follow from one.
	Tells  bool     `json:"tells"`
	Code   string   `json:"code,omitempty"`
	Causes []string `json:"causes"`

	role    Role
	pattern int
}

// Reading is what a log comes to: the last try that failed.
type Reading struct {
	Lines int64 `json:"lines"`
	Bytes int64 `json:"bytes"`
	// Lines that say something, by what wrote them.
	Sources map[Source]int `json:"sources"`
	Tries   int            `json:"tries"`
	// Of the last try that failed, in the order of time.
	Events []Event `json:"events"`
	// The line that tells the cause; what comes behind it follows.
	First *Event `json:"first,omitempty"`
	// When it connected after that.
	Since time.Time `json:"since,omitzero"`
	// Secrets that were masked.
	Masked int `json:"masked"`
	// Since when the device runs, where the diagnostic script says so.
	Running time.Time `json:"running,omitzero"`
}

// lineFinder finds the parts of Patterns. It is made when it is first needed: most commands read no
// log.
var lineFinder = sync.OnceValue(func() *finder {
	parts := make([]string, len(Patterns))
	for i, p := range Patterns {
		parts[i] = p.Part
	}
	return newFinder(parts)
})

// reader reads one log.
type reader struct {
	masker masker
	now    time.Time
	r      Reading
	kept   []Event
	last   time.Time
}

// Read reads a log as a stream, in bounded memory. Known secrets are masked wherever they stand;
// now completes times without a year.
func Read(in io.Reader, now time.Time, known ...secret.Text) (Reading, error) {
	l := &reader{
		masker: newMasker(known),
		now:    now,
		r:      Reading{Sources: map[Source]int{}, Events: []Event{}},
	}
	in = plainText(in)
	buffer := make([]byte, readBuffer)
	rest := 0
	for {
		n, err := io.ReadFull(in, buffer[rest:])
		filled := buffer[:rest+n]
		l.r.Bytes += int64(n)
		ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !ended {
			return l.r, err
		}
		whole := len(filled)
		if !ended {
			if whole = bytes.LastIndexByte(filled, '\n') + 1; whole == 0 {
				whole = len(filled) // a line without end: it is looked at in parts
			}
		}
		l.lines(filled[:whole])
		rest = copy(buffer, filled[whole:])
		if ended {
			l.settle()
			l.r.Masked = l.masker.count
			return l.r, nil
		}
	}
}

// plainText decodes what Windows writes by default, UTF-16; anything else stays as it is.
func plainText(in io.Reader) io.Reader {
	head := bufio.NewReader(in)
	mark, _ := head.Peek(2)
	if bytes.Equal(mark, []byte{0xFF, 0xFE}) || bytes.Equal(mark, []byte{0xFE, 0xFF}) {
		return transform.NewReader(head, unicode.BOMOverride(transform.Nop))
	}
	return head
}

// lines looks at some whole lines.
func (l *reader) lines(text []byte) {
	done := 0 // bytes whose lines are counted
	for _, at := range lineFinder().hits(text) {
		begin := bytes.LastIndexByte(text[:at], '\n') + 1
		end := len(text)
		if i := bytes.IndexByte(text[at:], '\n'); i >= 0 {
			end = at + i
		}
		l.r.Lines += int64(bytes.Count(text[done:begin], newline))
		done = begin
		l.line(text[begin:min(end, begin+mostLine)])
	}
	l.r.Lines += int64(bytes.Count(text[done:], newline))
}

var newline = []byte{'\n'}

// line looks at a line in which some part was found.
func (l *reader) line(text []byte) {
	hits := lineFinder().all(text)
	plain := strings.TrimRight(strings.ToValidUTF8(string(text), "\uFFFD"), "\r")
	for id := range Patterns {
		if !hits[id] {
			continue
		}
		pattern := &Patterns[id]
		e := Event{
			Line:    l.r.Lines + 1,
			Source:  pattern.Source,
			role:    pattern.Role,
			pattern: id,
			Tells:   pattern.Role == Tells,
			Code:    pattern.Code,
			Causes:  pattern.Causes,
		}
		if pattern.Match != nil {
			m := pattern.Match.FindStringSubmatch(plain)
			if m == nil {
				continue
			}
			if len(m) > 1 && pattern.Kind != "" {
				code, ok := Find(m[1])
				if !ok {
					continue
				}
				e.Code = code.Name
			}
		}
		if code, ok := Find(e.Code); ok && len(e.Causes) == 0 {
			e.Causes = code.Causes
		}
		if e.Causes == nil {
			e.Causes = []string{}
		}
		at, timed := timeOf(plain, l.now)
		if pattern.Part == runningSince {
			l.r.Running = at
			return
		}
		if timed {
			l.last = at
		}
		e.At = l.last
		e.Text = plain // what is shown in the end is masked then
		if len(plain) > mostRaw {
			e.Text = strings.Clone(plain[:mostRaw])
		}
		l.r.Sources[e.Source]++
		if l.kept = append(l.kept, e); len(l.kept) == 2*mostEvents {
			l.kept = slices.Delete(l.kept, 0, mostEvents)
		}
		return
	}
}

// clip shortens what is shown of a line.
func clip(text string) string {
	var b strings.Builder
	n := 0
	for _, r := range text {
		if n++; n > mostShown {
			b.WriteString("…")
			break
		}
		if r < ' ' && r != '\t' || r == 0x7F {
			r = '·'
		}
		b.WriteRune(r)
	}
	return b.String()
}

// settle puts times in order, tells tries apart, and finds the last one that failed.
func (l *reader) settle() {
	slices.SortStableFunc(l.kept, func(a, b Event) int { return a.At.Compare(b.At) })
	var try, failed []Event
	var since time.Time
	ended := func(well bool, at time.Time) {
		if slices.ContainsFunc(
			try,
			func(e Event) bool { return e.role == Tells || e.role == Follows },
		) &&
			!well {
			failed, since = try, time.Time{}
		} else if well &&
			failed != nil {
			since = at
		}
		try = nil
	}
	var before time.Time
	for _, e := range l.kept {
		gap := !before.IsZero() && e.At.Sub(before) > tryGap
		before = e.At
		bad := slices.ContainsFunc(
			try,
			func(e Event) bool { return e.role == Tells || e.role == Follows },
		)
		if gap || e.role == Begins && bad {
			ended(false, e.At)
		}
		if e.role == Begins && len(try) == 0 {
			l.r.Tries++
		}
		try = append(try, e)
		if e.role == Succeeds {
			ended(true, e.At)
		}
	}
	ended(false, before)
	l.r.Since = since
	failed = meant(failed)
	first := slices.IndexFunc(failed, func(e Event) bool { return e.Tells })
	if first < 0 {
		first = slices.IndexFunc(failed, func(e Event) bool { return e.role == Follows })
	}
	if len(failed) > 0 {
		l.r.Tries = max(l.r.Tries, 1) // the beginning is not in the log
	}
	for i, e := range failed {
		if i >= mostKept && i != first {
			continue
		}
		e.Text = clip(l.masker.mask(e.Text))
		if i == first {
			l.r.First = &e
		}
		if i < mostKept {
			l.r.Events = append(l.r.Events, e)
		}
	}
}

// meant settles what lines mean behind others of the same try.
func meant(try []Event) []Event {
	try = slices.Clone(try)
	came := map[string]bool{}
	for i := range try {
		pattern := &Patterns[try[i].pattern]
		for _, m := range pattern.Means {
			if came[m.After] {
				try[i].Causes = m.Causes
				break
			}
		}
		came[pattern.Part] = true
	}
	return slices.DeleteFunc(try, func(e Event) bool { return e.role == Notes })
}
