package card

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"

	"wardicon/core/i18n"
	"wardicon/core/secret"
)

// Measures of the sheet in mm and of its type in points: A4, which also fits the width
// of US Letter.
const (
	margin    = 18.0
	textSize  = 10.5
	valueSize = 13.0
	smallSize = 8.0
	qrSide    = 28.0
)

// printable tells which characters the fonts of the sheet have.
var printable = sync.OnceValue(func() func(rune) bool {
	font, err := sfnt.Parse(gomono.TTF)
	if err != nil {
		return func(r rune) bool { return r < 0x7F }
	}
	var mutex sync.Mutex
	var buffer sfnt.Buffer
	return func(r rune) bool {
		mutex.Lock()
		defer mutex.Unlock()
		i, err := font.GlyphIndex(&buffer, r)
		return err == nil && i != 0
	}
})

// fonts by family and style.
var fonts = map[string][]byte{
	"text": goregular.TTF, "textB": gobold.TTF, "mono": gomono.TTF, "monoB": gomonobold.TTF,
}

// sheet is a PDF in the making.
type sheet struct {
	*fpdf.Fpdf
	loaded map[string]bool
}

// font chooses a font. It is read when it is first used: that is the most of the work on a sheet.
func (s sheet) font(family, style string, size float64) {
	if key := family + style; !s.loaded[key] {
		s.loaded[key] = true
		// It is written to while it is cut.
		s.AddUTF8FontFromBytes(family, style, bytes.Clone(fonts[key]))
	}
	s.SetFont(family, style, size)
}

// PDF draws the card for paper. The order of the letters inside the embedded fonts
// differs from time to time; what is seen is the same.
func (c Card) PDF() ([]byte, error) {
	s := sheet{fpdf.New("P", "mm", "A4", ""), map[string]bool{}}
	s.SetCatalogSort(true)
	fixed := time.Unix(0, 0).UTC()
	s.SetCreationDate(fixed)
	s.SetModificationDate(fixed)
	s.SetProducer("Wardicon", false)
	s.SetTitle(drawable(c.Title), true)
	s.SetLang(c.Language.Tag())
	s.SetMargins(margin, margin, margin)
	s.SetAutoPageBreak(true, margin)
	s.SetFooterFunc(func() {
		s.SetY(-margin + 4)
		s.font("text", "", smallSize)
		s.CellFormat(
			0,
			4,
			drawable(c.say(pageNumber, c.Title, strconv.Itoa(s.PageNo()))),
			"",
			0,
			"C",
			false,
			0,
			"",
		)
	})
	s.AddPage()
	s.font("text", "B", 17)
	s.MultiCell(0, 8, drawable(c.Title), "", "L", false)
	s.font("text", "", textSize)
	s.MultiCell(0, 5.2, drawable(c.Head()), "", "L", false)
	if len(c.Files) > 0 {
		s.Ln(2)
		s.MultiCell(0, 5.2, drawable(c.say(fileList, strings.Join(c.Files, ", "))), "L", "L", false)
	}
	s.steps(c.say(headSteps), c.Steps)
	if len(c.Values) > 0 {
		s.heading(c.say(headValues))
		for _, v := range c.Values {
			s.value(v, c.Language)
		}
		s.font("text", "", smallSize+0.5)
		s.MultiCell(0, 4.2, drawable(c.say(legend)), "", "L", false)
	}
	s.steps(c.say(headUse), c.Connect)
	s.steps(c.say(headTry), c.Try)
	s.steps(c.say(headRemove), c.Remove)
	var out bytes.Buffer
	if err := s.Output(&out); err != nil {
		return nil, fmt.Errorf("drawing the card: %w", err)
	}
	return out.Bytes(), nil
}

// drawable writes what the fonts do not have by its code point.
func drawable(v string) string {
	var b strings.Builder
	for _, r := range plain(v) {
		if printable()(r) {
			b.WriteRune(r)
		} else {
			b.WriteString(secret.CodePoint(r))
		}
	}
	return b.String()
}

func (s sheet) heading(title string) {
	if s.GetY() > 264 {
		s.AddPage()
	}
	s.Ln(4)
	s.font("text", "B", 12)
	s.CellFormat(0, 7, drawable(title), "", 1, "L", false, 0, "")
	s.font("text", "", textSize)
}

func (s sheet) steps(title string, steps []string) {
	if len(steps) == 0 {
		return
	}
	s.heading(title)
	for i, step := range steps {
		s.SetX(margin)
		s.CellFormat(8, 5.2, fmt.Sprintf("%d.", i+1), "", 0, "R", false, 0, "")
		left := margin + 9
		s.SetLeftMargin(left)
		s.SetX(left)
		for _, p := range Parts(step) {
			if p.Label {
				s.font("text", "B", textSize)
			} else {
				s.font("text", "", textSize)
			}
			s.Write(5.2, drawable(p.Text))
		}
		s.SetLeftMargin(margin)
		s.Ln(6.4)
	}
	s.font("text", "", textSize)
}

// value draws one value character by character: capitals bold, digits dotted below,
// signs and blanks framed; beside it the QR code, below it the spelling.
func (s sheet) value(v Value, in i18n.Language) {
	code := v.Long && !v.Hidden
	if s.GetY() > 250 || code && s.GetY() > 230 {
		s.AddPage()
	}
	width, _ := s.GetPageSize()
	right := width - margin
	top := s.GetY()
	if code {
		s.code(v.Text, right-qrSide, top)
		right -= qrSide + 4
	}
	s.font("text", "", smallSize+1)
	s.CellFormat(0, 4.5, drawable(v.Label), "", 1, "L", false, 0, "")
	if v.Hidden {
		s.font("text", "", textSize)
		s.CellFormat(0, 6, in.Say(hidden), "", 1, "L", false, 0, "")
		return
	}
	x, y := margin, s.GetY()
	for _, l := range Letters(in, v.Text) {
		style := ""
		if l.Class == secret.Large {
			style = "B"
		}
		s.font("mono", style, valueSize)
		text := l.Text
		if l.Class == secret.Space {
			text = "n" // its place; the sign itself is drawn below
		}
		text = drawable(text)
		w := s.GetStringWidth(text) + 0.5
		if l.Class == secret.Space {
			text = ""
		}
		if x+w > right {
			x, y = margin, y+7
		}
		s.SetXY(x, y)
		s.CellFormat(w, 6, text, "", 0, "C", false, 0, "")
		switch l.Class {
		case secret.Digit:
			s.SetDashPattern([]float64{0.4, 0.4}, 0)
			s.Line(x, y+6.1, x+w, y+6.1)
			s.SetDashPattern([]float64{}, 0)
		case secret.Sign, secret.Other, secret.Space:
			s.Rect(x, y+0.4, w, 5.4, "D")
		}
		if l.Class == secret.Space {
			s.Line(x+0.6, y+3.8, x+0.6, y+5) // an open box
			s.Line(x+0.6, y+5, x+w-0.6, y+5)
			s.Line(x+w-0.6, y+5, x+w-0.6, y+3.8)
		}
		x += w
	}
	s.SetXY(margin, y+7)
	if len(v.Spelled) > 0 {
		s.font("text", "", smallSize)
		s.MultiCell(right-margin, 3.6, drawable(strings.Join(v.Spelled, ", ")), "", "L", false)
	}
	if code && s.GetY() < top+qrSide {
		s.SetY(top + qrSide)
	}
	s.Ln(1.5)
}

// code draws a QR code with its margin.
func (s sheet) code(v string, x, y float64) {
	dark, width := modules(v)
	if width == 0 {
		return
	}
	m := qrSide / float64(width+2*quiet)
	s.SetFillColor(0, 0, 0)
	for _, d := range dark {
		s.Rect(x+float64(d[0]+quiet)*m, y+float64(d[1]+quiet)*m, m, m, "F")
	}
	s.SetFillColor(255, 255, 255)
}
