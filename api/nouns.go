package api

import (
	"reflect"

	"wardicon/core/inventory"
	"wardicon/core/vpn"
)

// Noun is a kind of record. Its list, its calls, its files and its commands are named by it.
type Noun struct {
	inventory.Noun
	Record reflect.Type // as it is written
	Filed  bool         // it stands in files of records
}

// Nouns are in the order in which records can be added: what is referred to comes first.
var Nouns = []Noun{
	filed[vpn.Person]("person", "people"),
	filed[vpn.Gateway]("gateway", "gateways", "rehearsal.account_id", "account").later(),
	filed[vpn.Account]("account", "accounts", "person_id", "person", "gateway_ids", "gateway"),
	filed[vpn.Device]("device", "devices", "person_id", "person",
		"enrolment.authority_id", "authority"),
	filed[vpn.Pattern]("pattern", "patterns", "gateway_ids", "gateway"),
	filed[vpn.Profile]("profile", "profiles", "device_id", "device", "gateway_id", "gateway",
		"pattern_id", "pattern", "preferences.account_id", "account",
		"preferences.fallback_id", "gateway", "preferences.second_to", "gateway"),
	unfiled[vpn.Authority]("authority", "authorities"),
	unfiled[vpn.Switchover]("switchover", "switchovers"),
}

// unfiled is a noun whose records stand in no files.
func unfiled[R any](name, plural string) Noun {
	return Noun{
		Noun:   inventory.Noun{Name: name, Plural: plural, Refers: map[string]string{}},
		Record: reflect.TypeFor[R](),
	}
}

// filed is a noun whose records stand in files, with names in the place of identifiers: refers
// are fields that name other records, and their nouns.
func filed[R any](name, plural string, refers ...string) Noun {
	n := unfiled[R](name, plural)
	n.Filed = true
	for i := 0; i+1 < len(refers); i += 2 {
		n.Refers[refers[i]] = refers[i+1]
	}
	return n
}

// later says that the one reference of a noun leads to one that comes after it.
func (n Noun) later() Noun {
	for path := range n.Refers {
		n.Later = path
	}
	return n
}

// Filed are the nouns whose records stand in files.
func Filed() (list []inventory.Noun) {
	for _, n := range Nouns {
		if n.Filed {
			list = append(list, n.Noun)
		}
	}
	return list
}

// Plurals are what the records that stand in files are called there.
func Plurals() (list []string) {
	for _, n := range Filed() {
		list = append(list, n.Plural)
	}
	return list
}

// NounOf finds a noun by its name or its plural; the zero one where there is none.
func NounOf(name string) Noun {
	for _, n := range Nouns {
		if name == n.Name || name == n.Plural {
			return n
		}
	}
	return Noun{}
}

// FoundRecord is a record that a search has found.
type FoundRecord struct {
	// Kind of the record, such as gateway.
	Noun string `json:"noun"`
	ID   string `json:"id"`
	// What people call it.
	Name string `json:"name"`
}
