package filecheck

import (
	"crypto/x509"
	"path"
	"slices"
	"strings"

	"wardicon/core/check"
	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/vpn"
)

// loose are the certificates of a batch that stand in files of their own.
type loose struct {
	authorities, servers []check.Held
	others               []check.Held // that do not say whether they are a gateway's
	revoked              []*x509.RevocationList
	bags                 []check.Packed
	hosts                []string
	known                bool // some file is of a kind that is read here
}

func gathered(list []*work) loose {
	var l loose
	for _, w := range list {
		l.known = l.known || w.codec != nil || w.bag != nil
		for _, c := range w.reading.Connections {
			if host := strings.ToLower(c.Connection.Server); !slices.Contains(l.hosts, host) {
				l.hosts = append(l.hosts, host)
			}
		}
		if w.bag == nil {
			continue
		}
		l.revoked = append(l.revoked, w.bag.Revocations...)
		if w.bag.Shape == pki.PKCS12 {
			l.bags = append(l.bags, check.Packed{Name: w.file.Name, Old: w.bag.Old})
		}
		for _, h := range held(w) {
			switch h.Usage {
			case pki.ForAuthority:
				l.authorities = append(l.authorities, h)
			case pki.ForServer:
				l.servers = append(l.servers, h)
			default:
				l.others = append(l.others, h)
			}
		}
		w.partner(list)
	}
	return l
}

// held sorts what a file of certificates holds: authorities each by itself, any other with
// the certificates that can stand between it and its authority.
func held(w *work) []check.Held {
	var out []check.Held
	for _, c := range w.bag.Certificates {
		h := check.Held{
			Usage: pki.UsageOf(c),
			Field: vpn.FieldFile,
			Chain: []*x509.Certificate{c},
			At:    &format.Position{File: w.file.Name, Line: 1, Column: 1},
		}
		if h.Usage != pki.ForAuthority {
			for _, other := range w.bag.Certificates {
				if other != c && other.IsCA {
					h.Chain = append(h.Chain, other)
				}
			}
		}
		out = append(out, h)
	}
	return out
}

// partner holds that a key in a file of its own belongs to the certificate beside it that
// has the same name but for the ending.
func (w *work) partner(list []*work) {
	if len(w.bag.Keys) != 1 || len(w.bag.Certificates) > 0 {
		return
	}
	stem := strings.TrimSuffix(w.file.Name, path.Ext(w.file.Name))
	for _, other := range list {
		if other == w || other.bag == nil || len(other.bag.Certificates) == 0 ||
			strings.TrimSuffix(other.file.Name, path.Ext(other.file.Name)) != stem {
			continue
		}
		if !slices.ContainsFunc(
			other.bag.Certificates,
			func(c *x509.Certificate) bool { return pki.Belongs(c, w.bag.Keys[0]) },
		) {
			w.notes = append(
				w.notes,
				format.Note{
					Kind: format.PairBroken,
					Found: "the key does not belong to the certificate in " + path.Base(
						other.file.Name,
					),
					At: format.Position{File: w.file.Name, Line: 1, Column: 1},
				},
			)
		}
	}
}

// serving are the gateways' certificates that a connection meets: that of the only gateway
// in the batch, or those that have its name, whatever they say that they are for.
func (l loose) serving(host string) []check.Held {
	if len(l.hosts) == 1 && len(l.servers) == 1 {
		return l.servers
	}
	var list []check.Held
	for _, h := range slices.Concat(l.servers, l.others) {
		if pki.Covers(h.Chain[0], host) {
			h.Usage, h.Field = pki.ForServer, vpn.FieldServer
			list = append(list, h)
		}
	}
	return list
}
