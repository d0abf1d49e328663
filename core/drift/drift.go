// Package drift has what gateways on the network were seen to answer, and says where that is not as
// their records say. It opens no sockets.
package drift

import (
	"slices"
	"time"

	"wardicon/core/vpn"
)

// Probe is what a gateway answered on the network, next to what its record says.
type Probe struct {
	// Empty for one that was not kept: of an address that is not on record.
	ID        string `json:"id,omitempty"`
	GatewayID string `json:"gateway_id,omitempty"`
	// Name of the gateway, or the address that is not on record.
	Gateway string    `json:"gateway"`
	At      time.Time `json:"at"`
	// Who started it; schedule for the service itself.
	By string `json:"by"`
	// What DNS returned for each name on record.
	Names []Resolved `json:"names"`
	// One for each protocol, address and port.
	Answers []Answer `json:"answers"`
	// Differences from the record, and what should not be.
	Differences []Difference `json:"differences"`
}

// State sums a probe up: answers, partly, silent, or differs where something answers and is not as
// on record.
func (p Probe) State() State {
	answered := 0
	for _, a := range p.Answers {
		if a.State == Answered || a.State == Faulty {
			answered++
		}
	}
	switch {
	case answered == 0 && slices.ContainsFunc(p.Names,
		func(r Resolved) bool { return r.Fault != "" && len(r.Addresses) == 0 }):
		return Unresolved // nobody knows whether it answers
	case len(p.Answers) == 0 || answered == 0:
		return NoResponse
	case slices.ContainsFunc(p.Differences, func(d Difference) bool {
		return d.Severity != vpn.Note
	}):
		return Differs
	default:
		return Matches
	}
}

// State is what a probe comes to.
type State string

// The states of a probe.
const (
	Matches    State = "matches"     // everything answers, and as the record says
	Differs    State = "differs"     // something is not as the record says
	NoResponse State = "no-response" // nothing answers

	Unresolved State = "unresolved" // the name server did not answer, so that it was not found out
)

// Resolved is what the name server said of a name.
type Resolved struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses"`
	// There is no such name.
	Missing      bool    `json:"missing"`
	Milliseconds float64 `json:"milliseconds"`
	// Why there was no answer.
	Fault string `json:"fault,omitempty"`
}

// AnswerState is how a gateway answered in one protocol at one port.
type AnswerState string

// The states.
const (
	Answered AnswerState = "answers"     // as the protocol says
	Silent   AnswerState = "no-response" // nothing came back
	// the system at that address says that nothing listens there, or ends the connection
	Closed AnswerState = "closed"
	// something came back that the protocol does not know there
	Faulty   AnswerState = "faulty"
	Unprobed AnswerState = "unprobed" // it could not be asked
)

// Answer is how a gateway answered in one protocol at one address and port.
type Answer struct {
	Protocol vpn.Protocol `json:"protocol"`
	// What was probed.
	Method    string        `json:"method"`
	Transport vpn.Transport `json:"transport"`
	// Address and port that were probed.
	Address string `json:"address"`
	// Port on record.
	Port  int         `json:"port"`
	State AnswerState `json:"state"`
	// From the first packet to the first response.
	Milliseconds float64 `json:"milliseconds"`
	// Packets, or messages by TCP, that were sent.
	Packets int      `json:"packets"`
	Notes   []string `json:"notes"`
	// Why the probe is incomplete.
	Fault string `json:"fault,omitempty"`
	IKE   *IKE   `json:"ike,omitempty"`
	TLS   *TLS   `json:"tls,omitempty"`
	Peer  *Peer  `json:"peer,omitempty"`
}

// Methods of asking.
const (
	MethodIKEv2      = "IKEv2"
	MethodMain       = "IKEv1 main mode"
	MethodAggressive = "IKEv1 aggressive mode"
	MethodBareL2TP   = "L2TP without IPsec"
	MethodPPTP       = "PPTP control channel"
	MethodSSTP       = "SSTP"
	MethodTunnel     = "TLS tunnel"
)

// IKE is what the beginning of IKE shows.
type IKE struct {
	// Suites that it accepts.
	Taken []string `json:"taken"`
	// Suites that it rejects.
	Refused []string `json:"refused"`
	// Suites that were not probed: that many half-open associations look like an attack, or they
	// cannot be tested from here.
	Unprobed []string `json:"unprobed"`
	// Groups that it requested instead of the offered one.
	Wanted []string `json:"wanted"`
	// It requires a cookie, as a gateway under load does (RFC 7296 §2.6).
	Cookie bool `json:"cookie"`
	// It supports IKE fragmentation (RFC 7383).
	Fragmentation bool `json:"fragmentation"`
	// It is behind NAT, or requests UDP encapsulation as if it were (RFC 7296 §2.23).
	GatewayBehindNAT bool `json:"gateway_behind_nat"`
	// The service itself is behind NAT.
	HereBehindNAT bool `json:"here_behind_nat"`
	// It reported the addresses that it sees.
	NATKnown bool `json:"nat_known"`
	// Where it redirects clients (RFC 5685).
	Redirect string `json:"redirect,omitempty"`
	// Identity that it sends in aggressive mode.
	Identity string `json:"identity,omitempty"`
	// It sent a hash that allows offline guessing of the pre-shared key (RFC 2409 §5.4).
	HashShown bool `json:"hash_shown"`
	// Vendor identifiers that are known.
	Vendors []string `json:"vendors"`
}

// TLS is what TLS shows before sign-in.
type TLS struct {
	// The newest common version.
	Version string `json:"version"`
	Cipher  string `json:"cipher"`
	// An old version that it also accepts.
	Old string `json:"old,omitempty"`
	// The certificate with its chain, PEM.
	Certificate string `json:"certificate,omitempty"`
	Subject     string `json:"subject,omitempty"`
	Issuer      string `json:"issuer,omitempty"`
	// Names in the certificate.
	Names []string `json:"names"`
	// Expiry of the certificate, RFC 3339.
	Expires string `json:"expires,omitempty"`
}

// Peer is how the end of a PPP tunnel introduces itself.
type Peer struct {
	Host     string `json:"host,omitempty"`
	Vendor   string `json:"vendor,omitempty"`
	Firmware string `json:"firmware,omitempty"`
}

// Difference is what a probe saw that is not as the record says, or that should not be. Take tells
// whether the record can take over what was seen.
type Difference struct {
	Code     string       `json:"code"`
	Severity vpn.Severity `json:"severity"`
	Protocol vpn.Protocol `json:"protocol,omitempty"`
	Address  string       `json:"address,omitempty"`
	// Value on record.
	Record string `json:"record"`
	// Value of the probe.
	Seen string `json:"seen"`
	Text string `json:"text"`
	Fix  string `json:"fix"`
	// The probe result can be accepted into the record.
	Take bool `json:"take"`
}

// ProbeRow is a probe in a list: what it came to, and how fast each protocol answered.
type ProbeRow struct {
	ID          string       `json:"id"`
	GatewayID   string       `json:"gateway_id"`
	Gateway     string       `json:"gateway"`
	At          time.Time    `json:"at"`
	By          string       `json:"by"`
	State       State        `json:"state"`
	Differences int          `json:"differences"`
	Times       []AnswerTime `json:"times"`
}

// AnswerTime is how fast something answered; nothing answered where State says so.
type AnswerTime struct {
	Protocol vpn.Protocol `json:"protocol"`
	Method   string       `json:"method"`
	Address  string       `json:"address"`
	// On record.
	Port         int         `json:"port"`
	State        AnswerState `json:"state"`
	Milliseconds float64     `json:"milliseconds"`
}

// Row is the probe in a list.
func (p Probe) Row() ProbeRow {
	row := ProbeRow{
		ID:          p.ID,
		GatewayID:   p.GatewayID,
		Gateway:     p.Gateway,
		At:          p.At,
		By:          p.By,
		State:       p.State(),
		Differences: len(p.Differences),
		Times:       []AnswerTime{},
	}
	for _, a := range p.Answers {
		row.Times = append(
			row.Times,
			AnswerTime{a.Protocol, a.Method, a.Address, a.Port, a.State, a.Milliseconds},
		)
	}
	return row
}

// Note adds a note once.
func (a *Answer) Note(text string) {
	if !slices.Contains(a.Notes, text) {
		a.Notes = append(a.Notes, text)
	}
}

// Add adds what the same gateway answered when it was asked for more suites. One that had answered
// and then did not stays as it was.
func (a *Answer) Add(more Answer) {
	a.Packets += more.Packets
	for _, n := range more.Notes {
		a.Note(n)
	}
	if more.State != Answered || a.IKE == nil || more.IKE == nil {
		return
	}
	a.IKE.Taken = append(a.IKE.Taken, more.IKE.Taken...)
	a.IKE.Refused = append(a.IKE.Refused, more.IKE.Refused...)
	a.IKE.Unprobed = append(a.IKE.Unprobed, more.IKE.Unprobed...)
	a.IKE.Fragmentation = a.IKE.Fragmentation || more.IKE.Fragmentation
	if more.IKE.NATKnown {
		a.IKE.NATKnown, a.IKE.GatewayBehindNAT, a.IKE.HereBehindNAT =
			true, more.IKE.GatewayBehindNAT, more.IKE.HereBehindNAT
	}
	for _, w := range more.IKE.Wanted {
		if !slices.Contains(a.IKE.Wanted, w) {
			a.IKE.Wanted = append(a.IKE.Wanted, w)
		}
	}
}
