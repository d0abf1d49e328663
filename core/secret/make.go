package secret

import (
	"fmt"
	"io"
	"strings"
)

// Alphabet has 32 characters that are told apart on paper, on screens and on the
// telephone: no 0 and O, no 1, l and I. Each stands for five bits.
const Alphabet = "abcdefghijkmnpqrstuvwxyz23456789"

// Strengths that a made secret may have, in bits.
const (
	LeastBits = 60
	MostBits  = 300
)

// group is how many characters stand together.
const group = 5

// Make makes a secret to be typed: at least so many random bits, in groups joined by
// hyphens. random is a source of randomness fit for keys. It returns the bits that the
// secret has.
func Make(random io.Reader, bits int) (Text, int, error) {
	if bits < LeastBits || bits > MostBits {
		return Text{}, 0, fmt.Errorf("found %d bits, expected %d to %d", bits, LeastBits, MostBits)
	}
	groups := (bits + 5*group - 1) / (5 * group)
	drawn := make([]byte, groups*group)
	if _, err := io.ReadFull(random, drawn); err != nil {
		return Text{}, 0, fmt.Errorf("drawing randomness: %w", err)
	}
	var b strings.Builder
	for i, d := range drawn {
		if i > 0 && i%group == 0 {
			b.WriteByte('-')
		}
		b.WriteByte(Alphabet[d%32]) // 256 is a multiple of 32: no character comes more often
	}
	return New(b.String()), 5 * len(drawn), nil
}
