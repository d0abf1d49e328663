package explain

// finder finds many parts in a text in one go, whatever their letters' size (Aho and Corasick, 1975). A newline begins anew.
type finder struct {
	classes [256]uint8 // bytes that lead to the same places
	width   int
	next    []int32 // by state and class; when it is made, the place of a state's row
	found   [][]int // parts that end in a state
	ends    int32   // place of the first state in which a part ends: they come last

	// For looking in leaps (Wu and Manber, 1994): by three classes in a row, how far the next part can begin at the
	// soonest, and those whose first bytes end in them.
	parts   []string
	window  int // bytes that every part has at the least
	leap    []uint8
	windows [][]int32
}

// block is how many bytes a leap is looked up by.
const block = 3

func lower(b byte) byte {
	if b >= 'A' && b <= 'Z' {
		return b + 'a' - 'A'
	}
	return b
}

// newFinder makes one for parts in small letters.
func newFinder(parts []string) *finder {
	f := &finder{width: 1} // class 0 is every byte that no part has
	for _, part := range parts {
		for i := range len(part) {
			if b := part[i]; f.classes[b] == 0 {
				f.classes[b] = uint8(f.width)
				f.width++
			}
		}
	}
	for b := range 256 {
		f.classes[b] = f.classes[lower(byte(b))]
	}
	state := func() int32 {
		for range f.width {
			f.next = append(f.next, -1)
		}
		f.found = append(f.found, nil)
		return int32(len(f.found) - 1)
	}
	state()
	for id, part := range parts {
		at := int32(0)
		for i := range len(part) {
			to := &f.next[int(at)*f.width+int(f.classes[part[i]])]
			if *to < 0 {
				made := state()
				f.next[int(at)*f.width+int(f.classes[part[i]])] = made
				at = made
				continue
			}
			at = *to
		}
		f.found[at] = append(f.found[at], id)
	}
	f.link()
	f.order()
	f.leaps(parts)
	return f
}

// leaps fills in how far can be leapt.
func (f *finder) leaps(parts []string) {
	f.parts, f.window = parts, len(parts[0])
	for _, part := range parts {
		f.window = min(f.window, len(part))
	}
	f.leap, f.windows = make([]uint8, f.width*f.width*f.width), make([][]int32, f.width*f.width*f.width)
	most := max(1, f.window-block+1)
	for i := range f.leap {
		f.leap[i] = uint8(most)
	}
	for id, part := range parts {
		for at := 0; at+block <= f.window; at++ {
			key := f.key(part[at], part[at+1], part[at+2])
			f.leap[key] = min(f.leap[key], uint8(f.window-block-at))
			if at+block == f.window {
				f.windows[key] = append(f.windows[key], int32(id))
			}
		}
	}
}

func (f *finder) key(a, b, c byte) int {
	return (int(f.classes[a])*f.width+int(f.classes[b]))*f.width + int(f.classes[c])
}

// begins tells whether a text begins with a part, whatever the size of its letters.
func begins(text []byte, part string) bool {
	if len(text) < len(part) {
		return false
	}
	for i := range len(part) {
		if lower(text[i]) != part[i] {
			return false
		}
	}
	return true
}

// link fills in where each state goes on when a part ends short.
func (f *finder) link() {
	back := make([]int32, len(f.found))
	var queue []int32
	for class := range f.width {
		if to := f.next[class]; to < 0 {
			f.next[class] = 0
		} else {
			queue = append(queue, to)
		}
	}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		f.found[at] = append(f.found[at], f.found[back[at]]...)
		for class := range f.width {
			place, fallback := int(at)*f.width+class, f.next[int(back[at])*f.width+class]
			if to := f.next[place]; to < 0 {
				f.next[place] = fallback
			} else {
				back[to] = fallback
				queue = append(queue, to)
			}
		}
	}
}

// order puts states in which a part ends last, and turns states into places of their rows, so that a step through a text is
// one addition and one comparison.
func (f *finder) order() {
	place := make([]int32, len(f.found)) // by old state
	var states []int
	for _, ends := range []bool{false, true} {
		if ends {
			f.ends = int32(len(states) * f.width)
		}
		for state := range f.found {
			if len(f.found[state]) > 0 == ends {
				place[state] = int32(len(states) * f.width)
				states = append(states, state)
			}
		}
	}
	next, found := make([]int32, len(f.next)), make([][]int, len(f.found))
	for i, state := range states {
		found[i] = f.found[state]
		for class := range f.width {
			next[i*f.width+class] = place[f.next[state*f.width+class]]
		}
	}
	f.next, f.found = next, found
}

// first is a place within the first part of a text, -1 where there is none.
func (f *finder) first(text []byte) int {
	if f.window < block {
		return f.step(text)
	}
	leap, classes, width := f.leap, &f.classes, f.width
	for i := f.window - 1; i < len(text); {
		key := (int(classes[text[i-2]])*width+int(classes[text[i-1]]))*width + int(classes[text[i]])
		if far := int(leap[key]); far > 0 {
			i += far
			continue
		}
		for _, id := range f.windows[key] {
			if begins(text[i-f.window+1:], f.parts[id]) {
				return i
			}
		}
		i++
	}
	return -1
}

// step looks at every byte, for parts that are too short to leap.
func (f *finder) step(text []byte) int {
	next, classes, ends, at := f.next, &f.classes, f.ends, int32(0)
	for i, b := range text {
		if at = next[at+int32(classes[b])]; at >= ends {
			return i
		}
	}
	return -1
}

// all are the parts of a line, each once.
func (f *finder) all(line []byte) map[int]bool {
	hits := map[int]bool{}
	at := int32(0)
	for _, b := range line {
		if at = f.next[at+int32(f.classes[b])]; at < f.ends {
			continue
		}
		for _, id := range f.found[int(at)/f.width] {
			hits[id] = true
		}
	}
	return hits
}
