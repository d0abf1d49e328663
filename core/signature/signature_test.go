package signature_test

import (
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/core/format"
	"wardicon/core/format/digests"
	"wardicon/core/pki"
	"wardicon/core/signature"
)

// issuer makes an authority, and a certificate of some usage by it.
func issuer(t *testing.T, name string, usage pki.Usage) (root *x509.Certificate, id pki.Identity) {
	t.Helper()
	from := time.Now().Truncate(time.Second).Add(-time.Hour)
	issue := func(by pki.Issuer, w pki.Wanted) pki.Identity {
		t.Helper()
		key, err := pki.NewKey(rand.Reader, pki.P256)
		if err != nil {
			t.Fatal(err)
		}
		if by.Key == nil {
			by.Key = key
		}
		w.From, w.To = from, from.AddDate(1, 0, 0)
		c, err := pki.Issue(rand.Reader, by, key.Public(), w)
		if err != nil {
			t.Fatal(err)
		}
		return pki.Identity{Leaf: c, Key: key}
	}
	top := issue(pki.Issuer{}, pki.Wanted{Name: name, Usage: pki.ForAuthority})
	id = issue(
		pki.Issuer{Certificate: top.Leaf, Key: top.Key},
		pki.Wanted{
			Name:  name + " office",
			Usage: usage,
			Names: []string{"office.skerryline.example"},
		},
	)
	id.Chain = []*x509.Certificate{top.Leaf}
	return top.Leaf, id
}

func sign(t *testing.T, id pki.Identity, content []byte, apart bool) []byte {
	t.Helper()
	data, err := pki.Sign(id, content, apart)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestOf looks at a parcel as it was built, and at what may become of it on the way.
func TestOf(t *testing.T) {
	root, office := issuer(t, "Skerry Line", pki.ForSigning)
	other, stranger := issuer(t, "Somebody", pki.ForSigning)
	_, server := issuer(t, "Skerry Line", pki.ForServer)
	files := []format.File{
		{Name: "norrvik-install.sh", Content: []byte("#!/bin/sh\n")},
		{Name: "norrvik-ca.pem", Content: []byte("pem")},
	}
	list := digests.List("Norrvik", files)
	whole := map[string][]byte{
		list.Name:             list.Content,
		"norrvik-digests.p7s": sign(t, office, list.Content, true),
	}
	for _, f := range files {
		whole[f.Name] = f.Content
	}
	profile := sign(t, office, []byte("<plist/>"), false)
	with := func(name string, data []byte) map[string][]byte {
		changed := maps.Clone(whole)
		if changed[name] = data; data == nil {
			delete(changed, name)
		}
		return changed
	}
	believed := []*x509.Certificate{root}
	for _, test := range []struct {
		name, file string
		folder     map[string][]byte
		anchors    []*x509.Certificate
		fault      string // empty: sound
		signer     string
		trusted    bool
	}{
		{"as built", "norrvik-install.sh", whole, believed, "", "Skerry Line office", true},
		{"the list", "norrvik-digests.txt", whole, believed, "", "Skerry Line office", true},
		{"its signature", "norrvik-digests.p7s", whole, believed, "", "Skerry Line office", true},
		{"nobody asked for", "norrvik-install.sh", whole, nil, "", "Skerry Line office", false},
		{"a stranger's", "norrvik-install.sh", with("norrvik-digests.p7s",
			sign(t, stranger, list.Content, true)), believed, "Somebody in the signer's chain is " +
			"not one of the trusted CAs", "Somebody office", false},
		{"a stranger's, believed", "norrvik-install.sh",
			with("norrvik-digests.p7s", sign(t, stranger,
				list.Content, true)), []*x509.Certificate{root, other}, "", "Somebody office",
			true},
		{"by a server", "norrvik-install.sh", with("norrvik-digests.p7s",
			sign(t, server, list.Content,
				true)), nil, "for server, not for signing", "Skerry Line office", false},
		{"unsigned list", "norrvik-install.sh", with("norrvik-digests.p7s", nil), believed, "", "",
			false},
		{"changed script", "norrvik-install.sh", with("norrvik-install.sh",
			[]byte("#!/bin/sh\nrm\n")), believed, "norrvik-install.sh is not as it was built",
			"Skerry Line office", true},
		{"changed beside", "norrvik-install.sh", with("norrvik-ca.pem", []byte("other")), believed,
			"norrvik-ca.pem is not as it was built", "Skerry Line office", true},
		{"lost beside", "norrvik-digests.txt", with("norrvik-ca.pem", nil), believed,
			"norrvik-ca.pem is not there", "Skerry Line office", true},
		{"changed list", "norrvik-install.sh", with("norrvik-digests.txt",
			append(bytes.Clone(list.Content), bytes.Replace(list.Content,
				[]byte("norrvik-ca"), []byte("norrvik-cb"), 1)...)), believed,
			"changed after it was signed", "Skerry Line office", false},
		{"broken signature", "norrvik-install.sh", with("norrvik-digests.p7s", []byte("hello")),
			believed, "signature of the list cannot be read", "", false},
		{"signature alone", "norrvik-digests.p7s", with("norrvik-digests.txt", nil), believed,
			"not beside it", "", false},
		{"another file", "readme.txt", with("readme.txt", []byte("hello")), believed,
			"no list of digests beside it names it", "", false},
		{"signed profile", "norrvik.mobileconfig", with("norrvik.mobileconfig", profile), believed,
			"", "Skerry Line office", true},
		{"changed profile", "norrvik.mobileconfig",
			with("norrvik.mobileconfig", bytes.Replace(profile,
				[]byte("plist"), []byte("plost"), 1)), believed, "changed after it was signed",
			"Skerry Line office", false},
		{"profile cut short", "norrvik.mobileconfig", with("norrvik.mobileconfig", profile[:200]),
			believed, "cannot be read", "", false},
	} {
		beside := func(name string) ([]byte, bool) {
			data, ok := test.folder[name]
			return data,
				ok
		}
		p := signature.Of(
			test.file,
			test.folder[test.file],
			slices.Collect(maps.Keys(test.folder)),
			beside,
			test.anchors,
			time.Now(),
		)
		said := strings.Join(p.Faults, "; ")
		if p.Sound() != (test.fault == "") || !strings.Contains(said, test.fault) ||
			p.Signer != test.signer ||
			p.Trusted != test.trusted ||
			p.Fits && p.At == nil {
			t.Errorf(
				"%s: faults %q, signer %q, believed %t; expected %q, %q, %t",
				test.name,
				said,
				p.Signer,
				p.Trusted,
				test.fault,
				test.signer,
				test.trusted,
			)
		}
	}
}

func FuzzOf(f *testing.F) {
	f.Add("a-digests.txt", []byte(strings.Repeat("0", 64)+"  b\n"))
	f.Add(
		"a.mobileconfig",
		[]byte{
			0x30,
			0x80,
			0x06,
			0x09,
			0x2a,
			0x86,
			0x48,
			0x86,
			0xf7,
			0x0d,
			0x01,
			0x07,
			0x02,
			0xa0,
			0x80,
		},
	)
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		p := signature.Of(
			name,
			data,
			[]string{name},
			func(string) ([]byte, bool) { return data, true },
			nil,
			time.Unix(1.7e9, 0),
		)
		if p.Trusted {
			t.Error("believed without an authority")
		}
	})
}
