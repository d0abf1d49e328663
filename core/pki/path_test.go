package pki_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wardicon/core/pki"
)

// issued is a certificate with its key, for chains that a test puts together.
type issued struct {
	*x509.Certificate
	key crypto.Signer
}

// forge makes certificates that need not be sound.
type forge struct {
	t  *testing.T
	by map[string]issued
	n  int64

	reuse crypto.Signer // the key of the next certificate
}

var day = time.Date(2026, time.November, 20, 12, 0, 0, 0, time.UTC)

// make issues a certificate under a name; an empty issuer makes it vouch for itself.
func (f *forge) make(name, issuer string, change ...func(*x509.Certificate)) issued {
	f.t.Helper()
	f.n++
	template := &x509.Certificate{
		SerialNumber: big.NewInt(
			f.n,
		),
		Subject:               pkix.Name{CommonName: name},
		NotBefore:             day.AddDate(0, -1, 0),
		NotAfter:              day.AddDate(1, 0, 0),
		BasicConstraintsValid: true,
		IsCA:                  !strings.HasPrefix(name, "leaf"),
		KeyUsage:              x509.KeyUsageDigitalSignature,
	}
	if template.IsCA {
		template.KeyUsage = x509.KeyUsageCertSign | x509.KeyUsageCRLSign
	} else {
		template.DNSNames = []string{"laptop.skerryline.example"}
	}
	for _, c := range change {
		c(template)
	}
	var key crypto.Signer
	var err error
	switch {
	case f.reuse != nil:
		key = f.reuse
	case strings.Contains(name, "rsa"):
		key, err = rsa.GenerateKey(rand.Reader, 2048)
	default:
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	}
	if err != nil {
		f.t.Fatal(err)
	}
	parent, signer := template, key
	if issuer != "" {
		parent, signer = f.by[issuer].Certificate, f.by[issuer].key
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, key.Public(), signer)
	if err != nil {
		f.t.Fatal(err)
	}
	c, err := x509.ParseCertificate(der)
	if err != nil {
		f.t.Fatal(err)
	}
	f.by[name] = issued{c, key}
	return f.by[name]
}

// again issues a second certificate of another one's name, with or without its key.
func (f *forge) again(under, name, issuer string, sameKey bool) {
	old := f.by[name]
	if sameKey {
		f.reuse = old.key
	}
	f.by[under], f.by[name], f.reuse = f.make(name, issuer), old, nil
}

func (f *forge) list(names string) []*x509.Certificate {
	var list []*x509.Certificate
	for _, n := range strings.Fields(names) {
		if f.by[n].Certificate == nil {
			f.t.Fatalf("no certificate %q", n)
		}
		list = append(list, f.by[n].Certificate)
	}
	return list
}

func depth(n int) func(*x509.Certificate) {
	return func(c *x509.Certificate) { c.MaxPathLen, c.MaxPathLenZero = n, n == 0 }
}

func within(domains ...string) func(*x509.Certificate) {
	return func(c *x509.Certificate) {
		c.PermittedDNSDomainsCritical, c.PermittedDNSDomains = true,
			domains
	}
}

func outside(domains ...string) func(*x509.Certificate) {
	return func(c *x509.Certificate) {
		c.PermittedDNSDomainsCritical, c.ExcludedDNSDomains = true,
			domains
	}
}

func network(v string, excluded bool) func(*x509.Certificate) {
	return func(c *x509.Certificate) {
		_, n, _ := net.ParseCIDR(v)
		c.PermittedDNSDomainsCritical = true
		if excluded {
			c.ExcludedIPRanges = []*net.IPNet{n}
		} else {
			c.PermittedIPRanges = []*net.IPNet{n}
		}
	}
}

func names(list ...string) func(*x509.Certificate) {
	return func(c *x509.Certificate) {
		c.DNSNames = nil
		for _, n := range list {
			if ip := net.ParseIP(n); ip != nil {
				c.IPAddresses = append(c.IPAddresses, ip)
			} else {
				c.DNSNames = append(c.DNSNames, n)
			}
		}
	}
}

func noAuthority(c *x509.Certificate) { c.IsCA = false }
func noConstraints(c *x509.Certificate) {
	c.IsCA, c.BasicConstraintsValid, c.KeyUsage = false, false, 0
}
func noSigning(c *x509.Certificate)   { c.KeyUsage = x509.KeyUsageDigitalSignature }
func noUsage(c *x509.Certificate)     { c.KeyUsage = 0 }
func noNames(c *x509.Certificate)     { c.DNSNames = nil }
func sameSubject(c *x509.Certificate) { c.Subject = pkix.Name{CommonName: "root"} }
func longSubject(c *x509.Certificate) {
	c.Subject.OrganizationalUnit = []string{strings.Repeat("x", 60)}
}

// TestPath walks over good and bad chains, and holds what it says to what the standard
// package and openssl say of them.
func TestPath(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Log("openssl is not here: its opinion is not asked")
	}
	for _, test := range []struct {
		name             string
		build            func(f *forge)
		between, anchors string
		want             pki.Break
		at               int // links walked
	}{
		{"right below its root", func(f *forge) { f.make("root", ""); f.make("leaf", "root") }, "",
			"root", pki.Whole, 2},
		{"by RSA", func(f *forge) { f.make("rsa", ""); f.make("leaf", "rsa") }, "", "rsa",
			pki.Whole, 2},
		{"RSA below a curve",
			func(f *forge) {
				f.make("root", "")
				f.make("rsa", "root")
				f.make("leaf",
					"rsa")
			}, "rsa", "root", pki.Whole, 3},
		{"one between", three, "one", "root", pki.Whole, 3},
		{"two between", four, "one two", "root", pki.Whole, 4},
		{"two between, in another order", four, "two one", "root", pki.Whole, 4},
		{"others in between too", func(f *forge) { four(f); f.make("other", "") },
			"other two one root", "root", pki.Whole, 4},
		{"several anchors", func(f *forge) { three(f); f.make("other", "") }, "one", "other root",
			pki.Whole, 3},
		{"the one between is trusted itself", three, "", "one", pki.Whole, 2},
		{"the leaf is trusted itself",
			func(f *forge) {
				f.make("root", "")
				f.make("leaf",
					"root")
			}, "", "leaf root", pki.Whole, 1},
		{"the root is between too", three, "root one", "root", pki.Whole, 3},
		{"an authority without a key usage",
			func(f *forge) {
				f.make("root", "", noUsage)
				f.make("leaf",
					"root")
			}, "", "root", pki.Whole, 2},
		{"a leaf without names",
			func(f *forge) {
				f.make("root", "")
				f.make("leaf", "root",
					noNames)
			}, "", "root", pki.Whole, 2},
		{"long subjects", func(f *forge) {
			f.make("root", "", longSubject)
			f.make("leaf", "root",
				longSubject)
		}, "", "root", pki.Whole, 2},
		{"two roots of one name, the right one here", func(f *forge) {
			f.make("root", "")
			f.make("leaf", "root")
			f.again("newer", "root", "", false)
		}, "", "newer root", pki.Whole, 2},
		{"a root made again with its old key",
			func(f *forge) {
				f.make("root", "")
				f.make("leaf", "root")
				f.again("newer", "root",
					"", true)
			}, "", "newer", pki.Whole, 2},
		{"crossed over to another root", func(f *forge) {
			three(f)
			f.make("other", "")
			f.again("crossed", "root", "other", true)
		}, "one crossed", "other", pki.Whole, 4},
		{"crossed over, the way round is there too", func(f *forge) {
			three(f)
			f.make("other", "")
			f.again("crossed", "root", "other", true)
		}, "one crossed root", "root", pki.Whole, 3},
		{"as deep as allowed",
			func(f *forge) {
				f.make("root", "", depth(1))
				f.make("one", "root",
					depth(0))
				f.make("leaf", "one")
			}, "one", "root", pki.Whole, 3},
		{"none allowed, none there",
			func(f *forge) {
				f.make("root", "", depth(0))
				f.make("leaf",
					"root")
			}, "", "root", pki.Whole, 2},
		{"within its domain",
			func(f *forge) {
				f.make("root", "", within("skerryline.example"))
				f.make("leaf",
					"root")
			}, "", "root", pki.Whole, 2},
		{"the domain itself", func(f *forge) {
			f.make("root", "", within("skerryline.example"))
			f.make("leaf", "root", names("skerryline.example"))
		}, "", "root", pki.Whole, 2},
		{"outside what is excluded",
			func(f *forge) {
				f.make("root", "", outside("harbour.example"))
				f.make("leaf",
					"root")
			}, "", "root", pki.Whole, 2},
		{"within its network", func(f *forge) {
			f.make("root", "", network("198.51.100.0/24", false))
			f.make("leaf", "root", names("198.51.100.7"))
		}, "", "root", pki.Whole, 2},
		{"an authority as leaf", func(f *forge) {
			f.make("root", "")
			f.make("one", "root")
			f.by["leaf"] = f.by["one"]
		}, "", "root", pki.Whole, 2},

		{"nobody there", func(f *forge) { f.make("root", ""); f.make("leaf", "root") }, "", "",
			pki.IssuerMissing, 1},
		{"another root", func(f *forge) {
			f.make("root", "")
			f.make("leaf",
				"root")
			f.make("other", "")
		}, "", "other", pki.IssuerMissing, 1},
		{"the one between is missing", three, "", "root", pki.IssuerMissing, 1},
		{"the upper one between is missing", four, "two", "root", pki.IssuerMissing, 2},
		{"the root is missing", four, "one two", "", pki.IssuerMissing, 3},
		{"vouches for itself", func(f *forge) { f.make("leaf", ""); f.make("root", "") }, "",
			"root", pki.IssuerMissing, 1},
		{"the root is only between",
			func(f *forge) {
				f.make("root", "")
				f.make("leaf", "root")
				f.make("other",
					"")
			}, "root", "other", pki.IssuerMissing, 2},
		{"a root made again with another key",
			func(f *forge) {
				f.make("root", "")
				f.make("leaf", "root")
				f.again("newer", "root",
					"", false)
			}, "", "newer", pki.IssuerWrong, 1},
		{"the one between made again with another key",
			func(f *forge) {
				three(f)
				f.again("newer", "one", "root",
					false)
			}, "newer", "root", pki.IssuerWrong, 1},
		{"another one of the root's name", func(f *forge) {
			f.make("root", "")
			f.make("leaf", "root")
			f.make("other", "", sameSubject)
		}, "", "other", pki.IssuerWrong, 1},
		{"by one that is no authority",
			func(f *forge) {
				f.make("root", "")
				f.make("one", "root", noAuthority)
				f.make("leaf",
					"one")
			}, "one", "root", pki.NotAuthority, 2},
		{"by one without constraints",
			func(f *forge) {
				f.make("root", "")
				f.make("one", "root",
					noConstraints)
				f.make("leaf", "one")
			}, "one", "root", pki.NotAuthority, 2},
		{"by a root without constraints",
			func(f *forge) {
				f.make("root", "", noConstraints)
				f.make("leaf",
					"root")
			}, "", "root", pki.NotAuthority, 2},
		{"by one that may not sign",
			func(f *forge) {
				f.make("root", "")
				f.make("one", "root", noSigning)
				f.make("leaf",
					"one")
			}, "one", "root", pki.NotAuthority, 2},
		{"by another leaf", func(f *forge) {
			f.make("root", "")
			f.make("leaf2",
				"root")
			f.make("leaf", "leaf2")
		}, "leaf2", "root", pki.NotAuthority, 2},
		{"deeper than the root allows",
			func(f *forge) {
				f.make("root", "", depth(0))
				f.make("one", "root")
				f.make("leaf",
					"one")
			}, "one", "root", pki.PathTooLong, 3},
		{"deeper than one between allows", func(f *forge) {
			f.make("root", "")
			f.make("one", "root", depth(0))
			f.make("two", "one")
			f.make("leaf", "two")
		}, "one two", "root", pki.PathTooLong, 4},
		{"outside its domain",
			func(f *forge) {
				f.make("root", "", within("harbour.example"))
				f.make("leaf",
					"root")
			}, "", "root", pki.NameConstraint, 2},
		{"a domain that only ends alike", func(f *forge) {
			f.make("root", "", within("skerryline.example"))
			f.make("leaf", "root", names("notskerryline.example"))
		}, "", "root", pki.NameConstraint, 2},
		{"one name within, one outside", func(f *forge) {
			f.make("root", "", within("skerryline.example"))
			f.make("leaf", "root", names("a.skerryline.example", "a.harbour.example"))
		}, "", "root", pki.NameConstraint, 2},
		{"outside the domain of one between", func(f *forge) {
			f.make("root", "")
			f.make("one", "root", within("harbour.example"))
			f.make("leaf", "one")
		}, "one", "root", pki.NameConstraint, 3},
		{"inside what is excluded",
			func(f *forge) {
				f.make("root", "", outside("skerryline.example"))
				f.make("leaf",
					"root")
			}, "", "root", pki.NameConstraint, 2},
		{"outside its network", func(f *forge) {
			f.make("root", "", network("198.51.100.0/24", false))
			f.make("leaf", "root", names("203.0.113.7"))
		}, "", "root", pki.NameConstraint, 2},
		{"inside an excluded network", func(f *forge) {
			f.make("root", "", network("198.51.100.0/24", true))
			f.make("leaf", "root", names("198.51.100.7"))
		}, "", "root", pki.NameConstraint, 2},
	} {
		t.Run(test.name, func(t *testing.T) {
			f := &forge{t: t, by: map[string]issued{}}
			test.build(f)
			leaf, between, anchors := f.by["leaf"].Certificate, f.list(
				test.between,
			), f.list(
				test.anchors,
			)
			links, broken := pki.Path(leaf, between, anchors)
			if broken != test.want || len(links) != test.at || links[0] != leaf {
				t.Errorf(
					"%d links, broken by %q; expected %d and %q",
					len(links),
					broken,
					test.at,
					test.want,
				)
			}
			for i := range len(links) - 1 {
				if links[i].CheckSignatureFrom(links[i+1]) != nil && broken != pki.NotAuthority {
					t.Errorf("link %d is not signed by the next", i)
				}
			}
			options := x509.VerifyOptions{
				Roots:         pool(anchors),
				Intermediates: pool(between),
				CurrentTime:   day,
				KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
			}
			// The standard package takes an anchor's own constraints for granted unless it is a
			// root.
			if _, err := leaf.Verify(
				options,
			); (err == nil) != (broken == pki.Whole) &&
				test.at > 1 {
				t.Errorf("the standard package says %v", err)
			}
			if openssl != "" {
				if said, ok := asked(
					t,
					openssl,
					leaf,
					between,
					anchors,
				); ok != (broken == pki.Whole) {
					t.Errorf("openssl says %s", said)
				}
			}
		})
	}
}

func three(f *forge) { f.make("root", ""); f.make("one", "root"); f.make("leaf", "one") }

func four(f *forge) {
	f.make("root", "")
	f.make("one", "root")
	f.make("two", "one")
	f.make("leaf", "two")
}

func pool(list []*x509.Certificate) *x509.CertPool {
	p := x509.NewCertPool()
	for _, c := range list {
		p.AddCert(c)
	}
	return p
}

// asked has openssl verify a chain on the day of the test.
func asked(
	t *testing.T,
	openssl string,
	leaf *x509.Certificate,
	between, anchors []*x509.Certificate,
) (said string, ok bool) {
	t.Helper()
	dir := t.TempDir()
	put := func(name string, list ...*x509.Certificate) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(pki.Bundle(list...)), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	args := []string{
		"verify",
		"-no-CApath",
		"-no-CAstore",
		"-partial_chain",
		"-attime",
		"1795176000",
		"-CAfile",
		put("anchors.pem", anchors...),
	}
	if len(between) > 0 {
		args = append(args, "-untrusted", put("between.pem", between...))
	}
	out, err := exec.Command(openssl, append(args, put("leaf.pem", leaf))...).CombinedOutput()
	return string(out), err == nil
}
