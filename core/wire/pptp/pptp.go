// Package pptp encodes and decodes the messages of the PPTP control channel (RFC 2637 §2). It opens
// no sockets.
package pptp

import (
	"bytes"
	"encoding/binary"
	"io"
	"strings"

	"wardicon/core/wire"
)

// Kind is the kind of a control message (RFC 2637 §1.4).
type Kind uint16

// The kinds.
const (
	KindStartRequest     Kind = 1
	KindStartReply       Kind = 2
	KindStopRequest      Kind = 3
	KindStopReply        Kind = 4
	KindEchoRequest      Kind = 5
	KindEchoReply        Kind = 6
	KindCallRequest      Kind = 7
	KindCallReply        Kind = 8
	KindClearRequest     Kind = 12
	KindDisconnectNotify Kind = 13
	KindErrorNotify      Kind = 14
	KindLinkInfo         Kind = 15
)

const (
	magic   = 0x1A2B3C4D
	control = 1
	// Version is protocol version 1.0.
	Version = 0x0100

	headerSize = 12
	// MaxMessage is the size of the longest message in bytes.
	MaxMessage = 168
)

// Result codes of a start (RFC 2637 §2.2).
const (
	StartOK          = 1
	StartError       = 2
	StartExists      = 3
	StartUnpermitted = 4
	StartVersion     = 5
)

// Name is a text in 64 bytes, filled up with zeros.
type Name [64]byte

// NewName writes a text of at most 64 bytes; a longer one is cut.
func NewName(text string) (n Name) {
	copy(n[:], text)
	return n
}

func (n Name) String() string {
	text, _, _ := strings.Cut(string(n[:]), "\x00")
	return text
}

// Message is one of the bodies below.
type Message interface{ Kind() Kind }

// StartRequest begins the control channel (RFC 2637 §2.1).
type StartRequest struct {
	Version, _       uint16
	Framing, Bearer  uint32
	Channels         uint16
	Firmware         uint16
	HostName, Vendor Name
}

// StartReply answers it (RFC 2637 §2.2).
type StartReply struct {
	Version          uint16
	Result, Error    uint8
	Framing, Bearer  uint32
	Channels         uint16
	Firmware         uint16
	HostName, Vendor Name
}

// StopRequest ends the control channel (RFC 2637 §2.3): reason 1 none, 2 protocol, 3 shut down.
type StopRequest struct {
	Reason, _ uint8
	_         uint16
}

// StopReply answers it (RFC 2637 §2.4).
type StopReply struct {
	Result, Error uint8
	_             uint16
}

// EchoRequest asks whether the other end lives (RFC 2637 §2.5).
type EchoRequest struct{ ID uint32 }

// EchoReply answers it (RFC 2637 §2.6).
type EchoReply struct {
	ID            uint32
	Result, Error uint8
	_             uint16
}

// CallRequest asks for a call out (RFC 2637 §2.7).
type CallRequest struct {
	CallID, Serial   uint16
	MinBPS, MaxBPS   uint32
	Bearer, Framing  uint32
	Window, Delay    uint16
	PhoneLength, _   uint16
	Phone, SubAdress Name
}

// CallReply answers it (RFC 2637 §2.8).
type CallReply struct {
	CallID, PeerCallID uint16
	Result, Error      uint8
	Cause              uint16
	Speed              uint32
	Window, Delay      uint16
	Channel            uint32
}

// ClearRequest asks that a call be ended (RFC 2637 §2.12).
type ClearRequest struct{ CallID, _ uint16 }

// DisconnectNotify says that a call has ended (RFC 2637 §2.13).
type DisconnectNotify struct {
	CallID        uint16
	Result, Error uint8
	Cause, _      uint16
	Statistics    [128]byte
}

// ErrorNotify counts errors of a call (RFC 2637 §2.14).
type ErrorNotify struct {
	CallID, _                                     uint16
	CRC, Framing, Hardware, Buffer, Time, Aligned uint32
}

// LinkInfo sets options of PPP (RFC 2637 §2.15).
type LinkInfo struct {
	CallID, _   uint16
	SendACCM    uint32
	ReceiveACCM uint32
}

// Kind of each message.
func (*StartRequest) Kind() Kind     { return KindStartRequest }
func (*StartReply) Kind() Kind       { return KindStartReply }
func (*StopRequest) Kind() Kind      { return KindStopRequest }
func (*StopReply) Kind() Kind        { return KindStopReply }
func (*EchoRequest) Kind() Kind      { return KindEchoRequest }
func (*EchoReply) Kind() Kind        { return KindEchoReply }
func (*CallRequest) Kind() Kind      { return KindCallRequest }
func (*CallReply) Kind() Kind        { return KindCallReply }
func (*ClearRequest) Kind() Kind     { return KindClearRequest }
func (*DisconnectNotify) Kind() Kind { return KindDisconnectNotify }
func (*ErrorNotify) Kind() Kind      { return KindErrorNotify }
func (*LinkInfo) Kind() Kind         { return KindLinkInfo }

// body makes an empty message of a kind.
func body(k Kind) Message {
	for _, m := range []Message{
		&StartRequest{}, &StartReply{}, &StopRequest{}, &StopReply{}, &EchoRequest{}, &EchoReply{},
		&CallRequest{}, &CallReply{}, &ClearRequest{}, &DisconnectNotify{}, &ErrorNotify{},
		&LinkInfo{},
	} {
		if m.Kind() == k {
			return m
		}
	}
	return nil
}

func malformed(format string, args ...any) error { return wire.Malformed("PPTP", format, args...) }

// Encode writes a message.
func Encode(m Message) []byte {
	b := binary.BigEndian.AppendUint16(nil, uint16(headerSize+binary.Size(m)))
	b = binary.BigEndian.AppendUint16(b, control)
	b = binary.BigEndian.AppendUint32(b, magic)
	b = binary.BigEndian.AppendUint16(b, uint16(m.Kind()))
	b = append(b, 0, 0)
	var out bytes.Buffer
	_ = binary.Write(&out, binary.BigEndian, m) // fixed sizes alone: it cannot fail
	return append(b, out.Bytes()...)
}

// Length is the whole length of the message whose first two bytes are given.
func Length(b []byte) (int, error) {
	if len(b) < 2 {
		return 0, malformed("%d bytes, expected at least 2", len(b))
	}
	n := int(binary.BigEndian.Uint16(b))
	if n < headerSize || n > MaxMessage {
		return 0, malformed(
			"its length says %d bytes, expected %d to %d",
			n,
			headerSize,
			MaxMessage,
		)
	}
	return n, nil
}

// Decode reads a message. One of a kind that is not known is refused.
func Decode(b []byte) (Message, error) {
	n, err := Length(b)
	switch {
	case err != nil:
		return nil, err
	case n != len(b):
		return nil, malformed("its length says %d bytes, there are %d", n, len(b))
	case binary.BigEndian.Uint16(b[2:]) != control || binary.BigEndian.Uint32(b[4:]) != magic:
		return nil, malformed("it does not begin as RFC 2637 §1.4 says")
	}
	kind := Kind(binary.BigEndian.Uint16(b[8:]))
	m := body(kind)
	if m == nil {
		return nil, malformed("kind %d is not known", kind)
	}
	if want := headerSize + binary.Size(m); want != n {
		return nil, malformed("%d bytes for kind %d, expected %d", n, kind, want)
	}
	_, err = binary.Decode(b[headerSize:], binary.BigEndian, m)
	return m, err
}

// Read reads the next message of a control channel (RFC 2637 §2). It takes no byte of the message
// after it. Errors are those of the reader and of Length and Decode.
func Read(r io.Reader) (Message, error) {
	b := make([]byte, 2, MaxMessage)
	if _, err := io.ReadFull(r, b); err != nil {
		return nil, err
	}
	n, err := Length(b)
	if err != nil {
		return nil, err
	}
	b = b[:n]
	if _, err := io.ReadFull(r, b[2:]); err != nil {
		return nil, err
	}
	return Decode(b)
}
