package vpn

import (
	"fmt"
	"strings"
)

// Problem is one value that cannot be accepted.
type Problem struct {
	// JSON pointer (RFC 6901) to the field.
	Pointer string `json:"pointer"`
	// What was found; never a secret.
	Found string `json:"found"`
	// What is expected there.
	Expected string `json:"expected"`
	// What to do.
	Fix string `json:"fix,omitempty"`
}

func (p Problem) String() string {
	s := fmt.Sprintf("found %s, expected %s", p.Found, p.Expected)
	if p.Pointer != "" {
		s = strings.TrimPrefix(p.Pointer, "/") + ": " + s
	}
	if p.Fix != "" {
		s += "; " + p.Fix
	}
	return s
}

// Problems are all that is wrong with one object. It is an error.
type Problems struct {
	Object string // "gateway", "account" …
	List   []Problem
}

func (p *Problems) Error() string {
	lines := make([]string, len(p.List))
	for i, one := range p.List {
		lines[i] = p.Object + " " + one.String()
	}
	return strings.Join(lines, "\n")
}

// Kind tells the kind of the error.
func (p *Problems) Kind() Kind { return KindInvalid }
