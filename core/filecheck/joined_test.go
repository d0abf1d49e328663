package filecheck_test

import (
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// corpus reads a file of the collection of faults and sound files.
func corpus(t *testing.T, name string) []byte {
	t.Helper()
	data, err := os.ReadFile("../corpus/testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestJoined looks at files that came together: each changes what is said of the others.
func TestJoined(t *testing.T) {
	tunnel := strings.Replace(
		string(corpus(t, "clean/ovpn/plain/norrvik.ovpn")),
		"verify-x509-name norrvik.skerryline.example name\n",
		"",
		1,
	)
	root, client, key := corpus(
		t,
		"certificates/root.pem",
	), corpus(
		t,
		"certificates/client.pem",
	), corpus(
		t,
		"certificates/client.key",
	)
	ike, other := corpus(
		t,
		"clean/daemons/eap/norrvik.conf",
	), corpus(
		t,
		"faults/name-not-certified/gateway.pem",
	)
	start, end := strings.Index(tunnel, "<ca>"), strings.Index(tunnel, "</ca>\n")+6
	bare := tunnel[:start] + tunnel[end:]
	closed := corpus(t, "clean/certificates/pkcs12/ada.p12")
	greedy := []byte(strings.ReplaceAll(string(closed), "\x02\x02\x08\x00", "\x02\x02\x7f\xff"))
	file := func(name string, data []byte) filecheck.File {
		return filecheck.File{Name: name, Data: data, Asked: true}
	}
	norrvik := vpn.Gateway{
		Name:      "Norrvik",
		Address:   "NORRVIK.skerryline.example",
		Addresses: []string{"198.51.100.7"},
		Offers: vpn.Offers{TLS: &vpn.TLSOffer{
			Remotes: []vpn.Remote{
				{Port: 443, Transport: vpn.TCP},
			},
			Auth:       []vpn.TLSAuth{vpn.TLSPassword},
			Ciphers:    []string{"AES-128-GCM"},
			ControlKey: &vpn.ControlKey{Kind: vpn.ControlCrypt},
		}},
	}
	for _, test := range []struct {
		name    string
		files   []filecheck.File
		options filecheck.Options
		want    string // rules that must be found
		not     string // and that must not
	}{
		{"a file without what it names",
			[]filecheck.File{file("a.ovpn", []byte(bare+
				"ca root.pem\n"))}, filecheck.Options{}, "file-missing", "authority-missing"},
		{"with it beside", []filecheck.File{file("a.ovpn", []byte(bare+"ca root.pem\n")),
			file("root.pem", root)}, filecheck.Options{}, "", "file-missing authority-missing"},
		{"with it in another folder",
			[]filecheck.File{file("x/a.ovpn", []byte(bare+"ca keys/root.pem\n")),
				file("x/keys/root.pem", root)}, filecheck.Options{}, "", "file-missing"},
		{"fetched on request", []filecheck.File{file("a.ovpn", []byte(bare+"ca root.pem\n"))},
			filecheck.Options{Fetch: func(folder, name string) ([]byte, bool) {
				return root,
					folder == "." && name == "root.pem"
			}}, "", "file-missing"},
		{"a certificate and its key", []filecheck.File{file("ada.pem", client),
			file("ada.key", key)}, filecheck.Options{}, "key-in-clear", "pair-broken"},
		{"a certificate and another's key", []filecheck.File{file("ada.pem", client),
			file("ada.key", corpus(t,
				"faults/pair-broken/ada.key"))}, filecheck.Options{}, "pair-broken", ""},
		{"another's key under another name", []filecheck.File{file("ada.pem", client),
			file("bo.key", corpus(t,
				"faults/pair-broken/ada.key"))}, filecheck.Options{}, "", "pair-broken"},
		{"a gateway's certificate for another name",
			[]filecheck.File{file("norrvik.conf", ike), file("root.pem", root),
				file("gw.pem", other)}, filecheck.Options{}, "name-not-certified", ""},
		{"the same without a connection", []filecheck.File{file("root.pem", root),
			file("gw.pem", other)}, filecheck.Options{}, "", "name-not-certified"},
		{"an authority that came apart", []filecheck.File{file("ada.pem", client),
			file("again.pem", corpus(t,
				"faults/authority-wrong/root-again.pem"))}, filecheck.Options{}, "authority-wrong",
			""},
		{"a list of the revoked that came apart", []filecheck.File{file("ada.pem", client),
			file("root.pem", root), file("root.crl",
				corpus(t, "faults/certificate-revoked/root.crl"))}, filecheck.Options{},
			"certificate-revoked", ""},
		{"PKCS #12 without its passphrase", []filecheck.File{file("ada.p12", closed)},
			filecheck.Options{}, "passphrase-wrong", ""},
		{"with one that was told", []filecheck.File{file("ada.p12", closed)},
			filecheck.Options{Passphrases: []secret.Text{secret.New("x"),
				secret.New("spindle-basalt")}}, "", "passphrase-wrong"},
		{"with one in a file beside", []filecheck.File{file("ada.p12", closed),
			file("passphrase.txt",
				[]byte("spindle-basalt\n"))}, filecheck.Options{}, "", "passphrase-wrong " +
			"part-not-checked"},
		{"more work than is done for one lot",
			slices.Repeat([]filecheck.File{file("ada.p12", greedy)},
				60), filecheck.Options{}, "part-not-checked passphrase-wrong", ""},
		{"against its record", []filecheck.File{file("a.ovpn", []byte(tunnel))},
			filecheck.Options{Gateways: []vpn.Gateway{norrvik}}, "remote-not-gateways " +
				"cipher-nothing-shared", "auth-not-offered control-not-gateways"},
		{"against another record", []filecheck.File{file("a.ovpn", []byte(tunnel))},
			filecheck.Options{Gateways: []vpn.Gateway{{
				Name:    "Tallholm",
				Address: "tallholm.skerryline.example",
				Offers:  norrvik.Offers,
			}}}, "",
			"remote-not-gateways"},
		{"a name that nobody knows", []filecheck.File{file("a.ovpn", []byte(tunnel))},
			filecheck.Options{Live: func(host string) *check.Live {
				return &check.Live{Name: host, Missing: true}
			}}, "name-unanswered", ""},
		{"a name that leads elsewhere", []filecheck.File{file("a.ovpn", []byte(tunnel))},
			filecheck.Options{
				Gateways: []vpn.Gateway{norrvik},
				Live: func(host string) *check.Live {
					return &check.Live{
						Name:      host,
						Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.1")},
					}
				},
			}, "name-elsewhere", "name-unanswered"},
		{"two of one name in one file",
			[]filecheck.File{file("a.pbk",
				slices.Concat(corpus(t, "clean/phone-book/sstp/rasphone.pbk"),
					corpus(t, "clean/phone-book/l2tp/rasphone.pbk")))}, filecheck.Options{},
			"name-not-unique", ""},
		{"something unknown beside what is known",
			[]filecheck.File{file("a.ovpn", []byte(tunnel)),
				file("notes.doc", []byte("call the office"))}, filecheck.Options{},
			"part-not-checked", "file-unreadable"},
	} {
		t.Run(test.name, func(t *testing.T) {
			test.options.Now = now
			items := filecheck.Check(test.files, test.options)
			if len(items) != len(test.files) {
				t.Errorf("%d answers for %d files", len(items), len(test.files))
			}
			found := strings.Fields(rules(items))
			for _, rule := range strings.Fields(test.want) {
				if !slices.Contains(found, rule) {
					t.Errorf("%s is not found, only %v", rule, found)
				}
			}
			for _, rule := range strings.Fields(test.not) {
				if slices.Contains(found, rule) {
					t.Errorf("%s is found", rule)
				}
			}
		})
	}
}

// TestIgnore keeps findings quiet by rule, by file, and until a day.
func TestIgnore(t *testing.T) {
	at := func(rule, file string) check.Finding {
		return check.Finding{Rule: rule, Position: &format.Position{File: file, Line: 1}}
	}
	list := []check.Finding{
		at("edge-space", "crew/a.ovpn"),
		at("edge-space", "crew/b.nmconnection"),
		at("secret-in-clear", "crew/a.ovpn"),
		{Rule: "edge-space"},
	}
	for _, test := range []struct {
		entry                string
		kept, ignored, ended int
	}{
		{"{rule: edge-space, reason: x, until: 2026-12-31}", 2, 2, 0},
		{"{rule: edge-space, files: ['*.ovpn'], reason: x, until: 2026-12-31}", 3, 1, 0},
		{"{rule: edge-space, files: ['crew/*'], reason: x, until: 2026-12-31}", 2, 2, 0},
		{"{rule: edge-space, files: ['deck/*'], reason: x, until: 2026-12-31}", 4, 0, 0},
		{"{rule: edge-space, reason: x, until: 2026-11-20}", 2, 2, 0}, // the last day counts
		{"{rule: edge-space, reason: x, until: 2026-11-19}", 4, 0, 1},
		{"{rule: psk-short, reason: x, until: 2026-11-19}", 4, 0, 0},
	} {
		entries, err := filecheck.ParseIgnore([]byte("ignore:\n  - " + test.entry + "\n"))
		if err != nil {
			t.Fatal(err)
		}
		kept, ignored, ended := filecheck.Apply(list, entries, now.Add(12*60*60*1e9))
		if len(kept) != test.kept || len(ignored) != test.ignored || len(ended) != test.ended {
			t.Errorf(
				"%s: kept %d, ignored %d, ended %d; expected %d, %d, %d",
				test.entry,
				len(kept),
				len(ignored),
				len(ended),
				test.kept,
				test.ignored,
				test.ended,
			)
		}
	}
	for entry, why := range map[string]string{
		"{rule: nothing, reason: x, until: 2026-12-31}":                  `rule: found "nothing"`,
		"{rule: edge-space, until: 2026-12-31}":                          "reason: found none",
		"{rule: edge-space, reason: ' ', until: 2026-12-31}":             "reason: found none",
		"{rule: edge-space, reason: x}":                                  `until: found ""`,
		"{rule: edge-space, reason: x, until: 31.12.2026}":               `until: found "31.12.2026"`,
		"{rule: edge-space, reason: x, until: 2026-12-31, files: ['[']}": `files: found "["`,
		"{rule: edge-space, reason: x, until: 2026-12-31, colour: red}":  "not an ignore file",
		"&a [*a, *a]": "not an ignore file",
	} {
		if _, err := filecheck.ParseIgnore(
			[]byte("ignore:\n  - " + entry + "\n"),
		); err == nil ||
			!strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v, expected %q", entry, err, why)
		}
	}
}

// TestDaemonsTogether reads the files of the L2TP daemon, of PPP and of the IKE daemon as one
// connection, in whatever form the last one is; what else it says stays, and alone it is no error.
func TestDaemonsTogether(t *testing.T) {
	file := func(name, data string) filecheck.File {
		return filecheck.File{Name: name, Data: []byte(data), Asked: true}
	}
	l2tp := []filecheck.File{
		file("xl2tpd.conf", "[lac harbour]\nlns = norrvik.skerryline.example\npppoptfile = "+
			"/etc/ppp/options.l2tpd.client\n"),
		file("options.l2tpd.client", "user a_fjell\npassword dune-45-Tangerine-flint\nnoauth\n"+
			"refuse-eap\nrefuse-pap\nrefuse-chap\nrefuse-mschap\n"),
	}
	swanctl := "connections {\n\tharbour {\n\t\tremote_addrs = norrvik.skerryline.example\n" +
		"\t\tversion = 1\n\t\tproposals = aes256-sha256-modp2048\n\t\tlocal {\n\t\t\tauth = psk\n" +
		"\t\t}\n\t\tremote {\n\t\t\tauth = psk\n\t\t}\n\t\tchildren {\n\t\t\tharbour {\n" +
		"\t\t\t\tmode = transport\n\t\t\t\tremote_ts = dynamic[udp/1701]\n" +
		"\t\t\t\tesp_proposals = aes256-sha256\n\t\t\t}\n\t\t}\n\t}\n}\nsecrets {\n\tike-harbour {\n" +
		"\t\tsecret = halyard-58-Cormorant-shingle\n\t}\n}\n"
	stroke := "conn harbour\n  keyexchange=ikev1\n  authby=secret\n  type=transport\n  right=" +
		"norrvik.skerryline.example\n  rightprotoport=17/1701\n  leftprotoport=17/1701\n  ike=" +
		"aes256-sha256-modp2048!\n  esp=aes256-sha256!\n  auto=add\n"
	secrets := file("ipsec.secrets",
		": PSK \"halyard-58-Cormorant-shingle\"\n")
	for _, test := range []struct {
		name  string
		files []filecheck.File
		count int
	}{
		{"swanctl.conf", append(l2tp, file("swanctl.conf", swanctl)), 1},
		{"with a connection by IKEv2", append(l2tp, file("swanctl.conf", swanctl+
			string(corpus(t, "clean/daemons/eap/norrvik.conf"))),
			file("root.pem", string(corpus(t, "certificates/root.pem")))), 2},
		{"ipsec.conf", append(l2tp, file("ipsec.conf", stroke), secrets), 1},
		{"the IKE daemon's half alone", []filecheck.File{file("swanctl.conf", swanctl)}, 1},
	} {
		count, whole := 0, false
		for _, item := range filecheck.Check(test.files, filecheck.Options{Now: now}) {
			for _, l := range item.Connections {
				c := l.Connection
				count++
				whole = whole || c.L2TP != nil && c.Login == "a_fjell" &&
					c.PSK().Reveal() == "halyard-58-Cormorant-shingle" &&
					slices.Equal(c.L2TP.IKE, []string{"aes256-sha256-modp2048"})
			}
			for _, f := range item.Findings {
				if f.Rule == "file-missing" {
					t.Errorf("%s: %s %s", test.name, f.Rule, f.Found)
				}
			}
		}
		if count != test.count || whole != (len(test.files) > 1) {
			t.Errorf("%s: %d connections, expected %d; whole %t", test.name, count, test.count, whole)
		}
	}
}
