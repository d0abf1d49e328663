// Package vpn holds the nouns of Wardicon as plain types, and says what is valid
// in itself. Whether a valid record is also wise is package check's business.
package vpn

import (
	"reflect"
	"strconv"
	"time"

	"wardicon/core/secret"
)

// Protocol is a kind of tunnel.
type Protocol string

// The protocols.
const (
	L2TP  Protocol = "l2tp"
	IKEv2 Protocol = "ikev2"
	PPTP  Protocol = "pptp"
	SSTP  Protocol = "sstp"
	TLS   Protocol = "tls"
)

// Protocols lists the protocols, strongest first.
var Protocols = []Protocol{IKEv2, TLS, SSTP, L2TP, PPTP}

// Title writes the protocol as people in the trade do.
func (p Protocol) Title() string {
	switch p {
	case L2TP:
		return "L2TP/IPsec"
	case IKEv2:
		return "IKEv2"
	case TLS:
		return "TLS tunnel"
	}
	return map[Protocol]string{PPTP: "PPTP", SSTP: "SSTP"}[p]
}

// Meta is what every record carries: who it is and which version of it.
type Meta struct {
	// Identifier, given by the service.
	ID string `json:"id" readOnly:"true"`
	// Counts the changes; send it in If-Match to change only what you saw.
	Version int `json:"version" readOnly:"true"`
	// When it was added.
	Created time.Time `json:"created" readOnly:"true"`
	// When it was last changed.
	Changed time.Time `json:"changed" readOnly:"true"`
	// What of the record is stored but cannot be read any more, such as password: set it again.
	Damaged []string `json:"damaged,omitempty" readOnly:"true"`
}

// RecordID is the identifier of the record, whatever its noun.
func (m Meta) RecordID() string { return m.ID }

// Place is where a gateway stands or a person is.
type Place struct {
	// City.
	City string `json:"city,omitempty" maxLength:"100"`
	// Country, two letters (ISO 3166-1), such as NO.
	Country string `json:"country,omitempty"`
	// Latitude in degrees, -90 to 90; the nearest gateway is computed from it.
	Latitude *float64 `json:"latitude,omitempty"`
	// Longitude in degrees, -180 to 180.
	Longitude *float64 `json:"longitude,omitempty"`
}

// LoginForm is the way in which a gateway wants login and realm joined.
type LoginForm string

// The forms.
const (
	LoginPlain      LoginForm = "login"
	LoginAtRealm    LoginForm = "login@realm"
	RealmSlashLogin LoginForm = "realm\\login"
)

// LoginForms lists the forms.
var LoginForms = []LoginForm{LoginPlain, LoginAtRealm, RealmSlashLogin}

// SignIn says how people sign in at a gateway.
type SignIn struct {
	// Form of the login: login, login@realm or realm\login.
	Form LoginForm `json:"form,omitempty"`
	// Realm that the gateway requires; empty where the form has none.
	Realm string `json:"realm,omitempty"`
}

// Gateway is a VPN server.
type Gateway struct {
	Meta
	// Unique name.
	Name string `json:"name" required:"true"`
	// Host name or IP address that clients connect to, without scheme or port.
	Address string `json:"address" required:"true"`
	// IP addresses that the name should resolve to; the checks verify that no route covers
	// them.
	Addresses []string `json:"addresses"`
	// The IP address is dynamic; only the name is stable.
	Dynamic bool `json:"dynamic"`
	// Where it is.
	Place Place `json:"place"`
	// The gateway is behind NAT.
	BehindNAT bool `json:"behind_nat"`
	// Form of the login at all offers.
	SignIn SignIn `json:"sign_in"`

	// Offers with a different form of login, by protocol, such as {"sstp": {"form":
	// "realm\\login", "realm": "CREW"}}.
	SignIns map[Protocol]SignIn `json:"sign_ins,omitempty"`

	// Internal domains.
	Domains []string `json:"domains"`
	// Internal DNS servers.
	DNS []string `json:"dns"`
	// Networks behind the gateway, in CIDR form; without any, all traffic goes through the
	// tunnel.
	Routes []string `json:"routes"`
	// Address pool of the clients, in CIDR form.
	Pool []string `json:"pool"`
	// Public addresses of its clients (egress): IP addresses or networks.
	Egress []string `json:"egress"`
	// Networks of sites behind routers, in CIDR form; all other devices get a route to them.
	Announced []string `json:"announced"`
	// Internal hosts to test with after connecting.
	Hosts []string `json:"hosts"`
	// Share of the devices that are equally near to several gateways, in percent; 0 counts as
	// 1.
	LoadShare int `json:"load_share"`
	// Protocols that it offers; an absent one is not offered.
	Offers Offers `json:"offers"`

	// Certificate that the gateway presents, and its intermediates, PEM; checked against the
	// CAs that devices trust.
	Certificate string `json:"certificate,omitempty"`
	// CAs that it trusts for device certificates, PEM; set automatically when Wardicon creates
	// its certificate. Empty means those of its offers.
	ClientAuthority string `json:"client_authority,omitempty"`

	// Rehearsals by schedule.
	Rehearsal RehearsalSchedule `json:"rehearsal"`

	// Where the service probes the gateway, if that differs from where devices connect.
	ProbeAt *ProbeAt `json:"probe_at,omitempty"`
	// Note for operators.
	Note string `json:"note,omitempty"`
}

// RehearsalSchedule says how often parcels for a gateway are rehearsed without anybody asking.
type RehearsalSchedule struct {
	// Account that scheduled rehearsals sign in with, in the place of a person's own.
	AccountID string `json:"account_id,omitempty" required:"false"`
	// Minutes between two rehearsals of one parcel for each pattern and platform; 0 means never.
	Every int `json:"every" required:"false"`
}

// Bounds of a schedule, in minutes.
const (
	RehearsalsOftenest = 15
	RehearsalsRarest   = 7 * 24 * 60
)

// SignInBy is how people sign in by one protocol.
func (g Gateway) SignInBy(p Protocol) SignIn {
	if own, ok := g.SignIns[p]; ok {
		if own.Form == "" {
			own.Form = LoginPlain
		}
		return own
	}
	return g.SignIn
}

// ProbeAt is where the service asks a gateway: an inside address, or ports that are forwarded.
type ProbeAt struct {
	// IP address that is probed instead of those on record, such as an internal one.
	Address string `json:"address,omitempty"`
	// Ports that are probed instead of others: for each port, the other one.
	Ports map[string]int `json:"ports,omitempty"`
}

// Moved is the port that is asked in the place of another one.
func (a *ProbeAt) Moved(port int) int {
	if to, ok := a.Ports[strconv.Itoa(port)]; ok {
		return to
	}
	return port
}

// Person receives profiles.
type Person struct {
	Meta
	// Name, as it is printed on cards and in emails.
	Name string `json:"name" required:"true"`
	// Email address.
	Mail string `json:"mail,omitempty"`
	// Language tag (BCP 47) such as en or de; cards, emails and pages are in it.
	Language string `json:"language,omitempty"`
	// Groups that the person belongs to.
	Groups []string `json:"groups"`
	// Where the person usually is; the nearest gateway is computed from it.
	Place Place `json:"place"`
}

// Account is what a person signs in with at a set of gateways.
type Account struct {
	Meta
	// The person who signs in with it.
	PersonID string `json:"person_id" required:"true"`
	// Login, without the realm.
	Login string `json:"login" required:"true"`
	// Realm; empty uses the gateway's.
	Realm string `json:"realm,omitempty"`
	// Password; never read back. Leave it out to keep it, null removes it.
	Password *secret.Text `json:"password,omitempty" writeOnly:"true"`
	// A password is stored.
	PasswordSet bool `json:"password_set" readOnly:"true"`
	// Gateways where the account is valid; empty means all.
	GatewayIDs []string `json:"gateway_ids"`
}

// Platform is a family of operating systems or of devices.
type Platform string

// The platforms. What each release can do is data in package platform.
const (
	Windows      Platform = "windows"
	MacOS        Platform = "macos"
	IOS          Platform = "ios"
	IPadOS       Platform = "ipados"
	Android      Platform = "android"
	ChromeOS     Platform = "chromeos"
	LinuxDesktop Platform = "linux-desktop"
	Linux        Platform = "linux"
	OpenWrt      Platform = "openwrt"
	DeskPhone    Platform = "desk-phone"
)

// Platforms lists all platforms.
var Platforms = []Platform{
	Windows,
	MacOS,
	IOS,
	IPadOS,
	Android,
	ChromeOS,
	LinuxDesktop,
	Linux,
	OpenWrt,
	DeskPhone,
}

// Device is what a profile is built for.
type Device struct {
	Meta
	// Unique name.
	Name string `json:"name" required:"true"`
	// The person who uses it.
	PersonID string `json:"person_id" required:"true"`
	// Operating system: windows, macos, ios, ipados, android, chromeos, linux-desktop, linux,
	// openwrt or desk-phone.
	Platform Platform `json:"platform" required:"true"`
	// Release of the operating system, such as 11 or 10.15.
	Release string `json:"release" required:"true"`
	// The device cannot prompt for a password.
	CannotAsk bool `json:"cannot_ask"`
	// The disk is encrypted.
	Encrypted bool `json:"encrypted"`
	// Certificate of the device with its private key.
	Identity *DeviceIdentity `json:"identity,omitempty"`
	// Further certificates, of other CAs: each is for the gateways that trust its CA and not that of
	// the one before it.
	Others []DeviceIdentity `json:"other_identities,omitempty"`
	// The device makes its key itself and has a CA issue the certificate; null where the key is
	// made here or elsewhere.
	Enrolment *DeviceEnrolment `json:"enrolment,omitempty"`
	// Networks behind a router; null for a device that connects only itself.
	Site *Site `json:"site,omitempty"`

	// Why nothing more is built for the device: lost, left or retired; empty where it is in use.
	Offboarded OffboardReason `json:"offboarded,omitempty"`
}

// OffboardReason says why a device is in nobody's right hands any more.
type OffboardReason string

// The reasons; the empty one stands for a device in use.
const (
	Lost    OffboardReason = "lost"    // or stolen: whoever has it may use what is on it
	Left    OffboardReason = "left"    // its person has
	Retired OffboardReason = "retired" // and wiped
)

// OffboardReasons lists the reasons.
var OffboardReasons = []OffboardReason{Lost, Left, Retired}

// DeviceEnrolment says which CA issues the certificate for a key that a device makes itself.
type DeviceEnrolment struct {
	// CA that issues it.
	AuthorityID string `json:"authority_id"`
	// Further CAs, for gateways that do not trust the one before.
	OtherIDs []string `json:"other_authority_ids,omitempty"`
	// Raise it to give the device another enrolment secret, so that it can ask once more: a secret is
	// valid for one key.
	Generation int `json:"generation" required:"false"`
}

// DeviceIdentity is the certificate that a device proves itself with.
type DeviceIdentity struct {
	// Certificate of the device and its intermediates, PEM.
	Certificate string `json:"certificate"`
	// Private key of the certificate, PEM without a passphrase; never read back. Leave it out
	// to keep it.
	Key *secret.Text `json:"key,omitempty" writeOnly:"true"`
	// A key is stored.
	KeySet bool `json:"key_set" readOnly:"true"`
	// The device made the key itself: it is nowhere else.
	OnDevice bool `json:"on_device" required:"false"`
}

// Tunnel says which traffic goes through.
type Tunnel string

// PasswordMode says what happens with the password.
type PasswordMode string

// Scope says for whom on the device a connection is made.
type Scope string

// The values; the empty one leaves the choice to planning.
const (
	TunnelFull  Tunnel = "full"
	TunnelSplit Tunnel = "split"

	// TunnelPushed is what a file from elsewhere leaves to the gateway; it is not planned.
	TunnelPushed Tunnel = "pushed"

	PasswordSaved    PasswordMode = "saved"
	PasswordPrompted PasswordMode = "asked"

	ScopePerson  Scope = "person"
	ScopeMachine Scope = "machine"
)

// Preferences are what an operator has set manually for one profile; whatever is
// empty is chosen by planning.
type Preferences struct {
	// Name of the connection on the device.
	Name string `json:"name,omitempty"`
	// Account that the device signs in with; empty means the person's only one that is valid
	// there.
	AccountID string `json:"account_id,omitempty"`
	// full or split.
	Tunnel Tunnel `json:"tunnel,omitempty"`
	// saved or asked.
	Password PasswordMode `json:"password,omitempty"`
	// Passphrase of the device's certificate in an Apple profile: saved (inside the file) or
	// asked (at installation).
	CertificatePassphrase PasswordMode `json:"certificate_passphrase,omitempty"`
	// person or machine.
	Scope Scope `json:"scope,omitempty"`
	// ikev2, tls, sstp, l2tp or pptp; empty means the strongest.
	Protocol Protocol `json:"protocol,omitempty"`
	// File format, if the device supports several.
	Format string `json:"format,omitempty"`

	// Client authentication: eap-tls, certificate, eap-mschapv2 or psk with IKEv2;
	// certificate-password, certificate or password with the TLS tunnel; certificate or psk
	// with L2TP/IPsec.
	Auth string `json:"auth,omitempty"`
	// TLS tunnel: only udp or only tcp; empty tries the gateway's in their order.
	Transport Transport `json:"transport,omitempty"`
	// Networks for a split tunnel, in CIDR form; empty uses the pattern's or the gateway's.
	Routes []string `json:"routes,omitempty"`
	// DNS servers; empty uses the pattern's or the gateway's.
	DNS []string `json:"dns,omitempty"`
	// Internal domains; empty uses the pattern's or the gateway's.
	Domains []string `json:"domains,omitempty"`
	// carried, refused or left.
	IPv6 IPv6 `json:"ipv6,omitempty"`
	// by-hand, at-sign-in, on-demand or always.
	Connect Connect `json:"connect,omitempty"`
	// When to connect on demand.
	Demand *Demand `json:"demand,omitempty"`
	// Reconnect automatically.
	Reconnect bool `json:"reconnect,omitempty"`

	// Second gateway for when the profile's own does not respond: its remotes go into the same
	// file if both accept the same keys, else it needs a profile of its own.
	FallbackID string `json:"fallback_id,omitempty"`
	// Gateway for which the profile's own is the fallback.
	SecondTo string `json:"second_to,omitempty"`
}

// IsZero tells whether nothing is settled.
func (w Preferences) IsZero() bool { return reflect.ValueOf(w).IsZero() }

// Over is a pattern with what is settled for one profile in the place of its own, and the
// fields for which that is so.
func (w Preferences) Over(p Pattern) (Pattern, map[Field]bool) {
	own := map[Field]bool{}
	for field, list := range map[Field]struct {
		from []string
		to   *[]string
	}{
		FieldRoutes:  {w.Routes, &p.Routes},
		FieldDNS:     {w.DNS, &p.DNS},
		FieldDomains: {w.Domains, &p.Domains},
	} {
		if len(list.from) > 0 {
			*list.to, own[field] = list.from, true
		}
	}
	if w.IPv6 != "" {
		p.IPv6, own[FieldIPv6] = w.IPv6, true
	}
	if w.Connect != "" {
		p.Connect, own[FieldConnect], p.Demand = w.Connect, true, Demand{}
	}
	if w.Demand != nil {
		p.Demand, own[FieldDemand] = *w.Demand, true
	}
	if w.Reconnect {
		p.Reconnect, own[FieldReconnect] = true, true
	}
	return p, own
}

// Profile is the connection of one device to one gateway.
type Profile struct {
	Meta
	// The device that connects.
	DeviceID string `json:"device_id" required:"true"`
	// The gateway that it connects to.
	GatewayID string `json:"gateway_id" required:"true"`
	// Pattern that applies.
	PatternID string `json:"pattern_id,omitempty"`
	// What is set by hand; all else is planned.
	Preferences Preferences `json:"preferences"`
	// Findings when last checked.
	Tally Tally `json:"tally" readOnly:"true"`
	// False while a check of changed data is still to come.
	Checked bool `json:"checked" readOnly:"true"`
}

// Severity ranks a finding.
type Severity string

// The severities: an error keeps a parcel from being built or handed over.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// Tally counts findings by severity.
type Tally struct {
	Errors   int `json:"errors"`
	Warnings int `json:"warnings"`
	Notes    int `json:"notes"`
}

// Add counts one finding.
func (t *Tally) Add(s Severity) {
	switch s {
	case Error:
		t.Errors++
	case Warning:
		t.Warnings++
	case Note:
		t.Notes++
	}
}

// Organisation is who the service works for; its names go into profiles.
type Organisation struct {
	Version int `json:"version" readOnly:"true"`
	// Shown in profiles and on cards.
	Name string `json:"name" required:"true"`
	// A domain of the organisation; reversed, it begins the identifiers in Apple profiles.
	Domain string `json:"domain" required:"true"`
	// Address under which people reach this service, such as https://connect.skerryline.example;
	// links in mails begin with it.
	Links string `json:"links" required:"false"`
	// Why people cannot open links that begin with it; empty where nothing speaks against it.
	LinksProblem string `json:"links_problem,omitempty" readOnly:"true"`
	// Address at which devices renew the certificates of their own keys (serve --enrol-listen), such
	// as https://enrol.skerryline.example:7443; without one they ask at the public URL, and cannot
	// renew by EST.
	Enrol string `json:"enrol" required:"false"`
	// The same over IPv4 only; with links_v6 it detects traffic that bypasses a tunnel.
	LinksV4 string `json:"links_v4" required:"false"`
	// The same by IPv6 alone.
	LinksV6 string `json:"links_v6" required:"false"`
	// Every operator must have a second factor: until then nothing but setting it up is allowed.
	Factors bool `json:"factors" required:"false"`

	// Two operators are needed to export a CA's key or the archive of a group, to override an error
	// temporarily, to change the severity of a rule, and to let somebody sign in who could then
	// decide.
	FourEyes bool `json:"four_eyes" required:"false"`

	// Hours after which the service asks each gateway again what it answers; 0 asks only when
	// somebody wants it.
	ProbeEvery int `json:"probe_every" required:"false"`

	// Days after which the files of a parcel that a newer one took the place of are removed; that
	// it was built, with its digest, stays. 0 keeps all.
	KeepParcels int `json:"keep_parcels" required:"false"`
}
