package pki

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Link is one certificate of a chain as a person looks at it: what it says, and what is
// wrong with it there.
type Link struct {
	Subject string `json:"subject"`
	Issuer  string `json:"issuer"`
	// Serial number, hexadecimal.
	Serial string `json:"serial"`
	// Alternative names.
	Names []string `json:"names"`
	Usage Usage    `json:"usage" enum:"authority,server,client,signing,any"`
	// Kind of its key.
	Key  string    `json:"key"`
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	// It is self-signed.
	Root bool `json:"root"`
	// It is not there: the one before it names it as its issuer.
	Missing bool `json:"missing"`
	// What is wrong with it; empty where nothing is.
	Fault string `json:"fault,omitempty"`
}

// breaks words what is at fault with the link that a walk stops at.
var breaks = map[Break]string{
	IssuerWrong:    "has the issuer's name, and did not sign the one before it",
	NotAuthority:   "must not issue certificates",
	PathTooLong:    "allows fewer authorities below it than there are",
	NameConstraint: "must not issue for the names of the first one",
}

// Chain walks from a leaf to an authority that is believed and looks at each link on a day. Where
// the walk breaks, the link at fault is the last one: a missing one has nothing but its name.
func Chain(leaf *x509.Certificate, between, anchors []*x509.Certificate, now time.Time) []Link {
	ends := ownExpires(append(slices.Clone(between), leaf))
	walked, broken := Path(leaf, between, slices.Concat(anchors, ends))
	var links []Link
	for _, c := range walked {
		links = append(links, link(c, now))
	}
	end := walked[len(walked)-1]
	switch broken {
	case Whole:
		if !slices.ContainsFunc(anchors, end.Equal) && len(anchors) > 0 {
			links[len(links)-1].Fault = "is not one of the trusted CAs"
		}
	case IssuerMissing:
		links = append(
			links,
			Link{
				Subject: end.Issuer.CommonName,
				Names:   []string{},
				Usage:   ForAuthority,
				Missing: true,
				Fault:   "is not there",
			},
		)
	case IssuerWrong:
		other, _ := namesake(end, slices.Concat(anchors, between))
		l := link(other, now)
		l.Fault = breaks[broken]
		links = append(links, l)
	case NotAuthority:
		links[len(links)-1].Fault = breaks[broken]
	default:
		links[max(1, len(links)-1)].Fault = breaks[broken]
	}
	return links
}

// ownExpires are those that vouch for themselves: a chain may bring its root along.
func ownExpires(list []*x509.Certificate) []*x509.Certificate {
	return slices.DeleteFunc(
		slices.Clone(list),
		func(c *x509.Certificate) bool { return !c.IsCA || !Root(c) },
	)
}

func namesake(c *x509.Certificate, list []*x509.Certificate) (*x509.Certificate, bool) {
	i := slices.IndexFunc(
		list,
		func(o *x509.Certificate) bool { return string(o.RawSubject) == string(c.RawIssuer) },
	)
	if i < 0 {
		return c, false
	}
	return list[i], true
}

func link(c *x509.Certificate, now time.Time) Link {
	l := Link{
		Subject: c.Subject.CommonName,
		Issuer:  c.Issuer.CommonName,
		Serial:  c.SerialNumber.Text(16),
		Names:   append([]string{}, Names(c)...),
		Usage:   UsageOf(c),
		Key:     KeyKind(c),
		From:    c.NotBefore,
		To:      c.NotAfter,
		Root:    Root(c),
	}
	if l.Subject == "" {
		l.Subject = strings.Join(l.Names, ", ")
	}
	switch {
	case now.After(c.NotAfter):
		l.Fault = fmt.Sprintf("expired on %s", c.NotAfter.UTC().Format(time.DateOnly))
	case now.Before(c.NotBefore):
		l.Fault = fmt.Sprintf("is valid only from %s on", c.NotBefore.UTC().Format(time.DateOnly))
	}
	return l
}
