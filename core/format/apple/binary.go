package apple

import (
	"encoding/binary"
	"fmt"
	"math"
	"unicode/utf16"

	"wardicon/core/format"
	"wardicon/core/format/tree"
)

// Apple: CFBinaryPList.c describes the form "bplist00": a head, objects, a table of their
// offsets, and a trailer of 32 bytes. An object may be referred to often, so the nodes that
// come of it are counted, not the objects. There are no lines: every place is in the first.
const (
	binaryMark    = "bplist00"
	binaryTrailer = 32
)

type binaryReader struct {
	data          []byte
	file          string
	offsets       []byte
	width, refs   int // bytes of an offset, and of a reference
	objects, left int
}

// parseBinary reads a binary property list.
func parseBinary(file string, data []byte) (*tree.Node, error) {
	fault := func(what string) error {
		return &tree.SyntaxError{At: format.Position{File: file, Line: 1, Column: 1}, What: what}
	}
	if len(data) < len(binaryMark)+binaryTrailer || string(data[:len(binaryMark)]) != binaryMark {
		return nil, fault(tree.ExpiresEarly)
	}
	t := data[len(data)-binaryTrailer:]
	b := &binaryReader{
		data:  data[:len(data)-binaryTrailer],
		file:  file,
		width: int(t[6]),
		refs:  int(t[7]),
		left:  tree.MaxNodes,
	}
	count, top, table := binary.BigEndian.Uint64(
		t[8:],
	), binary.BigEndian.Uint64(
		t[16:],
	), binary.BigEndian.Uint64(
		t[24:],
	)
	size := uint64(len(b.data))
	if b.width < 1 || b.width > 8 || b.refs < 1 || b.refs > 8 || count > size || top >= count ||
		table > size ||
		count*uint64(b.width) > size-table {
		return nil, fault(tree.ExpiresEarly)
	}
	b.objects, b.offsets = int(count), b.data[table:table+count*uint64(b.width)]
	n, err := b.node(top, "", 0)
	if err != nil {
		return nil, fault(err.Error())
	}
	return n, nil
}

func number(b []byte) uint64 {
	var v uint64
	for _, x := range b {
		v = v<<8 | uint64(x)
	}
	return v
}

// node reads one object. Depth and number are bounded, so references in a ring end too.
func (b *binaryReader) node(ref uint64, path string, depth int) (*tree.Node, error) {
	if b.left--; b.left < 0 || depth > tree.MaxDepth {
		return nil, fmt.Errorf("more values, or deeper ones, than any profile has")
	}
	if ref >= uint64(b.objects) {
		return nil, fmt.Errorf("a reference that leads nowhere")
	}
	at := number(b.offsets[ref*uint64(b.width) : (ref+1)*uint64(b.width)])
	if at >= uint64(len(b.data)) {
		return nil, fmt.Errorf("an offset outside the file")
	}
	n := &tree.Node{At: format.Position{File: b.file, Line: 1, Column: 1, Path: path}}
	rest, kind, info := b.data[at+1:], b.data[at]>>4, int(b.data[at]&0x0F)
	take := func(size int) ([]byte, error) {
		if size < 0 || size > len(rest) {
			return nil, fmt.Errorf("%s", tree.ExpiresEarly)
		}
		out := rest[:size]
		rest = rest[size:]
		return out, nil
	}
	if (kind >= 0x4 && kind <= 0x6 || kind >= 0xA && kind <= 0xD) && info == 0x0F {
		head, err := take(1)
		if err != nil || head[0]>>4 != 0x1 || head[0]&0x0F > 3 {
			return nil, fmt.Errorf("a length that is none")
		}
		long, err := take(1 << (head[0] & 0x0F))
		if err != nil || number(long) > uint64(len(rest)) {
			return nil, fmt.Errorf("%s", tree.ExpiresEarly)
		}
		info = int(number(long))
	}
	switch kind {
	case 0x0:
		n.Kind = map[int]string{0x8: "false", 0x9: "true"}[info]
		if n.Kind == "" {
			n.Kind = "null"
		}
	case 0x1:
		raw, err := take(1 << info)
		if err != nil {
			return nil, err
		}
		n.Kind, n.Text = "integer", fmt.Sprint(int64(number(raw[max(0, len(raw)-8):])))
	case 0x2:
		raw, err := take(1 << info)
		if err != nil {
			return nil, err
		}
		v := math.Float64frombits(number(raw))
		if len(raw) == 4 {
			v = float64(math.Float32frombits(uint32(number(raw))))
		}
		n.Kind, n.Text = "real", fmt.Sprint(v)
		wholeNumber(n)
	case 0x3:
		if _, err := take(8); err != nil {
			return nil, err
		}
		n.Kind = "date"
	case 0x4, 0x5:
		raw, err := take(info)
		if err != nil {
			return nil, err
		}
		if n.Kind, n.Text = "string", string(raw); kind == 0x4 {
			n.Kind, n.Text, n.Data = "data", "", raw
		}
	case 0x6:
		raw, err := take(2 * info)
		if err != nil {
			return nil, err
		}
		units := make([]uint16, info)
		for i := range units {
			units[i] = binary.BigEndian.Uint16(raw[2*i:])
		}
		n.Kind, n.Text = "string", string(utf16.Decode(units))
	case 0xA:
		raw, err := take(info * b.refs)
		if err != nil {
			return nil, err
		}
		n.Kind = "array"
		for i := range info {
			v, err := b.node(
				number(raw[i*b.refs:(i+1)*b.refs]),
				fmt.Sprintf("%s[%d]", path, i),
				depth+1,
			)
			if err != nil {
				return nil, err
			}
			n.Items = append(n.Items, v)
		}
	case 0xD:
		raw, err := take(2 * info * b.refs)
		if err != nil {
			return nil, err
		}
		n.Kind = "dict"
		for i := range info {
			key, err := b.node(number(raw[i*b.refs:(i+1)*b.refs]), path, depth+1)
			if err != nil {
				return nil, err
			}
			inner := key.Text
			if path != "" {
				inner = path + "." + inner
			}
			v, err := b.node(number(raw[(info+i)*b.refs:(info+i+1)*b.refs]), inner, depth+1)
			if err != nil {
				return nil, err
			}
			n.Dict = append(n.Dict, tree.Entry{Key: key.Text, At: v.At, Value: v})
		}
	default:
		return nil, fmt.Errorf("a value of a kind that no profile has")
	}
	return n, nil
}
