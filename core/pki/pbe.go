package pki

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/des" //nolint:gosec // files of old releases are closed by it
	"crypto/pbkdf2"
	"crypto/sha1" //nolint:gosec // as above
	"crypto/sha256"
	"crypto/sha512"
	"encoding/asn1"
	"errors"
	"hash"
	"math/big"
	"unicode/utf16"

	"wardicon/core/secret"
)

// innerRounds adds up the rounds that lie in the encrypted parts of a PKCS #12 file (RFC 7292 §4),
// which nobody sees without opening those. It costs the rounds of the parts themselves, which
// Rounds has counted. A part that does not open with the passphrase has none: nothing of it is
// opened later either.
func innerRounds(data []byte, passphrase secret.Text) int64 {
	var sum int64
	for _, part := range encryptedParts(data) {
		plain, err := part.open(passphrase)
		if err != nil && passphrase.IsZero() {
			plain, err = part.open(noText)
		}
		if err != nil {
			continue
		}
		if err := sound(
			plain,
		); err != nil &&
			!errors.Is(err, errDER) { // what is no DER at all came of another passphrase
			return endless
		}
		sum = min(sum+Rounds(plain), endless)
	}
	return sum
}

// The object identifiers of encrypted data and of what it is encrypted by.
var (
	oidData          = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}
	oidEncryptedData = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 6}
	oidPBES2         = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	oidPBKDF2        = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidPBE           = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 1}
	oidAES           = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1}
	oidHMAC          = asn1.ObjectIdentifier{1, 2, 840, 113549, 2}
)

type algorithm struct {
	Algorithm  asn1.ObjectIdentifier
	Parameters asn1.RawValue `asn1:"optional"`
}

type contentInfo struct {
	Type    asn1.ObjectIdentifier
	Content asn1.RawValue `asn1:"tag:0,explicit,optional"`
}

type encryptedPart struct {
	by   algorithm
	data []byte
}

// encryptedParts finds the encrypted parts of the safe of a PKCS #12 file.
func encryptedParts(data []byte) (list []encryptedPart) {
	var pfx struct {
		Version  int
		AuthSafe contentInfo
		Mac      asn1.RawValue `asn1:"optional"`
	}
	if _, err := asn1.Unmarshal(data, &pfx); err != nil {
		return nil
	}
	var octets []byte
	var safe []contentInfo
	if _, err := asn1.Unmarshal(
		pfx.AuthSafe.Content.Bytes,
		&octets,
	); err != nil ||
		!pfx.AuthSafe.Type.Equal(oidData) {
		return nil
	}
	if _, err := asn1.Unmarshal(octets, &safe); err != nil {
		return nil
	}
	for _, c := range safe {
		var e struct {
			Version int
			Info    struct {
				Type      asn1.ObjectIdentifier
				By        algorithm
				Encrypted asn1.RawValue `asn1:"tag:0,optional"`
			}
		}
		if _, err := asn1.Unmarshal(
			c.Content.Bytes,
			&e,
		); c.Type.Equal(oidEncryptedData) &&
			err == nil {
			list = append(list, encryptedPart{e.Info.By, e.Info.Encrypted.Bytes})
		}
	}
	return list
}

var errPart = errors.New("a part that does not open")

// open decrypts a part by PBES2 (RFC 8018 §6.2) or by the older ways (RFC 7292 appendix C).
func (e encryptedPart) open(passphrase secret.Text) ([]byte, error) {
	var block cipher.Block
	var iv []byte
	var err error
	if e.by.Algorithm.Equal(oidPBES2) {
		block, iv, err = pbes2(e.by.Parameters.FullBytes, passphrase)
	} else {
		block, iv, err = pbe(e.by, passphrase)
	}
	if err != nil {
		return nil, err
	}
	size := block.BlockSize()
	if len(e.data) == 0 || len(e.data)%size != 0 || len(iv) != size {
		return nil, errPart
	}
	plain := make([]byte, len(e.data))
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(plain, e.data)
	pad := int(plain[len(plain)-1])
	if pad == 0 || pad > size {
		return nil, errPart
	}
	return plain[:len(plain)-pad], nil
}

func pbes2(parameters []byte, passphrase secret.Text) (cipher.Block, []byte, error) {
	var p struct{ Derive, Cipher algorithm }
	var k struct {
		Salt   []byte
		Rounds int
		Length int       `asn1:"optional"`
		PRF    algorithm `asn1:"optional"`
	}
	var iv []byte
	if _, err := asn1.Unmarshal(
		parameters,
		&p,
	); err != nil ||
		!p.Derive.Algorithm.Equal(oidPBKDF2) {
		return nil, nil, errPart
	}
	if _, err := asn1.Unmarshal(
		p.Derive.Parameters.FullBytes,
		&k,
	); err != nil || k.Rounds < 1 ||
		k.Rounds > MaxRounds {
		return nil, nil, errPart
	}
	if _, err := asn1.Unmarshal(p.Cipher.Parameters.FullBytes, &iv); err != nil {
		return nil, nil, errPart
	}
	digest := map[int]func() hash.Hash{
		7:  sha1.New,
		9:  sha256.New,
		10: sha512.New384,
		11: sha512.New,
	}[last(k.PRF.Algorithm, oidHMAC, 7)]
	length := map[int]int{2: 16, 22: 24, 42: 32}[last(p.Cipher.Algorithm, oidAES, 0)]
	if digest == nil || length == 0 {
		return nil, nil, errPart
	}
	key, err := pbkdf2.Key(digest, passphrase.Reveal(), k.Salt, k.Rounds, length)
	if err != nil {
		return nil, nil, errPart
	}
	block, err := aes.NewCipher(key)
	return block, iv, err
}

// last is the last number of an identifier below another one; other where it is none.
func last(id, below asn1.ObjectIdentifier, other int) int {
	if len(id) == len(below)+1 && id[:len(below)].Equal(below) {
		return id[len(below)]
	}
	return other
}

// pbe derives key and first block by the older ways: 3DES and RC2 under SHA-1.
func pbe(by algorithm, passphrase secret.Text) (cipher.Block, []byte, error) {
	var p struct {
		Salt   []byte
		Rounds int
	}
	if _, err := asn1.Unmarshal(
		by.Parameters.FullBytes,
		&p,
	); err != nil || p.Rounds < 1 ||
		p.Rounds > MaxRounds {
		return nil, nil, errPart
	}
	length := map[int]int{3: 24, 5: 16, 6: 5}[last(by.Algorithm, oidPBE, 0)]
	if length == 0 {
		return nil, nil, errPart
	}
	secretText := bmp(passphrase)
	key, iv := derive(
		secretText,
		p.Salt,
		p.Rounds,
		1,
		length,
	), derive(
		secretText,
		p.Salt,
		p.Rounds,
		2,
		8,
	)
	if length == 24 {
		block, err := des.NewTripleDESCipher(key)
		return block, iv, err
	}
	return newRC2(key), iv, nil
}

// noText stands for a passphrase of no characters at all, not even the end of one: some programs
// close files so.
var noText = secret.New("\x00none")

// bmp writes a passphrase as the older ways take it (RFC 7292 appendix B.1).
func bmp(passphrase secret.Text) (text []byte) {
	if passphrase.Equal(noText) {
		return nil
	}
	for _, u := range append(utf16.Encode([]rune(passphrase.Reveal())), 0) {
		text = append(text, byte(u>>8), byte(u))
	}
	return text
}

// derive makes key material of a purpose (RFC 7292 appendix B.2) by SHA-1.
func derive(passphrase, salt []byte, rounds int, purpose byte, length int) (out []byte) {
	const u, v = sha1.Size, sha1.BlockSize
	fill := func(data []byte) []byte {
		if len(data) == 0 {
			return nil
		}
		all := make([]byte, (len(data)+v-1)/v*v)
		for i := range all {
			all[i] = data[i%len(data)]
		}
		return all
	}
	d := make([]byte, v)
	for i := range d {
		d[i] = purpose
	}
	in := append(fill(salt), fill(passphrase)...)
	one := big.NewInt(1)
	for len(out) < length {
		a := sha1.Sum(append(append([]byte{}, d...), in...))
		for range rounds - 1 {
			a = sha1.Sum(a[:])
		}
		out = append(out, a[:]...)
		b := new(big.Int).SetBytes(fill(a[:u])[:v])
		b.Add(b, one)
		for j := 0; j+v <= len(in); j += v {
			sum := new(big.Int).SetBytes(in[j : j+v])
			sum.Add(sum, b)
			bytes := sum.Bytes()
			if len(bytes) > v {
				bytes = bytes[len(bytes)-v:]
			}
			clear(in[j : j+v])
			copy(in[j+v-len(bytes):j+v], bytes)
		}
	}
	return out[:length]
}
