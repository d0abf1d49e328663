package e2e

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"wardicon/core/format"
	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/demo"
)

var fences = regexp.MustCompile("(?ms)^```[a-z]*\n(.*?)^```")

// documented are the commands of a document, in their order.
func documented(t *testing.T, name string) (all [][]string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", name))
	if err != nil {
		t.Fatal(err)
	}
	for _, block := range fences.FindAllStringSubmatch(string(text), -1) {
		for line := range strings.SplitSeq(strings.ReplaceAll(block[1], "\\\n", " "), "\n") {
			line, _, _ = strings.Cut(line, " #")
			line, _, _ = strings.Cut(line, " >")
			if _, after, ok := strings.Cut(line, "| wardicon"); ok {
				line = "wardicon" + after
			}
			rest, ok := strings.CutPrefix(strings.TrimSpace(line), "wardicon ")
			if !ok {
				continue
			}
			words, err := format.Words(rest, "", false)
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, words)
		}
	}
	return all
}

// known are identifiers as commands print them.
var known = regexp.MustCompile(`\b([a-z]{2})-[a-z0-9]{16}\b`)

// ended is how a command of the documents ends where its surroundings are not there.
type ended struct {
	code int
	said string
}

// either is an end with findings or without: the service probes a new gateway by itself meanwhile.
const either = -1

// runbooks are the documents whose commands are run in their order beside the demo's data; elsewhere are
// commands, by how they begin, that need what a test does not have: a mail server, a gateway, a token.
var runbooks = map[string]map[string]ended{
	"README.md": {
		"check parcels/": {2, "there is no file or folder"}, "check ": {1, "error"}, "probe ": {1, "does not resolve"},
		"explain /var/log/syslog":        {1, "Nothing is known about this"},
		"rehearse --profile Yard server": {4, "no device"}, // of the demo, not of this service
		"rehearse norrvik.ovpn":          {1, "name resolution"},
	},
	"docs/certificates.md": {
		"certificate answer": {2, "engine.pem"}, // the vault has not signed it yet
		"serve ":             {1, "chain.pem"},
		// TestToken has one.
		"serve --data data --pkcs11":                   {1, "with the PIN of Skerry Line"},
		"authority make Skerry Line --issuing --token": {1, "it has none"},
		"authority add Vault in the token":             {1, "without tokens"},
		"certificate sign":                             {2, "norrvik.csr"},
		"certificate order ":                           {2, "norrvik.csr"},
	},
	"docs/explaining.md": {
		"explain /var/log/syslog": {1, "one profile"}, "explain -": {1, "Nothing is known"},
	},
	"docs/handing-over.md": {
		"handover make Planner Mac 1/Norrvik --by-mail": {1, "mail server"},
		"handover group": {1, "mail server"}, "handover slips": {4, "no job"},
	},
	"docs/importing.md": {
		"service directory read": {1, "directory.skerryline.example"}, "import undo": {1, "preview"},
		"import sandvik-users.csv": {1, "no row"}, // the daemons' files hold no users
	},
	"docs/inventory.md": {},
	"docs/operations.md": {
		"me second-factor on":                  {1, "key for the app"},
		"organisation change --four-eyes":      {1, "a second owner"},
		"operator approval grant":              {4, "no approval"},
		"serve --data /var/lib/wardicon --bac": {1, "backup-recipient"},
		"serve --data /var/lib/wardicon --mir": {1, "/srv/wardicon-mirror"},
		"service restore":                      {2, "there is no file or folder"},
		"service change-key":                   {1, "/etc/wardicon"},
		"service webhook add":                  {1, "no such host"}, "service webhook": {4, "no webhook"},
		"service mail test":    {1, "mail.skerryline.example"},
		"serve --audit-syslog": {1, "ca.pem"},
	},
	"docs/rehearsal.md": {
		"rehearse norrvik.ovpn": {1, "name resolution"},
		"rehearse parcels/ada/": {1, "name resolution"},
		"rehearse tallholm":     {1, "name resolution"},
		"rehearse --profile":    {1, "name resolution"},
		"rehearse --gateway":    {1, "an account to sign in with"},
	},
	"docs/runbook.md": {},
	"docs/probing.md": {
		"probe Brattvik --history": {0, ""}, "probe 192.0.2.9": {0, ""}, "probe --all": {1, "Norrvik"}, "probe ": {1, "does not resolve"},
	},
	"docs/switching-over.md": {},
}

// TestRunbook runs the commands of the documents as they stand there.
func TestRunbook(t *testing.T) {
	for name, ends := range runbooks {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var f *fleet
			if name == "docs/rehearsal.md" { // there are parcels
				f = startLived(t)
			} else {
				f = start(t, name != "README.md")
			}
			dir, last := t.TempDir(), map[string]string{}
			if name == "README.md" { // it begins with nothing
				if err := f.svc.AddOwner(t.Context(), demo.OwnerName, secret.New(demo.OwnerPassword), ""); err != nil {
					t.Fatal(err)
				}
			}
			run := func(words ...string) (int, string) {
				ctx, stop := context.WithTimeout(t.Context(), time.Minute)
				defer stop()
				cmd := exec.CommandContext(ctx, os.Args[0], words...)
				cmd.Dir = dir
				cmd.Env = append(os.Environ(), "WARDICON_PROCESS=1", "HOME="+dir, "WARDICON_SERVICE="+f.url,
					"XDG_CONFIG_HOME="+filepath.Join(dir, "config"), "WARDICON_CONFIRM_FILE="+f.confirmFile())
				cmd.Stdin = strings.NewReader(demo.OwnerPassword + "\n")
				out, err := cmd.CombinedOutput()
				if err != nil && cmd.ProcessState.ExitCode() < 0 {
					t.Fatalf("%q: %v", words, err)
				}
				for _, id := range known.FindAllStringSubmatch(string(out), -1) {
					last[id[1]] = id[0]
				}
				return cmd.ProcessState.ExitCode(), string(out)
			}
			if code, out := run("me", "sign-in", "--name", demo.OwnerName, "--password-file", "-"); code != 0 {
				t.Fatal(out)
			}
			furnish(t, f, dir, run)
			used := map[string]bool{}
			for _, words := range documented(t, name) {
				line := strings.Join(words, " ")
				switch {
				case strings.HasSuffix(line, "--offer all"):
					continue // one sign-in a minute; TestRehearsals begins it
				case strings.HasPrefix(line, "service simulate"), line == "serve --data /var/lib/wardicon",
					strings.HasPrefix(line, "me sign-in"):
					continue // they wait for somebody; TestProcess and TestSimulate start them
				case words[0] == "serve":
					words = append(words, "--check")
				case strings.HasPrefix(line, "service set-up"):
					words = append(words, "--password-file", "-")
				}
				for i, w := range words {
					w = strings.ReplaceAll(w, "/var/lib/wardicon", filepath.Join(dir, "data"))
					w = strings.ReplaceAll(w, "/srv/wardicon-moved", filepath.Join(dir, "data"))
					if id := known.FindStringSubmatch(w); id != nil && last[id[1]] != "" {
						w = last[id[1]]
					}
					words[i] = map[string]string{"JOB": last["jo"], "ID": last["im"]}[w]
					if words[i] == "" {
						words[i] = w
					}
				}
				want, longest := ended{}, ""
				for begin, e := range ends {
					if strings.HasPrefix(line, begin) && len(begin) > len(longest) {
						want, longest = e, begin
					}
				}
				if files, err := filepath.Glob(filepath.Join(dir, words[len(words)-1])); err == nil && len(files) > 0 {
					words = append(words[:len(words)-1], files...) // as a shell does
				}
				used[longest] = true
				code, out := run(words...)
				if want.code == either && code < 2 {
					code = either
				}
				if code != want.code || !strings.Contains(out, want.said) {
					t.Errorf("%q ended with %d, expected %d and %q\n%.600s", line, code, want.code, want.said, out)
				}
			}
			for begin := range ends {
				if !used[begin] {
					t.Errorf("no command begins with %q", begin)
				}
			}
		})
	}
}

// furnish puts the files there that commands of the documents name.
func furnish(t *testing.T, f *fleet, dir string, run func(...string) (int, string)) {
	t.Helper()
	write := func(name, text string) {
		path := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700),
			os.WriteFile(path, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	root, own := gatewayChain(t, "norrvik.skerryline.example")
	authority, _, _ := identity(t)
	key, err := pki.NewKey(rand.Reader, pki.P256)
	if err != nil {
		t.Fatal(err)
	}
	text, err := pki.KeyPEM(key)
	now := time.Now().Add(-time.Hour)
	ca, err2 := pki.Issue(rand.Reader, pki.Issuer{Key: key}, key.Public(), pki.Wanted{
		Name: "Harbour authority", Usage: pki.ForAuthority, From: now, To: now.AddDate(1, 0, 0),
	})
	if err := errors.Join(err, err2); err != nil {
		t.Fatal(err)
	}
	write("harbour.pem", pki.Bundle(ca))
	write("harbour.key", text.Reveal())
	write("vault.pem", root)
	for _, at := range []string{"sandvik-etc/", "norrvik-etc/"} {
		write(at+"swanctl.conf", walkGateway)
		write(at+"norrvik.pem", own)
		write(at+"root.pem", root)
	}
	write("directory-ca.pem", authority)
	for i, name := range []string{"secret.txt", "reader.secret", "client.secret", "ada.secret", "norrvik.psk"} {
		write(name, fmt.Sprintf("kelp-7%d-Driftwood-lantern-oar\n", i))
	}
	write("people.csv", "name,email,login,group\nNoor Vang,noor@skerryline.example,n_vang,pursers\n")
	if !strings.HasSuffix(t.Name(), "README.md") {
		to := map[string]string{"Yard laptop/Brattvik": "parcels"}
		if strings.HasSuffix(t.Name(), "rehearsal.md") {
			to = map[string]string{
				"Yard laptop/Brattvik": "parcels/ada", "Master tablet/Brattvik": "tablet",
			}
		}
		for profile, folder := range to {
			if code, out := run("build", profile, "--out", folder); code > 1 {
				t.Fatal(out)
			}
		}
		if found, _ := filepath.Glob(filepath.Join(dir, "tablet", "*.mobileconfig")); len(found) > 0 {
			if err := os.Rename(found[0], filepath.Join(dir, "tallholm.mobileconfig")); err != nil {
				t.Fatal(err)
			}
		}
	}
	if strings.HasSuffix(t.Name(), "runbook.md") {
		if code, out := run("service", "set-up", "--data", "data", "--owner", demo.OwnerName,
			"--password-file", "-"); code != 0 {
			t.Fatal(out)
		}
	}
	if strings.HasSuffix(t.Name(), "importing.md") {
		if code, out := run("authority", "make", "Skerry Line"); code != 0 {
			t.Fatal(out)
		}
	}
	write("norrvik.ovpn", "client\ndev tun\nremote norrvik.skerryline.example 1194 udp\nremote-cert-tls server\n"+
		"auth-user-pass\ndata-ciphers AES-256-GCM\n<ca>\n"+authority+"</ca>\n")
	write("office.nmconnection", "[connection]\nid= Norrvik\ntype=vpn\n\n[vpn]\nservice-type=org.freedesktop.NetworkManager.l2tp\ngateway=norrvik.skerryline.example \n")
}
