// Package wire has what the messages of all protocols share: how a message that cannot be read is
// refused.
package wire

import (
	"errors"
	"fmt"
)

// ErrMalformed is wrapped by each error of decoding a message.
var ErrMalformed = errors.New("malformed")

// Malformed is the error for a message of a protocol that breaks its rules.
func Malformed(protocol, format string, args ...any) error {
	return fmt.Errorf("%w %s message: %s", ErrMalformed, protocol, fmt.Sprintf(format, args...))
}

// Window tells packets that came before from new ones, by their numbers: the last 64 are remembered
// (RFC 4303 §3.4.3). Its zero value has seen none.
type Window struct {
	highest uint32
	seen    uint64
}

// Take takes the number of a packet whose proof was looked at; false for one that came before, or
// so late that nobody knows.
func (w *Window) Take(number uint32) bool {
	if number == 0 || number <= w.highest &&
		(w.highest-number >= 64 || w.seen>>(w.highest-number)&1 == 1) {
		return false
	}
	if number > w.highest {
		w.seen <<= min(number-w.highest, 64)
		w.highest = number
	}
	w.seen |= 1 << (w.highest - number)
	return true
}
