package secret

import (
	"fmt"
	"math"
	"strings"

	"github.com/ccojocar/zxcvbn-go"
)

// Bounds on the work of the estimator, which grows with the square of the length: what comes
// after so many characters can only make a secret stronger. The first are judged by
// themselves; where they withstand as many guesses as anybody asks for, no more are.
const (
	judged      = 48
	judgedFirst = 20
	enough      = 72 // bits
)

// Estimate is how hard a secret is to guess.
type Estimate struct {
	Bits   float64 // binary logarithm of the guesses an informed attacker needs
	Common bool    // it is on a list of the passwords that are tried first
}

// Judge estimates the guesses that a secret withstands, knowing the words (names,
// logins, places) that an attacker would try first.
func Judge(t Text, words ...string) Estimate {
	runes := []rune(t.value)
	if len(runes) == 0 {
		return Estimate{}
	}
	var known []string
	for _, w := range words {
		for _, part := range strings.FieldsFunc(strings.ToLower(w),
			func(r rune) bool { return strings.ContainsRune(" @._-\\/", r) }) {
			if len(part) > 2 {
				known = append(known, part)
			}
		}
	}
	if len(runes) > judgedFirst {
		if e := judge(string(runes[:judgedFirst]), known); e.Bits >= enough {
			return e
		}
	}
	return judge(string(runes[:min(len(runes), judged)]), known)
}

func judge(value string, known []string) Estimate {
	found := zxcvbn.PasswordStrength(value, known)
	common := len(found.MatchSequence) == 1 &&
		found.MatchSequence[0].DictionaryName == "Passwords" &&
		found.MatchSequence[0].Token == value
	return Estimate{Bits: found.Entropy, Common: common}
}

// Guesses words the estimate for a reader, as a power of ten. It is cut rather than rounded: what
// falls just short of a bound does not read like it.
func (e Estimate) Guesses() string {
	tenths := int(e.Bits * math.Log10(2) * 10)
	return fmt.Sprintf("about 10^%d.%d guesses", tenths/10, tenths%10)
}
