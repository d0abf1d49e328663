package cli

import (
	"crypto/rand"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"wardicon/core/vpn"
)

// Columns of output that goes elsewhere than to a terminal, and the least that a terminal is taken
// for.
const (
	fileWidth  = 160
	leastWidth = 40
)

// screen is what the output is shown on.
type screen struct {
	width   int  // columns
	colours bool // it shows them, and nobody asked for none (NO_COLOR)
}

func screenOf(s Streams) screen {
	f, ok := s.Out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return screen{width: fileWidth}
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width == 0 {
		width = fileWidth
	}
	return screen{
		width:   max(width, leastWidth),
		colours: s.Env("NO_COLOR") == "" && s.Env("TERM") != "dumb",
	}
}

// Colours of severities: parameters of Select Graphic Rendition (ECMA-48 §8.3.117).
var colours = map[vpn.Severity]int{vpn.Error: 31, vpn.Warning: 33, vpn.Note: 36}

// pen marks colours that are our own. What comes from elsewhere cannot know its number, so it
// cannot colour anything: see clean.
var pen = func() string {
	var number [4]byte
	_, _ = rand.Read(number[:]) // never fails
	return fmt.Sprintf(";%d%d%d%dm", number[0], number[1], number[2], number[3])
}()

// severity words a severity, in its colour where the output has colours.
func (a *app) severity(s vpn.Severity) string {
	colour, ok := colours[s]
	if !ok || !a.screen.colours {
		return string(s)
	}
	return "\x1b[" + strconv.Itoa(colour) + pen + string(s) + "\x1b[0" + pen
}

// grid is a table that fits the screen. It is drawn when all its rows are known.
type grid struct {
	table.Writer
	app  *app
	head table.Row
	rows []table.Row
}

// AppendHeader takes the heads of the columns.
func (g *grid) AppendHeader(row table.Row, _ ...table.RowConfig) { g.head = row }

// AppendRow takes a row.
func (g *grid) AppendRow(row table.Row, _ ...table.RowConfig) {
	for i, cell := range row {
		if s, ok := cell.(vpn.Severity); ok {
			row[i] = g.app.severity(s)
		}
	}
	g.rows = append(g.rows, row)
}

// AppendRows takes several.
func (g *grid) AppendRows(rows []table.Row, _ ...table.RowConfig) {
	for _, row := range rows {
		g.AppendRow(row)
	}
}

// draw writes the table. Where it is wider than the screen, identifiers are left out (they are in
// the other forms of output), then the widest columns are wrapped between words.
func (g *grid) draw() string {
	if len(g.rows) == 0 {
		return ""
	}
	const gap = 2
	widths, words := g.measure()
	room := g.app.screen.width - gap*len(widths)
	if last := len(g.head) - 1; last > 0 && g.head[last] == "id" && sum(widths) > room {
		g.head = g.head[:last]
		for i, row := range g.rows {
			g.rows[i] = row[:min(len(row), last)]
		}
		widths, words = widths[:last], words[:last]
		room += gap
	}
	var configs []table.ColumnConfig
	for i, w := range narrowed(widths, words, room) {
		if w < widths[i] {
			configs = append(configs, table.ColumnConfig{
				Number:           i + 1,
				WidthMax:         w,
				WidthMaxEnforcer: text.WrapSoft,
			})
		}
	}
	if g.head != nil {
		g.Writer.AppendHeader(g.head)
	}
	g.Writer.AppendRows(g.rows)
	g.SetColumnConfigs(configs)
	g.SuppressTrailingSpaces()
	return g.Render()
}

// measure finds for each column the width of its longest line and of its longest word.
func (g *grid) measure() (lines, words []int) {
	for _, row := range append([]table.Row{g.head}, g.rows...) {
		for i, cell := range row {
			if i == len(lines) {
				lines, words = append(lines, 0), append(words, 0)
			}
			said := fmt.Sprint(cell)
			lines[i] = max(lines[i], text.LongestLineLen(said))
			for _, word := range strings.Fields(said) {
				words[i] = max(words[i], text.StringWidthWithoutEscSequences(word))
			}
		}
	}
	return lines, words
}

// narrowed takes columns of the widest until all have room, but does not break words.
func narrowed(widths, words []int, room int) []int {
	fitted := slices.Clone(widths)
	for {
		over, widest := sum(fitted)-room, -1
		for i, w := range fitted {
			if w > words[i] && (widest < 0 || w > fitted[widest]) {
				widest = i
			}
		}
		if over <= 0 || widest < 0 {
			return fitted
		}
		w := fitted[widest]
		fitted[widest] = max(words[widest], w-max(1, min(over, w/8)))
	}
}

func sum(list []int) (total int) {
	for _, n := range list {
		total += n
	}
	return total
}

// wrap breaks a text between words and indents its lines.
func (a *app) wrap(said, indent string) string {
	width := min(a.screen.width, 120) - len(indent)
	return indent + strings.ReplaceAll(text.WrapSoft(said, width), "\n", "\n"+indent)
}
