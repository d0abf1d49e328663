package store

import "slices"

// Changed tells what has changed after a transaction: kinds of records, each once. It must not
// wait. It is set before the store is used.
type Changed func(topics []string)

// OnChange has a function told what every transaction has changed.
func (s *Store) OnChange(f Changed) { s.changed = f }

// note remembers that the transaction changes records of a kind.
func (tx *Tx) note(topic string) {
	if tx.topics != nil && !slices.Contains(*tx.topics, topic) {
		*tx.topics = append(*tx.topics, topic)
	}
}
