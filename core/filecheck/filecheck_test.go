package filecheck_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/vpn"
)

var now = time.Date(2026, time.November, 20, 0, 0, 0, 0, time.UTC)

const keyfile = `[connection]
id=Skerry Line Norrvik
uuid=6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11
type=vpn

[vpn]
service-type=org.freedesktop.NetworkManager.l2tp
gateway=norrvik.skerryline.example
user=a_fjell
ipsec-enabled=yes
refuse-eap=yes
refuse-pap=yes
refuse-chap=yes
refuse-mschap=yes
ipsec-ike=aes256-sha256-modp2048
ipsec-esp=aes256-sha256-modp2048

[vpn-secrets]
ipsec-psk=kelp-4497-Harbor-mizzen-93-osprey

[ipv4]
method=auto
`

// rules lists the codes of what was found, in order, without doubles.
func rules(items []filecheck.Item, least ...vpn.Severity) string {
	var list []string
	for _, f := range filecheck.Findings(items) {
		if !slices.Contains(list, f.Rule) &&
			(len(least) == 0 || slices.Contains(least, f.Severity)) {
			list = append(list, f.Rule)
		}
	}
	return strings.Join(list, " ")
}

func zipped(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range files {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func tarred(t testing.TB, compressed bool, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	if !compressed {
		w = tar.NewWriter(&b)
	}
	for name, text := range files {
		if err := w.WriteHeader(
			&tar.Header{Name: name, Mode: 0o600, Size: int64(len(text)), Typeflag: tar.TypeReg},
		); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if compressed {
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
	}
	return b.Bytes()
}

func wide(text string, little bool) []byte {
	out := []byte{0xFE, 0xFF}
	if little {
		out = []byte{0xFF, 0xFE}
	}
	for _, u := range utf16.Encode([]rune(text)) {
		if little {
			out = append(out, byte(u), byte(u>>8))
		} else {
			out = append(out, byte(u>>8), byte(u))
		}
	}
	return out
}

// TestShapes reads a sound file in every wrapping, and archives that mean harm.
func TestShapes(t *testing.T) {
	serious := []vpn.Severity{vpn.Error, vpn.Warning}
	deep := []byte(keyfile)
	for range 4 {
		deep = zipped(t, map[string]string{"a.nmconnection": string(deep)})
	}
	many := map[string]string{}
	for i := range 4001 {
		many[fmt.Sprint(i)] = "x"
	}
	for _, test := range []struct {
		name  string
		file  string
		data  []byte
		items int
		want  string
	}{
		{"plain", "a.nmconnection", []byte(keyfile), 1, ""},
		{"by its content", "download", []byte(keyfile), 1, ""},
		{"zip", "a.zip", zipped(t, map[string]string{"x/a.nmconnection": keyfile}), 1, ""},
		{"tar", "a.tar", tarred(t, false, map[string]string{"a.nmconnection": keyfile}), 1, ""},
		{"tar.gz", "a.tar.gz", tarred(t, true,
			map[string]string{"a.nmconnection": keyfile, "b.nmconnection": keyfile}), 2, ""},
		{"zip in tar.gz", "a.tgz", tarred(t, true,
			map[string]string{"b.zip": string(zipped(t,
				map[string]string{"a.nmconnection": keyfile}))}), 1, ""},
		{"UTF-16 of both orders", "a.nmconnection", wide(keyfile, true), 1, "other-encoding"},
		{"UTF-16 big end first", "a.nmconnection", wide(keyfile, false), 1, "other-encoding"},
		{"another ending", "a.ovpn", []byte(keyfile), 1, "name-says-other"},
		{"nothing", "a.nmconnection", []byte(" \n"), 1, "file-empty"},
		{"out of its folder", "a.zip", zipped(t, map[string]string{"../../etc/x": keyfile}), 1,
			"archive-refused"},
		{"out of its folder, the other way", "a.zip", zipped(t, map[string]string{`..\x`: keyfile}),
			1, "archive-refused"},
		{"from the root", "a.tar", tarred(t, false, map[string]string{"/etc/x": keyfile}), 1,
			"archive-refused"},
		{"growing", "a.zip", zipped(t, map[string]string{"a.ovpn": strings.Repeat("a", 7<<20)}), 1,
			"archive-refused"},
		{"growing in gzip", "a.ovpn.gz", func() []byte {
			var b bytes.Buffer
			z := gzip.NewWriter(&b)
			_, _ = z.Write(bytes.Repeat([]byte("a"), 64<<20))
			_ = z.Close()
			return b.Bytes()
		}(), 1, "archive-refused"},
		{"archives in archives", "a.zip", deep, 1, "archive-refused"},
		{"too many", "a.zip", zipped(t, many), 4001, "archive-refused"},
		{"cut short", "a.zip", zipped(t, map[string]string{"a": keyfile})[:100], 1,
			"archive-refused"},
		{"cut short in gzip", "a.tgz", tarred(t, true, map[string]string{"a": keyfile})[:60], 1,
			"archive-refused"},
		{"nothing that is known", "a.bin", []byte("hello"), 1, "file-unreadable"},
	} {
		t.Run(test.name, func(t *testing.T) {
			items := filecheck.Check(
				[]filecheck.File{{Name: test.file, Data: test.data, Asked: true}},
				filecheck.Options{Now: now},
			)
			if got := rules(items, serious...); got != test.want || len(items) != test.items {
				t.Errorf(
					"%d files, found %q, expected %d and %q",
					len(items),
					got,
					test.items,
					test.want,
				)
			}
			for _, i := range items {
				for _, f := range i.Findings {
					if f.Position == nil || f.Position.File == "" || f.Found == "" {
						t.Errorf("%s without its place: %+v", f.Rule, f)
					}
				}
			}
		})
	}
}

// TestFix fixes what is mechanical in every kind of writing, and leaves the rest as it is,
// byte for byte.
func TestFix(t *testing.T) {
	profile := `<?xml version="1.0"?>
<plist version="1.0"><dict><key>PayloadType</key><string>Configuration</string><key>PayloadUUID</key><string>6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string>
<key>PayloadContent</key><array><dict><key>PayloadType</key><string>com.apple.vpn.managed</string><key>VPNType</key><string>L2TP</string>
<key>IPSec</key><dict><key>AuthenticationMethod</key><string>SharedSecret</string><key>SharedSecret</key>
<data>a2VscC00NDk3LUhhcmJvci1taXp6ZW4tOTMtb3NwcmV5IA==</data></dict><!-- stays -->
</dict></array></dict></plist>
`
	for _, test := range []struct {
		name, file, text, old, new string
		done                       string
	}{
		{"blank behind a login", "a.nmconnection", keyfile, "user=a_fjell\n", "user=a_fjell \n",
			"edge-space"},
		{"blank before it, escaped", "a.nmconnection", keyfile, "user=a_fjell\n", `user=\sa_fjell` +
			"\n", "edge-space"},
		{"zero-width space", "a.nmconnection", keyfile, "user=a_fjell\n", "user=a_\u200bfjell\n",
			"invisible-character"},
		{"en dash", "a.nmconnection", keyfile, "user=a-fjell\n", "user=a\u2013fjell\n",
			"lookalike-character"},
		{"web address", "a.nmconnection", keyfile, "gateway=norrvik.skerryline.example\n",
			"gateway=https://norrvik.skerryline.example/\n", "address-with-scheme"},
		{"port", "a.nmconnection", keyfile, "gateway=norrvik.skerryline.example\n",
			"gateway=norrvik.skerryline.example:1701\n", "address-with-port"},
		{"international name", "a.nmconnection", keyfile, "gateway=xn--tllholm-5wa.example\n",
			"gateway=tällholm.example\n", "address-not-ascii"},
		{"blank in a key", "a.nmconnection", keyfile,
			"ipsec-psk=kelp-4497-Harbor-mizzen-93-osprey\n",
			"ipsec-psk=kelp-4497-Harbor-mizzen-93-osprey \n", "edge-space"},
		{"blank in a key in base64", "a.mobileconfig", profile,
			"a2VscC00NDk3LUhhcmJvci1taXp6ZW4tOTMtb3NwcmV5<",
			"a2VscC00NDk3LUhhcmJvci1taXp6ZW4tOTMtb3NwcmV5IA==<", "edge-space"},
		{"compression", "a.ovpn", "client\nremote n.example\nremote-cert-tls server\n", "",
			"comp-lzo\n", "tunnel-compressed"},
		{"what came after", "a.ovpn", "client\nremote n.example\n", "remote-cert-tls server\n",
			"ns-cert-type server\n", "directive-outdated"},
		{"host bits", "a.sswan",
			"{\"uuid\":\"6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11\",\"name\":\"N\",\"type\":\"ikev2-eap\",\n\"remote\":{\"addr\":\"n.example\"},\n\"split-tunneling\":{\"subnets\":[\"10.20.0.0/16\"]}}", "10.20.0.0/16", "10.20.3.4/16", "route-host-bits"},
	} {
		t.Run(test.name, func(t *testing.T) {
			broken := strings.Replace(test.text, test.old, test.new, 1)
			switch {
			case test.name == "en dash" || test.name == "international name":
				line := strings.SplitN(test.new, "=", 2)[0]
				i := strings.Index(test.text, "\n"+line+"=") + 1
				end := i + strings.IndexByte(test.text[i:], '\n') + 1
				broken = test.text[:i] + test.new + test.text[end:]
			case test.old == "" || !strings.Contains(test.text, test.old) &&
				!strings.Contains(test.text, test.new):
				broken = test.text + test.new
			case strings.Contains(test.text, test.new):
				broken = test.text
			}
			f := filecheck.File{Name: test.file, Data: []byte(broken)}
			item := filecheck.Check([]filecheck.File{f}, filecheck.Options{Now: now})[0]
			m := filecheck.Fix(f, nil, item)
			i := slices.IndexFunc(m.Done, func(f check.Finding) bool { return f.Rule == test.done })
			if i < 0 {
				t.Fatalf("not fixed; left are %v", rules([]filecheck.Item{{Findings: m.Left}}))
			}
			if want := strings.Replace(broken, test.new, test.old, 1); string(m.New) != want {
				t.Errorf("fixed to\n%s\nexpected\n%s", m.New, want)
			}
			again := filecheck.Check(
				[]filecheck.File{{Name: test.file, Data: m.New}},
				filecheck.Options{Now: now},
			)
			if strings.Contains(rules(again), test.done) {
				t.Errorf("%s is still there", test.done)
			}
		})
	}
	f := filecheck.File{
		Name: "a.nmconnection",
		Data: []byte(strings.Replace(keyfile, "user=a_fjell", "user=a fjell", 1)),
	}
	if m := filecheck.Fix(
		f,
		nil,
		filecheck.Check([]filecheck.File{f}, filecheck.Options{})[0],
	); !bytes.Equal(m.New, m.Old) ||
		len(m.Done) > 0 {
		t.Errorf("a blank inside a login was fixed, which only a person can: %v", m.Done)
	}
}

// FuzzCheck checks whatever comes as a file of any name: it answers for it, and each finding
// has its place.
func FuzzCheck(f *testing.F) {
	files, _ := filepath.Glob("../corpus/testdata/*/*/*/*")
	for _, name := range files {
		if data, err := os.ReadFile(name); err == nil && len(data) < 20_000 {
			f.Add(filepath.Base(name), data)
		}
	}
	f.Add("a.tgz", tarred(f, true, map[string]string{"../b.nmconnection": keyfile}))
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		items := filecheck.Check(
			[]filecheck.File{{Name: name, Data: data, Asked: true}},
			filecheck.Options{Now: now},
		)
		if len(items) == 0 {
			t.Fatal("no answer")
		}
		for _, i := range items {
			for _, found := range i.Findings {
				if found.Rule == "" || found.Position == nil {
					t.Fatalf("%+v has no place", found)
				}
			}
			filecheck.Fix(filecheck.File{Name: name, Data: data}, nil, i)
		}
	})
}
