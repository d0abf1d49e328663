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
	ID      string    `json:"id" readOnly:"true" doc:"Identifier, given by the service"`
	Version int       `json:"version" readOnly:"true" doc:"Counts the changes; send it in If-Match to change only what you saw"`
	Created time.Time `json:"created" readOnly:"true"`
	Changed time.Time `json:"changed" readOnly:"true"`
	Damaged []string  `json:"damaged,omitempty" readOnly:"true" doc:"What of the record is stored but cannot be read any more, such as password: set it again"`
}

// Place is where a gateway stands or a person is.
type Place struct {
	City      string   `json:"city,omitempty" maxLength:"100"`
	Country   string   `json:"country,omitempty" doc:"ISO 3166-1 code of two letters"`
	Latitude  *float64 `json:"latitude,omitempty" doc:"Degrees north, -90 to 90"`
	Longitude *float64 `json:"longitude,omitempty" doc:"Degrees east, -180 to 180"`
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
	Form  LoginForm `json:"form,omitempty" doc:"How login and realm are joined: login, login@realm or realm\\login"`
	Realm string    `json:"realm,omitempty" doc:"The realm that the gateway wants; empty where the form has none"`
}

// Gateway is a VPN server.
type Gateway struct {
	Meta
	Name      string   `json:"name" required:"true" doc:"Unique name"`
	Address   string   `json:"address" required:"true" doc:"What clients connect to: a host name or an IP address"`
	Addresses []string `json:"addresses" doc:"The IP addresses on record behind the name"`
	Dynamic   bool     `json:"dynamic" doc:"The IP address changes; only the name is stable"`
	Place     Place    `json:"place"`
	BehindNAT bool     `json:"behind_nat" doc:"The gateway stands behind network address translation"`
	SignIn    SignIn   `json:"sign_in"`

	SignIns map[Protocol]SignIn `json:"sign_ins,omitempty" doc:"Offers at which people sign in otherwise, by protocol, such as {\"sstp\": {\"form\": \"realm\\\\login\", \"realm\": \"CREW\"}}"`

	Domains   []string `json:"domains" doc:"Internal domains"`
	DNS       []string `json:"dns" doc:"Internal DNS servers, IP addresses"`
	Routes    []string `json:"routes" doc:"Networks reachable behind the gateway, in CIDR form"`
	Pool      []string `json:"pool" doc:"Addresses given to clients, in CIDR form"`
	Egress    []string `json:"egress" doc:"Public addresses of clients behind the gateway (egress), IP addresses or networks"`
	Announced []string `json:"announced" doc:"Networks of sites behind routers that the gateway routes to them and announces to all other devices, in CIDR form"`
	Hosts     []string `json:"hosts" doc:"Internal hosts to test with after connecting"`
	LoadShare int      `json:"load_share" doc:"Share of the devices that are equally near to several gateways; 0 counts as 1"`
	Offers    Offers   `json:"offers"`

	Certificate     string `json:"certificate,omitempty" doc:"The certificate that the gateway presents and its intermediates, PEM; checked against the CAs that devices trust"`
	ClientAuthority string `json:"client_authority,omitempty" doc:"Authorities that the gateway checks devices' certificates against, PEM; noted when Wardicon makes its certificate. Empty means those of its offers"`

	ProbeAt *ProbeAt `json:"probe_at,omitempty" doc:"Where the service probes the gateway, if devices reach it elsewhere"`
	Note    string   `json:"note,omitempty"`
}

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
	Address string         `json:"address,omitempty" doc:"IP address that is probed instead of those on record"`
	Ports   map[string]int `json:"ports,omitempty" doc:"Ports that are probed instead of others, such as {\"500\": 20500}"`
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
	Name     string   `json:"name" required:"true" doc:"Display name"`
	Mail     string   `json:"mail,omitempty" doc:"Mail address"`
	Language string   `json:"language,omitempty" doc:"BCP 47 tag such as en or de"`
	Groups   []string `json:"groups" doc:"Groups that the person belongs to"`
	Place    Place    `json:"place" doc:"Where the person mostly is; the nearest gateway is measured from there"`
}

// Account is what a person signs in with at a set of gateways.
type Account struct {
	Meta
	PersonID    string       `json:"person_id" required:"true"`
	Login       string       `json:"login" required:"true"`
	Realm       string       `json:"realm,omitempty" doc:"The account's realm; empty takes the gateway's"`
	Password    *secret.Text `json:"password,omitempty" writeOnly:"true" doc:"Never read back. Leave it out to keep it, null removes it"`
	PasswordSet bool         `json:"password_set" readOnly:"true" doc:"A password is stored"`
	GatewayIDs  []string     `json:"gateway_ids" doc:"The gateways where the account is valid; empty means all"`
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
var Platforms = []Platform{Windows, MacOS, IOS, IPadOS, Android, ChromeOS, LinuxDesktop, Linux, OpenWrt, DeskPhone}

// Device is what a profile is built for.
type Device struct {
	Meta
	Name      string          `json:"name" required:"true" doc:"Unique name"`
	PersonID  string          `json:"person_id" required:"true" doc:"The person who uses the device"`
	Platform  Platform        `json:"platform" required:"true" doc:"windows, macos, ios, ipados, android, chromeos, linux-desktop, linux, openwrt or desk-phone"`
	Release   string          `json:"release" required:"true" doc:"Release of the platform, such as 11 or 10.15"`
	CannotAsk bool            `json:"cannot_ask" doc:"The device cannot prompt for a password"`
	Encrypted bool            `json:"encrypted" doc:"The disk is encrypted"`
	Identity  *DeviceIdentity `json:"identity,omitempty" doc:"Certificate of the device with its key"`
	Site      *Site           `json:"site,omitempty" doc:"Networks behind a router; null where the device connects itself alone"`

	Offboarded OffboardReason `json:"offboarded,omitempty" doc:"Why nothing more is built for the device: lost, left or retired; empty where it is in use"`
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

// DeviceIdentity is the certificate that a device proves itself with.
type DeviceIdentity struct {
	Certificate string       `json:"certificate" doc:"The device's certificate and those between it and its authority, PEM"`
	Key         *secret.Text `json:"key,omitempty" writeOnly:"true" doc:"Private key, PEM without a passphrase; never read back. Leave it out to keep it"`
	KeySet      bool         `json:"key_set" readOnly:"true" doc:"A key is stored"`
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

	PasswordSaved    PasswordMode = "saved"
	PasswordPrompted PasswordMode = "asked"

	ScopePerson  Scope = "person"
	ScopeMachine Scope = "machine"
)

// Preferences are what an operator has set manually for one profile; whatever is
// empty is chosen by planning.
type Preferences struct {
	Name                  string       `json:"name,omitempty" doc:"Name of the connection on the device"`
	AccountID             string       `json:"account_id,omitempty"`
	Tunnel                Tunnel       `json:"tunnel,omitempty" doc:"full or split"`
	Password              PasswordMode `json:"password,omitempty" doc:"saved or asked"`
	CertificatePassphrase PasswordMode `json:"certificate_passphrase,omitempty" doc:"Whether the passphrase of the device's certificate is inside its file (saved) or asked for at install (asked); Apple profiles only"`
	Scope                 Scope        `json:"scope,omitempty" doc:"person or machine"`
	Protocol              Protocol     `json:"protocol,omitempty" doc:"l2tp, ikev2, pptp, sstp or tls"`
	Format                string       `json:"format,omitempty" doc:"Format of the file, where the device takes several"`

	Auth      string    `json:"auth,omitempty" doc:"How the client authenticates: eap-tls, certificate, eap-mschapv2 or psk by IKEv2, certificate-password, certificate or password by the TLS tunnel, certificate or psk by L2TP/IPsec"`
	Transport Transport `json:"transport,omitempty" doc:"TLS tunnel: udp or tcp alone; empty tries the gateway's in their order"`
	Routes    []string  `json:"routes,omitempty" doc:"Networks for a split tunnel; empty takes the pattern's or the gateway's"`
	DNS       []string  `json:"dns,omitempty" doc:"DNS servers; empty takes the pattern's or the gateway's"`
	Domains   []string  `json:"domains,omitempty" doc:"Internal domains; empty takes the pattern's or the gateway's"`
	IPv6      IPv6      `json:"ipv6,omitempty" doc:"carried, refused or left"`
	Connect   Connect   `json:"connect,omitempty" doc:"by-hand, at-sign-in, on-demand or always"`
	Demand    *Demand   `json:"demand,omitempty" doc:"When to connect on demand"`
	Reconnect bool      `json:"reconnect,omitempty" doc:"Connect again by itself after a break"`

	FallbackID string `json:"fallback_id,omitempty" doc:"A second gateway where the profile's own does not answer: its remotes go into the same file where both take the same keys, else it needs a profile of its own"`
	SecondTo   string `json:"second_to,omitempty" doc:"The gateway to which the profile's own is the second choice"`
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
	}{FieldRoutes: {w.Routes, &p.Routes}, FieldDNS: {w.DNS, &p.DNS}, FieldDomains: {w.Domains, &p.Domains}} {
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
	DeviceID    string      `json:"device_id" required:"true"`
	GatewayID   string      `json:"gateway_id" required:"true"`
	PatternID   string      `json:"pattern_id,omitempty" doc:"The pattern that the profile is planned by"`
	Preferences Preferences `json:"preferences"`
	Tally       Tally       `json:"tally" readOnly:"true" doc:"Findings when last checked"`
	Checked     bool        `json:"checked" readOnly:"true" doc:"False while a check of changed data is still to come"`
}

// Severity ranks a finding.
type Severity string

// The severities: an error keeps a parcel from being built.
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
	Version int    `json:"version" readOnly:"true"`
	Name    string `json:"name" required:"true" doc:"Shown in profiles and on cards"`
	Domain  string `json:"domain" required:"true" doc:"A domain of the organisation; reversed, it begins the identifiers in Apple profiles"`
	Links   string `json:"links" required:"false" doc:"Address under which people reach this service, such as https://connect.skerryline.example; links in mails begin with it"`
	LinksV4 string `json:"links_v4" required:"false" doc:"The same over IPv4 only; with links_v6 it detects traffic that bypasses a tunnel"`
	LinksV6 string `json:"links_v6" required:"false" doc:"The same by IPv6 alone"`
	Factors bool   `json:"factors" required:"false" doc:"Every operator must have a second factor: until then nothing but setting it up is allowed"`

	ProbeEvery int `json:"probe_every" required:"false" doc:"Hours after which the service asks each gateway again what it answers; 0 asks only when somebody wants it"`

	KeepParcels int `json:"keep_parcels" required:"false" doc:"Days after which the files of a parcel that a newer one took the place of are removed; that it was built, with its digest, stays. 0 keeps all"`
}
