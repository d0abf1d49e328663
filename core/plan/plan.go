// Package plan plans how a device connects to a gateway, and assigns the reason
// for every choice.
package plan

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/google/uuid"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// Input is what planning starts from. Secrets in it are open. The zero pattern leaves
// everything to the records.
type Input struct {
	Organisation vpn.Organisation
	Profile      vpn.Profile
	Pattern      vpn.Pattern
	Gateway      vpn.Gateway
	Device       vpn.Device
	Person       vpn.Person
	Accounts     []vpn.Account // of the person

	// how fast gateways answer where the person is, by their identifiers
	Times    map[string]AnswerTime
	Enrol    *vpn.Enrol    // how the device gets its certificate itself, where it does
	EnrolBy  vpn.Authority // the CA that it asks
	Fallback *vpn.Gateway  // the second gateway of the profile, where it has one
	Second   string        // the name of the gateway to which this one is the second choice

	// names of the switchovers that have changed what the records say, by what they changed
	Moved map[vpn.Field]string

	own map[vpn.Field]bool // what is set on the profile, in the place of the pattern's
}

// Origin says who made a choice.
type Origin string

// The origins.
const (
	ByOperator Origin = "operator" // set on the profile
	ByPattern  Origin = "pattern"  // the pattern says so
	ByGateway  Origin = "gateway"  // the gateway's record says so
	ByDevice   Origin = "device"   // the device or its release decides
	ByRule     Origin = "planning" // chosen by the planner
)

// Choice is one planned value with its reason. Value never holds a secret.
type Choice struct {
	Field  vpn.Field `json:"field"`
	Title  string    `json:"title"`
	Value  string    `json:"value"`
	Origin Origin    `json:"origin"`
	Reason string    `json:"reason"`
}

// Passed is a protocol that was not taken, with the reason.
type Passed struct {
	Protocol vpn.Protocol `json:"protocol"`
	Reason   string       `json:"reason"`
}

// Unmet is a preference that the device's file, or a person who types, cannot carry out.
type Unmet struct {
	Field  vpn.Field `json:"field"`
	Wanted string    `json:"wanted"`
	Reason string    `json:"reason"`
}

// Plan is the planned connection with the reasons. Account is nil where no account
// of the person is valid at the gateway; Offered is false where the gateway has no
// offer that a device could take; Lacking says what is missing for the one that was
// taken.
type Plan struct {
	Connection vpn.Connection
	Choices    []Choice
	Passed     []Passed
	Unmet      []Unmet
	Account    *vpn.Account
	Offered    bool
	Lacking    string
	// why the second gateway needs a connection of its own; empty where it stands in the same file,
	// or where there is none
	Apart   string
	Release platform.Found
	Ability platform.Ability
	Format  platform.Format
	Unfit   *format.UnfitError // what the file cannot carry

	files []format.File // as the plan was made; nil where they were not written
}

// Files writes the files of the plan's format. The error is a *format.UnfitError for what they
// cannot carry, a secret of the connection included.
func (p Plan) Files() ([]format.File, error) {
	if p.files != nil {
		return slices.Clone(p.files), nil
	}
	codec, ok := all.ByName(p.Format)
	if !ok {
		return nil, fmt.Errorf("no writer for the format %q", p.Format)
	}
	return codec.Write(p.Connection)
}

// Masked is the plan without its secrets, in files too.
func (p Plan) Masked() Plan {
	p.Connection, p.files = p.Connection.Masked(), nil
	return p
}

// Works tells whether a connection can be made by the plan.
func (p Plan) Works() bool {
	return p.Offered && p.Ability.Support.Usable() && p.Lacking == "" && p.Unfit == nil
}

// Make plans one connection. It always answers: what stands in the way is found by
// the checks. A protocol whose file cannot carry what the gateway asks for is passed
// over as long as another works.
func Make(in Input) Plan {
	var own map[vpn.Field]bool
	in.Pattern, own = in.Profile.Preferences.Over(in.Pattern)
	in.own = own
	barred := map[vpn.Protocol]string{}
	first := once(in, barred)
	for p := first; p.Unfit != nil && in.Profile.Preferences.Protocol == ""; {
		barred[p.Connection.Protocol] = p.Unfit.Error()
		if p = once(in, barred); p.Works() {
			return p
		}
		if _, again := barred[p.Connection.Protocol]; again {
			break
		}
	}
	return first
}

func once(in Input, barred map[vpn.Protocol]string) Plan {
	p := &planner{in: in, barred: barred, plan: Plan{Passed: []Passed{}, Unmet: []Unmet{}}}
	p.protocol()
	p.in.Gateway.SignIn = p.in.Gateway.SignInBy(p.plan.Connection.Protocol)
	p.server()
	p.names()
	p.account()
	p.secrets()
	p.settings()
	p.traffic()
	p.fallback()
	p.preferences()
	p.format()
	p.scope()
	p.fits()
	return p.plan
}

type planner struct {
	in     Input
	barred map[vpn.Protocol]string // protocols that no file carries as the gateway wants them
	plan   Plan
	auth   method // how the client proves itself
}

// fits lets the writer of the file say what it cannot carry. What is wrong with a secret alone is
// found when the file is made.
func (p *planner) fits() {
	codec, ok := all.ByName(p.plan.Format)
	c := p.plan.Connection
	if !ok && c.NeedsIdentity() && c.Identity != nil && c.Identity.Enrol != nil {
		p.plan.Unfit = &format.UnfitError{
			Format: "the settings that people type", Field: vpn.FieldIdentity,
			Found:    "a key that the device makes itself",
			Expected: "a certificate with its key, which a person can import",
		}
		return
	}
	if !ok || !p.plan.Offered || !p.plan.Ability.Support.Usable() || !c.Settings() ||
		c.NeedsIdentity() && c.Identity == nil {
		return
	}
	files, err := codec.Write(c)
	if err == nil {
		p.plan.files = files
		return
	}
	_, err = codec.Write(c.Masked())
	var unfit *format.UnfitError
	if errors.As(err, &unfit) {
		p.plan.Unfit = unfit
	}
}

func (p *planner) choose(f vpn.Field, title, value string, by Origin, reason string, args ...any) {
	if len(args) > 0 {
		reason = fmt.Sprintf(reason, args...)
	}
	if name := p.in.Moved[f]; name != "" && by == ByGateway {
		reason = "new value of the switchover " + name
	} else if name != "" {
		reason += "; changed by the switchover " + name
	}
	if by == ByPattern && p.in.own[f] {
		by, reason = ByOperator, "set on the profile"
	}
	p.plan.Choices = append(p.plan.Choices, Choice{f, title, value, by, reason})
}

func (p *planner) server() {
	c, g := &p.plan.Connection, p.in.Gateway
	c.Server = g.Address
	reason := "the address on the gateway's record"
	if _, err := netip.ParseAddr(g.Address); err != nil && g.Dynamic {
		reason += "; a name, because its address is dynamic"
	}
	c.Addresses = slices.Clone(g.Addresses)
	p.choose(vpn.FieldServer, "Server address", c.Server, ByGateway, reason)
}

func (p *planner) names() {
	c, org := &p.plan.Connection, p.in.Organisation
	c.Organisation = org.Name
	labels := strings.Split(strings.ToLower(strings.TrimSuffix(org.Domain, ".")), ".")
	slices.Reverse(labels)
	c.Identifier = strings.Join(append(labels, "vpn", p.in.Profile.ID), ".")
	c.UUID = strings.ToUpper(
		uuid.NewSHA1(uuid.NameSpaceURL, []byte("wardicon:profile:"+p.in.Profile.ID)).String(),
	)
	naming := p.in.Pattern.Naming
	switch preference := p.in.Profile.Preferences.Name; {
	case preference != "":
		c.Name = preference
		p.choose(vpn.FieldName, "Connection name", c.Name, ByOperator, "set on the profile")
	case naming != "":
		c.Name = p.named(naming)
		p.choose(vpn.FieldName, "Connection name", c.Name, ByPattern, "named by %s", naming)
	default:
		c.Name = p.named(vpn.DefaultNaming)
		p.choose(
			vpn.FieldName,
			"Connection name",
			c.Name,
			ByRule,
			"organisation and gateway, so that connections can be told apart",
		)
	}
}

func (p *planner) named(naming string) string {
	g := p.in.Gateway
	return vpn.Fill(naming, map[string]string{
		"organisation": p.in.Organisation.Name,
		"gateway":      g.Name,
		"city":         g.Place.City,
		"protocol":     nameable(p.plan.Connection.Protocol),
		"person":       p.in.Person.Name,
		"device":       p.in.Device.Name,
	})
}

// nameable is a protocol's title as a connection's name can have it: systems refuse a slash.
func nameable(p vpn.Protocol) string {
	title, _, _ := strings.Cut(p.Title(), "/")
	return title
}

func join[T ~string](list []T) string {
	parts := make([]string, len(list))
	for i, v := range list {
		parts[i] = string(v)
	}
	return strings.Join(parts, ", ")
}
