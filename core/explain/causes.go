// Package explain tells what lies behind error codes and lines of logs: causes, how to confirm
// each, and the fix. With what the records say of the case it ranks them.
package explain

// Person says what the person at the device can do, in a word that their page puts into a sentence.
type Person string

// What a person can do.
const (
	ChangeNetwork Person = "network"       // try from another network
	TypeAgain     Person = "password"      // type login and password again
	FetchAgain    Person = "fetch"         // fetch and install the newest file
	Restart       Person = "restart"       // restart the device
	SetClock      Person = "clock"         // set date and time
	UpdateDevice  Person = "update"        // update device or program
	WaitFor       Person = "administrator" // nothing: it is the administrator's turn
	TryLater      Person = "later"         // try again in some minutes
)

// Cause is why a connection fails.
type Cause struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	// How to see whether it is this.
	Confirm string `json:"confirm"`
	// One command or one setting, for the release where that is known.
	Fix string `json:"fix"`
	// What the fix changes.
	Changes string `json:"changes"`
	// A rebuilt parcel does it.
	Rebuild bool `json:"rebuild"`
	// What the person at the device can do.
	Person Person `json:"person"`
}

// Causes are all that are known, by identifier.
var Causes = func() map[string]Cause {
	all := map[string]Cause{}
	for _, c := range causes {
		all[c.ID] = c
	}
	return all
}()

var causes = []Cause{
	// The way to the gateway.
	{
		ID:      "gateway-no-response",
		Title:   "The gateway does not respond",
		Confirm: "Probe it: wardicon probe {gateway}.",
		Fix:     "Start the gateway's daemon, or open its ports in the firewall.",
		Changes: "Nothing on devices.",
		Person:  TryLater,
	},
	{
		ID:    "port-blocked",
		Title: "The device's network blocks the protocol",
		Confirm: "Try another network, such as a phone's; other people connect to the same " +
			"gateway.",
		Fix: "Use a protocol over TCP 443 (SSTP or the TLS tunnel) on this device, or have " +
			"the ports opened.",
		Changes: "A second profile for the device.",
		Rebuild: true,
		Person:  ChangeNetwork,
	},
	{
		ID:      "gre-blocked",
		Title:   "GRE (protocol 47) is blocked on the path",
		Confirm: "TCP 1723 responds, and the connection stops while the sign-in is verified.",
		Fix:     "Enable PPTP pass-through on the router, or use another protocol.",
		Changes: "The router, or the device's profile.",
		Person:  ChangeNetwork,
	},
	{
		ID:      "capability-missing",
		Title:   "This machine does not permit GRE to the rehearsal",
		Confirm: "The gateway accepts the call; PPTP goes on in GRE, which takes a raw socket.",
		Fix: "Grant the program CAP_NET_RAW (AmbientCapabilities=CAP_NET_RAW in the unit of the " +
			"service, or setcap cap_net_raw+ep), or rehearse from a machine that has it.",
		Changes: "Nothing on devices, and nothing at the gateway.",
		Person:  TryLater,
	},
	{
		ID:      "name-unresolved",
		Title:   "The gateway's name does not resolve on the device",
		Confirm: "Look the name up on the device.",
		Fix:     "Correct the name, or the device's DNS server.",
		Changes: "DNS server of the device.",
		Person:  ChangeNetwork,
	},
	{
		ID:      "network-down",
		Title:   "The device has no network",
		Confirm: "Open any web page on the device.",
		Fix:     "Connect the device to a network first.",
		Changes: "Nothing.",
		Person:  ChangeNetwork,
	},
	{
		ID:      "proxy-between",
		Title:   "A proxy or another web server is between device and gateway",
		Confirm: "The probe shows which certificate and server respond on the port.",
		Fix:     "Exclude the gateway from the proxy, or from its TLS inspection.",
		Changes: "The proxy's rules.",
		Person:  ChangeNetwork,
	},
	{
		ID:    "link-dropped",
		Title: "The connection was interrupted",
		Confirm: "Check whether it always happens after the same time, or when the device " +
			"changes networks.",
		Fix: "Use a shorter keepalive (25 seconds work with most routers) and reconnect " +
			"automatically.",
		Changes: "Keepalive in the parcel.",
		Rebuild: true,
		Person:  TryLater,
	},
	{
		ID:    "packet-size",
		Title: "Packets are too large for the path",
		Confirm: "Small packets arrive and large ones do not: a ping of 1,400 bytes without " +
			"fragmentation fails.",
		Fix:     "Set the tunnel's MTU to 1,350, or enable IKE fragmentation at both ends.",
		Changes: "MTU of the tunnel.",
		Person:  WaitFor,
	},

	// The first exchange of IKE.
	{
		ID:    "nat-registry",
		Title: "Windows does not connect to a gateway behind NAT until a registry value is set",
		Confirm: "The value AssumeUDPEncapsulationContextOnSendRule is missing, or the device " +
			"was not restarted since.",
		Fix:     "Install the parcel again, which sets the value, and restart the device.",
		Changes: "One registry value for all IPsec on the device.",
		Rebuild: true,
		Person:  Restart,
	},
	{
		ID:      "ipsec-service",
		Title:   "The IPsec services are not running on the device",
		Confirm: "Check the services IKEEXT and PolicyAgent, or the IKE daemon.",
		Fix:     "Start them, and set them to start automatically.",
		Changes: "Start type of two services.",
		Rebuild: true,
		Person:  Restart,
	},
	{
		ID:    "key-wrong",
		Title: "The pre-shared key on the device is not the gateway's",
		Confirm: "Check when the key was changed at the gateway, and whether the device has an " +
			"older one.",
		Fix:     "Rebuild and reinstall the parcel: it contains the key on record.",
		Changes: "The key of this connection.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:    "suites-differ",
		Title: "Device and gateway share no IKE proposal",
		Confirm: "wardicon probe {gateway} lists what it accepts; the plan of the profile lists " +
			"what the device sends.",
		Fix: "Accept the gateway's proposals into the record and rebuild; for an old device " +
			"enable its proposal at the gateway.",
		Changes: "Proposals in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "group-differs",
		Title:   "The device sends another Diffie-Hellman group than the gateway expects",
		Confirm: "The response names the expected group; the probe lists proposals by group.",
		Fix:     "Enter that group on record and rebuild.",
		Changes: "Group in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "child-suites-differ",
		Title:   "IKE succeeds, but the ESP proposals or PFS differ",
		Confirm: "The log shows an established IKE SA and then an error for the child SA.",
		Fix: "Make the ESP proposals and PFS equal at both ends; a group in the ESP proposal " +
			"means PFS.",
		Changes: "ESP proposals in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:    "identity-differs",
		Title: "The gateway sends another identity than the device expects",
		Confirm: "Compare the remote identity of the profile with what the gateway sends (probe, " +
			"or its log).",
		Fix:     "Enter the gateway's identity on record (--ikev2-remote-id) and rebuild.",
		Changes: "Remote identity in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "identity-unknown",
		Title:   "The gateway does not know the identity that the device sends",
		Confirm: "The gateway's log names the identity that it looked up.",
		Fix:     "Enter the group name or local identity that the gateway expects, and rebuild.",
		Changes: "Local identity in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "selectors-differ",
		Title:   "Device and gateway do not agree on the traffic selectors",
		Confirm: "The gateway's log names the selectors of both.",
		Fix:     "Make the routes on record match those that the gateway allows.",
		Changes: "Routes in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "pool-empty",
		Title:   "The gateway's address pool is exhausted",
		Confirm: "Compare the number of connected clients with the size of the pool.",
		Fix:     "Enlarge the pool, or end stale sessions.",
		Changes: "The gateway's pool.",
		Person:  TryLater,
	},
	{
		ID:      "ike-version",
		Title:   "The two ends use different IKE versions",
		Confirm: "The probe shows which versions the gateway supports.",
		Fix:     "Choose the protocol that the gateway offers: IKEv2, or L2TP for IKEv1.",
		Changes: "The protocol of the profile.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "peer-confused",
		Title:   "The two ends have different states of the connection",
		Confirm: "It works again after both have dropped it, but only once.",
		Fix: "Disconnect, wait a minute and connect again; enable dead peer detection at the " +
			"gateway.",
		Changes: "Nothing permanent.",
		Person:  TryLater,
	},

	// Certificates.
	{
		ID:      "authority-missing",
		Title:   "The device does not trust the CA of the gateway's certificate",
		Confirm: "The CA is in the parcel but not in the device's store.",
		Fix:     "Reinstall the parcel: it contains the CA.",
		Changes: "One CA in the store.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "authority-store",
		Title:   "The CA is in the person's store instead of the machine's",
		Confirm: "Look for it with certlm.msc, not certmgr.msc.",
		Fix:     "Move it to the machine's trusted roots.",
		Changes: "One CA in the machine's store.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "gateway-certificate-expired",
		Title:   "The gateway's certificate has expired",
		Confirm: "wardicon probe {gateway} shows its expiry.",
		Fix:     "Issue a new one: wardicon certificate gateway {gateway}.",
		Changes: "The gateway's certificate.",
		Person:  WaitFor,
	},
	{
		ID:      "device-certificate-expired",
		Title:   "The device's own certificate has expired",
		Confirm: "wardicon certificate calendar.",
		Fix:     "Issue a new one, rebuild the parcel and hand it over again.",
		Changes: "The device's certificate.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:    "device-certificate-missing",
		Title: "The device has no suitable certificate",
		Confirm: "Check the machine's store for a certificate with its key and the usage client " +
			"authentication.",
		Fix:     "Reinstall the parcel: it contains the certificate with its key.",
		Changes: "One certificate in the store.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "device-certificate-revoked",
		Title:   "The device's certificate was revoked",
		Confirm: "wardicon certificate list --search DEVICE.",
		Fix:     "Issue a new one if the device may still connect.",
		Changes: "The device's certificate.",
		Rebuild: true,
		Person:  WaitFor,
	},
	{
		ID:      "certificate-name",
		Title:   "The gateway's certificate is for another name",
		Confirm: "Compare the names that the probe shows with the address in the profile.",
		Fix: "Connect by a name that is in the certificate, or issue one for the name on " +
			"record.",
		Changes: "The gateway's certificate, or the address.",
		Person:  WaitFor,
	},
	{
		ID:      "certificate-usage",
		Title:   "The gateway's certificate lacks the server usage",
		Confirm: "Look for serverAuth in its extended key usage.",
		Fix:     "Issue one for a gateway.",
		Changes: "The gateway's certificate.",
		Person:  WaitFor,
	},
	{
		ID:      "revocation-unreachable",
		Title:   "The device cannot reach the CRL",
		Confirm: "Open the CRL's URL on the device before it is connected.",
		Fix: "Publish the CRL where it can be reached without the tunnel, or remove its URL " +
			"from the certificate.",
		Changes: "Location of the CRL.",
		Person:  WaitFor,
	},
	{
		ID:      "clock-wrong",
		Title:   "The device's clock is wrong",
		Confirm: "Compare date, time and time zone.",
		Fix:     "Let the device synchronise its clock over the network.",
		Changes: "The clock.",
		Person:  SetClock,
	},

	// Signing in.
	{
		ID:      "password-wrong",
		Title:   "Login or password is wrong",
		Confirm: "Type them by hand; look for spaces, a lost underscore, or capital letters.",
		Fix: "Enter them as the card shows them. If the password was changed, update the " +
			"record and rebuild.",
		Changes: "Sign-in on the device.",
		Rebuild: true,
		Person:  TypeAgain,
	},
	{
		ID:      "realm-wrong",
		Title:   "The realm of the login is wrong or missing",
		Confirm: "Compare it with the form that the gateway expects.",
		Fix:     "Enter the login with its realm as the card shows it.",
		Changes: "Login on the device.",
		Rebuild: true,
		Person:  TypeAgain,
	},
	{
		ID:      "password-expired",
		Title:   "The password has expired and must be changed",
		Confirm: "Check the account in the directory.",
		Fix:     "Have the person change it, and update the record.",
		Changes: "The password.",
		Rebuild: true,
		Person:  WaitFor,
	},
	{
		ID:      "account-locked",
		Title:   "The account is disabled, locked or not allowed to connect",
		Confirm: "Check the account in the directory: state, hours, dial-in permission.",
		Fix:     "Unlock it and allow remote access.",
		Changes: "The account in the directory.",
		Person:  WaitFor,
	},
	{
		ID:      "session-limit",
		Title:   "The account has reached its limit of connections",
		Confirm: "Check who is connected at the gateway.",
		Fix:     "End the other session, or raise the limit.",
		Changes: "The gateway.",
		Person:  TryLater,
	},
	{
		ID:      "methods-differ",
		Title:   "Device and gateway share no authentication method",
		Confirm: "Compare the PPP methods on record with those that the device allows.",
		Fix:     "Allow MS-CHAPv2 on the device; the parcel sets it.",
		Changes: "Methods of the connection.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "encryption-differs",
		Title:   "One end requires link encryption that the other does not offer",
		Confirm: "PAP and CHAP cannot use MPPE: check which method was negotiated.",
		Fix: "Use MS-CHAPv2 with 128 bits at both ends. For L2TP, do not require MPPE: IPsec " +
			"encrypts.",
		Changes: "Encryption of the connection.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "eap-missing",
		Title:   "The gateway requires another EAP method than the device uses",
		Confirm: "Compare the client authentication of the offer with the connection's.",
		Fix:     "Rebuild and reinstall the parcel: it sets the method.",
		Changes: "EAP settings of the connection.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "mutual-failed",
		Title:   "The gateway could not prove that it knows the password",
		Confirm: "The password on the device is right, but the gateway has another one.",
		Fix:     "Compare the password at the gateway.",
		Changes: "The gateway's user database.",
		Person:  WaitFor,
	},
	{
		ID:      "sign-in-server",
		Title:   "The authentication server does not respond to the gateway",
		Confirm: "The gateway's log shows timeouts of RADIUS or of the directory.",
		Fix:     "Start the server, or correct its address and secret at the gateway.",
		Changes: "The gateway.",
		Person:  TryLater,
	},

	// PPP.
	{
		ID:      "ppp-silent",
		Title:   "PPP gets no response through the tunnel",
		Confirm: "LCP requests are sent and none is answered: GRE or ESP is lost on the path.",
		Fix: "Let the router pass GRE (PPTP) or ESP and UDP 4500 (L2TP); check the gateway's " +
			"PPP daemon.",
		Changes: "The router, or the gateway.",
		Person:  ChangeNetwork,
	},
	{
		ID:      "address-refused",
		Title:   "Client and gateway do not agree on an internal address",
		Confirm: "IPCP is rejected: check the pool, and whether the device has a fixed address.",
		Fix:     "Let the device get its address from the gateway.",
		Changes: "Address of the connection.",
		Rebuild: true,
		Person:  WaitFor,
	},
	{
		ID:      "protocol-refused",
		Title:   "The other end rejects a part of PPP",
		Confirm: "The log names the protocol: 0x80fd is compression, 0x8057 is IPv6.",
		Fix:     "Disable that part in the PPP options (noccp, noipv6).",
		Changes: "PPP options.",
		Rebuild: true,
		Person:  WaitFor,
	},
	{
		ID:      "peer-ended",
		Title:   "The gateway ended the connection",
		Confirm: "Its log gives the reason at that time.",
		Fix:     "Read the gateway's log at that time.",
		Changes: "Nothing.",
		Person:  TryLater,
	},
	{
		ID:      "idle-ended",
		Title:   "The connection was closed because it was idle",
		Confirm: "It happens after the same time each time.",
		Fix:     "Raise the idle timeout at the gateway, or send keepalives.",
		Changes: "Idle timeout.",
		Person:  TryLater,
	},

	// The device.
	{
		ID:      "connection-missing",
		Title:   "The connection does not exist on the device, or is damaged",
		Confirm: "Look for its name in the list of connections.",
		Fix:     "Reinstall the parcel.",
		Changes: "The connection.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "adapter-broken",
		Title:   "The tunnel's network adapters are missing or hang",
		Confirm: "Look for the WAN Miniport entries, without an exclamation mark.",
		Fix:     "Remove them in the Device Manager and restart; Windows installs them again.",
		Changes: "Virtual adapters.",
		Person:  Restart,
	},
	{
		ID:      "already-connected",
		Title:   "The connection is already established, or another one blocks it",
		Confirm: "Check which connections are established.",
		Fix:     "Disconnect them and connect again; restart if none is shown.",
		Changes: "Nothing.",
		Person:  Restart,
	},
	{
		ID:      "ras-service",
		Title:   "The remote access service is not running",
		Confirm: "Check the services RasMan and SstpSvc.",
		Fix:     "Start them.",
		Changes: "Start type of a service.",
		Person:  Restart,
	},
	{
		ID:      "not-allowed",
		Title:   "The person is not allowed to change or start the connection",
		Confirm: "Try with administrator rights.",
		Fix:     "Run it as administrator, or install the connection for all users.",
		Changes: "Rights.",
		Person:  WaitFor,
	},
	{
		ID:      "cancelled",
		Title:   "Somebody at the device cancelled the connection",
		Confirm: "Ask the person.",
		Fix:     "Connect again.",
		Changes: "Nothing.",
		Person:  TryLater,
	},
	{
		ID:      "restart-needed",
		Title:   "The device must be restarted",
		Confirm: "Check how long it has been running.",
		Fix:     "Restart the device.",
		Changes: "Nothing.",
		Person:  Restart,
	},
	{
		ID:      "release-lacks",
		Title:   "This release no longer supports the protocol or the sign-in method",
		Confirm: "wardicon platform list shows what each release supports.",
		Fix:     "Use another protocol for the device: {instead}.",
		Changes: "The protocol of the profile.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "plugin-missing",
		Title:   "The client or plugin for the protocol is not installed",
		Confirm: "Check whether the plugin of the protocol is installed.",
		Fix:     "Install it.",
		Changes: "Software on the device.",
		Person:  WaitFor,
	},
	{
		ID:      "tunnel-device",
		Title:   "The system provides no tunnel interface",
		Confirm: "Check whether /dev/net/tun or /dev/ppp exists.",
		Fix:     "Load the kernel module, and run with the necessary rights.",
		Changes: "A kernel module.",
		Person:  WaitFor,
	},
	{
		ID:      "file-broken",
		Title:   "The configuration on the device cannot be read",
		Confirm: "The message names the option or the file.",
		Fix:     "Reinstall the parcel; do not edit its file.",
		Changes: "The connection's file.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "secret-missing",
		Title:   "The device has no password or key for the connection, and cannot prompt for one",
		Confirm: "Check whether it is saved, and whether somebody is signed in who could be asked.",
		Fix: "Rebuild the parcel with the password saved, or connect while somebody is at the " +
			"device.",
		Changes: "What is saved.",
		Rebuild: true,
		Person:  FetchAgain,
	},

	// The TLS tunnel and SSTP.
	{
		ID:      "control-key",
		Title:   "The control-channel key, its direction or its digest differ",
		Confirm: "The gateway does not respond or logs that packets cannot be authenticated.",
		Fix:     "Rebuild and reinstall the parcel: it contains the key on record.",
		Changes: "The key in the file.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "tls-versions",
		Title:   "The two ends share no TLS version or cipher",
		Confirm: "The probe shows the gateway's newest version.",
		Fix:     "Update the older end; do not lower the minimum version.",
		Changes: "Software.",
		Person:  UpdateDevice,
	},
	{
		ID:      "ciphers-differ",
		Title:   "The two ends share no data cipher",
		Confirm: "Compare the ciphers of both.",
		Fix:     "Enter a cipher of the gateway on record and rebuild.",
		Changes: "Ciphers in the file.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "options-differ",
		Title:   "Options of the two ends do not match",
		Confirm: "The log names the option and both values.",
		Fix:     "Enter the gateway's value on record and rebuild.",
		Changes: "That option in the file.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:    "binding-refused",
		Title: "The gateway rejected the crypto binding between PPP and TLS",
		Confirm: "A proxy on the path inspects TLS, or the gateway uses another certificate for " +
			"the binding.",
		Fix:     "Exclude the gateway from TLS inspection, or set its certificate for SSTP.",
		Changes: "The proxy, or the gateway.",
		Person:  ChangeNetwork,
	},
	{
		ID:      "client-refused",
		Title:   "The gateway rejects the device's certificate",
		Confirm: "Its log gives the reason: another CA, expired, or revoked.",
		Fix:     "Install the CA of the devices at the gateway, or issue a new certificate.",
		Changes: "The gateway, or the certificate.",
		Rebuild: true,
		Person:  WaitFor,
	},

	// After connecting.
	{
		ID:      "inside-names",
		Title:   "Connected, but internal names do not resolve",
		Confirm: "Check which name server the device uses for the internal domain.",
		Fix:     "Add internal DNS servers and domains to the record and rebuild.",
		Changes: "DNS servers in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:      "routes-missing",
		Title:   "Connected, but internal networks are not routed through the tunnel",
		Confirm: "Check the routes on the device.",
		Fix:     "Enter the routes on record, or use a full tunnel, and rebuild.",
		Changes: "Routes in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
	{
		ID:    "host-silent",
		Title: "Connected, but an internal host does not respond",
		Confirm: "Check whether other people reach it, and whether its firewall allows the " +
			"pool's addresses.",
		Fix:     "Start the host, or allow the pool's addresses in its firewall.",
		Changes: "The host.",
		Person:  WaitFor,
	},
	{
		ID:      "other-way",
		Title:   "Connected, but traffic bypasses the tunnel",
		Confirm: "The public address is not the gateway's.",
		Fix:     "Use a full tunnel, refuse IPv6 if the gateway does not carry it, and rebuild.",
		Changes: "Routes in the parcel.",
		Rebuild: true,
		Person:  FetchAgain,
	},
}
