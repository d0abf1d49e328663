package ipsec

import (
	"bytes"
	"errors"
	"io"
	"math/big"
	"slices"
)

const x448Size = 56 // bytes of a scalar and of a coordinate

var x448Prime = func() *big.Int {
	p := new(big.Int).Lsh(big.NewInt(1), 448)
	p.Sub(p, new(big.Int).Lsh(big.NewInt(1), 224))
	return p.Sub(p, big.NewInt(1))
}()

// x448 multiplies a point of curve448 by a scalar (RFC 7748 §5). Its time depends on the numbers:
// the scalar is used once, in a connection that carries nothing of anybody.
func x448(scalar, point []byte) []byte {
	k := slices.Clone(scalar)
	k[0] &= 252
	k[55] |= 128
	number := func(b []byte) *big.Int {
		b = slices.Clone(b)
		slices.Reverse(b)
		return new(big.Int).SetBytes(b)
	}
	mod := func(v *big.Int) *big.Int { return v.Mod(v, x448Prime) }
	mul := func(a, b *big.Int) *big.Int { return mod(new(big.Int).Mul(a, b)) }
	add := func(a, b *big.Int) *big.Int { return mod(new(big.Int).Add(a, b)) }
	sub := func(a, b *big.Int) *big.Int { return mod(new(big.Int).Sub(a, b)) }
	u, bits := mod(number(point)), number(k)
	x2, z2, x3, z3 := big.NewInt(1), big.NewInt(0), u, big.NewInt(1)
	for t := 447; t >= 0; t-- {
		one := bits.Bit(t) == 1
		if one {
			x2, z2, x3, z3 = x3, z3, x2, z2
		}
		a, b := add(x2, z2), sub(x2, z2)
		aa, bb := mul(a, a), mul(b, b)
		e := sub(aa, bb)
		da, cb := mul(sub(x3, z3), a), mul(add(x3, z3), b)
		x3, z3 = add(da, cb), sub(da, cb)
		x3, z3 = mul(x3, x3), mul(u, mul(z3, z3))
		x2, z2 = mul(aa, bb), mul(e, add(aa, mul(big.NewInt(39081), e)))
		if one {
			x2, z2, x3, z3 = x3, z3, x2, z2
		}
	}
	out := mul(x2, new(big.Int).Exp(z2, new(big.Int).Sub(x448Prime, big.NewInt(2)), x448Prime)).
		FillBytes(make([]byte, x448Size))
	slices.Reverse(out)
	return out
}

// newX448 begins a key exchange on curve448 (RFC 8031, RFC 7748 §6.2).
func newX448(random io.Reader) (Half, error) {
	scalar := make([]byte, x448Size)
	if _, err := io.ReadFull(random, scalar); err != nil {
		return Half{}, err
	}
	base := make([]byte, x448Size)
	base[0] = 5
	return Half{x448(scalar, base), func(peer []byte) ([]byte, error) {
		if len(peer) == x448Size {
			if secret := x448(scalar, peer); !bytes.Equal(secret, make([]byte, x448Size)) {
				return secret, nil
			}
		}
		return nil, errors.New("the gateway's half of the key exchange is not of the group")
	}}, nil
}
