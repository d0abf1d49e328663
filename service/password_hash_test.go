package service

import (
	"strings"
	"testing"

	"wardicon/core/secret"
)

// TestPasswordHash takes what the reference implementation of Argon2 wrote (argon2 -id -t 2 -m 12 -p 3),
// and refuses what is no hash of ours or asks for more than a machine has.
func TestPasswordHash(t *testing.T) {
	right := secret.New("anchor-velvet-52-pepper-rudder")
	const reference = "$argon2id$v=19$m=4096,t=2,p=3$c2tlcnJ5IGxpbmUgc2FsdA$siQDB79rolMYvIoB7hSFNReNjgVA9UHOLXG0qC9mMwg"
	for encoded, fits := range map[string]bool{
		reference:           true,
		hashPassword(right): true,
		"":                  false,
		strings.Replace(reference, "t=2", "t=3", 1):                 false,
		strings.Replace(reference, "m=4096", "m=4294967295", 1):     false,
		strings.Replace(reference, "t=2", "t=4294967295", 1):        false,
		strings.Replace(reference, "p=3", "p=0", 1):                 false,
		strings.Replace(reference, "argon2id", "argon2i", 1):        false,
		strings.TrimSuffix(reference, reference[len(reference)-4:]): false,
	} {
		if passwordFits(encoded, right) != fits {
			t.Errorf("%s fits: %t, expected %t", encoded, !fits, fits)
		}
		if passwordFits(encoded, secret.New("anchor-velvet-52-pepper-rudders")) {
			t.Errorf("%s fits another password", encoded)
		}
	}
	if hashOutdated(hashPassword(right)) || !hashOutdated(reference) || hashOutdated("") {
		t.Error("what is hashed otherwise than now is not told from the rest")
	}
}
