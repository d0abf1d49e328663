package daemons

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/core/format"
)

// TestSettings brings files of settings to the daemon's own parser and to ours: both take the same.
func TestSettings(t *testing.T) {
	if _, err := exec.LookPath("swanctl"); err != nil {
		t.Skip("swanctl is not installed")
	}
	for _, text := range []string{
		"a {\n b = c }\n", "a {\n b = \"c\" }\n", "a { b = c\n}\n", "a { b = c\n d = e\n} f = g\n",
		"a {\n b = c d # x\n}\n", "a {\n b\n}\n", "x { }\na : x { b = c\n}\n", "a { \n",
		"a\n{\n b = 1\n}\n",
		"a { b { c = d\n } }\n", "}\n", "a = \"x\ny\"\n", "a.b = c\n", "a = b = c\n", "a =\n",
		"a = x\"y\"\n",
		"a { b = \"}\"\n}\n", "a : x, y { }\n", "a : { }\n", "# only\n", "a { b = c # }\n}\n",
		"a b = c\n",
		"include nothing.conf\na = b\n", "a { include nothing/*.conf\n}\n", ": x { }\n",
		"a = \"x\\\"y\"\n",
	} {
		file := filepath.Join(t.TempDir(), "a.conf")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		// reads the file first, as every program of the daemon does
		cmd := exec.Command("swanctl", "--version")
		cmd.Env = append(os.Environ(), "STRONGSWAN_CONF="+file)
		said, _ := cmd.CombinedOutput()
		want := !strings.Contains(string(said), "invalid config file")
		r := &reader{file: "a.conf", set: map[string]setting{}, begun: map[string]format.Position{}}
		s := &settings{r: r, file: "a.conf"}
		if got := s.parse(text) && len(r.path) == 0; got != want {
			t.Errorf("%q: taken here %t, by the daemon %t\n%s%+v", text, got, want, said, r.Notes)
		}
	}
}

// TestTemplates reads a configuration whose connection takes most from other sections and another
// file.
func TestTemplates(t *testing.T) {
	data := []byte("include shared.conf\nconnections {\n crew : ike, eap {\n  remote_addrs = " +
		"tallholm.example\n" +
		"  children { net : child { remote_ts = 10.30.0.0/16\n } } } }\n" +
		"ike { version = 2\n proposals = aes256-sha256-modp2048\n remote { auth = pubkey\n id = " +
		"tallholm.example } }\n" +
		"eap { local { auth = eap-mschapv2\n eap_id = a_fjell } }\ninclude more/*.conf\n")
	beside := func(name string) ([]byte, bool) {
		return []byte("child { esp_proposals = aes256-sha256-modp2048 }\n"), name == "shared.conf"
	}
	r := Read("swanctl.conf", data, beside)
	if len(r.Connections) != 1 {
		t.Fatalf("%d connections, %+v", len(r.Connections), r.Notes)
	}
	c := r.Connections[0].Connection
	if c.Server != "tallholm.example" || c.IKEv2.RemoteID != "tallholm.example" ||
		c.IKEv2.Auth != "eap-mschapv2" ||
		len(c.IKEv2.IKE) != 1 || len(c.IKEv2.ESP) != 1 || len(c.Routes) != 1 ||
		c.Login != "a_fjell" {
		t.Errorf("%+v %+v", c, c.IKEv2)
	}
	if len(r.NotCarried) != 1 || r.NotCarried[0].What != "include more/*.conf" ||
		r.NotCarried[0].At.Line != 13 {
		t.Errorf("not carried: %+v", r.NotCarried)
	}
	for _, n := range r.Notes {
		if n.Kind == format.Unreadable || n.Kind == format.KeyMalformed {
			t.Errorf("%+v", n)
		}
	}
}
