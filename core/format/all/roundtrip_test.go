package all_test

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/google/go-cmp/cmp"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// equal compares connections with their secrets in the open; the difference is told
// without them.
func equal(a, b vpn.Connection) bool {
	return cmp.Equal(a, b, cmp.Comparer(func(x, y secret.Text) bool { return x.Equal(y) }))
}

// hostile are pieces that end a value, or begin something else, in one format or
// another.
var hostile = []string{
	"'",
	"''",
	"\"",
	"`",
	"$",
	"$(calc)",
	"${x}",
	"%",
	"%n",
	"\\",
	"\\n",
	"\\s",
	";",
	"#",
	"=",
	"[vpn]",
	"]",
	"<",
	">",
	"</string>",
	"<!--",
	"]]>",
	"&",
	"&amp;",
	"&#10;",
	"‘",
	"’",
	"‚",
	"‛",
	"“",
	"\u202e",
	"\u200b",
	"\u200f",
	"\ufeff",
	"\u00a0",
	" ",
	"  ",
	"@(",
	")",
	"}",
	"$true",
	"0s",
	"ü",
	"漢",
	"😀",
	"\ufffd",
	"/",
	"'; Remove-Item C:\\ #",
	"\n",
	"\r\n",
	"\x00",
	"\x1b",
	"\x7f",
	"\u0085",
	"\u2028",
	"\ufffe",
	"\xff",
	"\ngateway=evil.example",
	"\r[vpn]",
}

func hostileText(r *rand.Rand) string {
	var b strings.Builder
	for range r.IntN(6) {
		if r.IntN(3) == 0 {
			b.WriteString([]string{"a", "fjell", "Norrvik 7"}[r.IntN(3)])
		}
		b.WriteString(hostile[r.IntN(len(hostile))])
	}
	if r.IntN(50) == 0 {
		b.WriteString(strings.Repeat("x'", 500))
	}
	return b.String()
}

// readBack reads what was written, with the files beside it, and holds that nothing but
// secrets is remarked.
func readBack(t *testing.T, codec format.Codec, files []format.File) vpn.Connection {
	t.Helper()
	reading := codec.Read(files[0].Name, files[0].Content, format.Files(files))
	if len(reading.Connections) != 1 {
		t.Fatalf(
			"%d connections read back from\n%s\nnotes: %v",
			len(reading.Connections),
			files[0].Content,
			reading.Notes,
		)
	}
	for _, n := range reading.Notes {
		if n.Kind != format.SecretClear && n.Kind != format.PrivateKeyClear &&
			n.Kind != format.Unsigned {
			t.Fatalf("read back with the note %s (%s) from\n%s", n.Kind, n.Found, files[0].Content)
		}
	}
	for _, u := range reading.NotCarried {
		if u.What != "TrustedRootCA" { // a digest, of which no certificate can be made
			t.Fatalf("read back, %v is not carried, from\n%s", u, files[0].Content)
		}
	}
	return reading.Connections[0].Connection
}

// TestEveryWay writes every protocol and way in every format, reads it back and holds it
// to what is documented.
func TestEveryWay(t *testing.T) {
	table := documented(t)
	for name, c := range ways() {
		for _, codec := range all.Codecs {
			t.Run(name+"/"+string(codec.Name), func(t *testing.T) {
				files, err := codec.Write(c)
				found := "yes"
				var unfit *format.UnfitError
				if errors.As(err, &unfit) {
					found = "no: " + string(unfit.Field)
				} else if err != nil {
					t.Fatal(err)
				} else if got, want :=
					readBack(t, codec, files), codec.Carried(c); !equal(got, want) {
					t.Fatalf(
						"read back something else: %s\nfrom\n%s",
						differences(got, want),
						files[0].Content,
					)
				}
				again, _ := codec.Write(c)
				for i := range again {
					if string(again[i].Content) != string(files[i].Content) {
						t.Errorf("%s differs when it is written again", files[i].Name)
					}
				}
				if masked, err := codec.Write(c.Masked()); (err == nil) != (unfit == nil) {
					t.Errorf("with masks in the place of secrets: %v", err)
				} else {
					for _, f := range masked {
						for _, hidden := range []string{c.Password.Reveal(), c.PSK().Reveal()} {
							if len(hidden) > 2 && strings.Contains(string(f.Content), hidden) {
								t.Errorf("%s shows a secret behind its mask", f.Name)
							}
						}
					}
				}
				if documented := table[name][string(codec.Name)]; documented != found {
					t.Errorf("docs/formats.md says %q, found %q", documented, found)
				}
			})
		}
	}
}

// documented reads the table in docs/formats.md.
func documented(t *testing.T) map[string]map[string]string {
	t.Helper()
	data, err := os.ReadFile("../../../docs/formats.md")
	if err != nil {
		t.Fatal(err)
	}
	table, columns := map[string]map[string]string{}, []string(nil)
	for line := range strings.SplitSeq(string(data), "\n") {
		cells := strings.Split(strings.Trim(line, "| "), "|")
		for i := range cells {
			cells[i] = strings.Trim(cells[i], " `")
		}
		switch {
		case cells[0] == "protocol and way":
			columns = cells
		case len(columns) > 0 && len(cells) == len(columns) && !strings.HasPrefix(cells[0], "-"):
			table[cells[0]] = map[string]string{}
			for i, c := range cells[1:] {
				if slices.Contains([]string{"connects", "signs in", "accepted", "read back"}, c) {
					c = "yes" // how far it was proven, make test-connect holds
				}
				table[cells[0]][columns[i+1]] = c
			}
		case len(columns) > 0 && !strings.HasPrefix(line, "|"):
			columns = nil
		}
	}
	return table
}

// differences names the values in which two connections differ, never a secret.
func differences(a, b vpn.Connection) string {
	return cmp.Diff(a, b, cmp.Comparer(func(x, y secret.Text) bool { return x.Equal(y) }))
}

// TestHostileValues writes connections full of hostile text, more than ten thousand
// strings for each format. Each is either refused by name of field or read back as
// exactly what was meant.
func TestHostileValues(t *testing.T) {
	for _, codec := range all.Codecs {
		t.Run(string(codec.Name), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(4, 2))
			carried, refused, strings := 0, 0, 0
			put := func(fields ...*string) {
				for _, f := range fields {
					if r.IntN(5) == 0 {
						*f = hostileText(r) + "."
						strings++
					}
				}
			}
			for n := 0; strings < 10_000; n++ {
				c := sample(codec.Protocols[n%len(codec.Protocols)])
				c.Identity = nil
				put(
					&c.Name,
					&c.Server,
					&c.Login,
					&c.Organisation,
					&c.Domains[0],
					&c.Demand.Domains[0],
					&c.Demand.Suffixes[0],
					&c.Demand.Networks[0],
					&c.Demand.Probe,
					&c.Proxy.Script,
					&c.Proxy.Bypass[0],
				)
				password, psk := hostileText(r), hostileText(r)
				c.Password = secret.New(password)
				strings++
				switch c.Protocol {
				case vpn.L2TP:
					c.L2TP.PSK = secret.New(psk)
					if n%7 == 0 {
						c.L2TP.Group, c.L2TP.Aggressive = hostileText(r), true
					}
				case vpn.IKEv2:
					if n%2 == 0 {
						c.IKEv2.Auth, c.IKEv2.PSK = vpn.IKEv2PSK, secret.New(psk)
					}
					put(&c.IKEv2.LocalID, &c.IKEv2.RemoteID)
				case vpn.TLS:
					c.TLS.Auth, c.TLS.Control = vpn.TLSPassword, nil
					put(
						&c.TLS.Remotes[0].Address,
						&c.TLS.Remotes[1].Address,
						&c.TLS.ServerName,
						&c.TLS.Digest,
						&c.TLS.Ciphers[0],
					)
				case vpn.SSTP:
					put(&c.SSTP.ServerName)
				}
				if r.IntN(2) == 0 {
					c.Tunnel, c.PasswordMode, c.Connect, c.Demand =
						vpn.TunnelFull, vpn.PasswordPrompted, vpn.Always, nil
				}
				files, err := codec.Write(c)
				if err != nil {
					var unfit *format.UnfitError
					if !errors.As(err, &unfit) || unfit.Field == "" {
						t.Fatalf("refused without naming the field: %v", err)
					}
					refused++
					continue
				}
				carried++
				if got, want := readBack(t, codec, files), codec.Carried(c); !equal(got, want) {
					t.Fatalf("%s\nfrom\n%s", differences(got, want), files[0].Content)
				}
			}
			if carried < 50 || refused < 50 {
				t.Fatalf(
					"%d carried and %d refused: the strings no longer try both ways",
					carried,
					refused,
				)
			}
		})
	}
}

// TestCarried names what each format leaves off, so that Carried cannot hide a loss.
func TestCarried(t *testing.T) {
	want := map[string]string{}
	for line := range strings.SplitSeq(strings.TrimSpace(lost), "\n") {
		name, fields, _ := strings.Cut(line, ": ")
		want[name] = fields
	}
	for _, codec := range all.Codecs {
		for _, p := range codec.Protocols {
			c := sample(p)
			c.Identity = nil
			if c.TLS != nil {
				c.TLS.Auth = vpn.TLSPassword
			}
			c.Routes = []string{"10.20.0.0/16", "2001:db8:20::/48"}
			name := string(codec.Name) + " " + string(p)
			if got := strings.Join(format.Lost(c, codec), " "); got != want[name] {
				t.Errorf("%s: %s", name, got)
			}
		}
	}
}

// trailer ends a binary property list of a few objects.
func trailer(objects, table string) string {
	zeros := strings.Repeat("\x00", 7)
	return zeros[:6] + "\x01\x01" + zeros + objects + zeros + "\x00" + zeros + table
}

// TestBrokenFiles shows that a reader says what is wrong and where.
func TestBrokenFiles(t *testing.T) {
	head := `<?xml version="1.0"?><plist version="1.0"><dict><key>PayloadType</key><string>` +
		`Configuration</string>`
	for _, test := range []struct {
		name, file, data string
		kind             format.NoteKind
		line             int
	}{
		{"empty profile", "a.mobileconfig", "", format.Unreadable, 1},
		{"cut short", "a.mobileconfig", head + "\n<key>PayloadContent</key><arr", format.CutShort,
			2},
		{"own entities", "a.mobileconfig",
			`<!DOCTYPE plist [<!ENTITY a "aaaa">]><plist><string>&a;</string></plist>`,
			format.Unreadable, 1},
		{"nested too deep", "a.mobileconfig", "<plist>" + strings.Repeat("<array>", 100),
			format.Unreadable, 1},
		{"UTF-16", "a.mobileconfig", "\xff\xfe<\x00", format.CutShort, 1},
		{"binary, cut short", "a.mobileconfig", "bplist00", format.CutShort, 1},
		{"binary, in a ring", "a.mobileconfig", "bplist00\xA1\x00\x08" + trailer("\x01", "\x0A"),
			format.Unreadable, 1},
		{"binary, growing", "a.mobileconfig",
			"bplist00\xA4\x01\x01\x01\x01\xA4\x00\x00\x00\x00\x08\x0D" +
				trailer("\x02", "\x12"), format.Unreadable, 1},
		{"binary, offset outside", "a.mobileconfig", "bplist00\xA1\x00\xFF" +
			trailer("\x01", "\x0A"), format.Unreadable, 1},
		{"key twice", "a.mobileconfig", head +
			"\n<key>PayloadType</key><string>Configuration</string><key>PayloadContent</key><array/></dict></plist>", format.KeyTwice, 2},
		{"broken base64", "a.mobileconfig", head + "\n<key>X</key>\n<data>*</data></dict></plist>",
			format.Unreadable, 3},
		{"unrelated payload", "a.mobileconfig", head +
			"<key>PayloadContent</key><array>\n" +
			"<dict><key>PayloadType</key><string>com.apple.mobiledevice.passwordpolicy</string></dict></array></dict></plist>", format.Unrelated, 2},
		{"no connection", "a.nmconnection", "# nothing\n", format.Unreadable, 1},
		{"key outside a group", "a.nmconnection", "id=x\n", format.Unreadable, 1},
		{"gateway twice", "a.nmconnection", "[connection]\ntype=vpn\n[vpn]\ngateway=a\ngateway=b\n",
			format.KeyTwice, 5},
		{"unknown key", "a.nmconnection", "[connection]\nfoo=1\n", format.KeyUnknown, 2},
		{"unknown escape", "a.nmconnection", "[connection]\ntype=v\\pn\n", format.KeyMalformed, 2},
		{"foreign script", "a.ps1", "\ufeffGet-Date\r\n", format.NotYetRead, 1},
		{"a command as value", "a.ps1", "\ufeff# x\r\n" + "#Requires -Version 4.0\r\n#Requires " +
			"-RunAsAdministrator\r\n\r\n$Connection = @{\r\n    Id = $(calc)\r\n}\r\n",
			format.Unreadable, 6},
		{"unknown format", "a.txt", "hello", format.Unreadable, 1},
	} {
		t.Run(test.name, func(t *testing.T) {
			reading := all.Read(test.file, []byte(test.data), nil)
			i := slices.IndexFunc(
				reading.Notes,
				func(n format.Note) bool { return n.Kind == test.kind },
			)
			if i < 0 {
				t.Fatalf("notes %v, expected one of kind %s", reading.Notes, test.kind)
			}
			if at := reading.Notes[i].At; at.Line != test.line || at.File != test.file {
				t.Errorf("at %v, expected line %d", at, test.line)
			}
		})
	}
}

// TestChangedScript adds one line to a script's body, and changes a thumbprint.
func TestChangedScript(t *testing.T) {
	codec, _ := all.ByName("powershell")
	files, err := codec.Write(sample(codec.Protocols[0]))
	if err != nil {
		t.Fatal(err)
	}
	changed := append(slices.Clone(files[0].Content), "Remove-Item C:\\ -Recurse\r\n"...)
	other := regexp.MustCompile(`(Thumbprints +=) @\('[0-9A-F]+`).
		ReplaceAll(files[0].Content, []byte("$1 @('00"))
	for _, test := range []struct {
		content []byte
		want    bool
	}{{files[0].Content, false}, {changed, true}, {other, true}} {
		reading := codec.Read("x.ps1", test.content, nil)
		if got := slices.ContainsFunc(
			reading.Notes,
			func(n format.Note) bool { return n.Kind == format.ScriptChanged },
		); got != test.want {
			t.Errorf("changed = %t, expected %t", got, test.want)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, codec := range all.Codecs {
		for _, p := range codec.Protocols {
			files, err := codec.Write(sample(p))
			if err != nil {
				f.Fatal(err)
			}
			f.Add(files[0].Content)
		}
	}
	elsewhere, _ := filepath.Glob("../../corpus/testdata/*/*/*/*")
	for _, name := range elsewhere {
		if data, err := os.ReadFile(name); err == nil && filepath.Base(name) != "case.json" {
			f.Add(data)
		}
	}
	f.Add(
		[]byte(
			`<plist><dict><key>PayloadContent</key><array><dict><key>PayloadType</key><string>` +
				`com.apple.vpn.managed</string><key>VPNType</key><string>L2TP</string></dict>` +
				`</array></dict></plist>`,
		),
	)
	f.Add(
		[]byte(
			"\ufeff# x\n#Requires -Version 4.0\n#Requires -RunAsAdministrator\n\n$Connection = " +
				"@{\n}\nx",
		),
	)
	f.Add(
		[]byte(
			"[connection]\ntype=vpn\n[vpn]\nservice-type=org.freedesktop.NetworkManager.l2tp\n" +
				"ipsec-enabled=yes\n",
		),
	)
	f.Add([]byte("Server: n.example\nUser: a\n| PSK | `kelp` |\n**Type:** L2TP\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, codec := range slices.Concat(all.Codecs, all.Texts) {
			reading := codec.Read("f", data, nil)
			for _, n := range reading.Notes {
				if n.At.File != "f" || n.At.Line == 0 {
					t.Fatalf("%s: a note without its place: %v", codec.Name, n)
				}
			}
			for _, c := range reading.Connections {
				for field, at := range c.Positions {
					if at.File != "f" || at.Line == 0 {
						t.Fatalf("%s: %s without its place: %v", codec.Name, field, at)
					}
				}
			}
		}
	})
}
