package ppp

// Framing like HDLC's on lines of bytes (RFC 1662 §4).
const (
	flag    = 0x7E
	escape  = 0x7D
	goodFCS = 0xF0B8
)

func fcs(sum uint16, b byte) uint16 {
	sum ^= uint16(b)
	for range 8 {
		if sum&1 == 1 {
			sum = sum>>1 ^ 0x8408
		} else {
			sum >>= 1
		}
	}
	return sum
}

// Stuff writes a frame between flags, with its check sequence; every byte that could be a
// control character is escaped.
func Stuff(frame []byte) []byte {
	sum := uint16(0xFFFF)
	for _, b := range frame {
		sum = fcs(sum, b)
	}
	sum ^= 0xFFFF
	out := []byte{flag}
	for _, b := range append(append([]byte{}, frame...), byte(sum), byte(sum>>8)) {
		if b < 0x20 || b == flag || b == escape {
			out = append(out, escape, b^0x20)
			continue
		}
		out = append(out, b)
	}
	return append(out, flag)
}

// Unstuffer takes frames out of a stream of bytes.
type Unstuffer struct {
	frame   []byte
	escaped bool
	long    bool
}

// Write takes bytes and gives back the whole frames among them; a frame whose check sequence
// is wrong, or that is too long, is dropped.
func (u *Unstuffer) Write(b []byte) (frames [][]byte) {
	for _, c := range b {
		switch {
		case c == flag:
			if sum := uint16(0xFFFF); len(u.frame) > 4 && !u.long && !u.escaped {
				for _, v := range u.frame {
					sum = fcs(sum, v)
				}
				if sum == goodFCS {
					frames = append(frames, append([]byte{}, u.frame[:len(u.frame)-2]...))
				}
			}
			u.frame, u.escaped, u.long = u.frame[:0], false, false
		case c == escape:
			u.escaped = true
		case len(u.frame) >= MaxFrame+2:
			u.long = true
		default:
			if u.escaped {
				c, u.escaped = c^0x20, false
			}
			u.frame = append(u.frame, c)
		}
	}
	return frames
}
