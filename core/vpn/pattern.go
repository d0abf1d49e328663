package vpn

import (
	"net"
	"net/url"
	"strconv"
	"strings"
)

// Choice says which gateways a pattern leads to.
type Choice string

// IPv6 says what happens with IPv6 while connected.
type IPv6 string

// Connect says when a device connects.
type Connect string

// The values; the empty one leaves the choice to planning.
const (
	ChooseListed  Choice = "listed"  // the first of the list that the device can use
	ChooseNearest Choice = "nearest" // the one nearest to the person
	ChooseFastest Choice = "fastest" // the one that answers soonest where the person is
	ChooseEach    Choice = "each"    // one profile for each

	IPv6Carried IPv6 = "carried" // goes through the tunnel
	IPv6Refused IPv6 = "refused" // does not leave the device
	IPv6Left    IPv6 = "left"    // stays outside, as it was

	ByHand   Connect = "by-hand"
	AtSignIn Connect = "at-sign-in"
	OnDemand Connect = "on-demand"
	Always   Connect = "always"
)

// The lists of values.
var (
	Choices     = []Choice{ChooseListed, ChooseNearest, ChooseFastest, ChooseEach}
	IPv6Choices = []IPv6{"", IPv6Carried, IPv6Refused, IPv6Left}
	Connects    = []Connect{"", ByHand, AtSignIn, OnDemand, Always}
	Interfaces  = []string{"", "wifi", "cellular", "ethernet"}
)

// Demand says when a device that connects on demand does so: not in trusted networks,
// and elsewhere for the domains, over the interface, or where the probe does not answer.
type Demand struct {
	// On demand: names of wireless networks where the device stays disconnected.
	Networks []string `json:"networks" required:"false"`
	// On demand: DNS suffixes of networks where the device stays disconnected.
	Suffixes []string `json:"suffixes" required:"false"`
	// On demand: domains whose lookup makes the device connect.
	Domains []string `json:"domains" required:"false"`
	// On demand: internal URL; while it responds, the device stays disconnected.
	Probe string `json:"probe,omitempty"`
	// On demand: only over wifi, cellular or ethernet; empty means any.
	Interface string `json:"interface,omitempty"`
}

// Empty tells whether there is no condition at all.
func (d *Demand) Empty() bool {
	return d == nil ||
		len(d.Networks)+len(d.Suffixes)+len(d.Domains) == 0 && d.Probe == "" && d.Interface == ""
}

// Proxy is the web proxy to be used while connected.
type Proxy struct {
	// URL of a proxy auto-configuration script.
	Script string `json:"script,omitempty"`
	// Web proxy as host:port.
	Server string `json:"server,omitempty"`
	// Hosts and domains that bypass the proxy.
	Bypass []string `json:"bypass" required:"false"`
}

// Pattern says how a class of devices connects. Empty lists and values leave the choice
// to the gateway's record or to planning.
type Pattern struct {
	Meta
	// Unique name.
	Name string `json:"name" required:"true"`
	// Devices of people in one of these groups; empty means all.
	Groups []string `json:"groups"`
	// Devices with one of these platforms; empty means all.
	Platforms []Platform `json:"platforms"`
	// Protocols in order of preference: ikev2, tls, sstp, l2tp, pptp; others are not used.
	// Empty means strongest first.
	Protocols []Protocol `json:"protocols"`
	// Choice of the gateway: listed (the first that works), nearest, fastest (by measured
	// response time) or each.
	Gateways Choice `json:"gateways,omitempty"`
	// Add a second gateway for when the first does not respond: in the same file if the format
	// supports it, else as its own connection.
	Fallback bool `json:"fallback"`
	// Gateways to choose from, in order; empty means all.
	GatewayIDs []string `json:"gateway_ids"`
	// full or split; empty follows the gateway.
	Tunnel Tunnel `json:"tunnel,omitempty"`
	// Networks for a split tunnel, in CIDR form; empty uses the gateway's.
	Routes []string `json:"routes"`
	// DNS servers; empty uses the gateway's.
	DNS []string `json:"dns"`
	// Internal domains; empty uses the gateway's.
	Domains []string `json:"domains"`
	// IPv6 in the tunnel: carried, refused or left; empty follows the gateway.
	IPv6 IPv6 `json:"ipv6,omitempty"`
	// by-hand, at-sign-in, on-demand or always.
	Connect Connect `json:"connect,omitempty"`
	// When the device connects on demand.
	Demand Demand `json:"demand"`
	// Reconnect automatically.
	Reconnect bool `json:"reconnect"`
	// Connect automatically only on unmetered networks.
	Unmetered bool `json:"unmetered"`
	// Web proxy while connected.
	Proxy Proxy `json:"proxy"`
	// Password on the device: saved or asked; empty follows the device.
	Password PasswordMode `json:"password,omitempty"`
	// For whom the connection is installed: person or machine; empty follows the device.
	Scope Scope `json:"scope,omitempty"`
	// Template for connection names, with {organisation}, {gateway}, {city}, {protocol},
	// {person} and {device}.
	Naming string `json:"naming,omitempty"`
	// Parcels are handed over only after a rehearsal passed with them.
	RequireRehearsal bool `json:"require_rehearsal" required:"false"`
	// Note for operators.
	Note string `json:"note,omitempty"`
}

// DefaultNaming keeps several connections on one device apart.
const DefaultNaming = "{organisation} {gateway}"

// NamingWords are the words that a naming may hold in braces.
var NamingWords = []string{"organisation", "gateway", "city", "protocol", "person", "device"}

// Fill replaces the words in braces of a naming; words without a value fall out with the
// blank before them.
func Fill(naming string, values map[string]string) string {
	for _, w := range NamingWords {
		naming = strings.ReplaceAll(naming, "{"+w+"}", values[w])
	}
	return strings.Join(strings.Fields(naming), " ")
}

// SplitPort splits host:port; an IPv6 address stands in brackets.
func SplitPort(v string) (host string, port int, ok bool) {
	host, digits, err := net.SplitHostPort(v)
	if err != nil {
		return "", 0, false
	}
	port, err = strconv.Atoi(digits)
	expected, _ := HostProblem(host)
	return host, port, err == nil && expected == "" && port >= 1 && port <= maxPort
}

// JoinPort writes host:port, an IPv6 address in brackets.
func JoinPort(host string, port int) string { return net.JoinHostPort(host, strconv.Itoa(port)) }

// web accepts an address of a page or a script.
func (in *inspector) web(pointer, v string) {
	if v == "" || !in.text(pointer, v, maxNote, false) {
		return
	}
	u, err := url.Parse(v)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Hostname() == "" ||
		u.User != nil ||
		strings.ContainsAny(v, " \"'<>") {
		in.add(
			pointer,
			shown(v),
			"a web address such as https://timetable.skerryline.example/",
			"correct it",
		)
	}
}
