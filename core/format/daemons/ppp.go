package daemons

import (
	"cmp"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"

	"wardicon/core/format"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// link is what the options of pppd say.
type link struct {
	login    string
	password secret.Text
	saved    bool
	PPP
	tunnel  vpn.Tunnel
	routes  []string
	persist bool
	pty     string
	depth   int    // of files in files
	broken  bool   // it cannot be read to its end
	remote  string // how the gateway is called
	at      map[string]format.Position
}

func (l *link) keep() vpn.PasswordMode {
	if l.saved {
		return vpn.PasswordSaved
	}
	return vpn.PasswordPrompted
}

// harmless are options of pppd that change nothing that is read here, with the number of words
// behind each (pppd(8) of 2.4.9 and 2.5).
var harmless = arities(`noauth ipparam=1 usepeerdns nodefaultroute nobsdcomp nodeflate lock
	nolock debug nodetach updetach noipdefault ipcp-accept-local ipcp-accept-remote
	lcp-echo-interval=1 lcp-echo-failure=1 lcp-echo-adaptive maxfail=1 holdoff=1 logfile=1
	logfd=1 nolog sstp-sock=1 novj novjccomp hide-password show-password connect-delay=1
	nomppe-stateful linkname=1 unit=1 default-asyncmap asyncmap=1 crtscts nocrtscts local modem
	noccp bsdcomp=1 deflate=1 predictor1 nopredictor1 default-mru noaccomp nopcomp nomagic
	noendpoint endpoint=1 nomultilink nomp nompshortseq noproxyarp nopersist noktune ktune dump
	kdebug=1 silent passive receive-all escape=1 sync record=1 set=1 unset=1 privgroup=1
	up_sdnotify vj-max-slots=1 usehostname novjccomp ipcp-max-configure=1 ipcp-max-failure=1
	ipcp-max-terminate=1 ipcp-restart=1 lcp-max-configure=1 lcp-max-failure=1 lcp-max-terminate=1
	lcp-restart=1 lcp-rexmit-interval=1 chap-interval=1 chap-max-challenge=1 chap-restart=1
	chap-timeout=1 pap-max-authreq=1 pap-restart=1 pap-timeout=1 eap-interval=1 eap-max-rreq=1
	eap-restart=1 eap-timeout=1 ipv6cp-max-configure=1 ipv6cp-restart=1 noipx netmask=1
	allow-ip=1`)

// unread are options that concern the connection, and that it has no place for.
var unread = arities(`auth domain=1 mtu=1 mru=1 plugin=1 noipv6 ipv6=1 +ipv6 ipv6cp-use-ipaddr
	require-pap require-chap require-mschap require-mschap-v2 require-eap noip nomppe nomppe-40
	nomppe-128 ms-dns=1 ms-wins=1 idle=1 demand connect=1 disconnect=1 init=1 welcome=1 file=1
	call=1 cert=1 key=1 ca=1 capath=1 crl=1 crl-dir=1 need-peer-eap defaultroute6 nodefaultroute6
	defroute-metric=1 maxconnect=1 active-filter=1 pass-filter=1 proxyarp login multilink mp
	noremoteip ipcp-no-address ipcp-no-addresses dryrun notty tls-verify-method=1
	tls-verify-key-usage max-tls-version=1 remotenumber=1 socket=1`)

// answered are the options that option reads, with their words.
var answered = arities("pty=1 user=1 password=1 name=1 remotename=1 mppe=1")

func arities(text string) map[string]int {
	list := map[string]int{}
	for word := range strings.FieldsSeq(text) {
		name, count, _ := strings.Cut(word, "=")
		list[name] = len(count) // 0 or 1
	}
	return list
}

// Options reads options of pppd that stand in one line, and tells what is carried nowhere.
func Options(out *format.Reading, at format.Position, text string) PPP {
	r, l := &reader{}, &link{PPP: NewPPP(), at: map[string]format.Position{}}
	l.line(r, at, strings.Fields(text))
	out.Notes = append(out.Notes, r.Notes...)
	out.NotCarried = append(out.NotCarried, r.NotCarried...)
	return l.PPP
}

// line reads the options of one line, each with the words that belong to it.
func (l *link) line(r *reader, at format.Position, words []string) {
	for len(words) > 0 {
		name := words[0]
		count := answered[name] + harmless[name] + unread[name]
		if at.Path = name; len(words) <= count {
			r.Note(format.KeyMalformed, at, "%s without a value", name)
			return
		}
		if _, twice := l.at[name]; twice {
			r.Note(format.KeyTwice, at, "%s", name)
		}
		l.at[name] = at
		l.option(r, at, name, append(words[1:1+count:1+count], ""))
		words = words[1+count:]
	}
}

// pppOption tells a file of options of pppd by what stands in nearly each.
var pppOption = format.NewSign(`^(noauth|refuse-(pap|chap|mschap|eap)|require-mschap-v2|`+
	`require-mppe(-128)?|usepeerdns|ipcp-accept-(local|remote)|lcp-echo-interval \d+)\s*$`,
	"noauth", "refuse-", "require-m", "usepeerdns", "ipcp-accept-", "lcp-echo-interval")

// options reads a file of options of pppd.
func (r *reader) options(data []byte) *link {
	l := &link{
		PPP:    NewPPP(),
		tunnel: vpn.TunnelSplit,
		routes: []string{},
		at:     map[string]format.Position{},
	}
	l.broken = !r.Lines(r.file, data, func(at format.Position, line string) bool {
		switch {
		case strings.HasPrefix(line, "# name = "):
			r.name = line[len("# name = "):]
			return true
		case strings.HasPrefix(line, "# uuid = "):
			r.uuid = line[len("# uuid = "):]
			return true
		}
		return l.words(r, at, line)
	})
	if data, ok := r.beside.Get(r.stem + routesFile); ok {
		for line := range strings.SplitSeq(string(data), "\n") {
			words := strings.Fields(line)
			if len(words) > 4 && words[0] == "ip" && words[3] == "replace" {
				if p, err := netip.ParsePrefix(words[4]); err == nil {
					l.routes = append(l.routes, p.String())
				}
			}
		}
	}
	return l
}

func (l *link) option(r *reader, at format.Position, name string, words []string) {
	switch name {
	case "pty":
		l.pty = words[0]
	case "user":
		l.login = words[0]
	case "password":
		l.password, l.saved = secret.New(words[0]), true
		r.Note(format.SecretClear, at, "the password")
	case "name":
		l.login = cmp.Or(l.login, words[0])
	case "remotename":
		l.remote = words[0]
	case "defaultroute", "replacedefaultroute":
		l.tunnel = vpn.TunnelFull
	case "persist":
		l.persist = true
	case "mppe":
		l.mppe(r, at, words[0])
	default:
		_, idle := harmless[name]
		_, lost := unread[name]
		switch {
		case slices.Contains(own, strings.TrimSpace(name+" "+words[0])):
		case name == "file" && r.name == "":
			l.include(r, at, words[0])
		case name == "file": // where the script keeps a password that it asked for
		case l.Take(name) || idle || speed.MatchString(name):
		case lost, strings.Contains(name, ":"): // addresses
			r.Left(strings.TrimSpace(name+" "+words[0]), at)
		default:
			r.Note(format.OptionUnknown, at, "%s", name)
			r.Left(name, at)
		}
	}
}

// include reads the options of a file that another one names.
func (l *link) include(r *reader, at format.Position, name string) {
	if l.depth > 0 {
		r.Left("file "+name, at)
		return
	}
	text := r.Fetch(r.beside, name, at)
	l.depth++
	defer func() { l.depth-- }()
	r.Lines(path.Base(name), []byte(text), func(at format.Position, line string) bool {
		return l.words(r, at, line)
	})
}

// words takes in a line of options; false where it cannot be read.
func (l *link) words(r *reader, at format.Position, line string) bool {
	words, err := format.Words(line, "#", false)
	if err != nil {
		r.Note(format.Unreadable, at, "%s", err)
		return false
	}
	l.line(r, at, words)
	return true
}

// mppe reads pppd's other word for encryption: mppe required,no40,stateless.
func (l *link) mppe(r *reader, at format.Position, words string) {
	list := strings.Split(words, ",")
	for _, word := range list {
		switch word {
		case "required":
			l.MPPE = []suite.MPPE{"128", "40"}
		case "stateful":
			l.Stateful = true
		case "no40", "no56", "no128", "stateless":
		default:
			r.Note(format.KeyMalformed, at, "mppe %s", word)
		}
	}
	l.MPPE = slices.DeleteFunc(l.MPPE, func(m suite.MPPE) bool {
		return slices.Contains(list, "no"+string(m))
	})
}

// own are options that every peer here gets, for all that is known the best.
var own = []string{"mtu 1400", "plugin sstp-pppd-plugin.so"}

// speed is that of a serial line, which none of these has.
var speed = regexp.MustCompile(`^\d+$`)

// carriers are the options of pptp(8) and sstpc(8) that change nothing here, with the number of
// words behind each.
var carriers = arities(`--nolaunchpppd --loglevel=1 --logstring=1 --nobuffer --timeout=1 --sync
	--test-type=1 --ipparam=1 --log-level=1 --log-stderr --log-stdout --log-syslog --log-filename=1
	--save-server-route --cert-warn --ca-cert=1`)

// Program tells of the options of what runs below pppd that are carried nowhere.
func Program(out *format.Reading, at format.Position, words []string) {
	for i := 0; i < len(words); i++ {
		switch count, here := carriers[words[i]]; {
		case here:
			i += count
		case strings.HasPrefix(words[i], "-"):
			out.Left(words[i], at)
		}
	}
	if slices.Contains(words, "--cert-warn") {
		out.Note(format.CheckSwitchedOff, at, "--cert-warn")
	}
}

// peer reads a peer of pppd: PPTP or SSTP.
func (r *reader) peer(data []byte) {
	l := r.options(data)
	if l.broken {
		return
	}
	start := format.Position{File: r.file, Line: 1, Column: 1}
	connect := vpn.Connect("")
	if _, always := r.beside.Get(r.stem + unitFile); always {
		connect = vpn.Always
	}
	c := vpn.Connection{
		Connect:      connect,
		Name:         cmp.Or(r.name, r.stem),
		UUID:         strings.ToUpper(r.uuid),
		Login:        l.login,
		Password:     l.password,
		PasswordMode: l.keep(),
		Scope:        vpn.ScopeMachine,
		Tunnel:       l.tunnel,
		Routes:       l.routes,
		DNS:          []string{},
		Domains:      []string{},
		Reconnect:    l.persist,
	}
	c.Site = r.site(format.Position{File: r.stem + siteFile, Line: 1}, false)
	words := strings.Fields(l.pty)
	Program(&r.Reading, l.at["pty"], words)
	switch {
	case len(words) >= 2 && words[0] == "pptp":
		c.Protocol, c.PPTP = vpn.PPTP, &vpn.PPTPSetting{
			PPP:         l.Methods,
			MPPE:        l.MPPE,
			PPTPOptions: vpn.PPTPOptions{Stateful: l.Stateful},
		}
		c.Server = words[1]
	case len(words) >= 2 && words[0] == "sstpc":
		c.Protocol, c.SSTP = vpn.SSTP, &vpn.SSTPSetting{PPP: l.Methods, Port: 443}
		c.Server = words[len(words)-1]
		if host, port, ok := vpn.SplitPort(c.Server); ok {
			c.Server, c.SSTP.Port = host, port
		}
		if i := slices.Index(words, "--ca-cert"); i >= 0 && i+1 < len(words) {
			c.Authority = r.Anchored(r.Fetch(r.beside, words[i+1], l.at["pty"]), l.at["pty"])
		}
	case l.pty == "":
		r.Note(format.NotYetRead, start, "options of pppd without the connection that they are for")
		return
	default:
		r.Note(format.NotYetRead, start, "a peer of pppd without pptp or sstpc below it")
		return
	}
	if !l.saved && c.Login != "" {
		if password, ok := r.stored(c.Login, l.remote, l.at["user"]); ok {
			c.Password, c.PasswordMode = password, vpn.PasswordSaved
		}
	}
	if expected, _ := vpn.HostProblem(c.Server); expected != "" {
		r.Note(format.KeyMalformed, l.at["pty"], "the server %q, expected %s", c.Server, expected)
	}
	positions := map[vpn.Field]format.Position{}
	for field, key := range map[vpn.Field]string{
		vpn.FieldServer:    "pty",
		vpn.FieldProtocol:  "pty",
		vpn.FieldPort:      "pty",
		vpn.FieldAuthority: "pty",
		vpn.FieldLogin:     "user",
		vpn.FieldPassword:  "password",
		vpn.FieldPPP:       "refuse-pap",
		vpn.FieldMPPE:      "require-mppe-128",
		vpn.FieldTunnel:    "defaultroute",
		vpn.FieldReconnect: "persist",
	} {
		positions[field] = start
		if at, ok := l.at[key]; ok {
			positions[field] = at
		}
	}
	r.Add(format.Located{Connection: c, Positions: positions})
}
