package ppp

import (
	"bytes"
	"crypto/des"
	"crypto/md5"
	"crypto/sha1"
	"encoding/binary"
	"encoding/hex"
	"strings"
	"unicode/utf16"

	//lint:ignore SA1019 RFC 2759 is made of it
	"golang.org/x/crypto/md4"
)

// CHAPResponse answers a challenge of CHAP with MD5 (RFC 1994 §4.1).
func CHAPResponse(id uint8, password string, challenge []byte) []byte {
	sum := md5.Sum(append(append([]byte{id}, password...), challenge...))
	return sum[:]
}

// PasswordHash is the MD4 digest of the password in UTF-16 (RFC 2759 §8.3).
func PasswordHash(password string) []byte {
	h := md4.New()
	for _, u := range utf16.Encode([]rune(password)) {
		_ = binary.Write(h, binary.LittleEndian, u)
	}
	return h.Sum(nil)
}

// challengeHash is what both challenges and the login come down to (RFC 2759 §8.2). A domain
// before the login is no part of it.
func challengeHash(peer, authenticator []byte, login string) []byte {
	if i := strings.LastIndexByte(login, '\\'); i >= 0 {
		login = login[i+1:]
	}
	h := sha1.New()
	h.Write(peer)
	h.Write(authenticator)
	h.Write([]byte(login))
	return h.Sum(nil)[:8]
}

// NTResponse answers a challenge of MS-CHAPv2 (RFC 2759 §8.1): 24 bytes.
func NTResponse(authenticator, peer []byte, login, password string) []byte {
	clear := challengeHash(peer, authenticator, login)
	keys := append(PasswordHash(password), make([]byte, 5)...)
	var out []byte
	for i := 0; i < 21; i += 7 {
		block := make([]byte, 8)
		cipher, _ := des.NewCipher(spread(keys[i : i+7])) // eight bytes are a key
		cipher.Encrypt(block, clear)
		out = append(out, block...)
	}
	return out
}

// spread puts 56 bits into a key of 64, whose last bits count for nothing.
func spread(k []byte) []byte {
	v := uint64(0)
	for _, b := range k {
		v = v<<8 | uint64(b)
	}
	out := make([]byte, 8)
	for i := range out {
		out[i] = byte(v>>(49-7*i)) << 1
	}
	return out
}

// AuthenticatorResponse is by what the gateway proves that it knows the password, too
// (RFC 2759 §8.7).
func AuthenticatorResponse(
	password string,
	response, peer, authenticator []byte,
	login string,
) string {
	again := md4.New()
	again.Write(PasswordHash(password))
	h := sha1.New()
	h.Write(again.Sum(nil))
	h.Write(response)
	h.Write([]byte("Magic server to client signing constant"))
	first := h.Sum(nil)
	h = sha1.New()
	h.Write(first)
	h.Write(challengeHash(peer, authenticator, login))
	h.Write([]byte("Pad to make it do more than one iteration"))
	return "S=" + strings.ToUpper(hex.EncodeToString(h.Sum(nil)))
}

// Named splits a value of CHAP from the name behind it (RFC 1994 §4.1).
func Named(b []byte) (value []byte, name string, ok bool) {
	if len(b) < 1 || len(b) < 1+int(b[0]) {
		return nil, "", false
	}
	return b[1 : 1+b[0]], string(b[1+b[0]:]), true
}

// WithName joins a value of CHAP and a name.
func WithName(value []byte, name string) []byte {
	return bytes.Join([][]byte{{byte(len(value))}, value, []byte(name)}, nil)
}
