package view

import "time"

// Probe is what a gateway answered on the network, next to what its record says.
type Probe struct {
	GatewayID   string      `json:"gateway_id"`
	Gateway     string      `json:"gateway"`
	At          time.Time   `json:"at"`
	IKEv2       []ProbedIKE `json:"ikev2" doc:"One for each address"`
	Differences []string    `json:"differences" doc:"What is not as the record says"`
}

// ProbedIKE is how a gateway answered to the beginning of IKEv2 at one address.
type ProbedIKE struct {
	Address          string   `json:"address"`
	Answered         bool     `json:"answered"`
	Milliseconds     float64  `json:"milliseconds" doc:"Until the first answer"`
	Taken            []string `json:"taken" doc:"Suites that it takes"`
	Refused          []string `json:"refused" doc:"Suites that it refuses"`
	Cookie           bool     `json:"cookie" doc:"It wants a cookie first, as a gateway under load does (RFC 7296 §2.6)"`
	Fragmentation    bool     `json:"fragmentation" doc:"It takes IKE messages in fragments (RFC 7383)"`
	GatewayBehindNAT bool     `json:"gateway_behind_nat" doc:"Its address is translated on the way, or it wants encapsulation as if it were (RFC 7296 §2.23)"`
	HereBehindNAT    bool     `json:"here_behind_nat" doc:"The service itself stands behind address translation"`
	Notes            []string `json:"notes"`
	Fault            string   `json:"fault,omitempty" doc:"What kept it from being asked to the end"`
}

// Note adds a note once.
func (r *ProbedIKE) Note(text string) {
	for _, n := range r.Notes {
		if n == text {
			return
		}
	}
	r.Notes = append(r.Notes, text)
}
