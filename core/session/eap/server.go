package eap

import (
	"bytes"
	"crypto/subtle"
	"crypto/tls"
	"encoding/binary"
	"io"

	"wardicon/core/wire/ppp"
)

// Server is a gateway's side of MS-CHAPv2, or of TLS where it has what to show, for simulated
// gateways.
type Server struct {
	Lookup func(login string) (password string, known bool)
	TLS    *tls.Config
	// Both takes MS-CHAPv2 too from who rejects TLS (RFC 3748 §5.3.1).
	Both   bool
	Random io.Reader

	Login     string
	challenge []byte
	password  string
	response  []byte
	accepted  bool
	id        byte
	tls       *TLS
}

func (s *Server) request(kind byte, data []byte) []byte {
	s.id++
	b := binary.BigEndian.AppendUint16([]byte{request, s.id}, uint16(5+len(data)))
	return append(append(b, kind), data...)
}

// Begin asks who is there.
func (s *Server) Begin() []byte { return s.request(identity, nil) }

// Handle takes a response. Ended is true at the end, which went well where msk is not nil.
func (s *Server) Handle(b []byte) (out, msk []byte, ended bool) {
	refuse := []byte{failure, s.id, 0, 4}
	if len(b) < 5 || b[0] != response || b[1] != s.id {
		return refuse, nil, true
	}
	switch kind, data := b[4], b[5:]; {
	case kind == identity:
		s.Login = string(data)
		if s.TLS != nil {
			s.tls = &TLS{Config: s.TLS, Server: true}
			return s.request(TypeTLS, []byte{start}), nil, false
		}
		return s.challenged(refuse)
	case kind == nak && s.tls != nil && s.Both && bytes.IndexByte(data, TypeMSCHAP) >= 0:
		s.tls = nil
		return s.challenged(refuse)
	case kind == TypeTLS && s.tls != nil:
		if s.tls.MSK() != nil && len(s.tls.waiting) == 0 {
			s.tls.Close()
			return []byte{success, s.id, 0, 4}, s.tls.MSK(), true
		}
		out, err := s.tls.Answer(data, s.id)
		if err != nil {
			s.tls.Close()
			return refuse, nil, true
		}
		return s.request(TypeTLS, out), nil, false
	case kind == TypeMSCHAP && len(data) >= 54 && data[0] == answer && s.challenge != nil:
		return s.judge(data[5:]), nil, false
	case kind == TypeMSCHAP && s.accepted:
		master := ppp.MasterKey(s.password, s.response)
		msk = append(ppp.StartKey(master, 16, true), ppp.StartKey(master, 16, false)...)
		return []byte{success, s.id, 0, 4}, append(msk, make([]byte, 32)...), true
	}
	return refuse, nil, true
}

// challenged asks for a response of MS-CHAPv2.
func (s *Server) challenged(refuse []byte) (out, msk []byte, ended bool) {
	s.challenge = make([]byte, challengeSize)
	if _, err := io.ReadFull(s.Random, s.challenge); err != nil {
		return refuse, nil, true
	}
	value := append([]byte{challenge, s.id + 1, 0, 0, challengeSize}, s.challenge...)
	value = append(value, "gateway"...)
	binary.BigEndian.PutUint16(value[2:], uint16(len(value)))
	return s.request(TypeMSCHAP, value), nil, false
}

// judge holds a response of MS-CHAPv2 to the password.
func (s *Server) judge(value []byte) []byte {
	own, sent := value[:challengeSize], value[24:48]
	s.password, _ = s.Lookup(s.Login)
	want := ppp.NTResponse(s.challenge, own, s.Login, s.password)
	say := func(code byte, text string) []byte {
		b := append([]byte{code, s.id, 0, 0}, text...)
		binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
		return s.request(TypeMSCHAP, b)
	}
	if _, known := s.Lookup(s.Login); !known || subtle.ConstantTimeCompare(want, sent) != 1 {
		return say(rejected, "E=691 R=0 C=00000000000000000000000000000000 V=3 M=rejected")
	}
	s.accepted, s.response = true, bytes.Clone(sent)
	return say(accepted, ppp.AuthenticatorResponse(s.password, sent, own, s.challenge, s.Login)+
		" M=welcome")
}
