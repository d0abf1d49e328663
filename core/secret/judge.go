package secret

import (
	"fmt"
	"math"
	"strings"

	"github.com/ccojocar/zxcvbn-go"
)

// judged bounds the work of the estimator: what comes after so many characters can
// only make a secret stronger.
const judged = 48

// Estimate is how hard a secret is to guess.
type Estimate struct {
	Bits   float64 // binary logarithm of the guesses an informed attacker needs
	Common bool    // it is on a list of the passwords that are tried first
}

// Judge estimates the guesses that a secret withstands, knowing the words (names,
// logins, places) that an attacker would try first.
func Judge(t Text, words ...string) Estimate {
	value := t.value
	if runes := []rune(value); len(runes) > judged {
		value = string(runes[:judged])
	}
	if value == "" {
		return Estimate{}
	}
	var known []string
	for _, w := range words {
		for _, part := range strings.FieldsFunc(strings.ToLower(w), func(r rune) bool { return strings.ContainsRune(" @._-\\/", r) }) {
			if len(part) > 2 {
				known = append(known, part)
			}
		}
	}
	found := zxcvbn.PasswordStrength(value, known)
	common := len(found.MatchSequence) == 1 && found.MatchSequence[0].DictionaryName == "Passwords" && found.MatchSequence[0].Token == value
	return Estimate{Bits: found.Entropy, Common: common}
}

// Guesses words the estimate for a reader, as a power of ten.
func (e Estimate) Guesses() string {
	return fmt.Sprintf("about 10^%d guesses", int(math.Round(e.Bits*math.Log10(2))))
}
