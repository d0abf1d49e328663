package recipient_test

import (
	"slices"
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/core/card"
	"wardicon/core/format"
	"wardicon/core/i18n"
	"wardicon/core/vpn"
	"wardicon/recipient"
	"wardicon/service"
)

// TestSentences holds that whatever a person may read is there in every language, and that
// catalogues have nothing that nobody says any more.
func TestSentences(t *testing.T) {
	all := slices.Concat(recipient.Sentences(), card.Sentences(), service.Invitation, service.Nudge)
	for _, l := range i18n.Languages() {
		for _, sentence := range all {
			if !l.Has(sentence) {
				t.Errorf("%s lacks %q", l.Tag(), sentence)
			}
		}
		for sentence := range l.Sentences() {
			if !slices.Contains(all, sentence) {
				t.Errorf("%s has %q, which nobody says", l.Tag(), sentence)
			}
		}
	}
	if len(all) < 300 {
		t.Errorf("%d sentences: some are missed", len(all))
	}
}

// TestPlaces puts the files of parcels where they belong: what comes first, the one button, what
// lies beside it.
func TestPlaces(t *testing.T) {
	for _, test := range []struct {
		files                    []string
		first, authority, beside string
	}{
		{[]string{"n.mobileconfig", "n-card.html", "n-card.txt", "n-card.pdf", "n-digests.txt"},
			"n.mobileconfig", "", ""},
		{
			[]string{"n.nmconnection", "n" + format.AuthorityFile, "n-install.sh", "n-diagnose.sh",
				"n-card.html"},
			"n.nmconnection",
			"",
			"n" + format.AuthorityFile + " n-install.sh",
		},
		{[]string{"n" + format.AuthorityFile, "n-card.html"}, "", "n" + format.AuthorityFile, ""},
		{[]string{"n" + format.AuthorityFile, "n-identity.p12", "n-card.html"}, "n-identity.p12",
			"n" + format.AuthorityFile, ""},
	} {
		o := api.Opened{Card: &card.Card{}, Platform: vpn.Windows}
		for _, name := range test.files {
			o.Parcel.Files = append(o.Parcel.Files, format.File{Name: name})
		}
		p, err := recipient.New(i18n.English, "Skerry Line").
			Fill(o, api.Seen{Probe: "p"}, "/h/x", "",
				recipient.Look{
					Families: []string{"https://v4.example", ""},
					Zone:     "look.example",
					Scheme:   "https",
				})
		if err != nil {
			t.Fatal(err)
		}
		names := func(list []recipient.File) string {
			var all []string
			for _, f := range list {
				all = append(all, f.Name)
			}
			return strings.Join(all, " ")
		}
		if want := map[bool]string{true: "/h/x/files/n-diagnose.sh"}[slices.Contains(test.files,
			"n-diagnose.sh")]; p.Diagnose != want {
			t.Errorf("%q: diagnostics %q", test.files, p.Diagnose)
		}
		first := ""
		if p.First != nil {
			first = p.First.Name
		}
		if first != test.first || names(p.Authority) != test.authority ||
			names(p.Beside) != test.beside ||
			p.Steps != "/h/x/files/n-card.html" {
			t.Errorf(
				"%q: first %q, authority %q, beside %q",
				test.files,
				first,
				names(p.Authority),
				names(p.Beside),
			)
		}
		if !strings.Contains(
			string(p.Words),
			`"ask":["https://v4.example/seen/p","https://p.look.example/"]`,
		) {
			t.Errorf("%s", p.Words)
		}
	}
}
