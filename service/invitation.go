package service

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"wardicon/api"
	"wardicon/core/i18n"
	"wardicon/core/vpn"
	"wardicon/store"
)

//go:embed invitation.html
var invitationPage string

var invitationTemplate = template.Must(template.New("invitation").Parse(invitationPage))

// Invitation are the sentences of the email that carries a link, in its order; the first is its
// subject.
var Invitation = []string{
	"Your connection to %s",
	"Hello %s,",
	"%s has prepared a connection to its network for your device %s. Open this link on that " +
		"device:",
	"The page asks for a passcode. You will get it another way: by telephone, in person or on " +
		"paper. Nobody will ask you for it by email.",
	"The link expires on %s.",
	"If you do not expect this, do not open it, and tell whoever looks after your devices.",
}

// invite writes the email that carries a link, in the person's language. Nothing in it is a secret
// but the link.
func (s *Service) invite(ctx context.Context, tx *store.Tx, w *worked, made api.NewHandover) error {
	if err := s.canInvite(ctx, tx); err != nil {
		return err
	}
	in := i18n.Choose(w.in.Person.Language)
	organisation := w.in.Organisation.Name
	lines := []string{
		in.Say(
			Invitation[1],
			w.in.Person.Name,
		),
		in.Say(Invitation[2], organisation, w.in.Device.Name),
		made.Link,
		in.Say(
			Invitation[3],
		),
		in.Say(Invitation[4], made.Handover.Expires.UTC().Format(time.DateOnly)),
		in.Say(Invitation[5]),
	}
	subject := in.Say(Invitation[0], organisation)
	page, err := emailPage(in.Tag(), subject, lines, made.Link)
	if err != nil {
		return err
	}
	return s.write(
		ctx,
		tx,
		api.Email{
			Kind:    "handover",
			To:      made.Mailed,
			Subject: cut(subject, 150),
			About:   made.Handover.ID,
		},
		vpn.Message{Text: strings.Join(lines, "\n\n") + "\n", Page: page},
	)
}

// emailPage is an email to a recipient as a page; the line that is the link is shown as one.
func emailPage(language, subject string, lines []string, link string) (string, error) {
	var page bytes.Buffer
	if err := invitationTemplate.Execute(
		&page,
		map[string]any{"Language": language, "Subject": subject, "Lines": lines, "Link": link},
	); err != nil {
		return "", fmt.Errorf("writing an email: %w", err)
	}
	return page.String(), nil
}

// canInvite tells what is missing for links to be sent by mail.
func (s *Service) canInvite(ctx context.Context, tx *store.Tx) error {
	m, err := tx.Mail(ctx)
	if err != nil {
		return err
	}
	organisation, err := tx.Organisation(ctx)
	switch {
	case err != nil:
		return err
	case m.Server == "":
		return problem(
			"handover",
			"/link",
			"mail",
			"a mail server to send it through",
			"set one on the page Mail, or tell the link another way",
		)
	case organisation.Links == "":
		return problem(
			"handover",
			"/link",
			"mail",
			"the address under which people reach this service",
			"set it on the page Organisation, or tell the link another way",
		)
	}
	return nil
}
