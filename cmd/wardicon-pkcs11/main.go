//go:build linux && cgo

// Wardicon-pkcs11 loads the module of a token for the service, which starts it: a fault in a vendor's
// code ends this program and nothing else.
package main

import (
	"crypto"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/rpc"
	"net/rpc/jsonrpc"
	"os"
	"sync"
	"syscall"

	"github.com/ThalesGroup/crypto11"

	"wardicon/core/pki"
	"wardicon/pkcs11"
)

func main() {
	server := rpc.NewServer()
	if err := server.RegisterName(pkcs11.Service, &Token{keys: map[string]crypto11.Signer{}}); err != nil {
		panic(err)
	}
	out, err := apart()
	if err != nil {
		panic(err)
	}
	server.ServeCodec(jsonrpc.NewServerCodec(stdio{os.Stdin, out})) // until the service closes it
}

// apart takes the standard output for the answers alone: what a module prints goes elsewhere.
func apart() (*os.File, error) {
	own, err := syscall.Dup(1)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(own), "answers"), syscall.Dup3(2, 1, 0)
}

type stdio struct {
	io.Reader
	io.Writer
}

func (stdio) Close() error { return nil }

// Token answers the service.
type Token struct {
	sync.Mutex
	at   *crypto11.Context
	keys map[string]crypto11.Signer
}

// Open opens the token that is named.
func (t *Token) Open(o pkcs11.Opening, ok *bool) (err error) {
	t.Lock()
	defer t.Unlock()
	c := crypto11.Config{Path: o.Module, TokenLabel: o.Label, TokenSerial: o.Serial, Pin: o.PIN}
	if c.TokenSerial != "" {
		c.TokenLabel = "" // it takes one of them
	}
	if t.at, err = crypto11.Configure(&c); err != nil {
		return fmt.Errorf("%w", err)
	}
	*ok = true
	return nil
}

// Ping asks the token for a few random octets.
func (t *Token) Ping(_ bool, ok *bool) error {
	r, err := t.at.NewRandomReader()
	if err != nil {
		return err
	}
	_, err = io.ReadFull(r, make([]byte, 8))
	*ok = err == nil
	return err
}

func (t *Token) key(o pkcs11.Object) (crypto11.Signer, error) {
	t.Lock()
	defer t.Unlock()
	name := string(o.ID) + "\x00" + o.Label
	if key, ok := t.keys[name]; ok {
		return key, nil
	}
	var id, label []byte
	if len(o.ID) > 0 {
		id = o.ID
	}
	if o.Label != "" {
		label = []byte(o.Label)
	}
	list, err := t.at.FindKeyPairs(id, label)
	switch {
	case err != nil:
		return nil, err
	case len(list) == 0:
		return nil, errors.New(pkcs11.NoKey)
	case len(list) > 1:
		return nil, fmt.Errorf("there are %d such keys in it; name the one by id=", len(list))
	}
	t.keys[name] = list[0]
	return list[0], nil
}

// Public is the public key of a key (RFC 5280 §4.1.2.7).
func (t *Token) Public(o pkcs11.Object, public *[]byte) error {
	key, err := t.key(o)
	if err != nil {
		return err
	}
	*public, err = x509.MarshalPKIXPublicKey(key.Public())
	return err
}

// Make makes a key pair; the private key cannot be extracted.
func (t *Token) Make(m pkcs11.Making, public *[]byte) (err error) {
	var key crypto11.Signer
	switch label := []byte(m.Label); m.Kind {
	case pki.RSA3072:
		key, err = t.at.GenerateRSAKeyPairWithLabel(m.ID, label, 3072)
	case pki.P384:
		key, err = t.at.GenerateECDSAKeyPairWithLabel(m.ID, label, elliptic.P384())
	case pki.P256, "":
		key, err = t.at.GenerateECDSAKeyPairWithLabel(m.ID, label, elliptic.P256())
	default:
		err = fmt.Errorf("found the kind of key %q, expected p256, p384 or rsa3072", m.Kind)
	}
	if err != nil {
		return err
	}
	*public, err = x509.MarshalPKIXPublicKey(key.Public())
	return err
}

// Drop destroys a key pair.
func (t *Token) Drop(o pkcs11.Object, ok *bool) error {
	key, err := t.key(o)
	if err != nil {
		return err
	}
	t.Lock()
	clear(t.keys)
	t.Unlock()
	*ok = true
	return key.Delete()
}

// Sign signs a digest.
func (t *Token) Sign(s pkcs11.Signing, signature *[]byte) error {
	key, err := t.key(s.Object)
	if err != nil {
		return err
	}
	var by crypto.SignerOpts = s.Hash
	if s.PSS {
		by = &rsa.PSSOptions{Hash: s.Hash, SaltLength: s.Salt}
	}
	*signature, err = key.Sign(rand.Reader, s.Digest, by)
	return err
}

// Decrypt opens what was sealed for an RSA key.
func (t *Token) Decrypt(o pkcs11.Opened, plain *[]byte) error {
	key, err := t.key(o.Object)
	if err != nil {
		return err
	}
	opener, ok := key.(crypto.Decrypter)
	if !ok {
		return errors.New("found a key of another kind, expected an RSA key")
	}
	*plain, err = opener.Decrypt(rand.Reader, o.Sealed, &rsa.OAEPOptions{Hash: crypto.SHA1})
	return err
}
