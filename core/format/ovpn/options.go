package ovpn

import "strings"

// class says what an option of a client file is to somebody who reads it.
type class int

const (
	taken    class = iota // is read into the connection
	local                 // concerns how the client runs on its own machine, not the connection
	kept                  // concerns the connection, and there is no word for it here
	gateway               // of a gateway: a client refuses the file
	windows               // known to clients on Windows alone
	program               // runs a program, or lets one be run
	outdated              // old: accepted with a warning, or ignored
	removed               // old: current clients refuse the file
)

// options are those that openvpn(8) of 2.6 names, and those that it no longer knows. What each
// client does with them is held against the real one (TestTunnelOptions).
var options = byClass(map[class]string{
	taken: `auth auth-user-pass block-ipv6 ca cert cipher client comp-lzo compress
		connect-retry-max data-ciphers dev dev-type dhcp-option ignore-unknown-option keepalive
		key key-direction ping pkcs12 port proto pull pull-filter redirect-gateway remote
		remote-cert-tls route route-ipv6 route-nopull rport setenv setenv-safe tls-auth
		tls-client tls-crypt tls-crypt-v2 tls-version-min verify-x509-name`,
	local: `allow-recursive-routing askpass auth-nocache cd chroot daemon dev-node disable-dco
		down-pre echo errors-to-stderr fast-io gremlin group help inetd log log-append
		machine-readable-output management management-client management-client-auth
		management-client-group management-client-user management-forget-disconnect
		management-hold management-log-cache management-query-passwords management-query-proxy
		management-query-remote management-signal management-up-down memstats mktun mlock mute
		mute-replay-warnings nice nobind disable-occ genkey show-pkcs11-ids persist-key
		persist-local-ip persist-remote-ip persist-tun pkcs11-pin-cache rcvbuf remap-usr1
		replay-persist rmtun setcon show-ciphers show-digests show-engines show-gateway
		show-groups show-tls sndbuf socket-flags status status-version suppress-timestamps syslog
		test-crypto tmp-dir txqueuelen up-delay up-restart user verb version writepid
		resolv-retry connect-retry connect-timeout server-poll-timeout push-peer-info route-delay
		route-method ping-timer-rem hand-window tran-window tls-timeout auth-retry
		data-ciphers-fallback preresolve float topology mtu-disc explicit-exit-notify
		single-session tls-exit`,
	kept: `allow-compression allow-pull-fqdn capath client-nat crl-verify dns ecdh-curve
		extra-certs fragment http-proxy http-proxy-option http-proxy-user-pass http-proxy-retry
		ifconfig ifconfig-ipv6 ifconfig-noexec ifconfig-nowarn inactive keying-material-exporter
		lladdr mssfix passtos peer-fingerprint ping-exit ping-restart proto-force
		redirect-private remote-cert-eku remote-cert-ku remote-random remote-random-hostname
		reneg-bytes reneg-pkts reneg-sec replay-window route-gateway route-ipv6-gateway
		route-noexec session-timeout shaper socks-proxy socks-proxy-retry static-challenge
		tls-cert-profile tls-cipher tls-ciphersuites tls-groups tls-version-max tun-mtu
		tun-mtu-extra tun-ipv6 verify-hash management-external-cert management-external-key
		pkcs11-cert-private pkcs11-id pkcs11-id-management pkcs11-private-mode
		pkcs11-protected-authentication pkcs11-providers providers config route-metric
		compat-mode local lport bind bind-dev multihome tun-mtu-max mark x509-track
		x509-username-field auth-token auth-token-user mtu-test dh push`,
	gateway: `auth-gen-token auth-gen-token-secret auth-user-pass-optional bcast-buffers
		ccd-exclusive client-config-dir client-to-client duplicate-cn hash-size
		ifconfig-ipv6-pool ifconfig-ipv6-push ifconfig-pool ifconfig-pool-persist ifconfig-push
		iroute iroute-ipv6 max-routes-per-client mode opt-verify port-share push-remove
		push-reset server server-bridge server-ipv6 stale-routes-check tcp-queue-limit tls-server
		username-as-common-name verify-client-cert vlan-accept vlan-pvid vlan-tagging max-clients
		connect-freq connect-freq-initial disable force-tls-key-material-export`,
	windows: `allow-nonadmin block-outside-dns cryptoapicert dhcp-internal dhcp-pre-release
		dhcp-release dhcp-renew ip-win32 pause-exit register-dns service show-adapters show-net
		show-net-up show-valid-subnets tap-sleep win-sys windows-driver`,
	program: `auth-user-pass-verify client-connect client-crresponse client-disconnect down
		ipchange learn-address plugin route-pre-down route-up script-security tls-crypt-v2-verify
		tls-export-cert tls-verify up`,
	outdated: `comp-noadapt engine link-mtu max-routes ncp-ciphers
		no-replay ns-cert-type prng secret udp-mtu tcp-nodelay`,
	removed: `auth-user-pass-file client-cert-not-required compat-names no-name-remapping
		ifconfig-pool-linear iproute management-client-pf key-method` +
		`keysize ncp-disable no-iv tls-remote`,
})

func byClass(lists map[class]string) map[string]class {
	all := map[string]class{}
	for c, list := range lists {
		for _, name := range strings.Fields(list) {
			all[name] = c
		}
	}
	return all
}
