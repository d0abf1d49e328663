package simulate

import (
	"bytes"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"strings"
	"time"
)

// mailbox shows what came to a mail server's simulator.
var mailbox = template.Must(template.New("mailbox").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1"><title>Emails that came</title>
<style>
:root { color-scheme: light dark }
body { font: 1rem/1.5 system-ui, "DejaVu Sans", sans-serif; max-width: 60rem;
	margin: 0 auto; padding: 1.5rem 1rem }
article { border: 1px solid #8a949c; border-radius: .5rem; padding: .8rem 1rem; margin: 1rem 0 }
h1 { font-size: 1.4rem } h2 { font-size: 1.05rem; margin: 0 }
p { margin: .2rem 0 } pre { white-space: pre-wrap; overflow-wrap: anywhere;
	font: .95rem/1.5 "DejaVu Sans Mono", monospace }
iframe { width: 100%; height: 22rem; border: 1px solid #8a949c; background: #fff }
</style></head><body><main><h1>Emails that came</h1>
<p>This is a simulator for a mail server: nothing leaves this machine.</p>
{{range .}}<article><h2>{{.Subject}}</h2><p>to {{.To}}, from {{.From}}</p><pre>{{.Text}}</pre>
{{if .Page}}<details><summary>As a page</summary>
<iframe sandbox title="{{.Subject}}" srcdoc="{{.Page}}"></iframe></details>{{end}}</article>
{{else}}<p>None so far. Make a handover and send its link by mail.</p>{{end}}</main></body></html>
`))

// opened is an email with its parts read.
type opened struct {
	Received
	Text, Page string
}

// Mailbox shows the emails that came, on a page of its own on loopback, until the mail server ends.
// It returns the page's address.
func (m *MailServer) Mailbox() (string, error) {
	listener, err := net.Listen("tcp", m.Host+":0")
	if err != nil {
		return "", err
	}
	server := &http.Server{
		ReadHeaderTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			var list []opened
			for _, l := range m.Emails() {
				text, page := parts(l.Raw)
				list = append([]opened{{l, text, page}}, list...)
			}
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().
				Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; "+
					"frame-src 'self'")
			_ = mailbox.Execute(w, list)
		}),
	}
	m.closers = append(m.closers, server.Close)
	go func() { _ = server.Serve(listener) }() // ends with Close
	return "http://" + listener.Addr().String(), nil
}

// Link is the first link of an email; empty where it has none.
func (l Received) Link() string {
	text, _ := parts(l.Raw)
	for _, word := range strings.Fields(text) {
		if strings.HasPrefix(word, "http://") || strings.HasPrefix(word, "https://") {
			return word
		}
	}
	return ""
}

// parts reads the text of an email, and its page.
func parts(raw []byte) (text, page string) {
	message, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		return string(raw), ""
	}
	kind, params, err := mime.ParseMediaType(message.Header.Get("Content-Type"))
	if err != nil || !strings.HasPrefix(kind, "multipart/") {
		return decoded(message.Body, message.Header.Get("Content-Transfer-Encoding")), ""
	}
	reader := multipart.NewReader(message.Body, params["boundary"])
	for {
		part, err := reader.NextRawPart()
		if err != nil {
			return text, page
		}
		content := decoded(part, part.Header.Get("Content-Transfer-Encoding"))
		if strings.HasPrefix(part.Header.Get("Content-Type"), "text/html") {
			page = content
		} else {
			text = content
		}
	}
}

func decoded(r io.Reader, encoding string) string {
	if strings.EqualFold(encoding, "quoted-printable") {
		r = quotedprintable.NewReader(r)
	}
	data, _ := io.ReadAll(io.LimitReader(r, 1<<20))
	return string(data)
}
