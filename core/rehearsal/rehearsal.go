// Package rehearsal holds what a trial connection to a gateway came to: its steps, what was
// negotiated, what the gateway gave, and the cause where it failed.
package rehearsal

import (
	"net/netip"
	"time"

	"wardicon/core/vpn"
)

// State is what a step came to.
type State string

// The states. A step is skipped where one before it failed, or where there is nothing to try.
const (
	Passed  State = "passed"
	Failed  State = "failed"
	Skipped State = "skipped"
)

// StepName names a step.
type StepName string

// The steps, in their order.
const (
	Resolve  StepName = "name resolution"
	Exchange StepName = "key exchange"
	Gateway  StepName = "gateway authentication"
	SignIn   StepName = "sign-in"
	Address  StepName = "tunnel and address"
	Lookup   StepName = "internal name"
	Echo     StepName = "internal host"
	PathMTU  StepName = "path MTU"
	Connect  StepName = "internal service"
	HangUp   StepName = "disconnect"
)

// Steps lists them.
var Steps = []StepName{
	Resolve, Exchange, Gateway, SignIn, Address, Lookup, Echo, PathMTU, Connect, HangUp,
}

// Step is one step with its time.
type Step struct {
	Name  StepName `json:"name"`
	State State    `json:"state"         enum:"passed,failed,skipped"`
	// Milliseconds that it took.
	Took float64 `json:"took_ms"`
	// What was found, or what went wrong; never a secret.
	Found string `json:"found"`
}

// ShownCertificate is one that the gateway showed.
type ShownCertificate struct {
	Subject string    `json:"subject"`
	Issuer  string    `json:"issuer"`
	Expires time.Time `json:"expires"`
}

// Result is one rehearsal.
type Result struct {
	At time.Time `json:"at"`
	// Where it was made, such as a branch; empty means the service, or the machine of who asked.
	Place      string       `json:"place,omitempty"`
	File       string       `json:"file,omitempty"`
	Connection string       `json:"connection"`
	Protocol   vpn.Protocol `json:"protocol"`
	Server     string       `json:"server"`
	// Address of the gateway that was tried, with transport and port.
	Gateway string `json:"gateway,omitempty"`
	Passed  bool   `json:"passed"`
	// Milliseconds in all.
	Took  float64 `json:"took_ms"`
	Steps []Step  `json:"steps"`
	// Suite of the key exchange, or version and suite of TLS.
	Suite string `json:"suite,omitempty"`
	// How the gateway proved itself, and its certificates, its own first.
	Proof        string             `json:"proof,omitempty"`
	Certificates []ShownCertificate `json:"certificates"`
	// Suite of the tunnel.
	Tunnel    string       `json:"tunnel,omitempty"`
	Addresses []netip.Addr `json:"addresses"`
	DNS       []netip.Addr `json:"dns"`
	Domains   []string     `json:"domains"`
	Routes    []string     `json:"routes"`
	// Families whose default route goes through the tunnel: IPv4, IPv6.
	Default []string `json:"default"`
	// Bytes of packets inside the tunnel.
	Sent     int `json:"sent"`
	Received int `json:"received"`
	// Where the gateway gives something else than the file expects.
	Differences []string `json:"differences"`
	// The most likely cause of the failure, and its identifier.
	Cause   string `json:"cause,omitempty"`
	CauseID string `json:"cause_id,omitempty"`
	Fix     string `json:"fix,omitempty"`
}

// NotPermitted is the cause of a rehearsal that the machine did not let go on: it tells nothing of
// the gateway or of the file.
const NotPermitted = "capability-missing"

// Begun is a result of which nothing has come yet.
func Begun(at time.Time, file string, c vpn.Connection) Result {
	return Result{
		At: at.UTC(), File: file, Connection: c.Name, Protocol: c.Protocol, Server: c.Server,
		Steps: []Step{}, Certificates: []ShownCertificate{}, Addresses: []netip.Addr{},
		DNS: []netip.Addr{}, Domains: []string{}, Routes: []string{}, Default: []string{},
		Differences: []string{},
	}
}

// FailedAt is the step that failed; empty where none did.
func (r Result) FailedAt() StepName {
	for _, s := range r.Steps {
		if s.State == Failed {
			return s.Name
		}
	}
	return ""
}
