// Package explain tells what lies behind error codes and lines of logs: causes, how to confirm each, and the fix. With what
// the records say of the case it ranks them.
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
	ID      string `json:"id"`
	Title   string `json:"title"`
	Confirm string `json:"confirm" doc:"How to see whether it is this"`
	Fix     string `json:"fix" doc:"One command or one setting, for the release where that is known"`
	Changes string `json:"changes" doc:"What the fix changes"`
	Rebuild bool   `json:"rebuild" doc:"A rebuilt parcel does it"`
	Person  Person `json:"person" doc:"What the person at the device can do"`
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
	{ID: "gateway-no-response", Title: "The gateway does not answer", Confirm: "Ask it from here: wardicon probe {gateway}.", Fix: "Start the gateway's daemon, or open its ports in the firewall before it.", Changes: "Nothing on devices.", Person: TryLater},
	{ID: "port-blocked", Title: "The device's network does not let the protocol through", Confirm: "Try from another network, such as a phone's; others of the same gateway connect.", Fix: "Use a protocol over TCP 443 (SSTP or the TLS tunnel) on this device, or have the network open the ports.", Changes: "A second profile for the device.", Rebuild: true, Person: ChangeNetwork},
	{ID: "gre-blocked", Title: "GRE (protocol 47) does not pass a router on the way", Confirm: "TCP 1723 answers, and the connection stops at verifying the sign-in.", Fix: "Switch PPTP pass-through on at the router, or move to another protocol.", Changes: "The router, or the device's profile.", Person: ChangeNetwork},
	{ID: "name-unresolved", Title: "The gateway's name leads nowhere on the device", Confirm: "Look the name up on the device.", Fix: "Correct the name, or the device's name server.", Changes: "Which name server the device uses.", Person: ChangeNetwork},
	{ID: "network-down", Title: "The device has no network", Confirm: "Open any page on the device.", Fix: "Connect the device to a network first.", Changes: "Nothing.", Person: ChangeNetwork},
	{ID: "proxy-between", Title: "A proxy or another web server stands between device and gateway", Confirm: "The probe shows which certificate and which server answer on the port.", Fix: "Leave the gateway's name out of the proxy, or out of its inspection of TLS.", Changes: "The proxy's rules.", Person: ChangeNetwork},
	{ID: "link-dropped", Title: "The link broke off under way", Confirm: "Look whether it always happens after the same time, or when the device changes its network.", Fix: "Set a shorter keep-alive (25 seconds pass most routers) and let the connection come back by itself.", Changes: "Keep-alive in the parcel.", Rebuild: true, Person: TryLater},
	{ID: "packet-size", Title: "Packets are too large for the way", Confirm: "Small answers come, large ones do not: ping with 1,400 bytes and no fragmentation fails.", Fix: "Set the tunnel's MTU to 1,350, or switch IKE fragmentation on at both ends.", Changes: "MTU of the tunnel.", Person: WaitFor},

	// The first exchange of IKE.
	{ID: "nat-registry", Title: "Windows refuses a gateway behind address translation until it is told and restarted", Confirm: "The value AssumeUDPEncapsulationContextOnSendRule is missing, or the device was not restarted since it was set.", Fix: "Install the parcel again, which sets the value, and restart the device.", Changes: "One registry value for all IPsec on the device.", Rebuild: true, Person: Restart},
	{ID: "ipsec-service", Title: "The services that do IPsec do not run on the device", Confirm: "Look at the services IKEEXT and PolicyAgent, or at the IKE daemon.", Fix: "Start them and have them start by themselves.", Changes: "How two services start.", Rebuild: true, Person: Restart},
	{ID: "key-wrong", Title: "The pre-shared key on the device is not the gateway's", Confirm: "Look when the key was changed at the gateway, and whether the device has an older one.", Fix: "Build and install the parcel again: it carries the key on record.", Changes: "The key of this connection.", Rebuild: true, Person: FetchAgain},
	{ID: "suites-differ", Title: "Device and gateway have no IKE suite in common", Confirm: "wardicon probe {gateway} lists what it takes; the plan of the profile lists what the device sends.", Fix: "Accept the gateway's proposals into the record and rebuild; for an old device enable its suite at the gateway.", Changes: "Suites in the parcel.", Rebuild: true, Person: FetchAgain},
	{ID: "group-differs", Title: "The Diffie-Hellman group that the device sends is not the gateway's", Confirm: "The answer names the group that it wants; the probe lists suites by group.", Fix: "Put that group into the record and build again.", Changes: "Group in the parcel.", Rebuild: true, Person: FetchAgain},
	{ID: "child-suites-differ", Title: "IKE is agreed on, and the ESP suites or PFS are not", Confirm: "The log shows an IKE association that is established and then an error for the child.", Fix: "Make ESP suites and PFS the same at both ends: a group in the child proposal is PFS.", Changes: "Child suites in the parcel.", Rebuild: true, Person: FetchAgain},
	{ID: "identity-differs", Title: "The gateway introduces itself under another identity than the device expects", Confirm: "Compare the remote identity of the profile with what the gateway sends (probe, or its log).", Fix: "Put the gateway's identity on record (--ikev2-remote-id) and build again.", Changes: "Remote identity in the parcel.", Rebuild: true, Person: FetchAgain},
	{ID: "identity-unknown", Title: "The gateway knows no peer with the identity that the device sends", Confirm: "The gateway's log names the identity that it looked for.", Fix: "Put the group name or local identity that the gateway expects on record and build again.", Changes: "Local identity in the parcel.", Rebuild: true, Person: FetchAgain},
	{ID: "selectors-differ", Title: "Device and gateway do not agree on which traffic goes through the tunnel", Confirm: "The gateway's log names the traffic selectors that both offered.", Fix: "Make the routes of the record those that the gateway lets through.", Changes: "Routes in the parcel.", Rebuild: true, Person: FetchAgain},
	{ID: "pool-empty", Title: "The gateway's address pool is exhausted", Confirm: "Count who is connected against the size of the pool.", Fix: "Enlarge the pool at the gateway, or end sessions that hang.", Changes: "The gateway's pool.", Person: TryLater},
	{ID: "ike-version", Title: "The other end speaks another version of IKE", Confirm: "The probe shows which versions answer.", Fix: "Choose the protocol that the gateway offers: IKEv2, or L2TP for IKEv1.", Changes: "The protocol of the profile.", Rebuild: true, Person: FetchAgain},
	{ID: "peer-confused", Title: "The ends remember different states of one connection", Confirm: "It works after both ends have forgotten it, and only once.", Fix: "Disconnect, wait a minute and connect again; at the gateway let dead peers be detected.", Changes: "Nothing that stays.", Person: TryLater},

	// Certificates.
	{ID: "authority-missing", Title: "The device does not know the authority of the gateway's certificate", Confirm: "The certificate is in the parcel and not in the device's store.", Fix: "Install the parcel again: it brings the authority.", Changes: "One authority in the store.", Rebuild: true, Person: FetchAgain},
	{ID: "authority-store", Title: "The authority is in the person's store and not in the machine's", Confirm: "Look for it with certlm.msc, not certmgr.msc.", Fix: "Move it into the machine's trusted roots.", Changes: "One authority in the machine's store.", Rebuild: true, Person: FetchAgain},
	{ID: "gateway-certificate-expired", Title: "The gateway's certificate has expired", Confirm: "wardicon probe {gateway} shows until when it is.", Fix: "Give the gateway a new certificate: wardicon certificate gateway {gateway}.", Changes: "The gateway's certificate.", Person: WaitFor},
	{ID: "device-certificate-expired", Title: "The device's own certificate has expired", Confirm: "wardicon certificate calendar.", Fix: "Issue a new one, build and hand the parcel over again.", Changes: "The device's certificate.", Rebuild: true, Person: FetchAgain},
	{ID: "device-certificate-missing", Title: "The device has no certificate that fits", Confirm: "Look into the machine's store: a certificate with its key, for client authentication.", Fix: "Install the parcel again: it brings the certificate with its key.", Changes: "One certificate in the store.", Rebuild: true, Person: FetchAgain},
	{ID: "device-certificate-revoked", Title: "The device's certificate was revoked", Confirm: "wardicon certificate list --search DEVICE.", Fix: "Issue a new one if the device may still connect.", Changes: "The device's certificate.", Rebuild: true, Person: WaitFor},
	{ID: "certificate-name", Title: "The gateway's certificate is for another name", Confirm: "Compare the names that the probe shows with the address in the profile.", Fix: "Connect by a name that is in the certificate, or issue one with the name on record.", Changes: "The gateway's certificate, or the address.", Person: WaitFor},
	{ID: "certificate-usage", Title: "The gateway's certificate is not one for servers", Confirm: "Look for serverAuth in its extended key usage.", Fix: "Issue one for a gateway.", Changes: "The gateway's certificate.", Person: WaitFor},
	{ID: "revocation-unreachable", Title: "The device cannot reach the list of revoked certificates", Confirm: "Open the address of the list from the device, before it is connected.", Fix: "Put the list where it can be reached without the tunnel, or leave the address out of the certificate.", Changes: "Where the list is.", Person: WaitFor},
	{ID: "clock-wrong", Title: "The device's clock is wrong", Confirm: "Compare date, time and time zone.", Fix: "Let the device take its time from the network.", Changes: "The clock.", Person: SetClock},

	// Signing in.
	{ID: "password-wrong", Title: "Login or password are not right", Confirm: "Type them again by hand; look for spaces, a lost underscore, or capitalisation.", Fix: "Enter them as the card shows them; where the password on record is another one, build again.", Changes: "Sign-in on the device.", Rebuild: true, Person: TypeAgain},
	{ID: "realm-wrong", Title: "The login has the wrong realm, or none", Confirm: "Compare with the form that the gateway wants.", Fix: "Enter login and realm joined as the gateway wants them; the card shows it.", Changes: "Login on the device.", Rebuild: true, Person: TypeAgain},
	{ID: "password-expired", Title: "The password has expired and must be changed", Confirm: "Look into the directory.", Fix: "Let the person change it, and put the new one on record.", Changes: "The password.", Rebuild: true, Person: WaitFor},
	{ID: "account-locked", Title: "The account is disabled, locked or may not dial in", Confirm: "Look into the directory: disabled, locked, hours, dial-in.", Fix: "Unlock it there and allow it to dial in.", Changes: "The account in the directory.", Person: WaitFor},
	{ID: "session-limit", Title: "The account is connected as often as it may be", Confirm: "Look who is connected at the gateway.", Fix: "End the other session, or raise the limit.", Changes: "The gateway.", Person: TryLater},
	{ID: "methods-differ", Title: "Device and gateway have no way of signing in in common", Confirm: "Compare the PPP methods on record with what the device allows.", Fix: "Allow MS-CHAPv2 on the device; the parcel sets it.", Changes: "Methods of the connection.", Rebuild: true, Person: FetchAgain},
	{ID: "encryption-differs", Title: "One end demands encryption of the link that the other does not offer", Confirm: "PAP and CHAP cannot carry MPPE: look which method is agreed on.", Fix: "Use MS-CHAPv2 with 128 bits at both ends; for L2TP let the gateway not demand MPPE, as IPsec encrypts.", Changes: "Encryption of the connection.", Rebuild: true, Person: FetchAgain},
	{ID: "eap-missing", Title: "The gateway wants another EAP method than the device has set up", Confirm: "Compare the sign-in of the offer with the connection's.", Fix: "Build and install the parcel again: it sets the method.", Changes: "EAP settings of the connection.", Rebuild: true, Person: FetchAgain},
	{ID: "mutual-failed", Title: "The gateway could not prove that it knows the password", Confirm: "The password on the device is right and the gateway's store is another one.", Fix: "Compare the password in the gateway's store.", Changes: "The gateway's store.", Person: WaitFor},
	{ID: "sign-in-server", Title: "The server that checks sign-ins does not answer the gateway", Confirm: "The gateway's log shows time-outs of RADIUS or of the directory.", Fix: "Start it, or correct its address and secret at the gateway.", Changes: "The gateway.", Person: TryLater},

	// PPP.
	{ID: "ppp-silent", Title: "PPP does not get an answer through the tunnel", Confirm: "LCP requests are sent and none comes back: GRE or ESP is lost on the way.", Fix: "Let the router pass GRE (PPTP) or ESP and UDP 4500 (L2TP); look at the gateway's PPP daemon.", Changes: "The router, or the gateway.", Person: ChangeNetwork},
	{ID: "address-refused", Title: "Client and gateway do not agree on an internal address", Confirm: "IPCP is refused: look at the pool, and at a fixed address on the device.", Fix: "Let the device take its address from the gateway.", Changes: "Address of the connection.", Rebuild: true, Person: WaitFor},
	{ID: "protocol-refused", Title: "The other end refuses a part of PPP that this one wants", Confirm: "The log names the protocol: 0x80fd is compression, 0x8057 is IPv6.", Fix: "Switch that part off in the PPP options (noccp, noipv6).", Changes: "PPP options.", Rebuild: true, Person: WaitFor},
	{ID: "peer-ended", Title: "The gateway ended the connection", Confirm: "Its log says why, at that time.", Fix: "Look into the gateway's log at that time.", Changes: "Nothing.", Person: TryLater},
	{ID: "idle-ended", Title: "Nothing went through, and the connection was ended for that", Confirm: "It happens after the same time each time.", Fix: "Raise the idle time at the gateway, or send keep-alives.", Changes: "Idle time.", Person: TryLater},

	// The device.
	{ID: "connection-missing", Title: "There is no such connection on the device, or it is damaged", Confirm: "Look for its name in the list of connections.", Fix: "Install the parcel again.", Changes: "The connection.", Rebuild: true, Person: FetchAgain},
	{ID: "adapter-broken", Title: "The network adapters for tunnels are missing or hang", Confirm: "Look for the WAN Miniport entries, without an exclamation mark.", Fix: "Remove them and let the system find them again.", Changes: "Virtual adapters.", Person: Restart},
	{ID: "already-connected", Title: "The connection is already up, or another one holds what it needs", Confirm: "Look which connections are up.", Fix: "Disconnect them and connect again; restart where nothing is shown.", Changes: "Nothing.", Person: Restart},
	{ID: "ras-service", Title: "The service that dials does not run", Confirm: "Look at the services RasMan and SstpSvc.", Fix: "Start them.", Changes: "How a service starts.", Person: Restart},
	{ID: "not-allowed", Title: "The device does not let this person change or dial it", Confirm: "Try with an administrator's rights.", Fix: "Run it as administrator, or install the connection for all users.", Changes: "Rights.", Person: WaitFor},
	{ID: "cancelled", Title: "Somebody at the device ended it", Confirm: "Ask.", Fix: "Connect again.", Changes: "Nothing.", Person: TryLater},
	{ID: "restart-needed", Title: "The device must be restarted before it works", Confirm: "Look since when it runs.", Fix: "Restart it.", Changes: "Nothing.", Person: Restart},
	{ID: "release-lacks", Title: "This release does not have the protocol or the way of signing in any more", Confirm: "wardicon platform list shows what each release can do.", Fix: "Choose another protocol for the device: {instead}.", Changes: "The protocol of the profile.", Rebuild: true, Person: FetchAgain},
	{ID: "plugin-missing", Title: "The program that speaks the protocol is not installed", Confirm: "Look for the plugin of that protocol.", Fix: "Install it.", Changes: "Programs on the device.", Person: WaitFor},
	{ID: "tunnel-device", Title: "The system gives no tunnel interface", Confirm: "Look whether /dev/net/tun or /dev/ppp is there.", Fix: "Load the module and run with the rights for it.", Changes: "A kernel module.", Person: WaitFor},
	{ID: "file-broken", Title: "The configuration on the device cannot be read", Confirm: "The line names the option or the file.", Fix: "Install the parcel again; do not change its file by hand.", Changes: "The connection's file.", Rebuild: true, Person: FetchAgain},
	{ID: "secret-missing", Title: "The device has no password or key for the connection, and cannot ask", Confirm: "Look whether it is saved, or whether somebody is signed in who can be asked.", Fix: "Build the parcel with the password saved, or connect with somebody at the device.", Changes: "What is saved.", Rebuild: true, Person: FetchAgain},

	// The TLS tunnel and SSTP.
	{ID: "control-key", Title: "The control-channel key, its direction or its digest differ", Confirm: "The gateway does not respond or logs that packets cannot be authenticated.", Fix: "Build and install the parcel again: it carries the key on record.", Changes: "The key in the file.", Rebuild: true, Person: FetchAgain},
	{ID: "tls-versions", Title: "The ends have no TLS version or cipher in common", Confirm: "The probe shows the newest version of the gateway.", Fix: "Bring the older end up to date; do not lower the least version.", Changes: "Programs.", Person: UpdateDevice},
	{ID: "ciphers-differ", Title: "The ends have no data cipher in common", Confirm: "Compare the ciphers of both.", Fix: "Put a cipher of the gateway on record and build again.", Changes: "Ciphers in the file.", Rebuild: true, Person: FetchAgain},
	{ID: "options-differ", Title: "Options of both ends do not fit each other", Confirm: "The log names the option and both values.", Fix: "Put the gateway's value on record and build again.", Changes: "That option in the file.", Rebuild: true, Person: FetchAgain},
	{ID: "binding-refused", Title: "The gateway refused the crypto binding of PPP to TLS", Confirm: "A proxy that opens TLS stands between, or the gateway expects another certificate.", Fix: "Take the proxy out of the way; set the gateway's certificate for SSTP.", Changes: "The proxy, or the gateway.", Person: ChangeNetwork},
	{ID: "client-refused", Title: "The gateway does not accept the device's certificate", Confirm: "Its log says why: not of its authority, ended, or revoked.", Fix: "Give the gateway the authority of the devices, or issue a new certificate.", Changes: "The gateway, or the certificate.", Rebuild: true, Person: WaitFor},

	// After connecting.
	{ID: "inside-names", Title: "Connected, but internal names do not resolve", Confirm: "Check which name server the device uses for the internal domain.", Fix: "Add internal name servers and domains to the record and rebuild.", Changes: "Name servers in the parcel.", Rebuild: true, Person: FetchAgain},
	{ID: "routes-missing", Title: "Connected, but internal networks are not routed through the tunnel", Confirm: "Look at the routes on the device.", Fix: "Put the routes on record, or take the full tunnel, and build again.", Changes: "Routes in the parcel.", Rebuild: true, Person: FetchAgain},
	{ID: "host-silent", Title: "Connected, but an internal host does not respond", Confirm: "Others reach it, or not; its firewall lets the pool's addresses through, or not.", Fix: "Start the host, or let the pool's addresses through its firewall.", Changes: "The host.", Person: WaitFor},
	{ID: "other-way", Title: "Connected, but traffic bypasses the tunnel", Confirm: "The public address is not the gateway's.", Fix: "Take the full tunnel, and refuse IPv6 where the gateway has none; build again.", Changes: "Routes in the parcel.", Rebuild: true, Person: FetchAgain},
}
