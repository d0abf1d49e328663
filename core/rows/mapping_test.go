package rows

import (
	"fmt"
	"strings"
	"testing"
)

func TestGuess(t *testing.T) {
	for columns, want := range map[string]string{
		"Name,E-Mail,Benutzername,Kennwort":    "map[Benutzername:login E-Mail:mail Kennwort:password Name:name]",
		"Prénom,Nom,Courriel,Groupe,Ville":     "map[Courriel:mail Groupe:groups Nom:family_name Prénom:given_name Ville:city]",
		"dn,cn,mail,uid,ou,l":                  "map[cn:name l:city mail:mail ou:groups uid:login]",
		"first_name,last_name,Email Address,x": "map[Email Address:mail first_name:given_name last_name:family_name]",
		"User name,Operating system,Device":    "map[Device:device Operating system:platform User name:login]",
		"place.city,place.country,name":        "map[name:name place.city:city place.country:country]",
	} {
		if got := fmt.Sprint(Guess(People, strings.Split(columns, ","))); got != want {
			t.Errorf("%s: %s, expected %s", columns, got, want)
		}
	}
}

func TestMapping(t *testing.T) {
	columns := []string{"A", "B", "C"}
	for name, test := range map[string]struct {
		noun Noun
		m    Mapping
		key  string
		want string
	}{
		"sound":              {People, Mapping{"A": "name", "B": "mail", "C": ""}, "mail", ""},
		"a name of two":      {People, Mapping{"A": "given_name", "B": "family_name"}, "name", ""},
		"another noun":       {"ships", Mapping{"A": "name"}, "name", `found "ships", expected people or`},
		"no such column":     {People, Mapping{"Z": "name"}, "name", `the column "Z"`},
		"no such field":      {People, Mapping{"A": "nom"}, "name", `the field "nom" for the column "A"`},
		"a field twice":      {People, Mapping{"A": "name", "B": "name"}, "name", `columns "A" and "B"`},
		"no name":            {People, Mapping{"A": "mail"}, "mail", "no column for the name"},
		"a key of no column": {People, Mapping{"A": "name"}, "mail", "no column for mail"},
		"no key":             {People, Mapping{"A": "name", "B": "city"}, "city", "one of name, mail, login"},
		"a gateway's":        {Gateways, Mapping{"A": "name", "B": "address"}, "address", ""},
	} {
		err := test.m.Check(test.noun, columns, test.key)
		if (err == nil) != (test.want == "") || err != nil && !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v, expected %q", name, err, test.want)
		}
	}
}
