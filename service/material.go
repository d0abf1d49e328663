package service

import (
	"crypto"
	"crypto/x509"
	"fmt"
	"slices"

	"wardicon/api"
	"wardicon/core/pki"
	"wardicon/core/secret"
)

// brought is what a file of certificates and keys holds: the certificate that it is about, with
// those beside it, and its key where there is one.
type brought struct {
	leaf   *x509.Certificate
	others []*x509.Certificate
	key    crypto.Signer
}

func (b brought) bundle() string { return pki.Bundle(b.leaf) + pki.Bundle(b.others...) }

func (b brought) keyText() (*secret.Text, error) {
	if b.key == nil {
		return nil, nil
	}
	text, err := pki.KeyPEM(b.key)
	return &text, err
}

// fixes say what to do about a file that cannot be taken.
var fixes = map[pki.Fault][2]string{
	pki.BagUnreadable: {
		"certificates and keys as PEM, DER, PKCS #7 or PKCS #12",
		"export the file again",
	},
	pki.BagPassphrase: {
		"the passphrase that the file was closed with",
		"type it again; capitals count",
	},
	pki.BagKeys: {"one private key", "take the others out"},
	pki.BagPair: {
		"the key of the certificate",
		"bring the key that belongs to it, or leave it out",
	},
	pki.BagEncryptedKey: {
		"a key without a passphrase, or a PKCS #12 file",
		"pack certificate and key as PKCS #12 and give its passphrase",
	},
	pki.BagNoCertificate: {
		"the certificate beside the key",
		"export the file with its certificate",
	},
}

// bring opens a file of material. fits says which of its certificates it is about; expected words
// that.
func bring(
	object string,
	m api.Material,
	expected string,
	fits func(*x509.Certificate) bool,
) (b brought, err error) {
	bag := pki.Open(m.File, m.Passphrase)
	pointer := map[bool]string{true: "/passphrase", false: "/file"}
	for _, t := range bag.Troubles {
		if words, ok := fixes[t.Fault]; ok {
			return b, problem(
				object,
				pointer[t.Fault == pki.BagPassphrase],
				t.Found,
				words[0],
				words[1],
			)
		}
	}
	keys := bag.Keys
	if len(m.Key) > 0 {
		apart := pki.Open(m.Key, m.Passphrase)
		for _, t := range apart.Troubles {
			if words, ok := fixes[t.Fault]; ok {
				return b, problem(object, "/key", t.Found, words[0], words[1])
			}
		}
		keys = append(keys, apart.Keys...)
	}
	if len(keys) > 1 {
		return b, problem(
			object,
			"/file",
			fmt.Sprintf("%d private keys", len(keys)),
			fixes[pki.BagKeys][0],
			fixes[pki.BagKeys][1],
		)
	}
	if len(bag.Certificates) == 0 {
		return b, problem(
			object,
			"/file",
			"no certificate",
			expected,
			"export the file with its certificate",
		)
	}
	i := -1
	if len(keys) == 1 {
		b.key = keys[0]
		if i = slices.IndexFunc(
			bag.Certificates,
			func(c *x509.Certificate) bool { return pki.Belongs(c, b.key) },
		); i < 0 {
			return b, problem(
				object,
				"/key",
				fmt.Sprintf(
					"a private key that belongs to none of %d certificates",
					len(bag.Certificates),
				),
				fixes[pki.BagPair][0],
				fixes[pki.BagPair][1],
			)
		}
		if !fits(bag.Certificates[i]) {
			return b, problem(
				object,
				"/file",
				fmt.Sprintf(
					"the key of %q, a certificate for %s",
					bag.Certificates[i].Subject.CommonName,
					pki.UsageOf(bag.Certificates[i]),
				),
				expected,
				"bring the file that is meant",
			)
		}
	} else if i = slices.IndexFunc(bag.Certificates, fits); i < 0 {
		c := bag.Certificates[0]
		return b, problem(
			object,
			"/file",
			fmt.Sprintf("%q, a certificate for %s", c.Subject.CommonName, pki.UsageOf(c)),
			expected,
			"bring the file that is meant",
		)
	}
	b.leaf = bag.Certificates[i]
	// What vouches for it comes along in its order; what has nothing to do with it stays behind.
	rest := slices.DeleteFunc(
		slices.Clone(bag.Certificates),
		func(c *x509.Certificate) bool { return c.Equal(b.leaf) },
	)
	walked, _ := pki.Path(b.leaf, rest, nil)
	b.others = walked[1:]
	return b, nil
}

// inTime refuses a certificate that is not valid now.
func (s *Service) inTime(object string, c *x509.Certificate) error {
	switch now := s.now(); {
	case now.After(c.NotAfter):
		return problem(
			object,
			"/file",
			fmt.Sprintf(
				"%q, which expired on %s",
				c.Subject.CommonName,
				c.NotAfter.UTC().Format("2006-01-02"),
			),
			"a certificate that is still valid",
			"bring its successor",
		)
	case now.Before(c.NotBefore):
		return problem(
			object,
			"/file",
			fmt.Sprintf(
				"%q, which is valid only from %s on",
				c.Subject.CommonName,
				c.NotBefore.UTC().Format("2006-01-02"),
			),
			"a certificate that is valid by now",
			"wait for that day, or correct the clock",
		)
	}
	return nil
}
