package pki

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/mail"
	"net/netip"
	"strings"
	"time"
	"unicode/utf8"
)

// KeyChoice is a kind of key that is made here.
type KeyChoice string

// The choices, the first for where nothing else is asked.
const (
	P256    KeyChoice = "p256"
	P384    KeyChoice = "p384"
	RSA3072 KeyChoice = "rsa3072"
)

// KeyChoices lists them.
var KeyChoices = []KeyChoice{P256, P384, RSA3072}

// NewKey makes a private key.
func NewKey(random io.Reader, kind KeyChoice) (crypto.Signer, error) {
	switch kind {
	case P256, "":
		return ecdsa.GenerateKey(elliptic.P256(), random)
	case P384:
		return ecdsa.GenerateKey(elliptic.P384(), random)
	case RSA3072:
		return rsa.GenerateKey(random, 3072)
	}
	return nil, fmt.Errorf("found the kind of key %q, expected p256, p384 or rsa3072", kind)
}

// Wanted is what a certificate shall say. Names are host names, addresses and mail
// addresses; an authority has none. Permitted and Excluded bind an authority to domains and
// networks (RFC 5280 §4.2.1.10); MaxPath is how many authorities may stand below it, -1 for any
// number.
type Wanted struct {
	Name         string // common name
	Organisation string
	Usage        Usage
	Names        []string
	From, To     time.Time
	MaxPath      int
	Permitted    []string
	Excluded     []string
	Lists        []string // web addresses of the issuer's revocation list
	Responders   []string // and of who answers for the state of its certificates
}

// Issuer signs. Without a certificate the key is that of the new one, which vouches for itself.
type Issuer struct {
	Certificate *x509.Certificate
	Key         crypto.Signer
}

// IssueError says which value of a certificate cannot be issued, and why.
type IssueError struct {
	Field    string // name, names, from, to, issuer, permitted, excluded
	Found    string
	Expected string
}

func (e *IssueError) Error() string {
	return fmt.Sprintf("%s: found %s, expected %s", e.Field, e.Found, e.Expected)
}

// forIKE marks a gateway's certificate for IKE (RFC 4945 §5.1.3.12); older systems look
// for it beside serverAuth.
var forIKE = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 17}

// registrarUse marks the certificate of who takes requests for an authority (RFC 6402 §2.10).
var registrarUse = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 28}

// serialBits makes serial numbers of at most 20 octets (RFC 5280 §4.1.2.2).
const serialBits = 159

// SelfMade makes a certificate that vouches for itself and is no authority, for a service that has
// no other yet.
func SelfMade(random io.Reader, key crypto.Signer, w Wanted) (*x509.Certificate, error) {
	if err := w.sound(); err != nil {
		return nil, err
	}
	t, err := w.template(random, key.Public())
	if err != nil {
		return nil, err
	}
	der, err := x509.CreateCertificate(random, t, t, key.Public(), key)
	if err != nil {
		return nil, fmt.Errorf("the certificate cannot be signed: %w", err)
	}
	return x509.ParseCertificate(der)
}

// Issue makes a certificate for a public key. It refuses what the issuer may not vouch for.
func Issue(
	random io.Reader,
	by Issuer,
	public crypto.PublicKey,
	w Wanted,
) (*x509.Certificate, error) {
	if err := w.check(by); err != nil {
		return nil, err
	}
	t, err := w.template(random, public)
	if err != nil {
		return nil, err
	}
	t.CRLDistributionPoints, t.OCSPServer = w.Lists, w.Responders
	if w.Organisation != "" {
		t.Subject.Organization = []string{w.Organisation}
	}
	parent, signer := by.Certificate, by.Key
	if parent == nil {
		parent = t
	}
	der, err := x509.CreateCertificate(random, t, parent, public, signer)
	if err != nil {
		return nil, fmt.Errorf("the certificate cannot be signed: %w", err)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	if by.Certificate != nil {
		switch _, broken := Path(c, nil, []*x509.Certificate{by.Certificate}); broken {
		case Whole:
		case NameConstraint:
			return nil, &IssueError{
				"names",
				strings.Join(w.Names, ", "),
				"names that " + by.Certificate.Subject.CommonName + " may issue for",
			}
		default:
			return nil, &IssueError{
				"issuer",
				by.Certificate.Subject.CommonName,
				"an authority that may issue for this (" + string(broken) + ")",
			}
		}
	}
	return c, nil
}

// template is what is wanted, with a serial number, before anybody signs it.
func (w Wanted) template(random io.Reader, public crypto.PublicKey) (*x509.Certificate, error) {
	serial, err := newSerial(random)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{
		SerialNumber:          serial,
		Subject:               pkix.Name{CommonName: w.Name},
		NotBefore:             w.From.UTC(),
		NotAfter:              w.To.UTC(),
		BasicConstraintsValid: true,
	}
	w.names(t)
	w.usage(t, public)
	return t, nil
}

func newSerial(random io.Reader) (*big.Int, error) {
	raw := make([]byte, (serialBits+7)/8)
	for {
		if _, err := io.ReadFull(random, raw); err != nil {
			return nil, err
		}
		raw[0] &= 0x7F // positive
		if serial := new(big.Int).SetBytes(raw); serial.BitLen() > 64 {
			return serial, nil
		}
	}
}

// check refuses what makes no sound certificate, before anything is signed.
func (w Wanted) check(by Issuer) error {
	if strings.TrimSpace(w.Name) == "" || utf8.RuneCountInString(w.Name) > 64 {
		return &IssueError{
			"name",
			fmt.Sprintf("%q", w.Name),
			"1 to 64 characters (RFC 5280 appendix A.1)",
		}
	}
	if !w.To.After(w.From) {
		return &IssueError{
			"to",
			w.To.UTC().Format(time.DateOnly),
			"a day after " + w.From.UTC().Format(time.DateOnly),
		}
	}
	switch i := by.Certificate; {
	case i == nil && w.Usage != ForAuthority:
		return &IssueError{"issuer", "none", "an authority"}
	case i == nil:
	case !i.IsCA || i.KeyUsage != 0 && i.KeyUsage&x509.KeyUsageCertSign == 0:
		return &IssueError{
			"issuer",
			i.Subject.CommonName,
			"an authority that may sign certificates",
		}
	case w.From.Before(i.NotBefore):
		return &IssueError{
			"from",
			w.From.UTC().Format(time.DateOnly),
			"a day on which its issuer is valid, from " + i.NotBefore.UTC().Format(time.DateOnly),
		}
	case w.To.After(i.NotAfter):
		return &IssueError{
			"to",
			w.To.UTC().Format(time.DateOnly),
			"a day before its issuer ends, " + i.NotAfter.UTC().Format(time.DateOnly),
		}
	case w.Usage == ForAuthority && i.MaxPathLen == 0 && i.MaxPathLenZero:
		return &IssueError{
			"issuer",
			i.Subject.CommonName,
			"an authority that may have others below it",
		}
	}
	if (w.Usage == ForClient || w.Usage == ForServer) && len(w.Names) == 0 {
		return &IssueError{
			"names",
			"none",
			"at least one, which the other side checks (RFC 9525 §6.3, RFC 7296 §3.5)",
		}
	}
	if err := w.sound(); err != nil {
		return err
	}
	for field, list := range map[string][]string{"permitted": w.Permitted, "excluded": w.Excluded} {
		for _, v := range list {
			if _, err := netip.ParsePrefix(
				v,
			); err != nil && !validName(v) ||
				strings.Contains(v, "@") {
				return &IssueError{field, fmt.Sprintf("%q", v), "a domain or a network"}
			}
		}
	}
	return nil
}

// sound refuses names that are none.
func (w Wanted) sound() error {
	for _, n := range w.Names {
		if !validName(n) {
			return &IssueError{
				"names",
				fmt.Sprintf("%q", n),
				"a host name, an address or a mail address",
			}
		}
	}
	return nil
}

// validName takes host names (a wildcard as the whole first label too), addresses and mail
// addresses.
func validName(v string) bool {
	if _, err := netip.ParseAddr(v); err == nil {
		return true
	}
	if strings.Contains(v, "@") {
		a, err := mail.ParseAddress(v)
		return err == nil && a.Address == v
	}
	host := strings.TrimPrefix(v, "*.")
	if host == "" || len(host) > 253 || strings.HasSuffix(host, ".") {
		return false
	}
	for label := range strings.SplitSeq(host, ".") {
		ok := len(label) > 0 && len(label) <= 63 && label[0] != '-' && label[len(label)-1] != '-' &&
			!strings.ContainsFunc(label, func(r rune) bool {
				return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
					r == '-' || r == '_')
			})
		if !ok {
			return false
		}
	}
	return true
}

func (w Wanted) names(t *x509.Certificate) {
	for _, n := range w.Names {
		switch {
		case net.ParseIP(n) != nil:
			t.IPAddresses = append(t.IPAddresses, net.ParseIP(n))
		case strings.Contains(n, "@"):
			t.EmailAddresses = append(t.EmailAddresses, n)
		default:
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	for _, v := range w.Permitted {
		if _, n, err := net.ParseCIDR(v); err == nil {
			t.PermittedIPRanges = append(t.PermittedIPRanges, n)
		} else {
			t.PermittedDNSDomains = append(t.PermittedDNSDomains, v)
		}
	}
	for _, v := range w.Excluded {
		if _, n, err := net.ParseCIDR(v); err == nil {
			t.ExcludedIPRanges = append(t.ExcludedIPRanges, n)
		} else {
			t.ExcludedDNSDomains = append(t.ExcludedDNSDomains, v)
		}
	}
	t.PermittedDNSDomainsCritical = len(w.Permitted)+len(w.Excluded) > 0
	if len(w.Permitted) == 0 {
		return
	}
	// A kind of name that no constraint names is free (RFC 5280 §4.2.1.10): mail addresses are
	// bound to the domains, and what is not permitted at all is excluded whole.
	for _, d := range t.PermittedDNSDomains {
		t.PermittedEmailAddresses = append(t.PermittedEmailAddresses, d, "."+d)
	}
	if len(t.PermittedIPRanges) == 0 {
		for _, v := range []string{"0.0.0.0/0", "::/0"} {
			_, n, _ := net.ParseCIDR(v)
			t.ExcludedIPRanges = append(t.ExcludedIPRanges, n)
		}
	}
	if len(t.PermittedDNSDomains) == 0 {
		t.PermittedDNSDomains, t.PermittedEmailAddresses = []string{noDomain}, []string{noDomain}
	}
	t.PermittedURIDomains = t.PermittedDNSDomains
}

// noDomain is a domain that nobody has (RFC 6761 §6.4).
const noDomain = "invalid"

func (w Wanted) usage(t *x509.Certificate, public crypto.PublicKey) {
	t.KeyUsage = x509.KeyUsageDigitalSignature
	switch w.Usage {
	case ForAuthority:
		t.IsCA, t.KeyUsage = true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign
		if w.MaxPath >= 0 {
			t.MaxPathLen, t.MaxPathLenZero = w.MaxPath, w.MaxPath == 0
		} else {
			t.MaxPathLen = -1
		}
	case ForServer:
		t.ExtKeyUsage, t.UnknownExtKeyUsage = []x509.ExtKeyUsage{
			x509.ExtKeyUsageServerAuth,
		}, []asn1.ObjectIdentifier{
			forIKE,
		}
		if _, ok := public.(*rsa.PublicKey); ok { // key transport, which old TLS clients still use
			t.KeyUsage |= x509.KeyUsageKeyEncipherment
		}
	case ForRegistrar:
		t.KeyUsage |= x509.KeyUsageKeyEncipherment
		t.UnknownExtKeyUsage = []asn1.ObjectIdentifier{registrarUse}
	case ForClient:
		t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	case ForSigning:
		t.ExtKeyUsage = []x509.ExtKeyUsage{
			x509.ExtKeyUsageCodeSigning,
			x509.ExtKeyUsageEmailProtection,
		}
	}
}
