package suite_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"wardicon/core/suite"
)

func TestWindows(t *testing.T) {
	for _, test := range []struct {
		ike, esp string
		want     suite.WindowsSuite
	}{
		{"aes256-sha256-modp2048", "aes256-sha256",
			suite.WindowsSuite{
				Cipher:     "AES256",
				Transform:  "SHA256128",
				Encryption: "AES256",
				Integrity:  "SHA256",
				Group:      "Group14",
				PFS:        "None",
			}},
		{"aes256gcm16-prfsha256-ecp256", "aes128gcm16",
			suite.WindowsSuite{
				Cipher:     "GCMAES128",
				Transform:  "GCMAES128",
				Encryption: "GCMAES256",
				Integrity:  "SHA256",
				Group:      "ECP256",
				PFS:        "None",
			}},
		{"aes256gcm16-prfsha384-ecp384", "aes256gcm16-ecp384",
			suite.WindowsSuite{
				Cipher:     "GCMAES256",
				Transform:  "GCMAES256",
				Encryption: "GCMAES256",
				Integrity:  "SHA384",
				Group:      "ECP384",
				PFS:        "ECP384",
			}},
		{"3des-sha1-modp1024", "3des-sha1-modp1024",
			suite.WindowsSuite{
				Cipher:     "DES3",
				Transform:  "SHA196",
				Encryption: "DES3",
				Integrity:  "SHA1",
				Group:      "Group2",
				PFS:        "PFS2",
			}},
	} {
		got, err := suite.ToWindows(test.ike, test.esp)
		if err != nil || got != test.want {
			t.Errorf("%s %s: %+v, %v", test.ike, test.esp, got, err)
			continue
		}
		ike, esp, unknown := suite.FromWindows(got)
		if !slices.Equal(ike, []string{test.ike}) || !slices.Equal(esp, []string{test.esp}) ||
			len(unknown) > 0 {
			t.Errorf("%+v: read back as %v %v, unknown %v", got, ike, esp, unknown)
		}
	}
	for _, test := range []struct {
		ike, esp string
		child    bool
	}{
		{"chacha20poly1305-ecp256", "aes256-sha256", false},
		{"aes256gcm16-prfsha512-ecp256", "aes256-sha256", false},
		{"aes256-sha256-prfsha384-ecp256", "aes256-sha256", false},
		{"aes256-sha256-curve25519", "aes256-sha256", false},
		{"aes256-sha256-modp2048", "camellia256-sha256", true},
	} {
		_, err := suite.ToWindows(test.ike, test.esp)
		var carry *suite.CarryError
		if !errors.As(err, &carry) || carry.Child != test.child {
			t.Errorf("%s %s: %v", test.ike, test.esp, err)
		}
	}
	if _, _, unknown := suite.FromWindows(
		suite.WindowsSuite{Encryption: "AES512", Cipher: "AES256", Group: "Group99"},
	); strings.Join(
		unknown,
		" ",
	) != "AES512 Group99" {
		t.Errorf("unknown are %v", unknown)
	}
	if ike, esp, unknown := suite.FromWindows(
		suite.WindowsSuite{},
	); len(
		ike,
	)+len(
		esp,
	)+len(
		unknown,
	) != 0 {
		t.Errorf("nothing is read as %v %v %v", ike, esp, unknown)
	}
}

// TestClosed holds that a closed dialect is read as it is written, name by name.
func TestClosed(t *testing.T) {
	for dialect, names := range suite.Closed {
		for part, d := range map[string]suite.Dialect{"IKE": names.IKE, "ESP": names.ESP} {
			for own, name := range d {
				a, ok := suite.Find(own)
				if !ok || a.Name != own {
					t.Errorf("%s %s: %q is no algorithm of the table", dialect, part, own)
					continue
				}
				if back, ok := d.Own(a.Kind, name); !ok || back != own {
					t.Errorf("%s %s: %s is read as %q, expected %q", dialect, part, name, back, own)
				}
			}
		}
	}
}

func TestForIKE(t *testing.T) {
	for text, want := range map[string]string{
		"aes256-sha256-modp2048":         "aes256-sha256-modp2048",
		"aes256gcm16-ecp384":             "aes256gcm16-prfsha384-ecp384",
		"aes128gcm16-ecp256":             "aes128gcm16-prfsha256-ecp256",
		"chacha20poly1305":               "chacha20poly1305-prfsha384",
		"aes256gcm16-prfsha256-ecp256":   "aes256gcm16-prfsha256-ecp256",
		"aes256gcm16-sha256-ecp256":      "aes256gcm16-prfsha256-ecp256",
		"aes256-sha256-prfsha384-ecp256": "aes256-sha256-prfsha384-ecp256",
	} {
		p, err := suite.Parse(text)
		got := p.ForIKE()
		if err != nil || got.String() != want {
			t.Errorf("%s: %s, expected %s (%v)", text, got, want, err)
		}
		if back, err := suite.Parse(want); err != nil || back != got || !p.Same(back) {
			t.Errorf("%s is read back as %s (%v)", want, back, err)
		}
	}
}

func TestFindCipher(t *testing.T) {
	for _, test := range []struct {
		list []suite.Cipher
		name string
		want string
		aead bool
	}{
		{suite.DataCiphers, "aes-256-gcm", "AES-256-GCM", true},
		{suite.DataCiphers, "BF-CBC", "BF-CBC", false},
		{suite.DataCiphers, "AES-512", "", false},
		{suite.Digests, "sha256", "SHA256", false},
		{suite.Digests, "", "", false},
	} {
		c, ok := suite.FindCipher(test.list, test.name)
		if ok != (test.want != "") || c.Name != test.want || c.AEAD != test.aead ||
			ok && c.Source == "" {
			t.Errorf("%s: %+v", test.name, c)
		}
	}
	for _, list := range [][]suite.Cipher{suite.DataCiphers, suite.Digests} {
		if !slices.IsSortedFunc(
			list,
			func(a, b suite.Cipher) int { return int(b.Worth) - int(a.Worth) },
		) {
			t.Error("a list is not in the order of worth")
		}
	}
}
