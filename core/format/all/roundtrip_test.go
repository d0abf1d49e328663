package all_test

import (
	"encoding/json"
	"errors"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/google/go-cmp/cmp"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// equal compares connections with their secrets in the open; the difference is told
// without them.
func equal(a, b vpn.Connection) bool {
	return cmp.Equal(a, b, cmp.Comparer(func(x, y secret.Text) bool { return x.Equal(y) }))
}

func sample() vpn.Connection {
	return vpn.Connection{
		Name: "Skerry Line Norrvik", UUID: "6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11", Identifier: "example.skerryline.vpn.p-1", Organisation: "Skerry Line",
		Protocol: vpn.L2TP, Server: "norrvik.skerryline.example", Login: "a_fjell@crew", Password: secret.New("pw"), Keep: vpn.KeepSaved,
		Scope: vpn.ScopeMachine, Tunnel: vpn.TunnelSplit, Routes: []string{"2001:db8:20::/48", "10.20.0.0/16"}, DNS: []string{"10.20.0.53"}, Domains: []string{"inside.skerryline.example"},
		L2TP: &vpn.L2TPSetting{PSK: secret.New("key"), PPP: []suite.PPPMethod{suite.MSCHAPv2}, IKE: []string{"aes256-sha256-modp2048"}, ESP: []string{"aes256-sha256"}, BehindNAT: true},
	}
}

// hostile are pieces that end a value, or begin something else, in one format or
// another.
var hostile = []string{
	"'", "''", "\"", "`", "$", "$(calc)", "${x}", "%", "%n", "\\", "\\n", "\\s", ";", "#", "=", "[vpn]", "]", "<", ">", "</string>", "<!--", "]]>", "&", "&amp;", "&#10;",
	"‘", "’", "‚", "‛", "“", "\u202e", "\u200b", "\u200f", "\ufeff", "\u00a0", " ", "  ", "@(", ")", "}", "$true", "0s", "ü", "漢", "😀", "\ufffd", "/", "'; Remove-Item C:\\ #",
	"\n", "\r\n", "\x00", "\x1b", "\x7f", "\u0085", "\u2028", "\ufffe", "\xff", "\ngateway=evil.example", "\r[vpn]",
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

// TestHostileValues writes thousands of connections full of hostile text. Each is
// either refused by name of field or read back as exactly what was meant.
func TestHostileValues(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	for _, codec := range all.Codecs {
		t.Run(string(codec.Name), func(t *testing.T) {
			carried, refused := 0, 0
			for range 4000 {
				c := sample()
				for _, field := range []*string{&c.Name, &c.Server, &c.Login, &c.Organisation, &c.Domains[0]} {
					if r.IntN(3) == 0 {
						*field = hostileText(r) + "."
					}
				}
				c.Password, c.L2TP.PSK = secret.New(hostileText(r)), secret.New(hostileText(r))
				if r.IntN(2) == 0 {
					c.Tunnel, c.Keep = vpn.TunnelFull, vpn.KeepAsked
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
				reading := codec.Read(files[0].Name, files[0].Content)
				if len(reading.Connections) != 1 {
					t.Fatalf("%d connections read back from\n%s\nnotes: %v", len(reading.Connections), files[0].Content, reading.Notes)
				}
				for _, n := range reading.Notes {
					if n.Kind != format.SecretClear {
						t.Fatalf("read back with the note %s (%s) from\n%s", n.Kind, n.Found, files[0].Content)
					}
				}
				if got, want := reading.Connections[0].Connection, codec.Carried(c); !equal(got, want) {
					t.Fatalf("read back\n%#v\nwant\n%#v\nfrom\n%s", got.L2TP, want.L2TP, files[0].Content)
				}
			}
			if carried < 500 || refused < 500 {
				t.Fatalf("%d carried and %d refused: the strings no longer try both ways", carried, refused)
			}
		})
	}
}

// TestCarried names what each format must carry, so that Carried cannot hide a loss.
func TestCarried(t *testing.T) {
	lost := map[string][]string{
		"apple":      {"behind_nat", "esp", "ike", "ppp", "routes"},
		"powershell": {"esp", "identifier", "ike"},
		"keyfile":    {"behind_nat", "identifier", "organisation"},
	}
	fields := func(c vpn.Connection) map[string]string {
		m := map[string]string{}
		for _, v := range []any{c, c.L2TP} {
			data, err := json.Marshal(v)
			if err != nil {
				t.Fatal(err)
			}
			var part map[string]json.RawMessage
			if err := json.Unmarshal(data, &part); err != nil {
				t.Fatal(err)
			}
			for k, v := range part {
				m[k] = string(v)
			}
		}
		delete(m, "l2tp")
		return m
	}
	for _, codec := range all.Codecs {
		c := sample()
		c.Routes = []string{"10.20.0.0/16", "2001:db8:20::/48"}
		full, kept := fields(c), fields(codec.Carried(c))
		var missing []string
		for k := range full {
			if full[k] != kept[k] {
				missing = append(missing, k)
			}
		}
		slices.Sort(missing)
		if want := lost[string(codec.Name)]; !slices.Equal(missing, want) {
			t.Errorf("%s leaves %v off, expected %v", codec.Name, missing, want)
		}
	}
}

// TestBrokenFiles shows that a reader says what is wrong and where.
func TestBrokenFiles(t *testing.T) {
	head := `<?xml version="1.0"?><plist version="1.0"><dict><key>PayloadType</key><string>Configuration</string>`
	for _, test := range []struct {
		name, file, data string
		kind             format.NoteKind
		line             int
	}{
		{"empty profile", "a.mobileconfig", "", format.Unreadable, 1},
		{"cut short", "a.mobileconfig", head + "\n<key>PayloadContent</key><arr", format.Unreadable, 2},
		{"own entities", "a.mobileconfig", `<!DOCTYPE plist [<!ENTITY a "aaaa">]><plist><string>&a;</string></plist>`, format.Unreadable, 1},
		{"nested too deep", "a.mobileconfig", "<plist>" + strings.Repeat("<array>", 100), format.Unreadable, 1},
		{"UTF-16", "a.mobileconfig", "\xff\xfe<\x00", format.Unreadable, 1},
		{"binary", "a.mobileconfig", "bplist00", format.Unreadable, 1},
		{"key twice", "a.mobileconfig", head + "\n<key>PayloadType</key><string>Configuration</string><key>PayloadContent</key><array/></dict></plist>", format.KeyTwice, 2},
		{"broken base64", "a.mobileconfig", head + "\n<key>X</key>\n<data>*</data></dict></plist>", format.Unreadable, 3},
		{"unrelated payload", "a.mobileconfig", head + "<key>PayloadContent</key><array>\n<dict><key>PayloadType</key><string>com.apple.mobiledevice.passwordpolicy</string></dict></array></dict></plist>", format.Unrelated, 2},
		{"no connection", "a.nmconnection", "# nothing\n", format.Unreadable, 1},
		{"key outside a group", "a.nmconnection", "id=x\n", format.Unreadable, 1},
		{"gateway twice", "a.nmconnection", "[connection]\ntype=vpn\n[vpn]\ngateway=a\ngateway=b\n", format.KeyTwice, 5},
		{"unknown key", "a.nmconnection", "[connection]\nfoo=1\n", format.KeyUnknown, 2},
		{"unknown escape", "a.nmconnection", "[connection]\ntype=v\\pn\n", format.KeyMalformed, 2},
		{"foreign script", "a.ps1", "\ufeffGet-Date\r\n", format.NotYetRead, 1},
		{"a command as value", "a.ps1", "\ufeff# x\r\n" + "#Requires -Version 4.0\r\n#Requires -RunAsAdministrator\r\n\r\n$Connection = @{\r\n    Id = $(calc)\r\n}\r\n", format.Unreadable, 6},
		{"unknown format", "a.txt", "hello", format.Unreadable, 1},
	} {
		t.Run(test.name, func(t *testing.T) {
			reading := all.Read(test.file, []byte(test.data))
			i := slices.IndexFunc(reading.Notes, func(n format.Note) bool { return n.Kind == test.kind })
			if i < 0 {
				t.Fatalf("notes %v, expected one of kind %s", reading.Notes, test.kind)
			}
			if at := reading.Notes[i].At; at.Line != test.line || at.File != test.file {
				t.Errorf("at %v, expected line %d", at, test.line)
			}
		})
	}
}

// TestChangedScript adds one line to a script's body.
func TestChangedScript(t *testing.T) {
	codec, _ := all.ByName("powershell")
	files, err := codec.Write(sample())
	if err != nil {
		t.Fatal(err)
	}
	changed := append(slices.Clone(files[0].Content), "Remove-Item C:\\ -Recurse\r\n"...)
	for _, test := range []struct {
		content []byte
		want    bool
	}{{files[0].Content, false}, {changed, true}} {
		reading := codec.Read("x.ps1", test.content)
		if got := slices.ContainsFunc(reading.Notes, func(n format.Note) bool { return n.Kind == format.ScriptChanged }); got != test.want {
			t.Errorf("changed = %t, expected %t", got, test.want)
		}
	}
}

// TestForeignParsers runs the real parsers of other projects on what is written.
func TestForeignParsers(t *testing.T) {
	dir := t.TempDir()
	c := sample()
	c.Name, c.Login = ` Norrvik \ "=;#$`, `a'fjell<&>\s`
	for _, codec := range all.Codecs {
		files, err := codec.Write(c)
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, files[0].Name)
		if err := os.WriteFile(path, files[0].Content, 0o600); err != nil {
			t.Fatal(err)
		}
		switch codec.Name {
		case "apple":
			out := run(t, nil, "xmllint", "--noout", "--nonet", path)
			if out != "" {
				t.Errorf("xmllint: %s", out)
			}
			binary := path + ".binary"
			run(t, nil, "plistutil", "-i", path, "-o", binary)
			back := codec.Read("back.mobileconfig", []byte(run(t, nil, "plistutil", "-i", binary)))
			if len(back.Connections) != 1 || !equal(back.Connections[0].Connection, codec.Carried(c)) {
				t.Errorf("through the binary form it is something else; notes %v", back.Notes)
			}
		case "keyfile":
			out := run(t, files[0].Content, "nmcli", "--offline", "connection", "modify", "connection.autoconnect", "no")
			back := codec.Read("back.nmconnection", []byte(out))
			if len(back.Connections) != 1 || !equal(back.Connections[0].Connection, codec.Carried(c)) {
				t.Errorf("NetworkManager wrote back something else; notes %v", back.Notes)
			}
		}
	}
}

// run calls a tool of the system; a test without the tool is skipped by name.
func run(t *testing.T, stdin []byte, name string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("%s is not installed", name)
	}
	cmd := exec.Command(path, args...)
	cmd.Stdin = strings.NewReader(string(stdin))
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	return string(out)
}

func FuzzRead(f *testing.F) {
	for _, codec := range all.Codecs {
		files, err := codec.Write(sample())
		if err != nil {
			f.Fatal(err)
		}
		for _, file := range files {
			f.Add(file.Content)
		}
	}
	f.Add([]byte(`<plist><dict><key>PayloadContent</key><array><dict><key>PayloadType</key><string>com.apple.vpn.managed</string><key>VPNType</key><string>L2TP</string></dict></array></dict></plist>`))
	f.Add([]byte("\ufeff# x\n#Requires -Version 4.0\n#Requires -RunAsAdministrator\n\n$Connection = @{\n}\nx"))
	f.Add([]byte("[connection]\ntype=vpn\n[vpn]\nservice-type=org.freedesktop.NetworkManager.l2tp\nipsec-enabled=yes\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, codec := range all.Codecs {
			reading := codec.Read("f", data)
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
