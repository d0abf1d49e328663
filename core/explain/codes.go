package explain

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Kind of a code: where it comes from.
type Kind string

// The kinds.
const (
	KindWindows Kind = "windows" // what the operating system's dialler says
	KindNotify  Kind = "ike"     // IKE notifications (RFC 7296 §3.10.1, RFC 2408 §3.14.1)
	KindEAP     Kind = "eap"     // failures of EAP-MSCHAPv2 and MS-CHAPv2 (RFC 2759 §6)
	KindPPP     Kind = "ppp"     // what PPP says (RFC 1661)
	KindPPTP    Kind = "pptp"    // results of the control channel (RFC 2637)
	KindL2TP    Kind = "l2tp"    // results of StopCCN and CDN (RFC 2661 §4.4.2)
	KindSSTP    Kind = "sstp"    // status of a refusal (MS-SSTP §2.2.7)
	KindTLS     Kind = "tls"     // alerts (RFC 8446 §6)
)

// Code is an error code: what it says, and what may lie behind it, the likeliest first.
type Code struct {
	Kind   Kind     `json:"kind"`
	Name   string   `json:"name"`
	Title  string   `json:"title"`
	Causes []string `json:"causes"`
	Source string   `json:"source"`
}

const (
	fromWindows = "Windows, routing and remote access error codes"
	fromSystem  = "Windows, system error codes"
	fromIKE     = "RFC 7296 §3.10.1"
	fromEAP     = "RFC 2759 §6"
)

// c writes a line of the table.
func c(kind Kind, name, title, source string, causes ...string) Code {
	return Code{kind, name, title, causes, source}
}

// Codes are all that are known.
var Codes = []Code{
	c(KindWindows, "619", "the connection was not made: the port is closed", fromWindows, "gre-blocked", "adapter-broken", "already-connected"),
	c(KindWindows, "628", "the remote end closed the port before the connection was made", fromWindows, "peer-ended", "port-blocked", "gre-blocked"),
	c(KindWindows, "629", "the remote end ended the connection", fromWindows, "peer-ended", "idle-ended", "session-limit"),
	c(KindWindows, "631", "somebody at the device ended the connection", fromWindows, "cancelled"),
	c(KindWindows, "633", "the adapter is in use or not set up for dialling", fromWindows, "already-connected", "adapter-broken", "restart-needed"),
	c(KindWindows, "651", "the adapter reports an error", fromWindows, "adapter-broken", "restart-needed", "network-down"),
	c(KindWindows, "691", "login or password were refused, or the way of signing in is not allowed", fromWindows, "password-wrong", "realm-wrong", "methods-differ", "account-locked"),
	c(KindWindows, "711", "the service that dials could not be started", fromWindows, "ras-service", "not-allowed"),
	c(KindWindows, "718", "PPP timed out: no answer to the sign-in", fromWindows, "sign-in-server", "ppp-silent", "gre-blocked"),
	c(KindWindows, "720", "PPP could not agree on a network protocol", fromWindows, "adapter-broken", "address-refused", "pool-empty"),
	c(KindWindows, "721", "the remote end does not answer PPP", fromWindows, "gre-blocked", "ppp-silent", "gateway-silent"),
	c(KindWindows, "734", "PPP ended: no common way of signing in", fromWindows, "methods-differ", "encryption-differs"),
	c(KindWindows, "741", "this device has no encryption of the kind that is demanded", fromWindows, "encryption-differs", "methods-differ"),
	c(KindWindows, "742", "the gateway does not offer the encryption that the device demands", fromWindows, "encryption-differs", "methods-differ"),
	c(KindWindows, "756", "this connection is being made already", fromWindows, "already-connected"),
	c(KindWindows, "766", "no certificate that fits was found for IPsec", fromWindows, "device-certificate-missing", "key-wrong"),
	c(KindWindows, "778", "the gateway could not prove who it is", fromWindows, "mutual-failed", "password-wrong"),
	c(KindWindows, "781", "the connection wants a certificate and none fits", fromWindows, "device-certificate-missing", "certificate-usage"),
	c(KindWindows, "786", "L2TP: there is no certificate for the machine", fromWindows, "device-certificate-missing", "key-wrong"),
	c(KindWindows, "787", "L2TP: the gateway could not prove who it is to IPsec", fromWindows, "authority-missing", "key-wrong", "certificate-name"),
	c(KindWindows, "788", "L2TP: the ends could not agree on security", fromWindows, "suites-differ", "child-suites-differ", "methods-differ"),
	c(KindWindows, "789", "L2TP: the first exchange of IPsec failed", fromWindows, "nat-registry", "key-wrong", "suites-differ", "ipsec-service"),
	c(KindWindows, "791", "L2TP: no security policy for the connection", fromWindows, "ipsec-service", "connection-missing"),
	c(KindWindows, "792", "L2TP: the security negotiation timed out", fromWindows, "port-blocked", "ipsec-service", "gateway-silent", "nat-registry"),
	c(KindWindows, "798", "no certificate that EAP can use was found", fromWindows, "device-certificate-missing", "eap-missing"),
	c(KindWindows, "800", "no connection by any protocol that was tried", fromWindows, "gateway-silent", "port-blocked", "name-unresolved"),
	c(KindWindows, "806", "PPTP: the control channel is there, GRE does not pass", fromWindows, "gre-blocked"),
	c(KindWindows, "807", "the connection was interrupted under way", fromWindows, "link-dropped", "gateway-silent", "packet-size"),
	c(KindWindows, "809", "no answer from the gateway: something on the way stops UDP 500 or 4500, or the gateway stands behind address translation", fromWindows, "port-blocked", "nat-registry", "gateway-silent", "ipsec-service"),
	c(KindWindows, "812", "a policy of the sign-in server refuses the way of signing in", fromWindows, "methods-differ", "account-locked"),
	c(KindWindows, "828", "the connection was ended for want of traffic", fromWindows, "idle-ended"),
	c(KindWindows, "829", "the line was lost", fromWindows, "link-dropped", "idle-ended"),
	c(KindWindows, "835", "L2TP: the gateway refused the machine's identity to IPsec", fromWindows, "key-wrong", "device-certificate-missing", "identity-unknown"),
	c(KindWindows, "847", "the certificate of the gateway has no name that fits", fromWindows, "certificate-name", "authority-missing"),
	c(KindWindows, "850", "the EAP method that is wanted is not set up on the device", fromWindows, "eap-missing"),
	c(KindWindows, "853", "EAP: the certificate for the sign-in is missing, or the gateway's is not the right one", fromWindows, "eap-missing", "certificate-name", "device-certificate-missing"),
	c(KindWindows, "868", "the gateway's name did not resolve", fromWindows, "name-unresolved", "network-down"),
	c(KindWindows, "13801", "IKE: the credentials are not accepted", fromSystem, "authority-store", "authority-missing", "certificate-name", "certificate-usage", "device-certificate-missing", "gateway-certificate-ended"),
	c(KindWindows, "13803", "IKE: a request timed out", fromSystem, "port-blocked", "gateway-silent", "packet-size"),
	c(KindWindows, "13805", "IKE: the negotiation timed out", fromSystem, "port-blocked", "gateway-silent"),
	c(KindWindows, "13806", "IKE: no valid certificate of the machine was found", fromSystem, "device-certificate-missing", "device-certificate-ended", "authority-missing"),
	c(KindWindows, "13819", "IKE: the certificate has the wrong kind of key", fromSystem, "certificate-usage", "device-certificate-missing"),
	c(KindWindows, "13824", "IKE: the certificate's name is not the one that was expected", fromSystem, "certificate-name", "identity-differs"),
	c(KindWindows, "13868", "IKE: the policies do not match", fromSystem, "suites-differ", "group-differs", "child-suites-differ"),
	c(KindWindows, "0x800B0109", "the chain ends at an authority that is not trusted", fromSystem, "authority-store", "authority-missing"),
	c(KindWindows, "0x800B010F", "the certificate is for another name", fromSystem, "certificate-name"),
	c(KindWindows, "0x800B0101", "the certificate has ended, or the clock is wrong", fromSystem, "gateway-certificate-ended", "clock-wrong"),
	c(KindWindows, "0x80092013", "the list of revoked certificates could not be reached", fromSystem, "revocation-unreachable"),
	c(KindWindows, "0x80092012", "nothing tells whether the certificate was revoked", fromSystem, "revocation-unreachable"),
	c(KindWindows, "0x80072746", "the gateway reset the TLS connection", fromSystem, "proxy-between", "binding-refused", "gateway-silent"),
	c(KindWindows, "0x800704C9", "nobody takes the connection on that port", fromSystem, "gateway-silent", "port-blocked"),
	c(KindWindows, "0x80070040", "the gateway ended SSTP in the middle", fromSystem, "proxy-between", "binding-refused", "peer-ended"),
	c(KindWindows, "0x80072EE7", "the gateway's name did not resolve", fromSystem, "name-unresolved", "network-down"),

	c(KindNotify, "NO_PROPOSAL_CHOSEN", "none of the suites that were offered is taken", fromIKE, "suites-differ", "child-suites-differ", "group-differs"),
	c(KindNotify, "AUTHENTICATION_FAILED", "the other end does not believe who this one is", fromIKE, "key-wrong", "password-wrong", "device-certificate-missing", "identity-unknown", "client-refused"),
	c(KindNotify, "INVALID_KE_PAYLOAD", "another Diffie-Hellman group is wanted", fromIKE, "group-differs", "suites-differ"),
	c(KindNotify, "TS_UNACCEPTABLE", "no traffic that both ends let through", fromIKE, "selectors-differ"),
	c(KindNotify, "INTERNAL_ADDRESS_FAILURE", "the gateway has no inside address to give", fromIKE, "pool-empty"),
	c(KindNotify, "FAILED_CP_REQUIRED", "the gateway wants the device to ask for an address", fromIKE, "address-refused", "options-differ"),
	c(KindNotify, "INVALID_ID_INFORMATION", "the identity or the networks that were offered fit nothing", "RFC 2408 §3.14.1", "selectors-differ", "identity-unknown"),
	c(KindNotify, "PAYLOAD_MALFORMED", "a message cannot be read: mostly it was decrypted with another key", "RFC 2408 §3.14.1", "key-wrong", "peer-confused"),
	c(KindNotify, "INVALID_SYNTAX", "a message breaks the rules", fromIKE, "peer-confused", "packet-size"),
	c(KindNotify, "INVALID_MAJOR_VERSION", "the other end speaks another version of IKE", fromIKE, "ike-version"),
	c(KindNotify, "INVALID_IKE_SPI", "the other end does not know this association any more", fromIKE, "peer-confused"),
	c(KindNotify, "INVALID_SPI", "packets came for an association that is gone", fromIKE, "peer-confused"),
	c(KindNotify, "INVALID_EXCHANGE_TYPE", "the other end does not know this exchange, such as aggressive mode", "RFC 2408 §3.14.1", "ike-version", "options-differ"),
	c(KindNotify, "INVALID_HASH_INFORMATION", "a hash does not fit: the keys differ", "RFC 2408 §3.14.1", "key-wrong"),
	c(KindNotify, "INVALID_KEY_INFORMATION", "the key exchange cannot be read", "RFC 2408 §3.14.1", "group-differs", "peer-confused"),
	c(KindNotify, "NO_ADDITIONAL_SAS", "the gateway takes no more associations", fromIKE, "session-limit"),
	c(KindNotify, "SINGLE_PAIR_REQUIRED", "the gateway wants narrower traffic selectors", fromIKE, "selectors-differ"),
	c(KindNotify, "TEMPORARY_FAILURE", "the other end is in the middle of something", fromIKE, "peer-confused"),
	c(KindNotify, "UNSUPPORTED_CRITICAL_PAYLOAD", "the other end does not know something that it must", fromIKE, "ike-version", "options-differ"),

	c(KindEAP, "E=646", "the account may not sign in at this hour", fromEAP, "account-locked"),
	c(KindEAP, "E=647", "the account is disabled", fromEAP, "account-locked"),
	c(KindEAP, "E=648", "the password has expired", fromEAP, "password-expired"),
	c(KindEAP, "E=649", "the account may not dial in", fromEAP, "account-locked"),
	c(KindEAP, "E=691", "login or password are not right", fromEAP, "password-wrong", "realm-wrong"),
	c(KindEAP, "E=709", "the password could not be changed", fromEAP, "password-expired"),

	c(KindPPP, "LCP time-out", "PPP begins and gets no answer", "RFC 1661 §4.6", "ppp-silent", "gre-blocked"),
	c(KindPPP, "Protocol-Reject", "the other end does not know a part of PPP", "RFC 1661 §5.7", "protocol-refused", "encryption-differs"),
	c(KindPPP, "IPCP refused", "the ends do not agree on an inside address", "RFC 1332 §3.3", "address-refused", "pool-empty"),
	c(KindPPP, "CHAP failure", "the sign-in by CHAP was refused", "RFC 1994 §4.2", "password-wrong", "realm-wrong", "account-locked"),
	c(KindPPP, "PAP failure", "the sign-in by PAP was refused", "RFC 1334 §2.2.2", "password-wrong", "realm-wrong", "account-locked"),
	c(KindPPP, "MPPE required", "encryption is demanded and was not agreed on", "RFC 3078", "encryption-differs", "methods-differ"),
	c(KindPPP, "authentication refused", "no common way of signing in", "RFC 1661 §6.2", "methods-differ"),

	c(KindPPTP, "start result 2", "PPTP: the control channel was refused with a general error", "RFC 2637 §2.2", "peer-ended", "session-limit"),
	c(KindPPTP, "start result 4", "PPTP: this device may not open a control channel", "RFC 2637 §2.2", "account-locked", "peer-ended"),
	c(KindPPTP, "start result 5", "PPTP: the versions differ", "RFC 2637 §2.2", "release-lacks"),
	c(KindPPTP, "call result 4", "PPTP: the gateway is busy", "RFC 2637 §2.8", "session-limit"),
	c(KindPPTP, "disconnect result 1", "PPTP: the line was lost", "RFC 2637 §2.13", "link-dropped"),
	c(KindPPTP, "disconnect result 3", "PPTP: the gateway ended the call", "RFC 2637 §2.13", "peer-ended", "idle-ended"),

	c(KindL2TP, "StopCCN 2", "L2TP: the tunnel was refused with a general error", "RFC 2661 §4.4.2", "peer-ended"),
	c(KindL2TP, "StopCCN 3", "L2TP: there is such a tunnel already", "RFC 2661 §4.4.2", "already-connected"),
	c(KindL2TP, "StopCCN 4", "L2TP: this device may not open a tunnel", "RFC 2661 §4.4.2", "secret-missing", "account-locked"),
	c(KindL2TP, "StopCCN 5", "L2TP: the versions differ", "RFC 2661 §4.4.2", "release-lacks"),
	c(KindL2TP, "StopCCN 6", "L2TP: the gateway is being shut down", "RFC 2661 §4.4.2", "peer-ended"),
	c(KindL2TP, "CDN 1", "L2TP: the line was lost", "RFC 2661 §4.4.2", "link-dropped"),
	c(KindL2TP, "CDN 2", "L2TP: the session ended with a general error", "RFC 2661 §4.4.2", "peer-ended", "password-wrong"),
	c(KindL2TP, "CDN 3", "L2TP: the gateway ended the session", "RFC 2661 §4.4.2", "peer-ended", "password-wrong"),
	c(KindL2TP, "CDN 4", "L2TP: there is no room for the session now", "RFC 2661 §4.4.2", "session-limit"),
	c(KindL2TP, "CDN 5", "L2TP: there is no room for such a session at all", "RFC 2661 §4.4.2", "session-limit", "peer-ended"),

	c(KindSSTP, "status 4", "SSTP: a value is not supported", "MS-SSTP §2.2.7", "release-lacks", "options-differ"),
	c(KindSSTP, "status 6", "SSTP: too many tries", "MS-SSTP §2.2.7", "peer-ended"),
	c(KindSSTP, "status 8", "SSTP: the crypto binding is refused", "MS-SSTP §2.2.7", "binding-refused", "proxy-between"),
	c(KindSSTP, "Call Connect Nak", "SSTP: the gateway refused the call", "MS-SSTP §2.2.11", "binding-refused", "peer-ended"),

	c(KindTLS, "handshake_failure", "no TLS cipher or key that both ends have", "RFC 8446 §6.2", "tls-versions", "client-refused"),
	c(KindTLS, "bad_certificate", "a certificate cannot be used", "RFC 8446 §6.2", "client-refused", "authority-missing"),
	c(KindTLS, "unsupported_certificate", "a certificate is of a kind that the other end does not take", "RFC 8446 §6.2", "certificate-usage", "client-refused"),
	c(KindTLS, "certificate_revoked", "a certificate was revoked", "RFC 8446 §6.2", "device-certificate-revoked"),
	c(KindTLS, "certificate_expired", "a certificate has ended, or a clock is wrong", "RFC 8446 §6.2", "device-certificate-ended", "clock-wrong"),
	c(KindTLS, "certificate_unknown", "a certificate was refused for another reason", "RFC 8446 §6.2", "client-refused", "authority-missing"),
	c(KindTLS, "unknown_ca", "the authority of a certificate is not known at the other end", "RFC 8446 §6.2", "authority-missing", "client-refused"),
	c(KindTLS, "access_denied", "the certificate is good, and its owner may not come in", "RFC 8446 §6.2", "account-locked", "client-refused"),
	c(KindTLS, "decrypt_error", "a signature does not fit", "RFC 8446 §6.2", "client-refused", "device-certificate-missing"),
	c(KindTLS, "protocol_version", "no TLS version that both ends have", "RFC 8446 §6.2", "tls-versions"),
	c(KindTLS, "unrecognized_name", "the gateway knows no such name", "RFC 6066 §3", "certificate-name", "proxy-between"),
	c(KindTLS, "certificate_required", "the gateway wants a certificate of the device", "RFC 8446 §6.2", "device-certificate-missing"),
}

// bySpelling finds codes by their names in one spelling.
var bySpelling = func() map[string]*Code {
	all := map[string]*Code{}
	for i := range Codes {
		code := &Codes[i]
		all[spelled(code.Name)] = code
		all[spelled(string(code.Kind)+" "+code.Name)] = code
	}
	return all
}()

// spelled leaves out what people write one way or another.
func spelled(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '=':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return -1
	}, text)
}

var (
	negative = regexp.MustCompile(`^-\d{8,10}$`)
	lone     = regexp.MustCompile(`(?i)^(?:(?:error|code|fehler|erreur)\s*)*[:#]?\s*(0x[0-9a-f]{8}|\d{3,5}|E=\d{3})\s*\.?$`)
)

// Find finds a code however people write it: 809, "Error 809", 0x800b0109, -2146762487, no proposal chosen.
func Find(text string) (*Code, bool) {
	text = strings.TrimSpace(text)
	if negative.MatchString(text) { // a status as a signed number
		if n, err := strconv.ParseInt(text, 10, 64); err == nil && n >= -1<<31 {
			text = fmt.Sprintf("0x%08X", uint32(n))
		}
	}
	if m := lone.FindStringSubmatch(text); m != nil {
		text = m[1]
	}
	code, ok := bySpelling[spelled(text)]
	return code, ok
}
