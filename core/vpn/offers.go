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
	return map[Protocol]bool{L2TP: o.L2TP != nil, IKEv2: o.IKEv2 != nil, PPTP: o.PPTP != nil, SSTP: o.SSTP != nil, TLS: o.TLS != nil}[p]
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
	Auth       []MachineAuth     `json:"auth" required:"false" doc:"How the machines prove themselves: psk, certificate. Empty means psk"`
	PSK        *secret.Text      `json:"psk,omitempty" writeOnly:"true" doc:"Pre-shared key; never read back. Leave it out to keep it, null removes it"`
	PSKSet     bool              `json:"psk_set" readOnly:"true" doc:"A pre-shared key is stored"`
	Aggressive bool              `json:"aggressive" required:"false" doc:"IKEv1 aggressive mode in the place of main mode"`
	Group      string            `json:"group,omitempty" doc:"Group name: the identity that clients send with the key"`
	RemoteID   string            `json:"remote_id,omitempty" doc:"By certificate: identity that the gateway sends; empty means the subject of its certificate, or else its address"`
	Authority  string            `json:"authority,omitempty" doc:"Authorities of the gateway's certificate, PEM"`
	PPP        []suite.PPPMethod `json:"ppp" required:"false" doc:"PPP authentication methods that the gateway takes: eap, mschapv2, mschap, chap, pap"`
	IKE        []string          `json:"ike" required:"false" doc:"IKE proposals that the gateway takes"`
	ESP        []string          `json:"esp" required:"false" doc:"ESP proposals that the gateway takes"`
}

// IKEv2Offer is IKEv2 (RFC 7296). Lifetimes are in minutes, DPD in seconds; 0 leaves
// them to the client. An ESP proposal with a group has PFS.
type IKEv2Offer struct {
	Auth            []IKEv2Auth  `json:"auth" required:"false" doc:"How clients prove themselves: eap-tls, certificate, eap-mschapv2, psk"`
	PSK             *secret.Text `json:"psk,omitempty" writeOnly:"true" doc:"Pre-shared key; never read back. Leave it out to keep it, null removes it"`
	PSKSet          bool         `json:"psk_set" readOnly:"true" doc:"A pre-shared key is stored"`
	RemoteID        string       `json:"remote_id,omitempty" doc:"Identity that the gateway sends; empty means its address"`
	LocalID         string       `json:"local_id,omitempty" doc:"Identity that clients with a pre-shared key send; others send the name in their certificate or their login"`
	Authority       string       `json:"authority,omitempty" doc:"Authorities of the gateway's certificate, PEM; empty where devices know them already"`
	IKE             []string     `json:"ike" required:"false" doc:"IKE proposals that the gateway takes"`
	ESP             []string     `json:"esp" required:"false" doc:"ESP proposals that the gateway takes; with a group there is PFS"`
	IKELifetime     int          `json:"ike_lifetime" required:"false" doc:"Lifetime of the IKE association in minutes; 0 leaves it to the client"`
	ChildLifetime   int          `json:"child_lifetime" required:"false" doc:"Lifetime of a child association in minutes; 0 leaves it to the client"`
	DPD             int          `json:"dpd" required:"false" doc:"Seconds between checks that the other end lives; 0 leaves it to the client"`
	NoMOBIKE        bool         `json:"no_mobike" required:"false" doc:"The gateway cannot follow a client to another address (RFC 4555)"`
	NoFragmentation bool         `json:"no_fragmentation" required:"false" doc:"The gateway does not take fragments of IKE messages (RFC 7383)"`
}

// PPTPOffer is PPTP (RFC 2637). MPPE lists the strengths of encryption that the gateway
// takes (RFC 3078); without any the link is not encrypted.
type PPTPOffer struct {
	PPP      []suite.PPPMethod `json:"ppp" required:"false" doc:"PPP authentication methods that the gateway takes"`
	MPPE     []suite.MPPE      `json:"mppe" required:"false" doc:"MPPE strengths in bits that the gateway takes: 128, 56, 40"`
	Stateful bool              `json:"stateful" required:"false" doc:"MPPE keeps its state from packet to packet"`
}

// SSTPOffer is SSTP (MS-SSTP): PPP in TLS.
type SSTPOffer struct {
	Port       int               `json:"port" required:"false" doc:"TCP port; 0 means 443"`
	PPP        []suite.PPPMethod `json:"ppp" required:"false" doc:"PPP authentication methods that the gateway takes"`
	Authority  string            `json:"authority,omitempty" doc:"Authorities of the gateway's certificate, PEM; empty where devices know them already"`
	ServerName string            `json:"server_name,omitempty" doc:"Name in the gateway's certificate; empty means its address"`
}

// Remote is one way to reach a gateway by the TLS tunnel.
type Remote struct {
	Address   string    `json:"address,omitempty" doc:"Host name or IP address; empty means the gateway's"`
	Port      int       `json:"port"`
	Transport Transport `json:"transport" doc:"udp or tcp"`
}

// ControlKey wraps the control channel of the TLS tunnel.
type ControlKey struct {
	Kind      ControlKind  `json:"kind" doc:"auth, crypt or crypt-v2"`
	Direction string       `json:"direction,omitempty" doc:"Direction of an auth key on the client: 0, 1 or empty for both ways"`
	Key       *secret.Text `json:"key,omitempty" writeOnly:"true" doc:"The key file; never read back"`
	KeySet    bool         `json:"key_set" readOnly:"true" doc:"A key is stored"`
}

// TLSOffer is the TLS tunnel whose client files are .ovpn. Remotes are tried in their
// order.
type TLSOffer struct {
	Remotes    []Remote    `json:"remotes" required:"false" doc:"Ways to reach the gateway, tried in this order"`
	Auth       []TLSAuth   `json:"auth" required:"false" doc:"How clients prove themselves: certificate-password, certificate, password"`
	Authority  string      `json:"authority,omitempty" doc:"Authorities of the gateway's certificate, PEM"`
	ControlKey *ControlKey `json:"control_key,omitempty"`
	Ciphers    []string    `json:"ciphers" required:"false" doc:"Data ciphers in order, such as AES-256-GCM"`
	Digest     string      `json:"digest,omitempty" doc:"Digest for ciphers without their own and for an auth key, such as SHA256"`
	MinTLS     string      `json:"min_tls,omitempty" doc:"Lowest TLS version: 1.2 or 1.3"`
	ServerName string      `json:"server_name,omitempty" doc:"Name that the gateway's certificate must have; empty checks only that it is a server's"`
	Keepalive  int         `json:"keepalive" required:"false" doc:"Seconds between keepalives; 0 leaves it to the gateway"`
}

// Hidden is a copy of the offers without their secrets.
func (o Offers) Hidden() Offers {
	o.L2TP, o.IKEv2 = part(o.L2TP, func(l *L2TPOffer) { l.PSK = nil }), part(o.IKEv2, func(i *IKEv2Offer) { i.PSK = nil })
	o.TLS = part(o.TLS, func(t *TLSOffer) { t.ControlKey = part(t.ControlKey, func(k *ControlKey) { k.Key = nil }) })
	return o
}
