// Package drift has what gateways on the network were seen to answer, and says where that is not as their records say.
// It opens no sockets.
package drift

import (
	"slices"
	"time"

	"wardicon/core/vpn"
)

// Probe is what a gateway answered on the network, next to what its record says.
type Probe struct {
	ID          string       `json:"id,omitempty" doc:"Empty for one that was not kept: of an address that is not on record"`
	GatewayID   string       `json:"gateway_id,omitempty"`
	Gateway     string       `json:"gateway" doc:"Name of the gateway, or the address that is not on record"`
	At          time.Time    `json:"at"`
	By          string       `json:"by" doc:"Who started it; schedule for the service itself"`
	Names       []Resolved   `json:"names" doc:"What DNS returned for each name on record"`
	Answers     []Answer     `json:"answers" doc:"One for each protocol, address and port"`
	Differences []Difference `json:"differences" doc:"Differences from the record, and what should not be"`
}

// State sums a probe up: answers, partly, silent, or differs where something answers and is not as on record.
func (p Probe) State() State {
	answered := 0
	for _, a := range p.Answers {
		if a.State == Answered || a.State == Faulty {
			answered++
		}
	}
	switch {
	case answered == 0 && slices.ContainsFunc(p.Names, func(r Resolved) bool { return r.Fault != "" && len(r.Addresses) == 0 }):
		return Unresolved // nobody knows whether it answers
	case len(p.Answers) == 0 || answered == 0:
		return NoResponse
	case slices.ContainsFunc(p.Differences, func(d Difference) bool { return d.Severity != vpn.Note }):
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
	Name         string   `json:"name"`
	Addresses    []string `json:"addresses"`
	Missing      bool     `json:"missing" doc:"There is no such name"`
	Milliseconds float64  `json:"milliseconds"`
	Fault        string   `json:"fault,omitempty" doc:"Why there was no answer"`
}

// AnswerState is how a gateway answered in one protocol at one port.
type AnswerState string

// The states.
const (
	Answered AnswerState = "answers"     // as the protocol says
	Silent   AnswerState = "no-response" // nothing came back
	Closed   AnswerState = "closed"      // the system at that address says that nothing listens there, or ends the connection
	Faulty   AnswerState = "faulty"      // something came back that the protocol does not know there
	Unprobed AnswerState = "unprobed"    // it could not be asked
)

// Answer is how a gateway answered in one protocol at one address and port.
type Answer struct {
	Protocol     vpn.Protocol  `json:"protocol"`
	Method       string        `json:"method" doc:"What was probed"`
	Transport    vpn.Transport `json:"transport"`
	Address      string        `json:"address" doc:"Address and port that were probed"`
	Port         int           `json:"port" doc:"Port on record"`
	State        AnswerState   `json:"state"`
	Milliseconds float64       `json:"milliseconds" doc:"From the first packet to the first response"`
	Packets      int           `json:"packets" doc:"Packets, or messages by TCP, that were sent"`
	Notes        []string      `json:"notes"`
	Fault        string        `json:"fault,omitempty" doc:"Why the probe is incomplete"`
	IKE          *IKE          `json:"ike,omitempty"`
	TLS          *TLS          `json:"tls,omitempty"`
	Peer         *Peer         `json:"peer,omitempty"`
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
	Taken            []string `json:"taken" doc:"Suites that it accepts"`
	Refused          []string `json:"refused" doc:"Suites that it rejects"`
	Unprobed         []string `json:"unprobed" doc:"Suites that were not probed: that many half-open associations look like an attack, or they cannot be tested from here"`
	Wanted           []string `json:"wanted" doc:"Groups that it requested instead of the offered one"`
	Cookie           bool     `json:"cookie" doc:"It requires a cookie, as a gateway under load does (RFC 7296 §2.6)"`
	Fragmentation    bool     `json:"fragmentation" doc:"It supports IKE fragmentation (RFC 7383)"`
	GatewayBehindNAT bool     `json:"gateway_behind_nat" doc:"It is behind NAT, or requests UDP encapsulation as if it were (RFC 7296 §2.23)"`
	HereBehindNAT    bool     `json:"here_behind_nat" doc:"The service itself is behind NAT"`
	NATKnown         bool     `json:"nat_known" doc:"It reported the addresses that it sees"`
	Redirect         string   `json:"redirect,omitempty" doc:"Where it redirects clients (RFC 5685)"`
	Identity         string   `json:"identity,omitempty" doc:"Identity that it sends in aggressive mode"`
	HashShown        bool     `json:"hash_shown" doc:"It sent a hash that allows offline guessing of the pre-shared key (RFC 2409 §5.4)"`
	Vendors          []string `json:"vendors" doc:"Vendor identifiers that are known"`
}

// TLS is what TLS shows before sign-in.
type TLS struct {
	Version     string   `json:"version" doc:"The newest common version"`
	Cipher      string   `json:"cipher"`
	Old         string   `json:"old,omitempty" doc:"An old version that it also accepts"`
	Certificate string   `json:"certificate,omitempty" doc:"The certificate with its chain, PEM"`
	Subject     string   `json:"subject,omitempty"`
	Issuer      string   `json:"issuer,omitempty"`
	Names       []string `json:"names" doc:"Names in the certificate"`
	Expires     string   `json:"expires,omitempty" doc:"Expiry of the certificate, RFC 3339"`
}

// Peer is how the end of a PPP tunnel introduces itself.
type Peer struct {
	Host     string `json:"host,omitempty"`
	Vendor   string `json:"vendor,omitempty"`
	Firmware string `json:"firmware,omitempty"`
}

// Difference is what a probe saw that is not as the record says, or that should not be. Take tells whether the record
// can take over what was seen.
type Difference struct {
	Code     string       `json:"code"`
	Severity vpn.Severity `json:"severity"`
	Protocol vpn.Protocol `json:"protocol,omitempty"`
	Address  string       `json:"address,omitempty"`
	Record   string       `json:"record" doc:"Value on record"`
	Seen     string       `json:"seen" doc:"Value of the probe"`
	Text     string       `json:"text"`
	Fix      string       `json:"fix"`
	Take     bool         `json:"take" doc:"The probe result can be accepted into the record"`
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
	Protocol     vpn.Protocol `json:"protocol"`
	Method       string       `json:"method"`
	Address      string       `json:"address"`
	Port         int          `json:"port" doc:"On record"`
	State        AnswerState  `json:"state"`
	Milliseconds float64      `json:"milliseconds"`
}

// Row is the probe in a list.
func (p Probe) Row() ProbeRow {
	row := ProbeRow{ID: p.ID, GatewayID: p.GatewayID, Gateway: p.Gateway, At: p.At, By: p.By, State: p.State(), Differences: len(p.Differences), Times: []AnswerTime{}}
	for _, a := range p.Answers {
		row.Times = append(row.Times, AnswerTime{a.Protocol, a.Method, a.Address, a.Port, a.State, a.Milliseconds})
	}
	return row
}

// Note adds a note once.
func (a *Answer) Note(text string) {
	if !slices.Contains(a.Notes, text) {
		a.Notes = append(a.Notes, text)
	}
}

// Add adds what the same gateway answered when it was asked for more suites. One that had answered and then did not
// stays as it was.
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
		a.IKE.NATKnown, a.IKE.GatewayBehindNAT, a.IKE.HereBehindNAT = true, more.IKE.GatewayBehindNAT, more.IKE.HereBehindNAT
	}
	for _, w := range more.IKE.Wanted {
		if !slices.Contains(a.IKE.Wanted, w) {
			a.IKE.Wanted = append(a.IKE.Wanted, w)
		}
	}
}
