package rows

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"wardicon/core/vpn"
)

// Noun is what the rows of a sheet are.
type Noun string

// The nouns.
const (
	People   Noun = "people" // with an account and a device, where a row has them
	Gateways Noun = "gateways"
)

// Nouns lists them.
var Nouns = []Noun{People, Gateways}

// Field is what a column may mean. Words are the names that such columns have, in English, German,
// French and Spanish and in directories, in small letters and without signs. Pointer leads to the
// field of a record (RFC 6901), On to the noun of that record.
type Field struct {
	Name    string `json:"name"`
	Label   string `json:"label"`
	List    bool   `json:"list,omitempty"`
	Secret  bool   `json:"secret,omitempty"`
	Key     bool   `json:"key,omitempty"` // rows may be matched by it
	On      string `json:"-"`
	Pointer string `json:"-"`
	words   []string
}

// Fields are those of each noun, in the order in which people expect them.
var Fields = map[Noun][]Field{
	People: {
		{Name: "name", Label: "Name", Key: true, On: "person", Pointer: "/name", words: []string{
			"name", "full name", "display name", "displayname", "cn", "common name", "person",
			"vollständiger name", "anzeigename", "nom complet", "nombre completo",
			"nombre y apellidos",
		}},
		{Name: "given_name", Label: "Given name", On: "person", Pointer: "/name", words: []string{
			"given name", "givenname", "first name", "firstname", "vorname", "prénom", "prenom",
			"nombre",
		}},
		{Name: "family_name", Label: "Family name", On: "person", Pointer: "/name", words: []string{
			"family name", "last name", "lastname", "surname", "sn", "nachname", "familienname",
			"nom",
			"nom de famille", "apellido", "apellidos",
		}},
		{Name: "mail", Label: "Email", Key: true, On: "person", Pointer: "/mail", words: []string{
			"mail", "email", "e mail", "email address", "e mail address", "mail address",
			"e mail adresse", "emailadresse", "mailadresse", "adresse mail", "courriel",
			"adresse électronique",
			"correo",
			"correo electrónico", "userprincipalname",
		}},
		{Name: "language", Label: "Language", On: "person", Pointer: "/language", words: []string{
			"language", "preferredlanguage", "locale", "sprache", "langue", "idioma",
		}},
		{
			Name:    "groups",
			Label:   "Groups",
			List:    true,
			On:      "person",
			Pointer: "/groups",
			words: []string{
				"group", "groups", "department", "team", "ou", "departmentnumber", "memberof",
				"gruppe",
				"gruppen", "abteilung", "groupe", "groupes", "service", "équipe", "grupo", "grupos",
				"departamento",
			},
		},
		{Name: "city", Label: "City", On: "person", Pointer: "/place/city", words: []string{
			"city", "town", "place city", "l", "location", "office", "stadt", "ort", "standort",
			"ville",
			"lieu", "ciudad", "localidad",
		}},
		{
			Name:    "country",
			Label:   "Country",
			On:      "person",
			Pointer: "/place/country",
			words: []string{
				"country", "country code", "place country", "c", "land", "pays", "país", "pais",
			},
		},
		{
			Name:    "login",
			Label:   "Login",
			Key:     true,
			On:      "account",
			Pointer: "/login",
			words: []string{
				"login", "login name", "user", "user name", "username", "uid", "samaccountname",
				"account",
				"vpn user", "vpn login", "benutzer", "benutzername", "anmeldename", "kennung",
				"utilisateur",
				"nom d utilisateur", "identifiant", "usuario", "nombre de usuario",
			},
		},
		{Name: "realm", Label: "Realm", On: "account", Pointer: "/realm", words: []string{
			"realm", "domain", "domäne", "domaine", "dominio",
		}},
		{Name: "password", Label: "Password", Secret: true, On: "account", Pointer: "/password",
			words: []string{
				"password", "vpn password", "userpassword", "initial password", "passwort",
				"kennwort",
				"mot de passe", "contraseña",
			}},
		{Name: "device", Label: "Device", On: "device", Pointer: "/name", words: []string{
			"device", "device name", "computer", "computer name", "hostname", "host", "laptop",
			"gerät",
			"gerätename", "rechner", "appareil", "ordinateur", "dispositivo", "equipo",
		}},
		{Name: "platform", Label: "Platform", On: "device", Pointer: "/platform", words: []string{
			"platform", "system", "os", "operating system", "betriebssystem", "plattform",
			"système", "système d exploitation", "sistema", "sistema operativo",
		}},
		{Name: "release", Label: "Release", On: "device", Pointer: "/release", words: []string{
			"release", "os version", "system version", "operatingsystemversion",
		}},
	},
	Gateways: {
		{Name: "name", Label: "Name", Key: true, On: "gateway", Pointer: "/name", words: []string{
			"name", "gateway", "gateway name", "site", "standort", "nom", "passerelle", "nombre",
		}},
		{Name: "address", Label: "Address", Key: true, On: "gateway", Pointer: "/address",
			words: []string{
				"address", "host", "hostname", "server", "fqdn", "adresse", "serveur", "dirección",
				"servidor",
			}},
		{
			Name:    "addresses",
			Label:   "Further addresses",
			List:    true,
			On:      "gateway",
			Pointer: "/addresses",
			words:   []string{"addresses", "further addresses", "ip", "ip address", "ip addresses"},
		},
		{Name: "dns", Label: "DNS servers", List: true, On: "gateway", Pointer: "/dns",
			words: []string{"dns", "dns server", "dns servers", "name servers", "resolvers"}},
		{Name: "domains", Label: "Internal domains", List: true, On: "gateway", Pointer: "/domains",
			words: []string{
				"domains",
				"domain",
				"search domains",
				"internal domains",
				"dns suffix",
			}},
		{Name: "routes", Label: "Routes", List: true, On: "gateway", Pointer: "/routes",
			words: []string{
				"routes",
				"networks",
				"subnets",
				"internal networks",
				"netze",
				"réseaux",
				"redes",
			}},
		{Name: "pool", Label: "Address pool", List: true, On: "gateway", Pointer: "/pool",
			words: []string{"pool", "address pool", "client addresses", "vpn network"}},
		{Name: "city", Label: "City", On: "gateway", Pointer: "/place/city",
			words: []string{"city", "place city", "town", "stadt", "ort", "ville", "ciudad"}},
		{Name: "country", Label: "Country", On: "gateway", Pointer: "/place/country",
			words: []string{"country", "country code", "place country", "land", "pays", "país"}},
		{Name: "latitude", Label: "Latitude", On: "gateway", Pointer: "/place/latitude",
			words: []string{"latitude", "lat", "place latitude", "breite"}},
		{Name: "longitude", Label: "Longitude", On: "gateway", Pointer: "/place/longitude",
			words: []string{"longitude", "lon", "lng", "place longitude", "länge"}},
		{Name: "note", Label: "Note", On: "gateway", Pointer: "/note",
			words: []string{"note", "notes", "remark", "comment", "bemerkung", "remarque", "nota"}},
	},
}

// FieldOf finds a field of a noun by its name.
func FieldOf(noun Noun, name string) (Field, bool) {
	i := slices.IndexFunc(Fields[noun], func(f Field) bool { return f.Name == name })
	if i < 0 {
		return Field{}, false
	}
	return Fields[noun][i], true
}

// Mapping gives columns their fields; a column that is not in it is left out.
type Mapping map[string]string

// Guess takes columns for what their names say.
func Guess(noun Noun, columns []string) Mapping {
	m := Mapping{}
	taken := map[string]bool{}
	for _, f := range Fields[noun] {
		for _, word := range append([]string{strings.ReplaceAll(f.Name, "_", " ")}, f.words...) {
			for _, column := range columns {
				if _, used := m[column]; !used && !taken[f.Name] && bare(column) == word {
					m[column], taken[f.Name] = f.Name, true
				}
			}
		}
	}
	return m
}

// bare is the name of a column in small letters, with one space for each sign between words.
func bare(name string) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(name), func(r rune) bool {
		return strings.ContainsRune(" _-./*:()'’\t\n", r)
	}), " ")
}

// Check refuses a mapping that does not fit its columns or its noun.
func (m Mapping) Check(noun Noun, columns []string, key string) error {
	problems := &vpn.Problems{Object: "import"}
	add := func(pointer, found, expected, fix string) {
		problems.List = append(problems.List, vpn.Problem{
			Pointer: pointer, Found: found, Expected: expected, Fix: fix,
		})
	}
	var names []string
	for _, f := range Fields[noun] {
		names = append(names, f.Name)
	}
	if names == nil {
		add("/noun", fmt.Sprintf("%q", noun), "people or gateways", "choose one of them")
		return problems
	}
	by := map[string]string{}
	for _, column := range slices.Sorted(maps.Keys(m)) {
		name := m[column]
		switch other, twice := by[name]; {
		case name == "":
			continue
		case !slices.Contains(columns, column):
			add("/mapping", fmt.Sprintf("the column %q", column), "a column of the file: "+
				strings.Join(columns, ", "), "correct the name of the column")
		case !slices.Contains(names, name):
			add("/mapping", fmt.Sprintf("the field %q for the column %q", name, column),
				"one of "+strings.Join(names, ", "), "choose one of them, or leave the column out")
		case twice:
			add(
				"/mapping",
				fmt.Sprintf("the columns %q and %q for the field %q", other, column, name),
				"one column for each field",
				"leave one of them out",
			)
		}
		by[name] = column
	}
	if len(problems.List) > 0 {
		return problems
	}
	if noun == People && by["name"] == "" && by["given_name"] == "" && by["family_name"] == "" ||
		noun == Gateways && by["name"] == "" {
		add(
			"/mapping",
			"no column for the name",
			"one",
			"say which column has it: --map COLUMN=name",
		)
	}
	if f, ok := FieldOf(noun, key); !ok || !f.Key {
		var keys []string
		for _, f := range Fields[noun] {
			if f.Key {
				keys = append(keys, f.Name)
			}
		}
		add("/key", fmt.Sprintf("%q", key), "one of "+strings.Join(keys, ", "),
			"choose the field that matches rows to records")
	} else if by[key] == "" && !(key == "name" && by["given_name"]+by["family_name"] != "") {
		add("/key", fmt.Sprintf("no column for %s, which is the key", key), "one",
			"map a column to it, or choose another key")
	}
	if len(problems.List) > 0 {
		return problems
	}
	return nil
}

// Key is the field that matches rows to records where nobody has chosen one: the most telling one
// that has a column.
func (m Mapping) Key(noun Noun) string {
	order := []string{"mail", "login", "name"}
	if noun == Gateways {
		order = []string{"name"}
	}
	for _, key := range order {
		for _, name := range m {
			if name == key {
				return key
			}
		}
	}
	return "name"
}

// Values are the cells of a row by field; empty ones are left out.
func (m Mapping) Values(columns []string, row Row) map[string]Cell {
	values := map[string]Cell{}
	for i, c := range row.Cells {
		if name := m[columns[i]]; name != "" && c.Text != "" {
			values[name] = c
		}
	}
	return values
}

// List takes several values of one cell apart.
func List(text string) []string {
	list := []string{}
	for _, v := range strings.FieldsFunc(text, func(r rune) bool {
		return r == ';' || r == ',' || r == '|' || r == '\n'
	}) {
		if v = strings.TrimSpace(v); v != "" && !slices.Contains(list, v) {
			list = append(list, v)
		}
	}
	return list
}
