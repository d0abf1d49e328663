// Package recipient draws the pages of people who were given a link and have never heard of a VPN.
// The pages work without scripts; what is handier with one says so by itself.
package recipient

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"io"
	"net/url"
	"strings"
	"sync"

	"wardicon/api"
	"wardicon/core/card"
	"wardicon/core/explain"
	"wardicon/core/format"
	"wardicon/core/i18n"
	"wardicon/core/vpn"
)

var (
	//go:embed page.html
	source string
	//go:embed page.css
	style string
	//go:embed page.js
	script string
)

// ScriptSource is what a content security policy says of the script of the pages: its digest (CSP3
// §2.3.1).
var ScriptSource = func() string {
	sum := sha256.Sum256([]byte(script))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}()

// Page is what all pages show.
type Page struct {
	Language     i18n.Language
	Organisation string
	Title        string
	Languages    []choice

	Wrong bool // the passcode was not the right one

	Whereabouts api.Whereabouts

	Handover  api.Handover
	Other     bool // it is for another kind of device than this one
	Here, For string
	Card      *card.Card // the steps; nil where they are no longer what the parcel is
	Authority []File     // to be trusted before anything else
	First     *File      // what the device takes
	Beside    []File     // what has to lie beside it
	Rest      []File
	Steps     string // link of the card
	Paper     string // and of the one for paper
	Proof     api.Proof
	Words     template.JS   // for the script
	Pictures  []Picture     // where to tap
	QR        template.HTML // of the link, for the device that it is for

	Help     string           // where "it isn't working" is sent to
	Diagnose string           // the script that looks why, where there is one
	Advice   []explain.Person // what the person can do, the likeliest first
	Back     string
}

// choice is a language that the page can be read in.
type choice struct {
	Tag, Name string
	Here      bool
}

// File is a file as the page offers it.
type File struct {
	Name, Link string
	Shown      bool // it is the card, in the place of a file to be taken
}

// New begins a page in a language.
func New(in i18n.Language, organisation string) Page {
	p := Page{Language: in, Organisation: organisation}
	for _, l := range i18n.Languages() {
		p.Languages = append(p.Languages, choice{l.Tag(), l.Name(), l == in})
	}
	return p
}

// Ended says that a link opens nothing any more.
func (p Page) Ended(w io.Writer) error {
	return p.draw(w, "ended", p.Language.Say("This link has expired"))
}

// Ask asks for the passcode.
func (p Page) Ask(w io.Writer) error {
	return p.draw(w, "ask", p.Language.Say("Your connection to %s", p.Organisation))
}

// Advise says what the person can do where it does not work; back leads to the page.
func (p Page) Advise(advice []explain.Person, back string) func(io.Writer) error {
	p.Advice, p.Back, p.Languages = advice, back, nil
	return func(w io.Writer) error { return p.draw(w, "help", p.Language.Say("It isn't working")) }
}

// Whereami says where the caller comes from.
func (p Page) Whereami(w io.Writer) error {
	return p.draw(w, "whereami", p.Language.Say("Are you connected?"))
}

// Look is what the script needs besides the page: who is asked what they see of the browser.
type Look struct {
	Families []string // addresses by IPv4 and by IPv6 alone
	Zone     string   // of one-time names
	Scheme   string   // of the page
	Link     string   // to the page, as it was given
}

// Fill fills the page with what was opened. base is the path of the link, agent how the browser
// calls itself.
func (p Page) Fill(o api.Opened, seen api.Seen, base, agent string, look Look) (Page, error) {
	p.Handover, p.Card, p.Proof, p.Help = o.Handover, o.Card, seen.Proof, base+"/help"
	for _, f := range o.Parcel.Files {
		p.sort(f.Name, base+"/files/"+url.PathEscape(f.Name))
	}
	if p.First == nil && p.Steps != "" && p.Card == nil {
		p.First = &File{Link: p.Steps, Shown: true}
	}
	if here := platformOf(agent); here != "" && !akin(here, o.Platform) {
		p.Other, p.Here, p.For = true, p.Language.Say(
			titles[here],
		), p.Language.Say(
			titles[o.Platform],
		)
		if held(o.Platform) { // what has a camera
			p.QR = card.QR(look.Link, p.Language.Say("The link to this page"))
		}
	}
	p.Pictures = p.pictures(o.Platform)
	ask := []string{}
	if seen.Probe != "" {
		for _, f := range look.Families {
			if f != "" {
				ask = append(ask, f+"/seen/"+seen.Probe)
			}
		}
		if look.Zone != "" {
			ask = append(ask, look.Scheme+"://"+seen.Probe+"."+look.Zone+"/")
		}
	}
	data, err := json.Marshal(scriptWords(p.Language, ask, doors(seen)))
	p.Words = template.JS(data) // JSON of our own, whose < are escaped
	return p, err
}

// doors are the gateways whose answer time the page measures: not through a tunnel.
func doors(seen api.Seen) []api.Door {
	if seen.Proof.Now.Match != nil || seen.Doors == nil {
		return []api.Door{}
	}
	return seen.Doors
}

// sort puts a file where it belongs: an authority that comes before what the device takes, that
// itself, what lies beside it, the card, the rest.
func (p *Page) sort(name, link string) {
	one := File{Name: name, Link: link}
	switch {
	case strings.HasSuffix(name, "-card.html"):
		p.Steps = link
	case strings.HasSuffix(name, "-card.pdf"):
		p.Paper = link
	case strings.Contains(name, "-diagnose."):
		p.Diagnose = link
	case strings.Contains(name, "-card.") || strings.Contains(name, "-digests."):
		p.Rest = append(p.Rest, one)
	case p.First == nil && (strings.HasSuffix(name, format.AuthorityFile) ||
		strings.HasSuffix(name, "-ca1.cer")):
		p.Authority = append(p.Authority, one)
	case p.First == nil:
		p.First = &one
	default:
		p.Beside = append(p.Beside, one)
	}
}

// Opened shows what was opened.
func (p Page) Opened(w io.Writer) error {
	return p.draw(w, "opened", p.Language.Say("Your connection to %s", p.Organisation))
}

// ProofPart draws the part of the page that says what is seen of the browser.
func (p Page) ProofPart(w io.Writer) error { return p.draw(w, "proof", "") }

func (p Page) draw(w io.Writer, name, title string) error {
	p.Title = title
	var b bytes.Buffer
	if err := drawn()[p.Language].ExecuteTemplate(&b, name, p); err != nil {
		return err
	}
	_, err := b.WriteTo(w)
	return err
}

// drawn are the templates by language.
var drawn = sync.OnceValue(func() map[i18n.Language]*template.Template {
	list := map[i18n.Language]*template.Template{}
	for _, l := range i18n.Languages() {
		list[l] = template.Must(template.New("").Funcs(template.FuncMap{
			"say":     l.Say,
			"letters": card.Letters,
			"labels":  card.Parts,
			"style":   func() template.CSS { return template.CSS(style) },
			"script":  func() template.JS { return template.JS(script) },
		}).Parse(source))
	}
	return list
})

// titles are what people call their devices.
var titles = map[vpn.Platform]string{
	vpn.Windows:      "a Windows computer",
	vpn.MacOS:        "a Mac",
	vpn.IOS:          "an iPhone",
	vpn.IPadOS:       "an iPad",
	vpn.Android:      "an Android device",
	vpn.ChromeOS:     "a Chromebook",
	vpn.LinuxDesktop: "a Linux computer",
	vpn.Linux:        "a Linux computer",
	vpn.OpenWrt:      "a router",
	vpn.DeskPhone:    "a desk phone",
}

// platformOf guesses the platform of a browser; empty where it does not say.
func platformOf(agent string) vpn.Platform {
	for _, sign := range []struct {
		text     string
		platform vpn.Platform
	}{
		{"iPhone", vpn.IOS},
		{"iPad", vpn.IPadOS},
		{"Android", vpn.Android},
		{"CrOS", vpn.ChromeOS},
		{"Windows NT", vpn.Windows},
		{"Macintosh", vpn.MacOS},
		{"Linux", vpn.LinuxDesktop},
	} {
		if strings.Contains(agent, sign.text) {
			return sign.platform
		}
	}
	return ""
}

// akin tells whether a browser may be that of a device: tablets call themselves Macs, and what has
// no browser is set up from anywhere.
func akin(browser, device vpn.Platform) bool {
	switch device {
	case vpn.OpenWrt, vpn.DeskPhone, vpn.Linux:
		return true
	case vpn.IPadOS:
		return browser == vpn.IPadOS || browser == vpn.MacOS
	}
	return browser == device
}
