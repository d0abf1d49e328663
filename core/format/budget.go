package format

// Budget is what reading one lot of files may cost together: bytes of files that others name, each
// time that they are named, rounds of key derivation, and time. Every reader takes from it where it
// asks for a file beside its own; what it does with its own is bounded by MaxFile.
type Budget struct {
	Spent bool // something was refused

	bytes, rounds int64
	over          func() bool
}

// Shares of a lot's size.
const (
	leastBytes    = 64 << 20
	bytesPerByte  = 8
	perFile       = 1 << 10   // to look for one
	leastRounds   = 4_000_000 // a few seconds of work
	roundsPerByte = 1
)

// NewBudget is that of files of so many bytes together. Over tells that there is no more time, or
// that nobody waits any longer; nil never ends.
func NewBudget(size int64, over func() bool) *Budget {
	return &Budget{
		bytes:  leastBytes + size*bytesPerByte,
		rounds: leastRounds + size*roundsPerByte,
		over:   over,
	}
}

// Bound gives files out as long as the budget lasts.
func (b *Budget) Bound(beside Beside) Beside {
	return func(name string) ([]byte, bool) {
		if b.ended() {
			return nil, false
		}
		data, ok := beside.Get(name)
		if b.bytes -= int64(len(data)) + perFile; b.bytes < 0 {
			b.Spent = true
			return nil, false
		}
		return data, ok
	}
}

// Derive takes rounds of key derivation; false where there are not as many left.
func (b *Budget) Derive(rounds int64) bool {
	if rounds > 0 && (b.ended() || rounds > b.rounds) {
		b.Spent = true
		return false
	}
	b.rounds -= rounds
	return true
}

func (b *Budget) ended() bool {
	b.Spent = b.Spent || b.over != nil && b.over()
	return b.Spent
}
