package simulate

import (
	"bufio"
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/textproto"

	"wardicon/core/wire/sstp"
)

// sstp answers TLS, the request that opens the stream, and the one for a call.
func (g *Gateway) sstp(conn net.Conn) {
	server := tls.Server(conn, g.config)
	in := bufio.NewReader(server)
	text := textproto.NewReader(in)
	line, err := text.ReadLine()
	if err != nil {
		return
	}
	if _, err := text.ReadMIMEHeader(); err != nil {
		return
	}
	if line != sstp.Method+" "+sstp.Path+" HTTP/1.1" || g.has(FaultRealm) {
		_, _ = fmt.Fprintf(
			server,
			"HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Basic realm=%q\r\nContent-Length: "+
				"0\r\n\r\n",
			g.introduced(),
		)
		return
	}
	if _, err := fmt.Fprintf(
		server,
		"HTTP/1.1 200 OK\r\nContent-Length: %s\r\nServer: simulator\r\n\r\n",
		sstp.Length,
	); err != nil {
		return
	}
	var header [4]byte
	if _, err := io.ReadFull(in, header[:]); err != nil || g.has(FaultMidway) {
		return
	}
	size, _, err := sstp.Frame(header)
	if err != nil {
		return
	}
	b := append(header[:], make([]byte, size-4)...)
	if _, err := io.ReadFull(in, b[4:]); err != nil {
		return
	}
	m, err := sstp.Decode(b)
	if err != nil {
		return
	}
	var nonce [32]byte
	_, _ = rand.Read(nonce[:]) // never fails
	answer := sstp.Ack(sstp.HashSHA1|sstp.HashSHA256, nonce)
	if m.Kind != sstp.ConnectRequest {
		answer = sstp.Refusal(sstp.Abort, sstp.AttrProtocol, 7)
	}
	if b, err := answer.Encode(); err == nil {
		_, _ = server.Write(b)
	}
	if m.Kind == sstp.ConnectRequest && g.Accounts != nil {
		g.carry(server, in, nonce)
		return
	}
	_, _ = io.ReadFull(in, header[:]) // until it is given back
}
