package service

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"golang.org/x/crypto/argon2"

	"wardicon/core/secret"
)

// cost is what hashing a password takes (RFC 9106 §3.1): passes, memory in KiB, lanes.
type cost struct {
	passes, memory uint32
	lanes          uint8
}

const hashSalt, hashLength = 16, 32

var (
	// hashCost is that of new passwords (RFC 9106 §4, second choice, with half the lanes).
	hashCost = cost{3, 64 << 10, 2}
	// oldCost is that of hashes that do not name theirs.
	oldCost = hashCost
)

// mostMemory and mostPasses bound what a hash may ask for.
const mostMemory, mostPasses = 1 << 20, 16

// HashQuickly lets tests hash hundreds of passwords; nothing but a test can call it.
func HashQuickly() {
	if !testing.Testing() {
		panic("passwords are hashed quickly in tests alone")
	}
	hashCost = cost{1, 1 << 10, 2}
}

func (c cost) sum(password secret.Text, salt []byte) []byte {
	return argon2.IDKey([]byte(password.Reveal()), salt, c.passes, c.memory, c.lanes, hashLength)
}

// hashPassword hashes a password, and names what it costs: $argon2id$v=19$m=M,t=T,p=P$SALT$HASH.
func hashPassword(password secret.Text) string {
	salt := make([]byte, hashSalt)
	_, _ = rand.Read(salt)
	c, b64 := hashCost, base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, c.memory, c.passes,
		c.lanes, b64(salt), b64(c.sum(password, salt)))
}

// hashParts reads a hash; false where it is none.
func hashParts(encoded string) (c cost, salt, sum []byte, ok bool) {
	b64 := base64.RawStdEncoding.DecodeString
	if data, err := b64(encoded); err == nil && len(data) == hashSalt+hashLength {
		return oldCost, data[:hashSalt], data[hashSalt:], true
	}
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 || parts[1] != "argon2id" || parts[2] != fmt.Sprintf("v=%d", argon2.Version) {
		return c, nil, nil, false
	}
	_, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &c.memory, &c.passes, &c.lanes)
	salt, err2 := b64(parts[4])
	sum, err3 := b64(parts[5])
	ok = err == nil && err2 == nil && err3 == nil && len(salt) == hashSalt && len(sum) == hashLength &&
		c.memory <= mostMemory && c.passes >= 1 && c.passes <= mostPasses && c.lanes >= 1
	return c, salt, sum, ok
}

// passwordFits takes as long for what is no hash as for one.
func passwordFits(encoded string, password secret.Text) bool {
	c, salt, sum, known := hashParts(encoded)
	if !known {
		c, salt, sum = hashCost, make([]byte, hashSalt), make([]byte, hashLength)
	}
	return subtle.ConstantTimeCompare(c.sum(password, salt), sum) == 1 && known
}

// hashOutdated tells whether a password should be hashed again once it is known.
func hashOutdated(encoded string) bool {
	c, _, _, ok := hashParts(encoded)
	return ok && (c != hashCost || !strings.HasPrefix(encoded, "$"))
}
