package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"wardicon/api"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/mailer"
	"wardicon/store"
)

// Mail shows how emails are sent, without the password.
func (s *Service) Mail(ctx context.Context) (vpn.Mail, error) {
	m, err := s.store.Read().Mail(ctx)
	m.Password = nil
	return m, err
}

// SetMail replaces how emails are sent, in the version that was seen; version 0 replaces any. keep
// leaves the password that is stored. It is for owners alone: whoever reads the mail server's
// traffic reads handovers.
func (s *Service) SetMail(ctx context.Context, m vpn.Mail, keep bool) (vpn.Mail, error) {
	if err := ownerOnly(ctx); err != nil {
		return m, err
	}
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		old, err := tx.Mail(ctx)
		if err != nil {
			return err
		}
		if m.Version != 0 && m.Version != old.Version {
			return &store.ConflictError{
				Noun:  "mail configuration",
				Found: old.Version,
				Want:  m.Version,
			}
		}
		if keep {
			if old.Damaged {
				return problem(
					"mail",
					"/password",
					"a stored password that cannot be read any more",
					"the password",
					"type it again",
				)
			}
			if m.Password = old.Password; m.Password != nil &&
				(m.Server != old.Server || m.Login != old.Login) {
				return problem(
					"mail",
					"/password",
					"another server or login than the stored password is for",
					"the password of the new one",
					"type the password again",
				)
			}
		}
		m.Normalise()
		if err := m.Validate(); err != nil {
			return err
		}
		return errors.Join(tx.PutMail(ctx, &m), audit(ctx, tx, "change", "mail", "", m.Server))
	})
	if err == nil { // what waits for the old server tries the new one
		s.outage.ended()
		s.mailSoon()
	}
	m.Password = nil
	return m, err
}

// TryMail sends an email at once, to see that it can be done.
func (s *Service) TryMail(ctx context.Context, to string) error {
	if err := ownerOnly(ctx); err != nil {
		return err
	}
	m, err := s.store.Read().Mail(ctx)
	if err != nil {
		return err
	}
	if m.Server == "" {
		return problem("mail", "/server", "nothing", "a mail server", "set one first")
	}
	if m.Damaged {
		return problem(
			"mail",
			"/password",
			"a stored password that cannot be read any more",
			"the password",
			"set it again",
		)
	}
	if err := (&vpn.Person{Name: "somebody", Mail: to}).Validate(); err != nil || to == "" {
		return problem("mail", "/to", quoted(to), "a mail address", "correct it")
	}
	if err := mailer.Send(
		ctx,
		m,
		to,
		"An email from Wardicon",
		vpn.Message{Text: "This email was sent to see that the service can send emails. It can.\n"},
	); err != nil {
		return problem(
			"mail",
			"/server",
			failure(err, m.Password),
			"a server that takes the email",
			"correct the settings, or ask who runs the server",
		)
	}
	return s.store.Write(
		ctx,
		func(tx *store.Tx) error { return audit(ctx, tx, "try", "mail", "", to) },
	)
}

func quoted(v string) string {
	if v == "" {
		return "nothing"
	}
	return `"` + v + `"`
}

// failure words why an email was not sent, without the password, whatever the server repeats.
func failure(err error, password *secret.Text) string {
	text := strings.Join(strings.Fields(err.Error()), " ")
	if password != nil && !password.IsZero() {
		text = strings.ReplaceAll(text, password.Reveal(), secret.Hidden)
	}
	return cut(text, 300)
}

// Emails lists what was sent or is to be, a page.
func (s *Service) Emails(ctx context.Context, q store.Query) (api.Page[api.Email], error) {
	return store.Emails.List(ctx, s.store.Read(), q)
}

// WaitingEmails counts the emails that wait to be sent.
func (s *Service) WaitingEmails(ctx context.Context) (int, error) {
	return s.store.Read().
		References(ctx, "emails", "state", api.Waiting)
	// a page counts to a bound
}

// write keeps an email to be sent, in the transaction of what it is about.
func (s *Service) write(ctx context.Context, tx *store.Tx, l api.Email, body vpn.Message) error {
	return tx.AddEmail(ctx, &l, body)
}

// mailSoon wakes what sends emails.
func (s *Service) mailSoon() {
	notify(s.mailWake)
}

// again is how long an email waits after a try that failed; after the last it is given up.
var again = []time.Duration{
	time.Minute,
	5 * time.Minute,
	30 * time.Minute,
	2 * time.Hour,
	6 * time.Hour,
	12 * time.Hour,
	24 * time.Hour,
}

// Post sends emails until the context ends. What is not sent by then is sent after the next start.
func (s *Service) Post(ctx context.Context) {
	s.mailSoon()
	clock := time.NewTicker(leastOutage)
	defer clock.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.mailWake:
		case <-clock.C:
		}
		if err := s.PostDue(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("sending emails", "error", err)
		}
	}
}

// outage is a mail server that cannot be reached or signed in to. Emails do not count their tries
// meanwhile: once it is there again, all that wait leave at once.
type outage struct {
	mu    sync.Mutex
	next  time.Time // when it is tried again
	pause time.Duration
}

// How long an outage is waited for between two looks, and how old an email becomes in one.
const (
	leastOutage = 15 * time.Second
	mostOutage  = 5 * time.Minute
	emailLife   = 5 * 24 * time.Hour // RFC 5321 §4.5.4.1
)

// open tells whether the server is to be tried now.
func (o *outage) open(now time.Time) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return !now.Before(o.next)
}

func (o *outage) failed(now time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.pause = min(max(leastOutage, 2*o.pause), mostOutage)
	o.next = now.Add(o.pause)
}

func (o *outage) ended() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.next, o.pause = time.Time{}, 0
}

// SendNow has every email that waits tried at once, whatever it waits for.
func (s *Service) SendNow(ctx context.Context) (waiting int, err error) {
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if waiting, err = tx.HurryEmails(ctx); err != nil {
			return err
		}
		return audit(ctx, tx, "send now", "emails", "", fmt.Sprintf("%d emails", waiting))
	})
	if err == nil {
		s.outage.ended()
		s.mailSoon()
	}
	return waiting, err
}

var errDamagedMail = errors.New(
	"the stored password of the mail server cannot be read any more: set it again (wardicon " +
		"service mail set)",
)

// PostDue sends the emails that are due, by one connection. Where the server cannot be reached, all
// of them wait for it together.
func (s *Service) PostDue(ctx context.Context) (err error) {
	tx := s.store.Read()
	m, err := tx.Mail(ctx)
	if err != nil || m.Server == "" || !s.outage.open(s.now()) {
		return err
	}
	var line *mailer.Line
	defer func() {
		if line != nil {
			_ = line.Close()
		}
	}()
	for ctx.Err() == nil {
		l, body, err := tx.DueEmail(ctx)
		var damaged *store.DamagedError
		switch {
		case errors.As(err, &damaged): // it is lost; those after it are not
			l.State, l.Problem = api.GivenUp, err.Error()
		case err != nil || l == nil:
			return err
		default:
			if line == nil {
				fault := errDamagedMail
				if !m.Damaged {
					line, fault = mailer.Open(ctx, m)
				}
				if fault != nil {
					return s.mailOutage(ctx, m, *l, fault)
				}
			}
			sent := line.Send(l.To, l.Subject, body)
			if ctx.Err() != nil {
				return ctx.Err() // it may have gone out; better twice than not at all
			}
			if mailer.Broken(sent) {
				return s.mailOutage(ctx, m, *l, sent)
			}
			s.outage.ended()
			s.tried(l, m, sent)
		}
		if l.State != api.Sent {
			s.log.WarnContext(
				ctx,
				"an email was not sent",
				"email",
				l.ID,
				"kind",
				l.Kind,
				"tries",
				l.Tries,
				"state",
				l.State,
			)
		}
		if err := s.store.Write(
			ctx,
			func(tx *store.Tx) error { return tx.PutEmail(ctx, *l) },
		); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// tried notes what came of a try.
func (s *Service) tried(l *api.Email, m vpn.Mail, sent error) {
	now := s.now().UTC()
	l.Tries++
	switch {
	case sent == nil:
		l.State, l.Sent, l.Problem = api.Sent, &now, ""
	case l.Tries > len(again):
		l.State, l.Problem = api.GivenUp, failure(sent, m.Password)
	default:
		l.Due, l.Problem = now.Add(again[l.Tries-1]), failure(sent, m.Password)
	}
}

// mailOutage notes with the emails that are due why they wait. One that has waited for days is
// given up.
func (s *Service) mailOutage(ctx context.Context, m vpn.Mail, l api.Email, fault error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	now := s.now()
	s.outage.failed(now)
	why := failure(fault, m.Password)
	s.log.WarnContext(ctx, "the mail server does not take emails", "problem", why, "first", l.ID)
	return s.store.Write(
		ctx,
		func(tx *store.Tx) error { return tx.EmailsWait(ctx, why, now.Add(-emailLife)) },
	)
}
