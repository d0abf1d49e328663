package vpn

import (
	"wardicon/core/secret"
	"wardicon/core/suite"
)

// Offers are the protocols that a gateway offers; nil where it does not.
type Offers struct {
	L2TP  *L2TPOffer  `json:"l2tp,omitempty"`
	IKEv2 *IKEv2Offer `json:"ikev2,omitempty"`
	PPTP  *PPTPOffer  `json:"pptp,omitempty"`
	SSTP  *SSTPOffer  `json:"sstp,omitempty"`
	TLS   *TLSOffer   `json:"tls,omitempty"`
}

// Has tells whether a protocol is offered.
func (o Offers) Has(p Protocol) bool {
	return map[Protocol]bool{
		L2TP:  o.L2TP != nil,
		IKEv2: o.IKEv2 != nil,
		PPTP:  o.PPTP != nil,
		SSTP:  o.SSTP != nil,
		TLS:   o.TLS != nil,
	}[p]
}

// Protocols are those that are offered, in the order of Protocols.
func (o Offers) Protocols() (list []Protocol) {
	for _, p := range Protocols {
		if o.Has(p) {
			list = append(list, p)
		}
	}
	return list
}

// Authority is the PEM text of the authorities that vouch for a gateway's certificate by
// one protocol; empty where devices know the authority already.
func (o Offers) Authority(p Protocol) string {
	if at := o.Authorities()[p]; at != nil {
		return *at
	}
	return ""
}

// Authorities are the places of those texts, by protocol.
func (o *Offers) Authorities() map[Protocol]*string {
	places := map[Protocol]*string{}
	if o.L2TP != nil {
		places[L2TP] = &o.L2TP.Authority
	}
	if o.IKEv2 != nil {
		places[IKEv2] = &o.IKEv2.Authority
	}
	if o.SSTP != nil {
		places[SSTP] = &o.SSTP.Authority
	}
	if o.TLS != nil {
		places[TLS] = &o.TLS.Authority
	}
	return places
}

// MachineAuth is how the two ends of L2TP/IPsec prove themselves in IKEv1.
type MachineAuth string

// IKEv2Auth is how a client proves itself in IKEv2 (RFC 7296 §2.15, §2.16).
type IKEv2Auth string

// TLSAuth is how a client proves itself in the TLS tunnel.
type TLSAuth string

// ControlKind is a way of wrapping the control channel of the TLS tunnel.
type ControlKind string

// Transport carries the TLS tunnel.
type Transport string

// The values.
const (
	MachinePSK         MachineAuth = "psk"
	MachineCertificate MachineAuth = "certificate"

	IKEv2MSCHAPv2    IKEv2Auth = "eap-mschapv2"
	IKEv2EAPTLS      IKEv2Auth = "eap-tls"
	IKEv2Certificate IKEv2Auth = "certificate"
	IKEv2PSK         IKEv2Auth = "psk"

	TLSCertificate         TLSAuth = "certificate"
	TLSCertificatePassword TLSAuth = "certificate-password"
	TLSPassword            TLSAuth = "password"

	ControlAuth    ControlKind = "auth"
	ControlCrypt   ControlKind = "crypt"
	ControlCryptV2 ControlKind = "crypt-v2"

	UDP Transport = "udp"
	TCP Transport = "tcp"
)

// The lists of values, strongest first.
var (
	MachineAuths = []MachineAuth{MachineCertificate, MachinePSK}
	IKEv2Auths   = []IKEv2Auth{IKEv2EAPTLS, IKEv2Certificate, IKEv2MSCHAPv2, IKEv2PSK}
	TLSAuths     = []TLSAuth{TLSCertificatePassword, TLSCertificate, TLSPassword}
	ControlKinds = []ControlKind{ControlCryptV2, ControlCrypt, ControlAuth}
	Transports   = []Transport{UDP, TCP}
)

// NeedsIdentity tells whether the client must have a certificate with its key.
func (a IKEv2Auth) NeedsIdentity() bool { return a == IKEv2EAPTLS || a == IKEv2Certificate }

// NeedsPassword tells whether a person signs in by login and password.
func (a IKEv2Auth) NeedsPassword() bool { return a == IKEv2MSCHAPv2 }

// NeedsIdentity tells whether the client must have a certificate with its key.
func (a TLSAuth) NeedsIdentity() bool { return a != TLSPassword }

// NeedsPassword tells whether a person signs in by login and password.
func (a TLSAuth) NeedsPassword() bool { return a != TLSCertificate }

// L2TPOffer is L2TP over IPsec (RFC 3193) with IKEv1 (RFC 2409). Proposals are written
// as aes256-sha256-modp2048; an ESP proposal without a group has no PFS.
type L2TPOffer struct {
	// Machine authentication: psk or certificate; empty means psk.
	Auth []MachineAuth `json:"auth" required:"false"`
	// Pre-shared key; never read back. Leave it out to keep it, null removes it.
	PSK *secret.Text `json:"psk,omitempty" writeOnly:"true"`
	// A pre-shared key is stored.
	PSKSet bool `json:"psk_set" readOnly:"true"`
	// Remote identity: what the gateway sends with a certificate; empty means the
	// certificate's subject, or else its address.
	RemoteID string `json:"remote_id,omitempty"`
	// CAs of its certificate, PEM.
	Authority string `json:"authority,omitempty"`
	// PPP authentication methods: eap, mschapv2, mschap, chap, pap.
	PPP []suite.PPPMethod `json:"ppp" required:"false"`
	// IKE proposals such as aes256-sha256-modp2048.
	IKE []string `json:"ike" required:"false"`
	// ESP proposals such as aes256-sha256.
	ESP []string `json:"esp" required:"false"`
	L2TPOptions
}

// IKEv2Offer is IKEv2 (RFC 7296). Lifetimes are in minutes, DPD in seconds; 0 leaves
// them to the client. An ESP proposal with a group has PFS.
type IKEv2Offer struct {
	// Client authentication: eap-tls, certificate, eap-mschapv2, psk.
	Auth []IKEv2Auth `json:"auth" required:"false"`
	// Pre-shared key; never read back. Leave it out to keep it, null removes it.
	PSK *secret.Text `json:"psk,omitempty" writeOnly:"true"`
	// A pre-shared key is stored.
	PSKSet bool `json:"psk_set" readOnly:"true"`
	// Remote identity: what the gateway sends; empty means its address.
	RemoteID string `json:"remote_id,omitempty"`
	// Local identity: what clients with a pre-shared key send; others send the name in their
	// certificate or their login.
	LocalID string `json:"local_id,omitempty"`
	// CAs of its certificate, PEM; empty if devices trust them already.
	Authority string `json:"authority,omitempty"`
	// IKE proposals such as aes256-sha256-ecp256.
	IKE []string `json:"ike" required:"false"`
	// ESP proposals such as aes256gcm16-ecp256; with a group there is PFS.
	ESP []string `json:"esp" required:"false"`
	IKEv2Options
}

// PPTPOffer is PPTP (RFC 2637). MPPE lists the strengths of encryption that the gateway
// takes (RFC 3078); without any the link is not encrypted.
type PPTPOffer struct {
	// PPP authentication methods.
	PPP []suite.PPPMethod `json:"ppp" required:"false"`
	// MPPE key lengths in bits: 128, 56, 40.
	MPPE []suite.MPPE `json:"mppe" required:"false"`
	PPTPOptions
}

// SSTPOffer is SSTP (MS-SSTP): PPP in TLS.
type SSTPOffer struct {
	// TCP port; 0 means 443.
	Port int `json:"port" required:"false"`
	// PPP authentication methods.
	PPP []suite.PPPMethod `json:"ppp" required:"false"`
	// CAs of its certificate, PEM; empty if devices trust them already.
	Authority string `json:"authority,omitempty"`
	// Name in its certificate; empty means its address.
	ServerName string `json:"server_name,omitempty"`
}

// Remote is one way to reach a gateway by the TLS tunnel.
type Remote struct {
	// Host name or IP address; empty means the gateway's.
	Address string `json:"address,omitempty"`
	// Port.
	Port int `json:"port"`
	// udp or tcp.
	Transport Transport `json:"transport"`
}

// ControlKey wraps the control channel of the TLS tunnel.
type ControlKey struct {
	// Type of the control-channel key: crypt-v2, crypt or auth.
	Kind ControlKind `json:"kind"`
	// Direction of an auth key on clients: 0, 1 or empty for both.
	Direction string `json:"direction,omitempty"`
	// File with the control-channel key; never read back. With crypt-v2 the server's own key, from
	// which each device gets one of its own, or one client's key for all.
	Key *secret.Text `json:"key,omitempty" writeOnly:"true"`
	// A key is stored.
	KeySet bool `json:"key_set" readOnly:"true"`
}

// TLSOffer is the TLS tunnel whose client files are .ovpn. Remotes are tried in their
// order.
type TLSOffer struct {
	// Remotes, in order of preference.
	Remotes []Remote `json:"remotes" required:"false"`
	// Client authentication: certificate-password, certificate, password.
	Auth []TLSAuth `json:"auth" required:"false"`
	// CAs of its certificate, PEM.
	Authority string `json:"authority,omitempty"`
	// Key of the control channel.
	ControlKey *ControlKey `json:"control_key,omitempty"`
	// Data ciphers such as AES-256-GCM, in order of preference.
	Ciphers []string `json:"ciphers" required:"false"`
	TLSOptions
}

// Clone copies the offers; lists in them are shared.
func (o Offers) Clone() Offers {
	o.L2TP, o.IKEv2, o.PPTP = part(o.L2TP, nil), part(o.IKEv2, nil), part(o.PPTP, nil)
	o.SSTP = part(o.SSTP, nil)
	o.TLS = part(o.TLS, func(t *TLSOffer) { t.ControlKey = part(t.ControlKey, nil) })
	return o
}

// Hidden is a copy of the offers without their secrets.
func (o Offers) Hidden() Offers {
	o = o.Clone()
	for _, at := range o.Secrets() {
		*at = nil
	}
	return o
}
