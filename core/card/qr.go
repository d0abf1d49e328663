package card

import (
	"fmt"
	"html/template"
	"strings"

	"github.com/boombuler/barcode/qr"
)

// quiet is the margin around a QR code in modules (ISO/IEC 18004 §5.3.8).
const quiet = 4

// scannable tells whether a value can go into a QR code without readers differing on
// what it says: plain ASCII, of a length that stays readable on paper.
func scannable(v string) bool {
	return len(v) <= 300 &&
		!strings.ContainsFunc(v, func(r rune) bool { return r < ' ' || r > '~' })
}

// modules lists the dark modules of a value's QR code, the margin left out, and the
// code's width. It is 0 where there is none.
func modules(v string) (dark [][2]int, width int) {
	code, err := qr.Encode(v, qr.M, qr.Unicode)
	if err != nil {
		return nil, 0
	}
	width = code.Bounds().Dx()
	for y := range width {
		for x := range width {
			if r, _, _, _ := code.At(x, y).RGBA(); r == 0 {
				dark = append(dark, [2]int{x, y})
			}
		}
	}
	return dark, width
}

// picture draws the QR code of a value as part of a page.
func picture(v Value, title string) template.HTML {
	if !v.Long || v.Hidden {
		return ""
	}
	return QR(v.Text, title)
}

// QR draws a QR code as part of a page; nothing where the value is too long for one.
func QR(v, title string) template.HTML {
	dark, width := modules(v)
	if width == 0 {
		return ""
	}
	var path strings.Builder
	for _, m := range dark {
		fmt.Fprintf(&path, "M%d %dh1v1h-1z", m[0]+quiet, m[1]+quiet)
	}
	side := width + 2*quiet
	// Nothing in it comes from the value but the places of the modules.
	return template.HTML(
		fmt.Sprintf(
			`<svg class="qr" role="img" aria-label="%s" viewBox="0 0 %d %d" `+
				`shape-rendering="crispEdges"><path fill="#fff" d="M0 0h%dv%dh-%dz"/><path `+
				`fill="#000" d="%s"/></svg>`,
			template.HTMLEscapeString(title),
			side,
			side,
			side,
			side,
			side,
			path.String(),
		),
	)
}
