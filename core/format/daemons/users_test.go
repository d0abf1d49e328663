package daemons

import (
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// TestUserLists makes the lists of a gateway, and looks logins up in them as pppd does.
func TestUserLists(t *testing.T) {
	psk := secret.New("kelp 4497 \"Harbor\"")
	users := []User{
		{"a_fjell@crew.example", secret.New("dune-45-Tangerine")},
		{`CREW\b_lind`, secret.New(`two words "and" a \ # sign`)},
		{"@file", secret.New("-")},
	}
	g := vpn.Gateway{Name: "North Quay", Addresses: []string{"192.0.2.7"}, Offers: vpn.Offers{
		PPTP:  &vpn.PPTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}},
		L2TP:  &vpn.L2TPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2, suite.PAP}, PSK: &psk},
		IKEv2: &vpn.IKEv2Offer{Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2}},
	}}
	files := UserLists(g, func(vpn.Protocol) []User { return users })
	text := map[string]string{}
	for _, f := range files {
		text[f.Name] = string(f.Content)
		if !f.Private {
			t.Errorf("%s is not private", f.Name)
		}
	}
	chap := "# client  server  secret  addresses\n" +
		"a_fjell@crew.example * dune-45-Tangerine *\n" +
		`"CREW\\b_lind" * "two words \"and\" a \\ # sign" *` + "\n" +
		`"@file" * - *` + "\n"
	if len(text) != 3 || text["chap-secrets"] != chap || text["pap-secrets"] != chap {
		t.Errorf("%d files:\n%s", len(text), text["chap-secrets"])
	}
	for _, u := range users {
		r := &reader{beside: format.Files(files)}
		got, ok := r.stored(u.Login, "any", format.Position{})
		if !ok || !got.Equal(u.Password) {
			t.Errorf("%s is looked up as %q, %v", u.Login, got.Reveal(), ok)
		}
	}
	conf := text["north-quay-users.conf"]
	for _, want := range []string{
		"secrets {\n\teap-north-quay-1 {\n\t\tid = \"a_fjell@crew.example\"\n\t\tsecret = 0sZHVuZS00NS1UYW5nZXJpbmU=\n",
		`id = "CREW\\b_lind"`, "ike-north-quay-l2tp {\n\t\tid-1 = \"192.0.2.7\"\n\t\tsecret = 0s",
	} {
		if !strings.Contains(conf, want) {
			t.Errorf("%s is not in\n%s", want, conf)
		}
	}
	g.Offers = vpn.Offers{TLS: &vpn.TLSOffer{}}
	if files := UserLists(g, func(vpn.Protocol) []User { return users }); len(files) != 0 {
		t.Errorf("a TLS tunnel alone: %d files", len(files))
	}
}
