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
	Networks  []string `json:"networks" required:"false" doc:"Names of wireless networks in which no connection is wanted"`
	Suffixes  []string `json:"suffixes" required:"false" doc:"DNS suffixes of networks in which no connection is wanted"`
	Domains   []string `json:"domains" required:"false" doc:"Connect when a name in these domains is looked up"`
	Probe     string   `json:"probe,omitempty" doc:"A web address inside; while it answers, no connection is wanted"`
	Interface string   `json:"interface,omitempty" doc:"Only over wifi, cellular or ethernet; empty means any"`
}

// Empty tells whether there is no condition at all.
func (d *Demand) Empty() bool {
	return d == nil || len(d.Networks)+len(d.Suffixes)+len(d.Domains) == 0 && d.Probe == "" && d.Interface == ""
}

// Proxy is the web proxy to be used while connected.
type Proxy struct {
	Script string   `json:"script,omitempty" doc:"Address of a proxy auto-configuration script"`
	Server string   `json:"server,omitempty" doc:"Proxy as host:port"`
	Bypass []string `json:"bypass" required:"false" doc:"Hosts and domains that are reached without the proxy"`
}

// Pattern says how a class of devices connects. Empty lists and values leave the choice
// to the gateway's record or to planning.
type Pattern struct {
	Meta
	Name       string       `json:"name" required:"true" doc:"Unique name"`
	Groups     []string     `json:"groups" doc:"The class: devices of people in one of these groups; empty means of all"`
	Platforms  []Platform   `json:"platforms" doc:"The class: devices of these platforms; empty means all"`
	Protocols  []Protocol   `json:"protocols" doc:"Protocols in the order of preference; those left out are not used. Empty takes strongest first"`
	Gateways   Choice       `json:"gateways,omitempty" doc:"listed (the first that the device can use), nearest, fastest (by the answer times that were measured), or each"`
	Fallback   bool         `json:"fallback" doc:"A second gateway where the first one does not answer: in the same file where its format can, else by a connection of its own"`
	GatewayIDs []string     `json:"gateway_ids" doc:"The gateways to choose from, in order; empty means all"`
	Tunnel     Tunnel       `json:"tunnel,omitempty" doc:"full or split; empty goes by the gateway"`
	Routes     []string     `json:"routes" doc:"Networks for a split tunnel; empty takes the gateway's"`
	DNS        []string     `json:"dns" doc:"DNS servers; empty takes the gateway's"`
	Domains    []string     `json:"domains" doc:"Internal domains; empty takes the gateway's"`
	IPv6       IPv6         `json:"ipv6,omitempty" doc:"carried, refused or left; empty goes by the gateway"`
	Connect    Connect      `json:"connect,omitempty" doc:"by-hand, at-sign-in, on-demand or always"`
	Demand     Demand       `json:"demand" doc:"When to connect on demand"`
	Reconnect  bool         `json:"reconnect" doc:"Connect again by itself after a break"`
	Unmetered  bool         `json:"unmetered" doc:"Connect by itself only where traffic is not metered and not roaming"`
	Proxy      Proxy        `json:"proxy"`
	Password   PasswordMode `json:"password,omitempty" doc:"saved or asked; empty goes by the device"`
	Scope      Scope        `json:"scope,omitempty" doc:"person or machine; empty goes by the device"`
	Naming     string       `json:"naming,omitempty" doc:"How connections are named, with {organisation}, {gateway}, {city}, {protocol}, {person} and {device}"`
	Note       string       `json:"note,omitempty"`
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
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Hostname() == "" || u.User != nil || strings.ContainsAny(v, " \"'<>") {
		in.add(pointer, shown(v), "a web address such as https://timetable.skerryline.example/", "correct it")
	}
}
