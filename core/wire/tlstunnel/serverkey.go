package tlstunnel

import (
	"bytes"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/base64"
	"strings"

	"wardicon/core/vpn"
)

// remarkUser is the type of what a server is told of a client in words of its administrator.
const remarkUser = 0x00

// ForClient is the control-channel key that a client gets of one on record: of a server's own key
// for tls-crypt-v2 a client's, made for it and always the same; any other as it is. The server is
// told who it is for. Text and result are files.
func ForClient(kind vpn.ControlKind, text, who string) (string, error) {
	if kind != vpn.ControlCryptV2 || !vpn.IsServerKey(text) {
		return text, nil
	}
	server, err := vpn.ServerKeyBytes(text)
	if err != nil {
		return "", err
	}
	key, err := hkdf.Key(
		sha256.New,
		server,
		nil,
		"wardicon tls-crypt-v2 client key of "+who,
		KeySize,
	)
	if err != nil {
		return "", err
	}
	data := ClientKey(server, key, append([]byte{remarkUser}, who...))
	var b strings.Builder
	b.WriteString(vpn.ClientKeyBegin + "\n")
	for lines := base64.StdEncoding.EncodeToString(data); lines != ""; {
		n := min(64, len(lines))
		b.WriteString(lines[:n] + "\n")
		lines = lines[n:]
	}
	b.WriteString(vpn.ClientKeyEnd + "\n")
	return b.String(), nil
}

// MadeFor tells whether a client's key was made for a server's own. Both are files.
func MadeFor(serverText, clientText string) bool {
	server, err := vpn.ServerKeyBytes(serverText)
	if err != nil {
		return false
	}
	client, err := vpn.ControlKeyBytes(vpn.ControlCryptV2, clientText)
	if err != nil || len(client) <= KeySize {
		return false
	}
	w := Wrapping{server: server}
	_, key, err := w.openClientKey(append(make([]byte, headSize), client[KeySize:]...))
	return err == nil && bytes.Equal(key, client[:KeySize])
}
