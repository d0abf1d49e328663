package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"

	"wardicon/api"
	"wardicon/core/secret"
)

// Visit is a link that was opened, for the device that fetches by itself.
type Visit struct {
	link string
	http *http.Client
	List api.FetchList
}

// OpenLink opens a link by its passcode. base is the client whose trust in certificates it takes
// over.
func (c *Client) OpenLink(ctx context.Context, link string, passcode secret.Text) (*Visit, error) {
	u, err := url.Parse(link)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" ||
		!strings.HasPrefix(u.Path, "/h/") {
		return nil, errors.New(
			"this is no link of a handover: it begins with https:// and has /h/ in it",
		)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	own := *c.http
	own.Jar = jar
	v := &Visit{link: link, http: &own}
	data, err := v.ask(
		ctx,
		http.MethodPost,
		link,
		strings.NewReader(url.Values{"passcode": {passcode.Reveal()}}.Encode()),
	)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &v.List); err != nil {
		return nil, fmt.Errorf("%s does not respond like a Wardicon service: %w", u.Host, err)
	}
	return v, nil
}

// Fetch fetches one of the files.
func (v *Visit) Fetch(ctx context.Context, f api.FetchFile) ([]byte, error) {
	u, err := url.Parse(v.link)
	if err != nil {
		return nil, err
	}
	if u, err = u.Parse(
		f.Path,
	); err != nil ||
		!strings.HasPrefix(v.link, u.Scheme+"://"+u.Host+"/") {
		return nil, errors.New("the service names a file elsewhere")
	}
	return v.ask(ctx, http.MethodGet, u.String(), nil)
}

// ask never shows the link in an error: who has it has half of what opens the parcel.
func (v *Visit) ask(ctx context.Context, method, address string, in io.Reader) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, method, address, in)
	if err != nil {
		return nil, errors.New("this is no link")
	}
	req.Header.Set("Accept", "application/json")
	if in != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	res, err := v.http.Do(req)
	if err != nil {
		var plain *url.Error
		if errors.As(err, &plain) {
			err = plain.Err
		}
		return nil, &UnreachableError{req.URL.Scheme + "://" + req.URL.Host, err}
	}
	defer func() { _ = res.Body.Close() }()
	data, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	if err != nil {
		return nil, &UnreachableError{req.URL.Scheme + "://" + req.URL.Host, err}
	}
	if res.StatusCode >= 400 {
		p := &api.Problem{
			Status: res.StatusCode,
			Title:  res.Status,
			Detail: "the service answered " + res.Status,
		}
		_ = json.Unmarshal(data, p)
		return nil, p
	}
	return data, nil
}
