package httpapi

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"net/netip"
	"net/url"
	"strings"

	"github.com/go-chi/chi/v5"

	"wardicon/api"
	"wardicon/core/format"
	"wardicon/core/i18n"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/recipient"
	"wardicon/service"
	"wardicon/store"
)

const visitCookie = "wardicon_handover"

// recipient are the pages of whoever was given a link. They work without scripts, and looking at
// the first one uses nothing up.
func (a *handlers) recipient(r chi.Router) {
	r.Use(a.forRecipients)
	r.Get("/", a.linkPage)
	r.Post("/", a.openLink)
	r.Get("/proof", a.linkProof)
	r.Post("/help", a.linkHelp)
	r.Post("/times", a.linkTimes)
	r.Get("/files/{name}", a.linkFile)
}

// forRecipients sets what the pages of recipients carry.
func (a *handlers) forRecipients(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Cache-Control", "no-store")
		h.Set("X-Robots-Tag", "noindex, nofollow")
		h.Set("Vary", "Accept-Language, Accept, Cookie")
		h.Set(
			"Content-Security-Policy",
			"default-src 'none'; script-src "+recipient.ScriptSource+"; style-src "+
				"'unsafe-inline'; img-src 'self' data:; connect-src 'self'; form-action 'self'; "+
				"base-uri 'none'; frame-ancestors 'none'",
		)
		next.ServeHTTP(w, r)
	})
}

// languageOf is the language that was chosen on the page, and those that the browser wants.
func languageOf(r *http.Request) (chosen, browsers string) {
	return r.URL.Query().Get("lang"), r.Header.Get("Accept-Language")
}

// sheet begins a page. Where it cannot be begun, the answer is given.
func (a *handlers) sheet(
	w http.ResponseWriter,
	r *http.Request,
	languages ...string,
) (p recipient.Page, o vpn.Organisation, ok bool) {
	o, err := a.svc.Organisation(r.Context())
	if err != nil {
		a.broken(w, r, err)
		return p, o, false
	}
	if len(languages) == 0 {
		chosen, browsers := languageOf(r)
		languages = []string{chosen, browsers}
	}
	return recipient.New(i18n.Choose(languages...), o.Name), o, true
}

// broken answers where the service itself failed.
func (a *handlers) broken(w http.ResponseWriter, r *http.Request, err error) {
	a.log.ErrorContext(r.Context(), "a recipient's page cannot be shown", "error", err)
	http.Error(w, "This page cannot be shown now. Try again later.", http.StatusInternalServerError)
}

// draw sends a page.
func (a *handlers) draw(
	w http.ResponseWriter,
	r *http.Request,
	status int,
	page func(io.Writer) error,
) {
	var b bytes.Buffer
	if err := page(&b); err != nil {
		a.broken(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes())
}

func (a *handlers) ended(w http.ResponseWriter, r *http.Request, status int) {
	if wantsJSON(r) {
		writeProblem(w, r, problem(status, "link-ended", service.ErrLink.Error()))
		return
	}
	if p, _, ok := a.sheet(w, r); ok {
		a.draw(w, r, status, p.Ended)
	}
}

// visitCookieOf is the name of the cookie of what was opened.
func visitCookieOf(r *http.Request) string {
	if callerOf(r.Context()).secure {
		return securePrefix + visitCookie
	}
	return visitCookie
}

func visitOf(r *http.Request) string {
	c, err := r.Cookie(visitCookieOf(r))
	if err != nil {
		return ""
	}
	return c.Value
}

// wantsJSON tells a program that fetches by itself from a browser.
func wantsJSON(r *http.Request) bool {
	return strings.HasPrefix(r.Header.Get("Accept"), "application/json")
}

// linkPage shows the files to a browser that has opened the link, and asks any other for the
// passcode.
func (a *handlers) linkPage(w http.ResponseWriter, r *http.Request) {
	token := chi.URLParam(r, "token")
	chosen, browsers := languageOf(r)
	o, err := a.svc.Visited(r.Context(), token, visitOf(r), chosen, browsers)
	switch {
	case err == nil:
		a.opened(w, r, token, o)
	case errors.Is(err, service.ErrVisit):
		if _, err := a.svc.Link(r.Context(), token); err != nil {
			a.ended(w, r, http.StatusGone)
		} else if wantsJSON(r) {
			writeProblem(
				w,
				r,
				problem(http.StatusForbidden, "passcode", "open the link with its passcode first"),
			)
		} else if p, _, ok := a.sheet(w, r); ok {
			a.draw(w, r, http.StatusOK, p.Ask)
		}
	case errors.Is(err, service.ErrLink):
		a.ended(w, r, http.StatusNotFound)
	default:
		a.broken(w, r, err)
	}
}

// openLink looks at the passcode.
func (a *handlers) openLink(w http.ResponseWriter, r *http.Request) {
	token := chi.URLParam(r, "token")
	r.Body = http.MaxBytesReader(w, r.Body, 4096)
	bearer, until, err := a.svc.OpenLink(
		r.Context(),
		token,
		secret.New(r.PostFormValue("passcode")),
		callerOf(r.Context()).address,
	)
	switch {
	case err == nil:
		http.SetCookie(
			w,
			&http.Cookie{
				Name:     visitCookieOf(r),
				Value:    bearer,
				Path:     linkPath(token),
				Expires:  until,
				HttpOnly: true,
				Secure:   callerOf(r.Context()).secure,
				SameSite: http.SameSiteLaxMode,
			},
		)
		back := linkPath(token)
		if chosen, _ := languageOf(r); chosen != "" {
			back += "?lang=" + url.QueryEscape(chosen)
		}
		http.Redirect(w, r, back, http.StatusSeeOther)
	case errors.Is(err, service.ErrPasscode) && wantsJSON(r):
		writeProblem(w, r, problem(http.StatusForbidden, "passcode", service.ErrPasscode.Error()))
	case errors.Is(err, service.ErrPasscode):
		if p, _, ok := a.sheet(w, r); ok {
			p.Wrong = true
			a.draw(w, r, http.StatusForbidden, p.Ask)
		}
	case errors.Is(err, service.ErrLink):
		a.ended(w, r, http.StatusGone)
	default:
		a.broken(w, r, err)
	}
}

// linkHelp takes in what does not work, and says what the person can do.
func (a *handlers) linkHelp(w http.ResponseWriter, r *http.Request) {
	token := chi.URLParam(r, "token")
	r.Body = http.MaxBytesReader(w, r.Body, 128<<10)
	advice, err := a.svc.ReportFailure(r.Context(), token, visitOf(r), r.PostFormValue("said"),
		service.Caller{Address: callerOf(r.Context()).address, Client: r.UserAgent()})
	var nothing *vpn.Problems
	switch {
	case err == nil:
		if p, _, ok := a.sheet(w, r); ok {
			a.draw(w, r, http.StatusOK, p.Advise(advice, linkPath(token)))
		}
	case errors.As(err, &nothing):
		http.Redirect(w, r, linkPath(token)+"#help", http.StatusSeeOther)
	case errors.Is(err, service.ErrVisit), errors.Is(err, service.ErrLink):
		http.Redirect(w, r, linkPath(token), http.StatusSeeOther)
	default:
		a.broken(w, r, err)
	}
}

func linkPath(token string) string { return service.LinkPath + url.PathEscape(token) }

// opened shows what was opened: as a page, or as a list for a program.
func (a *handlers) opened(w http.ResponseWriter, r *http.Request, token string, o api.Opened) {
	// Looking at it is being seen, too.
	seen, err := a.svc.See(r.Context(), token, visitOf(r), callerOf(r.Context()).address)
	if err != nil {
		a.broken(w, r, err)
		return
	}
	if wantsJSON(r) {
		list := api.FetchList{
			Device:   o.Handover.Device,
			Gateway:  o.Handover.Gateway,
			Person:   o.Handover.Person,
			Outdated: o.Card == nil,
			Files:    []api.FetchFile{},
		}
		for _, f := range o.Parcel.Files {
			list.Files = append(
				list.Files,
				api.FetchFile{File: f, Path: linkPath(token) + "/files/" + url.PathEscape(f.Name)},
			)
		}
		if o.Card != nil {
			list.Steps = append(list.Steps, o.Card.Steps...)
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(list)
		return
	}
	p, organisation, ok := a.sheet(w, r, o.Language.Tag())
	if !ok {
		return
	}
	look := recipient.Look{
		Families: []string{organisation.LinksV4, organisation.LinksV6},
		Zone:     a.opts.Zone,
		Scheme:   map[bool]string{true: "https", false: "http"}[callerOf(r.Context()).secure],
		Link:     cmp.Or(organisation.Links, callerOf(r.Context()).origin) + linkPath(token),
	}
	if p, err = p.Fill(o, seen, linkPath(token), r.UserAgent(), look); err != nil {
		a.broken(w, r, err)
		return
	}
	policy := "connect-src 'self'"
	for _, f := range look.Families {
		if f != "" {
			policy += " " + f
		}
	}
	if look.Zone != "" {
		policy += " " + look.Scheme + "://*." + look.Zone
	}
	for _, d := range seen.Doors {
		policy += " " + strings.TrimSuffix(d.URL, "/")
	}
	h := w.Header()
	h.Set(
		"Content-Security-Policy",
		strings.Replace(h.Get("Content-Security-Policy"), "connect-src 'self'", policy, 1),
	)
	a.draw(w, r, http.StatusOK, p.Opened)
}

// linkProof draws the part of the page that says what is seen of the browser, and notes it. The
// page says in which language it is.
func (a *handlers) linkProof(w http.ResponseWriter, r *http.Request) {
	seen, err := a.svc.See(
		r.Context(),
		chi.URLParam(r, "token"),
		visitOf(r),
		callerOf(r.Context()).address,
	)
	if err != nil {
		w.WriteHeader(http.StatusForbidden)
		return
	}
	if p, _, ok := a.sheet(w, r); ok {
		p.Handover, p.Proof = seen.Handover, seen.Proof
		a.draw(w, r, http.StatusOK, p.ProofPart)
	}
}

// linkTimes takes in how fast gateways answered the browser.
func (a *handlers) linkTimes(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4096)
	times := map[string]float64{}
	if err := json.NewDecoder(r.Body).Decode(&times); err != nil {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	if err := a.svc.Timed(r.Context(), chi.URLParam(r, "token"), visitOf(r), times); err != nil {
		w.WriteHeader(http.StatusForbidden)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func shownInline(f format.File) bool {
	return strings.HasPrefix(f.MediaType, "text/html") || f.MediaType == "application/pdf"
}

// linkFile hands a file out. Apple's devices install a profile only where it is not saved as a
// file.
func (a *handlers) linkFile(w http.ResponseWriter, r *http.Request) {
	token := chi.URLParam(r, "token")
	f, err := a.svc.VisitedFile(r.Context(), token, visitOf(r), chi.URLParam(r, "name"))
	switch {
	case errors.Is(err, service.ErrVisit):
		http.Redirect(w, r, linkPath(token), http.StatusSeeOther)
		return
	case errors.Is(err, service.ErrLink):
		a.ended(w, r, http.StatusNotFound)
		return
	case err != nil:
		a.broken(w, r, err)
		return
	}
	kind := "attachment"
	if shownInline(f) || strings.HasSuffix(f.Name, ".mobileconfig") {
		kind = "inline"
	}
	w.Header().Set("Content-Type", f.MediaType)
	w.Header().
		Set("Content-Disposition", mime.FormatMediaType(kind,
			map[string]string{"filename": f.Name}))
	_, _ = w.Write(f.Content)
}

// whereami tells whoever asks where they come from.
func (a *handlers) whereami(w http.ResponseWriter, r *http.Request) {
	where, err := a.svc.Whereabouts(r.Context(), callerOf(r.Context()).address)
	if err != nil {
		a.broken(w, r, err)
		return
	}
	if p, _, ok := a.sheet(w, r); ok {
		p.Whereabouts = where
		a.draw(w, r, http.StatusOK, p.Whereami)
	}
}

// seen notes where a one-time name was asked for from, by the family of the address; it tells
// nothing.
func (a *handlers) seen(w http.ResponseWriter, r *http.Request) {
	from := callerOf(r.Context()).address
	what := store.SeenV6
	if at, err := netip.ParseAddr(from); err == nil && at.Is4() {
		what = store.SeenV4
	}
	if _, err := a.svc.SeenBy(r.Context(), chi.URLParam(r, "probe"), what, from); err != nil {
		a.broken(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
