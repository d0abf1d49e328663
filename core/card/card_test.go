package card

import (
	"html"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

func planned(p vpn.Platform, release string, change func(*plan.Input)) (plan.Input, plan.Plan) {
	psk, password := secret.New(`<b>K&y'7 0O`), secret.New("p\u202eq")
	in := plan.Input{
		Organisation: vpn.Organisation{Name: "Skerry Line", Domain: "skerryline.example"}, Person: vpn.Person{Name: "Ada"},
		Device:   vpn.Device{Name: "d", Platform: p, Release: release, Encrypted: true},
		Accounts: []vpn.Account{{Login: "a_fjell ", Password: &password}},
		Gateway: vpn.Gateway{
			Name: "Norrvik", Address: "norrvik.example", Routes: []string{"10.20.0.0/16"}, DNS: []string{"10.20.0.53"}, Domains: []string{"inside.example"},
			Offers: vpn.Offers{L2TP: &vpn.L2TPOffer{PSK: &psk, PPP: []suite.PPPMethod{suite.MSCHAPv2}, IKE: []string{"aes256-sha256-modp2048"}, ESP: []string{"aes256-sha256"}}},
		},
	}
	if change != nil {
		change(&in)
	}
	return in, plan.Make(in)
}

var (
	tags    = regexp.MustCompile(`<[^>]*>`)
	labelRE = regexp.MustCompile(`‹([^›]*)›`)
)

// TestEveryRelease makes the card of every release in the table, for both tunnels and
// both ways of keeping the password: each value that a step names is there, each value
// that is there is named by a step, and nothing of the step's own marks is left.
func TestEveryRelease(t *testing.T) {
	for _, row := range platform.Table {
		for _, release := range row.Releases {
			for _, wish := range []vpn.Wishes{{}, {Tunnel: vpn.TunnelFull, Password: vpn.KeepAsked}, {Tunnel: vpn.TunnelSplit, Password: vpn.KeepSaved}} {
				in, p := planned(row.Platform, release, func(in *plan.Input) { in.Profile.Wishes = wish })
				for _, byHand := range []bool{true, false} {
					var files []format.File
					if row.Can[vpn.L2TP].Format != "" {
						files = []format.File{{Name: "x"}}
					}
					c := Make(in, p, files, byHand)
					if len(c.Steps) == 0 || len(c.Connect) == 0 || len(c.Remove) == 0 {
						t.Errorf("%s %s: no steps", row.Title, release)
					}
					named := map[string]bool{}
					for _, step := range c.Steps {
						if strings.ContainsAny(step, "{}") || strings.HasPrefix(step, "full:") || strings.HasPrefix(step, "split:") {
							t.Errorf("%s %s: marks are left in %q", row.Title, release, step)
						}
						for _, m := range labelRE.FindAllStringSubmatch(step, -1) {
							named[m[1]] = true
						}
					}
					have := map[string]bool{}
					for _, v := range c.Values {
						have[v.Label] = true
					}
					if byHand {
						for label := range named {
							// A split tunnel that was wished for where routes cannot be set has none to type.
							if !have[label] && !(label == "Routes" && len(p.Connection.Routes) == 0) && row.Can[vpn.L2TP].Support.Usable() {
								t.Errorf("%s %s: a step names %s, which is not on the card", row.Title, release, label)
							}
						}
						for label := range have {
							if !named[label] {
								t.Errorf("%s %s: %s is on the card and no step names it", row.Title, release, label)
							}
						}
					}
				}
			}
		}
	}
}

// TestValuesAsTheyAre reads the values back from the page and from the text.
func TestValuesAsTheyAre(t *testing.T) {
	in, p := planned(vpn.Android, "10", nil)
	c := Make(in, p, nil, true)
	page, err := c.HTML()
	if err != nil {
		t.Fatal(err)
	}
	text := string(c.Text())
	if strings.Contains(string(page), "<b>K&y") || strings.ContainsRune(string(page)+text, '\u202e') {
		t.Error("a value reached the page or the text without being quoted")
	}
	seen := html.UnescapeString(tags.ReplaceAllString(string(page), ""))
	for _, want := range []string{"a_fjell␣", "<b>K&y'7␣0O", "p[U+202E]q", "norrvik.example"} {
		if !strings.Contains(seen, want) {
			t.Errorf("the page does not show %q", want)
		}
		if !strings.Contains(text, "|"+want+"|") {
			t.Errorf("the text does not show |%s|", want)
		}
	}
	for _, want := range []string{"capital K", "digit 7", "blank", "digit 0, capital O", "underscore", "character U+202E"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not spelled out", want)
		}
	}
	p.Connection = p.Connection.Masked()
	if masked := string(Make(in, p, nil, true).Text()); strings.Contains(masked, "K&y") || !strings.Contains(masked, secret.Hidden) {
		t.Error("a masked card shows the key")
	}
}

// TestHostileCards puts hostile text into every value: page and text give each back as
// it was meant, and nothing of it becomes markup or a line of its own.
func TestHostileCards(t *testing.T) {
	pieces := []string{"<b>", "</dd>", "</span><script>", "&amp;", "&#10;", "\"", "'", "`", "$(x)", "{{.}}", "|", "␣", "[U+0041]", "[", "]", "‹", "›", "{", "}", " ", "  ", "\u202e", "\u200b", "\ufeff", "\u00a0", "\n", "\r\n", "\t", "\x1b[31m", "\x00", "ä", "漢", "😀", "O0l1", strings.Repeat("x'", 500)}
	r := rand.New(rand.NewPCG(3, 5))
	hostile := func() string {
		var b strings.Builder
		for range 1 + r.IntN(5) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		return b.String()
	}
	for range 500 {
		in, p := planned(vpn.Android, "10", nil)
		c := &p.Connection
		c.Name, c.Server, c.Login = hostile(), hostile(), hostile()
		c.Password, c.L2TP.PSK, c.Keep = secret.New(hostile()), secret.New(hostile()), vpn.KeepSaved
		card := Make(in, p, nil, true)
		page, err := card.HTML()
		if err != nil {
			t.Fatal(err)
		}
		fromPage, err := ReadHTML(page)
		if err != nil {
			t.Fatalf("%v\n%s", err, page)
		}
		fromText, err := ReadText(card.Text())
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range card.Values {
			if fromPage[v.Label] != v.Text || fromText[v.Label] != v.Text {
				t.Fatalf("%s: meant %q, on the page %q, in the text %q", v.Label, v.Text, fromPage[v.Label], fromText[v.Label])
			}
		}
		if len(fromPage) != len(card.Values) || len(fromText) != len(card.Values) {
			t.Fatalf("%d values on the page and %d in the text, expected %d", len(fromPage), len(fromText), len(card.Values))
		}
	}
}

func FuzzReadCard(f *testing.F) {
	in, p := planned(vpn.Android, "10", nil)
	card := Make(in, p, nil, true)
	page, err := card.HTML()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(page)
	f.Add(card.Text())
	f.Fuzz(func(t *testing.T, data []byte) {
		if values, err := ReadHTML(data); err != nil && values != nil {
			t.Error("values beside an error")
		}
		if values, err := ReadText(data); err != nil && values != nil {
			t.Error("values beside an error")
		}
	})
}
