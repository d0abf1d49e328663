package ipsec

import (
	"bytes"
	"encoding/pem"
	"fmt"
	"os/exec"
	"strings"
	"testing"
)

// TestPrimes holds the primes of the groups to what RFC 2409 §6 and RFC 3526 print at both ends,
// and to be safe primes.
func TestPrimes(t *testing.T) {
	const head = "ffffffffffffffffc90fdaa22168c234"
	for bits, tail := range map[int]string{
		1024: "49286651ece65381ffffffffffffffff", 1536: "ca237327ffffffffffffffff",
		2048: "15728e5a8aacaa68ffffffffffffffff", 3072: "a93ad2caffffffffffffffff",
		4096: "34063199ffffffffffffffff",
	} {
		p, ok := prime(bits)
		if !ok {
			t.Fatalf("no prime of %d bits", bits)
		}
		text := p.Text(16)
		half := *p
		if !strings.HasPrefix(text, head) || !strings.HasSuffix(text, tail) ||
			p.BitLen() != bits || !p.ProbablyPrime(1) || !half.Rsh(&half, 1).ProbablyPrime(1) {
			t.Errorf("%d bits: %s…%s", bits, text[:32], text[len(text)-32:])
		}
	}
}

// TestPrimesOutside asks another library for them, and for the larger ones.
func TestPrimesOutside(t *testing.T) {
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("no openssl here")
	}
	for _, bits := range []int{1536, 2048, 3072, 4096, 6144, 8192} {
		out, err := exec.Command("openssl", "genpkey", "-genparam", "-algorithm", "DHX", "-pkeyopt",
			fmt.Sprintf("group:modp_%d", bits)).Output()
		if err != nil {
			t.Skipf("openssl has no group of %d bits: %v", bits, err)
		}
		block, _ := pem.Decode(out)
		if block == nil {
			t.Fatalf("openssl says %s", out)
		}
		if p, _ := prime(bits); !bytes.Contains(block.Bytes, p.Bytes()) {
			t.Errorf("openssl has another prime of %d bits", bits)
		}
	}
}
