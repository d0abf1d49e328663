package connect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// uci is what stands in for OpenWrt's own program: it keeps what a batch sets, a line each.
const uci = `#!/bin/sh
db=/etc/uci.db
touch "$db"
case "$1" in
batch) cat >> "$db" ;;
-q) sed -i "/^set $3[.=]/d; /^add_list $3[.=]/d" "$db" ;;
*) echo "$@" >> /etc/uci.log ;;
esac
`

// configured reads what a batch has set.
func configured(text string) map[string]string {
	m := map[string]string{}
	for line := range strings.SplitSeq(text, "\n") {
		rest, ok := strings.CutPrefix(line, "set ")
		if !ok {
			continue
		}
		key, value, _ := strings.Cut(rest, "=")
		value = strings.ReplaceAll(value, `'\''`, "\x00")
		m[key[strings.LastIndex(key, ".")+1:]] = strings.ReplaceAll(
			strings.Trim(value, "'"),
			"\x00",
			"'",
		)
	}
	return m
}

// TestOpenWrt installs parcels of routers with their own scripts, and connects with what
// those have set.
func TestOpenWrt(t *testing.T) {
	t.Parallel()
	w := systemsWorld(t)
	w.cli.write("/run/uci", 0o755, uci)
	w.cli.shell(
		`mkdir -p /etc/init.d; for s in network firewall dnsmasq swanctl; do printf '#!/bin/sh\n' ` +
			`> /etc/init.d/$s.new; chmod +x /etc/init.d/$s.new; mv /etc/init.d/$s.new ` +
			`/etc/init.d/$s; done; mkdir -p /run/bin; mv /run/uci /run/bin/uci; printf ` +
			`'#!/bin/sh\n' > /run/bin/xl2tpd; chmod +x /run/bin/xl2tpd`,
	)
	w.device("Router", "openwrt", "23.05", "Harbour")
	install := func(t *testing.T, parcel string) map[string]string {
		t.Helper()
		w.cli.shell(
			`cd "$1" && rm -f /etc/uci.db && touch /etc/uci.db && PATH=/run/bin:$PATH sh `+
				`./*-install.sh`,
			parcel,
		)
		return configured(w.cli.run("cat", "/etc/uci.db"))
	}
	remove := func(t *testing.T, parcel string) {
		t.Helper()
		w.cli.shell(`cd "$1" && PATH=/run/bin:$PATH sh ./*-remove.sh`, parcel)
		if left := w.cli.shell(
			"grep -v '^commit' /etc/uci.db || true; find /etc/swanctl /etc/openvpn " +
				"/etc/nftables.d -name 'skerry*' 2> /dev/null || true; ls /etc/vpn-parcels",
		); left != "" {
			t.Errorf("after removal there is %s", left)
		}
	}
	for _, gateway := range []string{"Eap", "Cert", "Psk"} {
		t.Run("ikev2/"+gateway, func(t *testing.T) {
			w.r.do("profile", "add", "Router", "--gateway", gateway, "--protocol", "ikev2")
			parcel := w.r.build("Router/" + gateway)
			install(t, parcel)
			comesUp(
				t,
				w.cli,
				"swanctl",
				"--initiate",
				"--child",
				"skerry-line-"+strings.ToLower(gateway),
				"--timeout",
				"20",
			)
			remove(t, parcel)
		})
	}
	for _, gateway := range []string{"Named", "Certified"} {
		t.Run("l2tp/"+gateway, func(t *testing.T) {
			w.r.do("profile", "add", "Router", "--gateway", gateway, "--protocol", "l2tp")
			parcel := w.r.build("Router/" + gateway)
			set := install(t, parcel)
			host := strings.ToLower(gateway) + ".skerryline.example"
			if set["proto"] != "l2tp" || set["server"] != host || set["username"] != login ||
				set["password"] != password {
				t.Errorf("the batch sets %v", set)
			}
			if rules := w.cli.shell(
				`cat /etc/nftables.d/*gate.nft`,
			); !strings.Contains(
				rules,
				"udp dport 1701 rt ipsec missing drop",
			) {
				t.Errorf("the filter is %s", rules)
			}
			// fw4 includes such files into its own table.
			w.cli.shell(
				`{ echo "table inet fw4 {"; cat /etc/nftables.d/*gate.nft; echo "}"; } > ` +
					`/run/fw4.nft && nft -f /run/fw4.nft && nft delete table inet fw4`,
			)
			out, _ := w.cli.try(
				20,
				"swanctl",
				"--initiate",
				"--child",
				"skerry-line-"+strings.ToLower(gateway),
				"--timeout",
				"8",
			)
			if !strings.Contains(out, "established between") ||
				!strings.Contains(out, "selected proposal: ESP:") {
				t.Errorf("expected main mode up and quick mode chosen:\n%s", out)
			}
			proves(
				t,
				"signs in",
				"uci",
				"l2tp "+map[string]string{"Named": "psk", "Certified": "certificate"}[gateway],
			)
			remove(t, parcel)
		})
	}
	for i, auth := range []string{"certificate-password", "password", "certificate"} {
		for _, keep := range []string{"saved", "asked"} {
			t.Run("tls/"+auth+"/"+keep, func(t *testing.T) {
				name := "Routed" + map[string]string{"saved": "1", "asked": "2"}[keep] + string(
					rune('a'+i),
				)
				server := newTunnelGateway(
					t,
					w.r,
					w.gw,
					w.cli,
					name,
					190+3*i+map[string]int{"asked": 1}[keep],
					auth,
					map[bool]string{true: "crypt-v2", false: "crypt"}[auth == "certificate"],
					"udp",
					"Harbour",
				)
				defer server.stop()
				w.r.do("profile", "add", "Router", "--gateway", name, "--password", keep)
				parcel := w.r.build("Router/" + name)
				w.cli.write("/run/asked", 0o600, password+"\n")
				w.cli.shell(
					`cd "$1" && rm -f /etc/uci.db && touch /etc/uci.db && `+
						`PASSWORD_FILE=/run/asked PATH=/run/bin:$PATH sh ./*-install.sh`,
					parcel,
				)
				set := configured(w.cli.run("cat", "/etc/uci.db"))
				client := w.cli.start("router"+name, "openvpn", "--config", set["config"])
				if !until(
					15,
					func() bool {
						return strings.Contains(client.said(),
							"Initialization Sequence Completed")
					},
				) {
					t.Errorf("%v\n%s\n%s", set, client.said(), server.said())
				} else if _, err := w.cli.try(
					8,
					"ping",
					"-c",
					"1",
					"-W",
					"2",
					"10.20.0.1",
				); err != nil {
					t.Error("the internal host does not respond")
				}
				client.stop()
				remove(t, parcel)
				proves(
					t,
					"connects",
					"uci",
					tunnelWays(
						auth,
						map[bool]string{true: "crypt-v2", false: "crypt"}[auth == "certificate"],
					)...)
			})
		}
	}
}

// TestTunnelFiles connects with the files of client programs as they are: in one piece, with
// the sign-in beside or asked for, as a folder, and as a desk phone takes it.
func TestTunnelFiles(t *testing.T) {
	t.Parallel()
	w := systemsWorld(t)
	w.device("Laptop", "windows", "11", "Harbour")
	w.device("Desk phone", "desk-phone", "1", "Harbour")
	w.device("Tablet", "ipados", "17", "Harbour")
	for i, c := range []struct{ device, form, auth, kind string }{
		{"Laptop", "ovpn", "certificate-password", "crypt-v2"},
		{"Laptop", "ovpn-folder", "password", "crypt"},
		{"Laptop", "ovpn", "certificate", "crypt"},
		{"Desk phone", "ovpn-phone", "certificate-password", "crypt-v2"},
		{"Desk phone", "ovpn-phone", "certificate", "crypt"},
		{"Desk phone", "ovpn-phone", "password", "auth"},
		{"Tablet", "ovpn", "password", "auth"},
		{"Tablet", "ovpn-folder", "certificate", "crypt-v2"},
		{"Tablet", "ovpn-folder", "certificate-password", "none"},
	} {
		t.Run(c.device+"/"+c.form, func(t *testing.T) {
			name := "Files" + string(rune('a'+i))
			server := newTunnelGateway(
				t,
				w.r,
				w.gw,
				w.cli,
				name,
				220+i,
				c.auth,
				c.kind,
				"udp",
				"Harbour",
			)
			defer server.stop()
			w.r.do(
				"profile",
				"add",
				c.device,
				"--gateway",
				name,
				"--format",
				c.form,
				"--protocol",
				"tls",
			)
			parcel := w.r.build(c.device + "/" + name)
			list, _ := filepath.Glob(filepath.Join(parcel, "*.ovpn"))
			args := []string{"openvpn", "--cd", parcel, "--config", list[0]}
			if text, _ := os.ReadFile(
				list[0],
			); strings.Contains(
				string(text),
				"\nauth-user-pass\n",
			) { // the person is asked
				w.cli.write("/run/typed", 0o600, login+"\n"+password+"\n")
				args = append(args, "--auth-user-pass", "/run/typed")
				if c.device == "Desk phone" {
					t.Error("nobody can be asked on a desk phone")
				}
			}
			client := w.cli.start("files"+name, args...)
			if !until(
				15,
				func() bool {
					return strings.Contains(client.said(), "Initialization Sequence "+
						"Completed")
				},
			) {
				t.Errorf("%s\n%s", client.said(), server.said())
			} else if _, err := w.cli.try(
				8,
				"ping",
				"-c",
				"1",
				"-W",
				"2",
				"10.20.0.1",
			); err != nil {
				t.Error("the internal host does not respond")
			}
			client.stop()
			proves(t, "connects", c.form, tunnelWays(c.auth, c.kind)...)
		})
	}
}
