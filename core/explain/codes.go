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
	fromTLS     = "RFC 8446 §6"
	fromL2TP    = "RFC 2661 §4.4.2"
	fromSSTP    = "MS-SSTP §2.2.7"

	fromPPTPStart = "RFC 2637 §2.2"
	fromPPTPCall  = "RFC 2637 §2.8"
	fromPPTPEnd   = "RFC 2637 §2.13"
)

// c writes a line of the table.
func c(kind Kind, name, title, source string, causes ...string) Code {
	return Code{kind, name, title, causes, source}
}

// Codes are all that are known.
var Codes = []Code{
	c(
		KindWindows,
		"619",
		"the connection was not made: the port is closed",
		fromWindows,
		"gre-blocked",
		"adapter-broken",
		"already-connected",
	),
	c(
		KindWindows,
		"628",
		"the remote end closed the port before the connection was made",
		fromWindows,
		"peer-ended",
		"port-blocked",
		"gre-blocked",
	),
	c(
		KindWindows,
		"629",
		"the remote end ended the connection",
		fromWindows,
		"peer-ended",
		"idle-ended",
		"session-limit",
	),
	c(KindWindows, "631", "somebody at the device ended the connection", fromWindows, "cancelled"),
	c(
		KindWindows,
		"633",
		"the adapter is in use or not set up for dialling",
		fromWindows,
		"already-connected",
		"adapter-broken",
		"restart-needed",
	),
	c(
		KindWindows,
		"646",
		"the account may not sign in at this hour",
		fromWindows,
		"account-locked",
	),
	c(KindWindows, "647", "the account is disabled", fromWindows, "account-locked"),
	c(KindWindows, "648", "the password has expired", fromWindows, "password-expired"),
	c(KindWindows, "649", "the account may not dial in", fromWindows, "account-locked"),
	c(
		KindWindows,
		"651",
		"the adapter reports an error",
		fromWindows,
		"adapter-broken",
		"restart-needed",
		"network-down",
	),
	c(
		KindWindows,
		"691",
		"login or password were refused, or the way of signing in is not allowed",
		fromWindows,
		"password-wrong",
		"realm-wrong",
		"methods-differ",
		"account-locked",
	),
	c(KindWindows, "709", "the password could not be changed", fromWindows, "password-expired"),
	c(
		KindWindows,
		"711",
		"the service that dials could not be started",
		fromWindows,
		"ras-service",
		"not-allowed",
	),
	c(
		KindWindows,
		"718",
		"PPP timed out: no answer to the sign-in",
		fromWindows,
		"sign-in-server",
		"ppp-silent",
		"gre-blocked",
	),
	c(
		KindWindows,
		"720",
		"PPP could not agree on a network protocol",
		fromWindows,
		"adapter-broken",
		"address-refused",
		"pool-empty",
	),
	c(
		KindWindows,
		"721",
		"the remote end does not answer PPP",
		fromWindows,
		"gre-blocked",
		"ppp-silent",
		"gateway-no-response",
	),
	c(
		KindWindows,
		"734",
		"PPP ended: no common way of signing in",
		fromWindows,
		"methods-differ",
		"encryption-differs",
	),
	c(
		KindWindows,
		"741",
		"this device has no encryption of the kind that is demanded",
		fromWindows,
		"encryption-differs",
		"methods-differ",
	),
	c(
		KindWindows,
		"742",
		"the gateway does not offer the encryption that the device demands",
		fromWindows,
		"encryption-differs",
		"methods-differ",
	),
	c(
		KindWindows,
		"756",
		"this connection is being made already",
		fromWindows,
		"already-connected",
	),
	c(
		KindWindows,
		"766",
		"no certificate that fits was found for IPsec",
		fromWindows,
		"device-certificate-missing",
		"key-wrong",
	),
	c(
		KindWindows,
		"778",
		"the gateway could not prove who it is",
		fromWindows,
		"mutual-failed",
		"password-wrong",
	),
	c(
		KindWindows,
		"781",
		"the connection wants a certificate and none fits",
		fromWindows,
		"device-certificate-missing",
		"certificate-usage",
	),
	c(
		KindWindows,
		"786",
		"L2TP: there is no certificate for the machine",
		fromWindows,
		"device-certificate-missing",
		"key-wrong",
	),
	c(
		KindWindows,
		"787",
		"L2TP: the gateway could not prove who it is to IPsec",
		fromWindows,
		"authority-missing",
		"key-wrong",
		"certificate-name",
	),
	c(
		KindWindows,
		"788",
		"L2TP: the ends could not agree on security",
		fromWindows,
		"suites-differ",
		"child-suites-differ",
		"methods-differ",
	),
	c(
		KindWindows,
		"789",
		"L2TP: the first exchange of IPsec failed",
		fromWindows,
		"nat-registry",
		"key-wrong",
		"suites-differ",
		"ipsec-service",
	),
	c(
		KindWindows,
		"791",
		"L2TP: no security policy for the connection",
		fromWindows,
		"ipsec-service",
		"connection-missing",
	),
	c(
		KindWindows,
		"792",
		"L2TP: the security negotiation timed out",
		fromWindows,
		"port-blocked",
		"ipsec-service",
		"gateway-no-response",
		"nat-registry",
	),
	c(
		KindWindows,
		"798",
		"no certificate that EAP can use was found",
		fromWindows,
		"device-certificate-missing",
		"eap-missing",
	),
	c(
		KindWindows,
		"800",
		"no connection by any protocol that was tried",
		fromWindows,
		"gateway-no-response",
		"port-blocked",
		"name-unresolved",
	),
	c(
		KindWindows,
		"806",
		"PPTP: the control channel is there, GRE does not pass",
		fromWindows,
		"gre-blocked",
	),
	c(
		KindWindows,
		"807",
		"the connection was interrupted under way",
		fromWindows,
		"link-dropped",
		"gateway-no-response",
		"packet-size",
	),
	c(
		KindWindows,
		"809",
		"no response from the gateway: UDP 500 or 4500 is blocked on the path, or the gateway is "+
			"behind NAT",
		fromWindows,
		"port-blocked",
		"nat-registry",
		"gateway-no-response",
		"ipsec-service",
	),
	c(
		KindWindows,
		"812",
		"a policy of the sign-in server refuses the way of signing in",
		fromWindows,
		"methods-differ",
		"account-locked",
	),
	c(
		KindWindows,
		"828",
		"the connection was ended for want of traffic",
		fromWindows,
		"idle-ended",
	),
	c(KindWindows, "829", "the line was lost", fromWindows, "link-dropped", "idle-ended"),
	c(
		KindWindows,
		"835",
		"L2TP: the gateway refused the machine's identity to IPsec",
		fromWindows,
		"key-wrong",
		"device-certificate-missing",
		"identity-unknown",
	),
	c(
		KindWindows,
		"847",
		"the certificate of the gateway has no name that fits",
		fromWindows,
		"certificate-name",
		"authority-missing",
	),
	c(
		KindWindows,
		"850",
		"the EAP method that is wanted is not set up on the device",
		fromWindows,
		"eap-missing",
	),
	c(
		KindWindows,
		"853",
		"EAP: the certificate for the sign-in is missing, or the gateway's is not the right one",
		fromWindows,
		"eap-missing",
		"certificate-name",
		"device-certificate-missing",
	),
	c(
		KindWindows,
		"868",
		"the gateway's name did not resolve",
		fromWindows,
		"name-unresolved",
		"network-down",
	),
	c(
		KindWindows,
		"13801",
		"IKE: the credentials are not accepted",
		fromSystem,
		"authority-store",
		"authority-missing",
		"certificate-name",
		"certificate-usage",
		"device-certificate-missing",
		"gateway-certificate-expired",
	),
	c(
		KindWindows,
		"13803",
		"IKE: a request timed out",
		fromSystem,
		"port-blocked",
		"gateway-no-response",
		"packet-size",
	),
	c(
		KindWindows,
		"13805",
		"IKE: the negotiation timed out",
		fromSystem,
		"port-blocked",
		"gateway-no-response",
	),
	c(
		KindWindows,
		"13806",
		"IKE: no valid certificate of the machine was found",
		fromSystem,
		"device-certificate-missing",
		"device-certificate-expired",
		"authority-missing",
	),
	c(
		KindWindows,
		"13819",
		"IKE: the certificate has the wrong kind of key",
		fromSystem,
		"certificate-usage",
		"device-certificate-missing",
	),
	c(
		KindWindows,
		"13824",
		"IKE: the certificate's name is not the one that was expected",
		fromSystem,
		"certificate-name",
		"identity-differs",
	),
	c(
		KindWindows,
		"13868",
		"IKE: the policies do not match",
		fromSystem,
		"suites-differ",
		"group-differs",
		"child-suites-differ",
	),
	c(
		KindWindows,
		"0x800B0109",
		"the chain ends at an authority that is not trusted",
		fromSystem,
		"authority-store",
		"authority-missing",
	),
	c(
		KindWindows,
		"0x800B010F",
		"the certificate is for another name",
		fromSystem,
		"certificate-name",
	),
	c(
		KindWindows,
		"0x800B0101",
		"the certificate has expired, or the clock is wrong",
		fromSystem,
		"gateway-certificate-expired",
		"clock-wrong",
	),
	c(
		KindWindows,
		"0x80092013",
		"the list of revoked certificates could not be reached",
		fromSystem,
		"revocation-unreachable",
	),
	c(
		KindWindows,
		"0x80092012",
		"nothing tells whether the certificate was revoked",
		fromSystem,
		"revocation-unreachable",
	),
	c(
		KindWindows,
		"0x80072746",
		"the gateway reset the TLS connection",
		fromSystem,
		"proxy-between",
		"binding-refused",
		"gateway-no-response",
	),
	c(
		KindWindows,
		"0x800704C9",
		"nobody takes the connection on that port",
		fromSystem,
		"gateway-no-response",
		"port-blocked",
	),
	c(
		KindWindows,
		"0x80070040",
		"the gateway ended SSTP in the middle",
		fromSystem,
		"proxy-between",
		"binding-refused",
		"peer-ended",
	),
	c(
		KindWindows,
		"0x80072EE7",
		"the gateway's name did not resolve",
		fromSystem,
		"name-unresolved",
		"network-down",
	),

	c(
		KindNotify,
		"NO_PROPOSAL_CHOSEN",
		"none of the suites that were offered is taken",
		fromIKE,
		"suites-differ",
		"child-suites-differ",
		"group-differs",
	),
	c(
		KindNotify,
		"AUTHENTICATION_FAILED",
		"the peer does not accept this side's identity",
		fromIKE,
		"key-wrong",
		"password-wrong",
		"device-certificate-missing",
		"identity-unknown",
		"client-refused",
	),
	c(
		KindNotify,
		"INVALID_KE_PAYLOAD",
		"another Diffie-Hellman group is wanted",
		fromIKE,
		"group-differs",
		"suites-differ",
	),
	c(
		KindNotify,
		"TS_UNACCEPTABLE",
		"no traffic that both ends let through",
		fromIKE,
		"selectors-differ",
	),
	c(
		KindNotify,
		"INTERNAL_ADDRESS_FAILURE",
		"the gateway has no internal address to assign",
		fromIKE,
		"pool-empty",
	),
	c(
		KindNotify,
		"FAILED_CP_REQUIRED",
		"the gateway requires the device to request an address",
		fromIKE,
		"address-refused",
		"options-differ",
	),
	c(
		KindNotify,
		"INVALID_ID_INFORMATION",
		"the identity or the networks that were offered fit nothing",
		"RFC 2408 §3.14.1",
		"selectors-differ",
		"identity-unknown",
	),
	c(
		KindNotify,
		"PAYLOAD_MALFORMED",
		"a message cannot be read: mostly it was decrypted with another key",
		"RFC 2408 §3.14.1",
		"key-wrong",
		"peer-confused",
	),
	c(
		KindNotify,
		"INVALID_SYNTAX",
		"a message breaks the rules",
		fromIKE,
		"peer-confused",
		"packet-size",
	),
	c(
		KindNotify,
		"INVALID_MAJOR_VERSION",
		"the other end speaks another version of IKE",
		fromIKE,
		"ike-version",
	),
	c(
		KindNotify,
		"INVALID_IKE_SPI",
		"the other end does not know this association any more",
		fromIKE,
		"peer-confused",
	),
	c(
		KindNotify,
		"INVALID_SPI",
		"packets came for an association that is gone",
		fromIKE,
		"peer-confused",
	),
	c(
		KindNotify,
		"INVALID_EXCHANGE_TYPE",
		"the other end does not know this exchange, such as aggressive mode",
		"RFC 2408 §3.14.1",
		"ike-version",
		"options-differ",
	),
	c(
		KindNotify,
		"INVALID_HASH_INFORMATION",
		"a hash does not fit: the keys differ",
		"RFC 2408 §3.14.1",
		"key-wrong",
	),
	c(
		KindNotify,
		"INVALID_KEY_INFORMATION",
		"the key exchange cannot be read",
		"RFC 2408 §3.14.1",
		"group-differs",
		"peer-confused",
	),
	c(
		KindNotify,
		"NO_ADDITIONAL_SAS",
		"the gateway takes no more associations",
		fromIKE,
		"session-limit",
	),
	c(
		KindNotify,
		"SINGLE_PAIR_REQUIRED",
		"the gateway wants narrower traffic selectors",
		fromIKE,
		"selectors-differ",
	),
	c(
		KindNotify,
		"TEMPORARY_FAILURE",
		"the other end is in the middle of something",
		fromIKE,
		"peer-confused",
	),
	c(
		KindNotify,
		"UNSUPPORTED_CRITICAL_PAYLOAD",
		"the other end does not know something that it must",
		fromIKE,
		"ike-version",
		"options-differ",
	),

	c(KindEAP, "E=646", "the account may not sign in at this hour", fromEAP, "account-locked"),
	c(KindEAP, "E=647", "the account is disabled", fromEAP, "account-locked"),
	c(KindEAP, "E=648", "the password has expired", fromEAP, "password-expired"),
	c(KindEAP, "E=649", "the account may not dial in", fromEAP, "account-locked"),
	c(
		KindEAP,
		"E=691",
		"login or password are not right",
		fromEAP,
		"password-wrong",
		"realm-wrong",
	),
	c(KindEAP, "E=709", "the password could not be changed", fromEAP, "password-expired"),

	c(
		KindPPP,
		"LCP time-out",
		"PPP begins and gets no answer",
		"RFC 1661 §4.6",
		"ppp-silent",
		"gre-blocked",
	),
	c(
		KindPPP,
		"Protocol-Reject",
		"the other end does not know a part of PPP",
		"RFC 1661 §5.7",
		"protocol-refused",
		"encryption-differs",
	),
	c(
		KindPPP,
		"IPCP refused",
		"client and gateway do not agree on an internal address",
		"RFC 1332 §3.3",
		"address-refused",
		"pool-empty",
	),
	c(
		KindPPP,
		"CHAP failure",
		"the sign-in by CHAP was refused",
		"RFC 1994 §4.2",
		"password-wrong",
		"realm-wrong",
		"account-locked",
	),
	c(
		KindPPP,
		"PAP failure",
		"the sign-in by PAP was refused",
		"RFC 1334 §2.2.2",
		"password-wrong",
		"realm-wrong",
		"account-locked",
	),
	c(
		KindPPP,
		"MPPE required",
		"encryption is demanded and was not agreed on",
		"RFC 3078",
		"encryption-differs",
		"methods-differ",
	),
	c(
		KindPPP,
		"authentication refused",
		"no common way of signing in",
		"RFC 1661 §6.2",
		"methods-differ",
	),

	c(
		KindPPTP,
		"start result 2",
		"PPTP: the control channel was refused with a general error",
		fromPPTPStart,
		"peer-ended",
		"session-limit",
	),
	c(
		KindPPTP,
		"start result 3",
		"PPTP: there is such a control channel already",
		fromPPTPStart,
		"already-connected",
	),
	c(
		KindPPTP,
		"start result 4",
		"PPTP: this device may not open a control channel",
		fromPPTPStart,
		"account-locked",
		"peer-ended",
	),
	c(KindPPTP, "start result 5", "PPTP: the versions differ", fromPPTPStart, "release-lacks"),
	c(
		KindPPTP,
		"call result 2",
		"PPTP: the call was refused with a general error",
		fromPPTPCall,
		"peer-ended",
		"session-limit",
	),
	c(
		KindPPTP,
		"call result 3",
		"PPTP: the gateway has no line for the call",
		fromPPTPCall,
		"peer-ended",
		"session-limit",
	),
	c(KindPPTP, "call result 4", "PPTP: the gateway is busy", fromPPTPCall, "session-limit"),
	c(
		KindPPTP,
		"call result 5",
		"PPTP: the gateway has no line for the call",
		fromPPTPCall,
		"peer-ended",
		"session-limit",
	),
	c(
		KindPPTP,
		"call result 6",
		"PPTP: the call was not made in time",
		fromPPTPCall,
		"sign-in-server",
		"session-limit",
	),
	c(
		KindPPTP,
		"call result 7",
		"PPTP: the gateway takes no calls",
		fromPPTPCall,
		"account-locked",
		"session-limit",
	),
	c(KindPPTP, "disconnect result 1", "PPTP: the line was lost", fromPPTPEnd, "link-dropped"),
	c(
		KindPPTP,
		"disconnect result 2",
		"PPTP: the call ended with a general error",
		fromPPTPEnd,
		"peer-ended",
		"link-dropped",
	),
	c(
		KindPPTP,
		"disconnect result 3",
		"PPTP: the gateway ended the call",
		fromPPTPEnd,
		"peer-ended",
		"idle-ended",
	),
	c(
		KindPPTP,
		"disconnect result 4",
		"PPTP: the call ended because this end asked for it",
		fromPPTPEnd,
		"cancelled",
		"password-wrong",
	),

	c(
		KindL2TP,
		"StopCCN 1",
		"L2TP: the tunnel was expired on request",
		fromL2TP,
		"peer-ended",
		"cancelled",
	),
	c(
		KindL2TP,
		"StopCCN 2",
		"L2TP: the tunnel was refused with a general error",
		fromL2TP,
		"peer-ended",
	),
	c(KindL2TP, "StopCCN 3", "L2TP: there is such a tunnel already", fromL2TP, "already-connected"),
	c(
		KindL2TP,
		"StopCCN 4",
		"L2TP: this device may not open a tunnel",
		fromL2TP,
		"secret-missing",
		"account-locked",
	),
	c(KindL2TP, "StopCCN 5", "L2TP: the versions differ", fromL2TP, "release-lacks"),
	c(KindL2TP, "StopCCN 6", "L2TP: the gateway is being shut down", fromL2TP, "peer-ended"),
	c(
		KindL2TP,
		"StopCCN 7",
		"L2TP: the ends remember different states of the tunnel",
		fromL2TP,
		"peer-confused",
	),
	c(KindL2TP, "CDN 1", "L2TP: the line was lost", fromL2TP, "link-dropped"),
	c(
		KindL2TP,
		"CDN 2",
		"L2TP: the session ended with a general error",
		fromL2TP,
		"peer-ended",
		"password-wrong",
	),
	c(
		KindL2TP,
		"CDN 3",
		"L2TP: the gateway ended the session",
		fromL2TP,
		"peer-ended",
		"password-wrong",
	),
	c(KindL2TP, "CDN 4", "L2TP: there is no room for the session now", fromL2TP, "session-limit"),
	c(
		KindL2TP,
		"CDN 5",
		"L2TP: there is no room for such a session at all",
		fromL2TP,
		"session-limit",
		"peer-ended",
	),
	c(
		KindL2TP,
		"CDN 6",
		"L2TP: the gateway does not know where the session is to lead",
		fromL2TP,
		"options-differ",
		"realm-wrong",
	),
	c(
		KindL2TP,
		"CDN 7",
		"L2TP: the gateway has no line for the session",
		fromL2TP,
		"session-limit",
		"peer-ended",
	),
	c(KindL2TP, "CDN 8", "L2TP: the gateway is busy", fromL2TP, "session-limit"),
	c(
		KindL2TP,
		"CDN 9",
		"L2TP: the gateway has no line for the session",
		fromL2TP,
		"session-limit",
		"peer-ended",
	),
	c(
		KindL2TP,
		"CDN 10",
		"L2TP: the session was not made in time",
		fromL2TP,
		"sign-in-server",
		"session-limit",
	),
	c(KindL2TP, "CDN 11", "L2TP: the ends do not agree on framing", fromL2TP, "options-differ"),

	c(
		KindSSTP,
		"status 1",
		"SSTP: an attribute comes twice",
		fromSSTP,
		"proxy-between",
		"release-lacks",
	),
	c(
		KindSSTP,
		"status 2",
		"SSTP: an attribute is not known",
		fromSSTP,
		"release-lacks",
		"proxy-between",
	),
	c(
		KindSSTP,
		"status 3",
		"SSTP: an attribute has the wrong length",
		fromSSTP,
		"release-lacks",
		"proxy-between",
	),
	c(
		KindSSTP,
		"status 4",
		"SSTP: a value is not supported",
		fromSSTP,
		"release-lacks",
		"binding-refused",
		"options-differ",
	),
	c(
		KindSSTP,
		"status 5",
		"SSTP: a message came that is not taken now",
		fromSSTP,
		"binding-refused",
		"peer-confused",
	),
	c(KindSSTP, "status 6", "SSTP: too many tries", fromSSTP, "password-wrong", "peer-ended"),
	c(
		KindSSTP,
		"status 7",
		"SSTP: a message came that is not valid: mostly its crypto binding",
		fromSSTP,
		"binding-refused",
		"proxy-between",
	),
	c(
		KindSSTP,
		"status 8",
		"SSTP: the negotiation took too long",
		fromSSTP,
		"sign-in-server",
		"ppp-silent",
	),
	c(
		KindSSTP,
		"status 9",
		"SSTP: an attribute does not belong into its message",
		fromSSTP,
		"release-lacks",
		"proxy-between",
	),
	c(
		KindSSTP,
		"status 10",
		"SSTP: an attribute is missing",
		fromSSTP,
		"release-lacks",
		"proxy-between",
	),
	c(
		KindSSTP,
		"status 11",
		"SSTP: a status does not belong there",
		fromSSTP,
		"release-lacks",
		"proxy-between",
	),
	c(
		KindSSTP,
		"Call Connect Nak",
		"SSTP: the gateway refused the call",
		"MS-SSTP §2.2.11",
		"options-differ",
		"peer-ended",
	),

	c(KindTLS, "close_notify", "the other end ended TLS in order", fromTLS, "peer-ended"),
	c(
		KindTLS,
		"unexpected_message",
		"a message came out of order",
		fromTLS,
		"proxy-between",
		"tls-versions",
	),
	c(
		KindTLS,
		"bad_record_mac",
		"a record was changed on its way, or the keys differ",
		fromTLS,
		"proxy-between",
		"control-key",
	),
	c(KindTLS, "record_overflow", "a record is too long", fromTLS, "proxy-between"),
	c(
		KindTLS,
		"illegal_parameter",
		"a value in the handshake makes no sense",
		fromTLS,
		"tls-versions",
		"proxy-between",
	),
	c(
		KindTLS,
		"decode_error",
		"a message cannot be read",
		fromTLS,
		"proxy-between",
		"tls-versions",
	),
	c(
		KindTLS,
		"insufficient_security",
		"the other end wants stronger ciphers",
		fromTLS,
		"tls-versions",
	),
	c(KindTLS, "internal_error", "the other end has a fault of its own", fromTLS, "peer-ended"),
	c(
		KindTLS,
		"inappropriate_fallback",
		"an older TLS was tried although both ends have a newer one",
		fromTLS,
		"proxy-between",
		"tls-versions",
	),
	c(KindTLS, "user_canceled", "the other end gave up", fromTLS, "cancelled"),
	c(KindTLS, "missing_extension", "the other end misses an extension", fromTLS, "tls-versions"),
	c(
		KindTLS,
		"unsupported_extension",
		"the peer did not request an extension",
		fromTLS,
		"tls-versions",
		"proxy-between",
	),
	c(
		KindTLS,
		"bad_certificate_status_response",
		"the answer about revocation that came along cannot be used",
		fromTLS,
		"revocation-unreachable",
	),
	c(KindTLS, "unknown_psk_identity", "no key is known for that name", fromTLS, "secret-missing"),
	c(
		KindTLS,
		"no_application_protocol",
		"the ends have no protocol above TLS in common: mostly it is a web server",
		fromTLS,
		"proxy-between",
	),
	c(
		KindTLS,
		"handshake_failure",
		"no TLS cipher or key that both ends have",
		fromTLS,
		"tls-versions",
		"client-refused",
	),
	c(
		KindTLS,
		"bad_certificate",
		"a certificate cannot be used",
		fromTLS,
		"client-refused",
		"authority-missing",
	),
	c(
		KindTLS,
		"unsupported_certificate",
		"a certificate is of a kind that the other end does not take",
		fromTLS,
		"certificate-usage",
		"client-refused",
	),
	c(
		KindTLS,
		"certificate_revoked",
		"a certificate was revoked",
		fromTLS,
		"device-certificate-revoked",
	),
	c(
		KindTLS,
		"certificate_expired",
		"a certificate has expired, or a clock is wrong",
		fromTLS,
		"device-certificate-expired",
		"clock-wrong",
	),
	c(
		KindTLS,
		"certificate_unknown",
		"a certificate was refused for another reason",
		fromTLS,
		"client-refused",
		"authority-missing",
	),
	c(
		KindTLS,
		"unknown_ca",
		"the authority of a certificate is not known at the other end",
		fromTLS,
		"authority-missing",
		"client-refused",
	),
	c(
		KindTLS,
		"access_denied",
		"the certificate is good, and its owner may not come in",
		fromTLS,
		"account-locked",
		"client-refused",
	),
	c(
		KindTLS,
		"decrypt_error",
		"a signature does not fit",
		fromTLS,
		"client-refused",
		"device-certificate-missing",
	),
	c(KindTLS, "protocol_version", "no TLS version that both ends have", fromTLS, "tls-versions"),
	c(
		KindTLS,
		"unrecognized_name",
		"the gateway knows no such name",
		"RFC 6066 §3",
		"certificate-name",
		"proxy-between",
	),
	c(
		KindTLS,
		"certificate_required",
		"the gateway wants a certificate of the device",
		fromTLS,
		"device-certificate-missing",
	),
}

// numbers are those of codes that logs show by number alone: alerts of TLS, and notifications of
// IKEv2.
var numbers = map[Kind]map[int]string{
	KindTLS: {
		0:   "close_notify",
		10:  "unexpected_message",
		20:  "bad_record_mac",
		22:  "record_overflow",
		40:  "handshake_failure",
		42:  "bad_certificate",
		43:  "unsupported_certificate",
		44:  "certificate_revoked",
		45:  "certificate_expired",
		46:  "certificate_unknown",
		47:  "illegal_parameter",
		48:  "unknown_ca",
		49:  "access_denied",
		50:  "decode_error",
		51:  "decrypt_error",
		70:  "protocol_version",
		71:  "insufficient_security",
		80:  "internal_error",
		86:  "inappropriate_fallback",
		90:  "user_canceled",
		109: "missing_extension",
		110: "unsupported_extension",
		112: "unrecognized_name",
		113: "bad_certificate_status_response",
		115: "unknown_psk_identity",
		116: "certificate_required",
		120: "no_application_protocol",
	},
	KindNotify: {
		1:  "UNSUPPORTED_CRITICAL_PAYLOAD",
		4:  "INVALID_IKE_SPI",
		5:  "INVALID_MAJOR_VERSION",
		7:  "INVALID_SYNTAX",
		11: "INVALID_SPI",
		14: "NO_PROPOSAL_CHOSEN",
		16: "PAYLOAD_MALFORMED",
		17: "INVALID_KE_PAYLOAD",
		18: "INVALID_ID_INFORMATION",
		23: "INVALID_HASH_INFORMATION",
		24: "AUTHENTICATION_FAILED",
		34: "SINGLE_PAIR_REQUIRED",
		35: "NO_ADDITIONAL_SAS",
		36: "INTERNAL_ADDRESS_FAILURE",
		37: "FAILED_CP_REQUIRED",
		38: "TS_UNACCEPTABLE",
		43: "TEMPORARY_FAILURE",
	},
}

// words stand before such a number.
var words = map[Kind][]string{
	KindTLS:    {"alert", "tls alert", "ssl alert number", "alert number", "fatal alert"},
	KindNotify: {"notify", "ike notify", "notification", "error notify"},
}

// bySpelling finds codes by their names in one spelling.
var bySpelling = func() map[string]*Code {
	all := map[string]*Code{}
	for i := range Codes {
		code := &Codes[i]
		all[spelled(code.Name)] = code
		all[spelled(string(code.Kind)+" "+code.Name)] = code
	}
	for kind, list := range numbers {
		for n, name := range list {
			for _, word := range words[kind] {
				all[spelled(fmt.Sprint(word, n))] = all[spelled(name)]
			}
		}
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
	lone     = regexp.MustCompile(
		`(?i)^(?:(?:error|code|fehler|erreur)\s*)*[:#]?\s*(0x[0-9a-f]{8}|\d{3,5}|E=\d{3})\s*\.?$`,
	)
)

// Find finds a code however people write it: 809, "Error 809", 0x800b0109, -2146762487, no proposal
// chosen.
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
