package card

import (
	"errors"
	"fmt"
	"html"
	"image"
	"image/draw"
	"image/png"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
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
		Organisation: vpn.Organisation{
			Name:   "Skerry Line",
			Domain: "skerryline.example",
		},
		Person: vpn.Person{Name: "Ada"},
		Device: vpn.Device{Name: "d", Platform: p, Release: release, Encrypted: true},
		Profile: vpn.Profile{
			Meta:        vpn.Meta{ID: "pr-1"},
			Preferences: vpn.Preferences{Protocol: vpn.L2TP},
		},
		Accounts: []vpn.Account{{Login: "a_fjell ", Password: &password}},
		Gateway: vpn.Gateway{
			Name:    "Norrvik",
			Address: "norrvik.example",
			Routes:  []string{"10.20.0.0/16"},
			DNS:     []string{"10.20.0.53"},
			Domains: []string{"inside.example"},
			Offers: vpn.Offers{
				L2TP: &vpn.L2TPOffer{
					PSK: &psk,
					PPP: []suite.PPPMethod{suite.MSCHAPv2},
					IKE: []string{"aes256-sha256-modp2048"},
					ESP: []string{"aes256-sha256"},
				},
				IKEv2: &vpn.IKEv2Offer{
					Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
					IKE:  []string{"aes256-sha256-modp2048"},
					ESP:  []string{"aes256-sha256"},
				},
				PPTP: &vpn.PPTPOffer{
					PPP:  []suite.PPPMethod{suite.MSCHAPv2},
					MPPE: []suite.MPPE{"128"},
				},
				SSTP: &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}, Port: 8443},
				TLS: &vpn.TLSOffer{
					Remotes: []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
					Auth:    []vpn.TLSAuth{vpn.TLSPassword},
					Ciphers: []string{"AES-256-GCM"},
				},
			},
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

// TestEveryRelease makes the card of every release in the table for every protocol, for
// both tunnels and both ways of keeping the password, typed and with files: each value
// that a step names is there, each value that is there is named by a step, and nothing of
// the step's own marks is left.
func TestEveryRelease(t *testing.T) {
	for _, row := range platform.Table {
		release := row.Releases[len(row.Releases)-1]
		for _, protocol := range vpn.Protocols {
			for _, preference := range []vpn.Preferences{
				{},
				{Tunnel: vpn.TunnelFull, Password: vpn.PasswordPrompted},
				{
					Tunnel:   vpn.TunnelSplit,
					Password: vpn.PasswordSaved,
				},
			} {
				preference.Protocol = protocol
				in, p := planned(
					row.Platform,
					release,
					func(in *plan.Input) { in.Profile.Preferences = preference },
				)
				for _, byHand := range []bool{true, false} {
					c := Make(in, p, []format.File{{Name: "x"}}, byHand)
					of := fmt.Sprintf("%s, %s, by hand %t", row.Title, protocol, byHand)
					if len(c.Steps) == 0 || len(c.Connect) == 0 || len(c.Remove) == 0 {
						t.Errorf("%s: no steps", of)
					}
					named := map[string]bool{}
					for _, step := range c.Steps {
						if strings.ContainsAny(step, "{}") || strings.HasPrefix(step, "full:") ||
							strings.HasPrefix(step, "split:") ||
							strings.Contains(step, "..") {
							t.Errorf("%s: marks are left in %q", of, step)
						}
						for _, m := range labelRE.FindAllStringSubmatch(step, -1) {
							named[m[1]] = true
						}
					}
					have := map[string]bool{}
					for _, v := range c.Values {
						have[v.Label] = true
						if !named[v.Label] {
							t.Errorf(
								"%s: %s is on the card and no step names it\n%s",
								of,
								v.Label,
								strings.Join(c.Steps, "\n"),
							)
						}
					}
					for label := range named {
						if !have[label] {
							t.Errorf("%s: a step names %s, which is not on the card", of, label)
						}
					}
				}
			}
		}
	}
}

// TestCodes lets a real reader of QR codes read what is drawn: values as they are in the
// page, with their margin.
func TestCodes(t *testing.T) {
	path, err := exec.LookPath("zbarimg")
	if err != nil {
		t.Skip("zbarimg is not installed")
	}
	for i, v := range []string{"kelp-4497-Harbor-mizzen-93-osprey",
		`a "quoted" \ back#slash; and $more`, strings.Repeat("0123456789abcdef", 16)} {
		dark, width := modules(v)
		side := width + 2*quiet
		const scale = 6
		img := image.NewGray(image.Rect(0, 0, side*scale, side*scale))
		for p := range img.Pix {
			img.Pix[p] = 0xFF
		}
		for _, m := range dark {
			draw.Draw(
				img,
				image.Rect(
					(m[0]+quiet)*scale,
					(m[1]+quiet)*scale,
					(m[0]+quiet+1)*scale,
					(m[1]+quiet+1)*scale,
				),
				image.Black,
				image.Point{},
				draw.Src,
			)
		}
		name := filepath.Join(t.TempDir(), fmt.Sprintf("%d.png", i))
		f, err := os.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(png.Encode(f, img), f.Close()); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command(path, "--quiet", "--raw", name).Output()
		if err != nil || strings.TrimSuffix(string(out), "\n") != v {
			t.Errorf("%q is read as %q (%v)", v, out, err)
		}
		if len(v) > 40 {
			continue
		}
		page := string(picture(Value{Text: v, Long: true}, ""))
		if strings.Count(page, "v1h-1z") != len(dark) || strings.Contains(page, v) {
			t.Error("the page's code has other modules, or holds the value as text")
		}
	}
}

// TestSheet draws the card on paper: readable by others, with every
// step and value; characters that the fonts do not have stand there by their code point.
func TestSheet(t *testing.T) {
	in, p := planned(vpn.Android, "10", func(in *plan.Input) { in.Person.Name = "漢 Ada" })
	c := Make(in, p, nil, true)
	once, err := c.PDF()
	if err != nil {
		t.Fatal(err)
	}
	path, err := exec.LookPath("pdftotext")
	if err != nil {
		t.Skip("pdftotext is not installed")
	}
	name := filepath.Join(t.TempDir(), "card.pdf")
	if err := os.WriteFile(name, once, 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(path, "-layout", name, "-").Output()
	if err != nil {
		t.Fatal(err)
	}
	flat := strings.Join(strings.Fields(string(out)), " ")
	for _, want := range []string{"[U+6F22] Ada", "norrvik.example", "What to do", "Pre-shared key",
		"capital K", "Remove it again", "p[U+202E]q"} {
		if !strings.Contains(flat, want) &&
			!strings.Contains(
				strings.ReplaceAll(flat, " ", ""),
				strings.ReplaceAll(want, " ", ""),
			) {
			t.Errorf("%q is not on the sheet:\n%s", want, flat)
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
	if strings.Contains(string(page), "<b>K&y") ||
		strings.ContainsRune(string(page)+text, '\u202e') {
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
	for _, want := range []string{"capital K", "digit 7", "space", "digit 0, capital O",
		"underscore", "character U+202E"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not spelled out", want)
		}
	}
	p.Connection = p.Connection.Masked()
	if masked := string(
		Make(in, p, nil, true).Text(),
	); strings.Contains(masked, "K&y") ||
		!strings.Contains(masked, secret.Hidden) {
		t.Error("a masked card shows the key")
	}
}

// TestHostileCards puts hostile text into every value: page and text give each back as
// it was meant, and nothing of it becomes markup or a line of its own.
func TestHostileCards(t *testing.T) {
	pieces := []string{
		"<b>",
		"</dd>",
		"</span><script>",
		"&amp;",
		"&#10;",
		"\"",
		"'",
		"`",
		"$(x)",
		"{{.}}",
		"|",
		"␣",
		"[U+0041]",
		"[",
		"]",
		"‹",
		"›",
		"{",
		"}",
		" ",
		"  ",
		"\u202e",
		"\u200b",
		"\ufeff",
		"\u00a0",
		"\n",
		"\r\n",
		"\t",
		"\x1b[31m",
		"\x00",
		"ä",
		"漢",
		"😀",
		"O0l1",
		strings.Repeat("x'", 500),
	}
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
		c.Password, c.L2TP.PSK, c.PasswordMode = secret.New(
			hostile(),
		), secret.New(
			hostile(),
		), vpn.PasswordSaved
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
				t.Fatalf(
					"%s: meant %q, on the page %q, in the text %q",
					v.Label,
					v.Text,
					fromPage[v.Label],
					fromText[v.Label],
				)
			}
		}
		if len(fromPage) != len(card.Values) || len(fromText) != len(card.Values) {
			t.Fatalf(
				"%d values on the page and %d in the text, expected %d",
				len(fromPage),
				len(fromText),
				len(card.Values),
			)
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
