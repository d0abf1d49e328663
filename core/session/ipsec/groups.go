// Package ipsec is what both versions of IKE have in common: Diffie-Hellman groups, how messages
// and packets are protected, ESP (RFC 4303), and how an end calls itself. It opens no sockets.
package ipsec

import (
	"crypto/ecdh"
	"errors"
	"fmt"
	"io"
	"math/big"
	"sync"

	"wardicon/core/suite"
)

// Half is this end's half of a key exchange: what is sent, and what makes the secret of both.
type Half struct {
	Public []byte
	Agree  func(peer []byte) ([]byte, error)
}

var curves = map[string]ecdh.Curve{
	"ecp256":     ecdh.P256(),
	"ecp384":     ecdh.P384(),
	"ecp521":     ecdh.P521(),
	"curve25519": ecdh.X25519(),
}

// ErrGroup says that a group is not spoken here.
var ErrGroup = errors.New("this Diffie-Hellman group cannot be used here")

// NewHalf begins a key exchange in a group (RFC 7296 §2.14, RFC 5903, RFC 8031, RFC 3526).
func NewHalf(g suite.Algorithm, random io.Reader) (Half, error) {
	if curve, ok := curves[g.Name]; ok {
		return onCurve(curve, g.Name != "curve25519", random)
	}
	if g.Name == curve448 {
		return newX448(random)
	}
	p, ok := prime(g.Bits)
	base := big.NewInt(2)
	if g.Name == subgroup {
		p, base = subgroupPrime, subgroupBase
	}
	if !ok {
		return Half{}, fmt.Errorf("%s: %w", g.Name, ErrGroup)
	}
	size := g.Bits / 8
	b := make([]byte, min(size, 64)) // 512 bits are more than any of these groups is worth
	if _, err := io.ReadFull(random, b); err != nil {
		return Half{}, err
	}
	x := new(big.Int).SetBytes(b)
	public := new(big.Int).Exp(base, x, p).FillBytes(make([]byte, size))
	return Half{public, func(peer []byte) ([]byte, error) {
		y := new(big.Int).SetBytes(peer)
		// Neither of the elements that make the secret known (RFC 6989 §2.1).
		if len(peer) != size || y.Cmp(big.NewInt(1)) <= 0 ||
			y.Cmp(new(big.Int).Sub(p, big.NewInt(1))) >= 0 {
			return nil, errors.New("the gateway's half of the key exchange is not of the group")
		}
		return new(big.Int).Exp(y, x, p).FillBytes(make([]byte, size)), nil
	}}, nil
}

func onCurve(curve ecdh.Curve, point bool, random io.Reader) (Half, error) {
	key, err := curve.GenerateKey(random)
	if err != nil {
		return Half{}, err
	}
	public := key.PublicKey().Bytes()
	if point {
		public = public[1:] // without the sign of an uncompressed point (RFC 5903 §7)
	}
	return Half{public, func(peer []byte) ([]byte, error) {
		if point {
			peer = append([]byte{4}, peer...)
		}
		its, err := curve.NewPublicKey(peer)
		if err != nil {
			return nil, errors.New("the gateway's half of the key exchange is not of the group")
		}
		return key.ECDH(its)
	}}, nil
}

// Agrees tells whether a group is spoken here.
func Agrees(g suite.Algorithm) bool {
	_, curve := curves[g.Name]
	return curve || g.Name == curve448 || offsets[g.Bits] != 0
}

const (
	curve448 = "curve448"
	subgroup = "modp1024s160" // whose elements are of a subgroup with 2^160 members
)

// The prime and the base of that group (RFC 5114 §2.1).
var (
	subgroupPrime, _ = new(big.Int).SetString("B10B8F96A080E01DDE92DE5EAE5D54EC52C99FBCFB06A3C6"+
		"9A6A9DCA52D23B616073E28675A23D189838EF1E2EE652C013ECB4AEA906112324975C3CD49B83BFACCBDD7D"+
		"90C4BD7098488E9C219A73724EFFD6FAE5644738FAA31A4FF55BCCC0A151AF5F0DC8B4BD45BF37DF365C1A65"+
		"E68CFDA76D4DA708DF1FB2BC2E4A4371", 16)
	subgroupBase, _ = new(big.Int).SetString("A4D1CBD5C3FD34126765A442EFB99905F8104DD258AC507F"+
		"D6406CFF14266D31266FEA1E5C41564B777E690F5504F213160217B4B01B886A5E91547F9E2749F4D7FBD7D3"+
		"B9A92EE1909D0D2263F80A76A6A24C087A091F531DBF0A0169B6A28AD662A4D18E73AFA32D779D5918D08BC8"+
		"858F4DCEF97C2A24855E6EEB22B3B2E5", 16)
)

// offsets are the numbers that make primes of the formula below (RFC 2409 §6, RFC 3526).
var offsets = map[int]int64{
	768: 149686, 1024: 129093, 1536: 741804, 2048: 124476, 3072: 1690314, 4096: 240904,
	6144: 929484, 8192: 4743158,
}

var primes sync.Map

// prime is the prime of a group of a size in bits: 2^n - 2^(n-64) - 1 + 2^64 * ([2^(n-130) pi] + c)
// (RFC 3526).
func prime(bits int) (*big.Int, bool) {
	c, ok := offsets[bits]
	if !ok {
		return nil, false
	}
	if p, ok := primes.Load(bits); ok {
		return p.(*big.Int), true
	}
	power := func(n int) *big.Int { return new(big.Int).Lsh(big.NewInt(1), uint(n)) }
	p := power(bits)
	p.Sub(p, power(bits-64))
	p.Sub(p, big.NewInt(1))
	middle := pi(bits - 130)
	middle.Add(middle, big.NewInt(c))
	p.Add(p, middle.Lsh(middle, 64))
	primes.Store(bits, p)
	return p, true
}

// pi is the integer part of 2^n pi, by Machin's formula.
func pi(n int) *big.Int {
	const guard = 64
	one := new(big.Int).Lsh(big.NewInt(1), uint(n+guard))
	arctan := func(x int64) *big.Int { // of 1/x
		sum, term := new(big.Int), new(big.Int).Quo(one, big.NewInt(x))
		square := big.NewInt(x * x)
		for k := int64(1); term.Sign() != 0; k += 2 {
			part := new(big.Int).Quo(term, big.NewInt(k))
			if k%4 == 1 {
				sum.Add(sum, part)
			} else {
				sum.Sub(sum, part)
			}
			term.Quo(term, square)
		}
		return sum
	}
	a, b := arctan(5), arctan(239)
	a.Mul(a, big.NewInt(16))
	b.Mul(b, big.NewInt(4))
	return a.Sub(a, b).Rsh(a, guard)
}
