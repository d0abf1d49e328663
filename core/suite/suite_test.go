package suite_test

import (
	"testing"

	"wardicon/core/suite"
)

func TestParse(t *testing.T) {
	for _, test := range []struct{ text, want, part string }{
		{"aes256-sha256-modp2048", "aes256-sha256-modp2048", ""},
		{"AES256-SHA2_256-DH14!", "aes256-sha256-modp2048", ""},
		{"aes256gcm128-prfsha384-ecp384", "aes256gcm16-prfsha384-ecp384", ""},
		{"aes256-sha256-prfsha256-ecp256", "aes256-sha256-ecp256", ""},
		{"aes256gcm16-prfsha256-prfsha384-ecp256", "", "prfsha384"},
		{"modp2048-sha1-aes", "aes128-sha1-modp2048", ""},
		{"aes128-sha1", "aes128-sha1", ""},
		{"aes999-sha1", "", "aes999"},
		{"aes128-aes256", "", "aes256"},
		{"sha1-modp2048", "", "sha1-modp2048"},
		{"", "", ""},
		{"aes128-sha1-", "", ""},
	} {
		p, err := suite.Parse(test.text)
		if test.want != "" {
			if err != nil || p.String() != test.want {
				t.Errorf("%q: %v, %v, expected %s", test.text, p, err, test.want)
			}
			continue
		}
		e, ok := err.(*suite.SyntaxError)
		if !ok || e.Part != test.part || e.Expected == "" {
			t.Errorf("%q: %v, expected an error at %q", test.text, err, test.part)
		}
	}
}

// TestTable holds the table free of contradictions: names lead to their own row, and
// numbers are unique within what they number.
func TestTable(t *testing.T) {
	groups := map[int]string{}
	for _, a := range suite.Table {
		for _, name := range append(a.Aliases, a.Name) {
			if found, ok := suite.Find(name); !ok || found.Name != a.Name {
				t.Errorf("%s leads to %s, expected %s", name, found.Name, a.Name)
			}
		}
		if a.Source == "" {
			t.Errorf("%s has no source", a.Name)
		}
		if a.Kind == suite.Group {
			if other, taken := groups[a.Number]; taken {
				t.Errorf("group %d is %s and %s", a.Number, other, a.Name)
			}
			groups[a.Number] = a.Name
		}
	}
}

// TestDialect holds that what is written in a dialect is read back as it was.
func TestDialect(t *testing.T) {
	for _, a := range suite.Table {
		p := suite.Proposal{Encryption: "aes256"}
		switch a.Kind {
		case suite.Encryption:
			p.Encryption = a.Name
		case suite.Integrity:
			p.Integrity = a.Name
		case suite.PRF:
			p.PRF = a.Name
		case suite.Group:
			p.Group = a.Name
		}
		if back, err := suite.Parse(p.In(suite.IPsecConf)); err != nil || back != p {
			t.Errorf(
				"%s in the dialect is %s, read back as %s (%v)",
				p,
				p.In(suite.IPsecConf),
				back,
				err,
			)
		}
	}
}

func TestMatch(t *testing.T) {
	for _, test := range []struct {
		client, server []string
		pfsOptional    bool
		want           string
	}{
		{
			[]string{"aes256-sha1-ecp384", "aes256-sha1-modp2048"},
			[]string{"aes256-sha256-modp2048", "aes256-sha1-modp2048"},
			false,
			"aes256-sha1-modp2048",
		},
		{[]string{"aes256-sha1-modp1024"}, []string{"aes256-sha1-modp2048"}, false, ""},
		{[]string{"aes256-sha1"}, []string{"aes256-sha1-modp2048"}, true, "aes256-sha1"},
		{[]string{"aes256-sha1"}, []string{"aes256-sha1-modp2048"}, false, ""},
		{nil, []string{"aes256-sha1"}, true, ""},
		{[]string{"aes256gcm16-prfsha384-ecp256"}, []string{"aes256gcm16-prfsha256-ecp256"}, false,
			""},
		{[]string{"aes256gcm16-ecp256"}, []string{"aes256gcm16-prfsha256-ecp256"}, false,
			"aes256gcm16-prfsha256-ecp256"},
		{[]string{"aes256gcm16-prfsha384-ecp384"}, []string{"aes256gcm16-sha384-ecp384"}, false,
			"aes256gcm16-prfsha384-ecp384"},
	} {
		client, err := suite.ParseAll(test.client)
		if err != nil {
			t.Fatal(err)
		}
		server, err := suite.ParseAll(test.server)
		if err != nil {
			t.Fatal(err)
		}
		got, ok := suite.Match(client, server, test.pfsOptional)
		if ok != (test.want != "") || got.String() != test.want {
			t.Errorf("%v with %v: %s, expected %q", test.client, test.server, got, test.want)
		}
	}
	client, _ := suite.ParseAll([]string{"3des-md5-modp768", "aes256-sha1-modp1024"})
	server, _ := suite.ParseAll([]string{"aes256-sha1-modp2048"})
	if mine, theirs, ok := suite.Nearest(
		client,
		server,
	); !ok || mine.String() != "aes256-sha1-modp1024" ||
		theirs.String() != "aes256-sha1-modp2048" {
		t.Errorf("nearest are %s and %s", mine, theirs)
	}
}
