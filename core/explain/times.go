package explain

import (
	"regexp"
	"strings"
	"time"
)

// stamps are the forms of times that logs have, the likeliest first.
var stamps = []struct {
	find   *regexp.Regexp
	likely func(head string) bool // quicker than to look; nil where it may stand anywhere
	forms  []string
	year   bool // the year is there
}{
	{
		regexp.MustCompile(
			`\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d{1,9})?(?:Z|[+-]\d\d:?\d\d)?`,
		),
		hasDate,
		[]string{
			"2006-01-02T15:04:05.999999999Z07:00",
			"2006-01-02T15:04:05.999999999Z0700",
			"2006-01-02T15:04:05.999999999",
		},
		true,
	},
	{
		regexp.MustCompile(
			`\b(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun) [A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d \d{4}`,
		),
		hasDay,
		[]string{"Mon Jan _2 15:04:05 2006"},
		true,
	},
	{
		regexp.MustCompile(
			`\b(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) [ \d]\d \d\d:\d\d:\d\d`,
		),
		nil,
		[]string{"Jan _2 15:04:05"},
		false,
	},
	{
		regexp.MustCompile(`\b\d{1,2}/\d{1,2}/\d{4},? \d{1,2}:\d\d:\d\d [AP]M`),
		nil,
		[]string{"1/2/2006 3:04:05 PM"},
		true,
	},
	{
		regexp.MustCompile(`\b\d{1,2}\.\d{1,2}\.\d{4},? \d{1,2}:\d\d:\d\d`),
		nil,
		[]string{"2.1.2006 15:04:05"},
		true,
	},
}

// hasDate tells whether a year stands before a hyphen.
func hasDate(head string) bool {
	for i := 4; i < len(head); i++ {
		if head[i] == '-' && !strings.ContainsFunc(head[i-4:i], func(r rune) bool {
			return r < '0' || r > '9'
		}) {
			return true
		}
	}
	return false
}

// hasDay tells whether a day of the week stands there.
func hasDay(head string) bool {
	for _, day := range []string{"Mon ", "Tue ", "Wed ", "Thu ", "Fri ", "Sat ", "Sun "} {
		if strings.Contains(head, day) {
			return true
		}
	}
	return false
}

// timeOf reads the time of a line. One without a zone is taken as it stands; one without a year is
// the last that was.
func timeOf(line string, now time.Time) (time.Time, bool) {
	head := line[:min(len(line), 160)]
	for _, s := range stamps {
		if s.likely != nil && !s.likely(head) {
			continue
		}
		text := s.find.FindString(head)
		if text == "" {
			continue
		}
		text = strings.Replace(
			text,
			",",
			map[bool]string{true: ".", false: ""}[s.forms[0][4] == '-'],
			1,
		)
		if len(text) > 10 && text[10] == ' ' && text[4] == '-' {
			text = text[:10] + "T" + text[11:]
		}
		for _, form := range s.forms {
			at, err := time.Parse(form, text)
			if err != nil {
				continue
			}
			if !s.year {
				at = at.AddDate(now.Year(), 0, 0)
				if at.After(now.AddDate(0, 0, 1)) {
					at = at.AddDate(-1, 0, 0)
				}
			}
			return at.UTC(), true
		}
	}
	return time.Time{}, false
}
