// Package check finds errors before a person meets them. Each check is a Rule, a
// value in the register; the driver here knows nothing of single rules.
package check

import (
	"cmp"
	"crypto"
	"crypto/x509"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/rehearsal"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Rule is one check. Why speaks to the administrator, Plain to the person who will use the
// device and has never heard of a VPN; Source is an RFC section, a vendor reference, or "practice".
type Rule struct {
	Code     string       `json:"code"`
	Title    string       `json:"title"`
	Severity vpn.Severity `json:"severity"`
	Fields   []vpn.Field  `json:"fields"`
	// What it leads to, for the administrator.
	Why string `json:"why"`
	// What it means for the person who uses the device.
	Plain  string `json:"plain"`
	Fix    string `json:"fix"`
	Source string `json:"source"`
	// It looks at a gateway's record alone: found once at the gateway, not on every profile.
	Record bool    `json:"record"`
	Bad    Example `json:"bad"`
	Good   Example `json:"good"`
	run    func(*Subject) []Hit
}

// Example is a change to a sound subject that the rule must find (Bad) or must
// leave alone (Good). It cannot be told from JSON how to apply it.
type Example struct {
	Text string `json:"text"`
	set  func(*Subject)
}

// Hit is what a rule reports: the field, what was found there (never a secret) and,
// where the rule's own fix is too general, a better one. From and To are a change of one
// value that is sure to be meant, Line one of a line of a file.
type Hit struct {
	Field    vpn.Field
	Found    string
	Fix      string
	At       *format.Position
	From, To string
	Line     *format.LineFix
	Place    *Spot // where the field does not tell
	// Takes the place of the rule's where this hit is milder.
	Severity vpn.Severity
}

// Repair is a mechanical fix: of a value, or of a line in a file. It may hold a secret and
// is never shown as it is.
type Repair struct {
	Field    vpn.Field
	From, To string
	Line     *format.LineFix
}

// Spot is the field of a record that a finding concerns.
type Spot struct {
	Noun    string `json:"noun"` // gateway, account, device, profile, person
	ID      string `json:"id"`
	Pointer string `json:"pointer"` // JSON pointer into that record
}

// Finding is what a check says of a profile or of a file.
type Finding struct {
	Rule     string           `json:"rule"`
	Severity vpn.Severity     `json:"severity" enum:"error,warning,note"`
	Title    string           `json:"title"`
	Field    vpn.Field        `json:"field"`
	Found    string           `json:"found"`
	Why      string           `json:"why"`
	Fix      string           `json:"fix"`
	Place    *Spot            `json:"place,omitempty"`
	Position *format.Position `json:"position,omitempty"`
	// Wardicon can fix it by itself.
	Fixable bool `json:"fixable"`
	// Why this error does not block.
	Override *Override `json:"override,omitempty"`
	Repair   *Repair   `json:"-"`
}

// Override lets an error on one profile pass as a warning, for a reason and a time.
type Override struct {
	Rule     string    `json:"rule"`
	Reason   string    `json:"reason"`
	Until    time.Time `json:"until"`
	Operator string    `json:"operator"`
}

// Off is the severity of a rule that its owner has switched off.
const Off vpn.Severity = "off"

// Policy is how the owner of the service wants rules to be taken: their severities, and
// for one profile the errors that may pass.
type Policy struct {
	Severities map[string]vpn.Severity
	Overrides  []Override
}

// Sibling is another profile on the same device.
type Sibling struct {
	Name       string
	GatewayID  string
	Routes     []string
	Connect    vpn.Connect
	Identifier string
}

// Subject is what is checked: a connection and, as far as they are known, the
// records behind it or the places in the file that it was read from.
type Subject struct {
	Connection vpn.Connection
	Gateway    *vpn.Gateway // of a plan
	Against    *vpn.Gateway // the record that a file is compared with
	Account    *vpn.Account
	Person     *vpn.Person
	Device     *vpn.Device
	Release    *platform.Found
	Ability    *platform.Ability
	Offered    bool // the gateway has an offer; only with a Gateway
	Unmet      []plan.Unmet
	Passed     []plan.Passed
	Unfit      *format.UnfitError // what the writer of the file refuses
	Siblings   []Sibling
	Fallback   *vpn.Gateway // the second gateway of the profile
	OwnFile    string       // why that one needs a connection of its own
	SecondTo   string       // the gateway to which this profile's is the second choice
	Neighbours []Neighbour  // other routers with sites behind the same gateway
	ProfileID  string
	PatternID  string
	Positions  map[vpn.Field]format.Position
	Notes      []format.Note
	Now        time.Time // the zero time keeps rules about dates silent
	Policy     Policy

	Beside  []Held                 // certificates that came along
	Keys    []crypto.Signer        // and keys
	Revoked []*x509.RevocationList // and lists of what was revoked
	Bags    []Packed
	Size    int      // bytes of the file
	Pieces  []string // files that the file needs beside it
	Reused  []Reuse
	Damaged []Damage

	judged   map[vpn.Field]judged
	Alike    []string // logins that differ from the account's in capitals only
	Live     *Live
	Outdated bool // the last parcel was built from other data
	// Rehearsed is what the newest rehearsal of the last parcel came to; nil where there is none.
	Rehearsed *rehearsal.Result
	// RehearsedBefore is set where any parcel was rehearsed, and RehearsalRequired where the
	// pattern demands that of the last one.
	RehearsedBefore, RehearsalRequired bool
	Apart                              []vpn.Field // what is not in the file, and need not be
	Handing                            *Handing    // how a parcel is to be given to its person

	certificates *[]Held
	cache        *cache // what rules share within a run; nil outside of one

	// Compare holds a secret of a file to the record of its gateway; nil where there is none.
	Compare func(field vpn.Field, value secret.Text) Compared

	// Judge estimates a secret; nil takes secret.Judge. A service hands in a memo.
	Judge func(t secret.Text, words ...string) secret.Estimate
}

// record is the gateway's record, wherever it came from; nil where none is known.
func (s *Subject) record() *vpn.Gateway {
	if s.Gateway != nil {
		return s.Gateway
	}
	return s.Against
}

// Planned makes a subject of a plan and what it was made from.
func Planned(in plan.Input, p plan.Plan, siblings []Sibling) *Subject {
	in.Gateway.SignIn = in.Gateway.SignInBy(p.Connection.Protocol)
	return &Subject{
		Connection: p.Connection,
		Gateway:    &in.Gateway,
		Account:    p.Account,
		Person:     &in.Person,
		Device:     &in.Device,
		Release:    &p.Release,
		Ability:    &p.Ability,
		Offered:    p.Offered,
		Unmet:      p.Unmet,
		Passed:     p.Passed,
		Unfit:      p.Unfit,
		Fallback:   in.Fallback,
		OwnFile:    p.Apart,
		SecondTo:   in.Profile.Preferences.SecondTo,
		Siblings:   siblings,
		ProfileID:  in.Profile.ID,
		PatternID:  in.Pattern.ID,
	}
}

// Run applies every rule. Findings come with the most severe first, in the order of
// the register within one severity.
func Run(s *Subject) []Finding { return run(s, Register) }

// RunProfile leaves out the rules that look at the gateway's record alone.
func RunProfile(s *Subject) []Finding { return run(s, profileRules()) }

// RunGateway applies those to a record.
func RunGateway(g vpn.Gateway, now time.Time, p Policy) []Finding {
	return run(
		&Subject{Gateway: &g, Person: &vpn.Person{}, Device: &vpn.Device{}, Now: now, Policy: p},
		recordRules(),
	)
}

var (
	profileRules = sync.OnceValue(func() []Rule {
		return slices.DeleteFunc(slices.Clone(Register), func(r Rule) bool { return r.Record })
	})
	recordRules = sync.OnceValue(func() []Rule {
		return slices.DeleteFunc(slices.Clone(Register), func(r Rule) bool { return !r.Record })
	})
)

// liveCodes are the rules that look at what was asked on the network.
var liveCodes = sync.OnceValue(func() map[string]bool {
	codes := map[string]bool{}
	for _, r := range liveRules {
		codes[r.Code] = true
	}
	return codes
})

// cache is what several rules compute alike from a subject.
type cache struct {
	parts []part
	typed []typed
	paths map[**x509.Certificate]path // by the place of their chain
}

type path struct {
	links  []*x509.Certificate
	broken pki.Break
}

func run(s *Subject, rules []Rule) []Finding {
	findings := []Finding{}
	s.cache = &cache{s.sides(), s.values(), map[**x509.Certificate]path{}}
	defer func() { s.cache = nil }()
	for i := range rules {
		rule := &rules[i]
		if s.Policy.Severities[rule.Code] == Off {
			continue
		}
		for _, hit := range rule.run(s) {
			f := rule.finding(s, hit)
			if s.Live != nil && liveCodes()[rule.Code] {
				f = s.weighed(rule, f)
			}
			findings = append(findings, f)
		}
	}
	bySeverity(findings)
	return findings
}

func bySeverity(findings []Finding) {
	rank := map[vpn.Severity]int{vpn.Error: 0, vpn.Warning: 1, vpn.Note: 2}
	slices.SortStableFunc(
		findings,
		func(a, b Finding) int { return cmp.Compare(rank[a.Severity], rank[b.Severity]) },
	)
}

func (r *Rule) finding(s *Subject, hit Hit) Finding {
	f := Finding{
		Rule:     r.Code,
		Severity: r.Severity,
		Title:    r.Title,
		Field:    hit.Field,
		Found:    hit.Found,
		Why:      r.Why,
		Fix:      r.Fix,
	}
	if hit.Fix != "" {
		f.Fix = hit.Fix
	}
	if hit.Severity != "" {
		f.Severity = hit.Severity
	}
	if severity, ok := s.Policy.Severities[r.Code]; ok {
		f.Severity = severity
	}
	if hit.To != "" || hit.Line != nil {
		f.Fixable, f.Repair = true, &Repair{hit.Field, hit.From, hit.To, hit.Line}
	}
	for _, o := range s.Policy.Overrides {
		if o.Rule == r.Code && f.Severity == vpn.Error && s.Now.Before(o.Until) {
			f.Severity, f.Override = vpn.Warning, &o
		}
	}
	if f.Place = hit.Place; f.Place == nil {
		f.Place = s.place(hit.Field)
	}
	if hit.At != nil {
		f.Position = hit.At
	} else if at, ok := s.Positions[hit.Field]; ok {
		f.Position = &at
	}
	return f
}

// Count tallies findings by severity.
func Count(findings []Finding) vpn.Tally {
	var t vpn.Tally
	for _, f := range findings {
		t.Add(f.Severity)
	}
	return t
}

// Lookup finds a rule by its code.
func Lookup(code string) (Rule, bool) {
	i := slices.IndexFunc(Register, func(r Rule) bool { return r.Code == code })
	if i < 0 {
		return Rule{}, false
	}
	return Register[i], true
}

// place says which record a field belongs to; nil for a file.
func (s *Subject) place(f vpn.Field) *Spot {
	if s.Gateway == nil {
		return nil
	}
	gateway := func(pointer string) *Spot { return &Spot{"gateway", s.Gateway.ID, pointer} }
	profile := func(pointer string) *Spot { return &Spot{"profile", s.ProfileID, pointer} }
	account := func(pointer string) *Spot {
		if s.Account == nil {
			return &Spot{"person", s.Person.ID, ""}
		}
		return &Spot{"account", s.Account.ID, pointer}
	}
	switch f {
	case vpn.FieldName:
		return profile("/preferences/name")
	case vpn.FieldTunnel:
		return profile("/preferences/tunnel")
	case vpn.FieldPasswordMode:
		return profile("/preferences/password")
	case vpn.FieldScope:
		return profile("/preferences/scope")
	case vpn.FieldAccount:
		return account("")
	case vpn.FieldLogin:
		return account("/login")
	case vpn.FieldRealm:
		return account("/realm")
	case vpn.FieldPassword:
		return account("/password")
	case vpn.FieldProtocol:
		return gateway("/offers")
	case vpn.FieldServer:
		return gateway("/address")
	case vpn.FieldPSK,
		vpn.FieldPPP,
		vpn.FieldIKE,
		vpn.FieldESP,
		vpn.FieldMPPE,
		vpn.FieldPort,
		vpn.FieldAuth,
		vpn.FieldAuthority,
		vpn.FieldRemoteID,
		vpn.FieldRemotes,
		vpn.FieldControl,
		vpn.FieldCiphers,
		vpn.FieldDigest,
		vpn.FieldMinTLS,
		vpn.FieldServerName,
		vpn.FieldGroup,
		vpn.FieldKeepalive,
		vpn.FieldDPD:
		return gateway("/offers/" + string(s.Connection.Protocol) + "/" + string(f))
	case vpn.FieldIdentity:
		return &Spot{"device", s.Device.ID, "/identity"}
	case vpn.FieldConnect,
		vpn.FieldDemand,
		vpn.FieldIPv6,
		vpn.FieldReconnect,
		vpn.FieldUnmetered,
		vpn.FieldProxy:
		if s.PatternID != "" {
			return &Spot{"pattern", s.PatternID, "/" + string(f)}
		}
	case vpn.FieldRoutes:
		return gateway("/routes")
	case vpn.FieldDNS:
		return gateway("/dns")
	case vpn.FieldDomains:
		return gateway("/domains")
	case vpn.FieldAnnounced:
		return gateway("/announced")
	case vpn.FieldPool:
		return gateway("/pool")
	case vpn.FieldNAT:
		return gateway("/behind_nat")
	case vpn.FieldPlatform:
		return &Spot{"device", s.Device.ID, "/platform"}
	case vpn.FieldRelease:
		return &Spot{"device", s.Device.ID, "/release"}
	case vpn.FieldFallback:
		return profile("/preferences/fallback_id")
	case vpn.FieldSite:
		return &Spot{"device", s.Device.ID, "/site"}
	case vpn.FieldOffboarded:
		return &Spot{"device", s.Device.ID, "/offboarded"}
	}
	return profile("")
}

// quote shows a value so that nothing in it can be overlooked: blanks at the ends
// are drawn, invisible characters are written by their code point.
func quote(v string) string {
	if runes := []rune(v); len(runes) > 80 {
		v = string(runes[:80]) + "…"
	}
	var b strings.Builder
	trimmed := strings.TrimSpace(v)
	start := strings.Index(v, trimmed)
	for i, r := range v {
		switch {
		case r == ' ' && (i < start || i >= start+len(trimmed)):
			b.WriteRune(secret.SpaceSign)
		case secret.Unseen(r):
			b.WriteString(secret.CodePoint(r))
		default:
			b.WriteRune(r)
		}
	}
	return strconv.QuoteToGraphic(b.String())
}

// Apply changes a sound subject as the example says.
func (e Example) Apply(s *Subject) { e.set(s) }
