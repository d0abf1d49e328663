package httpapi

import (
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/service"
	"wardicon/store"
)

// Enrolling is the handler for an address of its own at which devices ask for certificates and
// renew them: there a device may show its certificate by TLS, which browsers would ask people for.
func Enrolling(svc *service.Service, log *slog.Logger, opts Options) http.Handler {
	r := chi.NewRouter()
	a := &handlers{svc: svc, log: log, opts: opts, uploads: map[string]int64{}}
	r.Use(identified, a.logged, a.recovered, opts.Forwarding.called(opts.Secure), headers, a.sized,
		middleware.Timeout(requestTime))
	a.enrolling(r)
	r.Get("/lists/{name}", a.revocationList)
	return r
}

// enrolling answers the protocols by which devices get certificates (EST, RFC 7030; SCEP, RFC 8894)
// and by which others ask for the state of one (OCSP, RFC 6960).
func (a *handlers) enrolling(r chi.Router) {
	for _, label := range []string{"", "{ca}/"} { // one CA, or the one of the secret
		r.Get(service.ESTPath+label+"cacerts", a.caCertificates)
		r.Get(service.ESTPath+label+"csrattrs", func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusNoContent) // nothing in particular (RFC 7030 §4.5.2)
		})
		r.Post(service.ESTPath+label+"simpleenroll", a.estEnrol)
		r.Post(service.ESTPath+label+"simplereenroll", a.estReenrol)
	}
	r.Get(service.SCEPPath+"{ca}", a.scep)
	r.Post(service.SCEPPath+"{ca}", a.scep)
	r.Post(service.StatusPath+"{ca}", a.status)
	r.Get(service.StatusPath+"{ca}/*", a.status)
}

func (a *handlers) caCertificates(w http.ResponseWriter, r *http.Request) {
	list, err := a.svc.CAs(r.Context(), chi.URLParam(r, "ca"))
	if err != nil {
		a.enrolFailed(w, r, err)
		return
	}
	a.certsOnly(w, r, list)
}

// certsOnly answers with certificates (RFC 7030 §4.1.3, RFC 8951 §3.1), without line breaks:
// clients are told to skip them, and not all do.
func (a *handlers) certsOnly(w http.ResponseWriter, r *http.Request, list []*x509.Certificate) {
	der, err := pki.Collection(list...)
	if err != nil {
		a.enrolFailed(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/pkcs7-mime; smime-type=certs-only")
	w.Header().Set("Content-Transfer-Encoding", "base64")
	_, _ = io.WriteString(w, base64.StdEncoding.EncodeToString(der))
}

// request reads the request of a device: base64, as EST sends it, or DER or PEM.
func (a *handlers) request(
	w http.ResponseWriter, r *http.Request,
) (*x509.CertificateRequest, bool) {
	data, err := io.ReadAll(http.MaxBytesReader(w, r.Body, pki.MaxEnrolment))
	if err == nil {
		if der, plain := base64.StdEncoding.DecodeString(
			strings.Join(strings.Fields(string(data)), "")); plain == nil {
			data = der
		}
		var asked *x509.CertificateRequest
		if asked, err = pki.Request(data); err == nil {
			return asked, true
		}
	}
	writeProblem(w, r, problem(http.StatusBadRequest, "request", "the request: "+err.Error()))
	return nil, false
}

func (a *handlers) estEnrol(w http.ResponseWriter, r *http.Request) {
	_, given, ok := r.BasicAuth()
	if !ok {
		w.Header().Set("WWW-Authenticate", `Basic realm="enrolment"`)
		writeProblem(w, r, problem(http.StatusUnauthorized, "sign-in",
			"expected an enrolment secret as the password"))
		return
	}
	asked, ok := a.request(w, r)
	if !ok {
		return
	}
	list, err := a.svc.Enrol(r.Context(), chi.URLParam(r, "ca"), secret.New(given), asked,
		callerOf(r.Context()).address)
	if err != nil {
		a.enrolFailed(w, r, err)
		return
	}
	a.certsOnly(w, r, list[:1])
}

func (a *handlers) estReenrol(w http.ResponseWriter, r *http.Request) {
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		writeProblem(w, r, problem(http.StatusForbidden, "certificate", "expected the certificate "+
			"that is renewed, shown by TLS at the address for enrolment"))
		return
	}
	asked, ok := a.request(w, r)
	if !ok {
		return
	}
	list, err := a.svc.Reenrol(r.Context(), chi.URLParam(r, "ca"), r.TLS.PeerCertificates[0], asked,
		callerOf(r.Context()).address)
	if err != nil {
		a.enrolFailed(w, r, err)
		return
	}
	a.certsOnly(w, r, list[:1])
}

// enrolFailed says why nothing is given.
func (a *handlers) enrolFailed(w http.ResponseWriter, r *http.Request, err error) {
	if errors.Is(err, service.ErrEnrolment) {
		w.Header().Set("WWW-Authenticate", `Basic realm="enrolment"`)
		writeProblem(w, r, problem(http.StatusUnauthorized, "sign-in", err.Error()))
		return
	}
	p, _ := a.answer(r.Context(), err).(*api.Problem)
	writeProblem(w, r, p)
}

// capabilities are what SCEP clients may use (RFC 8894 §3.5.2).
const capabilities = "AES\nPOSTPKIOperation\nRenewal\nSCEPStandard\nSHA-256\nSHA-384\nSHA-512\n"

func (a *handlers) scep(w http.ResponseWriter, r *http.Request) {
	ca, query := chi.URLParam(r, "ca"), r.URL.Query()
	switch query.Get("operation") {
	case "GetCACaps":
		w.Header().Set("Content-Type", "text/plain")
		_, _ = io.WriteString(w, capabilities)
	case "GetCACert":
		id, err := a.svc.Registrar(r.Context(), ca)
		if err != nil {
			a.enrolFailed(w, r, err)
			return
		}
		der, err := pki.Collection(append([]*x509.Certificate{id.Leaf}, id.Chain...)...)
		if err != nil {
			a.enrolFailed(w, r, err)
			return
		}
		w.Header().Set("Content-Type", "application/x-x509-ca-ra-cert")
		_, _ = w.Write(der)
	case "PKIOperation":
		data, err := io.ReadAll(http.MaxBytesReader(w, r.Body, pki.MaxEnrolment))
		if r.Method == http.MethodGet {
			data, err = base64.StdEncoding.DecodeString(query.Get("message"))
		}
		if err == nil {
			data, err = a.svc.SCEP(r.Context(), ca, data, callerOf(r.Context()).address)
		} else {
			err = pki.ErrEnrolment
		}
		if errors.Is(err, pki.ErrEnrolment) {
			writeProblem(w, r, problem(http.StatusBadRequest, "request", err.Error()))
			return
		}
		if err != nil {
			a.enrolFailed(w, r, err)
			return
		}
		w.Header().Set("Content-Type", "application/x-pki-message")
		_, _ = w.Write(data)
	default:
		writeProblem(w, r, problem(http.StatusBadRequest, "request",
			"expected the operation GetCACaps, GetCACert or PKIOperation"))
	}
}

// status answers a question for the state of a certificate: the body, or base64 in the path
// (RFC 6960 §A.1).
func (a *handlers) status(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/ocsp-response")
	question, err := io.ReadAll(http.MaxBytesReader(w, r.Body, pki.MaxStatusRequest))
	if r.Method == http.MethodGet {
		var text string
		if text, err = url.PathUnescape(chi.URLParam(r, "*")); err == nil {
			question, err = base64.StdEncoding.DecodeString(text)
		}
	}
	if err != nil {
		_, _ = w.Write(pki.StatusMalformed)
		return
	}
	der, until, err := a.svc.CertificateStatus(r.Context(), chi.URLParam(r, "ca"), question)
	var none *store.NotFoundError
	switch {
	case errors.As(err, &none):
		der = pki.StatusUnauthorized
	case err != nil:
		a.log.ErrorContext(r.Context(), "the state of a certificate cannot be told", "error", err)
		der = pki.StatusLater
	case r.Method == http.MethodGet: // RFC 5019 §6.2
		w.Header().Set("Cache-Control", fmt.Sprintf("public, max-age=%d, no-transform",
			max(0, int(time.Until(until).Seconds()))))
	}
	_, _ = w.Write(der)
}
