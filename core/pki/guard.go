package pki

import (
	"errors"
	"fmt"
)

// Bounds of what is taken apart, before anything of it costs work.
const (
	maxDepth    = 40      // of elements in elements
	maxElements = 100_000 // of one file
	maxKeyBits  = 8192    // RSA; no device takes more
	endOfBER    = 0       // two of these octets end a form without a length (X.690 §8.1.5)
)

var (
	errDER     = errors.New("DER that cannot be read")
	errTooMuch = errors.New("more than certificates and keys are made of")
)

// LargeKeyError is the error for numbers larger than any key in use.
type LargeKeyError struct{ Bits int }

func (e *LargeKeyError) Error() string {
	return fmt.Sprintf("found a number of %d bits, expected keys of at most %d", e.Bits, maxKeyBits)
}

// sound walks over DER, or BER as PKCS #7 comes in, once: it holds that nothing is deeper, more or
// larger than what certificates and keys in use are made of. What it lets pass costs little.
func sound(data []byte) error {
	s := scan{left: maxElements}
	_, err := s.elements(data, 0, false)
	return err
}

type scan struct{ left int }

// elements walks over elements until the data ends, or until the end of a form without a length.
func (s *scan) elements(data []byte, depth int, open bool) (rest []byte, err error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("%w: more than %d elements deep", errTooMuch, maxDepth)
	}
	for len(data) > 0 {
		if s.left--; s.left < 0 {
			return nil, fmt.Errorf("%w: more than %d elements", errTooMuch, maxElements)
		}
		if open && len(data) >= 2 && data[0] == endOfBER && data[1] == endOfBER {
			return data[2:], nil
		}
		tag := data[0]
		head := 1
		if tag&0x1f == 0x1f {
			for head < len(data) && head < 6 && data[head]&0x80 != 0 {
				head++
			}
			head++
		}
		if head >= len(data) {
			return nil, errDER
		}
		length := int(data[head])
		head++
		switch {
		case length == 0x80: // without a length
			if tag&0x20 == 0 {
				return nil, errDER
			}
			if data, err = s.elements(data[head:], depth+1, true); err != nil {
				return nil, err
			}
			continue
		case length > 0x80:
			n := length & 0x7f
			if n > 4 || head+n > len(data) {
				return nil, errDER
			}
			length = 0
			for _, b := range data[head : head+n] {
				length = length<<8 | int(b)
			}
			head += n
		}
		if length > len(data)-head {
			return nil, errDER
		}
		content := data[head : head+length]
		if err := s.content(tag, content, depth); err != nil {
			return nil, err
		}
		data = data[head+length:]
	}
	if open {
		return nil, errDER
	}
	return nil, nil
}

// content looks at what one element holds: numbers, further elements, and what lies packed in
// strings.
func (s *scan) content(tag byte, content []byte, depth int) error {
	switch {
	case tag == 0x02 && len(content)*8 > maxKeyBits+8:
		return &LargeKeyError{len(content) * 8}
	case tag&0x20 != 0:
		_, err := s.elements(content, depth+1, false)
		return err
	case tag == 0x03 && len(content) > 2 && content[0] == 0 && content[1] == 0x30:
		content = content[1:]
	case tag == 0x04 && len(content) > 2 && content[0] == 0x30:
	default:
		return nil
	}
	// What only looks like DER inside a string is no fault; its numbers count all the same.
	_, err := s.elements(content, depth+1, false)
	var large *LargeKeyError
	if errors.As(err, &large) || s.left < 0 || depth+1 > maxDepth {
		return err
	}
	return nil
}
