package tunnel

import (
	"net/netip"
	"strconv"
	"strings"
)

// Pushed is what a gateway tells a client to use.
type Pushed struct {
	Addresses   []netip.Addr
	Gateway     netip.Addr // the other end, where one is told
	Routes      []string
	DefaultIPv4 bool // goes through the tunnel
	DefaultIPv6 bool
	DNS         []netip.Addr
	Domains     []string
	Cipher      string
	Peer        int // number of this client; -1 where none is told
	Exported    bool
	Ping        int // seconds
	MTU         int
	Framing     byte // stands before each packet; 0 where nothing does
	Swapped     bool // the packet's first byte stands at its end then
	Options     []string
}

const mostOptions = 4000

// Add reads one message of options; more of them may follow.
func (p *Pushed) Add(options string) (continues bool) {
	for option := range strings.SplitSeq(options, ",") {
		words := strings.Fields(option)
		if len(words) == 0 || len(p.Options) >= mostOptions {
			continue
		}
		if words[0] == "push-continuation" {
			continues = len(words) > 1 && words[1] == "2"
			continue
		}
		p.Options = append(p.Options, option)
		p.take(words[0], words[1:])
	}
	return continues
}

func (p *Pushed) take(name string, args []string) {
	arg := func(i int) string {
		if i < len(args) {
			return args[i]
		}
		return ""
	}
	address := func(list *[]netip.Addr, text string) {
		text, _, _ = strings.Cut(text, "/")
		if a, err := netip.ParseAddr(text); err == nil {
			*list = append(*list, a)
		}
	}
	switch name {
	case "ifconfig":
		address(&p.Addresses, arg(0))
	case "ifconfig-ipv6":
		address(&p.Addresses, arg(0))
	case "route-gateway":
		p.Gateway, _ = netip.ParseAddr(arg(0))
	case "route", "route-ipv6":
		p.Routes = append(p.Routes, strings.Join(args[:min(len(args), 2)], " "))
		if arg(0) == "::/0" || arg(0) == "2000::/3" {
			p.DefaultIPv6 = true
		}
		if arg(0) == "0.0.0.0" && arg(1) == "0.0.0.0" {
			p.DefaultIPv4 = true
		}
	case "redirect-gateway", "redirect-private":
		p.DefaultIPv4 = name == "redirect-gateway"
		for _, flag := range args {
			switch flag {
			case "ipv6":
				p.DefaultIPv6 = true
			case "!ipv4":
				p.DefaultIPv4 = false
			}
		}
	case "dhcp-option":
		switch strings.ToUpper(arg(0)) {
		case "DNS", "DNS6":
			address(&p.DNS, arg(1))
		case "DOMAIN", "DOMAIN-SEARCH", "ADAPTER_DOMAIN_SUFFIX":
			p.Domains = append(p.Domains, arg(1))
		}
	case "dns":
		p.dns(args)
	case "cipher":
		p.Cipher = strings.ToUpper(arg(0))
	case "peer-id":
		if n, err := strconv.Atoi(arg(0)); err == nil && n >= 0 && n < 1<<24 {
			p.Peer = n
		}
	case "key-derivation":
		p.Exported = arg(0) == "tls-ekm"
	case "protocol-flags":
		for _, flag := range args {
			p.Exported = p.Exported || flag == "tls-ekm"
		}
	case "ping":
		p.Ping, _ = strconv.Atoi(arg(0))
	case "tun-mtu":
		p.MTU, _ = strconv.Atoi(arg(0))
	case "comp-lzo":
		p.Framing = noCompress
	case "compress":
		switch arg(0) {
		case "stub", "lzo", "lz4":
			p.Framing, p.Swapped = noCompressSwap, true
		}
	}
}

// What stands before a packet that is not compressed.
const (
	noCompress     = 0xFA
	noCompressSwap = 0xFB
)

// dns reads the newer form: server N address A…, search-domains D….
func (p *Pushed) dns(args []string) {
	switch {
	case len(args) > 3 && args[0] == "server" && args[2] == "address":
		for _, text := range args[3:] {
			if at, err := netip.ParseAddrPort(text); err == nil {
				p.DNS = append(p.DNS, at.Addr())
			} else if a, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
				p.DNS = append(p.DNS, a)
			}
		}
	case len(args) > 1 && args[0] == "search-domains":
		p.Domains = append(p.Domains, args[1:]...)
	}
}
