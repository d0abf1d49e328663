package explain

import "regexp"

// Source is what wrote a line.
type Source string

// The sources.
const (
	IKEDaemon   Source = "IKE daemon"
	PPPDaemon   Source = "pppd"
	L2TPDaemon  Source = "L2TP daemon"
	PPTPClient  Source = "PPTP client"
	Network     Source = "NetworkManager"
	TunnelLog   Source = ".ovpn client"
	WindowsLog  Source = "Windows"
	AppleLog    Source = "Apple device"
	Diagnostics Source = "diagnostics"
)

// Role is what a line means in the course of a connection.
type Role int

// The roles: what begins a try, what ends it well, what tells the cause, what only follows from one.
const (
	Begins Role = iota
	Succeeds
	Tells
	Follows
	Notes // says nothing by itself
)

// Pattern is a line that is known: a part that it contains, in small letters, and what that means.
type Pattern struct {
	Source Source
	Part   string
	Role   Role
	Code   string         // name of a code, where the line says one
	Causes []string       // the likeliest first; of the code where none are named
	Match  *regexp.Regexp // what must fit besides; its first group names a code of Kind
	Kind   Kind
	After  string   // where a line with this part came before in the same try,
	Then   []string // it means this
}

// runningSince stands before the time since when a device runs.
const runningSince = "running since: "

// p writes a line of the table.
func p(source Source, role Role, part, code string, causes ...string) Pattern {
	return Pattern{Source: source, Part: part, Role: role, Code: code, Causes: causes}
}

// coded is a line in which a code stands.
func coded(source Source, role Role, part string, kind Kind, match string, causes ...string) Pattern {
	return Pattern{Source: source, Part: part, Role: role, Kind: kind, Match: regexp.MustCompile(match), Causes: causes}
}

// after is what a line means behind another one.
func (p Pattern) after(part string, causes ...string) Pattern {
	p.After, p.Then = part, causes
	return p
}

// Patterns are all lines that are known. Where several fit a line, the first one counts.
var Patterns = []Pattern{
	// The IKE daemon of Linux.
	p(IKEDaemon, Begins, "initiating ike_sa", ""),
	p(IKEDaemon, Begins, "initiating main mode", ""),
	p(IKEDaemon, Begins, "initiating aggressive mode", ""),
	coded(IKEDaemon, Succeeds, "child_sa ", "", `(?i)CHILD_SA \S+ established`),
	p(IKEDaemon, Follows, "peer didn't accept dh group", "INVALID_KE_PAYLOAD", "group-differs", "suites-differ"), // mostly it is agreed on another one then
	p(IKEDaemon, Tells, "no_proposal_chosen notify, no child_sa built", "NO_PROPOSAL_CHOSEN", "child-suites-differ", "selectors-differ"),
	p(IKEDaemon, Tells, "e=691", "E=691", "password-wrong", "realm-wrong"),
	p(IKEDaemon, Tells, "e=646", "E=646"),
	p(IKEDaemon, Tells, "e=647", "E=647"),
	p(IKEDaemon, Tells, "e=648", "E=648"),
	p(IKEDaemon, Tells, "e=649", "E=649"),
	p(IKEDaemon, Tells, "received eap_failure, eap authentication failed", "", "password-wrong", "realm-wrong", "account-locked"),
	p(IKEDaemon, Tells, "eap-ms-chapv2 verification failed", "E=691", "password-wrong", "realm-wrong"),
	p(IKEDaemon, Tells, "no trusted rsa public key found for", "", "authority-missing", "identity-differs"),
	p(IKEDaemon, Tells, "no trusted ecdsa public key found for", "", "authority-missing", "identity-differs"),
	p(IKEDaemon, Tells, "no issuer certificate found for", "", "authority-missing"),
	p(IKEDaemon, Tells, "constraint check failed: identity", "", "identity-differs", "certificate-name"),
	p(IKEDaemon, Tells, "subject certificate invalid (valid from", "", "gateway-certificate-expired", "clock-wrong"),
	p(IKEDaemon, Tells, "certificate was revoked on", "certificate_revoked", "device-certificate-revoked"),
	p(IKEDaemon, Tells, "no private key found for", "", "device-certificate-missing", "secret-missing"),
	p(IKEDaemon, Tells, "no shared key found for", "", "secret-missing", "identity-unknown"),
	p(IKEDaemon, Tells, "but mac mismatched", "", "key-wrong"),
	p(IKEDaemon, Tells, "no eap key found for", "", "secret-missing"),
	p(IKEDaemon, Tells, "no matching peer config found", "", "identity-unknown", "identity-differs"),
	p(IKEDaemon, Tells, "no ike config found for", "", "ike-version", "suites-differ"),
	p(IKEDaemon, Tells, "invalid id_v1 payload length, decryption failed?", "PAYLOAD_MALFORMED", "key-wrong"),
	p(IKEDaemon, Tells, "invalid hash_v1 payload length, decryption failed?", "PAYLOAD_MALFORMED", "key-wrong"),
	p(IKEDaemon, Tells, "calculated hash does not match hash payload", "INVALID_HASH_INFORMATION", "key-wrong"),
	p(IKEDaemon, Tells, "no acceptable traffic selectors found", "TS_UNACCEPTABLE", "selectors-differ"),
	p(IKEDaemon, Tells, "no matching child_sa config found", "INVALID_ID_INFORMATION", "selectors-differ"),
	p(IKEDaemon, Tells, "no virtual ip found", "INTERNAL_ADDRESS_FAILURE", "pool-empty"),
	p(IKEDaemon, Tells, "no acceptable proposal found", "NO_PROPOSAL_CHOSEN", "suites-differ", "child-suites-differ"),
	p(IKEDaemon, Tells, "received proposals unacceptable", "NO_PROPOSAL_CHOSEN", "suites-differ"),
	p(IKEDaemon, Tells, "no acceptable diffie_hellman_group found", "NO_PROPOSAL_CHOSEN", "group-differs", "suites-differ"),
	p(IKEDaemon, Tells, "no acceptable encryption_algorithm found", "NO_PROPOSAL_CHOSEN", "suites-differ"),
	p(IKEDaemon, Tells, "unable to resolve", "", "name-unresolved", "network-down"),
	p(IKEDaemon, Tells, "unable to allocate spi from kernel", "", "tunnel-device"),
	p(IKEDaemon, Tells, "unable to install inbound and outbound ipsec sa", "", "tunnel-device"),
	p(IKEDaemon, Tells, "error writing to socket: network is unreachable", "", "network-down"),
	p(IKEDaemon, Tells, "error writing to socket: operation not permitted", "", "not-allowed", "port-blocked"),
	coded(IKEDaemon, Tells, "charon.vici", "", `(?i)connecting to '.*charon\.vici' failed`, "ipsec-service"),
	p(IKEDaemon, Tells, "crl fetching failed", "", "revocation-unreachable"),
	coded(IKEDaemon, Tells, "received ", KindNotify, `received ([A-Z][A-Z_]+) (?:error )?notify`),
	coded(IKEDaemon, Tells, " notify", KindNotify, `received ([A-Z][A-Z_]+) notify`),
	p(IKEDaemon, Tells, "giving up after 5 retransmits", "", "gateway-no-response", "port-blocked"),
	coded(IKEDaemon, Tells, "giving up after ", "", `giving up after \d+ retransmits`, "gateway-no-response", "port-blocked"),
	p(IKEDaemon, Follows, "peer not responding", "", "gateway-no-response", "port-blocked"),
	p(IKEDaemon, Follows, "failed to establish child_sa", "", "child-suites-differ", "selectors-differ"),
	p(IKEDaemon, Follows, "establishing ike_sa failed", "", "gateway-no-response"),
	p(IKEDaemon, Follows, "message parsing failed", "PAYLOAD_MALFORMED", "key-wrong", "peer-confused"),
	p(IKEDaemon, Follows, "could not decrypt payloads", "PAYLOAD_MALFORMED", "key-wrong", "peer-confused"),
	p(IKEDaemon, Follows, "integrity check failed", "", "key-wrong", "peer-confused"),
	p(IKEDaemon, Follows, "deleting half open ike_sa", "", "key-wrong", "link-dropped"),

	// pppd.
	coded(PPPDaemon, Begins, "pppd ", "", `pppd \d\S+ started by`),
	p(PPPDaemon, Succeeds, "local  ip address", ""),
	p(PPPDaemon, Tells, "lcp: timeout sending config-requests", "LCP time-out").after("outgoing call established", "gre-blocked", "ppp-silent"),
	p(PPPDaemon, Tells, "ipcp: timeout sending config-requests", "IPCP refused", "address-refused", "ppp-silent"),
	p(PPPDaemon, Tells, "mppe required, but ms-chap[v2] auth not performed", "MPPE required", "methods-differ", "encryption-differs"),
	p(PPPDaemon, Tells, "mppe required, but kernel has no support", "MPPE required", "tunnel-device"),
	p(PPPDaemon, Tells, "mppe required but not available", "MPPE required", "encryption-differs", "tunnel-device"),
	p(PPPDaemon, Tells, "mppe required but peer negotiation failed", "MPPE required", "encryption-differs"),
	coded(PPPDaemon, Tells, "ms-chap authentication failed: e=", KindEAP, `(?i)authentication failed: (E=\d+)`),
	p(PPPDaemon, Tells, "chap authentication failed", "CHAP failure"),
	p(PPPDaemon, Tells, "pap authentication failed", "PAP failure"),
	p(PPPDaemon, Tells, "eap: peer reports authentication failure", "", "password-wrong", "eap-missing"),
	p(PPPDaemon, Tells, "no chap secret found for authenticating", "", "secret-missing"),
	p(PPPDaemon, Tells, "couldn't find any suitable secret (password) for it to use", "", "methods-differ", "secret-missing"),
	p(PPPDaemon, Tells, "peer refused to authenticate", "authentication refused", "methods-differ"),
	p(PPPDaemon, Tells, "no auth is possible", "authentication refused", "methods-differ", "secret-missing"),
	p(PPPDaemon, Tells, "could not determine remote ip address", "IPCP refused", "address-refused"),
	p(PPPDaemon, Tells, "could not determine local ip address", "IPCP refused", "pool-empty", "address-refused"),
	p(PPPDaemon, Tells, "peer refused to agree to our ip address", "IPCP refused", "address-refused"),
	p(PPPDaemon, Tells, "peer refused to agree to his ip address", "IPCP refused", "address-refused"),
	p(PPPDaemon, Tells, "peer is not authorized to use remote address", "IPCP refused", "address-refused"),
	p(PPPDaemon, Tells, "couldn't open the /dev/ppp device", "", "tunnel-device"),
	p(PPPDaemon, Tells, "lacks kernel support for ppp", "", "tunnel-device"),
	p(PPPDaemon, Tells, "unrecognized option '", "", "file-broken"),
	p(PPPDaemon, Tells, "can't open options file", "", "file-broken"),
	p(PPPDaemon, Tells, "lcp terminated by peer (mppe", "MPPE required", "encryption-differs"),
	p(PPPDaemon, Tells, "lcp terminated by peer (authentication failed", "CHAP failure", "password-wrong", "account-locked"),
	p(PPPDaemon, Tells, "lcp terminated by peer", "", "peer-ended", "methods-differ"),
	p(PPPDaemon, Tells, "no response to ", "", "link-dropped"),
	p(PPPDaemon, Tells, "terminating connection due to lack of activity", "", "idle-ended"),
	p(PPPDaemon, Follows, "protocol-reject for", "Protocol-Reject", "protocol-refused"),
	p(PPPDaemon, Follows, "serial link appears to be disconnected", "", "link-dropped"),
	p(PPPDaemon, Follows, "connection terminated.", "", "peer-ended"),
	p(PPPDaemon, Follows, "modem hangup", "", "peer-ended", "link-dropped"),
	p(PPPDaemon, Follows, "terminating on signal", "", "cancelled"),

	// The L2TP daemon and the PPTP client.
	p(L2TPDaemon, Begins, "connecting to host ", ""),
	p(L2TPDaemon, Succeeds, "call established with", ""),
	p(L2TPDaemon, Tells, "maximum retries exceeded for tunnel", "", "port-blocked", "gateway-no-response", "key-wrong"),
	p(L2TPDaemon, Tells, "host name lookup failed for", "", "name-unresolved"),
	p(L2TPDaemon, Tells, "invalid challenge authentication", "StopCCN 4", "secret-missing", "key-wrong"),
	p(L2TPDaemon, Tells, "denied connection to unauthorized peer", "StopCCN 4", "account-locked", "secret-missing"),
	p(L2TPDaemon, Tells, "no secret for", "", "secret-missing"),
	p(L2TPDaemon, Tells, "init_network: unable to bind socket", "", "already-connected"),
	p(L2TPDaemon, Tells, "unable to open /var/run/xl2tpd/l2tp-control", "", "file-broken", "ipsec-service"),
	coded(L2TPDaemon, Tells, "udp_xmit failed", "", `(?i)udp_xmit failed.*(?:not permitted|unreachable|no route)`, "network-down", "port-blocked"),
	p(L2TPDaemon, Tells, "(no more sessions allowed)", "CDN 4", "session-limit"),
	p(L2TPDaemon, Follows, "control_finish: connection closed to", "", "peer-ended"),
	p(L2TPDaemon, Follows, "unable to deliver closing message", "", "gateway-no-response"),
	p(L2TPDaemon, Follows, "(timeout)", "", "gateway-no-response", "port-blocked"),
	p(L2TPDaemon, Follows, "death_handler: fatal signal", "", "cancelled"),
	p(PPTPClient, Begins, "the synchronous pptp option is", ""),
	p(PPTPClient, Notes, "outgoing call established", ""),
	p(PPTPClient, Tells, "could not open control connection to", "", "gateway-no-response", "port-blocked"),
	p(PPTPClient, Tells, "pptp_gre_bind", "", "not-allowed", "tunnel-device"),
	coded(PPTPClient, Tells, "read returned zero, peer has closed", "", `(?i)peer has closed`, "peer-ended", "session-limit"),
	p(PPTPClient, Follows, "call manager exited with error", "", "gateway-no-response"),
	p(PPTPClient, Follows, "closing connection (shutdown)", "", "peer-ended"),

	// NetworkManager.
	p(Network, Begins, "starting vpn service", ""),
	p(Network, Begins, "audit: op=\"connection-activate\"", ""),
	p(Network, Succeeds, "vpn connection: (ip config get) complete", ""),
	p(Network, Tells, "was not installed", "", "plugin-missing"),
	p(Network, Tells, "could not find the vpn service", "", "plugin-missing"),
	p(Network, Tells, "no agents were available for this request", "", "secret-missing"),
	p(Network, Tells, "vpn plugin: failed: login-failed", "", "password-wrong", "realm-wrong"),
	p(Network, Tells, "vpn connection settings were invalid", "", "file-broken"),
	p(Network, Tells, "is readable by group or others", "", "file-broken"),
	p(Network, Tells, "invalid or not supported", "", "file-broken", "plugin-missing"),
	p(Network, Tells, "failed to request vpn secrets", "", "secret-missing"),
	p(Network, Tells, "vpn plugin: failed: ip-config-bad", "", "address-refused", "pool-empty"),
	p(Network, Follows, "vpn plugin: failed: connect-failed", "", "gateway-no-response", "suites-differ"),
	p(Network, Follows, "vpn plugin: state changed: stopped", "", "peer-ended"),
	p(Network, Follows, "vpn connection: failed to connect", "", "gateway-no-response"),
	p(Network, Follows, "connection activation failed", "", "gateway-no-response"),

	// The client of .ovpn files.
	coded(TunnelLog, Begins, "openvpn 2.", "", `(?i)OpenVPN 2\.\d+\S* \S+`),
	p(TunnelLog, Succeeds, "initialization sequence completed", ""),
	coded(TunnelLog, Tells, "auth_failed", "", `AUTH_FAILED,?.*cipher negotiation failed`, "ciphers-differ"),
	coded(TunnelLog, Tells, "auth_failed", "", `AUTH_FAILED,?.*(?:expired|Expired)`, "password-expired", "password-wrong"),
	coded(TunnelLog, Tells, "auth_failed", "", `(?:^|[^(])AUTH_FAILED`, "password-wrong", "realm-wrong", "account-locked"), // in brackets it is the IKE daemon's
	coded(TunnelLog, Tells, "verify error:", "", `certificate has expired`, "gateway-certificate-expired", "clock-wrong"),
	coded(TunnelLog, Tells, "verify error:", "", `not yet valid`, "clock-wrong", "gateway-certificate-expired"),
	coded(TunnelLog, Tells, "verify error:", "", `certificate purpose`, "certificate-usage"),
	coded(TunnelLog, Tells, "verify error:", "", `revoked`, "device-certificate-revoked"),
	coded(TunnelLog, Tells, "verify error:", "", `unable to get CRL|CRL has expired`, "revocation-unreachable"),
	p(TunnelLog, Tells, "verify error:", "", "authority-missing"),
	p(TunnelLog, Tells, "verify x509name error:", "", "certificate-name"),
	p(TunnelLog, Tells, "verify ku error", "", "certificate-usage"),
	p(TunnelLog, Tells, "verify eku error", "", "certificate-usage"),
	p(TunnelLog, Tells, "certificate does not have key usage extension", "", "certificate-usage"),
	p(TunnelLog, Tells, "cannot locate hmac in incoming packet", "", "control-key"),
	p(TunnelLog, Tells, "packet hmac authentication failed", "", "control-key"),
	p(TunnelLog, Tells, "tls-crypt unwrap error", "", "control-key"),
	p(TunnelLog, Tells, "tls error: incoming packet authentication failed", "", "control-key"),
	p(TunnelLog, Tells, "cannot resolve host address", "", "name-unresolved", "network-down"),
	coded(TunnelLog, Tells, "tcp: connect to ", "", `(?i)failed: connection refused`, "gateway-no-response", "port-blocked"),
	coded(TunnelLog, Tells, "tcp: connect to ", "", `(?i)failed`, "port-blocked", "gateway-no-response"),
	p(TunnelLog, Tells, "network is unreachable", "", "network-down"),
	coded(TunnelLog, Tells, "econnrefused", "", `(?i)connection refused`, "gateway-no-response", "port-blocked"),
	p(TunnelLog, Tells, "cannot open tun/tap dev", "", "tunnel-device"),
	p(TunnelLog, Tells, "cannot ioctl tunsetiff", "", "not-allowed", "tunnel-device"),
	p(TunnelLog, Tells, "there are no tap-windows", "", "tunnel-device", "adapter-broken"),
	p(TunnelLog, Tells, "adapters on this system are currently in use", "", "already-connected", "adapter-broken"),
	p(TunnelLog, Tells, "options error:", "", "file-broken"),
	p(TunnelLog, Tells, "cannot load certificate file", "", "file-broken", "device-certificate-missing"),
	p(TunnelLog, Tells, "cannot load inline certificate file", "", "file-broken", "device-certificate-missing"),
	p(TunnelLog, Tells, "cannot load private key file", "", "file-broken", "device-certificate-missing"),
	p(TunnelLog, Tells, "private key password verification failed", "", "secret-missing", "file-broken"),
	p(TunnelLog, Tells, "neither stdin nor stderr are a tty", "", "secret-missing"),
	p(TunnelLog, Tells, "failed to negotiate cipher with server", "", "ciphers-differ"),
	p(TunnelLog, Tells, "alert unknown ca", "unknown_ca", "client-refused", "authority-missing"),
	p(TunnelLog, Tells, "alert certificate expired", "certificate_expired", "device-certificate-expired", "clock-wrong"),
	p(TunnelLog, Tells, "alert certificate revoked", "certificate_revoked", "device-certificate-revoked"),
	p(TunnelLog, Tells, "alert handshake failure", "handshake_failure"),
	p(TunnelLog, Tells, "alert protocol version", "protocol_version"),
	p(TunnelLog, Tells, "alert bad certificate", "bad_certificate"),
	p(TunnelLog, Tells, "certificate required", "certificate_required"),
	p(TunnelLog, Tells, "unsupported protocol", "protocol_version", "tls-versions"),
	p(TunnelLog, Tells, "no shared cipher", "handshake_failure", "tls-versions"),
	p(TunnelLog, Tells, "wrong version number", "", "proxy-between", "tls-versions"),
	p(TunnelLog, Tells, "ca md too weak", "", "tls-versions", "certificate-usage"),
	p(TunnelLog, Tells, "linux route add command failed", "", "not-allowed"),
	p(TunnelLog, Tells, "tls key negotiation failed to occur within", "", "gateway-no-response", "port-blocked", "control-key").after("verify ok: depth=0", "client-refused", "packet-size"),
	p(TunnelLog, Tells, "your certificate has expired", "", "device-certificate-expired", "clock-wrong"),
	p(TunnelLog, Notes, "verify ok: depth=0", ""),
	p(TunnelLog, Tells, "inactivity timeout (--ping-restart)", "", "link-dropped", "gateway-no-response"),
	p(TunnelLog, Follows, "is used inconsistently", "", "options-differ"),
	p(TunnelLog, Follows, "tls error: tls handshake failed", "", "gateway-no-response"),
	p(TunnelLog, Follows, "tls error: tls object -> incoming plaintext read error", "", "authority-missing"),
	p(TunnelLog, Follows, "connection reset, restarting", "", "peer-ended", "control-key"),
	p(TunnelLog, Follows, "sigusr1[soft", "", "link-dropped"),
	p(TunnelLog, Follows, "sigterm[", "", "cancelled"),

	// Text from the Windows event log.
	p(WindowsLog, Begins, "has started dialing a", ""),
	p(WindowsLog, Succeeds, "has successfully established a connection", ""),
	coded(WindowsLog, Tells, "error code returned on failure is", KindWindows, `error code returned on failure is (-?\d+)`),
	coded(WindowsLog, Follows, "reason code returned on termination is", KindWindows, `reason code returned on termination is (\d+)`),
	p(WindowsLog, Tells, "require the installation of a machine certificate", "786", "device-certificate-missing", "key-wrong"),
	p(WindowsLog, Tells, "ike authentication credentials are unacceptable", "13801"),
	p(WindowsLog, Tells, "ike failed to find valid machine certificate", "13806"),
	p(WindowsLog, Tells, "no policy configured", "13868", "suites-differ", "ipsec-service"),
	p(WindowsLog, Tells, "policy match error", "13868"),
	p(WindowsLog, Tells, "negotiation timed out", "13805"),
	coded(WindowsLog, Tells, "fatal alert code is", "", `fatal alert code is 48`, "authority-missing", "client-refused"),
	coded(WindowsLog, Tells, "fatal alert code is", "", `fatal alert code is (?:40|70)`, "tls-versions"),
	coded(WindowsLog, Tells, "fatal alert was received: ", "", `received: 48`, "client-refused", "authority-missing"),
	coded(WindowsLog, Tells, "error code: 0x8", KindWindows, `(0x8[0-9A-Fa-f]{7})`),
	coded(WindowsLog, Tells, "remote access error ", KindWindows, `(?i)remote access error (\d{3,5})`),

	// What Windows shows to people, in English.
	p(WindowsLog, Tells, "could not be established because the remote server is not responding", "809"),
	p(WindowsLog, Tells, "security layer encountered a processing error", "789"),
	p(WindowsLog, Tells, "was denied because the user name and password combination", "691"),
	p(WindowsLog, Tells, "attempted vpn tunnels failed", "800"),
	p(WindowsLog, Tells, "name of the remote access server did not resolve", "868"),
	p(WindowsLog, Tells, "because of a policy configured on your ras/vpn server", "812"),
	p(WindowsLog, Tells, "generic routing encapsulation (gre)", "806"),
	p(WindowsLog, Tells, "between your computer and the vpn server was interrupted", "807"),
	p(WindowsLog, Tells, "the port was disconnected", "619"),
	p(WindowsLog, Tells, "terminated by the remote computer before it could be completed", "628"),
	p(WindowsLog, Tells, "connecting device) is already in use", "633"),
	p(WindowsLog, Tells, "connecting device) has reported an error", "651"),
	p(WindowsLog, Tells, "remote computer did not respond in a timely manner", "718"),
	p(WindowsLog, Tells, "the remote computer did not respond.", "721"),
	p(WindowsLog, Tells, "ppp link control protocol was terminated", "734"),
	p(WindowsLog, Tells, "local computer does not support the required data encryption type", "741"),
	p(WindowsLog, Tells, "remote computer does not support the required data encryption type", "742"),
	p(WindowsLog, Tells, "already dialing this connection", "756"),
	p(WindowsLog, Tells, "l2tp protocol over ipsec is installed on your computer", "766"),
	p(WindowsLog, Tells, "not possible to verify the identity of the server", "778"),
	p(WindowsLog, Tells, "no valid certificate was found", "781"),
	p(WindowsLog, Tells, "no valid machine certificate on your computer", "786"),
	p(WindowsLog, Tells, "security layer could not authenticate the remote computer", "787"),
	p(WindowsLog, Tells, "could not negotiate compatible parameters with the remote computer", "788"),
	p(WindowsLog, Tells, "security negotiation timed out", "792"),
	p(WindowsLog, Tells, "type required for authentication of the remote access connection is not installed", "850"),
	p(WindowsLog, Tells, "terminated in a root certificate which is not trusted", "0x800B0109"),
	p(WindowsLog, Tells, "certificate's cn name does not match the passed value", "0x800B010F"),
	p(WindowsLog, Tells, "because the revocation server was offline", "0x80092013"),
	p(WindowsLog, Tells, "forcibly closed by the remote host", "0x80072746"),
	p(WindowsLog, Tells, "the remote computer refused the network connection", "0x800704C9"),
	p(WindowsLog, Tells, "specified network name is no longer available", "0x80070040"),

	// Apple devices, and what they show to people.
	p(AppleLog, Begins, "ipsec connection started", ""),
	p(AppleLog, Begins, "neikev2provider: starting", ""),
	p(AppleLog, Succeeds, "l2tp connection established", ""),
	p(AppleLog, Tells, "certificate authentication data could not be verified", "", "authority-missing", "certificate-name"),
	p(AppleLog, Tells, "server certificate is not trusted", "", "authority-missing"),
	p(AppleLog, Tells, "remote identity does not match", "", "identity-differs"),
	p(AppleLog, Tells, "no proposal chosen", "NO_PROPOSAL_CHOSEN", "suites-differ", "child-suites-differ"),
	p(AppleLog, Tells, "eap failed", "", "password-wrong", "realm-wrong"),
	p(AppleLog, Tells, "authentication failed: peer rejected", "AUTHENTICATION_FAILED", "key-wrong", "password-wrong"),
	p(AppleLog, Tells, "ipsec phase 1 client timed out", "", "port-blocked", "gateway-no-response", "key-wrong"),
	p(AppleLog, Tells, "peer is not responding", "", "gateway-no-response", "port-blocked"),
	p(AppleLog, Tells, "l2tp cannot connect to the server", "", "key-wrong", "gateway-no-response"),
	p(AppleLog, Tells, "vpn server did not respond", "", "gateway-no-response", "port-blocked", "key-wrong"),
	p(AppleLog, Tells, "vpn shared secret is incorrect", "", "key-wrong"),
	p(AppleLog, Tells, "user authentication failed", "", "password-wrong", "realm-wrong", "account-locked"),
	p(AppleLog, Tells, "could not validate the server certificate", "", "authority-missing", "certificate-name"),
	p(AppleLog, Tells, "negotiation with the vpn server failed", "", "suites-differ", "key-wrong", "identity-differs"),
	p(AppleLog, Tells, "could not resolve host", "", "name-unresolved"),
	p(AppleLog, Follows, "ipsec connection failed", "", "gateway-no-response", "key-wrong"),
	p(AppleLog, Follows, "session disconnected: error", "", "peer-ended"),

	// What the diagnostic scripts print.
	p(Diagnostics, Begins, "wardicon diagnostics", ""),
	coded(Diagnostics, Tells, "service ", "", `(?i)^service \S+: (?:stopped|inactive|failed|missing|disabled)`, "ipsec-service"),
	coded(Diagnostics, Tells, "registry natrule: ", "", `(?i)natrule: (?:missing|0|1)\b`, "nat-registry"),
	coded(Diagnostics, Notes, runningSince, "", `^running since: \S+Z$`),
	coded(Diagnostics, Tells, "certificate machine: ", "", `(?i)^certificate machine: missing`, "device-certificate-missing"),
	coded(Diagnostics, Tells, "certificate machine: ", "", `(?i)^certificate machine: ended`, "device-certificate-expired"),
	coded(Diagnostics, Tells, "authority machine: ", "", `(?i)^authority machine: missing`, "authority-store", "authority-missing"),
	coded(Diagnostics, Tells, "connection: ", "", `(?i)^connection: missing`, "connection-missing"),
	coded(Diagnostics, Tells, "name ", "", `(?i)^name \S+: (?:unresolved|nothing)`, "name-unresolved"),
	coded(Diagnostics, Tells, "plugin ", "", `(?i)^plugin \S+: missing`, "plugin-missing"),
	coded(Diagnostics, Tells, "tunnel device: ", "", `(?i)device: missing`, "tunnel-device"),
	coded(Diagnostics, Tells, "clock: ", "", `(?i)^clock: (?:unsynchronised|off)`, "clock-wrong"),
	coded(Diagnostics, Tells, "file ", "", `(?i)^file \S+: (?:missing|readable by others)`, "file-broken"),
	coded(Diagnostics, Tells, "internal name ", "", `(?i)^internal name \S+: (?:unresolved|nothing)`, "inside-names"),
	coded(Diagnostics, Tells, "internal host ", "", `(?i)^internal host \S+: silent`, "host-silent", "routes-missing"),
	coded(Diagnostics, Tells, "internal route ", "", `(?i)^internal route \S+: missing`, "routes-missing"),
	coded(Diagnostics, Tells, "outside address: ", "", `(?i)^outside address: \S+ not the gateway`, "other-way"),

	// A code in a sentence.
	coded(WindowsLog, Tells, "error ", KindWindows, `(?i)\berror (?:code )?(\d{3,5}|0x8[0-9a-f]{7})\b`),
	coded(WindowsLog, Tells, "error: ", KindWindows, `(?i)\berror: (\d{3,5}|0x8[0-9a-f]{7})\b`),
}
