package check

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Compared is what a record says of a secret in a file; neither of the two is shown.
type Compared struct {
	Known bool      `json:"known"` // the record has a secret there
	Same  bool      `json:"same"`
	Until time.Time `json:"until,omitzero"` // it was the record's until then
}

// comparedRules compare what a file says with the record of its gateway, where what was planned
// cannot differ.
var comparedRules = []Rule{
	{
		Code:     "secret-not-gateways",
		Title:    "Secret differs from the record",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldPSK, vpn.FieldControl, vpn.FieldPassword},
		Why:      "The gateway rejects the device, or the record is not up to date.",
		Fix:      "Rebuild the parcel from the record, or correct the record.",
		Source:   "practice",
		Bad: Example{
			"a pre-shared key that was valid until 3 May",
			func(s *Subject) {
				s.Against = s.Gateway
				s.Compare = func(vpn.Field, secret.Text) Compared {
					return Compared{
						Known: true,
						Until: time.Date(2026, time.May, 3, 0, 0, 0, 0, time.UTC),
					}
				}
			},
		},
		Good: Example{
			"the pre-shared key of the record",
			func(s *Subject) {
				s.Compare = func(vpn.Field, secret.Text) Compared {
					return Compared{Known: true, Same: true}
				}
			},
		},
		run: func(s *Subject) []Hit {
			if s.Compare == nil || s.Against == nil {
				return nil
			}
			var hits []Hit
			for _, one := range s.shared() {
				if one.value.IsZero() {
					continue
				}
				c := s.Compare(one.field, one.value)
				switch {
				case !c.Known || c.Same:
				case !c.Until.IsZero():
					hits = append(hits, Hit{Field: one.field, Found: fmt.Sprintf(
						"equals what was valid for %s until %s", s.Against.Name,
						c.Until.Format("2 January 2006"))})
				default:
					hits = append(hits, Hit{
						Field: one.field,
						Found: "differs from the record of " + s.Against.Name,
					})
				}
			}
			return hits
		},
	},
	{
		Code:     "authority-not-gateways",
		Title:    "CA differs from the gateway's record",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldAuthority},
		Why:      "The device does not trust the gateway's certificate and disconnects.",
		Fix:      "Put the CA of the gateway's record into the file, or correct the record.",
		Source:   "RFC 5280 §6.1",
		Bad: Example{
			"the root of another CA",
			func(s *Subject) {
				s.by(vpn.IKEv2)
				s.Gateway.Offers.IKEv2.Authority = sampleOtherPEM
				s.Against = s.Gateway
			},
		},
		Good: Example{"the root of the record", func(s *Subject) {
			s.by(vpn.IKEv2)
			s.Gateway.Offers.IKEv2.Authority = s.Connection.Authority
			s.Against = s.Gateway
		}},
		run: func(s *Subject) []Hit {
			if s.Against == nil {
				return nil
			}
			mine, err := pki.Certificates(s.Connection.Authority)
			its, err2 := pki.Certificates(s.Against.Offers.Authority(s.Connection.Protocol))
			if err != nil || err2 != nil || len(mine) == 0 || len(its) == 0 {
				return nil
			}
			for _, c := range mine {
				if slices.ContainsFunc(its, func(o *x509.Certificate) bool {
					return o.Equal(c) || string(o.RawSubject) == string(c.RawSubject) &&
						string(o.RawSubjectPublicKeyInfo) == string(c.RawSubjectPublicKeyInfo)
				}) {
					return nil
				}
			}
			return []Hit{{
				Field: vpn.FieldAuthority,
				Found: fmt.Sprintf(
					"%s, and the record of %s has %s",
					quote(mine[0].Subject.CommonName),
					s.Against.Name,
					quote(its[0].Subject.CommonName),
				),
			}}
		},
	},
	{
		Code:     "server-name-not-gateways",
		Title:    "Server name differs from the gateway's record",
		Severity: vpn.Error,
		Fields:   []vpn.Field{vpn.FieldServerName},
		Why:      "The device expects another name in the gateway's certificate and disconnects.",
		Fix:      "Enter the server name of the gateway's record, or correct the record.",
		Source:   "RFC 6125 §6.4",
		Bad: Example{
			"the name of another gateway",
			func(s *Subject) {
				s.by(vpn.TLS)
				s.Gateway.Offers.TLS.ServerName = "norrvik.skerryline.example"
				s.Connection.TLS.ServerName = "tallholm.skerryline.example"
				s.Against = s.Gateway
			},
		},
		Good: Example{"the name of the record", func(s *Subject) {
			s.by(vpn.TLS)
			s.Gateway.Offers.TLS.ServerName = "norrvik.skerryline.example"
			s.Connection.TLS.ServerName = "norrvik.skerryline.example"
			s.Against = s.Gateway
		}},
		run: func(s *Subject) []Hit {
			if s.Against == nil {
				return nil
			}
			mine, its := s.Connection.ServerName(), ""
			switch o := s.Against.Offers; {
			case s.Connection.TLS != nil && o.TLS != nil:
				its = o.TLS.ServerName
			case s.Connection.SSTP != nil && o.SSTP != nil:
				its = o.SSTP.ServerName
			}
			if mine == "" || its == "" || strings.EqualFold(mine, its) {
				return nil
			}
			return []Hit{{
				Field: vpn.FieldServerName,
				Found: fmt.Sprintf("%s, and the record of %s says %s", quote(mine), s.Against.Name,
					quote(its)),
			}}
		},
	},
}

// identityRule compares the device's certificate with those that were issued or are on record.
var identityRule = Rule{
	Code:     "certificate-not-current",
	Title:    "Device certificate is no longer the one on record",
	Severity: vpn.Error,
	Fields:   []vpn.Field{vpn.FieldIdentity},
	Why:      "It was revoked or replaced; the gateway rejects it once it knows.",
	Fix:      "Rebuild the parcel from the record.",
	Source:   "RFC 5280 §5.3; practice",
	Bad: Example{"a certificate that was revoked on 3 May", func(s *Subject) {
		s.by(vpn.IKEv2)
		s.holds(authority(sampleRoot()), client(sampleClient()))
		s.Connection.Identity = &vpn.Identity{Certificate: sampleClientPEM}
		s.Against = s.Gateway
		s.Compare = func(vpn.Field, secret.Text) Compared {
			return Compared{Known: true, Until: time.Date(2026, time.May, 3, 0, 0, 0, 0, time.UTC)}
		}
	}},
	Good: Example{"that of a device on record", func(s *Subject) {
		s.by(vpn.IKEv2)
		s.holds(authority(sampleRoot()), client(sampleClient()))
		s.Connection.Identity = &vpn.Identity{Certificate: sampleClientPEM}
		s.Against = s.Gateway
		s.Compare = func(vpn.Field, secret.Text) Compared {
			return Compared{Known: true, Same: true}
		}
	}},
	run: leaves(func(s *Subject, h Held) []Hit {
		if s.Compare == nil || s.Against == nil || s.Connection.Identity == nil {
			return nil
		}
		c := s.Compare(vpn.FieldIdentity, secret.New(pki.Bundle(h.leaf())))
		switch {
		case !c.Known || c.Same:
			return nil
		case c.Until.IsZero():
			return []Hit{h.hit(h.leaf(), "was issued here, and no device has it any more")}
		}
		return []Hit{h.hit(h.leaf(), "was revoked on %s", day(c.Until))}
	}, pki.ForClient),
}

// kept is a secret of a connection that a record has too.
type kept struct {
	field vpn.Field
	value secret.Text
}

func (s *Subject) shared() []kept {
	c := s.Connection
	list := []kept{{vpn.FieldPSK, c.PSK()}, {vpn.FieldPassword, c.Password}}
	if c.TLS != nil && c.TLS.Control != nil {
		list = append(list, kept{vpn.FieldControl, c.TLS.Control.Key})
	}
	return list
}
