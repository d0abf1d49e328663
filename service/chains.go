package service

import (
	"context"
	"crypto/x509"
	"slices"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/vpn"
	"wardicon/store"
)

// Chain draws the chain of a record's certificate: of an issued certificate, a device, a gateway or
// an authority. A gateway's is held against the authorities that its offers name, any other against
// those on record.
func (s *Service) Chain(ctx context.Context, noun, id string) (api.Chain, error) {
	tx := s.store.Read()
	drawn := api.Chain{Noun: noun, ID: id, Links: []pki.Link{}, Against: []string{}}
	var texts []string
	var anchors []*x509.Certificate
	switch noun {
	case "certificate":
		row, err := store.Certificates.Row(ctx, tx, id)
		if err != nil {
			return drawn, err
		}
		a, err := store.Authorities.Get(ctx, tx, row.AuthorityID)
		if err != nil {
			return drawn, err
		}
		drawn.Name, texts = row.Subject, []string{row.PEM + a.Certificate}
	case "authority":
		a, err := store.Authorities.Row(ctx, tx, id)
		if err != nil {
			return drawn, err
		}
		drawn.Name, texts = a.Name, []string{a.Certificate}
	case "device":
		d, err := store.Devices.Row(ctx, tx, id)
		if err != nil {
			return drawn, err
		}
		drawn.Name = d.Name
		for id := range d.Identities() {
			texts = append(texts, id.Certificate)
		}
	case "gateway":
		g, err := store.Gateways.Row(ctx, tx, id)
		if err != nil {
			return drawn, err
		}
		drawn.Name, texts = g.Name, []string{g.Certificate}
		for _, p := range vpn.Protocols {
			if list, err := pki.Certificates(g.Offers.Authority(p)); err == nil {
				anchors = append(anchors, without(list, anchors)...)
			}
		}
	default:
		return drawn, problem(
			"chain",
			"/noun",
			noun,
			"certificate, authority, device or gateway",
			"choose one of them",
		)
	}
	if len(texts) == 0 || texts[0] == "" {
		return drawn, nil
	}
	if len(anchors) == 0 {
		var err error
		if anchors, err = s.believed(ctx, tx); err != nil {
			return drawn, err
		}
	}
	for _, c := range anchors {
		drawn.Against = append(drawn.Against, c.Subject.CommonName)
	}
	for i, text := range texts {
		list, err := pki.Certificates(text)
		if err != nil {
			return drawn, err
		}
		links := pki.Chain(list[0], list[1:], anchors, s.now())
		if err := markRevoked(ctx, tx, list[0], links); err != nil {
			return drawn, err
		}
		if i == 0 {
			drawn.Links = links
		} else {
			drawn.Others = append(drawn.Others, links)
		}
	}
	return drawn, nil
}

// believed are the authorities on record: those that vouch for themselves.
func (s *Service) believed(
	ctx context.Context,
	tx *store.Tx,
) (roots []*x509.Certificate, err error) {
	all, err := store.Authorities.Where(ctx, tx, "1")
	if err != nil {
		return nil, err
	}
	for _, a := range all {
		list, err := pki.Certificates(a.Certificate)
		if err != nil {
			continue
		}
		for _, c := range list {
			if pki.Root(c) && !slices.ContainsFunc(roots, c.Equal) {
				roots = append(roots, c)
			}
		}
	}
	return roots, nil
}

// markRevoked says on the first link that it was taken back here.
func markRevoked(
	ctx context.Context, tx *store.Tx, leaf *x509.Certificate, links []pki.Link,
) error {
	at, found, err := tx.RevokedSerial(ctx, leaf.SerialNumber.Text(16))
	if found && links[0].Fault == "" {
		links[0].Fault = "was revoked on " + at.UTC().Format("2006-01-02")
	}
	return err
}
