package connect

import (
	"crypto"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// run runs one of a parcel's scripts on a machine.
func (w *windows) run(t *testing.T, parcel, ending string) error {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(parcel, "*"+ending))
	if err != nil || len(list) != 1 {
		t.Fatalf("%v %v", list, err)
	}
	return (&powershell{m: w, parse: func(script string) *node {
		path := filepath.Join(t.TempDir(), "block.ps1")
		if err := os.WriteFile(path, []byte(script), 0o600); err != nil {
			t.Fatal(err)
		}
		return &parsed(t, path)[0]
	}}).run(&parsed(t, list[0])[0])
}

// knows is what Windows has of a connection after its script ran.
func (w *windows) knows(t *testing.T, name string) system {
	t.Helper()
	c := w.connections["true/"+strings.ToLower(name)]
	if c == nil {
		if c = w.connections["false/"+strings.ToLower(name)]; c == nil {
			t.Fatalf("there is no connection %q: %v", name, w.connections)
		}
	}
	s := system{
		protocol: strings.ToLower(c.tunnel),
		server:   c.server,
		remoteID: c.server,
		psk:      c.psk,
		routes:   c.routes,
	}
	if len(c.ipsec) == 6 {
		s.ike, s.esp = words(
			t,
			true,
			c.ipsec[2],
			c.ipsec[3],
			c.ipsec[4],
		), words(
			t,
			false,
			c.ipsec[0],
			c.ipsec[1],
			c.ipsec[5],
		)
	}
	for _, ca := range w.stores["LocalMachine/Root"] { // no other store counts for IKEv2
		s.cas = append(s.cas, ca.leaf)
	}
	mine := ""
	switch {
	case slices.Contains(c.auth, "MachineCertificate"), c.tunnel == "L2tp" && c.psk == "":
		s.auth, mine = "certificate", "LocalMachine/My"
	case c.tunnel == "L2tp":
		s.auth = "psk"
	case c.eap == "Tls":
		s.auth, mine = "eap-tls", "CurrentUser/My/"+w.signedIn // of the person who connects
	case c.eap == "MSChapv2":
		s.auth = "eap-mschapv2"
	}
	in := w.credentials[strings.ToLower(name)]
	s.login, s.password = in.user, in.password
	if mine != "" {
		if len(w.stores[mine]) == 0 {
			t.Fatalf("there is no certificate in %s: %v", mine, w.stores)
		}
		own := w.stores[mine][0]
		s.leaf, s.chain, s.key = own.leaf, own.chain, own.key.(crypto.Signer)
		for _, between := range w.stores["LocalMachine/CA"] {
			s.chain = append(s.chain, between.leaf)
		}
	}
	return s
}

// TestWindowsParcels runs the scripts for Windows, and connects with what Windows then has.
func TestWindowsParcels(t *testing.T) {
	t.Parallel()
	w := systemsWorld(t)
	w.device("Windows 11", "windows", "11", "Harbour")
	w.device("Windows 8.1", "windows", "8.1", "Harbour")
	w.r.do(
		"device",
		"add",
		"Windows guest",
		"--person",
		"Ada Fjell",
		"--platform",
		"windows",
		"--release",
		"10",
		"--encrypted",
	)
	for _, c := range []struct{ device, gateway, protocol string }{
		{"Windows guest", "Eap", "ikev2"},
		{"Windows 11", "Eaptls", "ikev2"},
		{"Windows 11", "Cert", "ikev2"},
		{"Windows 8.1", "Plain", "ikev2"},
		{"Windows guest", "Named", "l2tp"},
		{"Windows 8.1", "Certified", "l2tp"},
	} {
		t.Run(c.device+"/"+c.gateway, func(t *testing.T) {
			w.r.do("profile", "add", c.device, "--gateway", c.gateway, "--protocol", c.protocol)
			parcel := w.r.build(c.device + "/" + c.gateway)
			name := "Skerry Line " + c.gateway
			// An administrator installs what somebody else, who is signed in, connects with.
			m := newWindows(`PC\admin`, `PC\ada`)
			for range 2 {
				if err := m.run(t, parcel, "-install.ps1"); err != nil {
					t.Fatal(err)
				}
			}
			if c.protocol == "l2tp" &&
				(m.services["IKEEXT"] != "Automatic" || m.services["PolicyAgent"] != "Automatic") {
				t.Errorf("services start %v", m.services)
			}
			if nat := m.registry[`hklm:\system\currentcontrolset\services\policyagent`]["assumeudpencapsulationcontextonsendrule"]; c.gateway == "Named" &&
				nat != 2 {
				t.Errorf("the value for a gateway behind NAT is %v", nat)
			}
			if c.protocol == "l2tp" { // whose internal domain is the gateway's own
				exempt := slices.ContainsFunc(m.nrpt, func(r *table) bool {
					return r.values["namespace"] == strings.ToLower(
						c.gateway,
					)+".skerryline.example" &&
						r.values["nameservers"] == nil
				})
				if !exempt {
					t.Errorf("the gateway's own name is asked of the inside servers: %v", m.nrpt)
				}
			}
			s := m.knows(t, name)
			w.signs(t, s)
			proves(t, "signs in", "powershell", c.protocol+" "+s.auth)
			if err := m.run(t, parcel, "-remove.ps1"); err != nil {
				t.Fatal(err)
			}
			if len(m.connections) > 0 ||
				len(m.stores["LocalMachine/Root"])+len(m.stores["LocalMachine/My"]) > 0 ||
				len(m.nrpt)+len(m.tasks)+len(m.files) > 0 {
				t.Errorf(
					"after removal there is %v %v %v %v",
					m.connections,
					m.stores,
					m.nrpt,
					m.tasks,
				)
			}
		})
	}
	w.r.do(
		"gateway",
		"add",
		"Linked",
		"--address",
		"linked.skerryline.example",
		"--route",
		"10.20.0.0/16",
		"--pptp-ppp",
		"mschapv2",
		"--pptp-mppe",
		"128",
		"--sstp-ppp",
		"mschapv2",
		"--sstp-authority",
		w.r.authority("Harbour"),
	)
	for protocol, encryption := range map[string]string{"pptp": "Maximum", "sstp": "Required"} {
		t.Run(protocol, func(t *testing.T) {
			w.r.do("profile", "add", "Windows guest", "--gateway", "Linked", "--protocol", protocol)
			parcel := w.r.despite("Windows guest/Linked", protocol)
			w.r.do("profile", "remove", "Windows guest/Linked")
			m := newWindows(`PC\admin`, `PC\ada`)
			if err := m.run(t, parcel, "-install.ps1"); err != nil {
				t.Fatal(err)
			}
			c, in := m.connections["true/skerry line linked"], m.credentials["skerry line linked"]
			if c == nil || strings.ToLower(c.tunnel) != protocol || c.encryption != encryption ||
				!slices.Equal(c.auth, []string{"MSChapv2"}) ||
				in.user != login ||
				in.password != password ||
				!in.everybody {
				t.Errorf("%+v %+v", c, in)
			}
			if trusted := len(m.stores["LocalMachine/Root"]) == 1; trusted != (protocol == "sstp") {
				t.Errorf("authorities %v", m.stores)
			}
			proves(t, "accepted", "powershell", protocol+" password")
		})
	}
	t.Run("a renamed connection leaves nothing", func(t *testing.T) {
		parcel := filepath.Join(w.r.dir, "first")
		w.r.do("build", "Windows guest/Eap", "--out", parcel)
		m := newWindows(`PC\admin`, `PC\ada`)
		if err := m.run(t, parcel, "-install.ps1"); err != nil {
			t.Fatal(err)
		}
		w.r.do("profile", "change", "Windows guest/Eap", "--connection", "Harbour link")
		second := filepath.Join(w.r.dir, "second")
		w.r.do("build", "Windows guest/Eap", "--out", second)
		if err := m.run(t, second, "-install.ps1"); err != nil {
			t.Fatal(err)
		}
		if len(m.connections) != 1 || m.connections["true/harbour link"] == nil {
			t.Errorf("there are %v", m.connections)
		}
	})
	t.Run("Windows without cmdlets for connections", func(t *testing.T) {
		w.device("Windows 7", "windows", "7", "Harbour")
		w.r.do(
			"gateway",
			"add",
			"Aged",
			"--address",
			"aged.skerryline.example",
			"--route",
			"10.20.0.0/16",
			"--psk-file",
			w.r.file("psk", psk),
			"--behind-nat",
			"--ppp",
			"mschapv2",
			"--ike",
			"aes256-sha1-modp2048",
			"--esp",
			"aes256-sha1",
		)
		w.r.do(
			"profile",
			"add",
			"Windows 7",
			"--gateway",
			"Aged",
			"--protocol",
			"l2tp",
			"--format",
			"phone-book",
		)
		parcel := w.r.build("Windows 7/Aged")
		const book = `c:\programdata\microsoft\network\connections\pbk\rasphone.pbk`
		const other = "[Somebody else's]\r\nEncoding=1\r\n"
		const policy, nat = `hklm:\system\currentcontrolset\services\policyagent`, "assumeudpencapsulationcontextonsendrule"
		m := newWindows(`PC\admin`, `PC\ada`)
		m.files[book] = []byte(other)
		for range 2 {
			if err := m.run(t, parcel, "-install.ps1"); err != nil {
				t.Fatalf("%v, with the phone book\n%q", err, m.files[book])
			}
		}
		if text := string(
			m.files[book],
		); !strings.HasPrefix(text, other) || strings.Count(text, "[Skerry Line Aged]") != 1 ||
			strings.Contains(text, psk) {
			t.Errorf("the phone book says\n%s", text)
		}
		if in := m.credentials["skerry line aged"]; in.psk != psk ||
			m.services["IKEEXT"] != "Automatic" ||
			m.registry[policy][nat] != 2 {
			t.Errorf(
				"the key of the entry is kept: %t; services %v; behind NAT %v",
				in.psk == psk,
				m.services,
				m.registry[policy][nat],
			)
		}
		// What the system would dial by the entry and by the key that it keeps: a reader of the
		// test's own.
		s := dialled(t, string(m.files[book]), "Skerry Line Aged")
		if s.psk = m.credentials["skerry line aged"].psk; s.auth != "psk" ||
			s.server != "aged.skerryline.example" {
			t.Errorf("the entry dials %+v", s)
		}
		w.gw.run("ip", "addr", "add", "10.211.0.65/16", "dev", "br0")
		w.cli.shell("echo 10.211.0.65 aged.skerryline.example >> /etc/hosts")
		side := fmt.Sprintf(
			l2tpGateway,
			"aged",
			"10.211.0.65",
			"auth = psk",
			"auth = psk",
			"secrets { ike-aged { id-1 = 10.211.0.65\n secret = \""+escaped(psk)+"\" } }",
		)
		w.gw.write(
			"/etc/swanctl/conf.d/aged.conf",
			0o600,
			strings.NewReplacer("aes256-sha256-modp2048,aes128-sha1-modp2048",
				"aes256-sha1-modp2048", "aes256-sha256,aes128-sha1", "aes256-sha1").
				Replace(side),
		)
		w.gw.run("swanctl", "--load-all", "--noprompt")
		w.signs(t, s)
		proves(t, "signs in", "phone-book", "l2tp psk")
		if err := m.run(t, parcel, "-remove.ps1"); err != nil {
			t.Fatal(err)
		}
		if text := string(
			m.files[book],
		); strings.TrimSpace(text) != strings.TrimSpace(other) || m.registry[policy][nat] == 2 ||
			len(m.registry[`hklm:\software\wardicon\connections`]) > 0 {
			t.Errorf("after removal %v is left of\n%s", m.registry, text)
		}
	})
	t.Run("what the cmdlets do not take", func(t *testing.T) {
		for name, script := range map[string]string{
			"triggers of an all-user connection": "Add-VpnConnectionTriggerDnsConfiguration " +
				"-ConnectionName 'x' -DnsSuffix 'y' -AllUserConnection",
			"a key with IKEv2": "$s = @{ Name = 'x'; ServerAddress = 'y'; " +
				"TunnelType = 'Ikev2'; AuthenticationMethod = 'Eap'; EapConfigXmlStream = 'e'; " +
				"L2tpPsk = 'z' }\nAdd-VpnConnection @s",
			"EAP stream with PAP": "Add-VpnConnection -Name 'x' -ServerAddress 'y' " +
				"-TunnelType L2tp -AuthenticationMethod Pap -EapConfigXmlStream 'z' -Force",
			"a task without principal": "Register-ScheduledTask -TaskName 'x' -Action " +
				"(New-ScheduledTaskAction -Execute 'a')",
			"no such cipher": "Set-VpnConnectionIPsecConfiguration " +
				"-ConnectionName 'x' -CipherTransformConstants AES " +
				"-AuthenticationTransformConstants SHA196 -EncryptionMethod AES256 " +
				"-IntegrityCheckMethod SHA256 -DHGroup Group14 -PfsGroup None",
			"a variable that is not set": "Write-Host $nothing",
		} {
			path := filepath.Join(t.TempDir(), "x.ps1")
			if err := os.WriteFile(path, []byte(script+"\n"), 0o600); err != nil {
				t.Fatal(err)
			}
			if err := (&powershell{m: newWindows("a", "a")}).run(&parsed(t, path)[0]); err == nil {
				t.Errorf("%s was taken", name)
			}
		}
	})
}

// dialled reads an entry of a phone book as the system's reference describes its keys (RASENTRY,
// and the files that it is kept in): a section by name, one key a line, the device's part behind
// MEDIA and DEVICE. What the entry leaves to the system is the system's own: its proposals for
// L2TP/IPsec.
func dialled(t *testing.T, text, name string) (s system) {
	t.Helper()
	_, rest, ok := strings.Cut(text, "["+name+"]\r\n")
	if !ok {
		t.Fatalf("there is no entry %s", name)
	}
	if i := strings.Index(rest, "\r\n["); i >= 0 {
		rest = rest[:i]
	}
	keys := map[string]string{}
	for line := range strings.SplitSeq(rest, "\r\n") {
		if key, value, ok := strings.Cut(line, "="); ok {
			keys[key] = value
		}
	}
	if keys["MEDIA"] != "rastapi" || keys["DEVICE"] != "vpn" || keys["Type"] != "2" { // RASET_Vpn
		t.Errorf("it is no entry of a VPN: %v", keys)
	}
	s.server = keys["PhoneNumber"]
	switch keys["VpnStrategy"] {
	case "3": // VS_L2tpOnly
		s.protocol, s.ike, s.esp =
			"l2tp", "aes256-sha1-modp2048,3des-sha1-modp2048", "aes256-sha1,aes128-sha1"
		s.auth = map[string]string{"1": "psk", "0": "certificate"}[keys["IpSecFlags"]]
	case "7": // VS_Ikev2Only
		s.protocol = "ikev2"
		s.auth = map[string]string{"26": "eap-mschapv2", "13": "eap-tls"}[keys["CustomAuthKey"]]
	default:
		t.Errorf("the strategy %s is none of those that are dialled here", keys["VpnStrategy"])
	}
	return s
}
