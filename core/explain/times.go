package explain

import (
	"regexp"
	"strings"
	"time"
)

// stamps are the forms of times that logs have, the likeliest first.
var stamps = []struct {
	find  *regexp.Regexp
	forms []string
	year  bool // the year is there
}{
	{
		regexp.MustCompile(
			`\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d{1,9})?(?:Z|[+-]\d\d:?\d\d)?`,
		),
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
		[]string{"Mon Jan _2 15:04:05 2006"},
		true,
	},
	{
		regexp.MustCompile(
			`\b(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) [ \d]\d \d\d:\d\d:\d\d`,
		),
		[]string{"Jan _2 15:04:05"},
		false,
	},
	{
		regexp.MustCompile(`\b\d{1,2}/\d{1,2}/\d{4},? \d{1,2}:\d\d:\d\d [AP]M`),
		[]string{"1/2/2006 3:04:05 PM"},
		true,
	},
	{
		regexp.MustCompile(`\b\d{1,2}\.\d{1,2}\.\d{4},? \d{1,2}:\d\d:\d\d`),
		[]string{"2.1.2006 15:04:05"},
		true,
	},
}

// timeOf reads the time of a line. One without a zone is taken as it stands; one without a year is
// the last that was.
func timeOf(line string, now time.Time) (time.Time, bool) {
	head := line[:min(len(line), 160)]
	for _, s := range stamps {
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
