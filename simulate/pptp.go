package simulate

import (
	"errors"
	"net"
	"os"
	"time"

	pppsession "wardicon/core/session/ppp"
	"wardicon/core/wire/pptp"
)

// call is a call of PPTP under way.
type call struct {
	g      *Gateway
	link   *pppsession.Link
	gre    *net.IPConn
	own    uint16
	its    uint16
	sent   uint32
	came   *uint32
	closed chan struct{}
}

// pptp answers on the control channel until it is closed.
func (g *Gateway) pptp(conn net.Conn) {
	var c *call
	defer func() {
		if c != nil {
			_ = c.gre.Close()
			<-c.closed
		}
	}()
	for {
		m, err := pptp.Read(conn)
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
		case *pptp.CallRequest:
			answer = &pptp.CallReply{CallID: 23, PeerCallID: m.CallID, Result: 1, Window: 64}
			if c == nil && g.Accounts != nil {
				c = g.answerCall(conn, m.CallID)
			}
		case *pptp.ClearRequest:
			answer = &pptp.DisconnectNotify{CallID: 23, Result: 4}
		case *pptp.LinkInfo:
			continue
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

// answerCall begins to answer PPP in GRE. It is nil where the machine lets nobody: that takes a raw
// socket.
func (g *Gateway) answerCall(conn net.Conn, its uint16) *call {
	from, ok := conn.RemoteAddr().(*net.TCPAddr)
	if !ok {
		return nil
	}
	gre, err := net.DialIP("ip4:47", &net.IPAddr{IP: g.Bind.AsSlice()}, &net.IPAddr{IP: from.IP})
	if err != nil {
		return nil
	}
	link, err := g.newLink(g.MPPE)
	if err != nil {
		_ = gre.Close()
		return nil
	}
	c := &call{g: g, link: link, gre: gre, own: 23, its: its, closed: make(chan struct{})}
	go c.serve()
	return c
}

func (c *call) serve() {
	defer close(c.closed)
	defer func() { c.g.note(c.link, true) }()
	b := make([]byte, 64<<10)
	for {
		if c.link.Phase != pppsession.Open {
			_ = c.gre.SetReadDeadline(time.Now().Add(again))
		}
		n, _, err := c.gre.ReadFromIP(b)
		if errors.Is(err, os.ErrDeadlineExceeded) && c.link.Phase != pppsession.Ended {
			c.link.Again()
			c.g.through(c.link, nil, c.send)
			_ = c.gre.SetReadDeadline(time.Time{})
			continue
		}
		if err != nil {
			return
		}
		p, err := pptp.DecodePacket(b[:n])
		if err != nil || p.CallID != c.own || p.Frame == nil {
			continue
		}
		c.came = &p.Sequence
		c.g.through(c.link, append([]byte{}, p.Frame...), c.send)
	}
}

func (c *call) send(frame []byte) {
	out := pptp.Packet{CallID: c.its, Sequence: c.sent, Ack: c.came, Frame: frame}
	c.sent++
	_, _ = c.gre.Write(out.Encode())
}
