package check

import (
	"fmt"
	"slices"
	"strings"

	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// part is one of the two lists of proposals with the other side's.
type part struct {
	field          vpn.Field
	title          string
	client, server []suite.Proposal
	set            []suite.Proposal // what the file itself says
	inUse          []suite.Proposal
	pfsOptional    bool
	groupLater     bool // the group counts only when keys are renewed (RFC 7296 §1.3.1)
}

// parts lists IKE and ESP. The client's side is what the file sets, else what the
// release has built in.
func (s *Subject) parts() []part {
	if s.cache != nil {
		return s.cache.parts
	}
	return s.sides()
}

func (s *Subject) sides() []part {
	ike, esp := s.Connection.Proposals()
	if s.Connection.L2TP == nil && s.Connection.IKEv2 == nil {
		return nil
	}
	list := []part{
		{field: vpn.FieldIKE, title: "IKE"},
		{field: vpn.FieldESP, title: "ESP", pfsOptional: true},
	}
	list[1].groupLater = s.Connection.IKEv2 != nil
	for i, set := range [][]string{ike, esp} {
		list[i].set, _ = suite.ParseAll(set)
		list[i].client = list[i].set
	}
	if s.Ability != nil && s.Ability.Support.Usable() {
		for i, builtIn := range [][]string{s.Ability.IKE, s.Ability.ESP} {
			if len(list[i].set) == 0 {
				list[i].client, _ = suite.ParseAll(builtIn)
			}
		}
	}
	if g := s.record(); g != nil {
		switch o := g.Offers; {
		case s.Connection.L2TP != nil && o.L2TP != nil:
			ike, esp = o.L2TP.IKE, o.L2TP.ESP
		case s.Connection.IKEv2 != nil && o.IKEv2 != nil:
			ike, esp = o.IKEv2.IKE, o.IKEv2.ESP
		default:
			ike, esp = nil, nil
		}
		list[0].server, _ = suite.ParseAll(ike)
		list[1].server, _ = suite.ParseAll(esp)
	}
	for i := range list {
		list[i].inUse = list[i].negotiated()
	}
	return list
}

// used is the suite that both sides will negotiate, or each that a file sets where
// the other side is not known.
func (p part) used() []suite.Proposal { return p.inUse }

func (p part) negotiated() []suite.Proposal {
	if len(p.server) == 0 {
		return p.set
	}
	if m, ok := suite.Match(p.client, p.server, p.pfsOptional); ok {
		return []suite.Proposal{m}
	}
	return nil
}

// later finds a suite that the two sides share but for its group, which shows only when the
// keys of a child are renewed. ok is false where they share a whole one, or none.
func (p part) later() (mine, its suite.Proposal, ok bool) {
	if !p.groupLater || p.used() != nil {
		return mine, its, false
	}
	for _, mine := range p.client {
		for _, its := range p.server {
			if mine.Encryption == its.Encryption && mine.Integrity == its.Integrity {
				return mine, its, true
			}
		}
	}
	return mine, its, false
}

func (s *Subject) setIKE(v ...string) { s.Connection.L2TP.IKE = v; s.Gateway.Offers.L2TP.IKE = v }
func (s *Subject) setESP(v ...string) { s.Connection.L2TP.ESP = v; s.Gateway.Offers.L2TP.ESP = v }

// eachUsed looks at every suite in use, of IKE and ESP alike.
func eachUsed(look func(p part, q suite.Proposal) (found string, bad bool)) func(*Subject) []Hit {
	return func(s *Subject) []Hit {
		var hits []Hit
		for _, p := range s.parts() {
			for _, q := range p.used() {
				if found, bad := look(p, q); bad {
					hits = append(
						hits,
						Hit{Field: p.field, Found: fmt.Sprintf("%s %s: %s", p.title, q, found)},
					)
				}
			}
		}
		return hits
	}
}

// better words what would end the use of a weak suite where the gateway takes a better one
// already; empty where the rule's own words fit.
func (s *Subject) better(field vpn.Field) string {
	for _, p := range s.parts() {
		if p.field != field {
			continue
		}
		i := slices.IndexFunc(
			p.server,
			func(q suite.Proposal) bool { return q.Worst().Worth == suite.Sound },
		)
		switch {
		case i < 0:
		case s.Ability != nil && !s.Ability.SetProposals:
			return fmt.Sprintf(
				"The gateway takes %s already; %s sends nothing better. Another protocol or a "+
					"newer release would.",
				p.server[i],
				s.Release.Title,
			)
		default:
			return fmt.Sprintf(
				"The gateway takes %s already: put it first on the record, so that devices are "+
					"told it.",
				p.server[i],
			)
		}
	}
	return ""
}

func ofWorth(w suite.Worth) func(part, suite.Proposal) (string, bool) {
	return func(_ part, q suite.Proposal) (string, bool) {
		a := q.Worst()
		if a.Worth != w {
			return "", false
		}
		return fmt.Sprintf("%s (%s)", a.Name, a.Source), true
	}
}

func (s *Subject) nothingShared(field vpn.Field) []Hit {
	for _, p := range s.parts() {
		if p.field != field || len(p.client) == 0 || len(p.server) == 0 || p.used() != nil {
			continue
		}
		if _, _, ok := p.later(); ok {
			continue // pfs-not-offered says so
		}
		found := fmt.Sprintf(
			"the device sends %s, the gateway takes %s",
			names(p.client),
			names(p.server),
		)
		return []Hit{{Field: field, Found: found, Fix: s.change(p)}}
	}
	return nil
}

func names(ps []suite.Proposal) string {
	texts := make([]string, len(ps))
	for i, p := range ps {
		texts[i] = p.String()
	}
	return strings.Join(texts, ", ")
}

var strengthRules = []Rule{
	{
		Code:     "ppp-nothing-shared",
		Title:    "No common PPP authentication method",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPPP},
		Why:      "Gateway and device cannot agree on an authentication method.",
		Fix:      "Enable MS-CHAPv2 at the gateway.",
		Source:   "RFC 1661 §6.2",
		Bad: Example{"a gateway that takes only EAP", func(s *Subject) {
			s.Connection.L2TP.PPP = nil
			s.Gateway.Offers.L2TP.PPP = []suite.PPPMethod{suite.EAP}
		}},
		Good: Example{
			"a gateway that takes MS-CHAPv2",
			func(s *Subject) { s.Connection.L2TP.PPP = []suite.PPPMethod{suite.MSCHAPv2} },
		},
		run: func(s *Subject) []Hit {
			if s.Gateway == nil && s.usesPPP() && s.Connection.PPP() != nil &&
				len(s.Connection.PPP()) == 0 {
				return []Hit{{Field: vpn.FieldPPP, Found: "every method is refused"}}
			}
			if s.Gateway == nil || !s.usesPPP() || len(s.Connection.PPP()) > 0 ||
				s.Ability == nil ||
				!s.Ability.Support.Usable() {
				return nil
			}
			return []Hit{
				{
					Field: vpn.FieldPPP,
					Found: fmt.Sprintf(
						"%s and %s share no method",
						s.Gateway.Name,
						s.Release.Title,
					),
				},
			}
		},
	},
	{
		Code:     "ppp-clear",
		Title:    "Password is sent in clear",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldPPP},
		Why: "With PAP, the password is protected only by the tunnel around it, if there is " +
			"one.",
		Fix:    "Enable MS-CHAPv2 at the gateway and disable PAP.",
		Source: "RFC 1334 §2",
		Bad: Example{
			"PAP in the connection",
			func(s *Subject) { s.Connection.L2TP.PPP = []suite.PPPMethod{suite.PAP} },
		},
		Good: Example{
			"MS-CHAPv2 alone",
			func(s *Subject) { s.Connection.L2TP.PPP = []suite.PPPMethod{suite.MSCHAPv2} },
		},
		run: func(s *Subject) []Hit {
			return s.pppMethods(func(f suite.PPPFact) bool { return f.Clear }, "is allowed")
		},
	},
	{
		Code:     "ppp-weak",
		Title:    "Weak PPP authentication method",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldPPP},
		Why:      "The password can be recovered offline from a recorded sign-in.",
		Fix:      "Enable MS-CHAPv2 at the gateway and disable the weaker methods.",
		Source:   "RFC 1994 §1.1, RFC 2433",
		Bad: Example{
			"CHAP in the connection",
			func(s *Subject) { s.Connection.L2TP.PPP = []suite.PPPMethod{suite.CHAP} },
		},
		Good: Example{
			"MS-CHAPv2 alone",
			func(s *Subject) { s.Connection.L2TP.PPP = []suite.PPPMethod{suite.MSCHAPv2} },
		},
		run: func(s *Subject) []Hit {
			return s.pppMethods(
				func(f suite.PPPFact) bool { return f.Worth == suite.Weak },
				"is allowed",
			)
		},
	},
	{
		Code:     "ike-nothing-shared",
		Title:    "No common IKE proposal",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIKE},
		Why:      "The first exchange fails with NO_PROPOSAL_CHOSEN.",
		Fix:      "Enable a proposal that the device sends at the gateway.",
		Source:   "RFC 2409 §5, RFC 7296 §2.7",
		Bad: Example{
			"a gateway that takes only what the file does not set",
			func(s *Subject) { s.Gateway.Offers.L2TP.IKE = []string{"aes128-sha256-ecp256"} },
		},
		Good: Example{
			"a gateway that takes what the file sets",
			func(s *Subject) { s.setIKE("aes128-sha256-ecp256") },
		},
		run: func(s *Subject) []Hit { return s.nothingShared(vpn.FieldIKE) },
	},
	{
		Code:     "esp-nothing-shared",
		Title:    "No common ESP proposal",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldESP},
		Why:      "The key exchange succeeds, but the tunnel is rejected.",
		Fix:      "Enable a proposal that the device sends at the gateway.",
		Source:   "RFC 2409 §5.5, RFC 7296 §2.7",
		Bad: Example{
			"a gateway that takes only what the file does not set",
			func(s *Subject) { s.Gateway.Offers.L2TP.ESP = []string{"aes128gcm16"} },
		},
		Good: Example{
			"a gateway that takes what the file sets",
			func(s *Subject) { s.setESP("aes128gcm16-ecp256") },
		},
		run: func(s *Subject) []Hit { return s.nothingShared(vpn.FieldESP) },
	},
	{
		Code:     "algorithm-broken",
		Title:    "Broken algorithm in use",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIKE, vpn.FieldESP},
		Why:      "The traffic can be decrypted with little effort.",
		Fix:      "Enable AES with SHA-256 and group 14 or better at the gateway.",
		Source:   "RFC 8247, RFC 8221",
		Bad:      Example{"DES with MD5", func(s *Subject) { s.setIKE("des-md5-modp2048") }},
		Good: Example{
			"AES-256 with SHA-256",
			func(s *Subject) { s.setIKE("aes256-sha256-modp2048") },
		},
		run: eachUsed(ofWorth(suite.Broken)),
	},
	{
		Code:     "algorithm-weak",
		Title:    "Weak algorithm in use",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldIKE, vpn.FieldESP},
		Why:      "A determined attacker can break it.",
		Fix:      "Enable AES with SHA-256 and group 14 or better at the gateway.",
		Source:   "RFC 8247, RFC 8221",
		Bad:      Example{"group 2", func(s *Subject) { s.setIKE("aes256-sha256-modp1024") }},
		Good:     Example{"group 14", func(s *Subject) { s.setIKE("aes256-sha256-modp2048") }},
		run:      eachUsed(ofWorth(suite.Weak)),
	},
	{
		Code:     "algorithm-last-resort",
		Title:    "Algorithm should be replaced soon",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldIKE, vpn.FieldESP},
		Why:      "SHA-1 is still safe here, but future releases will reject it.",
		Fix:      "Enable SHA-256 at the gateway as well.",
		Source:   "RFC 8247 §2.3",
		Bad:      Example{"SHA-1", func(s *Subject) { s.setESP("aes256-sha1-modp2048") }},
		Good:     Example{"SHA-256", func(s *Subject) { s.setESP("aes256-sha256-modp2048") }},
		run: func(s *Subject) []Hit {
			hits := eachUsed(ofWorth(suite.LastResort))(s)
			for i := range hits {
				hits[i].Fix = s.better(hits[i].Field)
			}
			return hits
		},
	},
	{
		Code:     "aead-with-integrity",
		Title:    "Integrity algorithm with an AEAD cipher",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldIKE, vpn.FieldESP},
		Why:      "Some daemons reject the proposal, others never match it.",
		Fix:      "Remove the integrity algorithm.",
		Source:   "RFC 7296 §3.3, RFC 5282 §8",
		Bad: Example{
			"AES-GCM with SHA-256",
			func(s *Subject) { s.setESP("aes256gcm16-sha256-modp2048") },
		},
		Good: Example{"AES-GCM alone", func(s *Subject) { s.setESP("aes256gcm16-modp2048") }},
		run: eachUsed(func(_ part, q suite.Proposal) (string, bool) {
			a, _ := suite.Find(q.Encryption)
			return q.Integrity + " is not used with " + q.Encryption, a.AEAD && q.Integrity != ""
		}),
	},
	{
		Code:     "integrity-missing",
		Title:    "Integrity algorithm is missing",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIKE, vpn.FieldESP},
		Why: "Without it packets can be modified in transit, and IKE does not allow such a " +
			"proposal.",
		Fix:    "Add sha256.",
		Source: "RFC 8221 §4, RFC 2409 §4",
		Bad: Example{
			"AES-CBC without integrity",
			func(s *Subject) { s.setESP("aes256-modp2048") },
		},
		Good: Example{
			"AES-CBC with SHA-256",
			func(s *Subject) { s.setESP("aes256-sha256-modp2048") },
		},
		run: eachUsed(func(_ part, q suite.Proposal) (string, bool) {
			a, _ := suite.Find(q.Encryption)
			return q.Encryption + " stands alone", !a.AEAD && q.Integrity == ""
		}),
	},
	{
		Code:     "ike-group-missing",
		Title:    "IKE proposal without a Diffie-Hellman group",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldIKE},
		Why:      "IKE cannot derive keys without a group; the daemon rejects the proposal.",
		Fix:      "Add modp2048 or ecp256.",
		Source:   "RFC 2409 §4",
		Bad:      Example{"no group", func(s *Subject) { s.setIKE("aes256-sha256") }},
		Good:     Example{"group 14", func(s *Subject) { s.setIKE("aes256-sha256-modp2048") }},
		run: eachUsed(func(p part, q suite.Proposal) (string, bool) {
			return "no group", p.field == vpn.FieldIKE && q.Group == ""
		}),
	},
	{
		Code:     "pfs-missing",
		Title:    "No perfect forward secrecy",
		Severity: vpn.Note,
		Fields:   []vpn.Field{vpn.FieldESP},
		Why:      "Whoever learns the key of the first exchange can decrypt all later traffic.",
		Fix:      "Add a group to the ESP proposals of device and gateway if both support it.",
		Source:   "RFC 2409 §8",
		Bad: Example{
			"an ESP proposal without a group",
			func(s *Subject) { s.setESP("aes256-sha256") },
		},
		Good: Example{"one with a group", func(s *Subject) { s.setESP("aes256-sha256-modp2048") }},
		run: func(s *Subject) []Hit {
			for _, p := range s.parts() {
				if p.field == vpn.FieldESP && len(p.set) > 0 &&
					!slices.ContainsFunc(
						p.set,
						func(q suite.Proposal) bool { return q.Group != "" },
					) {
					return []Hit{{Field: vpn.FieldESP, Found: names(p.set)}}
				}
			}
			return nil
		},
	},
}

// usesPPP tells whether a PPP link is part of the connection.
func (s *Subject) usesPPP() bool {
	return s.Connection.L2TP != nil || s.Connection.PPTP != nil || s.Connection.SSTP != nil
}

func (s *Subject) pppMethods(is func(suite.PPPFact) bool, what string) []Hit {
	var hits []Hit
	for _, m := range s.Connection.PPP() {
		if f := suite.PPPFacts[m]; is(f) {
			hits = append(hits, Hit{Field: vpn.FieldPPP, Found: f.Title + " " + what})
		}
	}
	return hits
}

// lifetimeMost and lifetimeLeast bound, in minutes, what clients and gateways commonly take.
const (
	lifetimeLeast = 10
	lifetimeMost  = 1440
)

// timeRules look at lifetimes and at how PPTP keeps its keys.
var timeRules = []Rule{
	{
		Code:     "lifetimes-upside-down",
		Title:    "Child lifetime is longer than the IKE lifetime",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldLifetime},
		Why:      "The child SA ends with its IKE SA, and connections are interrupted.",
		Fix:      "Set the child lifetime below the IKE lifetime, for example 60 and 480 minutes.",
		Source:   "RFC 7296 §2.8",
		Bad:      Example{"60 minutes for IKE, 480 for children", lifetimes(60, 480)},
		Good:     Example{"480 minutes for IKE, 60 for children", lifetimes(480, 60)},
		run: func(s *Subject) []Hit {
			if i := s.Connection.IKEv2; i != nil && i.IKELifetime > 0 &&
				i.ChildLifetime > i.IKELifetime {
				return []Hit{
					{
						Field: vpn.FieldLifetime,
						Found: fmt.Sprintf(
							"%d minutes for IKE, %d for children",
							i.IKELifetime,
							i.ChildLifetime,
						),
					},
				}
			}
			return nil
		},
	},
	{
		Code:     "lifetime-outside",
		Title:    "Lifetime is outside the range that devices accept",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldLifetime},
		Why:      "Devices reject the profile, or use their own lifetime.",
		Fix:      "Choose between 10 and 1440 minutes.",
		Source:   "Apple: IKEv2 dictionary, LifeTimeInMinutes",
		Bad: Example{
			"keys for a week",
			lifetimes(10080, 60),
		},
		Good: Example{"keys for eight hours", lifetimes(480, 60)},
		run: func(s *Subject) []Hit {
			i := s.Connection.IKEv2
			if i == nil {
				return nil
			}
			for _, n := range []int{i.IKELifetime, i.ChildLifetime} {
				if n != 0 && (n < lifetimeLeast || n > lifetimeMost) {
					return []Hit{{Field: vpn.FieldLifetime, Found: fmt.Sprintf("%d minutes", n)}}
				}
			}
			return nil
		},
	},
	{
		Code:     "mppe-stateful",
		Title:    "MPPE in stateful mode",
		Severity: vpn.Warning,
		Fields:   []vpn.Field{vpn.FieldMPPE},
		Why:      "One lost packet makes the next 255 unreadable; on a poor line the link stalls.",
		Fix:      "Use stateless mode on both sides.",
		Source:   "RFC 3078 §8.1",
		Bad: Example{
			"stateful mode",
			func(s *Subject) { s.by(vpn.PPTP); s.Connection.PPTP.Stateful = true },
		},
		Good: Example{"stateless mode", func(s *Subject) { s.by(vpn.PPTP) }},
		run: func(s *Subject) []Hit {
			if p := s.Connection.PPTP; p != nil && p.Stateful {
				return []Hit{{Field: vpn.FieldMPPE, Found: "stateful mode"}}
			}
			return nil
		},
	},
}

func lifetimes(ike, child int) func(*Subject) {
	return func(s *Subject) {
		s.by(vpn.IKEv2)
		s.Connection.IKEv2.IKELifetime, s.Connection.IKEv2.ChildLifetime = ike, child
	}
}
