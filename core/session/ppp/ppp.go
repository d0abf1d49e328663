// Package ppp is the order of messages of PPP up to an open link, for both of its ends: LCP (RFC
// 1661), PAP (RFC 1334), CHAP (RFC 1994), MS-CHAPv2 (RFC 2759), EAP (RFC 3748), CCP with MPPE (RFC
// 1962, RFC 3078) and IPCP (RFC 1332). It has no sockets and no clock: frames go in, frames come
// out.
package ppp

import (
	"bytes"
	"crypto/subtle"
	"encoding/binary"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"wardicon/core/session/eap"
	"wardicon/core/suite"
	"wardicon/core/wire/ppp"
)

// Phase is how far a link is (RFC 1661 §3.2).
type Phase string

// The phases.
const (
	Establish    Phase = "establish"
	Authenticate Phase = "authenticate"
	Network      Phase = "network"
	Open         Phase = "open"
	Ended        Phase = "ended"
)

// Config says what one end wants. A gateway knows Password by login; a client has Login and
// its own.
type Config struct {
	Gateway  bool
	Login    string
	Password string
	Lookup   func(login string) (password string, known bool) // of a gateway
	// those that are accepted, strongest first
	Methods []suite.PPPMethod
	Address netip.Addr   // of a gateway: its own
	Peer    netip.Addr   // of a gateway: the client's
	DNS     []netip.Addr // of a gateway: what it hands out
	// EAP is how a client signs in by EAP; Server is a gateway's side of that.
	EAP    *eap.Conversation
	Server *eap.Server
	// MPPE are the strengths of encryption that are taken, strongest first; with any the link is
	// encrypted or ends. Stateful keeps the state of the cipher from packet to packet.
	MPPE     []suite.MPPE
	Stateful bool
	IPv6     bool // is agreed on where the other end has it
	Random   io.Reader
}

// Link is one end of a link.
type Link struct {
	Config
	Phase   Phase
	Method  suite.PPPMethod // by which somebody authenticated
	Reason  string          // why it ended
	Fault   error           // of EAP, that ended it
	Local   netip.Addr      // after IPCP
	Remote  netip.Addr
	Servers []netip.Addr // name servers that the gateway told

	id        uint8
	magic     []byte
	mine      bool // the other end acknowledged what this one asked for
	theirs    bool
	ipMine    bool
	ipTheirs  bool
	demanded  suite.PPPMethod // by the other end
	challenge []byte
	own       []byte // challenge of a client in MS-CHAPv2
	response  []byte
	servers   [2]netip.Addr // name servers, of which the gateway told
	noServer  [2]bool       // it has none to tell
	msk       []byte        // of EAP
	eap       []byte        // packet of EAP that was sent last
	came      []byte        // and the one that came
	encryption
	ipv6
	rounds int
	out    [][]byte
}

// maxRounds bounds how often the two ends may ask each other anything.
const maxRounds = 200

// authentication is how a method is asked for in LCP.
var authentication = map[suite.PPPMethod][]byte{
	suite.EAP:      {0xC2, 0x27},
	suite.PAP:      {0xC0, 0x23},
	suite.CHAP:     {0xC2, 0x23, ppp.MD5},
	suite.MSCHAPv2: {0xC2, 0x23, ppp.MSCHAPv2},
}

// New begins a link; the frames that it sends first are in what Take gives.
func New(c Config) (*Link, error) {
	l := &Link{Config: c, Phase: Establish, magic: make([]byte, 4)}
	l.challenge, l.own = make([]byte, 16), make([]byte, 16)
	for _, b := range [][]byte{l.magic, l.challenge, l.own, l.name[:]} {
		if _, err := io.ReadFull(c.Random, b); err != nil {
			return nil, err
		}
	}
	l.name[0] &^= 2 // made here, and by no maker of interfaces
	if c.Gateway {
		l.Local, l.Remote = c.Address, c.Peer
	} else {
		l.Local = netip.IPv4Unspecified()
	}
	l.configure()
	return l, nil
}

// Take gives the frames that are to be sent.
func (l *Link) Take() [][]byte {
	out := l.out
	l.out = nil
	return out
}

// Again repeats what was not acknowledged, for lines that lose frames.
func (l *Link) Again() {
	switch {
	case l.Phase == Establish && !l.mine:
		l.configure()
	case l.Phase == Authenticate && l.eap != nil:
		l.out = append(l.out, ppp.Frame(ppp.EAP, l.eap))
	case l.Phase == Authenticate && l.Gateway && l.Method != suite.PAP:
		l.ask()
	case l.Phase == Authenticate && l.demanded == suite.PAP:
		l.pap()
	case l.Phase == Network && l.encrypts() && !l.encrypted():
		l.configureMPPE()
	case l.Phase == Network:
		if !l.ipMine {
			l.configureIP()
		}
		if !l.mine6 && !l.no6 {
			l.configureIPv6()
		}
	}
}

func (l *Link) send(protocol uint16, code uint8, id uint8, data []byte) {
	l.out = append(l.out, ppp.Frame(protocol, ppp.Message{Code: code, ID: id, Data: data}.Encode()))
}

func (l *Link) next() uint8 { l.id++; return l.id }

func (l *Link) end(format string, args ...any) {
	if l.Phase != Ended {
		l.Phase, l.Reason = Ended, fmt.Sprintf(format, args...)
		l.send(ppp.LCP, ppp.TerminateRequest, l.next(), nil)
	}
}

// Hangup ends the link.
func (l *Link) Hangup() { l.end("hung up") }

func (l *Link) configure() {
	options := []ppp.Option{
		{Kind: ppp.OptionMRU, Data: []byte{0x05, 0x78}},
		{Kind: ppp.OptionMagic, Data: l.magic},
	}
	if l.Gateway && len(l.Methods) > 0 {
		options = append(
			options,
			ppp.Option{Kind: ppp.OptionAuthentication, Data: authentication[l.Methods[0]]},
		)
	}
	l.send(ppp.LCP, ppp.ConfigureRequest, l.next(), ppp.Options(options...))
}

// serverOptions are those of two name servers (RFC 1877 §1.1, §1.3).
var serverOptions = [2]uint8{ppp.OptionDNS1, ppp.OptionDNS2}

func (l *Link) configureIP() {
	options := []ppp.Option{{Kind: ppp.OptionAddress, Data: l.Local.AsSlice()}}
	for i, kind := range serverOptions {
		if !l.Gateway && !l.noServer[i] {
			server := l.servers[i]
			if !server.IsValid() {
				server = netip.IPv4Unspecified()
			}
			options = append(options, ppp.Option{Kind: kind, Data: server.AsSlice()})
		}
	}
	l.send(ppp.IPCP, ppp.ConfigureRequest, l.next(), ppp.Options(options...))
}

// Packet frames an IP packet for an open link, encrypted where that was agreed on.
func (l *Link) Packet(b []byte) []byte {
	protocol := ppp.IPv4
	if len(b) > 0 && b[0]>>4 == 6 {
		protocol = ppp.IPv6
	}
	if l.seals == nil {
		return ppp.Frame(protocol, b)
	}
	sealed, err := l.seals.Seal(protocol, b)
	if err != nil {
		l.end("%v", err)
		return nil
	}
	return ppp.Frame(ppp.Compressed, sealed)
}

// Receive takes a frame; an IP packet in it is given back once the link is open.
func (l *Link) Receive(frame []byte) (packet []byte) {
	protocol, payload, err := ppp.DecodeFrame(frame)
	if err != nil || l.Phase == Ended {
		return nil
	}
	if protocol == ppp.Compressed && l.opens != nil {
		if protocol, payload = l.decrypt(payload); protocol == 0 {
			return nil
		}
	} else if l.opens != nil && (protocol == ppp.IPv4 || protocol == ppp.IPv6) {
		return nil // in clear where all is encrypted
	}
	if protocol == ppp.IPv4 || protocol == ppp.IPv6 {
		if l.Phase == Open {
			return payload
		}
		return nil
	}
	if protocol == ppp.EAP && (l.EAP != nil || l.Server != nil) {
		l.receiveEAP(payload)
		return nil
	}
	m, err := ppp.DecodeMessage(payload)
	if err != nil {
		return nil
	}
	if l.rounds++; l.rounds > maxRounds && l.Phase != Open {
		l.end("no agreement after %d messages", maxRounds)
		return nil
	}
	switch protocol {
	case ppp.LCP:
		l.lcp(m)
	case ppp.PAP:
		l.receivePAP(m)
	case ppp.CHAP:
		l.receiveCHAP(m)
	case ppp.IPCP:
		l.ipcp(m)
	case ppp.IPV6CP:
		if !l.IPv6 {
			l.reject(protocol, payload)
			break
		}
		l.ipv6cp(m)
	case ppp.CCP:
		if l.encrypts() {
			l.ccp(m)
			return nil
		}
		l.reject(protocol, payload)
	default:
		l.reject(protocol, payload)
	}
	return nil
}

// reject says that a protocol is not spoken here (RFC 1661 §5.7).
func (l *Link) reject(protocol uint16, payload []byte) {
	l.send(ppp.LCP, ppp.ProtocolReject, l.next(),
		append(binary.BigEndian.AppendUint16(nil, protocol), payload...))
}

func (l *Link) lcp(m ppp.Message) {
	switch m.Code {
	case ppp.ConfigureRequest:
		l.requested(m)
	case ppp.ConfigureAck:
		l.mine = true
	case ppp.ConfigureNak, ppp.ConfigureReject:
		options, _ := ppp.DecodeOptions(m.Data)
		for _, o := range options {
			if o.Kind != ppp.OptionAuthentication || !l.Gateway {
				continue
			}
			if l.Methods = l.Methods[1:]; len(l.Methods) == 0 {
				l.end("the other end takes no method to authenticate that is offered here")
				return
			}
		}
		l.configure()
	case ppp.TerminateRequest:
		l.send(ppp.LCP, ppp.TerminateAck, m.ID, nil)
		l.out, l.Phase, l.Reason = l.out[len(l.out)-1:], Ended, "the other end hung up"
		return
	case ppp.EchoRequest:
		l.send(
			ppp.LCP,
			ppp.EchoReply,
			m.ID,
			append(bytes.Clone(l.magic), m.Data[min(4, len(m.Data)):]...),
		)
	case ppp.ProtocolReject:
		if len(m.Data) < 2 {
			break
		}
		switch protocol := binary.BigEndian.Uint16(m.Data); {
		case protocol == ppp.IPCP:
			l.end("the other end has no IPv4")
		case protocol == ppp.IPV6CP:
			l.no6 = true
		case protocol == ppp.CCP && l.encrypts():
			l.end("%s", noEncryption)
		}
	}
	if l.mine && l.theirs && l.Phase == Establish {
		l.established()
	}
}

// requested judges what the other end asks for (RFC 1661 §5.2 to §5.4).
func (l *Link) requested(m ppp.Message) {
	options, err := ppp.DecodeOptions(m.Data)
	if err != nil {
		return
	}
	var refused, wrong []ppp.Option
	l.demanded = ""
	for _, o := range options {
		switch o.Kind {
		case ppp.OptionMRU, ppp.OptionACCM, ppp.OptionMagic, ppp.OptionPFC, ppp.OptionACFC:
		case ppp.OptionAuthentication:
			if l.Gateway {
				refused = append(refused, o)
				continue
			}
			for method, data := range authentication {
				if bytes.Equal(data, o.Data) && slices.Contains(l.Methods, method) {
					l.demanded = method
				}
			}
			if l.demanded == "" {
				for _, method := range l.Methods {
					if data := authentication[method]; data != nil {
						wrong = append(wrong, ppp.Option{Kind: o.Kind, Data: data})
						break
					}
				}
				if len(wrong) == 0 {
					refused = append(refused, o)
				}
			}
		default:
			refused = append(refused, o)
		}
	}
	if l.answer(ppp.LCP, m, refused, wrong) {
		l.theirs = true
	}
}

// answer refuses options, corrects them, or else takes them all and says so (RFC 1661,
// sections 5.2 to 5.4).
func (l *Link) answer(protocol uint16, m ppp.Message, refused, wrong []ppp.Option) bool {
	switch {
	case len(refused) > 0:
		l.send(protocol, ppp.ConfigureReject, m.ID, ppp.Options(refused...))
	case len(wrong) > 0:
		l.send(protocol, ppp.ConfigureNak, m.ID, ppp.Options(wrong...))
	default:
		l.send(protocol, ppp.ConfigureAck, m.ID, m.Data)
		return true
	}
	return false
}

func (l *Link) established() {
	l.Phase = Authenticate
	switch {
	case l.Gateway && len(l.Methods) > 0:
		l.Method = l.Methods[0]
		if l.Method == suite.EAP && l.Server != nil {
			l.sendEAP(l.Server.Begin())
			return
		}
		l.ask()
	case !l.Gateway && l.demanded == suite.PAP:
		l.pap()
	case !l.Gateway && l.demanded == "", l.Gateway:
		l.authenticated("")
	}
}

func (l *Link) pap() {
	data := append([]byte{byte(len(l.Login))}, l.Login...)
	l.send(ppp.PAP, 1, l.next(), append(append(data, byte(len(l.Password))), l.Password...))
}

// ask sends a gateway's challenge; with PAP the client begins.
func (l *Link) ask() {
	if l.Method != suite.PAP {
		l.send(ppp.CHAP, ppp.Challenge, l.next(), ppp.WithName(l.challenge, "gateway"))
	}
}

func (l *Link) authenticated(by suite.PPPMethod) {
	l.Phase, l.Method = Network, by
	if l.encrypts() {
		l.beginMPPE()
		return
	}
	l.configureNetwork()
}

// configureNetwork asks for IPv4, and for IPv6 beside it.
func (l *Link) configureNetwork() {
	l.configureIP()
	l.configureIPv6()
}

func (l *Link) receivePAP(m ppp.Message) {
	switch {
	case l.Phase != Authenticate:
	case l.Gateway && m.Code == 1 && l.Method == suite.PAP:
		login, rest, ok := counted(m.Data)
		password, _, whole := counted(rest)
		if want, known := l.Lookup(
			login,
		); ok && whole && known &&
			subtle.ConstantTimeCompare([]byte(want), []byte(password)) == 1 {
			l.Login = login
			l.send(ppp.PAP, 2, m.ID, []byte{0})
			l.authenticated(suite.PAP)
			return
		}
		l.send(ppp.PAP, 3, m.ID, []byte{0})
		l.end("login or password is wrong")
	case !l.Gateway && m.Code == 2:
		l.authenticated(suite.PAP)
	case !l.Gateway && m.Code == 3:
		l.end("the gateway refuses login and password by PAP")
	}
}

func counted(b []byte) (text string, rest []byte, ok bool) {
	if len(b) == 0 || len(b) < 1+int(b[0]) {
		return "", nil, false
	}
	return string(b[1 : 1+b[0]]), b[1+b[0]:], true
}

func (l *Link) receiveCHAP(m ppp.Message) {
	if l.Phase != Authenticate {
		return
	}
	switch m.Code {
	case ppp.Challenge:
		l.challenged(m)
	case ppp.Response:
		l.answered(m)
	case ppp.Success:
		if l.Gateway {
			return
		}
		// Without this the gateway could be anybody's (RFC 2759 §5).
		if want := ppp.AuthenticatorResponse(
			l.Password,
			l.response,
			l.own,
			l.challenge,
			l.Login,
		); l.demanded == suite.MSCHAPv2 &&
			!strings.HasPrefix(string(m.Data), want) {
			l.end("the gateway does not know the password itself: its proof is wrong")
			return
		}
		l.authenticated(l.demanded)
	case ppp.Failure:
		if !l.Gateway {
			l.end("the gateway refuses login and password: %s", printable(m.Data))
		}
	}
}

func printable(b []byte) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return -1
		}
		return r
	}, string(b[:min(len(b), 120)]))
}

// challenged answers a gateway's challenge.
func (l *Link) challenged(m ppp.Message) {
	value, _, ok := ppp.Named(m.Data)
	if !ok || l.Gateway {
		return
	}
	switch l.demanded {
	case suite.CHAP:
		l.send(
			ppp.CHAP,
			ppp.Response,
			m.ID,
			ppp.WithName(ppp.CHAPResponse(m.ID, l.Password, value), l.Login),
		)
	case suite.MSCHAPv2:
		if len(value) != 16 {
			l.end("a challenge of %d bytes, expected 16", len(value))
			return
		}
		l.challenge = bytes.Clone(value)
		l.response = ppp.NTResponse(l.challenge, l.own, l.Login, l.Password)
		full := slices.Concat(l.own, make([]byte, 8), l.response, []byte{0})
		l.send(ppp.CHAP, ppp.Response, m.ID, ppp.WithName(full, l.Login))
	}
}

// Keys are what a sign-in by MS-CHAPv2 made, for encryption or to bind the link to what it runs in:
// 16 bytes that the client sends with, then 16 that it receives with (RFC 3079 §3.3). They are nil
// by methods that make none.
func (l *Link) Keys() []byte {
	if len(l.msk) >= 48 {
		return l.keysOfEAP()
	}
	if len(l.response) == 0 {
		return nil
	}
	master := ppp.MasterKey(l.Password, l.response)
	return append(ppp.StartKey(master, 16, true), ppp.StartKey(master, 16, false)...)
}

// answered judges a client's response.
func (l *Link) answered(m ppp.Message) {
	value, login, ok := ppp.Named(m.Data)
	if !ok || !l.Gateway {
		return
	}
	password, known := l.Lookup(login)
	right, success := false, ""
	switch l.Method {
	case suite.CHAP:
		right = subtle.ConstantTimeCompare(
			value,
			ppp.CHAPResponse(m.ID, password, l.challenge),
		) == 1
	case suite.MSCHAPv2:
		if len(value) == 49 {
			want := ppp.NTResponse(l.challenge, value[:16], login, password)
			l.Password, l.response = password, bytes.Clone(value[24:48])
			right = subtle.ConstantTimeCompare(value[24:48], want) == 1
			success = ppp.AuthenticatorResponse(
				password,
				want,
				value[:16],
				l.challenge,
				login,
			) + " M=welcome"
		}
	}
	if !right || !known {
		l.send(
			ppp.CHAP,
			ppp.Failure,
			m.ID,
			[]byte("E=691 R=0 C=00000000000000000000000000000000 V=3"),
		)
		l.end("login or password is wrong")
		return
	}
	l.Login = login
	l.send(ppp.CHAP, ppp.Success, m.ID, []byte(success))
	l.authenticated(l.Method)
}

// networkOptions are those of a message of a network protocol, which counts only once both are
// signed in and encryption is on where it is to be (RFC 1661 §3.6).
func (l *Link) networkOptions(m ppp.Message) ([]ppp.Option, bool) {
	if l.Phase != Network && l.Phase != Open || l.encrypts() && !l.encrypted() {
		return nil, false
	}
	options, err := ppp.DecodeOptions(m.Data)
	return options, err == nil
}

func (l *Link) ipcp(m ppp.Message) {
	options, ok := l.networkOptions(m)
	if !ok {
		return
	}
	switch m.Code {
	case ppp.ConfigureRequest:
		l.requestedIP(m, options)
	case ppp.ConfigureAck:
		l.ipMine = true
	case ppp.TerminateRequest:
		l.send(ppp.IPCP, ppp.TerminateAck, m.ID, nil)
		l.end("the other end takes IPv4 back")
		return
	case ppp.ConfigureNak:
		for _, o := range options {
			a, ok := netip.AddrFromSlice(o.Data)
			switch {
			case !ok:
			case o.Kind == ppp.OptionAddress && !l.Gateway:
				l.Local = a
			case !l.Gateway:
				if i := slices.Index(serverOptions[:], o.Kind); i >= 0 {
					l.servers[i] = a
				}
			}
		}
		l.configureIP()
	case ppp.ConfigureReject:
		for _, o := range options {
			if o.Kind == ppp.OptionAddress {
				l.end("the other end takes no address")
				return
			}
			if i := slices.Index(serverOptions[:], o.Kind); i >= 0 {
				l.noServer[i] = true
			}
		}
		l.configureIP()
	}
	if l.ipMine && l.ipTheirs && l.Phase == Network {
		l.Phase = Open
		for i, a := range l.servers {
			if a.IsValid() && !a.IsUnspecified() && !l.noServer[i] &&
				!slices.Contains(l.Servers, a) {
				l.Servers = append(l.Servers, a)
			}
		}
	}
}

// nobodys is the address that a gateway without one of its own gets, as pppd names it.
var nobodys = netip.AddrFrom4([4]byte{10, 64, 64, 64})

// requestedIP judges the address that the other end wants; a gateway gives the client its.
func (l *Link) requestedIP(m ppp.Message, options []ppp.Option) {
	var refused, wrong []ppp.Option
	for _, o := range options {
		a, ok := netip.AddrFromSlice(o.Data)
		switch {
		case o.Kind == ppp.OptionAddress && ok && l.Gateway && a != l.Peer:
			wrong = append(wrong, ppp.Option{Kind: o.Kind, Data: l.Peer.AsSlice()})
		case o.Kind == ppp.OptionAddress && ok && !l.Gateway && a.IsUnspecified():
			wrong = append(wrong, ppp.Option{Kind: o.Kind, Data: nobodys.AsSlice()})
		case o.Kind == ppp.OptionAddress && ok:
			if !l.Gateway {
				l.Remote = a
			}
		case ok && l.Gateway && slices.Index(serverOptions[:], o.Kind) >= 0 &&
			slices.Index(serverOptions[:], o.Kind) < len(l.DNS):
			if want := l.DNS[slices.Index(serverOptions[:], o.Kind)]; a != want {
				wrong = append(wrong, ppp.Option{Kind: o.Kind, Data: want.AsSlice()})
			}
		default:
			refused = append(refused, o)
		}
	}
	if l.answer(ppp.IPCP, m, refused, wrong) {
		l.ipTheirs = true
	}
}
