package vpn

import (
	"fmt"
	"slices"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
)

// SwitchoverKind is what a switchover changes.
type SwitchoverKind string

// The kinds.
const (
	SwitchPSK         SwitchoverKind = "psk"
	SwitchControlKey  SwitchoverKind = "control-key"
	SwitchAuthority   SwitchoverKind = "authority"   // CAs of the gateway's certificate
	SwitchCertificate SwitchoverKind = "certificate" // the gateway's own
	SwitchAddress     SwitchoverKind = "address"
	SwitchPort        SwitchoverKind = "port"
	SwitchProposals   SwitchoverKind = "proposals"
	SwitchOffers      SwitchoverKind = "offers"
	SwitchRetirement  SwitchoverKind = "retirement"  // of the gateway
	SwitchRollover    SwitchoverKind = "ca-rollover" // of a CA that issues here
	SwitchRelease     SwitchoverKind = "release"     // of a group's devices
	SwitchPasswords   SwitchoverKind = "passwords"
)

// SwitchoverKinds lists the kinds.
var SwitchoverKinds = []SwitchoverKind{
	SwitchPSK, SwitchControlKey, SwitchAuthority, SwitchCertificate, SwitchAddress, SwitchPort,
	SwitchProposals, SwitchOffers, SwitchRetirement, SwitchRollover, SwitchRelease,
	SwitchPasswords,
}

var switchTitles = map[SwitchoverKind]string{
	SwitchPSK:         "new pre-shared key",
	SwitchControlKey:  "new control-channel key",
	SwitchAuthority:   "new CA of the gateway",
	SwitchCertificate: "new gateway certificate",
	SwitchAddress:     "new address",
	SwitchPort:        "new ports",
	SwitchProposals:   "new proposals",
	SwitchOffers:      "protocol change",
	SwitchRetirement:  "gateway retired",
	SwitchRollover:    "CA rollover",
	SwitchRelease:     "release upgrade",
	SwitchPasswords:   "new passwords",
}

// Title is what people call the kind.
func (k SwitchoverKind) Title() string { return switchTitles[k] }

// OfGateway tells whether a switchover of the kind changes a gateway's record.
func (k SwitchoverKind) OfGateway() bool {
	return k != SwitchRollover && k != SwitchRelease
}

// SwitchoverState is how far a switchover has come.
type SwitchoverState string

// The states.
const (
	SwitchDraft   SwitchoverState = "draft"   // nothing has changed yet
	SwitchRunning SwitchoverState = "running" // waves are handed over
	SwitchPaused  SwitchoverState = "paused"  // no further wave begins
	SwitchClosed  SwitchoverState = "closed"  // the old value is no longer valid
	SwitchUndone  SwitchoverState = "undone"  // the old value stays
)

// SwitchoverStates lists the states.
var SwitchoverStates = []SwitchoverState{
	SwitchDraft, SwitchRunning, SwitchPaused, SwitchClosed, SwitchUndone,
}

// Active tells whether two values are valid.
func (s SwitchoverState) Active() bool { return s == SwitchRunning || s == SwitchPaused }

// Switchover is a planned change of the fleet from an old value to a new one.
type Switchover struct {
	Meta
	// Unique name.
	Name string `json:"name" required:"true"`
	// What changes: psk, control-key, authority, certificate, address, port, proposals, offers,
	// retirement, ca-rollover, release or passwords.
	Kind SwitchoverKind `json:"kind" required:"true"`
	// Gateway whose record changes; of passwords, the gateway that they are for.
	GatewayID string `json:"gateway_id,omitempty"`
	// CA that is replaced, of a ca-rollover.
	AuthorityID string `json:"authority_id,omitempty"`
	// CA that replaces it.
	SuccessorID string `json:"successor_id,omitempty"`
	// New value.
	Next NextValue `json:"next" required:"false"`
	// Gateways that take the place of a retired one.
	SuccessorIDs []string `json:"successor_ids" required:"false"`
	// Only devices of people in this group; empty means all.
	Group string `json:"group,omitempty"`
	// Platform of the devices whose release changes.
	Platform Platform `json:"platform,omitempty"`

	// When the gateway accepts the new value; waves wait for it. Empty means at once.
	ValidFrom *time.Time `json:"valid_from,omitempty"`
	// When the old value is to end; the cut-off itself is confirmed by an operator.
	CutOff *time.Time `json:"cut_off,omitempty"`
	// Waves, in their order; without any, all devices are one.
	Waves []Wave `json:"waves" required:"false"`
	// Share of a wave that must be seen connected before the next one begins, in percent; 0
	// means that the next one is begun by hand.
	SeenShare int `json:"seen_share" required:"false"`
	// A wave waits until a rehearsal with the new value has passed and none has failed.
	Rehearse bool `json:"rehearse" required:"false"`
	// Share of the devices handed over whose people may report a problem before the switchover
	// is paused, in percent; 0 never pauses it.
	ReportShare int `json:"report_share" required:"false"`
	// Days after which people who have not taken their parcel are reminded by mail; 0 means
	// never.
	RemindDays int `json:"remind_days" required:"false"`
	// Links are sent by mail; otherwise they are read as a list.
	Mail bool `json:"mail" required:"false"`
	// Note for operators.
	Note string `json:"note,omitempty"`

	// How far it has come.
	State SwitchoverState `json:"state" readOnly:"true" enum:"draft,running,paused,closed,undone"`
	// Waves that have begun.
	Begun int `json:"begun" readOnly:"true"`
	// Why it is paused.
	Paused string `json:"paused,omitempty" readOnly:"true"`
	// When it was started.
	Started *time.Time `json:"started,omitempty" readOnly:"true"`
	// When it was closed or undone.
	Ended *time.Time `json:"ended,omitempty" readOnly:"true"`
	// When its preview was computed.
	Surveyed *time.Time `json:"surveyed,omitempty" readOnly:"true"`
}

// NextValue is what takes the place of the old value; only what belongs to the kind is set.
type NextValue struct {
	// Pre-shared key; never read back. Empty creates one.
	PSK *secret.Text `json:"psk,omitempty" writeOnly:"true"`
	// A pre-shared key is stored.
	PSKSet bool `json:"psk_set" readOnly:"true"`
	// Local identity of devices with the new pre-shared key, by which an IKEv2 gateway tells
	// the two keys apart; empty creates one.
	LocalID string `json:"local_id,omitempty"`
	// File with the control-channel key; never read back. Empty creates one.
	ControlKey *secret.Text `json:"control_key,omitempty" writeOnly:"true"`
	// A control-channel key is stored.
	ControlKeySet bool `json:"control_key_set" readOnly:"true"`
	// CAs of the gateway's certificate, PEM.
	Authority string `json:"authority,omitempty"`
	// Certificate of the gateway and its intermediates, PEM.
	Certificate string `json:"certificate,omitempty"`
	// Host name or IP address that clients connect to.
	Address string `json:"address,omitempty"`
	// IP addresses that the new name should resolve to.
	Addresses []string `json:"addresses,omitempty"`
	// Remotes of the TLS tunnel, in order of preference.
	Remotes []Remote `json:"remotes,omitempty"`
	// TCP port of SSTP.
	SSTPPort int `json:"sstp_port,omitempty"`
	// Protocols whose proposals change; empty means all that have some.
	Protocols []Protocol `json:"protocols,omitempty"`
	// IKE proposals.
	IKE []string `json:"ike,omitempty"`
	// ESP proposals.
	ESP []string `json:"esp,omitempty"`
	// Data ciphers of the TLS tunnel.
	Ciphers []string `json:"ciphers,omitempty"`
	// Protocols that are offered no longer.
	Drop []Protocol `json:"drop,omitempty"`
	// Protocols that are offered from now on, or in another way.
	Add *Offers `json:"add,omitempty"`
	// Release that the devices have afterwards.
	Release string `json:"release,omitempty"`
}

// Wave is a part of the fleet that gets the new value together.
type Wave struct {
	// Group of people whose devices are in it; empty takes devices by chance.
	Group string `json:"group,omitempty"`
	// Share of all devices that have the new value once the wave has begun, in percent; 0 for
	// a group.
	Share int `json:"share" required:"false"`
}

const (
	maxWaves      = 20
	maxRemindDays = 60
)

// Complete says which secrets are stored.
func (s *Switchover) Complete() {
	s.Next.PSKSet, s.Next.ControlKeySet = present(s.Next.PSK), present(s.Next.ControlKey)
}

// Secrets are the places of its secrets.
func (s *Switchover) Secrets() map[string]**secret.Text {
	at := map[string]**secret.Text{
		"next/psk": &s.Next.PSK, "next/control_key": &s.Next.ControlKey,
	}
	if s.Next.Add != nil {
		for field, place := range s.Next.Add.Secrets() {
			at["next/add/"+field[len("offers/"):]] = place
		}
	}
	return at
}

// Normalise gives what is not set its usual value.
func (s *Switchover) Normalise() {
	fill(&s.SuccessorIDs)
	fill(&s.Waves)
	if s.State == "" {
		s.State = SwitchDraft
	}
	s.Complete()
}

// Validate reports every field of a switchover that cannot be accepted.
func (s *Switchover) Validate() error {
	in := inspect("switchover")
	in.required("/name", s.Name, maxName)
	oneOf(in, "/kind", s.Kind, SwitchoverKinds)
	in.text("/group", s.Group, maxName, false)
	in.text("/note", s.Note, maxNote, false)
	if s.Kind.OfGateway() && s.GatewayID == "" {
		in.add("/gateway_id", "nothing", "the gateway that changes", "name it")
	}
	percent := func(at string, v int) {
		if v < 0 || v > 100 {
			in.add(at, fmt.Sprint(v), "0 to 100 percent", "correct the number")
		}
	}
	percent("/seen_share", s.SeenShare)
	percent("/report_share", s.ReportShare)
	if s.RemindDays < 0 || s.RemindDays > maxRemindDays {
		in.add("/remind_days", fmt.Sprint(s.RemindDays),
			fmt.Sprintf("0 to %d days", maxRemindDays), "correct the number")
	}
	if s.ValidFrom != nil && s.CutOff != nil && !s.ValidFrom.Before(*s.CutOff) {
		in.add("/cut_off", s.CutOff.UTC().Format(time.DateTime),
			"a time after the new value is valid", "choose a later one")
	}
	in.waves(s.Waves)
	in.next(s)
	return in.err()
}

func (in *inspector) waves(list []Wave) {
	if len(list) > maxWaves {
		in.add("/waves", fmt.Sprintf("%d waves", len(list)), fmt.Sprintf("at most %d", maxWaves),
			"join some")
	}
	last := 0
	for i, w := range list {
		at := fmt.Sprintf("/waves/%d", i)
		in.text(at+"/group", w.Group, maxName, false)
		if (w.Group == "") == (w.Share == 0) {
			in.add(at, "a group and a share, or neither", "one of them", "leave one out")
			continue
		}
		if w.Group != "" {
			continue
		}
		if w.Share <= last || w.Share > 100 {
			in.add(at+"/share", fmt.Sprint(w.Share),
				fmt.Sprintf("%d to 100 percent, more than the wave before", last+1),
				"let the shares grow")
		}
		last = w.Share
	}
	if len(list) > 0 && list[len(list)-1].Share != 100 {
		in.add("/waves", "a last wave that is not of all devices", "a share of 100 percent",
			"add one")
	}
}

// next inspects the new value, which must be there and belong to the kind.
func (in *inspector) next(s *Switchover) {
	n := s.Next
	in.secret("/next/psk", n.PSK)
	in.text("/next/local_id", n.LocalID, maxHost, false)
	certificates := func(at, text string) {
		if text == "" {
			return
		}
		if _, err := pki.Certificates(text); err != nil {
			in.add(at, err.Error(), "certificates in PEM form",
				"paste the file from BEGIN CERTIFICATE to END CERTIFICATE")
		}
	}
	certificates("/next/authority", n.Authority)
	certificates("/next/certificate", n.Certificate)
	if n.Address != "" {
		in.host("/next/address", n.Address)
	}
	each(in, "/next/addresses", n.Addresses, in.ip)
	each(in, "/next/remotes", n.Remotes, in.remote)
	if n.SSTPPort < 0 || n.SSTPPort > maxPort {
		in.add("/next/sstp_port", fmt.Sprint(n.SSTPPort), "a port from 1 to 65535",
			"correct the number")
	}
	each(in, "/next/protocols", n.Protocols, func(at string, v Protocol) {
		oneOf(in, at, v, Protocols)
	})
	each(in, "/next/drop", n.Drop, func(at string, v Protocol) { oneOf(in, at, v, Protocols) })
	each(in, "/next/ike", n.IKE, in.proposal)
	each(in, "/next/esp", n.ESP, in.proposal)
	each(in, "/next/ciphers", n.Ciphers, func(at, v string) { in.required(at, v, maxName) })
	wanted := map[SwitchoverKind]struct {
		at, expected string
		there        bool
	}{
		SwitchAuthority:   {"/next/authority", "the new CAs", n.Authority != ""},
		SwitchCertificate: {"/next/certificate", "the new certificate", n.Certificate != ""},
		SwitchAddress:     {"/next/address", "the new address", n.Address != ""},
		SwitchPort: {"/next/remotes", "the new remotes, or a port of SSTP",
			len(n.Remotes) > 0 || n.SSTPPort > 0},
		SwitchProposals: {"/next/ike", "new IKE or ESP proposals, or ciphers",
			len(n.IKE)+len(n.ESP)+len(n.Ciphers) > 0},
		SwitchOffers: {"/next/drop", "protocols that are dropped or added",
			len(n.Drop) > 0 || n.Add != nil},
		SwitchRetirement: {"/successor_ids", "the gateways that take its place",
			len(s.SuccessorIDs) > 0},
		SwitchRollover: {"/successor_id", "the CA that is replaced, and its successor",
			s.AuthorityID != "" && s.SuccessorID != ""},
		SwitchRelease: {"/next/release", "platform and new release",
			n.Release != "" && s.Platform != ""},
	}[s.Kind]
	if wanted.at != "" && !wanted.there {
		in.add(wanted.at, "nothing", wanted.expected, "fill it in")
	}
	if s.Platform != "" {
		oneOf(in, "/platform", s.Platform, Platforms)
	}
	if s.Kind == SwitchRollover && s.AuthorityID == s.SuccessorID && s.AuthorityID != "" {
		in.add("/successor_id", "the CA that is replaced", "another CA", "choose its successor")
	}
	if slices.Contains(s.SuccessorIDs, s.GatewayID) && s.GatewayID != "" {
		in.add("/successor_ids", "the gateway that is retired", "other gateways", "remove it")
	}
}
