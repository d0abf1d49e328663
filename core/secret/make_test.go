package secret_test

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wardicon/core/secret"
)

func TestMake(t *testing.T) {
	random := rand.NewChaCha8([32]byte{7})
	for _, test := range []struct{ asked, bits, groups int }{{60, 75, 3}, {75, 75, 3}, {76, 100, 4},
		{100, 100, 4}, {128, 150, 6}, {300, 300, 12}} {
		made, bits, err := secret.Make(random, test.asked)
		if err != nil || bits != test.bits {
			t.Fatalf("%d bits asked: %d made (%v), expected %d", test.asked, bits, err, test.bits)
		}
		groups := strings.Split(made.Reveal(), "-")
		if len(groups) != test.groups ||
			slices.ContainsFunc(groups, func(g string) bool { return len(g) != 5 }) {
			t.Errorf(
				"%d bits make %d groups, expected %d of five",
				test.asked,
				len(groups),
				test.groups,
			)
		}
		if strings.ContainsAny(made.Reveal(), "0O1lI|") {
			t.Error("it has characters that look alike")
		}
		if again, _, err := secret.Make(random, test.asked); err != nil || again.Equal(made) {
			t.Errorf("the next one is the same (%v)", err)
		}
	}
	for _, bits := range []int{0, -1, 59, 301} {
		if _, _, err := secret.Make(random, bits); err == nil {
			t.Errorf("%d bits were made", bits)
		}
	}
	if _, _, err := secret.Make(bytes.NewReader(make([]byte, 19)), 100); err == nil {
		t.Error("made with too little randomness")
	}
	// Every character comes, none much more often than another.
	seen := map[rune]int{}
	for range 2000 {
		made, _, err := secret.Make(random, 100)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range made.Reveal() {
			seen[r]++
		}
	}
	delete(seen, '-')
	for r, n := range seen {
		if len(seen) != 32 || n < 1050 || n > 1450 { // 1250 expected, deviation 35
			t.Errorf("%d characters; %q came %d times", len(seen), r, n)
		}
	}
}

// TestMemo holds that the memo answers as the estimator does, tells secrets and words
// apart, and stays within its bound.
func TestMemo(t *testing.T) {
	memo := secret.NewMemo([]byte("key"), 3)
	for range 2 {
		for _, test := range []struct {
			value string
			words []string
		}{
			{"sunshine12", nil},
			{"sunshine12", []string{"sunshine"}},
			{"ab", []string{"c"}},
			{"a", []string{"bc"}},
			{"fjell-2024", []string{"Ada", "Fjell"}},
		} {
			s := secret.New(test.value)
			if got, want := memo.Judge(
				s,
				test.words...), secret.Judge(
				s,
				test.words...); got != want {
				t.Errorf("%q with %v: %v, expected %v", test.value, test.words, got, want)
			}
		}
	}
}

func TestSpell(t *testing.T) {
	for value, want := range map[string]string{
		"":       "",
		"aB7":    "small a, capital B, digit 7",
		"_ -":    "underscore, space, hyphen",
		`\'"`:    "backslash, apostrophe, double quote",
		"äÖ":     "small ä, capital Ö",
		"\u200b": "character U+200B",
		"\t":     "character U+0009",
		"漢":      "small 漢",
	} {
		if got := strings.Join(secret.Spell(value), ", "); got != want {
			t.Errorf("%q is spelled %q, expected %q", value, got, want)
		}
	}
}
