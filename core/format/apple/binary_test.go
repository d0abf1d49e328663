package apple_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/micromdm/plist"

	"wardicon/core/format"
	"wardicon/core/format/apple"
	"wardicon/core/vpn"
)

const head = `<?xml version="1.0" encoding="UTF-8"?>
<plist version="1.0"><dict><key>PayloadType</key><string>Configuration</string><key>PayloadIdentifier</key><string>example.skerryline.vpn</string>
<key>PayloadUUID</key><string>6F1F6D3A-25A5-5B0C-9D65-0C6A2E1B7A11</string><key>PayloadContent</key><array><dict><key>PayloadType</key><string>com.apple.vpn.managed</string>
<key>PayloadVersion</key><integer>1</integer><key>PayloadExpirationDate</key><date>2027-01-01T00:00:00Z</date><key>UserDefinedName</key><string>Tällholm 🛟</string>`

const tail = `</dict></array></dict></plist>`

// TestBinary reads profiles in both forms of a property list: what is in them is the same.
func TestBinary(t *testing.T) {
	for name, inside := range map[string]string{
		"L2TP": `<key>VPNType</key><string>L2TP</string><key>PPP</key><dict><key>CommRemoteAddress</key><string>norrvik.skerryline.example</string><key>AuthName</key><string>a_fjell</string></dict>
<key>IPSec</key><dict><key>AuthenticationMethod</key><string>SharedSecret</string><key>SharedSecret</key><data>a2VscC00NDk3</data></dict><key>IPv4</key><dict><key>OverridePrimary</key><integer>1</integer></dict>`,
		"IKEv2": `<key>VPNType</key><string>IKEv2</string><key>IKEv2</key><dict><key>RemoteAddress</key><string>norrvik.skerryline.example</string><key>RemoteIdentifier</key><string>norrvik.skerryline.example</string>
<key>AuthenticationMethod</key><string>None</string><key>ExtendedAuthEnabled</key><true/><key>AuthName</key><string>` + strings.Repeat("a", 40) + `</string><key>DisableMOBIKE</key><false/><key>IKESecurityAssociationParameters</key><dict>
<key>EncryptionAlgorithm</key><string>AES-256</string><key>IntegrityAlgorithm</key><string>SHA2-256</string><key>DiffieHellmanGroup</key><integer>19</integer><key>LifeTimeInMinutes</key><integer>1440</integer></dict></dict>
<key>DNS</key><dict><key>ServerAddresses</key><array><string>10.20.0.53</string><string>10.20.0.54</string></array></dict>`,
		"something else": `<key>VPNType</key><string>VPN</string><key>VendorConfig</key><dict><key>ratio</key><real>0.5</real><key>many</key><array>` + strings.Repeat("<integer>70000</integer>", 20) + `</array></dict>`,
	} {
		t.Run(name, func(t *testing.T) {
			text := []byte(head + inside + tail)
			var values any
			if err := plist.Unmarshal(text, &values); err != nil {
				t.Fatal(err)
			}
			e := &encoder{}
			e.add(values)
			data := e.file()
			said, want := apple.Read("a.mobileconfig", data, nil), apple.Read("a.mobileconfig", text, nil)
			if got, whole := connections(said), connections(want); !reflect.DeepEqual(got, whole) {
				t.Errorf("in binary form\n%+v\nas XML\n%+v", got, whole)
			}
			if got, whole := kinds(said), kinds(want); got != whole {
				t.Errorf("remarks %q, as XML %q", got, whole)
			}
			for _, n := range said.Notes {
				if n.At.File == "" || n.At.Line != 1 {
					t.Errorf("%s has no place: %+v", n.Kind, n.At)
				}
			}
		})
	}
}

// encoder writes a binary property list, with references of two bytes.
type encoder struct{ objects [][]byte }

func (e *encoder) add(v any) (ref uint16) {
	ref = uint16(len(e.objects))
	e.objects = append(e.objects, nil)
	head := func(kind byte, n int) []byte {
		if n < 15 {
			return []byte{kind<<4 | byte(n)}
		}
		return binary.BigEndian.AppendUint16([]byte{kind<<4 | 0x0F, 0x11}, uint16(n))
	}
	var o []byte
	switch v := v.(type) {
	case bool:
		o = []byte{map[bool]byte{true: 0x09, false: 0x08}[v]}
	case uint64:
		o = binary.BigEndian.AppendUint64([]byte{0x13}, v)
	case float64:
		o = binary.BigEndian.AppendUint64([]byte{0x23}, math.Float64bits(v))
	case time.Time:
		o = binary.BigEndian.AppendUint64([]byte{0x33}, 0)
	case []byte:
		o = append(head(0x4, len(v)), v...)
	case string:
		if units := utf16.Encode([]rune(v)); len(units) != len(v) {
			for o = head(0x6, len(units)); len(units) > 0; units = units[1:] {
				o = binary.BigEndian.AppendUint16(o, units[0])
			}
		} else {
			o = append(head(0x5, len(v)), v...)
		}
	case []any:
		o = head(0xA, len(v))
		for _, item := range v {
			o = binary.BigEndian.AppendUint16(o, e.add(item))
		}
	case map[string]any:
		o = head(0xD, len(v))
		keys := slices.Sorted(maps.Keys(v))
		for _, k := range keys {
			o = binary.BigEndian.AppendUint16(o, e.add(k))
		}
		for _, k := range keys {
			o = binary.BigEndian.AppendUint16(o, e.add(v[k]))
		}
	default:
		panic(fmt.Sprintf("%T", v))
	}
	e.objects[ref] = o
	return ref
}

func (e *encoder) file() []byte {
	b := []byte("bplist00")
	var offsets []byte
	for _, o := range e.objects {
		offsets = binary.BigEndian.AppendUint16(offsets, uint16(len(b)))
		b = append(b, o...)
	}
	at := len(b)
	b = append(append(b, offsets...), 0, 0, 0, 0, 0, 0, 2, 2)
	for _, n := range []int{len(e.objects), 0, at} {
		b = binary.BigEndian.AppendUint64(b, uint64(n))
	}
	return b
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
		"nothing":                  list(),
		"in a ring":                list("\xA1\x00"),
		"a key in a ring":          list("\xD1\x00\x00"),
		"growing":                  list(append(laughs, "\x08")...),
		"a reference to nowhere":   list("\xA1\x09"),
		"longer than it is":        list("\x5F\x12\x7F\xFF\xFF\xFF"),
		"a length that is a text":  list("\x5F\x51a"),
		"a length without end":     list("\xAF\x14\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF"),
		"UTF-16 of odd length":     list("\x6F\x10\x05\x00a"),
		"an unknown kind":          list("\x80\x01"),
		"offsets wider than eight": append(whole[:len(whole)-26], append([]byte{9}, whole[len(whole)-25:]...)...),
		"only its mark":            []byte("bplist00"),
	} {
		r := apple.Read("a.mobileconfig", data, nil)
		if len(r.Connections) > 0 || len(r.Notes) != 1 || r.Notes[0].Kind != format.Unreadable && r.Notes[0].Kind != format.CutShort && name != "nothing" {
			t.Errorf("%s: %d connections, %+v", name, len(r.Connections), r.Notes)
		}
	}
	for i := range whole {
		if r := apple.Read("a.mobileconfig", whole[:i], nil); len(r.Notes) == 0 || len(r.Connections) > 0 {
			t.Errorf("cut after %d bytes: %+v", i, r)
		}
	}
}
