package recipient_test

import (
	"slices"
	"testing"

	"wardicon/core/card"
	"wardicon/core/words"
	"wardicon/recipient"
	"wardicon/service"
)

// TestSentences holds that whatever a person may read is there in every language, and that catalogues have nothing
// that nobody says any more.
func TestSentences(t *testing.T) {
	all := slices.Concat(recipient.Sentences(), card.Sentences(), service.Invitation)
	for _, l := range words.Languages() {
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
