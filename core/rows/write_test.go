package rows

import (
	"bytes"
	"encoding/json"
	"testing"
)

// TestWrite writes records whose texts would be formulas, and reads them again.
func TestWrite(t *testing.T) {
	var b bytes.Buffer
	err := WriteCSV(&b, []json.RawMessage{
		json.RawMessage(`{"name":"=cmd|' /C calc'!A0","place":{"city":"Norrvik","longitude":-10.5},` +
			`"groups":["crew","a;b"],"mail":null,"on":true}`),
		json.RawMessage(`{"name":"Fjell, \"Ada\"","note":"+47 1\n@x","place":{"city":"-"}}`),
	})
	if err != nil {
		t.Fatal(err)
	}
	want := "name,place.city,place.longitude,groups,on,note\n" +
		"'=cmd|' /C calc'!A0,Norrvik,-10.5,crew;a;b,true,\n" +
		"\"Fjell, \"\"Ada\"\"\",'-,,,,\"'+47 1\n@x\"\n"
	if b.String() != want {
		t.Errorf("written\n%s, expected\n%s", b.String(), want)
	}
	s, err := Read("a.csv", b.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	if got := s.Rows[0].Cells[0].Text; got != "=cmd|' /C calc'!A0" {
		t.Errorf("read %q", got)
	}
	if got := s.Rows[1].Cells[5].Text; got != "+47 1\n@x" {
		t.Errorf("read %q", got)
	}
}
