package pki

import (
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"github.com/smallstep/pkcs7"
)

// Signature is what a signed message (CMS SignedData, RFC 5652 §5) says of itself.
type Signature struct {
	Content []byte // nil where it is apart
	Signer  *x509.Certificate
	Others  []*x509.Certificate // that came along
	At      time.Time           // by the signer's own clock; zero where it does not say
}

// Errors of signed messages.
var (
	ErrNotSigned = errors.New("a signed message that cannot be read")
	ErrChanged   = errors.New(
		"a signature that does not fit: the content was changed after it was signed",
	)
	ErrSignedOut = errors.New("a signature of a time when the signer's certificate was not valid")
)

// Sign signs a content with SHA-256 and sends the signer's chain along. apart leaves the content
// out of the message. The package in use takes the time of signing from the clock.
func Sign(id Identity, content []byte, apart bool) ([]byte, error) {
	s, err := pkcs7.NewSignedData(content)
	if err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	s.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if err := s.AddSigner(id.Leaf, id.Key, pkcs7.SignerInfoConfig{}); err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	for _, c := range id.Chain {
		s.AddCertificate(c)
	}
	if apart {
		s.Detach()
	}
	return s.Finish()
}

// Signed opens a signed message and holds that nothing was changed since. A content that is kept
// apart is handed in. Whether the signer is one to be believed is for others to say.
func Signed(data, apart []byte) (Signature, error) {
	if sound(data) != nil {
		return Signature{}, ErrNotSigned
	}
	p, err := pkcs7.Parse(data)
	if err != nil || len(p.Signers) != 1 || len(p.Certificates) > maxCertificates {
		return Signature{}, ErrNotSigned
	}
	if len(p.Content) == 0 {
		p.Content = apart
	}
	s := Signature{Content: p.Content, Signer: p.GetOnlySigner()}
	if s.Signer == nil {
		return s, fmt.Errorf("%w: the signer's certificate is not in it", ErrNotSigned)
	}
	for _, c := range p.Certificates {
		if !c.Equal(s.Signer) {
			s.Others = append(s.Others, c)
		}
	}
	_ = p.UnmarshalSignedAttribute(pkcs7.OIDAttributeSigningTime, &s.At) // it need not be there
	var out *pkcs7.SigningTimeNotValidError
	switch err := p.Verify(); {
	case errors.As(err, &out):
		return s, ErrSignedOut
	case err != nil:
		return s, ErrChanged
	}
	return s, nil
}
