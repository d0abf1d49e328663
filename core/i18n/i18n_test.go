package i18n_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"wardicon/core/i18n"
)

func TestChoose(t *testing.T) {
	for _, test := range []struct {
		wanted []string
		want   string
	}{
		{nil, "en"},
		{[]string{""}, "en"},
		{[]string{"de"}, "de"},
		{[]string{"de-AT"}, "de"},
		{[]string{"fr-CH, fr;q=0.9, en;q=0.8, de;q=0.7"}, "fr"},
		{[]string{"sv", "es-MX,es;q=0.9"}, "es"},
		{[]string{"sv;q=1, de;q=0.5"}, "de"},
		{[]string{"<script>", "fr"}, "fr"},
		{[]string{"ja"}, "en"},
		{[]string{strings.Repeat("de,", 400), "es"}, "es"},
		{[]string{"", "en-GB", "de"}, "en"},
	} {
		if got := i18n.Choose(test.wanted...); got.Tag() != test.want {
			t.Errorf("%.60q: %s, expected %s", test.wanted, got.Tag(), test.want)
		}
	}
}

// placed are the parts of a sentence that must stand in every language: places, labels, and the
// braces around them.
var placed = regexp.MustCompile(`%s|‹[^›]*›|[{}]`)

// optional are the parts that are left out together, with the labels in them.
var optional = regexp.MustCompile(`\{[^{}]*\}`)

// TestCatalogues holds that catalogues say what the English sentence says, as far as a machine can
// tell.
func TestCatalogues(t *testing.T) {
	languages := i18n.Languages()
	var tags []string
	for _, l := range languages {
		tags = append(tags, l.Tag())
		if l.Name() == "" || l.Ordinals()["other"] == "" {
			t.Errorf("%s has no name or no ordinals", l.Tag())
		}
		for english, own := range l.Sentences() {
			for _, part := range []*regexp.Regexp{placed, optional} {
				a, b := parts(part, english), parts(part, own)
				if !slices.Equal(a, b) {
					t.Errorf("%s: %q has %q, expected %q", l.Tag(), own, b, a)
				}
			}
			if strings.TrimSpace(own) == "" || strings.Contains(own, "  ") {
				t.Errorf("%s: %q", l.Tag(), own)
			}
		}
	}
	if want := []string{"en", "de", "es", "fr"}; !slices.Equal(tags, want) {
		t.Errorf("%q, expected %q", tags, want)
	}
	if got := i18n.Choose("de").Say("You are not connected."); got != "Sie sind nicht verbunden." {
		t.Error(got)
	}
	if got := i18n.Choose("de").Say("no such sentence, %s", "x"); got != "no such sentence, x" {
		t.Error(got)
	}
}

// parts lists the labels and places in a sentence, or in each of its optional parts, in a fixed
// order.
func parts(of *regexp.Regexp, sentence string) []string {
	var list []string
	for _, found := range of.FindAllString(sentence, -1) {
		if of == optional {
			found = strings.Join(placed.FindAllString(found, -1), "")
		}
		list = append(list, found)
	}
	slices.Sort(list)
	return list
}
