package pkcs11

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1" //nolint:gosec // RSAES-OAEP as every token can do it
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/rpc"
	"net/rpc/jsonrpc"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"wardicon/core/pki"
	"wardicon/core/vpn"
)

// How long a token may take for an answer; to make an RSA key takes cards half a minute.
const (
	patience = 10 * time.Second
	slowly   = 60 * time.Second
)

// Tokens are those that a service has.
type Tokens struct{ list []*token }

// Open notes the tokens of some URIs (RFC 7512), such as
// pkcs11:token=Skerry%20Line?module-path=/usr/lib/softhsm/libsofthsm2.so&pin-source=file:/etc/pin.
// They are opened when they are needed.
func Open(uris []string) (*Tokens, error) {
	all := &Tokens{}
	for _, text := range uris {
		p, err := parse(text)
		if err == nil && (p.module == "" || p.pinFile == "") {
			err = fmt.Errorf("found no module-path or no pin-source, expected both")
		}
		if err == nil {
			for _, path := range []string{p.module, p.pinFile} {
				if !filepath.IsAbs(path) {
					err = fmt.Errorf("found the path %q, expected one from / on", path)
				}
			}
		}
		if err != nil {
			return nil, err
		}
		all.list = append(all.list, &token{place: p})
	}
	return all, nil
}

// Names are what the tokens are called.
func (t *Tokens) Names() (list []string) {
	for _, one := range t.list {
		list = append(list, one.name())
	}
	return list
}

// AwayError is the error for a token that does not answer, or that is not there.
type AwayError struct {
	Token string
	Why   string
}

func (e *AwayError) Error() string { return "the token " + e.Token + " is not available: " + e.Why }

// Kind tells the kind of the error.
func (e *AwayError) Kind() vpn.Kind { return vpn.KindToken }

// RefusedError is the error for what a token does not do.
type RefusedError struct {
	Token string
	Why   string
}

func (e *RefusedError) Error() string { return "the token " + e.Token + " refuses: " + e.Why }

// Kind tells the kind of the error.
func (e *RefusedError) Kind() vpn.Kind { return vpn.KindToken }

// find finds the token of a key's URI.
func (t *Tokens) find(uri string) (*token, Object, error) {
	p, err := parse(uri)
	if err != nil {
		return nil, Object{}, err
	}
	for _, one := range t.list {
		if one.is(p) {
			return one, p.object, nil
		}
	}
	return nil, p.object, &AwayError{p.name(), "the service is started without it"}
}

// Signer is a key in a token.
func (t *Tokens) Signer(uri string) (crypto.Signer, error) {
	one, object, err := t.find(uri)
	if err != nil {
		return nil, err
	}
	return one.signer(object)
}

// Make makes a key in a token, which is called as it is, and tells its URI.
func (t *Tokens) Make(name, label string, kind pki.KeyChoice) (string, crypto.Signer, error) {
	for _, one := range t.list {
		if one.name() != name {
			continue
		}
		o := Object{ID: make([]byte, 16), Label: label}
		_, _ = rand.Read(o.ID) // never fails (crypto/rand)
		var public []byte
		if err := one.call("Make", Making{o, kind}, &public); err != nil {
			return "", nil, err
		}
		key, err := one.holding(o, public)
		return one.address(o), key, err
	}
	return "", nil, &AwayError{name, "the service is started without it"}
}

// Drop destroys a key.
func (t *Tokens) Drop(uri string) error {
	one, object, err := t.find(uri)
	if err != nil {
		return err
	}
	return one.call("Drop", object, new(bool))
}

// Check asks a token for an answer.
func (t *Tokens) Check(name string) error {
	for _, one := range t.list {
		if one.name() == name {
			return one.call("Ping", true, new(bool))
		}
	}
	return &AwayError{name, "the service is started without it"}
}

// Close ends the helpers.
func (t *Tokens) Close() {
	for _, one := range t.list {
		one.Lock()
		one.end()
		one.Unlock()
	}
}

// token is one of them, with its helper while that runs.
type token struct {
	place
	sync.Mutex
	helper *exec.Cmd
	client *rpc.Client
	locked error // the PIN was refused: it is not tried again, since tokens lock themselves
}

// program is where the helper is: beside this program, or where programs are looked for.
func program() (string, error) {
	if own, err := os.Executable(); err == nil {
		beside := filepath.Join(filepath.Dir(own), Helper)
		if _, err := os.Stat(beside); err == nil {
			return beside, nil
		}
	}
	path, err := exec.LookPath(Helper)
	if err != nil {
		return "", fmt.Errorf("found no program %s beside this one or in PATH", Helper)
	}
	return path, nil
}

// opened is the token's helper, which is started where it does not run.
func (t *token) opened() (*rpc.Client, error) {
	t.Lock()
	defer t.Unlock()
	if t.client != nil || t.locked != nil {
		return t.client, t.locked
	}
	pin, err := t.pin()
	if err != nil {
		return nil, &AwayError{t.name(), err.Error()}
	}
	path, err := program()
	if err != nil {
		return nil, &AwayError{t.name(), err.Error()}
	}
	helper := exec.Command(path) //nolint:gosec // our own
	helper.Stderr = io.Discard   // a vendor's module may say anything
	for _, v := range os.Environ() {
		if !strings.HasPrefix(v, "WARDICON_") {
			helper.Env = append(helper.Env, v)
		}
	}
	in, err := helper.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := helper.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := helper.Start(); err != nil {
		return nil, &AwayError{t.name(), err.Error()}
	}
	t.helper = helper
	t.client = rpc.NewClientWithCodec(jsonrpc.NewClientCodec(&pipe{out, in}))
	err = within(t.client, "Open", Opening{t.module, t.label, t.serial, pin}, new(bool))
	if err != nil {
		t.end()
		err = &AwayError{t.name(), err.Error()}
		if strings.Contains(err.Error(), "CKR_PIN") {
			t.locked = err
		}
		return nil, err
	}
	return t.client, nil
}

// end ends the helper. The lock is held.
func (t *token) end() {
	if t.client == nil {
		return
	}
	_ = t.client.Close()
	_ = t.helper.Process.Kill() // it may hang in its module
	_ = t.helper.Wait()
	t.client, t.helper = nil, nil
}

// call asks the helper. One that has gone is started again, once.
func (t *token) call(method string, what, answer any) error {
	for again := range 2 {
		client, err := t.opened()
		if err != nil {
			return err
		}
		err = within(client, method, what, answer)
		var said rpc.ServerError
		switch {
		case err == nil:
			return nil
		case errors.As(err, &said) && (!away(said) || again == 1):
			return &RefusedError{t.name(), string(said)}
		}
		t.Lock()
		if t.client == client {
			t.end()
		}
		t.Unlock()
		if again == 1 || errors.Is(err, context.DeadlineExceeded) {
			return &AwayError{t.name(), err.Error()}
		}
	}
	return nil
}

// away tells whether a token's answer means that it was taken away, or that its session has ended.
func away(said rpc.ServerError) bool {
	for _, code := range []string{
		"CKR_DEVICE", "CKR_TOKEN_NOT_PRESENT", "CKR_SESSION", "CKR_USER_NOT_LOGGED_IN", "CKR_GENERAL_ERROR",
		"HANDLE_INVALID",
	} {
		if strings.Contains(string(said), code) {
			return true
		}
	}
	return false
}

// within waits for an answer, but not for ever.
func within(client *rpc.Client, method string, what, answer any) error {
	longest := patience
	if method == "Make" || method == "Open" {
		longest = slowly
	}
	after := time.NewTimer(longest)
	defer after.Stop()
	select {
	case done := <-client.Go(Service+"."+method, what, answer, make(chan *rpc.Call, 1)).Done:
		return done.Error
	case <-after.C:
		return fmt.Errorf("no answer within %s: %w", longest, context.DeadlineExceeded)
	}
}

// pipe is both directions to a helper.
type pipe struct {
	io.ReadCloser
	in io.WriteCloser
}

func (p *pipe) Write(b []byte) (int, error) { return p.in.Write(b) }

func (p *pipe) Close() error { return errors.Join(p.in.Close(), p.ReadCloser.Close()) }

// signer finds a key.
func (t *token) signer(o Object) (crypto.Signer, error) {
	var public []byte
	if err := t.call("Public", o, &public); err != nil {
		return nil, err
	}
	return t.holding(o, public)
}

func (t *token) holding(o Object, public []byte) (crypto.Signer, error) {
	key, err := x509.ParsePKIXPublicKey(public)
	return &signer{t, o, key}, err
}

// signer is a key in a token.
type signer struct {
	in     *token
	object Object
	public crypto.PublicKey
}

func (s *signer) Public() crypto.PublicKey { return s.public }

// Sign has the token sign a digest (crypto.Signer).
func (s *signer) Sign(
	_ io.Reader,
	digest []byte,
	by crypto.SignerOpts,
) (signature []byte, err error) {
	asked := Signing{Object: s.object, Digest: digest, Hash: by.HashFunc()}
	if pss, ok := by.(*rsa.PSSOptions); ok {
		asked.PSS, asked.Salt = true, pss.SaltLength
	}
	return signature, s.in.call("Sign", asked, &signature)
}

// Wrapper seals a few octets for an RSA key in a token, so that only the token opens them.
type Wrapper struct {
	tokens *Tokens
	uri    string
}

// Wrapper is the one of a key. The tokens are closed after each use.
func (t *Tokens) Wrapper(uri string) *Wrapper { return &Wrapper{t, uri} }

// Wrap seals by RSAES-OAEP with SHA-1 and MGF1 (RFC 8017 §7.1); a key that is not there yet is made.
func (w *Wrapper) Wrap(plain []byte) ([]byte, error) {
	one, object, err := w.tokens.find(w.uri)
	if err != nil {
		return nil, err
	}
	defer w.tokens.Close()
	key, err := one.signer(object)
	if err != nil && strings.Contains(err.Error(), NoKey) && object.Label != "" {
		var public []byte
		if len(object.ID) == 0 {
			object.ID = []byte(object.Label)
		}
		if err = one.call("Make", Making{object, pki.RSA3072}, &public); err == nil {
			key, err = one.holding(object, public)
		}
	}
	if err != nil {
		return nil, err
	}
	public, ok := key.Public().(*rsa.PublicKey)
	if !ok {
		return nil, fmt.Errorf("the token %s: found a key of another kind, expected an RSA key",
			one.name())
	}
	return rsa.EncryptOAEP(sha1.New(), rand.Reader, public, plain, nil)
}

// Unwrap has the token open what Wrap has sealed.
func (w *Wrapper) Unwrap(sealed []byte) (plain []byte, err error) {
	one, object, err := w.tokens.find(w.uri)
	if err != nil {
		return nil, err
	}
	defer w.tokens.Close()
	err = one.call("Decrypt", Opened{object, sealed}, &plain)
	if refused := new(RefusedError); errors.As(err, &refused) {
		err = fmt.Errorf("the key of the token does not open this: %w", err)
	}
	return plain, err
}

// NoKey is what the helper says where a token has no such key.
const NoKey = "there is no such key in it"
