package explain

// finder finds many parts in a text in one go, whatever their letters' size (Aho and Corasick,
// 1975). A newline begins again.
type finder struct {
	classes [256]uint8 // bytes that lead to the same places
	width   int
	next    []int32 // by state and class; when it is made, the place of a state's row
	found   [][]int // parts that end in a state
	ends    int32   // place of the first state in which a part ends: they come last
}

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
	return f
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

// order puts states in which a part ends last, and turns states into places of their rows, so that
// a step through a text is one addition and one comparison.
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

// first is where the first part of a text ends, -1 where there is none.
func (f *finder) first(text []byte) int {
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
