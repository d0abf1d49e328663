package all_test

import (
	"bytes"
	"crypto/sha1" // #nosec: thumbprints are what they are
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

var long = regexp.MustCompile(`[A-Za-z0-9+/\s]{400,}={0,2}`)

// opened has openssl open all that files hold of certificates and keys, and counts them by kind.
func opened(
	t *testing.T,
	openssl string,
	files []format.File,
	passphrases []secret.Text,
) map[string]int {
	t.Helper()
	found := map[string]int{}
	dir := t.TempDir()
	run := func(kind string, data []byte, args ...string) bool {
		t.Helper()
		name := filepath.Join(dir, "file")
		if err := os.WriteFile(name, data, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := exec.Command(openssl, append(args, "-in", name)...).
			CombinedOutput(); err != nil {
			return false
		}
		found[kind]++
		return true
	}
	for _, f := range files {
		rest := f.Content
		for {
			var block *pem.Block
			if block, rest = pem.Decode(rest); block == nil {
				break
			}
			switch data := pem.EncodeToMemory(block); block.Type {
			case "CERTIFICATE":
				if !run("certificate", data, "x509", "-noout") {
					t.Errorf("%s: openssl does not open a certificate", f.Name)
				}
			case "PRIVATE KEY":
				if !run("key", data, "pkey", "-noout") {
					t.Errorf("%s: openssl does not open a key", f.Name)
				}
			}
		}
		for _, text := range long.FindAllString(string(f.Content), -1) {
			der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
			if err != nil || len(der) == 0 || der[0] != 0x30 {
				continue
			}
			// openssl takes PKCS #12 without a passphrase for a certificate, too.
			if !bytes.Contains(der[:12], []byte{0x02, 0x01, 0x03, 0x30}) &&
				run("certificate", der, "x509", "-noout", "-inform", "DER") {
				continue
			}
			done := false
			for _, p := range passphrases {
				done = done || run("bag", der, "pkcs12", "-noout", "-passin", "pass:"+p.Reveal())
			}
			if !done && pki.IsBag(der) {
				t.Errorf("%s: openssl opens none of %d bytes in base64", f.Name, len(der))
			}
		}
	}
	return found
}

// TestShapes has openssl open every shape in which certificates and keys reach a device, and holds
// that old releases get the encryption that they open.
func TestShapes(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here: install it")
	}
	authority, identity := certified()
	pair, err := pki.Pair(identity.Certificate, identity.Key)
	if err != nil {
		t.Fatal(err)
	}
	passphrases := []secret.Text{{}}
	for _, old := range []bool{false, true} {
		_, p, err := pki.Pack(pair, old, false)
		if err != nil {
			t.Fatal(err)
		}
		passphrases = append(passphrases, p)
	}
	thumbprint := sha1.Sum(pair.Leaf.Raw)
	for _, test := range []struct {
		format platform.Format
		way    vpn.IKEv2Auth // empty: the TLS tunnel
		old    bool
		want   string // kinds that must be there
		text   string // what must stand in the files
	}{
		{platform.AppleProfile, vpn.IKEv2Certificate, false, "bag certificate",
			passphrases[1].Reveal()},
		{platform.AppleProfile, vpn.IKEv2EAPTLS, true, "bag certificate", passphrases[2].Reveal()},
		{platform.PowerShell, vpn.IKEv2Certificate, false, "bag certificate",
			strings.ToUpper(hex.EncodeToString(thumbprint[:]))},
		{platform.PowerShell, vpn.IKEv2EAPTLS, true, "bag certificate", passphrases[2].Reveal()},
		{platform.Keyfile, vpn.IKEv2Certificate, false, "key certificate", "-key.pem"},
		{platform.Keyfile, "", false, "key certificate", "-cert.pem"},
		{platform.Daemons, vpn.IKEv2Certificate, false, "key certificate", "cacerts = "},
		{platform.SSwan, vpn.IKEv2Certificate, false, "bag certificate", `"p12"`},
		{platform.ONC, vpn.IKEv2Certificate, false, "bag certificate", `"ClientCertRef": "{`},
		{platform.ONC, "", false, "bag certificate", `"ServerCARefs"`},
		{platform.OVPN, "", false, "key certificate", "<cert>"},
		{platform.OVPNFolder, "", false, "key certificate", "cert "},
		{platform.PhoneOVPN, "", false, "key certificate", "<key>"},
		{platform.UCI, "", false, "key certificate", "uci"},
	} {
		codec, ok := all.ByName(test.format)
		if !ok {
			t.Fatalf("no format %s", test.format)
		}
		c := sample(vpn.TLS)
		c.TLS.Auth = vpn.TLSCertificate
		if test.way != "" {
			c = sample(vpn.IKEv2)
			c.IKEv2.Auth = test.way
		}
		c.Authority, c.Identity = authority, &vpn.Identity{
			Certificate: identity.Certificate,
			Key:         identity.Key,
		}
		c.OldPacking = test.old
		files, err := codec.Write(c)
		if err != nil {
			t.Errorf("%s %s: %v", test.format, test.way, err)
			continue
		}
		found := opened(t, openssl, files, passphrases)
		for kind := range strings.FieldsSeq(test.want) {
			if found[kind] == 0 {
				t.Errorf(
					"%s %s: openssl opened %v, expected a %s",
					test.format,
					test.way,
					found,
					kind,
				)
			}
		}
		var whole strings.Builder
		for _, f := range files {
			whole.Write(f.Content)
		}
		if !strings.Contains(whole.String(), test.text) {
			t.Errorf("%s %s: %q is not in its files", test.format, test.way, test.text)
		}
	}
}

// TestAskedPassphrase leaves the passphrase of an identity out of an Apple profile: it stands in a
// file of its own, and the profile is read with it and without.
func TestAskedPassphrase(t *testing.T) {
	codec, _ := all.ByName(platform.AppleProfile)
	c := sample(vpn.IKEv2)
	c.IKEv2.Auth, c.AskPassphrase = vpn.IKEv2Certificate, true
	files, err := codec.Write(c)
	if err != nil || len(files) != 2 || !files[1].Private ||
		!strings.HasSuffix(files[1].Name, "-passphrase.txt") {
		t.Fatalf("%d files (%v)", len(files), err)
	}
	passphrase := strings.TrimSpace(string(files[1].Content))
	if len(passphrase) < 20 || bytes.Contains(files[0].Content, []byte(passphrase)) ||
		bytes.Contains(files[0].Content, []byte("<key>Password</key>")) {
		t.Errorf("the passphrase is %q, and in the profile", passphrase)
	}
	for _, test := range []struct {
		beside format.Beside
		want   bool
	}{
		{format.Files(files), true},
		{nil, false},
		{format.Files([]format.File{{
			Name:    files[1].Name,
			Content: []byte("another"),
		}}), false},
	} {
		r := codec.Read(files[0].Name, files[0].Content, test.beside)
		if len(r.Connections) != 1 || (r.Connections[0].Connection.Identity != nil) != test.want ||
			len(r.Notes) == 0 {
			t.Errorf("read with an identity: %t, expected %t (%+v)", !test.want, test.want, r.Notes)
		}
	}
}
