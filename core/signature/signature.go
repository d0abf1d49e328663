// Package signature tells who signed a file of a parcel and when, and whether it or the files
// beside it were changed since.
package signature

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"slices"
	"strings"
	"time"

	"wardicon/core/format"
	"wardicon/core/format/digests"
	"wardicon/core/pki"
)

// State says how a file stands to what was built.
type State string

// The states, strongest first.
const (
	Same     State = "same"     // as it was built
	Unlisted State = "unlisted" // nothing says how it was built
	Missing  State = "missing"  // listed, and not there
	Changed  State = "changed"
)

// Listed is one file of a list of digests.
type Listed struct {
	Name  string `json:"name"`
	State State  `json:"state" enum:"same,unlisted,missing,changed"`
}

// Proof is what can be said of a file.
type Proof struct {
	Name string `json:"name"`
	// There is a signature.
	Signed bool `json:"signed"`
	// The signature fits: nothing was changed since.
	Fits bool `json:"fits"`
	// The signer's chain leads to a trusted CA.
	Trusted bool `json:"trusted"`
	// Authorities were given to hold the signer against.
	Asked  bool   `json:"asked"`
	Signer string `json:"signer,omitempty"`
	// Alternative names of the signer's certificate.
	Names []string `json:"names"`
	// When it was signed, by the signer's clock.
	At *time.Time `json:"at,omitempty"`
	// The file that has the signature, where it is another one.
	By string `json:"by,omitempty"`
	// The list of digests that was looked at.
	List string `json:"list,omitempty"`
	// The signer's chain.
	Links []pki.Link `json:"links"`
	// Files of the list of digests.
	Files []Listed `json:"files"`
	// What is wrong, in words.
	Faults []string `json:"faults"`
}

// Sound tells whether nothing speaks against the file. What nobody signed or listed is not proven.
func (p Proof) Sound() bool { return len(p.Faults) == 0 }

func (p *Proof) fault(text string) { p.Faults = append(p.Faults, text) }

const maxFile = 32 << 20

// Of looks at a file and at those beside it: a signed profile by itself, anything else by the list
// of digests that names it and the signature over that list. names are those of the files beside
// it, anchors are the authorities that are believed.
func Of(
	name string,
	data []byte,
	names []string,
	beside format.Beside,
	anchors []*x509.Certificate,
	now time.Time,
) Proof {
	p := Proof{
		Name:   name,
		Names:  []string{},
		Links:  []pki.Link{},
		Files:  []Listed{},
		Faults: []string{},
		Asked:  len(anchors) > 0,
	}
	switch {
	case len(data) > maxFile:
		p.fault("it is too large to be a file of a parcel")
	case strings.HasSuffix(name, digests.SignedExpiring):
		list := strings.TrimSuffix(name, digests.SignedExpiring) + digests.Expiry
		text, ok := beside.Get(list)
		if !ok {
			p.fault(list + ", which it signs, is not beside it")
			return p
		}
		p.list(list, text, data, beside, anchors, now)
	case signed(data) != nil:
		p.signature(signed(data), nil, anchors, now)
	case strings.HasSuffix(name, digests.Expiry) && digests.Is(data):
		p.list(name, data, nil, beside, anchors, now)
	default:
		p.listed(name, data, names, beside, anchors, now)
	}
	return p
}

// signed is the DER form of a signed message; nil where a file is none.
func signed(data []byte) []byte {
	if block, _ := pem.Decode(
		data,
	); block != nil &&
		(block.Type == "PKCS7" || block.Type == "CMS") {
		data = block.Bytes
	}
	head := data[:min(len(data), 32)]
	if len(head) == 0 || head[0] != 0x30 ||
		!bytes.Contains(
			head,
			[]byte{0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02},
		) {
		return nil
	}
	return data
}

// signature looks at a signed message; content is what it signs where that is apart.
func (p *Proof) signature(data, content []byte, anchors []*x509.Certificate, now time.Time) {
	p.Signed = true
	s, err := pki.Signed(data, content)
	if s.Signer != nil {
		p.Names = append(p.Names, pki.Names(s.Signer)...)
		at := s.At
		if !at.IsZero() {
			p.At = &at
			now = at // a certificate that has ended since has still signed it
		}
		p.Links = pki.Chain(s.Signer, s.Others, anchors, now)
		p.Signer = p.Links[0].Subject
	}
	switch {
	case errors.Is(err, pki.ErrChanged):
		p.fault("it was changed after it was signed, or somebody else signed it")
	case err != nil:
		p.fault(err.Error())
	default:
		p.Fits = true
	}
	if s.Signer == nil || err != nil {
		return
	}
	broken := slices.IndexFunc(p.Links, func(l pki.Link) bool { return l.Fault != "" })
	switch {
	case p.Asked && broken >= 0:
		p.fault(p.Links[broken].Subject + " in the signer's chain " + p.Links[broken].Fault)
	case pki.UsageOf(s.Signer) != pki.ForSigning && pki.UsageOf(s.Signer) != pki.ForAny:
		p.fault(
			"the signer's certificate is for " + string(
				pki.UsageOf(s.Signer),
			) + ", not for signing",
		)
	default:
		p.Trusted = p.Asked
	}
}

// list looks at a list of digests, its signature and its files.
func (p *Proof) list(
	name string,
	text, signature []byte,
	beside format.Beside,
	anchors []*x509.Certificate,
	now time.Time,
) {
	p.List = name
	if signature == nil {
		by := strings.TrimSuffix(name, digests.Expiry) + digests.SignedExpiring
		if data, ok := beside.Get(by); ok {
			p.By, signature = by, data
		}
	}
	if signature != nil {
		if der := signed(signature); der != nil {
			p.signature(der, text, anchors, now)
		} else {
			p.fault("the signature of the list cannot be read")
		}
	}
	entries, err := digests.Read(text)
	if err != nil {
		p.fault(err.Error())
		return
	}
	for _, e := range entries {
		l := Listed{e.Name, Same}
		switch data, ok := beside.Get(e.Name); {
		case e.Name == p.Name: // it is here itself
		case !ok:
			l.State = Missing
			p.fault(e.Name + " is not there")
		case digests.Of(data) != e.Digest:
			l.State = Changed
			p.fault(e.Name + " is not as it was built")
		}
		p.Files = append(p.Files, l)
	}
}

// listed looks for the list that names a file.
func (p *Proof) listed(
	name string,
	data []byte,
	names []string,
	beside format.Beside,
	anchors []*x509.Certificate,
	now time.Time,
) {
	for _, other := range names {
		if !strings.HasSuffix(other, digests.Expiry) {
			continue
		}
		text, ok := beside.Get(other)
		entries, err := digests.Read(text)
		if !ok || err != nil {
			continue
		}
		i := slices.IndexFunc(entries, func(e digests.Entry) bool { return e.Name == name })
		if i < 0 {
			continue
		}
		p.list(other, text, nil, beside, anchors, now)
		if entries[i].Digest != digests.Of(data) {
			p.Files[i].State = Changed
			p.fault(name + " is not as it was built")
		}
		return
	}
	p.Files = append(p.Files, Listed{name, Unlisted})
	p.fault("it has no signature, and no list of digests beside it names it")
}
