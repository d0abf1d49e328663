package explain

import (
	"bytes"
	"slices"
)

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

// lanes are how many stretches of a text are walked side by side: a step waits for the memory of
// the step before it, and steps of several stretches wait at the same time.
const lanes = 4

// hits are the lines of a text that have a part, each by where its first part ends, in their order.
func (f *finder) hits(text []byte) []int {
	var at, end [lanes]int
	var found [lanes][]int
	var state [lanes]int32
	for i := range lanes {
		if i > 0 {
			at[i] = end[i-1]
		}
		end[i] = len(text)
		if rest := len(text) / lanes * (i + 1); i < lanes-1 && rest >= at[i] {
			if n := bytes.IndexByte(text[rest:], '\n'); n >= 0 {
				end[i] = rest + n + 1
			}
		}
	}
	hit := func(i int) {
		found[i] = append(found[i], at[i])
		n := bytes.IndexByte(text[at[i]:end[i]], '\n')
		if n < 0 {
			n = end[i] - at[i] - 1
		}
		at[i], state[i] = at[i]+n+1, 0
	}
	next, classes, ends := f.next, &f.classes, f.ends
	for {
		// as many steps as every stretch has left
		n := min(end[0]-at[0], end[1]-at[1], end[2]-at[2], end[3]-at[3])
		if n == 0 {
			break
		}
		a, b, c, d := text[at[0]:][:n], text[at[1]:][:n], text[at[2]:][:n], text[at[3]:][:n]
		p, q, r, s := state[0], state[1], state[2], state[3]
		k := 0
		for ; k < n; k++ {
			p = next[p+int32(classes[a[k]])]
			q = next[q+int32(classes[b[k]])]
			r = next[r+int32(classes[c[k]])]
			s = next[s+int32(classes[d[k]])]
			if max(p, q, r, s) >= ends {
				break
			}
		}
		state = [lanes]int32{p, q, r, s}
		for i := range lanes {
			switch at[i] += k; {
			case k == n:
			case state[i] >= ends:
				hit(i)
			default:
				at[i]++
			}
		}
	}
	for i := range lanes {
		for at[i] < end[i] {
			p := state[i]
			for ; at[i] < end[i]; at[i]++ {
				if p = next[p+int32(classes[text[at[i]]])]; p >= ends {
					hit(i)
					p = state[i]
					at[i]--
				}
			}
		}
	}
	return slices.Concat(found[:]...)
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
