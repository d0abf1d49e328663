// Package icalendar writes calendars that other programs subscribe to (RFC 5545).
package icalendar

import (
	"bytes"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// MediaType is that of a calendar (RFC 5545 §8.1).
const MediaType = "text/calendar; charset=utf-8"

// Event is something that happens on a day.
type Event struct {
	// UID is the same each time the event is written (RFC 5545 §3.8.4.7).
	UID         string
	Day         time.Time // its date in UTC counts
	Summary     string
	Description string
	Categories  []string
	// RemindDays is how many days before a program tells of it; 0 for never.
	RemindDays int
}

// lineLimit is how many octets a line has at most, without its end (RFC 5545 §3.1).
const lineLimit = 75

// Write writes a calendar with events of a day each. stamp is when it was made.
func Write(name string, events []Event, stamp time.Time) []byte {
	var b bytes.Buffer
	line := func(text string) { fold(&b, text) }
	line("BEGIN:VCALENDAR")
	line("VERSION:2.0")
	line("PRODID:-//Wardicon//Calendar//EN")
	line("CALSCALE:GREGORIAN")
	line("METHOD:PUBLISH")
	line("X-WR-CALNAME:" + text(name))
	line("REFRESH-INTERVAL;VALUE=DURATION:PT12H") // RFC 7986 §5.7
	for _, e := range events {
		line("BEGIN:VEVENT")
		line("UID:" + text(e.UID))
		line("DTSTAMP:" + stamp.UTC().Format("20060102T150405Z"))
		line("DTSTART;VALUE=DATE:" + e.Day.UTC().Format("20060102"))
		line("DTEND;VALUE=DATE:" + e.Day.UTC().AddDate(0, 0, 1).Format("20060102"))
		line("SUMMARY:" + text(e.Summary))
		if e.Description != "" {
			line("DESCRIPTION:" + text(e.Description))
		}
		if len(e.Categories) > 0 {
			list := make([]string, len(e.Categories))
			for i, c := range e.Categories {
				list[i] = text(c)
			}
			line("CATEGORIES:" + strings.Join(list, ","))
		}
		line("TRANSP:TRANSPARENT")
		if e.RemindDays > 0 {
			line("BEGIN:VALARM")
			line("ACTION:DISPLAY")
			line("DESCRIPTION:" + text(e.Summary))
			line("TRIGGER:-P" + strconv.Itoa(e.RemindDays) + "D")
			line("END:VALARM")
		}
		line("END:VEVENT")
	}
	line("END:VCALENDAR")
	return b.Bytes()
}

// text writes a value of the type TEXT (RFC 5545 §3.3.11). Control characters are not part of it.
func text(v string) string {
	v = strings.ReplaceAll(strings.ToValidUTF8(v, "\uFFFD"), "\r\n", "\n")
	v = strings.NewReplacer(`\`, `\\`, ";", `\;`, ",", `\,`, "\n", `\n`).Replace(v)
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\t' || r == 0x7f {
			return -1
		}
		return r
	}, v)
}

// fold writes a line, in several where it is long: none is cut inside a character.
func fold(b *bytes.Buffer, line string) {
	limit := lineLimit
	for len(line) > limit {
		n := limit
		for !utf8.RuneStart(line[n]) {
			n--
		}
		b.WriteString(line[:n] + "\r\n ")
		line, limit = line[n:], lineLimit-1
	}
	b.WriteString(line + "\r\n")
}
