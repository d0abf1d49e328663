package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/httpsig"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Bounds of calling webhooks.
const (
	hookTime    = 10 * time.Second
	hooksAtOnce = 100 // calls of a round
	mostHooks   = 50
	keptCalls   = 30 * 24 * time.Hour
)

// hookClient follows nobody elsewhere.
var hookClient = &http.Client{
	Timeout:       hookTime,
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// Webhooks lists where others are told what happens.
func (s *Service) Webhooks(ctx context.Context) ([]api.Webhook, error) {
	return s.store.Read().Webhooks(ctx)
}

// WebhookCalls lists what one was told lately.
func (s *Service) WebhookCalls(ctx context.Context, id string) ([]api.WebhookCall, error) {
	tx := s.store.Read()
	if _, err := tx.Webhook(ctx, id); err != nil {
		return nil, err
	}
	return tx.WebhookCalls(ctx, id)
}

// AddWebhook keeps a webhook once it has taken a test; untested leaves the test out. The key of its
// calls is made here.
func (s *Service) AddWebhook(ctx context.Context, h api.Webhook, untested bool) (
	made api.NewWebhook, err error,
) {
	if err := ownerOnly(ctx); err != nil {
		return made, err
	}
	if err := soundWebhook(h); err != nil {
		return made, err
	}
	raw := make([]byte, 32)
	if _, err := rand.Read(raw); err != nil {
		return made, err
	}
	made.Webhook, made.Key = h, base64.StdEncoding.EncodeToString(raw)
	key := secret.New(made.Key)
	if !untested {
		body, err := json.Marshal(api.Event{Event: api.EventTest, At: s.now().UTC()})
		if err != nil {
			return made, err
		}
		if err := s.call(ctx, h, key, "test", string(body)); err != nil {
			return made, problem("webhook", "/url", err.Error(), "a 2xx response to a test event",
				"fix the receiver, or add it without a test")
		}
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		list, err := tx.Webhooks(ctx)
		if err != nil {
			return err
		}
		if len(list) >= mostHooks {
			return problem("webhook", "/name", fmt.Sprint(len(list)), fmt.Sprintf("%d at most", mostHooks),
				"remove one that is no longer used")
		}
		return errors.Join(tx.AddWebhook(ctx, &made.Webhook, key),
			audit(ctx, tx, "add", "webhook", made.ID, h.Name+", "+h.URL))
	})
	return made, err
}

func soundWebhook(h api.Webhook) error {
	var list []vpn.Problem
	add := func(pointer, found, expected, fix string) {
		list = append(list, vpn.Problem{Pointer: pointer, Found: found, Expected: expected, Fix: fix})
	}
	if strings.TrimSpace(h.Name) != h.Name || h.Name == "" {
		add("/name", quoted(h.Name), "a name without spaces at its ends", "choose another one")
	}
	u, err := url.Parse(h.URL)
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" || !vpn.Private(u) {
		add("/url", quoted(h.URL), "an address that begins with https://, without sign-in or fragment",
			"serve it by TLS; calls are signed, so that it needs no password")
	}
	for i, e := range h.Events {
		if !slices.Contains(api.Events, e) {
			add(
				fmt.Sprintf("/events/%d", i),
				quoted(e),
				strings.Join(api.Events, ", "),
				"choose some of them",
			)
		}
	}
	if len(h.Events) == 0 {
		add("/events", "none", "at least one", "choose the events that it receives")
	}
	if len(list) > 0 {
		return &vpn.Problems{Object: "webhook", List: list}
	}
	return nil
}

// ChangeWebhook changes what one is told of, and whether it is.
func (s *Service) ChangeWebhook(ctx context.Context, id string, events []string, disabled bool) (
	h api.Webhook, err error,
) {
	if err := ownerOnly(ctx); err != nil {
		return h, err
	}
	defer s.callSoon()
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if h, err = tx.Webhook(ctx, id); err != nil {
			return err
		}
		h.Events, h.Disabled = events, disabled
		if err := soundWebhook(h); err != nil {
			return err
		}
		return errors.Join(tx.PutWebhook(ctx, h), audit(ctx, tx, "change", "webhook", id,
			fmt.Sprintf("%s, disabled %t, %s", h.Name, disabled, strings.Join(events, " "))))
	})
	return h, err
}

// RemoveWebhook removes one.
func (s *Service) RemoveWebhook(ctx context.Context, id string) error {
	if err := ownerOnly(ctx); err != nil {
		return err
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		h, err := tx.Webhook(ctx, id)
		if err != nil {
			return err
		}
		return errors.Join(tx.RemoveWebhook(ctx, id), audit(ctx, tx, "remove", "webhook", id, h.Name))
	})
}

// TryWebhook calls one at once, to see that it answers.
func (s *Service) TryWebhook(ctx context.Context, id string) error {
	if err := ownerOnly(ctx); err != nil {
		return err
	}
	tx := s.store.Read()
	h, err := tx.Webhook(ctx, id)
	if err != nil {
		return err
	}
	key, err := tx.WebhookKey(ctx, id)
	if err != nil {
		return err
	}
	body, err := json.Marshal(api.Event{Event: api.EventTest, At: s.now().UTC()})
	if err != nil {
		return err
	}
	if err := s.call(ctx, h, key, "test", string(body)); err != nil {
		return problem("webhook", "/url", err.Error(), "a 2xx response",
			"look at the log of the receiver")
	}
	return nil
}

// call tells a webhook something: signed, with a number by which what comes twice is known.
func (s *Service) call(
	ctx context.Context, h api.Webhook, key secret.Text, number, body string,
) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, h.URL, strings.NewReader(body))
	if err != nil {
		return err
	}
	raw, err := base64.StdEncoding.DecodeString(key.Reveal())
	if err != nil || len(raw) == 0 {
		return errors.New("its key cannot be read any more: remove it and add it again")
	}
	id := h.ID + "." + number
	signed := httpsig.Sign(httpsig.Message{
		Method: r.Method, URI: r.URL.String(), Body: []byte(body),
		Fields: []httpsig.Component{
			{Name: "content-type", Value: "application/json"},
			{Name: "idempotency-key", Value: `"` + id + `"`},
		},
	}, raw, h.ID, s.now())
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Idempotency-Key", `"`+id+`"`)
	r.Header.Set("Content-Digest", signed.ContentDigest)
	r.Header.Set("Signature-Input", signed.SignatureInput)
	r.Header.Set("Signature", signed.Signature)
	r.Header.Set("User-Agent", "Wardicon")
	res, err := hookClient.Do(r)
	if err != nil {
		var by *url.Error
		if errors.As(err, &by) {
			err = by.Err // without the address
		}
		return err
	}
	defer func() { _ = res.Body.Close() }()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10))
	if res.StatusCode/100 != 2 {
		return &refusedCall{res.StatusCode}
	}
	return nil
}

// refusedCall is an answer that does not take a call.
type refusedCall struct{ status int }

func (r *refusedCall) Error() string { return "response " + strconv.Itoa(r.status) }

// callSoon wakes what calls webhooks.
func (s *Service) callSoon() { notify(s.hookWake) }

// CallWebhooks tells webhooks what happened, until the context ends.
func (s *Service) CallWebhooks(ctx context.Context) {
	clock := time.NewTicker(leastOutage)
	defer clock.Stop()
	s.callSoon()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.hookWake:
		case <-clock.C:
		}
		if err := s.callDue(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("calling webhooks", "error", err)
		}
	}
}

// callDue makes the calls that are due: of each webhook in their order, and none after one that
// failed.
func (s *Service) callDue(ctx context.Context) error {
	for {
		calls, err := s.store.Read().DueCalls(ctx, hooksAtOnce)
		if err != nil || len(calls) == 0 {
			return err
		}
		failed := map[string]bool{}
		made := 0
		for _, c := range calls {
			if failed[c.HookID] {
				continue
			}
			ok, err := s.callOne(ctx, c)
			if err != nil {
				return err
			}
			failed[c.HookID] = !ok
			made++
		}
		if made < len(calls) || len(calls) < hooksAtOnce {
			return nil
		}
	}
}

func (s *Service) callOne(ctx context.Context, c store.WebhookCall) (ok bool, err error) {
	tx := s.store.Read()
	h, err := tx.Webhook(ctx, c.HookID)
	var none *store.NotFoundError
	if errors.As(err, &none) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	key, err := tx.WebhookKey(ctx, h.ID)
	if err != nil {
		return false, err
	}
	now := s.now().UTC()
	said := s.call(ctx, h, key, strconv.FormatInt(c.Number, 10), c.Body)
	if said != nil && ctx.Err() != nil {
		return false, ctx.Err() // it is tried again after the next start
	}
	c.Tries++
	var refused *refusedCall
	h.Problem = ""
	switch {
	case said == nil:
		c.Due, c.Done, c.Problem = nil, &now, ""
	case errors.As(said, &refused) && refused.status == http.StatusGone: // RFC 9110 §15.5.11
		c.Due, c.Problem, h.Problem, h.Disabled = nil, said.Error(), "it is gone: "+said.Error(), true
	case c.Tries > len(again):
		c.Due, c.Problem, h.Problem = nil, said.Error(), said.Error()
	default:
		due := now.Add(again[c.Tries-1])
		c.Due, c.Problem, h.Problem = &due, said.Error(), said.Error()
	}
	if said != nil {
		s.log.WarnContext(ctx, "a webhook does not take a call", "webhook", h.ID, "name", h.Name,
			"call", c.Number, "tries", c.Tries, "problem", said.Error())
	}
	return said == nil, s.store.Write(ctx, func(tx *store.Tx) error {
		kept, err := tx.Webhook(ctx, h.ID)
		if errors.As(err, &none) {
			return nil
		}
		if err != nil {
			return err
		}
		if kept.Problem != h.Problem || h.Disabled && !kept.Disabled {
			kept.Problem, kept.Disabled = h.Problem, kept.Disabled || h.Disabled
			if err := tx.PutWebhook(ctx, kept); err != nil {
				return err
			}
		}
		return tx.PutCall(ctx, c)
	})
}
