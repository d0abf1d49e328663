// Package suite holds the algorithms that IPsec speaks of: their names in each
// dialect, what they are worth, and the matching of one side's proposals
// against the other's.
package suite

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// Kind is the part that an algorithm plays in a proposal (RFC 7296 §3.3.2).
type Kind int

// The kinds in the order in which a proposal is written.
const (
	Encryption Kind = iota
	Integrity
	PRF
	Group
)

func (k Kind) String() string {
	return [...]string{"encryption", "integrity", "pseudo-random function",
		"Diffie-Hellman group"}[k]
}

// Worth says whether an algorithm may still be used.
type Worth int

// From unusable to sound. LastResort is accepted only because some built-in
// clients know nothing better.
const (
	Broken Worth = iota
	Weak
	LastResort
	Sound
)

// Algorithm is one row of the table: Bits is the key length for encryption, the
// digest length for integrity, the field size for a group.
type Algorithm struct {
	Name    string
	Kind    Kind
	Bits    int
	AEAD    bool
	Worth   Worth
	Number  int // IANA transform number (group number for groups)
	Aliases []string
	Source  string
}

// Table lists every algorithm that Wardicon knows, strongest first within a kind.
var Table = []Algorithm{
	{
		"aes256gcm16",
		Encryption,
		256,
		true,
		Sound,
		20,
		[]string{"aes256gcm", "aes256gcm128", "aes-256-gcm", "aes_gcm_16_256"},
		"RFC 8247 §2.1, RFC 8221 §5",
	},
	{
		"aes128gcm16",
		Encryption,
		128,
		true,
		Sound,
		20,
		[]string{"aes128gcm", "aes128gcm128", "aes-128-gcm", "aes_gcm_16_128"},
		"RFC 8247 §2.1, RFC 8221 §5",
	},
	{
		"chacha20poly1305",
		Encryption,
		256,
		true,
		Sound,
		28,
		[]string{"chacha20-poly1305"},
		"RFC 7634, RFC 8221 §5",
	},
	{
		"aes256",
		Encryption,
		256,
		false,
		Sound,
		12,
		[]string{"aes256cbc", "aes-256", "aes-256-cbc", "aes_cbc_256"},
		"RFC 8247 §2.1, RFC 8221 §5",
	},
	{
		"aes192",
		Encryption,
		192,
		false,
		Sound,
		12,
		[]string{"aes192cbc", "aes-192", "aes-192-cbc", "aes_cbc_192"},
		"RFC 8247 §2.1",
	},
	{
		"aes128",
		Encryption,
		128,
		false,
		Sound,
		12,
		[]string{"aes", "aes128cbc", "aes-128", "aes-128-cbc", "aes_cbc_128"},
		"RFC 8247 §2.1, RFC 8221 §5",
	},
	{"camellia256", Encryption, 256, false, LastResort, 23, nil, "RFC 8247 §2.1"},
	{
		"3des",
		Encryption,
		168,
		false,
		Weak,
		3,
		[]string{"des3", "3des-cbc"},
		"RFC 8247 §2.1 (MAY), RFC 8221 §5 (SHOULD NOT)",
	},
	{
		"blowfish128",
		Encryption,
		128,
		false,
		Weak,
		7,
		[]string{"blowfish"},
		"RFC 8221 §5 (MUST NOT)",
	},
	{"cast128", Encryption, 128, false, Weak, 6, []string{"cast"}, "RFC 8221 §5"},
	{"des", Encryption, 56, false, Broken, 2, []string{"des-cbc"}, "RFC 8247 §2.1 (MUST NOT)"},
	{"null", Encryption, 0, false, Broken, 11, nil, "RFC 2410: no confidentiality"},

	{
		"sha512",
		Integrity,
		512,
		false,
		Sound,
		14,
		[]string{"sha2_512", "sha2-512", "sha-512"},
		"RFC 8247 §2.3",
	},
	{
		"sha384",
		Integrity,
		384,
		false,
		Sound,
		13,
		[]string{"sha2_384", "sha2-384", "sha-384"},
		"RFC 8247 §2.3",
	},
	{
		"sha256",
		Integrity,
		256,
		false,
		Sound,
		12,
		[]string{"sha2", "sha2_256", "sha2-256", "sha-256"},
		"RFC 8247 §2.3",
	},
	{
		"sha1",
		Integrity,
		160,
		false,
		LastResort,
		2,
		[]string{"sha", "sha-1"},
		"RFC 8247 §2.3 (MUST-)",
	},
	{"md5", Integrity, 128, false, Broken, 1, nil, "RFC 8247 §2.3 (MUST NOT)"},

	{"prfsha512", PRF, 512, false, Sound, 7, []string{"prfsha2_512"}, "RFC 8247 §2.2"},
	{"prfsha384", PRF, 384, false, Sound, 6, []string{"prfsha2_384"}, "RFC 8247 §2.2"},
	{"prfsha256", PRF, 256, false, Sound, 5, []string{"prfsha2_256"}, "RFC 8247 §2.2"},
	{"prfaescmac", PRF, 128, false, LastResort, 8, nil, "RFC 4615; not in RFC 8247 §2.2"},
	{
		"prfaesxcbc",
		PRF,
		128,
		false,
		LastResort,
		4,
		nil,
		"RFC 8247 §2.2 (SHOULD for constrained devices)",
	},
	{"prfsha1", PRF, 160, false, LastResort, 2, nil, "RFC 8247 §2.2 (MUST-)"},
	{"prfmd5", PRF, 128, false, Broken, 1, nil, "RFC 8247 §2.2 (MUST NOT)"},

	{"curve448", Group, 448, false, Sound, 32, []string{"x448"}, "RFC 8031"},
	{"curve25519", Group, 255, false, Sound, 31, []string{"x25519"}, "RFC 8031, RFC 8247 §2.4"},
	{"ecp521", Group, 521, false, Sound, 21, []string{"dh21", "p521"}, "RFC 5903"},
	{"ecp384", Group, 384, false, Sound, 20, []string{"dh20", "p384"}, "RFC 5903"},
	{"ecp256", Group, 256, false, Sound, 19, []string{"dh19", "p256"}, "RFC 5903, RFC 8247 §2.4"},
	{"modp8192", Group, 8192, false, Sound, 18, []string{"dh18"}, "RFC 3526"},
	{"modp6144", Group, 6144, false, Sound, 17, []string{"dh17"}, "RFC 3526"},
	{"modp4096", Group, 4096, false, Sound, 16, []string{"dh16"}, "RFC 3526"},
	{"modp3072", Group, 3072, false, Sound, 15, []string{"dh15"}, "RFC 3526"},
	{"modp2048", Group, 2048, false, Sound, 14, []string{"dh14"}, "RFC 8247 §2.4"},
	{"modp1536", Group, 1536, false, Weak, 5, []string{"dh5"}, "RFC 8247 §2.4 (SHOULD NOT)"},
	{"modp1024", Group, 1024, false, Weak, 2, []string{"dh2"}, "RFC 8247 §2.4 (SHOULD NOT)"},
	{"modp1024s160", Group, 1024, false, Broken, 22, []string{"dh22"}, "RFC 8247 §2.4 (MUST NOT)"},
	{"modp768", Group, 768, false, Broken, 1, []string{"dh1"}, "RFC 8247 §2.4 (MUST NOT)"},
}

var byName = func() map[string]*Algorithm {
	m := make(map[string]*Algorithm)
	for i := range Table {
		a := &Table[i]
		m[a.Name] = a
		for _, alias := range a.Aliases {
			m[alias] = a
		}
	}
	return m
}()

// Find looks an algorithm up by its own name or one of its aliases, in any case.
func Find(name string) (Algorithm, bool) {
	if a := named(name); a != nil {
		return *a, true
	}
	return Algorithm{}, false
}

// named is Find without a copy; nil where there is none.
func named(name string) *Algorithm {
	if a, ok := byName[name]; ok || name == "" {
		return a
	}
	return byName[strings.ToLower(strings.TrimSpace(name))]
}

// Numbered finds the name of an algorithm of one kind by its IANA number, where no key
// length tells several apart; empty where there is none.
func Numbered(kind Kind, number int) string {
	i := slices.IndexFunc(
		Table,
		func(a Algorithm) bool { return a.Kind == kind && a.Number == number },
	)
	if i < 0 {
		return ""
	}
	return Table[i].Name
}

// Names lists the names of one kind, for error texts and menus.
func Names(kind Kind) []string {
	var names []string
	for _, a := range Table {
		if a.Kind == kind {
			names = append(names, a.Name)
		}
	}
	return names
}

// Proposal is one suite: encryption, integrity (absent with an AEAD cipher), a
// pseudo-random function (of an IKEv2 proposal; absent where it is made of the digest of
// the integrity algorithm) and a Diffie-Hellman group (absent in a child proposal without
// PFS).
type Proposal struct {
	Encryption, Integrity, PRF, Group string
}

// String writes the proposal in Wardicon's own spelling, parts joined by hyphens.
func (p Proposal) String() string {
	parts := make([]string, 0, 4)
	for _, part := range p.parts() {
		if part != "" {
			parts = append(parts, part)
		}
	}
	return strings.Join(parts, "-")
}

func (p Proposal) parts() [4]string {
	return [4]string{p.Encryption, p.Integrity, p.PRF, p.Group}
}

// Algorithms lists the rows of the table that the proposal is made of.
func (p Proposal) Algorithms() []Algorithm {
	list := make([]Algorithm, 0, 4)
	for _, name := range p.parts() {
		if a := named(name); a != nil {
			list = append(list, *a)
		}
	}
	return list
}

// SyntaxError says which part of a proposal could not be read.
type SyntaxError struct {
	Proposal, Part, Expected string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("proposal %q: found %q, expected %s", e.Proposal, e.Part, e.Expected)
}

// Parse reads one proposal. A pseudo-random function that is made of the digest of the
// integrity algorithm goes without saying (RFC 7296 §2.13) and is left out. A trailing
// "!" (strict, in the dialect of one IKE daemon) is accepted.
func Parse(text string) (Proposal, error) {
	if p, ok := read.Load(text); ok {
		return p.(Proposal), nil
	}
	p, err := parse(text)
	if err == nil && len(text) <= mostRead && readCount.Add(1) <= mostReadCount {
		read.Store(text, p)
	}
	return p, err
}

// Proposals that were read: a fleet has few, and reads them for every plan and every rule.
var (
	read      sync.Map
	readCount atomic.Int64
)

const (
	mostRead      = 128 // bytes of one that is kept
	mostReadCount = 4096
)

func parse(text string) (Proposal, error) {
	var p Proposal
	clean := strings.ToLower(strings.TrimSuffix(strings.TrimSpace(text), "!"))
	for part := range strings.SplitSeq(clean, "-") {
		a, ok := Find(part)
		if !ok {
			return Proposal{}, &SyntaxError{
				text,
				part,
				"algorithms joined by hyphens, for example aes256-sha256-modp2048",
			}
		}
		slot := [...]*string{&p.Encryption, &p.Integrity, &p.PRF, &p.Group}[a.Kind]
		if *slot != "" {
			return Proposal{}, &SyntaxError{
				text,
				part,
				"one " + a.Kind.String() + " algorithm only",
			}
		}
		*slot = a.Name
	}
	if p.Encryption == "" {
		return Proposal{}, &SyntaxError{
			text,
			clean,
			"an encryption algorithm, one of " + strings.Join(Names(Encryption), ", "),
		}
	}
	if p.PRF == prf(p.Integrity) && !p.aead() {
		p.PRF = ""
	}
	return p, nil
}

// prf names the pseudo-random function that is made of an integrity algorithm's digest.
func prf(integrity string) string {
	if integrity == "" {
		return ""
	}
	return "prf" + integrity
}

func (p Proposal) aead() bool {
	a := named(p.Encryption)
	return a != nil && a.AEAD
}

// ForIKE is the proposal as IKEv2 says it. An integrity algorithm beside an AEAD cipher
// names the pseudo-random function there; where none is named at all, the one that goes
// with the length of the key is taken (RFC 5282 §8 wants one to be negotiated).
func (p Proposal) ForIKE() Proposal {
	if !p.aead() {
		return p
	}
	if p.PRF == "" {
		p.PRF = prf(p.Integrity)
	}
	p.Integrity = ""
	if p.PRF == "" {
		p.PRF = "prfsha256"
		if a, _ := Find(p.Encryption); a.Bits == 256 {
			p.PRF = "prfsha384"
		}
	}
	return p
}

// LacksPRF tells whether this IKE proposal names an AEAD cipher and nothing that the
// pseudo-random function could be taken from (RFC 5282 §8).
func (p Proposal) LacksPRF() bool { return p.aead() && p.Integrity == "" && p.PRF == "" }

// ParseAll reads a list; the first error stops it.
func ParseAll(texts []string) ([]Proposal, error) {
	list := make([]Proposal, 0, len(texts))
	for _, text := range texts {
		p, err := Parse(text)
		if err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	return list, nil
}

// Match finds the first proposal of the initiator that the responder takes, as a
// responder chooses (RFC 2409 §5, RFC 7296 §2.7). A child proposal without a group
// on one side matches one with any group on the other only where pfsOptional is set.
func Match(initiator, responder []Proposal, pfsOptional bool) (Proposal, bool) {
	for _, p := range initiator {
		if i := slices.IndexFunc(
			responder,
			func(r Proposal) bool { return p.fits(r, pfsOptional) },
		); i >= 0 {
			if p.LacksPRF() {
				p.PRF = responder[i].named().PRF
			}
			return p, true
		}
	}
	return Proposal{}, false
}

// named moves what names the pseudo-random function of an AEAD cipher to its place.
func (p Proposal) named() Proposal {
	if p.aead() && p.Integrity != "" {
		p.PRF, p.Integrity = cmp.Or(p.PRF, prf(p.Integrity)), ""
	}
	return p
}

// Same tells whether two proposals are one. A side that names no pseudo-random function
// beside an AEAD cipher leaves it to the other.
func (p Proposal) Same(r Proposal) bool { return p.fits(r, false) }

func (p Proposal) fits(r Proposal, pfsOptional bool) bool {
	p, r = p.named(), r.named()
	if p.Encryption != r.Encryption || p.Integrity != r.Integrity ||
		p.PRF != r.PRF && !p.LacksPRF() && !r.LacksPRF() {
		return false
	}
	return p.Group == r.Group || pfsOptional && (p.Group == "" || r.Group == "")
}

// Nearest finds the pair that differs in the fewest parts, and of those the one of most
// worth, for an error that says what would have to change. ok is false when one of the
// lists is empty.
func Nearest(initiator, responder []Proposal) (mine, theirs Proposal, ok bool) {
	best := -1
	for _, p := range initiator {
		for _, r := range responder {
			if score := 10*(4-len(p.Differs(r))) + int(
				p.Worst().Worth,
			) + int(
				r.Worst().Worth,
			); score > best {
				best, mine, theirs = score, p, r
			}
		}
	}
	return mine, theirs, best >= 0
}

// Differs names the parts in which two proposals differ.
func (p Proposal) Differs(q Proposal) []string {
	p, q = p.named(), q.named()
	var parts []string
	for i, differs := range []bool{p.Encryption != q.Encryption, p.Integrity != q.Integrity,
		p.PRF != q.PRF && !p.LacksPRF() && !q.LacksPRF(), p.Group != q.Group} {
		if differs {
			parts = append(parts, "the "+Kind(i).String())
		}
	}
	return parts
}

// Worst returns the algorithm of least worth in a proposal.
func (p Proposal) Worst() Algorithm {
	worst := &Algorithm{Worth: Sound}
	for _, name := range p.parts() {
		if a := named(name); a != nil && (a.Worth < worst.Worth || worst.Name == "") {
			worst = a
		}
	}
	return *worst
}
