package store

// shelf keeps what many plans of one snapshot share, such as gateways: it is read and opened once.
type shelf struct {
	items map[string]any
	left  int // how many more it takes
}

const mostShelved = 2_000

// Shelved is the same view of the records with a shelf. What comes from it is shared: nobody may
// change it.
func (tx *Tx) Shelved() *Tx {
	return &Tx{s: tx.s, q: tx.q, shelf: &shelf{map[string]any{}, mostShelved}}
}

// shelved takes a value from the shelf, or reads it and puts it there.
func shelved[T any](tx *Tx, key string, read func() (T, error)) (T, error) {
	if tx.shelf == nil {
		return read()
	}
	if v, ok := tx.shelf.items[key].(T); ok {
		return v, nil
	}
	v, err := read()
	if err == nil && tx.shelf.left > 0 {
		tx.shelf.items[key] = v
		tx.shelf.left--
	}
	return v, err
}
