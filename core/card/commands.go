package card

import (
	"strings"

	"wardicon/core/format"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// spoken are the commands for a machine without windows: what brings the packages, what
// connects, and what hangs up.
type spoken struct{ install, connect, hangUp string }

const (
	asRootInstall = "Install what is missing. On Debian and Ubuntu, as root: %s"
	onRouter      = "Install what is missing. On the router: %s"
	asRootConnect = "As root, type: %s"
	asRootHangUp  = "To hang up, type: %s"
)

// packages are Debian's, and OpenWrt's.
var packages = map[vpn.Protocol][2]string{
	vpn.IKEv2: {
		"strongswan-swanctl charon-systemd libcharon-extauth-plugins " +
			"libstrongswan-standard-plugins",
		"strongswan-default strongswan-swanctl strongswan-mod-eap-mschapv2 strongswan-mod-eap-tls",
	},
	vpn.L2TP: {
		"strongswan-swanctl charon-systemd libstrongswan-standard-plugins xl2tpd ppp nftables",
		"strongswan-default strongswan-swanctl xl2tpd ppp-mod-pppol2tp",
	},
	vpn.PPTP: {"pptp-linux ppp", "ppp-mod-pptp kmod-nf-nathelper-extra"},
	vpn.SSTP: {"sstp-client ppp", "sstp-client"},
	vpn.TLS:  {"openvpn", "openvpn-openssl"},
}

// commands are those for a connection; ok is false where windows are clicked.
func commands(f platform.Format, p vpn.Platform, c vpn.Connection) (t spoken, ok bool) {
	name := format.FileName(c.Name, "")
	router := p == vpn.OpenWrt
	if f != platform.Daemons && f != platform.UCI {
		return t, false
	}
	t.install = "apt-get install " + packages[c.Protocol][0]
	if router {
		t.install = "opkg update; opkg install " + packages[c.Protocol][1]
	}
	section := "w" + strings.ToLower(strings.ReplaceAll(c.UUID, "-", ""))[:min(8, len(c.UUID))]
	switch {
	case f == platform.UCI && c.TLS != nil:
		t.connect, t.hangUp = "/etc/init.d/openvpn start "+section, "/etc/init.d/openvpn stop "+
			section
	case f == platform.UCI:
		t.connect, t.hangUp = "ifup "+section, "ifdown "+section
	case c.IKEv2 != nil:
		t.connect, t.hangUp = "swanctl --initiate --child "+name, "swanctl --terminate --ike "+name
	case c.L2TP != nil:
		t.connect = "swanctl --initiate --child " + name + " && echo 'c " + name +
			"' > /run/xl2tpd/l2tp-control"
		t.hangUp = "echo 'd " + name + "' > /run/xl2tpd/l2tp-control; swanctl --terminate --ike " +
			name
	case c.TLS != nil:
		t.connect, t.hangUp = "openvpn --config /etc/openvpn/client/"+name+".conf", "Ctrl+C"
	default:
		t.connect, t.hangUp = "pppd call "+name, "poff "+name
	}
	return t, true
}

// What an administrator of Windows types before L2TP/IPsec works, where no script does it:
// the services that do IPsec, and the value for a gateway behind address translation
// (Microsoft: support article 926179).
const (
	servicesCommand = "sc config IKEEXT start= auto & sc config PolicyAgent start= auto & net " +
		"start IKEEXT & net start PolicyAgent"
	natCommand = `reg add HKLM\SYSTEM\CurrentControlSet\Services\PolicyAgent /v ` +
		`AssumeUDPEncapsulationContextOnSendRule /t REG_DWORD /d 2 /f`
)
