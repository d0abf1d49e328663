package corpus_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"wardicon/core/format/keyfile"
)

// plugins are NetworkManager's plugins on a message bus of their own.
type plugins struct{ env []string }

// startPlugins starts those that are installed; nil where a bus cannot be had.
func startPlugins(t *testing.T) *plugins {
	t.Helper()
	for _, name := range []string{"dbus-daemon", "gdbus", "nmcli"} {
		if _, err := exec.LookPath(name); err != nil {
			return nil
		}
	}
	address := "unix:path=" + filepath.Join(t.TempDir(), "bus")
	p := &plugins{append(os.Environ(), "DBUS_SYSTEM_BUS_ADDRESS="+address,
		"DBUS_SESSION_BUS_ADDRESS="+address)}
	p.start(t, "dbus-daemon", "--session", "--nofork", "--address="+address)
	for range 100 {
		if _, err := os.Stat(strings.TrimPrefix(address, "unix:path=")); err == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	idle := filepath.Join(t.TempDir(), "idle")
	if err := os.WriteFile(idle, []byte("#!/bin/sh\ncase $1 in\n*version) "+
		"echo 'Linux strongSwan U5.9.8/K';;\n*) exit 1;;\nesac\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, service := range []string{"openvpn", "l2tp", "pptp", "sstp"} {
		path := "/usr/lib/NetworkManager/nm-" + service + "-service"
		if _, err := os.Stat(path); err != nil {
			continue
		}
		// Nothing that they start does anything but say its version, or reaches a network, and what
		// they write for it stays with them.
		p.start(t, "unshare", "-n", "-m", "sh", "-c", `mount -t tmpfs tmpfs /run
[ ! -d /etc/ipsec.d ] || mount -t tmpfs tmpfs /etc/ipsec.d
[ ! -f /etc/ipsec.secrets ] || mount --bind "$3" /etc/ipsec.secrets
for one in ipsec openvpn xl2tpd kl2tpd pptp pppd sstpc
do [ ! -e /usr/sbin/$one ] || mount --bind "$3" /usr/sbin/$one; done
exec "$1" --persist --bus-name "org.freedesktop.NetworkManager.$2"`, "sh", path, service, idle)
	}
	return p
}

func (p *plugins) start(t *testing.T, name string, args ...string) {
	t.Helper()
	cmd := exec.Command(name, args...)
	if cmd.Env = p.env; cmd.Start() != nil {
		return
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
}

// connect asks a plugin to connect, to a gateway that it cannot reach, and to stop again: what it
// says of arguments that it does not take.
func (p *plugins) connect(service string, data, secrets map[string]string) string {
	dict := func(values map[string]string) string {
		var parts []string
		for key, value := range values {
			parts = append(parts, fmt.Sprintf("%s: %s", quoted(key), quoted(value)))
		}
		if parts == nil {
			return "@a{ss} {}"
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	connection := "{'connection': {'id': <'x'>, 'uuid': <'6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11'>, " +
		"'type': <'vpn'>}, 'vpn': {'service-type': <'org.freedesktop.NetworkManager." + service +
		"'>, 'data': <" + dict(data) + ">, 'secrets': <" + dict(secrets) + ">}}"
	for range 100 {
		said := p.call(service, "Connect", connection)
		_, fault, wrong := strings.Cut(said, "VPN.Error.BadArguments: ")
		switch {
		case strings.Contains(said, "ServiceUnknown"), strings.Contains(said, "AlreadyStarted"),
			strings.Contains(said, "StartingInProgress"), strings.Contains(said, "StoppingInProgress"):
			time.Sleep(50 * time.Millisecond)
		case wrong:
			return strings.TrimSpace(fault)
		default:
			p.call(service, "Disconnect")
			return ""
		}
	}
	return "the plugin does not start"
}

func (p *plugins) call(service, method string, args ...string) string {
	cmd := exec.Command("gdbus", append([]string{"call", "--session", "-d",
		"org.freedesktop.NetworkManager." + service, "-o", "/org/freedesktop/NetworkManager/VPN/Plugin",
		"-m", "org.freedesktop.NetworkManager.VPN.Plugin." + method}, args...)...)
	cmd.Env = p.env
	out, _ := cmd.CombinedOutput()
	return string(out)
}

func quoted(text string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(text) + "'"
}

var keyLine = regexp.MustCompile(`(?m)^([\w-]+)=(.*)$`)

// keyfileClient brings a keyfile to NetworkManager, and what it is for to the plugin.
func (p *plugins) keyfileClient(_ *testing.T, _ *table, text string) string {
	cmd := exec.Command("nmcli", "--offline", "connection", "modify", "connection.autoconnect", "no")
	cmd.Stdin = strings.NewReader(text)
	var fault bytes.Buffer
	if cmd.Stderr = &fault; cmd.Run() != nil {
		return fault.String()
	}
	groups := map[string]map[string]string{}
	for part := range strings.SplitSeq("\n"+text, "\n[") {
		name, body, _ := strings.Cut(part, "]\n")
		groups[name] = map[string]string{}
		for _, m := range keyLine.FindAllStringSubmatch(body, -1) {
			groups[name][m[1]] = strings.TrimSpace(m[2])
		}
	}
	_, service, _ := strings.Cut(groups["vpn"]["service-type"], "NetworkManager.")
	if service == "strongswan" {
		return "" // it takes what it does not know
	}
	delete(groups["vpn"], "service-type")
	for _, key := range []string{"gateway", "remote"} { // no name is looked up
		if host := groups["vpn"][key]; strings.HasPrefix(host, "norrvik.") {
			groups["vpn"][key] = strings.Replace(host, "norrvik.skerryline.example", "127.0.0.1", 1)
		}
	}
	return p.connect(service, groups["vpn"], groups["vpn-secrets"])
}

// TestPlugins asks NetworkManager's plugins of every property, whether they take it and with which
// values.
func TestPlugins(t *testing.T) {
	t.Parallel()
	p := startPlugins(t)
	if p == nil {
		t.Skip("NetworkManager is not installed")
	}
	base := map[string]string{"openvpn": "remote", "l2tp": "gateway", "pptp": "gateway",
		"sstp": "gateway"}
	asked := map[string]bool{}
	for service := range base {
		for key := range keyfile.Properties(service) {
			asked[key] = true
		}
	}
	for service, gateway := range base {
		for key := range asked {
			kind, takes := keyfile.Properties(service)[key]
			data := map[string]string{gateway: "127.0.0.1", key: "zz q"}
			if service == "openvpn" {
				data["connection-type"], data["username"], data["ca"] = "password", "a", "/etc/hostname"
			}
			if key == gateway {
				continue
			}
			said := p.connect(service, data, nil)
			got := "takes it"
			switch {
			case strings.Contains(said, "not supported"):
				got = "does not"
			case strings.Contains(said, "boolean"):
				got = "flag"
			case strings.Contains(said, "integer"):
				got = "number"
			}
			want := map[bool]string{true: "takes it", false: "does not"}[takes]
			if takes && kind != "" && got != "takes it" {
				want = map[bool]string{true: "flag", false: "number"}[kind == keyfile.Flag]
			}
			if got != want {
				t.Errorf("%s: %s: the plugin %s, expected %s: %s", service, key, got, want, said)
			}
		}
	}
}
