package probe

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"

	"wardicon/core/drift"
	"wardicon/core/vpn"
	"wardicon/core/wire/tlstunnel"
	"wardicon/probe/reliable"
)

// Tunnel asks for a session of the TLS tunnel: the reset, wrapped as the control-channel key wants
// it, and the TLS handshake in its control channel. Without the right key a gateway keeps silent.
// Name is what its certificate should have.
func (p *Prober) Tunnel(
	ctx context.Context,
	at netip.AddrPort,
	transport vpn.Transport,
	w tlstunnel.Wrapping,
	name string,
) drift.Answer {
	return p.ask(
		ctx,
		vpn.TLS,
		drift.MethodTunnel,
		transport,
		at,
		func(ctx context.Context, a *asker) error {
			ctx, stop := context.WithTimeout(ctx, tunnelWait)
			defer stop()
			conn, err := a.dial(ctx)
			if err != nil {
				return err
			}
			defer func() { _ = conn.Close() }()
			b := make([]byte, 8)
			if _, err := rand.Read(b); err != nil {
				return err
			}
			send, receive := packets(conn, transport)
			stream := reliable.New(
				ctx,
				reliable.Options{
					Wrapping: w,
					Session:  binary.BigEndian.Uint64(b) | 1,
					Send:     send,
					Turn:     a.turn,
					Waits:    waits,
				},
			)
			go func() {
				for {
					b, err := receive()
					if err != nil {
						stream.Fail(err)
						return
					}
					stream.Feed(b)
				}
			}()
			err = stream.Begin()
			var noise *reliable.NoiseError
			switch {
			case errors.As(err, &noise):
				a.answer.State = drift.Faulty
				return err
			case errors.Is(err, reliable.ErrSilent):
				return errSilent
			case err != nil:
				return err
			}
			a.answered()
			// A certificate of the client's is not shown, so that a gateway that wants one ends the
			// handshake when its own has been seen.
			if _, err := a.handshake(
				ctx,
				stream,
				name,
				tls.VersionTLS10,
				tls.VersionTLS13,
			); err != nil &&
				a.answer.TLS == nil {
				a.answer.State = drift.Faulty
				return fmt.Errorf("after the reset: %w", tlsFault(err))
			}
			return nil
		},
	)
}

// packets sends and reads packets on a socket; by TCP their length stands before each.
func packets(
	conn net.Conn,
	transport vpn.Transport,
) (send func([]byte) error, receive func() ([]byte, error)) {
	if transport == vpn.UDP {
		return func(b []byte) error { _, err := conn.Write(b); return err },
			func() ([]byte, error) {
				b := make([]byte, tlstunnel.MaxPacket)
				n, err := conn.Read(b)
				return b[:n], err
			}
	}
	return func(b []byte) error {
			_, err := conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(b))), b...))
			return err
		}, func() ([]byte, error) {
			var size [2]byte
			if _, err := io.ReadFull(conn, size[:]); err != nil {
				return nil, err
			}
			n := int(binary.BigEndian.Uint16(size[:]))
			if n > tlstunnel.MaxPacket {
				return nil, fmt.Errorf(
					"a packet of %d bytes, expected at most %d",
					n,
					tlstunnel.MaxPacket,
				)
			}
			b := make([]byte, n)
			_, err := io.ReadFull(conn, b)
			return b, err
		}
}
