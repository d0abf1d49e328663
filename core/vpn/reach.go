package vpn

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"
)

// sharedSpace is between customers and their provider (RFC 6598).
var sharedSpace = netip.MustParsePrefix("100.64.0.0/10")

// insideOnly are names that no public name server knows (RFC 6761, RFC 6762, RFC 8375 and
// practice).
var insideOnly = []string{"localhost", "local", "lan", "internal", "intranet", "home.arpa", "test"}

// OriginProblems says what is wrong with scheme and host of a service; an empty one is none.
func OriginProblems(pointer, origin string) []Problem {
	in := inspect("")
	in.origin(pointer, origin)
	return in.problems.List
}

// Unreachable says why people cannot open links that begin with an address; empty where nothing
// speaks against it.
func Unreachable(origin string) string {
	if origin == "" {
		return "no address is set under which people reach this service"
	}
	u, err := url.Parse(origin)
	if err != nil || u.Hostname() == "" {
		return origin + " has no host"
	}
	host := strings.TrimSuffix(strings.ToLower(u.Hostname()), ".")
	if a, err := netip.ParseAddr(host); err == nil {
		switch a = a.Unmap(); {
		case a.IsLoopback() || a.IsUnspecified():
			return host + " is a loopback address"
		case a.IsLinkLocalUnicast():
			return host + " is a link-local address"
		case a.IsPrivate() || sharedSpace.Contains(a):
			return host + " is a private address"
		}
		return ""
	}
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return host + " is the device itself"
	}
	if !strings.Contains(host, ".") || slices.ContainsFunc(insideOnly, func(end string) bool {
		return strings.HasSuffix(host, "."+end)
	}) {
		return host + " is an internal name"
	}
	return ""
}
