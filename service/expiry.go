package service

import (
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"math"
	"slices"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/store"
)

// reminders are how many days ahead of an end somebody is told.
var reminders = []int{60, 30, 7}

// mostExpiries bounds the calendar.
const mostExpiries = 5_000

// Expiries lists what ends within some days, the first end first: authorities on record, those that
// gateways' offers name, the certificates that gateways show and that devices prove themselves
// with, and what signs parcels. What has ended within the last 30 days is listed too; what was
// replaced is not.
func (s *Service) Expiries(ctx context.Context, days int) ([]api.Expiry, error) {
	tx, now := s.store.Read(), s.now()
	first, last := now.AddDate(0, 0, -30), now.AddDate(0, 0, days)
	list := []api.Expiry{}
	add := func(e api.Expiry) {
		if e.Expires.After(first) && e.Expires.Before(last) {
			e.Days = int(math.Floor(e.Expires.Sub(now).Hours() / 24))
			list = append(list, e)
		}
	}
	authorities, err := store.Authorities.Where(ctx, tx, "expires < ?", last.UnixMilli())
	if err != nil {
		return nil, err
	}
	for _, a := range authorities {
		if chain, err := pki.Certificates(a.Certificate); err == nil {
			add(
				api.Expiry{
					Noun:    "authority",
					ID:      a.ID,
					Name:    a.Name,
					What:    chain[0].Subject.CommonName,
					Expires: chain[0].NotAfter,
				},
			)
		}
	}
	gateways, err := store.Gateways.Where(ctx, tx, "1")
	if err != nil {
		return nil, err
	}
	for _, g := range gateways {
		gatewayExpiries(g, add)
	}
	signer, err := s.Signer(ctx)
	if err != nil {
		return nil, err
	}
	if signer.Set {
		add(
			api.Expiry{
				Noun:    "signer",
				Name:    signer.Subject,
				What:    "the certificate that signs parcels",
				Expires: signer.Expires,
			},
		)
	}
	devices, err := tx.IdentityExpiries(ctx, first, last, mostExpiries)
	if err != nil {
		return nil, err
	}
	for _, d := range devices {
		add(d)
	}
	slices.SortStableFunc(
		list,
		func(a, b api.Expiry) int {
			return cmp.Or(a.Expires.Compare(b.Expires),
				cmp.Compare(a.Name, b.Name))
		},
	)
	return list, nil
}

// gatewayExpiries are the ends of what a gateway shows and of the authorities that its offers name.
func gatewayExpiries(g vpn.Gateway, add func(api.Expiry)) {
	if chain, err := pki.Certificates(g.Certificate); err == nil {
		add(
			api.Expiry{
				Noun:    "gateway",
				ID:      g.ID,
				Name:    g.Name,
				What:    "its certificate",
				Expires: chain[0].NotAfter,
			},
		)
	}
	seen := map[string]bool{}
	for _, p := range vpn.Protocols {
		chain, err := pki.Certificates(g.Offers.Authority(p))
		if err != nil {
			continue
		}
		for _, c := range chain {
			if key := string(c.Raw); !seen[key] {
				seen[key] = true
				add(
					api.Expiry{
						Noun:    "gateway",
						ID:      g.ID,
						Name:    g.Name,
						What:    "the authority " + c.Subject.CommonName + " of its offers",
						Expires: c.NotAfter,
					},
				)
			}
		}
	}
}

// remind tells what has come within 60, 30 or 7 days of its end since a day: in the log, and by
// mail to those who are to be told.
func (s *Service) remind(ctx context.Context, since time.Time) error {
	list, err := s.Expiries(ctx, slices.Max(reminders))
	if err != nil {
		return err
	}
	now := s.now()
	var due []api.Expiry
	for _, e := range list {
		if slices.ContainsFunc(reminders, func(days int) bool {
			at := e.Expires.AddDate(0, 0, -days)
			return at.After(since) && !at.After(now)
		}) {
			due = append(due, e)
			s.log.WarnContext(
				ctx,
				"a certificate expires soon",
				"noun",
				e.Noun,
				"id",
				e.ID,
				"name",
				e.Name,
				"what",
				e.What,
				"expires",
				e.Expires.Format(time.DateOnly),
				"days",
				e.Days,
			)
		}
	}
	if len(due) == 0 {
		return nil
	}
	defer s.mailSoon() // once they are kept
	return s.store.Write(ctx, func(tx *store.Tx) error {
		for _, e := range due {
			if err := tx.Emit(ctx, api.Event{
				Event: api.EventExpiry, Noun: e.Noun, ID: e.ID, Name: e.Name,
				Detail: e.What + ", " + e.Expires.UTC().Format(time.DateOnly),
			}); err != nil {
				return err
			}
		}
		return s.remindByMail(ctx, tx, due)
	})
}

//go:embed reminder.html
var reminderPage string

var reminderTemplate = template.Must(template.New("reminder").Parse(reminderPage))

// mostInEmail bounds an email; the calendar has the rest.
const mostInEmail = 100

func (s *Service) remindByMail(ctx context.Context, tx *store.Tx, due []api.Expiry) error {
	m, err := tx.Mail(ctx)
	if err != nil || m.Server == "" {
		return err
	}
	organisation, err := tx.Organisation(ctx)
	if err != nil {
		return err
	}
	subject := fmt.Sprintf("%d certificates expire soon", len(due))
	if len(due) == 1 {
		subject = due[0].Name + ": " + due[0].What + " expires on " + due[0].Expires.UTC().
			Format(time.DateOnly)
	}
	more := max(0, len(due)-mostInEmail)
	due = due[:min(len(due), mostInEmail)]
	var text strings.Builder
	fmt.Fprintf(&text, "These certificates of %s expire soon:\n\n", organisation.Name)
	for _, e := range due {
		fmt.Fprintf(
			&text,
			"%s  in %d days  %s %s: %s\n",
			e.Expires.UTC().Format(time.DateOnly),
			e.Days,
			e.Noun,
			e.Name,
			e.What,
		)
	}
	if more > 0 {
		fmt.Fprintf(&text, "\nand %d more.\n", more)
	}
	text.WriteString("\nThe page Certificates of the console lists all of them.\n")
	var page bytes.Buffer
	if err := reminderTemplate.Execute(
		&page,
		map[string]any{"Organisation": organisation.Name, "Due": due, "More": more},
	); err != nil {
		return err
	}
	for _, to := range m.Reminders {
		if err := s.write(
			ctx,
			tx,
			api.Email{Kind: "reminder", To: to, Subject: cut(subject, 150)},
			vpn.Message{Text: text.String(), Page: page.String()},
		); err != nil {
			return err
		}
	}
	return nil
}
