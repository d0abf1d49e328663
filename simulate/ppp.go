package simulate

import (
	"bufio"
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"

	"wardicon/core/wire/l2tp"
	"wardicon/core/wire/pptp"
	"wardicon/core/wire/sstp"
)

// l2tp answers a request for a tunnel without IPsec, which a sound gateway does not.
func (g *Gateway) l2tp(packet []byte, _ netip.AddrPort, answer reply) {
	m, err := l2tp.Decode(packet)
	theirs, ok := m.Uint(l2tp.AttrTunnel)
	if err != nil || !ok || m.Kind() != l2tp.StartRequest || !g.has(FaultBare) {
		return
	}
	avps := append(
		l2tp.Start(l2tp.StartReply, g.introduced(), 17),
		l2tp.Text(l2tp.AttrVendor, "simulator"),
		l2tp.AVP{Type: l2tp.AttrFirmware, Value: []byte{1, 2}},
	)
	if b, err := (l2tp.Message{
		Tunnel:   theirs,
		Expected: m.Sent + 1,
		AVPs:     avps,
	}).Encode(); err == nil {
		answer(b)
	}
}

// pptp answers on the control channel until it is closed.
func (g *Gateway) pptp(conn net.Conn) {
	for {
		b := make([]byte, 2, pptp.MaxMessage)
		if _, err := io.ReadFull(conn, b); err != nil {
			return
		}
		n, err := pptp.Length(b)
		if err != nil {
			return
		}
		b = b[:n]
		if _, err := io.ReadFull(conn, b[2:]); err != nil {
			return
		}
		m, err := pptp.Decode(b)
		if err != nil {
			return
		}
		var answer pptp.Message
		switch m := m.(type) {
		case *pptp.StartRequest:
			answer = &pptp.StartReply{
				Version:  pptp.Version,
				Result:   pptp.StartOK,
				Framing:  3,
				Bearer:   3,
				Firmware: 1,
				HostName: pptp.NewName(g.introduced()),
				Vendor:   pptp.NewName("simulator"),
			}
		case *pptp.EchoRequest:
			answer = &pptp.EchoReply{ID: m.ID, Result: 1}
		case *pptp.StopRequest:
			answer = &pptp.StopReply{Result: 1}
		default:
			return
		}
		if _, err := conn.Write(pptp.Encode(answer)); err != nil {
			return
		}
		if m.Kind() == pptp.KindStopRequest || g.has(FaultMidway) {
			return
		}
	}
}

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
