package httpapi

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"strings"
)

// caller is who sent a request, past the proxies that are trusted.
type caller struct {
	address string // IP address
	secure  bool   // by TLS, to the service or to the proxy
	origin  string // scheme and host that were used
}

type callerKey struct{}

func callerOf(ctx context.Context) caller {
	c, _ := ctx.Value(callerKey{}).(caller)
	return c
}

// Forwarding says whose words on a request's origin are believed: those of proxies at these
// addresses, in one header alone, because a proxy that writes the one passes the other on as
// anybody sent it.
type Forwarding struct {
	Proxies []netip.Prefix
	Header  string // X-Forwarded-For or Forwarded (RFC 7239); empty is X-Forwarded-For
}

// The headers that proxies write.
const (
	forwardedFor = "X-Forwarded-For"
	forwarded    = "Forwarded"
)

// called finds the caller of each request, and puts its address where handlers look for it.
func (f Forwarding) called(secure bool) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			c := caller{secure: secure || r.TLS != nil}
			peer, err := netip.ParseAddrPort(r.RemoteAddr)
			if err == nil {
				address, last := peer.Addr().Unmap().WithZone(""), peer.Addr().Unmap()
				if f.trusts(address) {
					var proto string
					address, proto = f.follow(r.Header, address)
					c.secure = c.secure || proto == "https"
				}
				c.address = address.String()
				if address != last {
					r.RemoteAddr = net.JoinHostPort(c.address, "0")
				}
			}
			c.origin = map[bool]string{true: "https://", false: "http://"}[c.secure] + r.Host
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, c)))
		})
	}
}

func (f Forwarding) trusts(a netip.Addr) bool {
	for _, p := range f.Proxies {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// follow goes from the last proxy backwards, as long as each hop was told by one that is trusted.
// The scheme is what the last proxy says.
func (f Forwarding) follow(h http.Header, at netip.Addr) (netip.Addr, string) {
	var hops []string
	proto := ""
	if f.Header == forwarded {
		hops, proto = elements(h.Values(forwarded))
	} else {
		for _, line := range h.Values(forwardedFor) {
			hops = append(hops, strings.Split(line, ",")...)
		}
		if values := h.Values("X-Forwarded-Proto"); len(values) > 0 {
			list := strings.Split(values[len(values)-1], ",")
			proto = strings.ToLower(strings.TrimSpace(list[len(list)-1]))
		}
	}
	for i := len(hops) - 1; i >= 0 && f.trusts(at); i-- {
		next, ok := hopAddress(hops[i])
		if !ok {
			break
		}
		at = next
	}
	return at, proto
}

// elements reads the hops of the header Forwarded, and the scheme that its last one names (RFC 7239
// §4).
func elements(lines []string) (hops []string, proto string) {
	for _, line := range lines {
		for _, element := range strings.Split(line, ",") {
			hop := ""
			proto = ""
			for _, pair := range strings.Split(element, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				value = strings.Trim(value, `"`)
				switch strings.ToLower(name) {
				case "for":
					hop = value
				case "proto":
					proto = strings.ToLower(value)
				}
			}
			hops = append(hops, hop)
		}
	}
	return hops, proto
}

// hopAddress reads the address of a hop, with or without a port.
func hopAddress(v string) (netip.Addr, bool) {
	v = strings.TrimSpace(v)
	if at, err := netip.ParseAddrPort(v); err == nil {
		return at.Addr().Unmap().WithZone(""), true
	}
	a, err := netip.ParseAddr(strings.TrimSuffix(strings.TrimPrefix(v, "["), "]"))
	return a.Unmap().WithZone(""), err == nil
}
