package httpapi

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"html/template"
	"mime"
	"net/http"
	"net/url"
	"strings"

	"github.com/go-chi/chi/v5"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/view"
	"wardicon/core/vpn"
	"wardicon/service"
)

type handoverInput struct {
	Body struct {
		ProfileID string `json:"profile_id" required:"true"`
		Days      int    `json:"days" required:"false" doc:"Days until the link ends; 0 means 7"`
		Openings  int    `json:"openings" required:"false" doc:"Openings that it allows; 0 means 3"`
	}
}

// handovers are the operations on parcels on their way.
func (a *api) handovers() {
	const tag = "handovers"
	handle(a, operation(http.MethodGet, "/handovers", "list-handovers", "List parcels on their way, newest first", tag), func(ctx context.Context, in *listInput) (*body[view.Page[view.Handover]], error) {
		page, err := a.svc.Handovers(ctx, in.query())
		return &body[view.Page[view.Handover]]{page}, err
	})
	add := operation(http.MethodPost, "/handovers", "make-handover", "Make a link to the newest parcel of a profile; link and passcode are shown once", tag)
	add.DefaultStatus = http.StatusCreated
	handle(a, add, func(ctx context.Context, in *handoverInput) (*body[view.NewHandover], error) {
		made, err := a.svc.MakeHandover(ctx, in.Body.ProfileID, in.Body.Days, in.Body.Openings)
		return &body[view.NewHandover]{made}, err
	})
	handle(a, operation(http.MethodPost, "/handovers/{id}/recall", "recall-handover", "Close a link at once", tag), func(ctx context.Context, in *idInput) (*body[view.Handover], error) {
		h, err := a.svc.RecallHandover(ctx, in.ID)
		return &body[view.Handover]{h}, err
	})
}

// recipient are the pages of whoever was given a link. They work without scripts, and looking at the first one
// uses nothing up.
func (a *api) recipient(r chi.Router) {
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			h := w.Header()
			h.Set("Cache-Control", "no-store")
			h.Set("X-Robots-Tag", "noindex, nofollow")
			h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
			next.ServeHTTP(w, r)
		})
	})
	r.Get("/", a.linkPage)
	r.Post("/", a.openLink)
	r.Get("/files/{name}", a.linkFile)
}

const visitCookie = "wardicon_handover"

//go:embed handover.html
var handoverPage string

var handoverTemplate = template.Must(template.New("handover").Parse(handoverPage))

// pageFile is a file as the page offers it.
type pageFile struct {
	Name, Purpose, Link string
	Shown               bool // in the browser, in the place of saved
}

// recipientPage is what the page shows: that the link has ended, the question for the passcode, or the files.
type recipientPage struct {
	Title, Organisation string
	Ended, Ask          bool
	Wrong               string
	Handover            view.Handover
	For, Other          string
	First               *pageFile
	Steps               string
	Rest                []pageFile
}

func (a *api) show(w http.ResponseWriter, r *http.Request, status int, p recipientPage) {
	organisation, err := a.svc.Organisation(r.Context())
	if err != nil {
		a.log.ErrorContext(r.Context(), "a recipient's page cannot be shown", "error", err)
		http.Error(w, "This page cannot be shown now. Try again later.", http.StatusInternalServerError)
		return
	}
	p.Organisation = organisation.Name
	if p.Title = "Your connection to " + organisation.Name; p.Ended {
		p.Title = "This link has ended"
	}
	var b bytes.Buffer
	if err := handoverTemplate.Execute(&b, p); err != nil {
		a.log.ErrorContext(r.Context(), "a recipient's page cannot be made", "error", err)
		http.Error(w, "This page cannot be shown now. Try again later.", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes())
}

func visitOf(r *http.Request) string {
	c, err := r.Cookie(visitCookie)
	if err != nil {
		return ""
	}
	return c.Value
}

// linkPage shows the files to a browser that has opened the link, and asks any other for the passcode.
func (a *api) linkPage(w http.ResponseWriter, r *http.Request) {
	token := chi.URLParam(r, "token")
	h, p, err := a.svc.Visited(r.Context(), token, visitOf(r))
	switch {
	case err == nil:
		a.show(w, r, http.StatusOK, a.opened(r, token, h, p))
	case errors.Is(err, service.ErrVisit):
		if _, err := a.svc.Link(r.Context(), token); err == nil {
			a.show(w, r, http.StatusOK, recipientPage{Ask: true})
			return
		}
		a.show(w, r, http.StatusGone, recipientPage{Ended: true})
	default:
		a.show(w, r, http.StatusNotFound, recipientPage{Ended: true})
	}
}

// openLink looks at the passcode.
func (a *api) openLink(w http.ResponseWriter, r *http.Request) {
	token := chi.URLParam(r, "token")
	r.Body = http.MaxBytesReader(w, r.Body, 4096)
	bearer, until, err := a.svc.OpenLink(r.Context(), token, secret.New(r.PostFormValue("passcode")))
	switch {
	case err == nil:
		http.SetCookie(w, &http.Cookie{Name: visitCookie, Value: bearer, Path: "/h/" + url.PathEscape(token), Expires: until, HttpOnly: true, Secure: a.opts.Secure, SameSite: http.SameSiteLaxMode})
		http.Redirect(w, r, "/h/"+url.PathEscape(token), http.StatusSeeOther)
	case errors.Is(err, service.ErrPasscode):
		a.show(w, r, http.StatusForbidden, recipientPage{Ask: true, Wrong: "That is not the passcode. Look at it again; after ten wrong ones the link is closed."})
	case errors.Is(err, service.ErrLink):
		a.show(w, r, http.StatusGone, recipientPage{Ended: true})
	default:
		a.log.ErrorContext(r.Context(), "a link cannot be opened", "error", err)
		http.Error(w, "This link cannot be opened now. Try again later.", http.StatusInternalServerError)
	}
}

// opened sorts the files of a parcel for the page: the one that the device takes first, the steps, the rest.
func (a *api) opened(r *http.Request, token string, h view.Handover, p view.Parcel) recipientPage {
	page := recipientPage{Handover: h}
	for _, f := range p.Files {
		one := pageFile{f.Name, f.Purpose, "/h/" + url.PathEscape(token) + "/files/" + url.PathEscape(f.Name), shownInline(f)}
		switch {
		case strings.HasSuffix(f.Name, "-card.html"):
			page.Steps = one.Link
		case page.First == nil && !strings.Contains(f.Name, "-card.") && !strings.Contains(f.Name, "-digests."):
			page.First = &one
		default:
			page.Rest = append(page.Rest, one)
		}
	}
	if d, err := a.svc.DeviceOf(r.Context(), h.ProfileID); err == nil {
		if here := platformOf(r.UserAgent()); here != "" && !akin(here, d.Platform) {
			page.Other, page.For = platformTitles[here], platformTitles[d.Platform]
		}
	}
	return page
}

func shownInline(f format.File) bool {
	return strings.HasPrefix(f.MediaType, "text/html") || f.MediaType == "application/pdf"
}

// linkFile hands a file out. Apple's devices install a profile only where it is not saved as a file.
func (a *api) linkFile(w http.ResponseWriter, r *http.Request) {
	f, err := a.svc.VisitedFile(r.Context(), chi.URLParam(r, "token"), visitOf(r), chi.URLParam(r, "name"))
	switch {
	case errors.Is(err, service.ErrVisit):
		http.Redirect(w, r, "/h/"+url.PathEscape(chi.URLParam(r, "token")), http.StatusSeeOther)
		return
	case err != nil:
		a.show(w, r, http.StatusNotFound, recipientPage{Ended: true})
		return
	}
	kind := "attachment"
	if shownInline(f) || strings.HasSuffix(f.Name, ".mobileconfig") {
		kind = "inline"
	}
	w.Header().Set("Content-Type", f.MediaType)
	w.Header().Set("Content-Disposition", mime.FormatMediaType(kind, map[string]string{"filename": f.Name}))
	_, _ = w.Write(f.Content)
}

var platformTitles = map[vpn.Platform]string{
	vpn.Windows: "Windows", vpn.MacOS: "a Mac", vpn.IOS: "an iPhone", vpn.IPadOS: "an iPad", vpn.Android: "an Android device", vpn.ChromeOS: "a Chromebook", vpn.LinuxDesktop: "Linux", vpn.Linux: "Linux",
	vpn.OpenWrt: "a router", vpn.DeskPhone: "a desk phone",
}

// platformOf guesses the platform of a browser; empty where it does not say.
func platformOf(agent string) vpn.Platform {
	for _, sign := range []struct {
		text     string
		platform vpn.Platform
	}{{"iPhone", vpn.IOS}, {"iPad", vpn.IPadOS}, {"Android", vpn.Android}, {"CrOS", vpn.ChromeOS}, {"Windows NT", vpn.Windows}, {"Macintosh", vpn.MacOS}, {"Linux", vpn.LinuxDesktop}} {
		if strings.Contains(agent, sign.text) {
			return sign.platform
		}
	}
	return ""
}

// akin tells whether a browser may be that of a device: tablets call themselves Macs, and what has no browser
// is set up from anywhere.
func akin(browser, device vpn.Platform) bool {
	switch device {
	case vpn.OpenWrt, vpn.DeskPhone, vpn.Linux:
		return true
	case vpn.IPadOS:
		return browser == vpn.IPadOS || browser == vpn.MacOS
	}
	return browser == device
}
