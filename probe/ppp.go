package probe

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"

	"wardicon/core/drift"
	"wardicon/core/vpn"
	"wardicon/core/wire/l2tp"
	"wardicon/core/wire/pptp"
)

// L2TP asks for a tunnel without IPsec. A gateway should not answer: whoever does lets people sign
// in unprotected. The tunnel is given back at once.
func (p *Prober) L2TP(ctx context.Context, at netip.AddrPort) drift.Answer {
	return p.ask(
		ctx,
		vpn.L2TP,
		drift.MethodBareL2TP,
		vpn.UDP,
		at,
		connected(func(ctx context.Context, a *asker, conn net.Conn) error {
			b := make([]byte, 2)
			if _, err := rand.Read(b); err != nil {
				return err
			}
			own := binary.BigEndian.Uint16(b) | 1
			question, err := l2tp.Message{
				AVPs: l2tp.Start(l2tp.StartRequest, "probe", own),
			}.Encode()
			if err != nil {
				return err
			}
			var answer l2tp.Message
			if err := a.exchange(ctx, conn, question, func(b []byte) bool {
				answer, err = l2tp.Decode(b)
				return err == nil && answer.Tunnel == own &&
					answer.Kind() != 0 // a mere acknowledgement comes before the answer
			}); err != nil {
				return err
			}
			theirs, _ := answer.Uint(l2tp.AttrTunnel)
			switch answer.Kind() {
			case l2tp.StartReply:
				host, _ := answer.Find(l2tp.AttrHostName)
				vendor, _ := answer.Find(l2tp.AttrVendor)
				a.answer.Peer = &drift.Peer{Host: printable(host), Vendor: printable(vendor)}
				if n, ok := answer.Uint(l2tp.AttrFirmware); ok {
					a.answer.Peer.Firmware = fmt.Sprintf("%d.%d", n>>8, n&0xFF)
				}
				if _, ok := answer.Find(l2tp.AttrChallenge); ok {
					a.answer.Note("wants a shared secret for the tunnel itself")
				}
			case l2tp.StopNotify:
				result, fault, text := answer.Result()
				a.answer.Note(
					fmt.Sprintf(
						"refuses the tunnel: result %d, error %d %s",
						result,
						fault,
						printable([]byte(text)),
					),
				)
			default:
				return fmt.Errorf(
					"it answers a request for a tunnel with a message of kind %d",
					answer.Kind(),
				)
			}
			stop, err := l2tp.Message{
				Tunnel:   theirs,
				Sent:     1,
				Expected: answer.Sent + 1,
				AVPs:     l2tp.Stop(own, 1),
			}.Encode()
			if err != nil {
				return err
			}
			if err := a.say(ctx, conn); err != nil {
				return err
			}
			_, err = conn.Write(stop)
			return err
		}),
	)
}

// printable is a text from outside without what is not to be shown, of at most 64 characters.
func printable(b []byte) string {
	var out []rune
	for _, r := range string(b) {
		if r < ' ' || r == 0x7F || r == '\uFFFD' {
			r = '·'
		}
		if out = append(out, r); len(out) == 64 {
			break
		}
	}
	return string(out)
}

// PPTP opens the control channel, asks whether the other end lives, and closes it again.
func (p *Prober) PPTP(ctx context.Context, at netip.AddrPort) drift.Answer {
	return p.ask(
		ctx,
		vpn.PPTP,
		drift.MethodPPTP,
		vpn.TCP,
		at,
		connected(func(ctx context.Context, a *asker, conn net.Conn) error {
			answer, err := a.probePPTP(
				ctx,
				conn,
				&pptp.StartRequest{
					Version:  pptp.Version,
					Framing:  3,
					Bearer:   3,
					HostName: pptp.NewName("probe"),
				},
			)
			if err != nil {
				return err
			}
			a.answered()
			reply, ok := answer.(*pptp.StartReply)
			if !ok {
				return fmt.Errorf("it answers the start with a message of kind %d", answer.Kind())
			}
			a.answer.Peer = &drift.Peer{
				Host:     printable([]byte(reply.HostName.String())),
				Vendor:   printable([]byte(reply.Vendor.String())),
				Firmware: fmt.Sprint(reply.Firmware),
			}
			if reply.Result != pptp.StartOK {
				a.answer.Note(
					fmt.Sprintf(
						"refuses the control channel: result %d, error %d",
						reply.Result,
						reply.Error,
					),
				)
				return nil
			}
			if answer, err = a.probePPTP(ctx, conn, &pptp.EchoRequest{ID: 1}); err != nil {
				return fmt.Errorf("after the start: %w", err)
			}
			if echo, ok := answer.(*pptp.EchoReply); !ok || echo.ID != 1 {
				return fmt.Errorf("it answers an echo with a message of kind %d", answer.Kind())
			}
			if _, err = a.probePPTP(
				ctx,
				conn,
				&pptp.StopRequest{Reason: 1},
			); err != nil &&
				!errors.Is(err, io.EOF) {
				return nil // it is gone, as was asked for
			}
			return nil
		}),
	)
}

// probePPTP sends a message and reads the next one.
func (a *asker) probePPTP(
	ctx context.Context,
	conn net.Conn,
	m pptp.Message,
) (pptp.Message, error) {
	if err := a.say(ctx, conn); err != nil {
		return nil, err
	}
	if _, err := conn.Write(pptp.Encode(m)); err != nil {
		return nil, err
	}
	return pptp.Read(conn)
}
