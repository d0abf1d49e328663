package rehearse

import (
	"cmp"
	"crypto/x509"
	"errors"
	"slices"
	"strings"
	"time"

	"wardicon/core/pki"
	"wardicon/core/rehearsal"
	"wardicon/core/session/eap"
	"wardicon/core/session/ikev2"
	"wardicon/core/session/ipsec"
	"wardicon/core/vpn"
)

// usual are proposals of devices that the file and the release say nothing of.
var (
	usualIKE = []string{"aes256-sha256-modp2048", "aes256gcm16-prfsha384-ecp384",
		"aes256-sha256-ecp256", "aes128-sha256-modp2048"}
	usualESP = []string{"aes256gcm16", "aes256-sha256", "aes128gcm16", "aes256-sha1"}
)

// ikev2 rehearses a connection by IKEv2.
func (w *run) ikev2() error {
	addresses, err := w.resolve()
	if err != nil {
		return err
	}
	s, err := w.initiator()
	if err != nil {
		return err
	}
	if s.EAP != nil {
		if m, ok := s.EAP.Method.(*eap.TLS); ok {
			defer m.Close()
		}
	}
	c := &ikeConn{ctx: w.ctx, at: addresses[0], wait: waits}
	defer c.close()
	err = c.begin(addresses, w.port(portIKE), func() error {
		s.Exchange = c.exchange
		return s.Begin()
	})
	if err != nil {
		return w.ikeFault(err, rehearsal.Exchange)
	}
	w.result.Gateway, w.result.Suite = c.at.String()+" by UDP, ports 500 and 4500", s.Suite
	w.passed(rehearsal.Exchange, s.Suite)
	if err := c.dial(w.port(portNATT), true); err != nil {
		return err
	}
	in, err := s.SignIn(func(p ikev2.Phase) {
		switch p {
		case ikev2.GatewayProven:
			w.certificates(s.Shown)
			w.result.Proof = s.Proof
			w.passed(rehearsal.Gateway, s.Who.String()+", by "+s.Proof)
		case ikev2.SignedIn:
			w.passed(rehearsal.SignIn, w.signedInBy())
		}
	})
	if err != nil {
		w.certificates(s.Shown)
		return w.ikeFault(err, rehearsal.SignIn)
	}
	defer func() {
		c.wait = []time.Duration{goodbye}
		w.hangUp(s.End)
	}()
	w.result.Tunnel, w.result.Addresses = in.Child.Suite, in.Addresses
	w.result.DNS, w.result.Domains = in.DNS, cleaned(in.Domains)
	for _, r := range in.Selectors {
		w.result.Routes = append(w.result.Routes, r.String())
	}
	if len(in.Addresses) == 0 {
		return because("pool-empty", "the gateway gave no address")
	}
	w.passed(rehearsal.Address, join(in.Addresses)+", "+in.Child.Suite)
	w.compare(in.DNS, in.Domains)
	w.carriedIKEv2(in)
	w.look(&espTunnel{c, in.Child}, in.Addresses, in.DNS)
	w.result.Sent, w.result.Received = in.Child.Traffic()
	return nil
}

// hangUp ends what stands, even if time is up: the gateway should not keep it.
func (w *run) hangUp(end func() error) {
	if err := end(); err != nil {
		w.passed(rehearsal.HangUp, "the gateway did not confirm it")
		return
	}
	w.passed(rehearsal.HangUp, "")
}

func (w *run) signedInBy() string {
	switch c := w.Connection; c.IKEv2.Auth {
	case vpn.IKEv2MSCHAPv2:
		return "login " + c.Login + " by EAP-MSCHAPv2"
	case vpn.IKEv2EAPTLS:
		return "certificate by EAP-TLS"
	case vpn.IKEv2PSK:
		return "pre-shared key"
	}
	return "certificate"
}

// initiator makes the session that a file asks for.
func (w *run) initiator() (*ikev2.Session, error) {
	c, o := w.Connection, w.Connection.IKEv2
	ike, esp, err := w.proposals(o.IKE, o.ESP, usualIKE, usualESP)
	if err != nil {
		return nil, err
	}
	s := &ikev2.Session{Options: ikev2.Options{
		IKE: ike, Child: esp, Fragment: !o.NoFragmentation, MOBIKE: !o.NoMOBIKE, Random: random,
		EAPOnly: o.EAPOnly,
	}}
	if s.Authorities, err = pki.Certificates(c.Authority); err != nil && c.Authority != "" {
		return nil, because("authority-missing", "the CA in the file cannot be read: %w", err)
	}
	if remote := cmp.Or(o.RemoteID, c.Server); remote != "%any" {
		id := ipsec.ParseIdentity(remote, nil)
		s.Remote = &id
	}
	s.Verify = w.verifyIKE
	return s, w.proofs(s)
}

// proofs puts in what the device proves itself with.
func (w *run) proofs(s *ikev2.Session) error {
	o := w.Connection.IKEv2
	switch o.Auth {
	case "":
		return because("", "the file signs in by a method that a rehearsal does not have")
	case vpn.IKEv2PSK:
		if s.PSK = o.PSK.Reveal(); s.PSK == "" {
			return because("secret-missing", "the file has no pre-shared key")
		}
		s.Local = ipsec.ParseIdentity(cmp.Or(o.LocalID, "0.0.0.0"), nil)
	case vpn.IKEv2MSCHAPv2:
		login, password, err := w.credentials()
		if err != nil {
			return err
		}
		s.Local = ipsec.ParseIdentity(cmp.Or(o.LocalID, login), nil)
		s.EAP = &eap.Conversation{Name: login, Method: &eap.MSCHAP{
			Login: login, Password: password, Random: random,
		}}
	default:
		id, err := w.identity()
		if err != nil {
			return err
		}
		s.Local = ipsec.ParseIdentity(o.LocalID, id.Leaf)
		if o.Auth == vpn.IKEv2Certificate {
			s.Key, s.Chain = id.Key, append([]*x509.Certificate{id.Leaf}, id.Chain...)
			return nil
		}
		s.EAP = &eap.Conversation{
			Name: s.Local.String(), Method: &eap.TLS{Config: w.tlsOfEAP(id)},
		}
	}
	return nil
}

// ikeFault finds the likely cause of what went wrong in IKE.
func (w *run) ikeFault(err error, during rehearsal.StepName) error {
	var f *fault
	var refused *ikev2.RefusedError
	var rejected *eap.RejectedError
	var other *eap.OtherMethodError
	var who *ipsec.IdentityError
	var moved *ikev2.RedirectedError
	auth := w.Connection.IKEv2.Auth
	switch {
	case errors.As(err, &f):
		return err
	case errors.Is(err, errSilent):
		if during == rehearsal.SignIn {
			return because("packet-size", "%w after the key exchange", err)
		}
		return because("gateway-no-response", "%w", err)
	case errors.As(err, &rejected):
		if auth == vpn.IKEv2EAPTLS {
			return because("client-refused", "%w", err)
		}
		return because("password-wrong", "%w", err)
	case errors.As(err, &other):
		return because("methods-differ", "%w", err)
	case errors.As(err, &who):
		return because("identity-differs", "%w", err)
	case errors.As(err, &moved):
		return because("", "%w", err)
	case errors.Is(err, ikev2.ErrProof):
		if auth == vpn.IKEv2PSK {
			return because("key-wrong", "%w", err)
		}
		return because("peer-confused", "%w", err)
	case errors.Is(err, eap.ErrUnproven):
		return because("mutual-failed", "%w", err)
	case errors.As(err, &refused):
		err = because(w.refusal(refused), "%w", err)
		if during == rehearsal.SignIn && !refused.Child &&
			refused.Name() == "AUTHENTICATION_FAILED" {
			// It rejects the device, whatever it has shown by then.
			err = failing(rehearsal.SignIn, err)
		}
		return err
	case strings.Contains(err.Error(), "EAP-TLS"):
		return because("client-refused", "%w", err)
	}
	return because("peer-confused", "%w", err)
}

// refusal is the likely cause of an error that the gateway notified.
func (w *run) refusal(e *ikev2.RefusedError) string {
	switch e.Name() {
	case "NO_PROPOSAL_CHOSEN":
		if e.Child {
			return "child-suites-differ"
		}
		return "suites-differ"
	case "INVALID_KE_PAYLOAD":
		return "group-differs"
	case "AUTHENTICATION_FAILED":
		proven := slices.ContainsFunc(w.result.Steps, func(s rehearsal.Step) bool {
			return s.Name == rehearsal.Gateway
		})
		switch w.Connection.IKEv2.Auth {
		case vpn.IKEv2PSK:
			return "key-wrong"
		case vpn.IKEv2Certificate:
			return "client-refused"
		case vpn.IKEv2MSCHAPv2:
			if proven {
				return "password-wrong"
			}
		}
		return "identity-unknown"
	case "INTERNAL_ADDRESS_FAILURE", "FAILED_CP_REQUIRED":
		return "pool-empty"
	case "TS_UNACCEPTABLE":
		return "selectors-differ"
	}
	return "peer-confused"
}
