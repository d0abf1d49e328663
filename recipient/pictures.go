package recipient

import (
	"html/template"
	"strings"

	"wardicon/core/vpn"
)

// Picture is one of those that show where to tap; what it says stands below it.
type Picture struct {
	Drawing template.HTML
	Text    string
}

// scene is what a picture shows.
type scene struct {
	text string // below it
	// what is drawn on a screen of 60 by 80 (a phone's) or 100 by 64 (a computer's)
	phone, computer string
}

// Parts of drawings: what is to be tapped is in the colour of links.
const (
	rows = `<path class="line" d="M8 22h44M8 52h44M8 66h44"/>` +
		`<rect class="tap" x="6" y="30" width="48" height="14" rx="3"/>`
	wideRows = `<path class="line" d="M34 12h58M34 44h58M34 56h58M8 12h16M8 24h16M8 36h16"/>` +
		`<rect class="tap" x="32" y="20" width="62" height="14" rx="3"/>`
	tray = `<path class="tap thick" d="M30 22v26m-10-10 10 10 10-10"/>` +
		`<path class="line thick" d="M14 50v10h32V50"/>`
	wideTray = `<path class="tap thick" d="M50 12v26m-10-10 10 10 10-10"/>` +
		`<path class="line thick" d="M32 40v10h36V40"/>`
)

// The scenes that return.
var (
	sceneGet = scene{"Get the file", tray, wideTray}
	sceneSet = scene{"Open the settings", rows, wideRows}
	sceneIn  = scene{
		"Install it",
		`<path class="line" d="M6 14h20M8 34h44M8 46h44M8 58h30"/>` +
			`<rect class="tap" x="36" y="8" width="19" height="11" rx="3"/>`,
		`<rect class="line" x="18" y="10" width="64" height="44" rx="3"/>` +
			`<path class="line" d="M26 20h44M26 29h36"/>` +
			`<rect class="tap" x="56" y="38" width="20" height="10" rx="3"/>`,
	}
	sceneApp = scene{
		"Open it with the app",
		`<rect class="line" x="8" y="14" width="18" height="18" rx="5"/>` +
			`<rect class="tap" x="34" y="14" width="18" height="18" rx="5"/>` +
			`<path class="tap thick" d="M43 19v8m-4-4h8"/>` +
			`<rect class="line" x="8" y="42" width="18" height="18" rx="5"/>` +
			`<rect class="line" x="34" y="42" width="18" height="18" rx="5"/>`,
		wideRows,
	}
	sceneType = scene{
		"Type what is shown below",
		`<path class="line" d="M8 18h14M8 40h14"/><rect class="line" x="8" y="23" width="44"` +
			` height="10" rx="2"/><rect class="tap" x="8" y="45" width="44" height="10" rx="2"/>` +
			`<path class="tap" d="M14 47v6"/>`,
		`<path class="line" d="M12 10h20M12 34h20"/><rect class="line" x="12" y="16" width="76"` +
			` height="10" rx="2"/><rect class="tap" x="12" y="40" width="76" height="10" rx="2"/>` +
			`<path class="tap" d="M18 42v6"/>`,
	}
	sceneOn = scene{
		"Switch it on",
		`<path class="line" d="M8 20h44M8 60h44"/><path class="line" d="M8 40h16"/>` +
			`<rect class="tap" x="32" y="33" width="22" height="13" rx="6.5"/>` +
			`<circle class="dot" cx="47.5" cy="39.5" r="4.5"/>`,
		`<path class="line" d="M12 14h76M12 50h76M12 32h30"/>` +
			`<rect class="tap" x="64" y="25" width="24" height="14" rx="7"/>` +
			`<circle class="dot" cx="81" cy="32" r="5"/>`,
	}
	sceneTop = scene{
		"Connect from the menu above",
		sceneOn.phone,
		`<path class="line" d="M0 9h100"/><rect class="tap" x="72" y="2" width="14" height="6"` +
			` rx="2"/><rect class="line" x="58" y="14" width="36" height="34" rx="3"/>` +
			`<path class="line" d="M64 22h24M64 40h24"/>` +
			`<rect class="tap" x="62" y="27" width="28" height="8" rx="2"/>`,
	}
	sceneBottom = scene{
		"Connect from the taskbar below",
		sceneOn.phone,
		`<path class="line" d="M0 56h100"/><rect class="tap" x="76" y="57" width="12" height="6"` +
			` rx="2"/><rect class="line" x="58" y="12" width="36" height="40" rx="3"/>` +
			`<path class="line" d="M64 20h24M64 44h24"/>` +
			`<rect class="tap" x="62" y="28" width="28" height="9" rx="2"/>`,
	}
	sceneRun = scene{"Open it", sceneApp.phone,
		`<rect class="line" x="30" y="8" width="40" height="48" rx="3"/>` +
			`<path class="line" d="M38 20h24M38 28h24M38 36h14"/>` +
			`<path class="tap thick" d="m58 34 0 18 5-5 4 8 4-2-4-8 7 0z"/>`}
)

// strips are the pictures by platform: with a file, and typed by hand.
var strips = map[vpn.Platform][2][]scene{
	vpn.IOS:          {{sceneGet, sceneSet, sceneIn, sceneOn}, {sceneSet, sceneType, sceneOn}},
	vpn.IPadOS:       {{sceneGet, sceneSet, sceneIn, sceneOn}, {sceneSet, sceneType, sceneOn}},
	vpn.Android:      {{sceneGet, sceneApp, sceneOn}, {sceneSet, sceneType, sceneOn}},
	vpn.MacOS:        {{sceneGet, sceneSet, sceneIn, sceneTop}, {sceneSet, sceneType, sceneTop}},
	vpn.Windows:      {{sceneGet, sceneRun, sceneBottom}, {sceneSet, sceneType, sceneBottom}},
	vpn.LinuxDesktop: {{sceneGet, sceneSet, sceneTop}, {sceneSet, sceneType, sceneTop}},
	vpn.ChromeOS:     {{sceneGet, sceneSet, sceneOn}, {sceneSet, sceneType, sceneOn}},
}

// scenes are all of them, for their texts.
var scenes = []scene{sceneGet, sceneSet, sceneIn, sceneApp, sceneType, sceneOn, sceneTop,
	sceneBottom, sceneRun}

// held tells whether people hold a device in their hands.
func held(of vpn.Platform) bool {
	return of == vpn.IOS || of == vpn.IPadOS || of == vpn.Android
}

// pictures show where to tap on a platform; none for what has no screen of that kind.
func (p Page) pictures(of vpn.Platform) (list []Picture) {
	strip := strips[of][0]
	if p.First == nil || p.First.Shown {
		strip = strips[of][1]
	}
	for _, s := range strip {
		var b strings.Builder
		if held(of) {
			b.WriteString(`<svg viewBox="-30 -4 120 90" aria-hidden="true"><rect class="frame" ` +
				`x="-2" y="-2" width="64" height="86" rx="8"/>` + s.phone + `</svg>`)
		} else {
			b.WriteString(`<svg viewBox="-10 -4 120 90" aria-hidden="true"><rect class="frame" ` +
				`x="-2" y="-2" width="104" height="68" rx="4"/>` +
				`<path class="frame" d="M-8 76h116l-6-10h-104z"/>` + s.computer + `</svg>`)
		}
		// Nothing in it comes from elsewhere.
		list = append(list, Picture{template.HTML(b.String()), p.Language.Say(s.text)})
	}
	return list
}
