package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wardicon/core/format/powershell"
	"wardicon/core/format/shell"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// fix is what fixes a cause on some platforms from a release on: one command, or one setting.
// Places in braces are filled from the case: {name} of the connection, {address} of the gateway,
// {all} where the connection is for all who use the device, {route} that is missing, and {package},
// {daemons} and {modules} that the protocol needs.
type fix struct {
	cause string
	on    []vpn.Platform
	from  string // oldest release; empty means every one
	text  string
}

// Platforms that are fixed alike.
var (
	windows  = []vpn.Platform{vpn.Windows}
	mac      = []vpn.Platform{vpn.MacOS}
	tablets  = []vpn.Platform{vpn.IOS, vpn.IPadOS}
	android  = []vpn.Platform{vpn.Android}
	chrome   = []vpn.Platform{vpn.ChromeOS}
	desktop  = []vpn.Platform{vpn.LinuxDesktop}
	headless = []vpn.Platform{vpn.Linux}
	linux    = []vpn.Platform{vpn.LinuxDesktop, vpn.Linux}
	router   = []vpn.Platform{vpn.OpenWrt}
)

// cmdlets is the first release of Windows that has its VPN settings as commands.
const cmdlets = "8.1"

// fixes are those for platforms and releases; of one platform the newest release first.
var fixes = []fix{
	{
		"name-unresolved",
		windows,
		cmdlets,
		"Run: Resolve-DnsName {address}; where only an old answer is at fault: " +
			"Clear-DnsClientCache",
	},
	{
		"name-unresolved",
		windows,
		"",
		"Run: nslookup {address}; where only an old answer is at fault: ipconfig /flushdns",
	},
	{
		"name-unresolved",
		mac,
		"",
		"Run: dscacheutil -q host -a name {address}; where only an old answer is at fault: sudo " +
			"dscacheutil -flushcache",
	},
	{
		"name-unresolved",
		tablets,
		"",
		"Settings, Wi-Fi, the network's i, Configure DNS: set it to Automatic.",
	},
	{
		"name-unresolved",
		android,
		"",
		"Settings, Network & internet, Private DNS: set it to Automatic.",
	},
	{"name-unresolved", linux, "", "Run: resolvectl query {address}"},
	{"name-unresolved", router, "", "Run: nslookup {address}"},
	{
		"packet-size",
		windows,
		"",
		"Run as administrator: netsh interface ipv4 set subinterface {name} mtu=1350 " +
			"store=persistent",
	},
	{
		"packet-size",
		headless,
		"",
		"Put mtu 1350 and mru 1350 into the PPP options of the connection.",
	},
	{
		"nat-registry",
		windows,
		"",
		`Run as administrator: reg.exe add HKLM\SYSTEM\CurrentControlSet\Services\PolicyAgent /v ` +
			`AssumeUDPEncapsulationContextOnSendRule /t REG_DWORD /d 2 /f; then restart`,
	},
	{
		"ipsec-service",
		windows,
		cmdlets,
		"Run as administrator: Set-Service IKEEXT -StartupType Automatic; Set-Service " +
			"PolicyAgent -StartupType Automatic; Start-Service IKEEXT, PolicyAgent",
	},
	{
		"ipsec-service",
		windows,
		"",
		"Run as administrator: sc.exe config IKEEXT start= auto; sc.exe config PolicyAgent " +
			"start= auto; net start IKEEXT; net start PolicyAgent",
	},
	{"ipsec-service", linux, "", "Run as root: systemctl enable --now {daemons}"},
	{"ipsec-service", router, "", "Run: /etc/init.d/swanctl enable; /etc/init.d/swanctl start"},
	{
		"key-wrong",
		windows,
		cmdlets,
		"Run as administrator: Set-VpnConnection -Name {name}{all} -L2tpPsk (Read-Host 'Key') " +
			"-Force",
	},
	{
		"key-wrong",
		windows,
		"",
		"Properties of the connection, Security, Advanced settings: type the key.",
	},
	{"key-wrong", mac, "", "System Settings, VPN, the connection's i: type the shared secret."},
	{
		"key-wrong",
		tablets,
		"",
		"Settings, General, VPN & Device Management, VPN, the connection's i, Edit: type the " +
			"secret. One that came by a profile: install the new profile.",
	},
	{
		"key-wrong",
		android,
		"",
		"Settings, Network & internet, VPN, the connection's gear: type the IPSec pre-shared key.",
	},
	{
		"key-wrong",
		headless,
		"",
		"Put the key into the connection's secrets, then run as root: swanctl --load-creds",
	},
	{
		"suites-differ",
		windows,
		cmdlets,
		"Run: Set-VpnConnectionIPsecConfiguration -ConnectionName {name}{all} -EncryptionMethod " +
			"AES256 -IntegrityCheckMethod SHA256 -DHGroup Group14 -CipherTransformConstants " +
			"AES256 -AuthenticationTransformConstants SHA256128 -PfsGroup None -Force",
	},
	{
		"suites-differ",
		windows,
		"",
		`For IKEv2, run as administrator: reg.exe add ` +
			`HKLM\SYSTEM\CurrentControlSet\Services\RasMan\Parameters /v NegotiateDH2048_AES256 ` +
			`/t REG_DWORD /d 2 /f; then restart. For L2TP nothing can be set: let the gateway ` +
			`take aes256-sha1-modp2048.`,
	},
	{
		"authority-missing",
		windows,
		cmdlets,
		`Run as administrator: Import-Certificate -FilePath authority.cer -CertStoreLocation ` +
			`Cert:\LocalMachine\Root`,
	},
	{
		"authority-missing",
		windows,
		"",
		"Run as administrator: certutil.exe -addstore Root authority.cer",
	},
	{
		"authority-missing",
		mac,
		"",
		"Run: sudo security add-trusted-cert -d -r trustRoot -k " +
			"/Library/Keychains/System.keychain authority.cer",
	},
	{
		"authority-missing",
		tablets,
		"",
		"Install the profile again; then Settings, General, About, Certificate Trust Settings: " +
			"switch the authority on.",
	},
	{
		"authority-missing",
		android,
		"",
		"Settings, Security, More security settings, Install a certificate, CA certificate.",
	},
	{
		"authority-missing",
		chrome,
		"",
		"Settings, Security and Privacy, Manage certificates, Authorities: import it.",
	},
	{
		"authority-missing",
		headless,
		"",
		"Copy the authority into /etc/swanctl/x509ca, then run as root: swanctl --load-creds",
	},
	{
		"authority-store",
		windows,
		cmdlets,
		`Run as administrator: Import-Certificate -FilePath authority.cer -CertStoreLocation ` +
			`Cert:\LocalMachine\Root`,
	},
	{
		"authority-store",
		windows,
		"",
		"Run as administrator: certutil.exe -addstore Root authority.cer",
	},
	{"clock-wrong", windows, "", "Run as administrator: w32tm /resync"},
	{"clock-wrong", mac, "", "System Settings, General, Date & Time: set it automatically."},
	{"clock-wrong", tablets, "", "Settings, General, Date & Time: Set Automatically."},
	{"clock-wrong", android, "", "Settings, System, Date & time: set it automatically."},
	{"clock-wrong", linux, "", "Run as root: timedatectl set-ntp true"},
	{"clock-wrong", router, "", "Run: /etc/init.d/sysntpd restart"},
	{
		"methods-differ",
		windows,
		cmdlets,
		"Run: Set-VpnConnection -Name {name}{all} -AuthenticationMethod MSChapv2 -Force",
	},
	{
		"methods-differ",
		windows,
		"",
		"Properties of the connection, Security: allow Microsoft CHAP Version 2.",
	},
	{
		"methods-differ",
		headless,
		"",
		"Put refuse-pap, refuse-chap and refuse-mschap into the PPP options, and require nothing.",
	},
	{
		"encryption-differs",
		windows,
		cmdlets,
		"Run: Set-VpnConnection -Name {name}{all} -EncryptionLevel Required " +
			"-AuthenticationMethod MSChapv2 -Force",
	},
	{
		"encryption-differs",
		windows,
		"",
		"Properties of the connection, Security: require encryption, and allow Microsoft CHAP " +
			"Version 2.",
	},
	{
		"encryption-differs",
		headless,
		"",
		"For PPTP, put require-mppe-128 into the PPP options; for L2TP take it out.",
	},
	{
		"adapter-broken",
		windows,
		"10",
		"Run as administrator: Get-PnpDevice -FriendlyName 'WAN Miniport*' | ForEach-Object { " +
			"pnputil.exe /remove-device $_.InstanceId }; pnputil.exe /scan-devices",
	},
	{
		"adapter-broken",
		windows,
		"",
		"Device manager, View, Show hidden devices, Network adapters: uninstall the WAN Miniport " +
			"entries, then Action, Scan for hardware changes.",
	},
	{
		"ras-service",
		windows,
		"",
		"Run as administrator: Set-Service RasMan -StartupType Manual; Start-Service RasMan",
	},
	{"already-connected", windows, "", "Run: rasdial.exe {name} /disconnect"},
	{"already-connected", mac, "", "Run: scutil --nc stop {name}"},
	{"already-connected", desktop, "", "Run: nmcli connection down {name}"},
	{"plugin-missing", desktop, "", "Run as root: apt-get install {package} (as Debian names it)"},
	{"tunnel-device", linux, "", "Run as root: modprobe -a {modules}"},
	{"secret-missing", desktop, "", "Run: nmcli --ask connection up {name}"},
	{
		"routes-missing",
		windows,
		cmdlets,
		"Run: Add-VpnConnectionRoute -ConnectionName {name}{all} -DestinationPrefix {route}",
	},
	{
		"routes-missing",
		desktop,
		"",
		"Run: nmcli connection modify {name} +ipv4.routes {route}; then connect again",
	},
	{
		"other-way",
		windows,
		cmdlets,
		"Run: Set-VpnConnection -Name {name}{all} -SplitTunneling $false -Force; then connect " +
			"again",
	},
	{
		"other-way",
		desktop,
		"",
		"Run: nmcli connection modify {name} ipv4.never-default no; then connect again",
	},
	{
		"inside-names",
		windows,
		cmdlets,
		"Run while connected: Get-DnsClientServerAddress -InterfaceAlias {name}; if it is empty, " +
			"add internal name servers to the record and rebuild.",
	},
	{
		"inside-names",
		desktop,
		"",
		"Run while connected: resolvectl status; where the tunnel has no name server, put inside " +
			"ones on record and build again.",
	},
}

// needs are what a protocol wants of Linux.
var needs = map[vpn.Protocol]struct{ packages, daemons, modules string }{
	vpn.L2TP:  {"network-manager-l2tp-gnome", "strongswan xl2tpd", "l2tp_ppp ppp_generic"},
	vpn.IKEv2: {"network-manager-strongswan", "strongswan", "tun"},
	vpn.PPTP:  {"network-manager-pptp-gnome", "pppd", "ppp_generic ppp_mppe"},
	vpn.SSTP:  {"network-manager-sstp-gnome", "pppd", "ppp_generic"},
	vpn.TLS:   {"network-manager-openvpn-gnome", "openvpn", "tun"},
}

// fixFor is what fixes a cause in a case: for its platform and release where that is known.
func fixFor(c Cause, e Evidence) string {
	text := c.Fix
	if e.Platform != "" {
		if i := slices.IndexFunc(fixes, func(m fix) bool {
			return m.cause == c.ID && slices.Contains(m.on, e.Platform) &&
				(m.from == "" || platform.Compare(e.Release, m.from) >= 0)
		}); i >= 0 {
			text = fixes[i].text
		}
	}
	return e.fill(text)
}

// fill puts the case into the places of a text. Names are quoted for the shell of the device, those
// of records for the administrator's.
func (e Evidence) fill(text string) string {
	quoted := shell.Quote
	if e.Platform == vpn.Windows {
		quoted = powershell.Quote
	}
	known := func(value, place string, quote func(string) string) string {
		if value == "" {
			return place
		}
		return quote(value)
	}
	need, route, all := needs[e.Protocol], "", ""
	if len(e.Routes) > 0 {
		route = e.Routes[0]
	}
	if e.MachineWide {
		all = " -AllUserConnection"
	}
	return strings.NewReplacer(
		"{name}",
		known(e.Name, "NAME", quoted),
		"{address}",
		known(e.Address, "GATEWAY", quoted),
		"{gateway}",
		known(e.Gateway, "GATEWAY", shell.Quote),
		"{route}",
		known(route, "NETWORK", quoted),
		"{all}",
		all,
		"{instead}",
		e.instead(),
		"{package}",
		cmp.Or(need.packages, "the plugin of the protocol"),
		"{daemons}",
		cmp.Or(need.daemons, "strongswan"),
		"{modules}",
		cmp.Or(need.modules, "tun ppp_generic"),
	).Replace(text)
}

// instead names the protocols that device and gateway have beside the one of the case.
func (e Evidence) instead() string {
	found, ok := platform.Find(e.Platform, e.Release)
	if !ok {
		return "wardicon platform list shows which"
	}
	var names []string
	for _, p := range found.Instead(e.Protocol) {
		if slices.Contains(e.Offers, p) {
			names = append(names, p.Title())
		}
	}
	if len(names) == 0 {
		return fmt.Sprintf("the gateway offers nothing else that %s has", found.Title)
	}
	return strings.Join(names, " or ") + ", which the gateway offers too"
}
