package e2e

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"wardicon/demo"
)

// TestRecordsByCommand adds, shows, changes and removes one record of every noun by the
// command line, with every flag, and reads back exactly what was set.
func TestRecordsByCommand(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	secretFile := write(t, "secret", "spindle-73-Basalt-clover\n")
	from := write(
		t,
		"gateway.yaml",
		"address: from-file.example\nroutes: [10.55.0.0/16]\nnote: from the file\n",
	)
	for _, test := range []struct {
		name string
		args []string
		show []string // how the record is shown
		want map[string]any
	}{
		{"gateway with every flag", []string{
			"gateway", "add", "Westcliff", "--address", "westcliff.example", "--known-address",
			"203.0.113.9,2001:db8::9", "--dynamic", "--behind-nat",
			"--city", "Westcliff", "--country", "IE", "--latitude", "53.5", "--longitude", "-10.1",
			"--login-form", `realm\login`, "--realm", "WEST", "--sstp-login-form", "login@realm",
			"--sstp-realm", "deck.example", "--sstp-ppp", "mschapv2",
			"--domain", "inside.west.example", "--dns", "10.50.0.53", "--route", "10.50.0.0/16",
			"--route", "10.51.0.0/16", "--pool", "10.99.50.0/24", "--announced", "10.60.0.0/16",
			"--egress", "203.0.113.9", "--host", "stores.west.example", "--psk-file", secretFile,
			"--ppp", "mschapv2,chap", "--ike", "aes256-sha256-modp2048", "--esp", "aes256-sha256",
			"--note", "cliff",
		}, []string{"gateway", "show", "westcliff"}, map[string]any{
			"name":                "Westcliff",
			"address":             "westcliff.example",
			"addresses":           []any{"203.0.113.9", "2001:db8::9"},
			"dynamic":             true,
			"behind_nat":          true,
			"place.city":          "Westcliff",
			"place.country":       "IE",
			"place.latitude":      53.5,
			"place.longitude":     -10.1,
			"sign_in.form":        `realm\login`,
			"sign_in.realm":       "WEST",
			"sign_ins.sstp.form":  "login@realm",
			"sign_ins.sstp.realm": "deck.example",
			"sign_ins.l2tp":       nil,
			"domains":             []any{"inside.west.example"},
			"dns":                 []any{"10.50.0.53"},
			"routes":              []any{"10.50.0.0/16", "10.51.0.0/16"},
			"pool":                []any{"10.99.50.0/24"},
			"announced":           []any{"10.60.0.0/16"},
			"egress":              []any{"203.0.113.9"},
			"hosts":               []any{"stores.west.example"},
			"offers.l2tp.psk_set": true,
			"offers.l2tp.psk":     nil,
			"offers.l2tp.ppp":     []any{"mschapv2", "chap"},
			"offers.l2tp.ike":     []any{"aes256-sha256-modp2048"},
			"offers.l2tp.esp":     []any{"aes256-sha256"},
			"note":                "cliff",
			"version":             1.0,
			"profiles":            0.0,
		}},
		{"gateway changed", []string{"gateway", "change", "Westcliff", "--route", "",
			"--dynamic=false", "--esp", "aes128-sha256", "--sign-in-as-elsewhere", "sstp",
			"--l2tp-login-form", "login"}, []string{"gateway", "show", "Westcliff"}, map[string]any{
			"routes":              []any{},
			"dynamic":             false,
			"sign_ins.sstp":       nil,
			"sign_ins.l2tp.form":  "login",
			"behind_nat":          true,
			"offers.l2tp.esp":     []any{"aes128-sha256"},
			"offers.l2tp.psk_set": true,
			"version":             2.0,
		}},
		{"gateway from a file, flags winning", []string{"gateway",
			"add", "Southpier", "--from", from, "--note", "from the flag"},
			[]string{"gateway", "show", "Southpier"}, map[string]any{
				"address":      "from-file.example",
				"routes":       []any{"10.55.0.0/16"},
				"note":         "from the flag",
				"offers.l2tp":  nil,
				"sign_in.form": "login",
			}},
		{"person", []string{"person", "add", "Nils Berg", "--mail", "nils@skerryline.example",
			"--language", "sv", "--group", "deck,relief"}, []string{"person", "show", "Nils Berg"},
			map[string]any{
				"name":     "Nils Berg",
				"mail":     "nils@skerryline.example",
				"language": "sv",
				"groups":   []any{"deck", "relief"},
				"accounts": 0.0,
			}},
		{"person renamed", []string{"person", "change", "Nils Berg", "--name", "Nils Berg-Lie",
			"--group", ""}, []string{"person", "show", "Nils Berg-Lie"},
			map[string]any{"groups": []any{}, "mail": "nils@skerryline.example"}},
		{"account", []string{"account", "add", "n_berg", "--person", "Nils Berg-Lie", "--realm",
			"deck.example", "--password-file", secretFile, "--gateway", "Westcliff"},
			[]string{"account", "show", "n_berg"}, map[string]any{
				"login":        "n_berg",
				"realm":        "deck.example",
				"password_set": true,
				"password":     nil,
				"person":       "Nils Berg-Lie",
			}},
		{"device", []string{"device", "add", "Relief router", "--person", "Nils Berg-Lie",
			"--platform", "openwrt", "--release", "23.05", "--cannot-ask", "--encrypted", "--site",
			"10.60.1.0/24", "--masquerade"}, []string{"device", "show", "Relief router"},
			map[string]any{
				"site.networks":   []any{"10.60.1.0/24"},
				"site.masquerade": true,
				"platform":        "openwrt",
				"release":         "23.05",
				"cannot_ask":      true,
				"encrypted":       true,
				"person":          "Nils Berg-Lie",
				"profiles":        0.0,
			}},
		{"device without its site", []string{"device", "change", "Relief router", "--site", ""},
			[]string{"device", "show", "Relief router"}, map[string]any{
				"site":     nil,
				"platform": "openwrt",
			}},
		{"profile", []string{"profile", "add", "Relief router", "--gateway", "Westcliff",
			"--connection", "Cliff", "--account", "n_berg", "--tunnel", "full", "--password",
			"saved", "--scope", "machine"}, []string{"profile", "show", "Relief router/Westcliff"},
			map[string]any{
				"device":               "Relief router",
				"gateway":              "Westcliff",
				"preferences.name":     "Cliff",
				"preferences.tunnel":   "full",
				"preferences.password": "saved",
				"preferences.scope":    "machine",
			}},
		{"profile's preference cleared", []string{"profile",
			"change", "Relief router/Westcliff", "--tunnel", "", "--connection", "Cliff 2"},
			[]string{"profile", "show", "Relief router/Westcliff"},
			map[string]any{
				"preferences.name":   "Cliff 2",
				"preferences.tunnel": nil,
				"preferences.scope":  "machine",
			}},
	} {
		t.Run(test.name, func(t *testing.T) {
			f.t = t
			if code, out, errs := f.run("", test.args...); code != 0 {
				t.Fatalf("ended with %d: %s%s", code, out, errs)
			}
			code, out, errs := f.run("", append(test.show, "--output", "json")...)
			var record map[string]any
			if err := json.Unmarshal([]byte(out), &record); err != nil || code != 0 {
				t.Fatal(err, code, errs)
			}
			for path, want := range test.want {
				var got any = record
				for key := range strings.SplitSeq(path, ".") {
					inner, _ := got.(map[string]any)
					got = inner[key]
				}
				if !reflect.DeepEqual(got, want) {
					t.Errorf("%s is %v, expected %v", path, got, want)
				}
			}
			if strings.Contains(out, "spindle") {
				t.Error("a secret is shown")
			}
		})
	}
	f.t = t
	for _, test := range []struct {
		args string
		want int
	}{
		// still in use
		{"gateway|remove|Westcliff", 1}, {"person|remove|Nils Berg-Lie",
			1}, {"device|remove|Relief router", 1},
		{"profile|remove|Relief router/Westcliff", 0}, {"device|remove|Relief router",
			0}, {"gateway|remove|Westcliff", 1},
		{"account|remove|n_berg", 0}, {"person|remove|Nils Berg-Lie",
			0}, {"gateway|remove|Westcliff", 0}, {"gateway|remove|Westcliff", 4},
	} {
		if code, out, errs := f.run("", strings.Split(test.args, "|")...); code != test.want {
			t.Errorf("%s ended with %d, expected %d: %s%s", test.args, code, test.want, out, errs)
		}
	}
	if page, err := f.client.Audit(t.Context(), query("n_berg")); err != nil || page.Total != 2 {
		t.Errorf(
			"%d lines of the account in the audit log, expected its adding and removing (%v)",
			page.Total,
			err,
		)
	}
}
