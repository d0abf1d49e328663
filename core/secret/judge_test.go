package secret_test

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"wardicon/core/secret"
)

func TestHiddenEverywhere(t *testing.T) {
	const value = "kelp-4417"
	s := secret.New(value)
	var log strings.Builder
	slog.New(slog.NewJSONHandler(&log, nil)).
		Info("x", "a", s, "b", &s, "c", map[string]any{"s": s}, "d", struct{ S secret.Text }{s})
	encoded, err := json.Marshal(map[string]any{"s": s, "p": &s})
	if err != nil {
		t.Fatal(err)
	}
	for _, out := range []string{
		fmt.Sprint(s), fmt.Sprintf("%v %+v %#v %s %q %x %d", s, s, s, s, s, s,
			s), fmt.Sprintf("%+v %#v", struct{ S secret.Text }{s}, &struct{ S *secret.Text }{&s}),
		fmt.Errorf("x %w", fmt.Errorf("%v", s)).Error(), log.String(), string(encoded),
	} {
		if strings.Contains(out, value) || strings.Contains(out, fmt.Sprintf("%x", value)) {
			t.Errorf("the secret came out: %s", out)
		}
	}
	var back secret.Text
	if err := json.Unmarshal([]byte(`"kelp-4417"`), &back); err != nil || back.Reveal() != value {
		t.Errorf("not read: %v", err)
	}
}

func TestJudge(t *testing.T) {
	for _, test := range []struct {
		value    string
		words    []string
		low, top float64
	}{
		{"", nil, 0, 0},
		{"password", nil, 0, 5},
		{"Skerry2024", []string{"Skerry Line"}, 0, 25},
		{"ada.fjell", []string{"Ada Fjell"}, 0, 25},
		{"kelp-4497-Harbor-mizzen-93-osprey", nil, 60, 500},
		{strings.Repeat("x9#Q", 2000), nil, 20, 500},
		// What comes after a strong beginning makes no difference, what comes after a weak one
		// does.
		{"q7#Vn4kXw2Lp9sTz0bRd" + strings.Repeat("a", 40), nil, 72, 500},
		{"passwordpassword2026" + "q7#Vn4kXw2Lp9sTz0bRd", nil, 72, 500},
		{"norrvikskerrylineada" + "norrvikskerrylineada", []string{"Norrvik", "Skerry Line", "Ada"},
			0, 45},
		{"ÄÖÜ–„tällhölm“–ÄÖÜ–ÄÖÜ–ÄÖÜ", nil, 60, 500},
	} {
		if got := secret.Judge(
			secret.New(test.value),
			test.words...).Bits; got < test.low ||
			got > test.top {
			t.Errorf("%.30q: %.1f bits, expected %.0f to %.0f", test.value, got, test.low, test.top)
		}
	}
}

func BenchmarkJudge(b *testing.B) {
	s := secret.New("kelp-4497-Harbor-mizzen-93-osprey")
	for b.Loop() {
		secret.Judge(s, "Ada Fjell", "Skerry Line Norrvik")
	}
}
