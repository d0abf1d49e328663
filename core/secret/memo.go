package secret

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"sync"
)

// Memo remembers estimates, because making one takes milliseconds. It knows a secret
// only by its HMAC under a key that should live as long as the process. It is safe
// for use by several goroutines.
type Memo struct {
	macs  sync.Pool // of hash.Hash, keyed
	limit int
	mu    sync.Mutex
	known map[[sha256.Size]byte]Estimate
}

// NewMemo makes a memo for at most limit estimates.
func NewMemo(key []byte, limit int) *Memo {
	return &Memo{
		macs:  sync.Pool{New: func() any { return hmac.New(sha256.New, key) }},
		limit: limit, known: make(map[[sha256.Size]byte]Estimate),
	}
}

// ID stands for a secret and some words: equal ones have the same, and nobody can tell them by it.
func (m *Memo) ID(t Text, words ...string) (id [sha256.Size]byte) {
	mac := m.macs.Get().(hash.Hash)
	text := make([]byte, 0, 128)
	for i := range len(words) + 1 {
		part := t.value
		if i > 0 {
			part = words[i-1]
		}
		text = append(binary.BigEndian.AppendUint32(text, uint32(len(part))), part...)
	}
	mac.Write(text)
	mac.Sum(id[:0])
	mac.Reset()
	m.macs.Put(mac)
	clear(text)
	return id
}

// Judge is the function Judge, remembered.
func (m *Memo) Judge(t Text, words ...string) Estimate {
	id := m.ID(t, words...)
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
