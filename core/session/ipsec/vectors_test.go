package ipsec

import (
	"bytes"
	"crypto/aes"
	"encoding/hex"
	"math/big"
	"os/exec"
	"strings"
	"testing"
)

func unhex(t *testing.T, v string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(v, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestFunctions holds the pseudo-random functions to what RFC 4434 §2, RFC 4615 §4, RFC 3566 §4.6
// and RFC 4493 §4 print.
func TestFunctions(t *testing.T) {
	const key = "000102030405060708090a0b0c0d0e0f"
	const text20 = "000102030405060708090a0b0c0d0e0f10111213"
	const aesKey = "2b7e151628aed2a6abf7158809cf4f3c"
	for _, v := range []struct{ prf, key, text, want string }{
		{"prfaesxcbc", key, text20, "47f51b4564966215b8985c63055ed308"},
		{"prfaesxcbc", key[:20], text20, "0fa087af7d866e7653434e602fdde835"},
		{"prfaesxcbc", key + "edcb", text20, "8cd3c93ae598a9803006ffb67c40e9e4"},
		{"prfaesxcbc", key, "", "75f0251d528ac01c4573dfd584d79f29"},
		{"prfaesxcbc", key, "000102", "5b376580ae2f19afe7219ceef172756f"},
		{"prfaesxcbc", key, key, "d2a246fa349b68a79998a4394ff7a263"},
		{"prfaescmac", key + "edcb", text20, "84a348a4a45d235babfffc0d2b4da09a"},
		{"prfaescmac", key, text20, "980ae87b5f4c9c5214f5b6a8455e4c2d"},
		{"prfaescmac", key[:20], text20, "290d9e112edb09ee141fcf64c0b72f3d"},
		{"prfaescmac", aesKey, "", "bb1d6929e95937287fa37d129b756746"},
		{"prfaescmac", aesKey, "6bc1bee22e409f96e93d7e117393172a",
			"070a16b46b4d4144f79bdd9dd04a287c"},
		{"prfaescmac", aesKey, "6bc1bee22e409f96e93d7e117393172aae2d8a571e03ac9c9eb76fac45af8e51" +
			"30c81c46a35ce411", "dfa66747de9ae63030ca32611497c827"},
	} {
		got := hex.EncodeToString(PRFs[v.prf].Of(unhex(t, v.key), unhex(t, v.text)))
		if got != v.want {
			t.Errorf("%s of %q with %s: got %s, expected %s", v.prf, v.text, v.key, got, v.want)
		}
	}
	// HKDF-Expand of RFC 5869 A.1 is prf+ with a counter of one byte.
	prk := unhex(t, "077709362c2e32df0ddc3f0dc47bba6390b6c73bb50f9c3122ec844ad7c2b3e5")
	const okm = "3cb25f25faacd57a90434f64d0362f2a2d2d0a90cf1a5a4c5db02d56ecc4c5bf34007208d5b887185865"
	got := hex.EncodeToString(PRFs["prfsha256"].Expand(prk, unhex(t, "f0f1f2f3f4f5f6f7f8f9"), 42))
	if got != okm {
		t.Errorf("got %s, expected %s", got, okm)
	}
}

// TestCamellia holds the cipher to RFC 3713 Appendix A and to another library, both ways.
func TestCamellia(t *testing.T) {
	key := unhex(t, "0123456789abcdeffedcba987654321000112233445566778899aabbccddeeff")
	text := unhex(t, "0123456789abcdeffedcba9876543210")
	c, err := newCamellia(key)
	if err != nil {
		t.Fatal(err)
	}
	sealed, back := make([]byte, 16), make([]byte, 16)
	c.Encrypt(sealed, text)
	c.Decrypt(back, sealed)
	if hex.EncodeToString(sealed) != "9acc237dff16d76c20ef7c919e3a7509" || !bytes.Equal(back, text) {
		t.Errorf("got %x and %x", sealed, back)
	}
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("no openssl here")
	}
	for i := range 8 {
		key := bytes.Repeat([]byte{byte(37 * i), byte(200 - i), byte(i * i)}, 11)[:32]
		cmd := exec.Command("openssl", "enc", "-camellia-256-ecb", "-nopad", "-K",
			hex.EncodeToString(key))
		cmd.Stdin = bytes.NewReader(text)
		out, err := cmd.Output()
		if err != nil {
			t.Skipf("openssl has no Camellia: %v", err)
		}
		c, _ := newCamellia(key)
		if c.Encrypt(sealed, text); !bytes.Equal(sealed, out) {
			t.Errorf("key %x: got %x, openssl has %x", key, sealed, out)
		}
	}
}

// TestX448 holds curve448 to RFC 7748 §5.2 and §6.2.
func TestX448(t *testing.T) {
	for _, v := range []struct{ scalar, point, want string }{
		{
			"3d262fddf9ec8e88495266fea19a34d28882acef045104d0d1aae121700a779c984c24f8cdd78fbff44943" +
				"eba368f54b29259a4f1c600ad3",
			"06fce640fa3487bfda5f6cf2d5263f8aad88334cbd07437f020f08f9814dc031ddbdc38c19c6da2583fa54" +
				"29db94ada18aa7a7fb4ef8a086",
			"ce3e4ff95a60dc6697da1db1d85e6afbdf79b50a2412d7546d5f239fe14fbaadeb445fc66a01b0779d9822" +
				"3961111e21766282f73dd96b6f",
		},
		{
			"9a8f4925d1519f5775cf46b04b5800d4ee9ee8bae8bc5565d498c28dd9c9baf574a9419744897391006382" +
				"a6f127ab1d9ac2d8c0a598726b",
			"3eb7a829b0cd20f5bcfc0b599b6feccf6da4627107bdb0d4f345b43027d8b972fc3e34fb4232a13ca706dc" +
				"b57aec3dae07bdc1c67bf33609",
			"07fff4181ac6cc95ec1c16a94a0f74d12da232ce40a77552281d282bb60c0b56fd2464c335543936521c24" +
				"403085d59a449a5037514a879d",
		},
	} {
		if got := hex.EncodeToString(x448(unhex(t, v.scalar), unhex(t, v.point))); got != v.want {
			t.Errorf("got %s, expected %s", got, v.want)
		}
	}
	half, err := newX448(bytes.NewReader(bytes.Repeat([]byte{7}, 56)))
	if err != nil {
		t.Fatal(err)
	}
	for _, peer := range [][]byte{make([]byte, 56), make([]byte, 55), nil} {
		if _, err := half.Agree(peer); err == nil {
			t.Errorf("%x was taken", peer)
		}
	}
}

// TestSubgroup holds the group of RFC 5114 §2.1 to its size.
func TestSubgroup(t *testing.T) {
	q, _ := new(big.Int).SetString("F518AA8781A8DF278ABA4E7D64B7CB9D49462353", 16)
	if !subgroupPrime.ProbablyPrime(5) || subgroupPrime.BitLen() != 1024 ||
		new(big.Int).Exp(subgroupBase, q, subgroupPrime).Cmp(big.NewInt(1)) != 0 {
		t.Error("the base does not make a group of that size")
	}
}

// TestBoxes seals and opens by every encryption that suites have.
func TestBoxes(t *testing.T) {
	for _, name := range []string{
		"aes256gcm16", "chacha20poly1305", "aes128", "3des", "camellia256", "blowfish128", "cast128",
		"des", "null",
	} {
		m, err := MethodOf(name, "sha256")
		if err != nil {
			t.Fatal(err)
		}
		key, digest := bytes.Repeat([]byte{5}, m.Encryption), bytes.Repeat([]byte{6}, m.Integrity)
		for i := range key {
			key[i] += byte(i)
		}
		out, err1 := m.Box(key, digest)
		in, err2 := m.Box(key, digest)
		if err1 != nil || err2 != nil {
			t.Fatal(name, err1, err2)
		}
		text := bytes.Repeat([]byte("timetable"), 16)
		sealed, err := out.Seal([]byte("head"), text, bytes.NewReader(make([]byte, aes.BlockSize)))
		if err != nil || len(sealed) != out.Size(len(text)) {
			t.Fatal(name, len(sealed), err)
		}
		if back, err := in.Open([]byte("head"), sealed); err != nil || !bytes.Equal(back, text) {
			t.Errorf("%s: %q (%v)", name, back, err)
		}
		if name != clear && bytes.Contains(sealed, []byte("timetable")) {
			t.Errorf("%s leaves the text as it is", name)
		}
		sealed[len(sealed)/2] ^= 1
		if _, err := in.Open([]byte("head"), sealed); err == nil {
			t.Errorf("%s: a changed message was opened", name)
		}
	}
}
