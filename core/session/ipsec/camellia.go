package ipsec

import (
	"crypto/cipher"
	"encoding/binary"
	"fmt"
	"math/bits"
)

const camelliaBlock = 16

// camelliaBox is the first of four boxes of substitution (RFC 3713 §2.4.1); the others are made of
// it.
var camelliaBox = [256]byte{
	112, 130, 44, 236, 179, 39, 192, 229, 228, 133, 87, 53, 234, 12, 174, 65,
	35, 239, 107, 147, 69, 25, 165, 33, 237, 14, 79, 78, 29, 101, 146, 189,
	134, 184, 175, 143, 124, 235, 31, 206, 62, 48, 220, 95, 94, 197, 11, 26,
	166, 225, 57, 202, 213, 71, 93, 61, 217, 1, 90, 214, 81, 86, 108, 77,
	139, 13, 154, 102, 251, 204, 176, 45, 116, 18, 43, 32, 240, 177, 132, 153,
	223, 76, 203, 194, 52, 126, 118, 5, 109, 183, 169, 49, 209, 23, 4, 215,
	20, 88, 58, 97, 222, 27, 17, 28, 50, 15, 156, 22, 83, 24, 242, 34,
	254, 68, 207, 178, 195, 181, 122, 145, 36, 8, 232, 168, 96, 252, 105, 80,
	170, 208, 160, 125, 161, 137, 98, 151, 84, 91, 30, 149, 224, 255, 100, 210,
	16, 196, 0, 72, 163, 247, 117, 219, 138, 3, 230, 218, 9, 63, 221, 148,
	135, 92, 131, 2, 205, 74, 144, 51, 115, 103, 246, 243, 157, 127, 191, 226,
	82, 155, 216, 38, 200, 55, 198, 59, 129, 150, 111, 75, 19, 190, 99, 46,
	233, 121, 167, 140, 159, 110, 188, 142, 41, 245, 249, 182, 47, 253, 180, 89,
	120, 152, 6, 106, 231, 70, 113, 186, 212, 37, 171, 66, 136, 162, 141, 250,
	114, 7, 185, 85, 248, 238, 172, 10, 54, 73, 42, 104, 60, 56, 241, 164,
	64, 40, 211, 123, 187, 201, 67, 193, 21, 227, 173, 244, 119, 199, 128, 158,
}

// camellia is the cipher of RFC 3713 with a key of 256 bits.
type camellia struct {
	white  [4]uint64
	rounds [24]uint64
	layers [6]uint64
}

// half is a number of 128 bits.
type half struct{ hi, lo uint64 }

func (h half) left(n uint) half {
	n %= 128
	if n >= 64 {
		h, n = half{h.lo, h.hi}, n-64
	}
	if n == 0 {
		return h
	}
	return half{h.hi<<n | h.lo>>(64-n), h.lo<<n | h.hi>>(64-n)}
}

func (h half) xor(o half) half { return half{h.hi ^ o.hi, h.lo ^ o.lo} }

// newCamellia makes the subkeys (RFC 3713 §2.2).
func newCamellia(key []byte) (cipher.Block, error) {
	if len(key) != 32 {
		return nil, fmt.Errorf("a Camellia key of %d bytes, expected 32", len(key))
	}
	at := func(i int) uint64 { return binary.BigEndian.Uint64(key[8*i:]) }
	kl, kr := half{at(0), at(1)}, half{at(2), at(3)}
	mix := func(d half, a, b uint64) half {
		d.lo ^= camelliaRound(d.hi, a)
		d.hi ^= camelliaRound(d.lo, b)
		return d
	}
	ka := mix(kl.xor(kr), 0xA09E667F3BCC908B, 0xB67AE8584CAA73B2).xor(kl)
	ka = mix(ka, 0xC6EF372FE94F82BE, 0x54FF53A5F1D36F1C)
	kb := mix(ka.xor(kr), 0x10E527FADE682D1D, 0xB05688C2B3E6C1FD)
	c := &camellia{}
	put := func(to []uint64, from half, turn uint) {
		h := from.left(turn)
		to[0], to[1] = h.hi, h.lo
	}
	put(c.white[0:], kl, 0)
	put(c.white[2:], kb, 111)
	for i, r := range []struct {
		from half
		turn uint
	}{
		{kb, 0}, {kr, 15}, {ka, 15}, {kb, 30}, {kl, 45}, {ka, 45},
		{kr, 60}, {kb, 60}, {kl, 77}, {kr, 94}, {ka, 94}, {kl, 111},
	} {
		put(c.rounds[2*i:], r.from, r.turn)
	}
	put(c.layers[0:], kr, 30)
	put(c.layers[2:], kl, 60)
	put(c.layers[4:], ka, 77)
	return c, nil
}

// camelliaRound is the function F (RFC 3713 §2.4.1).
func camelliaRound(in, key uint64) uint64 {
	x := in ^ key
	box := func(shift uint) byte { return byte(x >> shift) }
	s1 := func(b byte) byte { return camelliaBox[b] }
	s2 := func(b byte) byte { return bits.RotateLeft8(camelliaBox[b], 1) }
	s3 := func(b byte) byte { return bits.RotateLeft8(camelliaBox[b], 7) }
	s4 := func(b byte) byte { return camelliaBox[bits.RotateLeft8(b, 1)] }
	t1, t2, t3, t4 := s1(box(56)), s2(box(48)), s3(box(40)), s4(box(32))
	t5, t6, t7, t8 := s2(box(24)), s3(box(16)), s4(box(8)), s1(box(0))
	return binary.BigEndian.Uint64([]byte{
		t1 ^ t3 ^ t4 ^ t6 ^ t7 ^ t8,
		t1 ^ t2 ^ t4 ^ t5 ^ t7 ^ t8,
		t1 ^ t2 ^ t3 ^ t5 ^ t6 ^ t8,
		t2 ^ t3 ^ t4 ^ t5 ^ t6 ^ t7,
		t1 ^ t2 ^ t6 ^ t7 ^ t8,
		t2 ^ t3 ^ t5 ^ t7 ^ t8,
		t3 ^ t4 ^ t5 ^ t6 ^ t8,
		t1 ^ t4 ^ t5 ^ t6 ^ t7,
	})
}

// camelliaLayer and camelliaLayerBack are FL and its inverse (RFC 3713 §2.4.2, §2.4.3).
func camelliaLayer(in, key uint64) uint64 {
	l, r := uint32(in>>32), uint32(in)
	r ^= bits.RotateLeft32(l&uint32(key>>32), 1)
	l ^= r | uint32(key)
	return uint64(l)<<32 | uint64(r)
}

func camelliaLayerBack(in, key uint64) uint64 {
	l, r := uint32(in>>32), uint32(in)
	l ^= r | uint32(key)
	r ^= bits.RotateLeft32(l&uint32(key>>32), 1)
	return uint64(l)<<32 | uint64(r)
}

func (c *camellia) BlockSize() int { return camelliaBlock }

// Encrypt encrypts a block (RFC 3713 §2.3.2).
func (c *camellia) Encrypt(dst, src []byte) {
	c.crypt(dst, src, func(i int) uint64 { return c.rounds[i] },
		func(i int) uint64 { return c.layers[i] }, c.white)
}

// Decrypt is Encrypt with the subkeys the other way round (RFC 3713 §2.3.2).
func (c *camellia) Decrypt(dst, src []byte) {
	c.crypt(dst, src, func(i int) uint64 { return c.rounds[23-i] },
		func(i int) uint64 { return c.layers[5-i] },
		[4]uint64{c.white[2], c.white[3], c.white[0], c.white[1]})
}

func (c *camellia) crypt(dst, src []byte, round, layer func(int) uint64, white [4]uint64) {
	l := binary.BigEndian.Uint64(src) ^ white[0]
	r := binary.BigEndian.Uint64(src[8:]) ^ white[1]
	for i := 0; i < len(c.rounds); i += 2 {
		if i > 0 && i%6 == 0 {
			at := i/3 - 2
			l, r = camelliaLayer(l, layer(at)), camelliaLayerBack(r, layer(at+1))
		}
		r ^= camelliaRound(l, round(i))
		l ^= camelliaRound(r, round(i+1))
	}
	binary.BigEndian.PutUint64(dst, r^white[2])
	binary.BigEndian.PutUint64(dst[8:], l^white[3])
}
