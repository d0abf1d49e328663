// Package format holds what all file formats share: the file that a writer makes,
// what a reader gives back, and the refusal of a value that a format cannot carry.
// Each format is a package below this one; package all lists them.
package format

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// MaxFile is the largest file that a reader takes, in bytes.
const MaxFile = 8 << 20

// MaxConnections is the most that is read out of one file.
const MaxConnections = 200

// File is one file of a parcel. Private marks one with secrets inside, which belongs
// on the device readable by its owner alone.
type File struct {
	Name      string `json:"name"`
	MediaType string `json:"media_type"`
	Purpose   string `json:"purpose"`
	Private   bool   `json:"private"`
	Content   []byte `json:"-"`
}

// Position is a place in a file; lines and columns count from 1. Path leads through
// a structured file, such as PayloadContent[0].PPP.AuthName.
type Position struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
	Path   string `json:"path,omitempty"`
}

func (p Position) String() string {
	s := p.File
	if p.Line > 0 {
		s += fmt.Sprintf(":%d", p.Line)
		if p.Column > 0 {
			s += fmt.Sprintf(":%d", p.Column)
		}
	}
	return strings.TrimSpace(s + " " + p.Path)
}

// NoteKind says what a reader remarks; each kind is the code of a rule.
type NoteKind string

// The kinds of notes.
const (
	Unreadable    NoteKind = "file-unreadable"
	KeyTwice      NoteKind = "key-twice"
	KeyUnknown    NoteKind = "key-unknown"
	KeyMalformed  NoteKind = "key-malformed"
	KeyMisspelt   NoteKind = "key-misspelt"
	Unrelated     NoteKind = "payload-unrelated"
	SecretClear   NoteKind = "secret-in-clear"
	ScriptChanged NoteKind = "script-changed"
	NotYetRead    NoteKind = "part-not-checked"
	FileMissing   NoteKind = "file-missing"

	NameSaysOther  NoteKind = "name-says-other"
	OtherEncoding  NoteKind = "other-encoding"
	CutShort       NoteKind = "cut-short"
	EmptyFile      NoteKind = "file-empty"
	ArchiveRefused NoteKind = "archive-refused"
	OpenToOthers   NoteKind = "open-to-others"

	PairBroken            NoteKind = "pair-broken"
	PassphraseWrong       NoteKind = "passphrase-wrong"
	BagWithoutKey         NoteKind = "bag-without-key"
	BagWithoutCertificate NoteKind = "bag-without-certificate"
	BagSeveralKeys        NoteKind = "bag-several-keys"
	BagWeak               NoteKind = "bag-weak"
	KeyKindDiffers        NoteKind = "key-kind-differs"
	PrivateKeyClear       NoteKind = "key-in-clear"
	KeyClosed             NoteKind = "key-closed"

	RoleUnchecked     NoteKind = "role-unchecked"
	CheckSwitchedOff  NoteKind = "check-switched-off"
	ControlMalformed  NoteKind = "control-malformed"
	ControlTwice      NoteKind = "control-twice"
	BlockOpen         NoteKind = "block-open"
	BlockEmpty        NoteKind = "block-empty"
	DirectiveOutdated NoteKind = "directive-outdated"
	RunsProgram       NoteKind = "runs-program"
	DeviceTap         NoteKind = "device-tap"
	TunnelCompressed  NoteKind = "tunnel-compressed"
	RoutesConflict    NoteKind = "routes-conflict"
	DNSIgnored        NoteKind = "dns-option-ignored"
	OptionUnknown     NoteKind = "option-unknown"
	OptionConflict    NoteKind = "option-conflict"
	OptionWindows     NoteKind = "option-windows"
	OptionValue       NoteKind = "option-value"
	OptionOlder       NoteKind = "option-older-clients"
	ValueMisread      NoteKind = "value-misread"

	Unprotected        NoteKind = "l2tp-unprotected"
	EncryptionOptional NoteKind = "encryption-optional"
	PRFMissing         NoteKind = "prf-missing"
	ProposalIgnored    NoteKind = "proposal-ignored"
	AddressLacking     NoteKind = "address-not-requested"
	SecretRefused      NoteKind = "secret-refused"
	DemandLacking      NoteKind = "demand-lacking"
	PasswordAtSignIn   NoteKind = "password-in-script"
	DemandUnreached    NoteKind = "demand-unreached"
	IdentifierTwice    NoteKind = "identifier-twice"
	KeyMissing         NoteKind = "key-missing"
	SeveralProtocols   NoteKind = "protocol-several"
	SecretElsewhere    NoteKind = "secret-elsewhere"
	RemovesItself      NoteKind = "profile-removes-itself"
	IssuerUnknown      NoteKind = "issuer-not-in-file"
	Unsigned           NoteKind = "profile-unsigned"
	UUIDTwice          NoteKind = "uuid-twice"
	KeyShared          NoteKind = "key-shared"
	SerialTwice        NoteKind = "serial-twice"
)

// Note is what a reader remarks beside a connection. Found never holds a secret. Fix is a
// change of the line at fault that is sure to be meant, where there is one.
type Note struct {
	Kind  NoteKind
	Found string
	At    Position
	Fix   *LineFix
	When  time.Time // the day that it is about, where it is about one
	// Severity in the place of the kind's own; empty where it is that.
	Severity vpn.Severity
}

// Unsaid is an option, element or rule of a file that a connection has no place for. What never
// holds a secret.
type Unsaid struct {
	What string   `json:"what"`
	At   Position `json:"at"`
}

// Left remembers what a connection has no place for.
func (r *Reading) Left(what string, at Position) {
	if len(r.NotCarried) < maxTold && !slices.Contains(r.NotCarried, Unsaid{what, at}) {
		r.NotCarried = append(r.NotCarried, Unsaid{what, at})
	}
}

// LineFix replaces a line of a file; an empty text takes it out.
type LineFix struct{ Text string }

// Located is a connection with the places of its values.
type Located struct {
	Connection vpn.Connection
	Positions  map[vpn.Field]Position
	// what the device has from elsewhere, such as a certificate in its own store
	Apart []vpn.Field
}

// Reading is what a reader found in a file. Pieces are the files beside it that were
// needed, Rounds the work that identities in it asked for.
type Reading struct {
	Connections []Located
	Notes       []Note
	Pieces      []string
	Rounds      int64
	// What the file says and a connection has no place for: it is in no file that is made of it.
	NotCarried []Unsaid
	told       map[NoteKind]int
	full       bool
	enrol      *vpn.Enrol // how the device gets its certificate, by a script beside
}

// Add takes in a connection; of very many only the first are kept, which is remarked.
func (r *Reading) Add(c Located) {
	switch len(r.Connections) {
	case MaxConnections:
		if !r.full {
			r.full = true
			r.Note(
				NotYetRead,
				c.Positions[vpn.FieldProtocol],
				"more than %d connections; the first were read",
				MaxConnections,
			)
		}
	default:
		if c.Connection.Tunnel == vpn.TunnelFull {
			c.Connection.Routes = []string{} // everything goes through the tunnel as it is
		}
		r.Connections = append(r.Connections, c)
	}
}

// Full tells that no further connection will be taken in.
func (r *Reading) Full() bool { return r.full }

// maxTold bounds the remarks of one kind in one file.
const maxTold = 100

// Note adds a remark. Of very many of one kind only the first are kept.
func (r *Reading) Note(kind NoteKind, at Position, found string, args ...any) {
	r.note(kind, at, nil, found, args)
}

func (r *Reading) note(kind NoteKind, at Position, fix *LineFix, found string, args []any) {
	if r.told == nil {
		r.told = map[NoteKind]int{}
	}
	switch r.told[kind]++; {
	case r.told[kind] > maxTold:
		return
	case r.told[kind] == maxTold:
		found, args, fix = "the same from here on, more often than is listed", nil, nil
	}
	if len(args) > 0 {
		found = fmt.Sprintf(found, args...)
	}
	if slices.ContainsFunc(r.Notes, func(n Note) bool {
		return n.Kind == kind && n.At == at && n.Found == found
	}) {
		return // a value that was asked for twice
	}
	r.Notes = append(r.Notes, Note{Kind: kind, Found: found, At: at, Fix: fix})
}

// Fixable adds a remark on a line with what it should be.
func (r *Reading) Fixable(kind NoteKind, at Position, line, found string, args ...any) {
	r.note(kind, at, &LineFix{line}, found, args)
}

// Dated adds a remark on something that happens on a day.
func (r *Reading) Dated(kind NoteKind, at Position, when time.Time, found string, args ...any) {
	before := len(r.Notes)
	if r.Note(kind, at, found, args...); len(r.Notes) > before {
		r.Notes[before].When = when
	}
}

// Beside looks up another file that came with the one that is read, by its base name;
// nil where there is none.
type Beside func(name string) ([]byte, bool)

// Get looks a file up.
func (b Beside) Get(name string) ([]byte, bool) {
	if b == nil {
		return nil, false
	}
	return b(path.Base(strings.ReplaceAll(name, `\`, "/")))
}

// Files makes a Beside of files.
func Files(files []File) Beside {
	return func(name string) ([]byte, bool) {
		i := slices.IndexFunc(files, func(f File) bool { return f.Name == name })
		if i < 0 {
			return nil, false
		}
		return files[i].Content, true
	}
}

// Codec is one format. Write makes the files of a connection, the one that Read takes
// first. Carried reduces a connection to what the format can say, so that Read of Write
// equals Carried.
type Codec struct {
	Name      platform.Format
	Title     string
	Protocols []vpn.Protocol
	Write     func(vpn.Connection) ([]File, error)
	Carried   func(vpn.Connection) vpn.Connection
	Detect    func(name string, data []byte) bool
	Read      func(name string, data []byte, beside Beside) Reading
}

// UnfitError says which value a format cannot carry.
type UnfitError struct {
	Format   string
	Field    vpn.Field
	Found    string
	Expected string
}

func (e *UnfitError) Error() string {
	return fmt.Sprintf(
		"%s, field %s: found %s, expected %s",
		e.Format,
		e.Field,
		cmp.Or(e.Found, "nothing"),
		e.Expected,
	)
}

// Printable refuses values that no format here may carry: broken UTF-8, control
// characters, line and paragraph separators, and code points that are no characters.
// XML 1.0 §2.2 excludes most of them; the rest could begin a line that nobody meant.
func Printable(title string, c vpn.Connection) error {
	for _, t := range texts(c) {
		for i, r := range t.value {
			bad := unicode.IsControl(r) || r == '\u2028' || r == '\u2029' || r&0xFFFE == 0xFFFE ||
				r >= 0xFDD0 && r <= 0xFDEF
			if r == utf8.RuneError && !strings.HasPrefix(t.value[i:], "\uFFFD") {
				return &UnfitError{title, t.field, "bytes that are not UTF-8", "text in UTF-8"}
			}
			if bad {
				return &UnfitError{
					title,
					t.field,
					fmt.Sprintf("the character U+%04X", r),
					"printable text on one line",
				}
			}
		}
	}
	return nil
}

type fieldText struct {
	field vpn.Field
	value string
}

func texts(c vpn.Connection) []fieldText {
	list := []fieldText{
		{
			vpn.FieldName,
			c.Name,
		},
		{vpn.FieldUUID, c.UUID},
		{vpn.FieldIdentifier, c.Identifier},
		{vpn.FieldName, c.Organisation},
		{
			vpn.FieldServer,
			c.Server,
		},
		{vpn.FieldLogin, c.Login},
		{vpn.FieldPassword, c.Password.Reveal()},
	}
	add := func(field vpn.Field, values []string) {
		for _, v := range values {
			list = append(list, fieldText{field, v})
		}
	}
	add(vpn.FieldRoutes, c.Routes)
	add(vpn.FieldDNS, c.DNS)
	add(vpn.FieldDomains, c.Domains)
	list = append(list, fieldText{vpn.FieldPSK, c.PSK().Reveal()})
	ike, esp := c.Proposals()
	add(vpn.FieldIKE, ike)
	add(vpn.FieldESP, esp)
	if c.L2TP != nil {
		add(vpn.FieldGroup, []string{c.L2TP.Group})
	}
	if s := c.IKEv2; s != nil {
		add(vpn.FieldLocalID, []string{s.LocalID})
		add(vpn.FieldRemoteID, []string{s.RemoteID})
	}
	if s := c.SSTP; s != nil {
		add(vpn.FieldServerName, []string{s.ServerName})
	}
	if s := c.TLS; s != nil {
		for _, r := range s.Remotes {
			add(vpn.FieldRemotes, []string{r.Address})
		}
		add(vpn.FieldCiphers, s.Ciphers)
		add(vpn.FieldDigest, []string{s.Digest})
		add(vpn.FieldServerName, []string{s.ServerName})
	}
	if d := c.Demand; d != nil {
		add(
			vpn.FieldDemand,
			slices.Concat([]string{d.Probe, d.Interface}, d.Networks, d.Suffixes, d.Domains),
		)
	}
	for _, r := range c.DemandRules {
		add(vpn.FieldDemand, slices.Concat([]string{r.Probe}, r.Networks, r.Suffixes, r.Servers))
		for _, d := range r.Domains {
			add(vpn.FieldDemand, slices.Concat([]string{d.Probe}, d.Domains, d.Servers))
		}
	}
	if p := c.Proxy; p != nil {
		add(vpn.FieldProxy, append([]string{p.Script, p.Server}, p.Bypass...))
	}
	return list
}

// Ask gives password, keeping and key their one form: a password that is prompted for is
// not in the file, a file without a password makes the device ask, and a pre-shared key
// is there only where the two ends prove themselves by it.
func Ask(c vpn.Connection) vpn.Connection {
	if c.PasswordMode != vpn.PasswordSaved || c.Password.IsZero() {
		c.PasswordMode, c.Password = vpn.PasswordPrompted, secret.Text{}
	}
	if c.L2TP != nil && c.L2TP.Auth == vpn.MachineCertificate && !c.L2TP.PSK.IsZero() {
		c = c.Clone()
		c.L2TP.PSK = secret.Text{}
	}
	if c.IKEv2 != nil && c.IKEv2.Auth != vpn.IKEv2PSK && !c.IKEv2.PSK.IsZero() {
		c = c.Clone()
		c.IKEv2.PSK = secret.Text{}
	}
	return c
}

// reserved are names that Windows keeps for devices, whatever their ending.
var reserved = regexp.MustCompile(`^(con|prn|aux|nul|com[0-9]|lpt[0-9])$`)

// FileName makes a name for a file from the name of a connection: small ASCII
// letters, digits and hyphens, never empty.
func FileName(connection, ending string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(connection) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
		if b.Len() >= 60 {
			break
		}
	}
	name := strings.Trim(b.String(), "-")
	if name == "" || reserved.MatchString(name) {
		name = strings.TrimSuffix("connection-"+name, "-")
	}
	return name + ending
}
