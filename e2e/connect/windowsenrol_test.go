package connect

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"
)

// What a Windows has for keys that are made on it, as the references of certreq (syntax of its
// policy files), of IX509Enrollment and of Invoke-WebRequest describe it.

// request makes a key and writes the request for its certificate: certreq -new.
func (w *windows) request(policy, to string) error {
	said := map[string]string{}
	for i, line := range strings.Split(string(w.files[strings.ToLower(policy)]), "\r\n") {
		if i == 0 {
			if line != "[NewRequest]" {
				return fmt.Errorf("the policy begins with %q", line)
			}
			continue
		}
		if key, value, ok := strings.Cut(line, "="); ok {
			if value = strings.TrimSpace(value); strings.HasPrefix(value, `"`) {
				value = strings.NewReplacer(`""`, `"`, "%%", "%").Replace(value[1 : len(value)-1])
			}
			said[strings.TrimSpace(key)] = value
		}
	}
	if said["Exportable"] != "FALSE" || said["RequestType"] != "PKCS10" ||
		said["ProviderName"] != "Microsoft Software Key Storage Provider" {
		return fmt.Errorf("the policy makes no key that stays there: %v", said)
	}
	machine, ok := map[string]bool{"TRUE": true, "FALSE": false}[said["MachineKeySet"]]
	if !ok {
		return fmt.Errorf("the policy does not say whose the key is: %v", said)
	}
	name, ok := strings.CutPrefix(said["Subject"], `CN="`)
	if !ok || !strings.HasSuffix(name, `"`) {
		return fmt.Errorf("%q is no distinguished name", said["Subject"])
	}
	name = strings.ReplaceAll(strings.TrimSuffix(name, `"`), `""`, `"`)
	var key crypto.Signer
	var err error
	switch said["KeyAlgorithm"] + " " + said["KeyLength"] {
	case "RSA 3072":
		key, err = rsa.GenerateKey(rand.Reader, 3072)
	case "ECDSA_P256 256":
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	default:
		err = fmt.Errorf("there is no key %s of %s bits", said["KeyAlgorithm"], said["KeyLength"])
	}
	if err != nil {
		return err
	}
	der, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: name}}, key)
	if err != nil {
		return err
	}
	w.pending = append(w.pending, pendingKey{key, machine})
	text := pem.EncodeToMemory(&pem.Block{Type: "NEW CERTIFICATE REQUEST", Bytes: der})
	w.files[strings.ToLower(to)] = bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
	return nil
}

// ask is a web request.
func (w *windows) ask(in map[string]any) ([]any, error) {
	if w.tls != "Tls12" {
		return nil, errors.New("the underlying connection was closed: Windows PowerShell offers TLS 1.0")
	}
	if !truth(in["usebasicparsing"]) {
		return nil, errors.New("the engine of the browser is not available")
	}
	var pair *tls.Certificate
	if c, ok := in["certificate"].(*table); ok {
		own := c.values["own"].(*windowsCertificate)
		pair = &tls.Certificate{Certificate: [][]byte{own.leaf.Raw}, PrivateKey: own.key}
		for _, between := range w.stores["LocalMachine/CA"] {
			pair.Certificate = append(pair.Certificate, between.leaf.Raw)
		}
	}
	req, err := http.NewRequest(strings.ToUpper(text(in["method"])), text(in["uri"]),
		strings.NewReader(text(in["body"])))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", text(in["contenttype"]))
	if headers, ok := in["headers"].(*table); ok {
		for name, v := range headers.values {
			req.Header.Set(name, text(v))
		}
	}
	res, err := w.web(pair).Do(req)
	if err != nil {
		return nil, err
	}
	defer func() { _ = res.Body.Close() }()
	body, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode >= http.StatusBadRequest {
		err = fmt.Errorf("the remote server returned an error: (%d)", res.StatusCode)
	}
	if strings.HasPrefix(res.Header.Get("Content-Type"), "text/") {
		return []any{newTable("response", "Content", string(body))}, err
	}
	return []any{newTable("response", "Content", body)}, err
}

// enrolment is the object that puts an answer beside the key that was asked for.
func (w *windows) enrolment(kind string) ([]any, error) {
	if kind != "X509Enrollment.CX509Enrollment" {
		return nil, fmt.Errorf("the COM object %s is not known to the test", kind)
	}
	machine := false
	o := newTable("enrolment")
	o.call = func(method string, args []any) (any, error) {
		switch method {
		case "initialize":
			machine = args[0] == 2 // ContextMachine; 1 is ContextUser
		case "installresponse":
			// AllowUntrustedCertificate and AllowUntrustedRoot; XCN_CRYPT_STRING_BASE64
			if args[0] != 6 || args[2] != 1 {
				return nil, fmt.Errorf("an answer is installed with %v", args)
			}
			der, err := base64.StdEncoding.DecodeString(text(args[1]))
			if err != nil {
				return nil, err
			}
			p, err := pkcs7.Parse(der)
			if err != nil {
				return nil, err
			}
			leaf := p.Certificates[0]
			i := slices.IndexFunc(w.pending, func(k pendingKey) bool {
				return k.machine == machine &&
					k.Public().(interface{ Equal(crypto.PublicKey) bool }).Equal(leaf.PublicKey)
			})
			if i < 0 {
				return nil, errors.New("there is no request that this answers")
			}
			store, where := "LocalMachine/My", "machine"
			if !machine {
				store, where = "CurrentUser/My/"+w.user, "user "+w.user
			}
			w.stores[store] = append(w.stores[store],
				&windowsCertificate{leaf: leaf, key: w.pending[i].Signer, where: where})
			w.pending = slices.Delete(w.pending, i, i+1)
		default:
			return nil, fmt.Errorf("an enrolment has no method %s", method)
		}
		return nil, nil
	}
	return []any{o}, nil
}

// pendingKey is a key whose certificate was asked for.
type pendingKey struct {
	crypto.Signer
	machine bool
}

// certificates are the cmdlets of items for the machine's own certificates, or a person's.
func (w *windows) certificates(name, mine, print string, key bool) ([]any, error) {
	at := slices.IndexFunc(w.stores[mine], func(c *windowsCertificate) bool {
		return strings.EqualFold(c.thumbprint(), print)
	})
	switch name {
	case "get-childitem":
		list := []any{}
		for _, c := range w.stores[mine] {
			list = append(list, c.object())
		}
		return list, nil
	case "test-path":
		return []any{at >= 0}, nil
	case "remove-item":
		if at < 0 || !key {
			return nil, fmt.Errorf("%s is not there, or its key would stay", print)
		}
		w.stores[mine] = slices.Delete(w.stores[mine], at, at+1)
		return nil, nil
	}
	return nil, fmt.Errorf("%s of certificates is not known to the test", name)
}
