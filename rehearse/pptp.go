package rehearse

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"time"

	"wardicon/core/rehearsal"
	"wardicon/core/wire/pptp"
)

const (
	portPPTP   = 1723
	pptpIn     = 8 * time.Second // for an answer on the control channel
	pptpWindow = 64              // packets
)

// call is a call of PPTP: its control channel, and PPP in GRE.
type call struct {
	control net.Conn
	gre     *net.IPConn
	own     uint16 // what this end calls the call
	its     uint16 // what the gateway calls it
	sent    uint32
	came    uint32
	any     bool // a packet came
	counted bool // one with a number came
	vendor  string
}

// pptp rehearses a connection by PPTP.
func (w *run) pptp() error {
	login, password, err := w.credentials()
	if err != nil {
		return err
	}
	addresses, err := w.resolve()
	if err != nil {
		return err
	}
	at := netip.AddrPortFrom(addresses[0], w.port(portPPTP))
	w.result.Gateway = at.String() + " by TCP, and GRE"
	conn, err := (&net.Dialer{Timeout: pptpIn}).DialContext(w.ctx, "tcp", at.String())
	if err != nil {
		return because("gateway-no-response", "%w", err)
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(w.ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	c := &call{control: conn}
	if err := c.begin(); err != nil {
		return err
	}
	w.passed(rehearsal.Exchange, "call accepted by "+shown(c.vendor))
	network := "ip4:47"
	if at.Addr().Is6() {
		network = "ip6:47"
	}
	gre, err := (&net.Dialer{}).DialContext(w.ctx, network, at.Addr().String())
	if errors.Is(err, os.ErrPermission) {
		return failing(rehearsal.SignIn, because(rehearsal.NotPermitted,
			"the gateway accepts the call; to go on, GRE needs the capability CAP_NET_RAW"))
	}
	if err != nil {
		return failing(rehearsal.SignIn, because("gre-blocked", "%w", err))
	}
	defer func() { _ = gre.Close() }()
	c.gre = gre.(*net.IPConn)
	go c.live()
	o := w.Connection.PPTP
	link, err := w.openLink(c, linkOptions{
		login: login, password: password, mppe: o.MPPE, stateful: o.Stateful, within: "GRE",
	})
	if err != nil {
		if !c.any && w.ctx.Err() == nil {
			return failing(rehearsal.SignIn, because("gre-blocked",
				"the gateway accepts the call, and no packet of GRE comes from it"))
		}
		return err
	}
	w.lookThrough(link)
	w.hangUp(func() error {
		_ = conn.SetWriteDeadline(time.Now().Add(goodbye))
		_, err := conn.Write(append(pptp.Encode(&pptp.ClearRequest{CallID: c.own}),
			pptp.Encode(&pptp.StopRequest{Reason: 1})...))
		return err
	})
	return nil
}

// begin opens the control channel, and asks for a call (RFC 2637 §2.1, §2.7).
func (c *call) begin() error {
	_ = c.control.SetDeadline(time.Now().Add(pptpIn))
	answer, err := c.ask(&pptp.StartRequest{
		Version: pptp.Version, Framing: 3, Bearer: 3, HostName: pptp.NewName("device"),
	}, pptp.KindStartReply)
	if err != nil {
		return err
	}
	start := answer.(*pptp.StartReply)
	if start.Result != pptp.StartOK {
		return because("protocol-refused", "the gateway refuses the control channel with result %d",
			start.Result)
	}
	c.vendor = start.Vendor.String()
	if c.vendor == "" {
		c.vendor = start.HostName.String()
	}
	var id [2]byte
	if _, err := io.ReadFull(random, id[:]); err != nil {
		return err
	}
	c.own = binary.BigEndian.Uint16(id[:]) | 1
	answer, err = c.ask(&pptp.CallRequest{
		CallID: c.own, Serial: 1, MinBPS: 300, MaxBPS: 100_000_000, Bearer: 3, Framing: 3,
		Window: pptpWindow,
	}, pptp.KindCallReply)
	if err != nil {
		return err
	}
	reply := answer.(*pptp.CallReply)
	if reply.Result != 1 || reply.PeerCallID != c.own {
		return because("protocol-refused", "the gateway refuses the call with result %d, error %d",
			reply.Result, reply.Error)
	}
	c.its = reply.CallID
	_ = c.control.SetDeadline(time.Time{})
	return nil
}

// ask sends a message, and waits for one of a kind.
func (c *call) ask(m pptp.Message, kind pptp.Kind) (pptp.Message, error) {
	if _, err := c.control.Write(pptp.Encode(m)); err != nil {
		return nil, because("peer-ended", "%w", err)
	}
	for range 10 {
		got, err := pptp.Read(c.control)
		if err != nil {
			return nil, because("peer-ended", "on the control channel: %w", err)
		}
		switch m := got.(type) {
		case *pptp.EchoRequest:
			_, _ = c.control.Write(pptp.Encode(&pptp.EchoReply{ID: m.ID, Result: 1}))
		default:
			if got.Kind() == kind {
				return got, nil
			}
		}
	}
	return nil, because("peer-confused", "the gateway says other things than it is asked")
}

// live answers on the control channel until it is closed; then no packet is waited for any more.
func (c *call) live() {
	for {
		m, err := pptp.Read(c.control)
		if err != nil {
			break
		}
		if m, ok := m.(*pptp.EchoRequest); ok {
			_, _ = c.control.Write(pptp.Encode(&pptp.EchoReply{ID: m.ID, Result: 1}))
		}
		if m.Kind() == pptp.KindDisconnectNotify || m.Kind() == pptp.KindStopRequest {
			break
		}
	}
	_ = c.gre.SetReadDeadline(time.Unix(1, 0))
	_ = c.gre.Close()
}

func (c *call) write(frame []byte) error {
	p := pptp.Packet{CallID: c.its, Sequence: c.sent, Frame: frame}
	if c.counted {
		p.Ack = &c.came
	}
	c.sent++
	_, err := c.gre.Write(p.Encode())
	return err
}

func (c *call) read(until time.Time) ([]byte, error) {
	b := make([]byte, 64<<10)
	for {
		if err := c.gre.SetReadDeadline(until); err != nil {
			return nil, fmt.Errorf("%w: the control channel is closed", errAborted)
		}
		n, _, err := c.gre.ReadFromIP(b) // without the header of IPv4
		if errors.Is(err, net.ErrClosed) {
			return nil, fmt.Errorf("%w: the control channel is closed", errAborted)
		}
		if err != nil {
			return nil, err
		}
		p, err := pptp.DecodePacket(b[:n])
		if err != nil || p.CallID != c.own {
			continue // of another call
		}
		c.any = true
		if p.Frame == nil || c.counted && int32(p.Sequence-c.came) <= 0 {
			continue // it only acknowledges, or it came before
		}
		c.counted, c.came = true, p.Sequence
		return append([]byte{}, p.Frame...), nil
	}
}
