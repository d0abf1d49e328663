package ppp

import (
	"bytes"
	"crypto/sha1"

	//lint:ignore SA1019 RFC 3079 is made of it
	"golang.org/x/crypto/md4"
)

// MasterKey is what the keys of a connection by MS-CHAPv2 are derived from: 16 bytes out of the
// password and the response that was sent (RFC 3079 §3.4).
func MasterKey(password string, response []byte) []byte {
	again := md4.New()
	again.Write(PasswordHash(password))
	h := sha1.New()
	h.Write(again.Sum(nil))
	h.Write(response)
	h.Write([]byte("This is the MPPE Master Key"))
	return h.Sum(nil)[:16]
}

// What the keys of both directions are told apart by (RFC 3079 §3.4).
const (
	clientSends = "On the client side, this is the send key; on the server side, it is the " +
		"receive key."
	clientReceives = "On the client side, this is the receive key; on the server side, it is " +
		"the send key."
)

// StartKey is the first key of a direction, of up to 16 bytes (RFC 3079 §3.4): what the client
// sends with, or what it receives with.
func StartKey(master []byte, size int, sends bool) []byte {
	text := clientReceives
	if sends {
		text = clientSends
	}
	h := sha1.New()
	h.Write(master[:16])
	h.Write(make([]byte, 40))
	h.Write([]byte(text))
	h.Write(bytes.Repeat([]byte{0xF2}, 40))
	return h.Sum(nil)[:size]
}
