package secret

import (
	"crypto/hmac"
	"crypto/sha256"
	"sync"
)

// Memo remembers estimates, because making one takes milliseconds. It knows a secret
// only by its HMAC under a key that should live as long as the process. It is safe
// for use by several goroutines.
type Memo struct {
	key   []byte
	limit int
	mu    sync.Mutex
	known map[[sha256.Size]byte]Estimate
}

// NewMemo makes a memo for at most limit estimates.
func NewMemo(key []byte, limit int) *Memo {
	return &Memo{key: key, limit: limit, known: make(map[[sha256.Size]byte]Estimate)}
}

// Judge is the function Judge, remembered.
func (m *Memo) Judge(t Text, words ...string) Estimate {
	mac := hmac.New(sha256.New, m.key)
	for _, part := range append([]string{t.value}, words...) {
		mac.Write(
			[]byte{
				byte(len(part) >> 24),
				byte(len(part) >> 16),
				byte(len(part) >> 8),
				byte(len(part)),
			},
		)
		mac.Write([]byte(part))
	}
	var id [sha256.Size]byte
	mac.Sum(id[:0])
	m.mu.Lock()
	e, ok := m.known[id]
	m.mu.Unlock()
	if ok {
		return e
	}
	e = Judge(t, words...)
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.known) >= m.limit {
		clear(m.known)
	}
	m.known[id] = e
	return e
}
