package pki

import (
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"
)

// Kinds of messages by which a device asks for its certificate (RFC 8894 §3.2.1.2).
const (
	AskFirst   = "19" // PKCSReq: with the challenge password that it was given
	AskRenewal = "17" // RenewalReq: signed by the key of its certificate
	answer     = "3"  // CertRep
)

// Failures of a request (RFC 8894 §3.2.1.4).
const (
	FailCheck   = "1"
	FailRequest = "2" // not permitted or supported
)

// Attributes of a message (RFC 8894 §3.2.1) and of a request (RFC 2985 §5.4.1).
var (
	scepType      = asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, 2}
	scepStatus    = asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, 3}
	scepFailure   = asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, 4}
	scepSender    = asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, 5}
	scepRecipient = asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, 6}
	scepExchange  = asn1.ObjectIdentifier{2, 16, 840, 1, 113733, 1, 9, 7}

	challengePassword = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 7}
)

// init has contents closed with AES: the package's own choice is DES.
func init() { pkcs7.ContentEncryptionAlgorithm = pkcs7.EncryptionAlgorithmAES256CBC }

// MaxEnrolment bounds a message by which a device asks, in bytes.
const MaxEnrolment = 64 << 10

// Enrolment is a message by which a device asks for its certificate (SCEP, RFC 8894 §3).
type Enrolment struct {
	Kind   string
	Signer *x509.Certificate // made for this message, or the certificate that is to be renewed
	// What it asks for; nil where it could not be opened. Whoever asks has its key.
	Request   *x509.CertificateRequest
	Challenge string // password that the device was given (RFC 2985 §5.4.1)

	exchange string
	nonce    []byte
}

// ErrEnrolment is the error for a message that nobody can be answered.
var ErrEnrolment = errors.New("a message that cannot be read")

// OpenEnrolment opens a message that is closed for a registrar. A message whose sender is known but
// whose content cannot be used is given back without a request, so that it can be answered.
func OpenEnrolment(data []byte, registrar Identity) (e Enrolment, err error) {
	if len(data) > MaxEnrolment || sound(data) != nil {
		return e, ErrEnrolment
	}
	outer, err := pkcs7.Parse(data)
	if err != nil || len(outer.Signers) != 1 || len(outer.Certificates) > maxCertificates ||
		outer.Verify() != nil {
		return e, ErrEnrolment
	}
	e.Signer = outer.GetOnlySigner()
	if e.Signer == nil ||
		outer.UnmarshalSignedAttribute(scepType, &e.Kind) != nil ||
		outer.UnmarshalSignedAttribute(scepExchange, &e.exchange) != nil ||
		outer.UnmarshalSignedAttribute(scepSender, &e.nonce) != nil ||
		len(e.exchange) > 255 || len(e.nonce) > 255 {
		return e, ErrEnrolment
	}
	if _, ok := e.Signer.PublicKey.(*rsa.PublicKey); !ok {
		return e, ErrEnrolment // an answer cannot be closed for it
	}
	if sound(outer.Content) != nil {
		return e, nil
	}
	closed, err := pkcs7.Parse(outer.Content)
	if err != nil {
		return e, nil
	}
	der, err := closed.Decrypt(registrar.Leaf, registrar.Key)
	if err != nil {
		return e, nil
	}
	r, err := Request(der)
	if err != nil {
		return e, nil
	}
	e.Request, e.Challenge = r, challenge(r)
	return e, nil
}

// challenge is the password in a request; empty where there is none (RFC 2985 §5.4.1).
func challenge(r *x509.CertificateRequest) string {
	var body struct {
		Raw        asn1.RawContent
		Version    int
		Subject    asn1.RawValue
		PublicKey  asn1.RawValue
		Attributes []struct {
			ID     asn1.ObjectIdentifier
			Values []asn1.RawValue `asn1:"set"`
		} `asn1:"tag:0,set"`
	}
	if _, err := asn1.Unmarshal(r.RawTBSCertificateRequest, &body); err != nil {
		return ""
	}
	for _, a := range body.Attributes {
		if a.ID.Equal(challengePassword) && len(a.Values) == 1 {
			return strings.TrimSpace(string(a.Values[0].Bytes))
		}
	}
	return ""
}

// Granted answers a message with a certificate and those above it, closed for whoever asked.
func (e Enrolment) Granted(
	random io.Reader, registrar Identity, chain ...*x509.Certificate,
) ([]byte, error) {
	bare, err := Collection(chain...)
	if err != nil {
		return nil, err
	}
	closed, err := pkcs7.Encrypt(bare, []*x509.Certificate{e.Signer})
	if err != nil {
		return nil, err
	}
	return e.answer(random, registrar, closed, "0", "")
}

// Refused answers a message with a failure.
func (e Enrolment) Refused(random io.Reader, registrar Identity, failure string) ([]byte, error) {
	return e.answer(random, registrar, nil, "2", failure)
}

func (e Enrolment) answer(
	random io.Reader, by Identity, content []byte, status, failure string,
) ([]byte, error) {
	nonce := make([]byte, 16)
	if _, err := io.ReadFull(random, nonce); err != nil {
		return nil, err
	}
	attributes := []pkcs7.Attribute{
		{Type: scepType, Value: answer},
		{Type: scepStatus, Value: status},
		{Type: scepExchange, Value: e.exchange},
		{Type: scepSender, Value: nonce},
		{Type: scepRecipient, Value: e.nonce},
	}
	if failure != "" {
		attributes = append(attributes, pkcs7.Attribute{Type: scepFailure, Value: failure})
	}
	signed, err := pkcs7.NewSignedData(content)
	if err != nil {
		return nil, err
	}
	signed.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if err := signed.AddSigner(by.Leaf, by.Key,
		pkcs7.SignerInfoConfig{ExtraSignedAttributes: attributes}); err != nil {
		return nil, err
	}
	// What all clients read (RFC 3370 §3.2); the signature does not cover it.
	info := signed.GetSignedData().SignerInfos
	info[0].DigestEncryptionAlgorithm = pkix.AlgorithmIdentifier{
		Algorithm: pkcs7.OIDEncryptionAlgorithmRSA, Parameters: asn1.NullRawValue,
	}
	return signed.Finish()
}

// SameNames tells whether a request for renewal asks for what its certificate has, or for nothing
// of its own (RFC 7030 §4.2.2).
func SameNames(r *x509.CertificateRequest, c *x509.Certificate) bool {
	asked, has := Asked(r), Names(c)
	return !slices.ContainsFunc(asked, func(n string) bool { return !slices.Contains(has, n) }) &&
		(r.Subject.CommonName == "" || r.Subject.CommonName == c.Subject.CommonName)
}
