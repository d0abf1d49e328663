package all_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// run calls a tool of the system; a test without the tool is skipped by name.
func run(t *testing.T, stdin []byte, name string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("%s is not installed", name)
	}
	cmd := exec.Command(path, args...)
	cmd.Stdin = strings.NewReader(string(stdin))
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v\n%s", name, err, out)
	}
	return string(out)
}

// laid writes the files of a connection into a folder.
func laid(
	t *testing.T,
	name platform.Format,
	c vpn.Connection,
) (dir string, files []format.File, codec format.Codec) {
	t.Helper()
	codec, _ = all.ByName(name)
	files, err := codec.Write(c)
	if err != nil {
		t.Fatal(err)
	}
	dir = t.TempDir()
	for _, f := range files {
		if err := os.WriteFile(filepath.Join(dir, f.Name), f.Content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir, files, codec
}

// nasty gives a connection values that need every quoting there is.
func nasty(c vpn.Connection) vpn.Connection {
	c.Name = ` Norrvik \ "=;#$`
	if c.TLS == nil {
		c.Login = `a'fjell<&>\s`
	}
	return c
}

// TestAppleParsers lets the parsers of property lists read what is written.
func TestAppleParsers(t *testing.T) {
	for name, c := range ways() {
		codec, _ := all.ByName(platform.AppleProfile)
		if !slices.Contains(codec.Protocols, c.Protocol) {
			continue
		}
		t.Run(name, func(t *testing.T) {
			dir, files, codec := laid(t, platform.AppleProfile, nasty(c))
			path := filepath.Join(dir, files[0].Name)
			if out := run(t, nil, "xmllint", "--noout", "--nonet", path); out != "" {
				t.Errorf("xmllint: %s", out)
			}
			run(t, nil, "plistutil", "-i", path, "-o", path+".binary")
			back := codec.Read(
				"back.mobileconfig",
				[]byte(run(t, nil, "plistutil", "-i", path+".binary")),
				nil,
			)
			if len(back.Connections) != 1 ||
				!equal(back.Connections[0].Connection, codec.Carried(nasty(c))) {
				t.Errorf("through the binary form it is something else; notes %v", back.Notes)
			}
		})
	}
}

// TestWindowsXML lets a strict XML parser read the profile for device management.
func TestWindowsXML(t *testing.T) {
	dir, files, _ := laid(t, platform.WindowsXML, nasty(ways()["ikev2 eap-tls"]))
	if out := run(
		t,
		nil,
		"xmllint",
		"--noout",
		"--nonet",
		filepath.Join(dir, files[0].Name),
	); out != "" {
		t.Errorf("xmllint: %s", out)
	}
}

// TestNetworkManager lets NetworkManager itself read every keyfile and write it back.
func TestNetworkManager(t *testing.T) {
	for name, c := range ways() {
		if c.L2TP != nil && c.L2TP.Aggressive {
			continue
		}
		t.Run(name, func(t *testing.T) {
			_, files, codec := laid(t, platform.Keyfile, nasty(c))
			out := run(
				t,
				files[0].Content,
				"nmcli",
				"--offline",
				"connection",
				"modify",
				"connection.autoconnect",
				"no",
			)
			back := codec.Read("back.nmconnection", []byte(out), format.Files(files))
			if len(back.Connections) != 1 ||
				!equal(back.Connections[0].Connection, codec.Carried(nasty(c))) {
				t.Errorf("NetworkManager wrote back something else; notes %v\n%s", back.Notes, out)
			}
		})
	}
}

// TestTunnelClient lets the client of the TLS tunnel take the options, and load what is
// inside: it comes as far as looking for the gateway, which is not there.
func TestTunnelClient(t *testing.T) {
	for _, form := range []platform.Format{platform.OVPN, platform.OVPNFolder, platform.PhoneOVPN} {
		for name, c := range ways() {
			if c.TLS == nil ||
				strings.Contains(name, "crypt-v2") { // whose key only the gateway's owner can make
				continue
			}
			t.Run(string(form)+"/"+name, func(t *testing.T) {
				t.Parallel()
				c := nasty(c)
				c.TLS.Remotes = []vpn.Remote{{Address: "127.0.0.1", Port: 9, Transport: vpn.TCP}}
				dir, files, _ := laid(t, form, c)
				path, err := exec.LookPath("openvpn")
				if err != nil {
					t.Skip("openvpn is not installed")
				}
				cmd := exec.Command(
					path,
					"--cd",
					dir,
					"--config",
					files[0].Name,
					"--dev",
					"null",
					"--connect-retry-max",
					"1",
					"--connect-timeout",
					"1",
					"--verb",
					"3",
				)
				out, _ := cmd.CombinedOutput() // it fails, because nobody answers
				text := string(out)
				if !strings.Contains(text, "127.0.0.1:9") ||
					strings.Contains(text, "Options error") ||
					strings.Contains(text, "Cannot load") ||
					strings.Contains(text, "cannot locate") {
					t.Errorf("the client says\n%s", text)
				}
			})
		}
	}
}

// TestIKEDaemon lets the IKE daemon load every configuration, in a network and a file
// system of its own.
func TestIKEDaemon(t *testing.T) {
	for _, tool := range []string{"swanctl", "unshare", "/usr/sbin/charon-systemd"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("only root can start the daemon")
	}
	if err := exec.Command("unshare", "-n", "-m", "true").Run(); err != nil {
		t.Skip("no namespaces can be made here")
	}
	root := t.TempDir()
	var names []string
	for name, c := range ways() {
		if c.IKEv2 == nil && c.L2TP == nil {
			continue
		}
		c.Name, c.UUID, c.Login = name+` "=#{`, strings.Replace(
			c.UUID,
			"6F1F",
			fmt.Sprintf("%04X", len(names)),
			1,
		), `a"fjell\x#{`
		_, files, _ := laid(t, platform.Daemons, c)
		names = append(names, strings.TrimSuffix(files[0].Name, ".conf"))
		install(t, files, root)
	}
	script := `set -e
mount -t tmpfs tmpfs /run
for f in ` + root + `/etc/swanctl/conf.d/*.conf; do cat "$f"; done > ` + root +
		`/etc/swanctl/swanctl.conf
printf 'charon-systemd { filelog { stderr { default = -1 } } plugins { vici { socket = unix:///run/charon.vici } } }\n' > ` + root + `/strongswan.conf
export STRONGSWAN_CONF=` + root + `/strongswan.conf SWANCTL_DIR=` + root + `/etc/swanctl
/usr/sbin/charon-systemd > /dev/null 2>&1 & daemon=$!
for i in $(seq 100); do [ -S /run/charon.vici ] && break; sleep 0.1; done
status=0
timeout 30 swanctl --load-all --noprompt 2>&1 || status=$?
timeout 10 swanctl --list-conns 2>&1 || status=$?
kill $daemon; wait $daemon || true
exit $status`
	out := run(t, nil, "unshare", "-n", "-m", "sh", "-c", script)
	for _, name := range names {
		if !strings.Contains(out, "loaded connection '"+name+"'") ||
			!strings.Contains(out, name+": ") {
			t.Errorf("%s is not loaded", name)
		}
	}
	for line := range strings.SplitSeq(out, "\n") {
		// Modules that Debian packs apart and folders that nobody needs are no faults.
		if (strings.Contains(line, "failed") || strings.Contains(line, "invalid")) &&
			!strings.HasPrefix(line, "plugin '") &&
			!strings.HasPrefix(line, "opening directory") {
			t.Errorf("the daemon says: %s", line)
		}
	}
}

// install runs an install script below a folder of its own.
func install(t *testing.T, files []format.File, root string) {
	t.Helper()
	script(t, files, root, "-install.sh")
}

func script(t *testing.T, files []format.File, root, ending string) {
	t.Helper()
	dir := t.TempDir()
	name := ""
	for _, f := range files {
		if err := os.WriteFile(filepath.Join(dir, f.Name), f.Content, 0o600); err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(f.Name, ending) {
			name = f.Name
		}
	}
	cmd := exec.Command("sh", filepath.Join(dir, name))
	cmd.Env = append(os.Environ(), "ROOT="+root)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", name, err, out)
	}
}

// tree lists the files below a folder with their modes and contents.
func tree(t *testing.T, root string) map[string]string {
	t.Helper()
	list := map[string]string{}
	err := filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		data, err := os.ReadFile(path)
		list[strings.TrimPrefix(path, root)+" "+info.Mode().String()] = string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// TestShellScripts runs install scripts twice, with a file of others in their way, and
// then the removal scripts.
func TestShellScripts(t *testing.T) {
	others := "; the file of others\n[global]\nport = 1701\n"
	for name, c := range ways() {
		for _, form := range []platform.Format{platform.Keyfile, platform.Daemons, platform.UCI} {
			codec, _ := all.ByName(form)
			files, err := codec.Write(c)
			if err != nil {
				continue
			}
			t.Run(string(form)+"/"+name, func(t *testing.T) {
				root := t.TempDir()
				if err := os.MkdirAll(root+"/etc/xl2tpd", 0o755); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(
					root+"/etc/xl2tpd/xl2tpd.conf",
					[]byte(others),
					0o644,
				); err != nil {
					t.Fatal(err)
				}
				before := tree(t, root)
				install(t, files, root)
				once := tree(t, root)
				install(t, files, root)
				if twice := tree(t, root); !same(once, twice) {
					t.Error("a second run changes something")
				}
				secrets := []string{c.Password.Reveal(), c.PSK().Reveal()}
				for path, content := range once {
					open := !strings.HasSuffix(path, "-rw-------")
					for _, s := range secrets {
						if open && len(s) > 2 && strings.Contains(content, s) ||
							open && strings.Contains(content, "PRIVATE KEY") {
							t.Errorf("%s holds a secret", path)
						}
					}
				}
				if form != platform.UCI && len(once) < len(before)+1 {
					t.Error("nothing was placed")
				}
				script(t, files, root, "-remove.sh")
				if after := tree(t, root); !same(before, after) {
					t.Errorf("after removal there is %v", after)
				}
			})
		}
	}
}

func same(a, b map[string]string) bool {
	if len(a) != len(b) {
		return false
	}
	for k, v := range a {
		if w, ok := b[k]; !ok || w != v {
			return false
		}
	}
	return true
}
