package vpn

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"wardicon/core/secret"
)

// Directory says how people are read from an LDAP directory (RFC 4511). Without an address none is
// read.
type Directory struct {
	Version int `json:"version" readOnly:"true"`
	// Address: ldaps://directory.skerryline.example, or ldap:// with StartTLS. Empty reads none.
	URL string `json:"url"`
	// CAs of the server's certificate, PEM; empty trusts those of the system.
	Authority string `json:"authority,omitempty"`
	// Distinguished name to sign in with; empty signs in as nobody.
	BindDN string `json:"bind_dn,omitempty"`
	// Password; never read back. Leave it out to keep it, null removes it.
	Password *secret.Text `json:"password,omitempty" writeOnly:"true"`
	// A password is stored.
	PasswordSet bool `json:"password_set" readOnly:"true"`
	// Base of the search, such as ou=people,dc=skerryline,dc=example.
	Base string `json:"base" required:"false"`
	// Filter (RFC 4515) of the entries that are people.
	Filter string `json:"filter" required:"false"`
	// Attribute that identifies an entry for good, such as entryUUID.
	KeyAttribute string `json:"key_attribute" required:"false"`
	// Attributes of fields: name, mail, login, language, groups, city, country.
	Attributes map[string]string `json:"attributes" required:"false"`
	// Base of a search for groups that list their members; empty takes groups from the entries of
	// people.
	GroupBase string `json:"group_base,omitempty"`
	// Groups here by those of the directory, which are written as their names or as distinguished
	// names. Empty takes all groups by their names; otherwise only these.
	Groups map[string]string `json:"groups" required:"false"`
	// Minutes between two readings; 0 reads only on demand.
	Every int `json:"every" required:"false"`
	// Stop if more than this percentage of the people that came from the directory are no longer in
	// it.
	StopOver int `json:"stop_over" required:"false"`
	// A password is stored but cannot be read any more: set it again.
	Damaged bool `json:"damaged,omitempty" readOnly:"true"`
}

// DirectoryFields are the fields that attributes may be mapped to, and the usual attributes
// (RFC 4519, RFC 2798).
var DirectoryFields = map[string]string{
	"name": "cn", "mail": "mail", "login": "uid", "language": "preferredLanguage",
	"groups": "memberOf", "city": "l", "country": "c",
}

// Bounds of a directory's settings.
const (
	directoryOftenest = 5 // minutes
	directoryRarest   = 7 * 24 * 60
	maxFilter         = 1000
)

// Validate reports every field of the settings that cannot be accepted.
func (d *Directory) Validate() error {
	in := inspect("directory")
	if d.URL != "" {
		u, err := url.Parse(d.URL)
		if err != nil || u.Scheme != "ldaps" && u.Scheme != "ldap" || u.Hostname() == "" ||
			strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.User != nil {
			in.add("/url", shown(d.URL), "ldaps:// or ldap:// and a host name",
				"write for example ldaps://directory.skerryline.example")
		}
		in.required("/base", d.Base, maxFilter)
		in.required("/filter", d.Filter, maxFilter)
	}
	in.authority("/authority", d.Authority)
	in.text("/bind_dn", d.BindDN, maxFilter, false)
	in.secret("/password", d.Password)
	if d.BindDN != "" && !present(d.Password) && d.URL != "" {
		in.add("/password", "nothing", "the password of the name that signs in",
			"type it, or sign in as nobody") // RFC 4513 §5.1.2: it would sign in as nobody unseen
	}
	attribute := func(at, v string) {
		if v == "" ||
			strings.Trim(strings.ToLower(v), "abcdefghijklmnopqrstuvwxyz0123456789-.;") != "" {
			in.add(at, shown(v), "the name of an attribute", "write for example mail")
		}
	}
	attribute("/key_attribute", d.KeyAttribute)
	for _, field := range slices.Sorted(maps.Keys(d.Attributes)) {
		if _, ok := DirectoryFields[field]; !ok {
			in.add("/attributes/"+field, "a field that is not known",
				"one of "+strings.Join(slices.Sorted(maps.Keys(DirectoryFields)), ", "),
				"check the spelling")
			continue
		}
		attribute("/attributes/"+field, d.Attributes[field])
	}
	if d.Attributes["name"] == "" {
		in.add("/attributes/name", "nothing", "the attribute with the name", "write for example cn")
	}
	in.text("/group_base", d.GroupBase, maxFilter, false)
	for _, group := range slices.Sorted(maps.Keys(d.Groups)) {
		in.required("/groups/"+strings.ReplaceAll(group, "/", "~1"), d.Groups[group], maxName)
	}
	if d.Every != 0 && (d.Every < directoryOftenest || d.Every > directoryRarest) {
		in.add("/every", fmt.Sprint(d.Every),
			fmt.Sprintf("0, or %d to %d minutes", directoryOftenest, directoryRarest),
			"correct the number")
	}
	in.number("/stop_over", d.StopOver, 100)
	return in.err()
}

// Normalise gives what is not set its usual value.
func (d *Directory) Normalise() {
	d.PasswordSet = present(d.Password)
	if d.Filter == "" {
		d.Filter = "(objectClass=inetOrgPerson)"
	}
	if d.KeyAttribute == "" {
		d.KeyAttribute = "entryUUID" // RFC 4530
	}
	if len(d.Attributes) == 0 {
		d.Attributes = maps.Clone(DirectoryFields)
	}
	if d.Groups == nil {
		d.Groups = map[string]string{}
	}
	if d.Version == 0 && d.StopOver == 0 {
		d.StopOver = 10
	}
}
