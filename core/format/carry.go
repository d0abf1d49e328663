package format

import (
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// Feature is something that only some formats can do.
type Feature string

// Enrols marks a format in which a device asks for the certificate of a key that it makes itself.
const Enrols Feature = "enrols"

// Sound refuses what no writer can take: a protocol that the format does not have,
// settings that are missing, text that is not printable, addresses and proposals that
// are none.
//
// A key that the device makes itself is refused but where the format enrols.
func Sound(title string, c vpn.Connection, can []vpn.Protocol, features ...Feature) error {
	if c.NeedsIdentity() && c.Identity != nil && c.Identity.Enrol != nil &&
		!slices.Contains(features, Enrols) {
		return &UnfitError{
			title, vpn.FieldIdentity, "a key that the device makes itself",
			"a certificate with its key in the file; this format cannot have the device ask for one",
		}
	}
	if err := Printable(title, c); err != nil {
		return err
	}
	if !slices.Contains(can, c.Protocol) || !c.Settings() {
		var names []string
		for _, p := range can {
			names = append(names, p.Title())
		}
		return &UnfitError{
			title,
			vpn.FieldProtocol,
			c.Protocol.Title() + " or settings of another protocol",
			"a connection by " + strings.Join(names, ", "),
		}
	}
	ike, esp := c.Proposals()
	for _, n := range []struct {
		field vpn.Field
		list  []string
		sound func(string) bool
		want  string
	}{
		{vpn.FieldDNS, c.DNS, func(v string) bool {
			_,
				err := netip.ParseAddr(v)
			return err == nil
		}, "an IP address"},
		{vpn.FieldRoutes, c.Routes, func(v string) bool {
			_,
				err := netip.ParsePrefix(v)
			return err == nil
		}, "a network in CIDR form"},
		{vpn.FieldSite, c.Behind(), func(v string) bool {
			_,
				err := netip.ParsePrefix(v)
			return err == nil
		}, "a network in CIDR form"},
		{vpn.FieldIKE, ike, proposal, "a proposal such as aes256-sha256-modp2048"},
		{vpn.FieldESP, esp, proposal, "a proposal such as aes256-sha256-modp2048"},
	} {
		for _, v := range n.list {
			if !n.sound(v) {
				return &UnfitError{title, n.field, fmt.Sprintf("%q", v), n.want}
			}
		}
	}
	if t := c.TLS; t != nil {
		for _, name := range t.Ciphers {
			if _, ok := suite.FindCipher(suite.DataCiphers, name); !ok {
				return &UnfitError{
					title,
					vpn.FieldCiphers,
					fmt.Sprintf("%q", name),
					"a data cipher such as AES-256-GCM",
				}
			}
		}
		if _, ok := suite.FindCipher(suite.Digests, t.Digest); !ok && t.Digest != "" {
			return &UnfitError{
				title,
				vpn.FieldDigest,
				fmt.Sprintf("%q", t.Digest),
				"a digest such as SHA256",
			}
		}
		if !slices.Contains([]string{"", "1.0", "1.1", "1.2", "1.3"}, t.MinTLS) {
			return &UnfitError{title, vpn.FieldMinTLS, fmt.Sprintf("%q", t.MinTLS), "1.2 or 1.3"}
		}
	}
	if c.NeedsIdentity() && (c.Identity == nil ||
		c.Identity.Certificate == "" && c.Identity.Enrol == nil) {
		return &UnfitError{
			title,
			vpn.FieldIdentity,
			"no certificate",
			"the device's certificate with its key",
		}
	}
	return nil
}

func proposal(v string) bool {
	_, err := suite.Parse(v)
	return err == nil
}

// Host refuses a server that is neither a name nor an address, for formats that hand it
// to a command or put it beside a port.
func Host(title string, field vpn.Field, v string) error {
	if expected, _ := vpn.HostProblem(v); expected != "" {
		return &UnfitError{title, field, fmt.Sprintf("%q", v), expected}
	}
	return nil
}

// NoUUID refuses a connection that a file tells apart by its UUID, and that has none.
func NoUUID(title string) error {
	return &UnfitError{title, vpn.FieldUUID, "no UUID", "a UUID (RFC 9562)"}
}

// Bare leaves off what says when and how a device connects, what the connection has no
// use for, and what only a person reads; a format puts back what it carries of it.
func Bare(c vpn.Connection) vpn.Connection {
	c = Ask(c.Clone())
	if !c.NeedsPassword() {
		c.Login, c.Password, c.PasswordMode = "", secret.Text{}, vpn.PasswordPrompted
	}
	if !c.NeedsIdentity() {
		c.Identity = nil
	}
	if c.IKEv2 != nil {
		for i, v := range c.IKEv2.IKE {
			if p, err := suite.Parse(v); err == nil {
				c.IKEv2.IKE[i] = p.ForIKE().String()
			}
		}
	}
	if c.TLS != nil && len(c.TLS.Remotes) > 0 {
		c.Server = c.TLS.Remotes[0].Address
	}
	if c.Routes == nil || c.Tunnel == vpn.TunnelFull {
		c.Routes = []string{}
	}
	c.IPv6, c.Connect, c.Demand, c.Reconnect, c.Unmetered, c.Proxy, c.OldPacking, c.AskPassphrase =
		"", "", nil, false, false, nil, false, false
	c.Addresses, c.LoginBeside, c.Site, c.RouterFilter, c.DemandRules = nil, false, nil, false, nil
	if c.L2TP != nil {
		c.L2TP.RemoteID = ""
	}
	if c.IKEv2 != nil {
		c.IKEv2.Issuer = ""
	}
	return c
}

// Methods puts PPP methods in their own order.
func Methods(list []suite.PPPMethod) []suite.PPPMethod {
	return slices.DeleteFunc(
		slices.Clone(suite.PPPMethods),
		func(m suite.PPPMethod) bool { return !slices.Contains(list, m) },
	)
}

// Families splits addresses or networks into those of IPv4 and of IPv6.
func Families(list []string) (four, six []string) {
	four, six = []string{}, []string{}
	for _, v := range list {
		if strings.Contains(v, ":") {
			six = append(six, v)
		} else {
			four = append(four, v)
		}
	}
	return four, six
}

// FourFirst puts addresses or networks of IPv4 before those of IPv6.
func FourFirst(list []string) []string {
	four, six := Families(list)
	return append(four, six...)
}

// Lost lists what a format leaves off of a connection, as paths such as ikev2.dpd.
// Names that only tools read are not counted.
func Lost(c vpn.Connection, codec Codec) []string {
	whole, kept := leaves(Ask(c)), leaves(codec.Carried(c))
	for _, quiet := range []string{"uuid", "identifier", "organisation", "old_packing",
		"login_beside", "router_filter", "ikev2.issuer", "addresses"} {
		delete(whole, quiet)
	}
	lost := []string{}
	for _, path := range slices.Sorted(maps.Keys(whole)) {
		if whole[path] != kept[path] {
			lost = append(lost, path)
		}
	}
	return lost
}

// leaves flattens a connection to its values; empty ones are left out.
func leaves(c vpn.Connection) map[string]string {
	data, err := json.Marshal(c)
	if err != nil {
		return nil
	}
	var tree map[string]any
	if json.Unmarshal(data, &tree) != nil {
		return nil
	}
	list := map[string]string{}
	flatten(list, "", tree)
	return list
}

func flatten(into map[string]string, path string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for k, inner := range v {
			flatten(into, strings.TrimPrefix(path+"."+k, "."), inner)
		}
	case []any:
		if len(v) > 0 {
			into[path] = fmt.Sprint(v...)
		}
	case string:
		if v != "" {
			into[path] = v
		}
	case bool:
		if v {
			into[path] = "true"
		}
	case float64:
		if v != 0 {
			into[path] = fmt.Sprint(v)
		}
	}
}

// Packed packs the connection's identity as PKCS#12; the mask stands in its place where
// the key is masked.
func Packed(title string, c vpn.Connection, bare bool) ([]byte, secret.Text, error) {
	if c.Identity.Key.Reveal() == secret.Hidden {
		return []byte(secret.Hidden), secret.New(secret.Hidden), nil
	}
	pair, err := pki.Pair(c.Identity.Certificate, c.Identity.Key)
	if err != nil {
		return nil, secret.Text{}, &UnfitError{
			title,
			vpn.FieldIdentity,
			err.Error(),
			"a certificate with its key",
		}
	}
	return pki.Pack(pair, c.OldPacking, bare)
}

// Unpacked opens a PKCS#12 identity that stands in a file.
func (r *Reading) Unpacked(data []byte, passphrase secret.Text) (*vpn.Identity, error) {
	if r.Rounds += pki.Rounds(data); r.Rounds > pki.MaxRounds {
		return nil, fmt.Errorf(
			"%d rounds of key derivation in one file, expected at most %d",
			r.Rounds,
			pki.MaxRounds,
		)
	}
	id, err := pki.Unpack(data, passphrase)
	if err != nil {
		return nil, err
	}
	key, err := pki.KeyPEM(id.Key)
	if err != nil {
		return nil, err
	}
	return &vpn.Identity{
		Certificate: pki.Bundle(append([]*x509.Certificate{id.Leaf}, id.Chain...)...),
		Key:         key,
	}, nil
}

// Anchors are the connection's authorities.
func Anchors(title string, c vpn.Connection) ([]*x509.Certificate, error) {
	if c.Authority == "" {
		return nil, nil
	}
	list, err := pki.Certificates(c.Authority)
	if err != nil {
		return nil, &UnfitError{title, vpn.FieldAuthority, err.Error(), "certificates in PEM form"}
	}
	return list, nil
}

// MainMode refuses IKEv1 aggressive mode, which many clients do not have.
func MainMode(title string, c vpn.Connection) error {
	if c.L2TP != nil && c.L2TP.Aggressive {
		return &UnfitError{title, vpn.FieldGroup, "aggressive mode", "IKEv1 main mode"}
	}
	return nil
}

// NoMPPE56 refuses MPPE of 56 bits alone, where only 128 and 40 can be said.
func NoMPPE56(title string, c vpn.Connection) error {
	if c.PPTP != nil && len(c.PPTP.MPPE) > 0 && len(Strengths(c.PPTP.MPPE)) == 0 {
		return &UnfitError{title, vpn.FieldMPPE, "56 bits only", "128 or 40 bits"}
	}
	return nil
}

// Strengths are the MPPE strengths out of 128 and 40, which is what most formats say.
func Strengths(list []suite.MPPE) []suite.MPPE {
	kept := []suite.MPPE{}
	for _, m := range []suite.MPPE{"128", "40"} {
		if slices.Contains(list, m) {
			kept = append(kept, m)
		}
	}
	return kept
}

// Expiries of the files that stand beside a configuration.
const (
	AuthorityFile   = "-ca.pem"
	CertificateFile = "-cert.pem"
	KeyFile         = "-key.pem"
	ControlFile     = "-control.key"
)

const pemType = "application/x-pem-file"

// PEMFiles makes the files of authority and identity that stand beside a configuration.
func PEMFiles(c vpn.Connection) []File {
	var files []File
	if c.Authority != "" {
		files = append(
			files,
			File{
				Name:      FileName(c.Name, AuthorityFile),
				MediaType: pemType,
				Purpose:   "Authorities of the gateway's certificate",
				Content:   []byte(c.Authority),
			},
		)
	}
	if c.NeedsIdentity() && c.Identity != nil {
		files = append(
			files,
			File{
				Name:      FileName(c.Name, CertificateFile),
				MediaType: pemType,
				Purpose:   "Certificate of the device",
				Content:   []byte(c.Identity.Certificate),
			},
			File{
				Name:      FileName(c.Name, KeyFile),
				MediaType: pemType,
				Purpose:   "Private key of the device",
				Private:   true,
				Content:   []byte(c.Identity.Key.Reveal()),
			},
		)
	}
	return files
}

// Fetch takes the text of a file that another one names; a note says where it is missing.
func (r *Reading) Fetch(beside Beside, name string, at Position) string {
	if name == "" {
		return ""
	}
	data, ok := beside.Get(name)
	r.Pieces = append(r.Pieces, path.Base(strings.ReplaceAll(name, `\`, "/")))
	if !ok && r.made(beside, name, at) {
		return ""
	}
	if !ok {
		r.Absent(name, at)
		return ""
	}
	if len(data) > pki.MaxPEM {
		r.Note(
			Unreadable,
			at,
			"%s has %d bytes, more than %d",
			path.Base(name),
			len(data),
			pki.MaxPEM,
		)
		return ""
	}
	return string(data)
}

// elsewhere is a name that leads to a place of the device's own, whatever comes along with a file.
var elsewhere = regexp.MustCompile(`^(/|~/|[A-Za-z]:[\\/])`)

// Absent remarks a file that another one names and that did not come along. One at a place of the
// device's own may be there.
func (r *Reading) Absent(name string, at Position) {
	before := len(r.Notes)
	if !elsewhere.MatchString(name) {
		r.Note(FileMissing, at, "%s", path.Base(strings.ReplaceAll(name, `\`, "/")))
		return
	}
	r.Note(FileMissing, at, "%s; it has to be on the device", name)
	if len(r.Notes) > before {
		r.Notes[before].Severity = vpn.Warning
	}
}

// Anchored reads the authorities out of a PEM text.
func (r *Reading) Anchored(text string, at Position) string {
	if text == "" {
		return ""
	}
	list, err := pki.Certificates(text)
	if err != nil {
		r.Note(KeyMalformed, at, "%s", err)
		return ""
	}
	return pki.Bundle(list...)
}

// Identified reads certificate and key out of PEM texts.
func (r *Reading) Identified(certificate, key string, at Position) *vpn.Identity {
	if certificate == "" && key == "" {
		return nil
	}
	pair, err := pki.Pair(certificate, secret.New(key))
	if err != nil {
		kind := KeyMalformed
		if errors.Is(err, pki.ErrPair) {
			kind = PairBroken
		}
		r.Note(kind, at, "%s", err)
		return nil
	}
	text, err := pki.KeyPEM(pair.Key)
	if err != nil {
		r.Note(KeyMalformed, at, "%s", err)
		return nil
	}
	r.Note(PrivateKeyClear, at, "a private key")
	return &vpn.Identity{
		Certificate: pki.Bundle(append([]*x509.Certificate{pair.Leaf}, pair.Chain...)...),
		Key:         text,
	}
}

// NotCarried words that a closed dialect has no names for a proposal.
func NotCarried(title, who string, err error) error {
	var carry *suite.CarryError
	if !errors.As(err, &carry) {
		return err
	}
	field := vpn.FieldIKE
	if carry.Child {
		field = vpn.FieldESP
	}
	return &UnfitError{title, field, carry.Proposal, "algorithms that " + who + " names"}
}
