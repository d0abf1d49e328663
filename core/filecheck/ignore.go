package filecheck

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"wardicon/core/check"
)

// maxIgnore bounds an ignore file, in bytes.
const maxIgnore = 256 << 10

// Ignore is one entry of an ignore file: a rule that may find something in some files, for
// a reason and until a day.
type Ignore struct {
	Rule   string   `yaml:"rule" json:"rule"`
	Files  []string `yaml:"files" json:"files"` // patterns such as *.mobileconfig; none means all
	Reason string   `yaml:"reason" json:"reason"`
	Until  string   `yaml:"until" json:"until"` // such as 2027-01-31, the last day

	until time.Time
}

// Ignored is a finding that an entry keeps quiet.
type Ignored struct {
	Finding check.Finding `json:"finding"`
	Reason  string        `json:"reason"`
	Until   string        `json:"until"`
}

// ParseIgnore reads an ignore file. Every entry needs a rule that there is, a reason and an
// end.
func ParseIgnore(data []byte) ([]Ignore, error) {
	if len(data) > maxIgnore {
		return nil, fmt.Errorf("found %d bytes, expected at most %d", len(data), maxIgnore)
	}
	var file struct {
		Ignore []Ignore `yaml:"ignore"`
	}
	if err := yaml.UnmarshalWithOptions(data, &file, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("not an ignore file: %s", strings.SplitN(err.Error(), "\n", 2)[0])
	}
	for i := range file.Ignore {
		e := &file.Ignore[i]
		if _, ok := check.Lookup(e.Rule); !ok {
			return nil, fmt.Errorf(
				"entry %d, rule: found %q, expected one that wardicon rule list lists",
				i+1,
				e.Rule,
			)
		}
		if strings.TrimSpace(e.Reason) == "" {
			return nil, fmt.Errorf(
				"entry %d (%s), reason: found none, expected why this is left as it is",
				i+1,
				e.Rule,
			)
		}
		day, err := time.Parse(time.DateOnly, e.Until)
		if err != nil {
			return nil, fmt.Errorf(
				"entry %d (%s), until: found %q, expected a day such as 2027-01-31",
				i+1,
				e.Rule,
				e.Until,
			)
		}
		for _, pattern := range e.Files {
			if _, err := path.Match(pattern, "x"); err != nil {
				return nil, fmt.Errorf(
					"entry %d (%s), files: found %q, expected a pattern such as *.ovpn",
					i+1,
					e.Rule,
					pattern,
				)
			}
		}
		e.until = day.AddDate(0, 0, 1)
	}
	return file.Ignore, nil
}

// fits tells whether an entry speaks of a finding.
func (e Ignore) fits(f check.Finding) bool {
	if e.Rule != f.Rule || f.Position == nil {
		return false
	}
	return len(e.Files) == 0 || slices.ContainsFunc(e.Files, func(pattern string) bool {
		whole, _ := path.Match(pattern, f.Position.File) // looked at when it was read
		last, _ := path.Match(pattern, path.Base(f.Position.File))
		return whole || last
	})
}

// Apply takes what is ignored out of findings. Ended are the entries whose day has passed
// and that would still fit something.
func Apply(
	list []check.Finding,
	ignore []Ignore,
	now time.Time,
) (kept []check.Finding, ignored []Ignored, ended []Ignore) {
	kept, ignored, ended = []check.Finding{}, []Ignored{}, []Ignore{}
	over := map[int]bool{}
	for _, f := range list {
		quiet := false
		for i, e := range ignore {
			switch {
			case !e.fits(f):
			case now.Before(e.until):
				if !quiet {
					ignored, quiet = append(ignored, Ignored{f, e.Reason, e.Until}), true
				}
			case !over[i]:
				over[i] = true
				ended = append(ended, e)
			}
		}
		if !quiet {
			kept = append(kept, f)
		}
	}
	return kept, ignored, ended
}
