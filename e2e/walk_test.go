package e2e

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"wardicon/client"
	"wardicon/core/pki"
	"wardicon/core/secret"
)

const walkGateway = `connections { people {
  version = 2
  pools = people
  local { auth = pubkey
    certs = norrvik.pem
    id = norrvik.skerryline.example }
  remote { auth = eap-mschapv2
    eap_id = %any }
  proposals = aes256-sha256-ecp256
  children { net { local_ts = 10.20.0.0/16
    esp_proposals = aes256gcm16-ecp256 } } } }
pools { people { addrs = 10.77.0.0/16
  dns = 10.20.0.53 } }
`

// TestWalk goes from an empty service to 200 parcels that are ready, with the commands of the
// documents and nothing else.
func TestWalk(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("it starts a service of its own")
	}
	steps := documented(t, "docs/first-fleet.md")
	if len(steps) > 12 {
		t.Errorf("the walk has %d steps, expected at most 12", len(steps))
	}
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	root, own := gatewayChain(t, "norrvik.skerryline.example")
	write("norrvik-etc/swanctl.conf", walkGateway)
	write("norrvik-etc/norrvik.pem", own)
	write("norrvik-etc/root.pem", root)
	var crew strings.Builder
	crew.WriteString("name,email,login,password,group,device,platform,release\n")
	for i := range 200 {
		fmt.Fprintf(&crew, "Deckhand %d,deck%[1]d@skerryline.example,deck%[1]d,"+
			"quay-lantern-osprey-%[1]d-tangerine,crew,Deck laptop %[1]d,windows,11\n", i)
	}
	write("crew.csv", crew.String())
	var p *process
	run := func(args ...string) *exec.Cmd {
		cmd := command(args...)
		cmd.Dir = dir
		cmd.Env = append(cmd.Env, "XDG_CONFIG_HOME="+filepath.Join(dir, "config"), "HOME="+dir,
			"WARDICON_CONFIRM_FILE="+filepath.Join(dir, "confirm"))
		if p != nil {
			cmd.Env = append(cmd.Env, "WARDICON_SERVICE="+p.url)
		}
		cmd.Stdin = strings.NewReader(ownerPassword + "\n")
		return cmd
	}
	write("confirm", ownerPassword+"\n")
	began, job := time.Now(), ""
	for i, step := range steps {
		if step[0] == "serve" {
			p = begun(t, run(append(step, "--listen", "127.0.0.1:0", "--log", "json")...))
			continue
		}
		if strings.Join(step[:2], " ") == "service set-up" {
			step = append(step, "--password-file", "-")
		}
		if strings.Join(step[:2], " ") == "me sign-in" {
			step = append(step, "--password-file", "-")
		}
		for at, word := range step {
			if word == "JOB" {
				step[at] = job
			}
		}
		out, err := run(step...).CombinedOutput()
		if found := jobID.FindString(string(out)); found != "" {
			job = found
		}
		if err != nil {
			t.Fatalf("step %d, wardicon %s: %v\n%s", i+1, strings.Join(step, " "), err, out)
		} else if i == len(steps)-1 && strings.Count(string(out), "Deckhand") < 200 {
			t.Errorf("there are passcodes for %d people:\n%.2000s", strings.Count(string(out),
				"Deckhand"), out)
		}
	}
	t.Logf("%d steps in %s", len(steps), time.Since(began).Round(100*time.Millisecond))
	s := client.New(p.url, "")
	if _, err := s.SignIn(t.Context(), "harbourmaster", secret.New(ownerPassword)); err != nil {
		t.Fatal(err)
	}
	page, err := s.Handovers(t.Context(), client.Query{Limit: 1})
	if err != nil || page.Total != 200 {
		t.Errorf("%d handovers, %v", page.Total, err)
	}
	profiles, err := s.Profiles.List(t.Context(), client.Query{Limit: 1})
	if err != nil || profiles.Total != 200 || profiles.Items[0].Tally.Errors != 0 {
		t.Errorf("%d profiles, %+v, %v", profiles.Total, profiles.Items, err)
	}
}

var jobID = regexp.MustCompile(`jo-[0-9a-z]{16}`)

// gatewayChain is the root of a CA that is there already, and a gateway's certificate by it.
func gatewayChain(t *testing.T, name string) (root, own string) {
	t.Helper()
	made := func(by pki.Issuer, w pki.Wanted) (*x509.Certificate, crypto.Signer) {
		key, err := pki.NewKey(rand.Reader, pki.P256)
		if err != nil {
			t.Fatal(err)
		}
		if by.Key == nil {
			by.Key = key
		}
		w.From = time.Now().Add(-time.Hour)
		if w.To = w.From.AddDate(1, 0, 0); by.Certificate != nil {
			w.To = w.From.AddDate(0, 6, 0)
		}
		c, err := pki.Issue(rand.Reader, by, key.Public(), w)
		if err != nil {
			t.Fatal(err)
		}
		return c, key
	}
	ca, key := made(pki.Issuer{}, pki.Wanted{Name: "Old Harbour", Usage: pki.ForAuthority})
	leaf, _ := made(pki.Issuer{Certificate: ca, Key: key},
		pki.Wanted{Name: name, Usage: pki.ForServer, Names: []string{name}})
	return pki.Bundle(ca), pki.Bundle(leaf)
}
