package apple_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/apple"
	"wardicon/core/vpn"
)

const head = `<?xml version="1.0" encoding="UTF-8"?>
<plist version="1.0"><dict><key>PayloadType</key><string>Configuration</string><key>PayloadIdentifier</key><string>example.skerryline.vpn</string>
<key>PayloadUUID</key><string>6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string><key>PayloadContent</key><array><dict><key>PayloadType</key><string>com.apple.vpn.managed</string>
<key>PayloadVersion</key><integer>1</integer><key>PayloadExpirationDate</key><date>2027-01-01T00:00:00Z</date><key>UserDefinedName</key><string>Tällholm 🛟</string>`

const tail = `</dict></array></dict></plist>`

// TestBinary reads profiles in both forms of a property list, as another program makes the binary
// one: what is in them is the same.
func TestBinary(t *testing.T) {
	if _, err := exec.LookPath("plistutil"); err != nil {
		t.Skip("plistutil, of the package libplist-utils, is not installed")
	}
	for name, inside := range map[string]string{
		"L2TP": `<key>VPNType</key><string>L2TP</string><key>PPP</key><dict><key>CommRemoteAddress</key><string>norrvik.skerryline.example</string><key>AuthName</key><string>a_fjell</string></dict>
<key>IPSec</key><dict><key>AuthenticationMethod</key><string>SharedSecret</string><key>SharedSecret</key><data>a2VscC00NDk3</data></dict><key>IPv4</key><dict><key>OverridePrimary</key><integer>1</integer></dict>`,
		"IKEv2": `<key>VPNType</key><string>IKEv2</string><key>IKEv2</key><dict><key>RemoteAddress</key><string>norrvik.skerryline.example</string><key>RemoteIdentifier</key><string>norrvik.skerryline.example</string>
<key>AuthenticationMethod</key><string>None</string><key>ExtendedAuthEnabled</key><true/><key>AuthName</key><string>` + strings.Repeat("a", 40) + `</string><key>DisableMOBIKE</key><false/><key>IKESecurityAssociationParameters</key><dict>
<key>EncryptionAlgorithm</key><string>AES-256</string><key>IntegrityAlgorithm</key><string>SHA2-256</string><key>DiffieHellmanGroup</key><real>19</real><key>LifeTimeInMinutes</key><integer>1440</integer></dict></dict>
<key>DNS</key><dict><key>ServerAddresses</key><array><string>10.20.0.53</string><string>10.20.0.54</string></array></dict>`,
		"something else": `<key>VPNType</key><string>VPN</string><key>VendorConfig</key><dict>` +
			`<key>ratio</key><real>0.5</real><key>many</key><array>` +
			strings.Repeat("<integer>70000</integer>", 20) + `</array></dict>`,
	} {
		t.Run(name, func(t *testing.T) {
			text := []byte(head + inside + tail)
			path := filepath.Join(t.TempDir(), "a")
			if err := os.WriteFile(path, text, 0o600); err != nil {
				t.Fatal(err)
			}
			convert := exec.Command("plistutil", "-i", path, "-o", path+".binary")
			if out, err := convert.CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			data, err := os.ReadFile(path + ".binary")
			if err != nil || !bytes.HasPrefix(data, []byte("bplist00")) {
				t.Fatalf("not in binary form: %.20q (%v)", data, err)
			}
			said, want := apple.Read(
				"a.mobileconfig",
				data,
				nil,
			), apple.Read(
				"a.mobileconfig",
				text,
				nil,
			)
			if got, whole := connections(said), connections(want); !reflect.DeepEqual(got, whole) {
				t.Errorf("in binary form\n%+v\nas XML\n%+v", got, whole)
			}
			if got, whole := kinds(said), kinds(want); got != whole {
				t.Errorf("remarks %q, as XML %q", got, whole)
			}
			if strings.Contains(kinds(said), string(format.KeyMalformed)) {
				t.Errorf("whole numbers that are written as real ones: %s", kinds(said))
			}
			for _, n := range said.Notes {
				if n.At.File == "" || n.At.Line != 1 {
					t.Errorf("%s has no place: %+v", n.Kind, n.At)
				}
			}
		})
	}
}

func connections(r format.Reading) []vpn.Connection {
	var list []vpn.Connection
	for _, c := range r.Connections {
		list = append(list, c.Connection)
	}
	return list
}

func kinds(r format.Reading) string {
	var list []string
	for _, n := range r.Notes {
		list = append(list, string(n.Kind))
	}
	slices.Sort(list) // a dictionary in binary form has another order
	return strings.Join(list, " ")
}

// TestBinaryHostile reads property lists that mean harm or are cut anywhere: each is an
// answer, and none takes long.
func TestBinaryHostile(t *testing.T) {
	list := func(objects ...string) []byte {
		var b bytes.Buffer
		b.WriteString("bplist00")
		var offsets []byte
		for _, o := range objects {
			offsets = append(offsets, byte(b.Len()))
			b.WriteString(o)
		}
		at := b.Len()
		b.Write(offsets)
		b.Write([]byte{0, 0, 0, 0, 0, 0, 1, 1})
		for _, n := range []int{len(objects), 0, at} {
			b.Write(binary.BigEndian.AppendUint64(nil, uint64(n)))
		}
		return b.Bytes()
	}
	laughs := make([]string, 30) // each array holds the next one four times
	for i := range laughs {
		laughs[i] = "\xA4" + strings.Repeat(string([]byte{byte(i + 1)}), 4)
	}
	whole := list("\xD1\x01\x02", "\x51a", "\xA2\x03\x03", "\x08")
	for name, data := range map[string][]byte{
		"nothing":                 list(),
		"in a ring":               list("\xA1\x00"),
		"a key in a ring":         list("\xD1\x00\x00"),
		"growing":                 list(append(laughs, "\x08")...),
		"a reference to nowhere":  list("\xA1\x09"),
		"longer than it is":       list("\x5F\x12\x7F\xFF\xFF\xFF"),
		"a length that is a text": list("\x5F\x51a"),
		"a length without end":    list("\xAF\x14\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF"),
		"UTF-16 of odd length":    list("\x6F\x10\x05\x00a"),
		"an unknown kind":         list("\x80\x01"),
		"offsets wider than eight": append(whole[:len(whole)-26],
			append([]byte{9}, whole[len(whole)-25:]...)...),
		"only its mark": []byte("bplist00"),
	} {
		r := apple.Read("a.mobileconfig", data, nil)
		if len(r.Connections) > 0 || len(r.Notes) != 1 ||
			r.Notes[0].Kind != format.Unreadable && r.Notes[0].Kind != format.CutShort &&
				name != "nothing" {
			t.Errorf("%s: %d connections, %+v", name, len(r.Connections), r.Notes)
		}
	}
	for i := range whole {
		if r := apple.Read(
			"a.mobileconfig",
			whole[:i],
			nil,
		); len(r.Notes) == 0 ||
			len(r.Connections) > 0 {
			t.Errorf("cut after %d bytes: %+v", i, r)
		}
	}
}
