package rows

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf16"
)

// words joins what was read: the kind and encoding, the columns, then line:column and text of each
// cell that is not empty.
func words(s Sheet) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s %s", s.Kind, s.Encoding, strings.Join(s.Columns, "|"))
	for _, row := range s.Rows {
		fmt.Fprintf(&b, " [%d", row.Line)
		for _, c := range row.Cells {
			if c.Text != "" {
				fmt.Fprintf(&b, " %d:%d=%s", c.Line, c.Column, c.Text)
			}
		}
		b.WriteString("]")
	}
	return b.String()
}

func wide(text string) string {
	b := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(text)) {
		b = append(b, byte(u), byte(u>>8))
	}
	return string(b)
}

func TestRead(t *testing.T) {
	for name, test := range map[string]struct{ file, data, want string }{
		"comma": {"a.csv", "Name,Mail\nAda Fjell,ada@skerryline.example\n",
			"CSV UTF-8 Name|Mail [2 2:1=Ada Fjell 2:11=ada@skerryline.example]"},
		"semicolon, quotes and a value of two lines": {"a.csv",
			"Name;Note\r\n\"Fjell; Ada\";\"says \"\"hello\"\"\nagain\"\r\nBo;x\r\n",
			"CSV UTF-8 Name|Note [2 2:1=Fjell; Ada 2:14=says \"hello\"\nagain] [4 4:1=Bo 4:4=x]"},
		"tabs": {"a.tsv", "Name\tMail\nAda\ta@x.example\n",
			"CSV UTF-8 Name|Mail [2 2:1=Ada 2:5=a@x.example]"},
		"the delimiter in a line of its own": {"a.csv", "sep=|\nName|a,b,c\nAda|1\n",
			"CSV UTF-8 Name|a,b,c [3 3:1=Ada 3:5=1]"},
		"empty lines, rows and columns": {"a.csv", "\n,,\nName,Login,,\n\n,,,\nAda,a,,\n",
			"CSV UTF-8 Name|Login [6 6:1=Ada 6:5=a]"},
		"texts that a spreadsheet keeps from being numbers": {"a.csv",
			"Login,Phone,Code\n\"=\"\"0042\"\"\",'+47 1,\u00a0x \n",
			"CSV UTF-8 Login|Phone|Code [2 2:1=0042 2:13=+47 1 2:20=x]"},
		"UTF-16 of a spreadsheet": {"a.txt", wide("Name\tOrt\r\nAda\tTromsø\r\n"),
			"CSV UTF-16 Name|Ort [2 2:1=Ada 2:5=Tromsø]"},
		"Windows-1252": {"a.csv", "Name;Ort\nAda;Troms\xf8 \x80\n",
			"CSV Windows-1252 Name|Ort [2 2:1=Ada 2:5=Tromsø €]"},
		"a byte order mark": {"a.csv", "\ufeffName\nAda\n", "CSV UTF-8 Name [2 2:1=Ada]"},
		"JSON": {"a.json", `{"people": [
  {"name": "Ada", "place": {"city": "Norrvik"}, "groups": ["crew", "deck"], "active": true},
  {"name": "Bo", "id": 7, "mail": null}]}`,
			"JSON UTF-8 name|place.city|groups|active|id [2 2:12=Ada 2:37=Norrvik 2:60=crew;deck " +
				"2:87=true] [3 3:12=Bo 3:24=7]"},
		"YAML": {"a.yaml", "# people\n- name: Ada\n  groups: [crew, deck]\n  login: 0042\n- name: \"Bo\"\n" +
			"  place:\n    city: Norrvik\n",
			"YAML UTF-8 name|groups|login|place.city [2 2:9=Ada 3:12=crew;deck 4:10=0042] " +
				"[5 5:9=Bo 7:11=Norrvik]"},
		"LDIF": {"a.ldif", "version: 1\n\n# a person\ndn: cn=Ada,dc=skerryline,dc=example\n" +
			"objectClass: person\ncn: Ada\n  Fjell\nou: crew\nou: deck\nl;lang-no:: VHJvbXPDuA==\n" +
			"jpegPhoto:: /9j/\n\ndn: cn=Bo,dc=skerryline,dc=example\nchangetype: add\ncn: Bo\n",
			"LDIF UTF-8 dn|cn|ou|l [4 4:5=cn=Ada,dc=skerryline,dc=example 6:5=Ada Fjell " +
				"8:5=crew;deck 10:11=Tromsø] [13 13:5=cn=Bo,dc=skerryline,dc=example 15:5=Bo]"},
	} {
		s, err := Read(test.file, []byte(test.data))
		if err != nil {
			t.Errorf("%s: %v", name, err)
		} else if got := words(s); got != test.want {
			t.Errorf("%s: read\n%s, expected\n%s", name, got, test.want)
		}
	}
}

func TestBroken(t *testing.T) {
	for name, test := range map[string]struct{ file, data, want string }{
		"nothing":            {"a.csv", " \n", "a.csv: found nothing"},
		"no row":             {"a.csv", "Name,Mail\n", "found column names and no row"},
		"half a quote":       {"a.csv", "Name\n\"Ada\n", "a.csv:2:6: found a value whose quotes do not end"},
		"a quote inside":     {"a.csv", "Name,Mail\nA\"da,x\n", "a.csv:2:2: found a quote inside"},
		"too many values":    {"a.csv", "Name,Mail\nFjell, Ada, a@x.example\n", "a.csv:2:12: found 3"},
		"a column twice":     {"a.csv", "Name,name,Name\nA,b,c\n", `two columns named "Name"`},
		"a zero byte":        {"a.csv", "Name\nA\x00\n", "a.csv:2: found a zero byte"},
		"half of JSON":       {"a.json", `[{"name": "A`, "a.json:1:"},
		"JSON of no records": {"a.json", `["a"]`, "a.json:1:2: found a string, expected a record"},
		"JSON of one record": {"a.json", `{"name": "A", "mail": "b"}`, "found no list"},
		"YAML of one record": {"a.yaml", "name: A\nmail: b\n", "found no list"},
		"an alias":           {"a.yaml", "- name: &a A\n- name: *a\n", "an anchor, an alias or a tag"},
		"YAML that is none":  {"a.yaml", "- name: [A\n", "no YAML"},
		"LDIF of changes": {"a.ldif", "dn: cn=A\nchangetype: delete\n",
			"a.ldif:2:13: found the change delete"},
		"a value elsewhere": {"a.ldif", "dn: cn=A\nx:< file:///etc/passwd\n", "a.ldif:2:3: found"},
		"no base64":         {"a.ldif", "dn: cn=A\nx:: %%\n", "a.ldif:2:3: found no base64"},
		"too large":         {"a.csv", strings.Repeat("x", MaxBytes+1), "bytes, expected at most"},
		"too many rows":     {"a.csv", "n\n" + strings.Repeat("a\n", MaxRows+1), "rows, expected"},
		"too many columns":  {"a.csv", cols(300) + "\n1\n", "more than 200"},
		"a long value":      {"a.csv", "n\n" + strings.Repeat("x", maxCell+1) + "\n", "a value of 65537"},
		"deep YAML":         {"a.yaml", "- a: " + strings.Repeat("[", 50) + strings.Repeat("]", 50), "inside"},
	} {
		_, err := Read(test.file, []byte(test.data))
		if err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v, expected %q", name, err, test.want)
		}
	}
}

func TestIs(t *testing.T) {
	for name, test := range map[string]struct {
		data string
		want bool
	}{
		"a.csv":  {"Name\n", true},
		"a.ldif": {"dn: a\n", true},
		"a.json": {` [{"name": "Ada"}]`, true},
		"b.json": {`{"people": [{"name": "Ada"}]}`, true},
		"c.json": {`{"NetworkConfigurations": [{"GUID": "x"}]}`, false},
		"d.json": {`{"uuid": "x", "type": "ikev2-eap"}`, false},
		"a.ovpn": {"client\n", false},
		"a.conf": {"connections {\n", false},
	} {
		if got := Is(name, []byte(test.data)); got != test.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func cols(n int) string {
	var names []string
	for i := range n {
		names = append(names, fmt.Sprint("c", i))
	}
	return strings.Join(names, ",")
}

func FuzzRead(f *testing.F) {
	for _, name := range []string{"a.csv", "a.json", "a.yaml", "a.ldif"} {
		for _, text := range []string{
			"a;b\n\"1\";2\n", "[{\"a\":[1,{\"b\":null}]}]", "- a: b\n  c: [d]\n",
			"dn: a\nb:: YQ==\n c\n", "sep=,\na,b\n", "- |\n  a\n", "a: &x 1\n",
		} {
			f.Add(name, []byte(text))
		}
	}
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		s, err := Read(name, data)
		for _, row := range s.Rows {
			if len(row.Cells) > len(s.Columns) || row.Line < 1 {
				t.Fatalf("row %+v of %v", row, s.Columns)
			}
		}
		if err == nil && len(s.Rows) == 0 {
			t.Fatal("neither rows nor an error")
		}
	})
}
