package httpapi

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net/http"
	"strings"

	"wardicon/api"
	"wardicon/service"
	"wardicon/store"
)

// Names of headers: a request with the same key is done once, and a repeated one is answered as
// the first.
const (
	onceHeader   = "Idempotency-Key"
	replayHeader = "Idempotency-Replayed"
)

const (
	maxOnceKey  = 64
	maxReplayed = 8 << 20 // bytes of an answer
)

// replayed are the headers of an answer that is given again.
var replayed = []string{"Content-Type", "Location", "ETag"}

// once answers a request that is sent again with the same key as it was answered before. Only what
// succeeded is kept: where nothing was done, it may be tried again.
func (a *handlers) once(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get(onceHeader)
		if key == "" || r.Method != http.MethodPost && r.Method != http.MethodPatch ||
			!strings.HasPrefix(r.URL.Path, "/api/v1/") {
			next.ServeHTTP(w, r)
			return
		}
		if len(key) > maxOnceKey || strings.ContainsFunc(key, func(c rune) bool {
			return c <= ' ' || c > '~'
		}) {
			writeProblem(w, r, problem(
				http.StatusBadRequest,
				"malformed",
				"found an Idempotency-Key of another form, expected 1 to 64 visible ASCII "+
					"characters",
			))
			return
		}
		session, err := a.svc.Session(r.Context(),
			bearer(r.Header.Get("Authorization"), r.Header.Get("Cookie")),
			service.Caller{Address: callerOf(r.Context()).address, Client: r.UserAgent()})
		if err != nil { // the operation says so
			next.ServeHTTP(w, r)
			return
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			writeProblem(w, r, problem(http.StatusRequestEntityTooLarge, "too-large",
				"the body is too large, or was not sent as a whole"))
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		request := []byte(
			r.Method + " " + r.URL.RequestURI() + "\n" + r.Header.Get("If-Match") + "\n",
		)
		// A token may allow less than its operator.
		whose := session.Operator.ID + "/" + session.Role
		known, err := a.svc.BeginOnce(r.Context(), whose, key, append(request, body...))
		if err != nil {
			p, _ := a.answer(r.Context(), err).(*api.Problem)
			writeProblem(w, r, p)
			return
		}
		if known != nil {
			for name, value := range known.Header {
				w.Header().Set(name, value)
			}
			w.Header().Set(replayHeader, "true")
			w.WriteHeader(known.Status)
			_, _ = w.Write(known.Body)
			return
		}
		a.keepAnswer(w, r, next, whose, key)
	})
}

// keepAnswer answers a request, and keeps the answer if it was done.
func (a *handlers) keepAnswer(
	w http.ResponseWriter,
	r *http.Request,
	next http.Handler,
	whose, key string,
) {
	kept := &keeping{ResponseWriter: w}
	defer func() {
		var answer *store.Replay
		if kept.status/100 == 2 && !kept.tooLong {
			answer = &store.Replay{Status: kept.status, Header: map[string]string{}}
			answer.Body = kept.body.Bytes()
			for _, name := range replayed {
				if v := w.Header().Get(name); v != "" {
					answer.Header[name] = v
				}
			}
		}
		ctx := context.WithoutCancel(r.Context()) // it was done, whether or not somebody waits
		if err := a.svc.EndOnce(ctx, whose, key, answer); err != nil {
			a.log.WarnContext(ctx, "an answer was not kept for its key", slog.Any("error", err))
		}
	}()
	next.ServeHTTP(kept, r)
}

// keeping copies an answer on its way.
type keeping struct {
	http.ResponseWriter
	status  int
	body    bytes.Buffer
	tooLong bool
}

func (k *keeping) WriteHeader(status int) {
	if k.status == 0 {
		k.status = status
	}
	k.ResponseWriter.WriteHeader(status)
}

func (k *keeping) Write(p []byte) (int, error) {
	if k.status == 0 {
		k.status = http.StatusOK
	}
	if k.tooLong = k.tooLong || k.body.Len()+len(p) > maxReplayed; !k.tooLong {
		k.body.Write(p)
	}
	return k.ResponseWriter.Write(p)
}
