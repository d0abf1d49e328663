package explain

import (
	"slices"
	"strings"
)

// Explanation is what lies behind what somebody brought.
type Explanation struct {
	// What was asked about, with secrets masked.
	Asked string `json:"asked"`
	Code  *Code  `json:"code,omitempty"`
	// What the log came to, where one was brought.
	Reading *Reading `json:"reading,omitempty"`
	// What the records say of the case as a whole.
	Notes []string `json:"notes"`
	// The likeliest first.
	Causes []Ranked `json:"causes"`
}

// Explain tells what lies behind a code, or a reading, in a case.
func Explain(code *Code, r *Reading, e Evidence) Explanation {
	e.Take(r)
	x := Explanation{Code: code, Reading: r, Notes: e.Notes(), Causes: Rank(Gather(code, r), e)}
	if code != nil {
		x.Asked = code.Name
	}
	return x
}

// Gather joins the causes of a code and of a reading, the first cause first. What only follows from
// it comes last.
func Gather(code *Code, r *Reading) (causes []string) {
	add := func(list []string) {
		for _, id := range list {
			if !slices.Contains(causes, id) {
				causes = append(causes, id)
			}
		}
	}
	if code != nil {
		add(code.Causes)
	}
	if r == nil {
		return causes
	}
	if r.First != nil {
		add(r.First.Causes)
	}
	for _, tells := range []bool{true, false} {
		for _, e := range r.Events {
			if e.Tells == tells {
				add(e.Causes)
			}
		}
	}
	return causes
}

// IsCode tells whether a text is a code and not a line.
func IsCode(text string) bool {
	_, ok := Find(text)
	return ok && !strings.Contains(strings.TrimSpace(text), "\n")
}

// Known refuses what did not come out of a reader: causes and codes that nobody knows.
func (r *Reading) Known() bool {
	sound := func(e Event) bool {
		return len(e.Causes) <= 16 &&
			!slices.ContainsFunc(e.Causes, func(id string) bool { _, ok := Causes[id]; return !ok })
	}
	return len(r.Events) <= mostKept && (r.First == nil || sound(*r.First)) &&
		!slices.ContainsFunc(r.Events, func(e Event) bool { return !sound(e) })
}
