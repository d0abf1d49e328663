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
