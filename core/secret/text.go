// Package secret holds what must not be seen: the type that keeps a secret out of
// logs and answers, the judgement of its strength, and the ways of writing it so
// that it cannot be misread.
package secret

import (
	"encoding/json"
	"fmt"
	"log/slog"
)

// Hidden is what stands in the place of a secret wherever one would be printed.
const Hidden = "[hidden]"

// Text is a secret. However it is printed, logged or encoded, only Hidden comes
// out; the one way to the value is Reveal. It is read from JSON as a string.
type Text struct{ value string }

// New wraps a secret.
func New(value string) Text { return Text{value} }

// Reveal returns the secret itself. Every call of it is a place to review.
func (t Text) Reveal() string { return t.value }

// IsZero tells whether there is no secret; encoders leave such a field out.
func (t Text) IsZero() bool { return t.value == "" }

// Equal compares two secrets.
func (t Text) Equal(other Text) bool { return t.value == other.value }

func (t Text) String() string { return Hidden }

// Format keeps the value out of every verb of package fmt.
func (t Text) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte(Hidden)) }

// LogValue keeps the value out of log/slog.
func (t Text) LogValue() slog.Value { return slog.StringValue(Hidden) }

// MarshalJSON writes Hidden, never the value.
func (t Text) MarshalJSON() ([]byte, error) { return json.Marshal(Hidden) }

// MarshalText writes Hidden, never the value (YAML, XML and map keys use it).
func (t Text) MarshalText() ([]byte, error) { return []byte(Hidden), nil }

// UnmarshalJSON takes a JSON string.
func (t *Text) UnmarshalJSON(data []byte) error {
	var s string
	if err := json.Unmarshal(data, &s); err != nil {
		return fmt.Errorf("a secret must be a string")
	}
	t.value = s
	return nil
}

// UnmarshalText takes the secret as it stands.
func (t *Text) UnmarshalText(data []byte) error {
	t.value = string(data)
	return nil
}
