package pki

import (
	"crypto/x509"
	"errors"
	"math/big"
	"time"

	"golang.org/x/crypto/ocsp"
)

// MaxStatusRequest bounds a question for a certificate's state, in bytes.
const MaxStatusRequest = 4 << 10

// ErrStatusRequest is the error for a question that cannot be read.
var ErrStatusRequest = errors.New("a question that cannot be read")

// StatusRequest reads which serial number a question for a certificate's state is about (RFC 6960
// §4.1), and whether it is one for the issuer.
func StatusRequest(der []byte, issuer *x509.Certificate) (serial *big.Int, own bool, err error) {
	if len(der) > MaxStatusRequest || sound(der) != nil {
		return nil, false, ErrStatusRequest
	}
	r, err := ocsp.ParseRequest(der)
	if err != nil || !r.HashAlgorithm.Available() {
		return nil, false, ErrStatusRequest
	}
	asked, err := ocsp.CreateRequest(&x509.Certificate{SerialNumber: r.SerialNumber}, issuer,
		&ocsp.RequestOptions{Hash: r.HashAlgorithm})
	if err != nil {
		return nil, false, ErrStatusRequest
	}
	same, err := ocsp.ParseRequest(asked)
	if err != nil {
		return nil, false, ErrStatusRequest
	}
	return r.SerialNumber, string(same.IssuerKeyHash) == string(r.IssuerKeyHash) &&
		string(same.IssuerNameHash) == string(r.IssuerNameHash), nil
}

// State is what an issuer knows of a certificate.
type State struct {
	Serial  *big.Int
	Known   bool
	Revoked *Revoked // nil where it is good
	At      time.Time
	Until   time.Time
}

// Status is the signed answer about a certificate (RFC 6960 §4.2), in the form of RFC 5019: one
// certificate, without the question's nonce, for a time of its own.
func Status(by Issuer, s State) ([]byte, error) {
	t := ocsp.Response{
		Status: ocsp.Unknown, SerialNumber: s.Serial, ThisUpdate: s.At, NextUpdate: s.Until,
	}
	switch {
	case s.Revoked != nil:
		t.Status, t.RevokedAt = ocsp.Revoked, s.Revoked.At
		t.RevocationReason = reasonCodes[s.Revoked.Reason]
	case s.Known:
		t.Status = ocsp.Good
	}
	return ocsp.CreateResponse(by.Certificate, by.Certificate, t, by.Key)
}

// Answers without a signature (RFC 6960 §4.2.1).
var (
	StatusMalformed    = ocsp.MalformedRequestErrorResponse
	StatusUnauthorized = ocsp.UnauthorizedErrorResponse
	StatusLater        = ocsp.TryLaterErrorResponse
)
