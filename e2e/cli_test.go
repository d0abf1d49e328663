package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"wardicon/api"
	"wardicon/core/check"
	"wardicon/demo"
)

func write(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestExitCodes runs command lines of every kind and looks at exit code and words.
func TestExitCodes(t *testing.T) {
	f := start(t, true)
	if code, out, errs := f.run(
		demo.OwnerPassword,
		"me",
		"sign-in",
		"--name",
		demo.OwnerName,
		"--password-file",
		"-",
	); code != 0 {
		t.Fatal(code, out, errs)
	}
	broken := write(t, "x.nmconnection", "[connection]\nid=x\ntype=vpn\n")
	two := write(t, "two.txt", "a\nb\n")
	for _, test := range []struct {
		args  string // split at |
		stdin string
		want  int
		says  string // a part of what is printed
	}{
		{"gateway|list", "", 0, "Norrvik"},
		{"gateway|show|NORRVIK", "", 0, "PSK set                   yes"},
		{"device|list|--filter|platform=ios|--sort|-name", "", 0, "2 devices"},
		{"person|list|--search|zzz", "", 0, "no people"},
		{"account|change|i_moreau|--password-file|-", "quay-55-Marjoram-tallow-fig", 0, "stored"},
		{"device|change|Relief phone|--release|18", "", 0, "18"},
		{"organisation|change|--name|Skerry Ferries", "", 0, "Skerry Ferries"},
		{"plan|Engine laptop 1|Norrvik", "", 0, "the only account of Ines Moreau"},
		{"plan|Engine laptop 1|Easthaven", "", 1, "Dynamic address"},
		{"plan|Planner Mac 1|Norrvik|--tunnel|split", "", 1, "Device does not support split " +
			"tunnels"},
		{"profile|preview|Engine laptop 1/Norrvik", "", 0, "ipsec-psk=0s[hidden]"},
		{"build|Deck phone 2/Easthaven", "", 1, "Release no longer supports the protocol"},
		{"rule|list", "", 0, "edge-space"},
		{"rule|show|edge-space", "", 0, "Remove the space"},
		{"platform|list", "", 0, "Android 12 and later"},
		{"platform|show|android|14", "", 0, "new connections cannot be made"},
		{"platform|show|android|99", "", 0, "treated like 16"},
		{"platform|show|toaster|1", "", 4, "there is no platform"},
		{"platform|show|android", "", 2, "expected PLATFORM RELEASE"},
		{"audit|list|--search|reveal", "", 0, ""},
		{"new-secret|--output|json", "", 0, `"bits": 100`},
		{"new-secret|--bits|10", "", 2, "expected 60 to 300"},
		{"me|show", "", 0, "harbourmaster"},
		{"check|" + broken, "", 1, "key-malformed"},
		{"check|" + broken + "|--exit-on|error", "", 1, "error"},
		{"check|-", "nonsense", 1, "none of the formats"},
		{"gateway|change|Norrvik|--route|10.20.0.0", "", 1, "routes/0: found"},
		{"gateway|add|Nowhere", "", 1, "address: found nothing"},
		{"gateway|show|Nowhere", "", 4, `there is no gateway "Nowhere"`},
		{"gateway|remove|Norrvik", "", 1, "still used by"},
		{"person|add|X|--mail|x", "", 1, "mail: found"},
		{"account|add|x|--person|Ada Fjell|--password-file|" + two, "", 2, "found several lines"},
		{"gateway|change|Norrvik", "", 2, "nothing to change"},
		{"gateway|add", "", 2, "expected NAME"},
		{"gateway|lst", "", 2, "unknown"},
		{"nothing", "", 2, "unknown command"},
		{"gateway|list|--colour", "", 2, "unknown flag"},
		{"gateway|list|--output|xml", "", 2, "expected table, json, yaml or csv"},
		{"check", "", 2, "found no file"},
		{"check|/nowhere/x", "", 2, "there is no file or folder"},
		{"check|" + broken + "|--exit-on|never", "", 2, "--exit-on"},
		{"rule|show|no-such", "", 4, "there is no rule"},
		{"gateway|list|--service|http://127.0.0.1:1", "", 3, "no service answers at " +
			"http://127.0.0.1:1"},
		{"service|backup|--data|/nowhere|--out|/tmp/x", "", 1, "there is no file or folder"},
		{"me|sign-in|--name|harbourmaster|--password-file|-", "wrong", 1,
			"name, password or code is wrong"},
		{"me|sign-out", "", 0, "signed out"},
		{"gateway|list", "", 1, "wardicon me sign-in"},
	} {
		t.Run(test.args, func(t *testing.T) {
			f.t = t
			code, out, errs := f.run(test.stdin, strings.Split(test.args, "|")...)
			if code != test.want || !strings.Contains(out+errs, test.says) {
				t.Errorf(
					"ended with %d, expected %d and %q:\n%s%s",
					code,
					test.want,
					test.says,
					out,
					errs,
				)
			}
			if code > 0 && code != 1 && out != "" {
				t.Errorf("an error was printed as output: %s", out)
			}
			for _, s := range demo.Secrets() {
				if strings.Contains(out+errs, s) {
					t.Error("a secret was printed")
				}
			}
		})
	}
}

// TestOutput reads the same list in all three forms.
func TestOutput(t *testing.T) {
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	var fromJSON, fromYAML api.Page[api.Device]
	_, out, _ := f.run("", "device", "list", "--output", "json")
	if err := json.Unmarshal([]byte(out), &fromJSON); err != nil {
		t.Fatal(err)
	}
	_, out, _ = f.run("", "device", "list", "-o", "yaml")
	data, err := yaml.YAMLToJSON([]byte(out))
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(data, &fromYAML); err != nil {
		t.Fatal(err)
	}
	_, out, _ = f.run("", "device", "list")
	if len(fromJSON.Items) != 31 || len(fromYAML.Items) != 31 || strings.Count(out, "de-") != 31 ||
		!reflect.DeepEqual(fromJSON.Items[3], fromYAML.Items[3]) {
		t.Errorf(
			"%d by JSON, %d by YAML, %d in the table",
			len(fromJSON.Items),
			len(fromYAML.Items),
			strings.Count(out, "de-"),
		)
	}
	terminal := regexp.MustCompile(`[\x00-\x08\x0b-\x1f\x7f]|\x{200b}`)
	if _, out, _ = f.run(
		"",
		"account",
		"list",
	); terminal.MatchString(out) ||
		!strings.Contains(out, "j_\ufffdaker") {
		t.Errorf("a value of the records reached the terminal as it is: %q", out)
	}
}

// TestCheckFiles plants mistakes into files that Wardicon wrote, and holds that each is
// found at its line or path.
func TestCheckFiles(t *testing.T) {
	f := start(t, true)
	files := map[string]string{}
	for device, gateway := range map[string]string{
		"Engine laptop 1": "Norrvik",
		"Bridge tablet 2": "Norrvik",
	} {
		shown, err := f.client.Preview(t.Context(), f.profile(device, gateway), false, true)
		if err != nil {
			t.Fatal(err)
		}
		files[device] = shown.Items[0].Text
	}
	for _, test := range []struct {
		device, file, old, new, rule, at string
	}{
		{"Engine laptop 1", "a.nmconnection", "", "", "", ""},
		{"Bridge tablet 2", "a.mobileconfig", "", "", "", ""},
		{"Engine laptop 1", "a.nmconnection", "user=i_moreau@", `user=\si_moreau@`, "edge-space",
			"a.nmconnection:10:6 vpn.user"},
		{"Engine laptop 1", "a.nmconnection", "gateway=norrvik", "gateway=https://norrvik",
			"address-with-scheme", "a.nmconnection:9:9 vpn.gateway"},
		{"Engine laptop 1", "a.nmconnection",
			"ipsec-ike=aes256-sha2_256-modp2048,aes256-sha1-ecp384,aes256-sha1-modp2048",
			"ipsec-ike=des-md5-modp768", "algorithm-broken", "vpn.ipsec-ike"},
		{"Engine laptop 1", "a.nmconnection", "route1=10.20.0.0/16", "route1=10.20.5.0/16",
			"route-host-bits", "ipv4.route1"},
		{"Engine laptop 1", "a.nmconnection", "refuse-pap=yes", "refuse-pap=no", "ppp-clear", ""},
		{"Engine laptop 1", "a.nmconnection", "ipsec-enabled=yes", "ipsec-enabled=no",
			"l2tp-unprotected", "vpn.ipsec-enabled"},
		{"Engine laptop 1", "a.nmconnection", "[ipv4]", "[ipv4]\nmethd=auto", "key-unknown",
			"ipv4.methd"},
		{"Bridge tablet 2", "a.mobileconfig", "<string>norrvik.skerryline.example</string>",
			"<string>192.168.1.5</string>", "address-private",
			"PayloadContent[0].PPP.CommRemoteAddress"},
		{"Bridge tablet 2", "a.mobileconfig", "<key>IPSec</key>", "<key>IPSek</key>", "psk-missing",
			"a.mobileconfig:7"},
		{"Bridge tablet 2", "a.mobileconfig", "</plist>", "", "cut-short", "a.mobileconfig"},
		{"Bridge tablet 2", "a.mobileconfig", "<string>10.21.0.53</string>",
			"<string>203.0.113.53</string>", "dns-outside-world", "DNS.ServerAddresses"},
	} {
		t.Run(test.device+" "+test.rule, func(t *testing.T) {
			f.t = t
			text := files[test.device]
			if test.old != "" && !strings.Contains(text, test.old) {
				t.Fatalf("%q is not in the file", test.old)
			}
			path := write(t, test.file, strings.Replace(text, test.old, test.new, 1))
			code, out, errs := f.run("", "check", path, "--output", "json")
			var got struct{ Findings []check.Finding }
			if err := json.Unmarshal([]byte(out), &got); err != nil {
				t.Fatal(err, errs)
			}
			if test.rule == "" {
				if code != 0 {
					t.Errorf("a sound file ended with %d: %s", code, out)
				}
				return
			}
			for _, finding := range got.Findings {
				if finding.Rule == test.rule {
					if at := finding.Position.String(); !strings.Contains(at, test.at) {
						t.Errorf("found at %s, expected %s", at, test.at)
					}
					return
				}
			}
			t.Errorf("not found: %s", out)
		})
	}
}

// TestHelp holds that every command is told at length and with an example.
func TestHelp(t *testing.T) {
	t.Parallel()
	f := start(t, false)
	name := regexp.MustCompile(`(?m)^  ([a-z][a-z-]+) `)
	seen := 0
	var walk func(args []string)
	walk = func(args []string) {
		seen++
		_, out, _ := f.run("", append(args, "--help")...)
		if len(args) > 0 && args[0] == "completion" {
			return
		}
		_, commands, more := strings.Cut(out, "Commands:")
		if !strings.Contains(out, "Examples:") ||
			!strings.Contains(out, "wardicon "+strings.Join(args, " ")) {
			t.Errorf("%v has no example:\n%s", args, out)
		}
		if !more && len(args) > 0 {
			return
		}
		if i := strings.Index(out, "Records:"); len(args) == 0 {
			commands = out[i:]
		}
		commands, _, _ = strings.Cut(commands, "Flags:")
		for _, m := range name.FindAllStringSubmatch(commands, -1) {
			if m[1] != "help" && m[1] != "wardicon" {
				walk(append(args[:len(args):len(args)], m[1]))
			}
		}
	}
	walk(nil)
	if seen < 40 {
		t.Errorf("%d commands were looked at: some were missed", seen)
	}
	if code, out, _ := f.run(
		"",
		"completion",
		"bash",
	); code != 0 ||
		!strings.Contains(out, "wardicon") {
		t.Error("no shell completion")
	}
}

// TestCompletion asks for names as a shell does.
func TestCompletion(t *testing.T) {
	f := start(t, true)
	f.run(demo.OwnerPassword, "me", "sign-in", "--name", demo.OwnerName, "--password-file", "-")
	for args, want := range map[string]string{
		"gateway|show|":                 "Brattvik\nEasthaven\nLyngholm\nNorrvik\nTallholm\n",
		"person|change|le":              "Leif Sund\n",
		"plan|Bridge tablet":            "Bridge tablet 1\nBridge tablet 2\nBridge tablet 3\n",
		"plan|Bridge tablet 1|nor":      "Norrvik\n",
		"plan|Bridge tablet 1|Norrvik|": "",
		"build|Engine laptop 1/":        "Engine laptop 1/Norrvik\nEngine laptop 1/Tallholm\n",
		"gateway|list|--output|":        "table\njson\nyaml\n",
	} {
		_, out, _ := f.run("", append([]string{"__complete"}, strings.Split(args, "|")...)...)
		if got, _, _ := strings.Cut(out, ":4"); got != want {
			t.Errorf("%s is offered %q, expected %q", args, got, want)
		}
	}
}

// TestDemoOnce runs the tour as make demo ONCE=1 does.
func TestDemoOnce(t *testing.T) {
	t.Parallel()
	f := start(t, false)
	code, out, errs := f.run("", "demo", "--once")
	if code != 0 || !strings.Contains(out, "That was the full example.") {
		t.Errorf("ended with %d:\n%s%s", code, out, errs)
	}
	for i, s := range demo.Secrets() {
		if strings.Contains(out+errs, s) {
			t.Errorf("secret %d of the sample data was printed", i)
		}
	}
}
