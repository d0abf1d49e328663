package ovpn

import (
	"crypto/tls"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wardicon/core/format"
)

// arity tells how many words an option takes, fewest and most; without a most, any number. It is
// what the client of 2.6 takes (TestArity), which refuses a file with another number.
var arity = parseArity(`
	allow-compression=1 allow-pull-fqdn=0 allow-recursive-routing=0 askpass=0-1 auth=1
	auth-nocache=0 auth-retry=1 auth-token=1 auth-token-user=1 auth-user-pass=0-1
	auth-user-pass-verify=1- bind=0-1 bind-dev=1- block-ipv6=0 ca=1 capath=1 cd=1 cert=1 chroot=1
	cipher=1 client=0 client-cert-not-required=0 client-connect=1- client-crresponse=1-
	client-disconnect=1- client-nat=4 comp-lzo=0-1 comp-noadapt=0 compat-mode=1-2 compat-names=0-
	compress=0-1 config=1 connect-retry=1-2 connect-retry-max=1 connect-timeout=1 crl-verify=1
	data-ciphers=1 data-ciphers-fallback=1 dev=1 dev-node=1 dev-type=1 dh=1 dhcp-option=1-2
	disable-dco=0- disable-occ=0 dns=1- down=1- down-pre=0 ecdh-curve=1 echo=0- engine=0-1
	errors-to-stderr=0 explicit-exit-notify=0-1 extra-certs=1 fast-io=0 float=0 fragment=1-2
	genkey=0-3 gremlin=1 group=1 hand-window=1 help=0- http-proxy=1-4 http-proxy-option=1-3
	http-proxy-retry=0- http-proxy-user-pass=1- ifconfig=2 ifconfig-ipv6=2 ifconfig-noexec=0
	ifconfig-nowarn=0 ignore-unknown-option=1- inactive=1-2 ipchange=1- keepalive=2 key=1
	key-direction=1 keying-material-exporter=2- learn-address=1- link-mtu=1 lladdr=1 local=1
	log=1 log-append=1 lport=1 machine-readable-output=0 management=2-3 management-client=0
	management-client-auth=0 management-client-group=1 management-client-user=1
	management-external-cert=1 management-external-key=0- management-forget-disconnect=0
	management-hold=0 management-log-cache=1 management-query-passwords=0
	management-query-proxy=0 management-query-remote=0 management-signal=0 management-up-down=0
	mark=1 max-routes=0-1 memstats=1 mktun=0 mlock=0 mssfix=0-2 mtu-disc=1 mtu-test=0 multihome=0
	mute=1 mute-replay-warnings=0 ncp-ciphers=1 nice=1 no-name-remapping=0 no-replay=0 nobind=0
	ns-cert-type=1 passtos=0 peer-fingerprint=1 persist-key=0 persist-local-ip=0
	persist-remote-ip=0 persist-tun=0 ping=1 ping-exit=1 ping-restart=1 ping-timer-rem=0
	pkcs11-cert-private=0- pkcs11-id=1 pkcs11-id-management=0 pkcs11-pin-cache=1
	pkcs11-private-mode=1- pkcs11-protected-authentication=0- pkcs11-providers=1- pkcs12=1
	plugin=1- port=1 preresolve=0-1 prng=1-2 proto=1 proto-force=1 providers=1- pull=0
	pull-filter=2 push-peer-info=0 rcvbuf=1 redirect-gateway=0- redirect-private=0- remap-usr1=1
	remote=1-3 remote-cert-eku=1 remote-cert-ku=0- remote-cert-tls=1 remote-random=0
	remote-random-hostname=0 reneg-bytes=1 reneg-pkts=1 reneg-sec=1-2 replay-persist=1
	replay-window=0-2 resolv-retry=1 rmtun=0 route=1-4 route-delay=0-2 route-gateway=1
	route-ipv6=1-3 route-ipv6-gateway=1 route-method=1 route-metric=1 route-noexec=0
	route-nopull=0 route-pre-down=1- route-up=1- rport=1 script-security=1 secret=1-2
	server-poll-timeout=1 session-timeout=1 setenv=1-2 setenv-safe=1-2 shaper=1 show-ciphers=0
	show-digests=0 show-engines=0 show-gateway=0-1 show-groups=0 show-pkcs11-ids=0-2 show-tls=0
	single-session=0 sndbuf=1 socket-flags=0- socks-proxy=1-3 socks-proxy-retry=0-
	static-challenge=2 status=1-2 status-version=1 suppress-timestamps=0 syslog=0-1 tcp-nodelay=0
	test-crypto=0 tls-auth=1-2 tls-cert-profile=1 tls-cipher=1 tls-ciphersuites=1 tls-client=0
	tls-crypt=1-2 tls-crypt-v2=1-2 tls-crypt-v2-verify=1 tls-exit=0 tls-export-cert=1
	tls-groups=1 tls-timeout=1 tls-verify=1- tls-version-max=1 tls-version-min=1-2 tmp-dir=1
	topology=1 tran-window=1 tun-ipv6=0 tun-mtu=1-2 tun-mtu-extra=1 tun-mtu-max=1-2 txqueuelen=1
	udp-mtu=1 up=1- up-delay=0 up-restart=0 user=1 verb=1 verify-hash=1-2 verify-x509-name=1-2
	version=0 writepid=1 x509-track=1 x509-username-field=1-`)

type span struct{ least, most int }

func parseArity(text string) map[string]span {
	list := map[string]span{}
	for word := range strings.FieldsSeq(text) {
		name, count, _ := strings.Cut(word, "=")
		low, high, ranged := strings.Cut(count, "-")
		one := span{}
		one.least, _ = strconv.Atoi(low)
		if one.most = one.least; ranged {
			one.most = 1 << 20
			if high != "" {
				one.most, _ = strconv.Atoi(high)
			}
		}
		list[name] = one
	}
	return list
}

// vocabulary are the words that the client takes as the first word of an option (openvpn(8)).
var vocabulary = map[string][]string{
	"remote-cert-tls":   {"client", "server"},
	"ns-cert-type":      {"client", "server"},
	"auth-retry":        {"none", "nointeract", "interact"},
	"topology":          {"net30", "p2p", "subnet"},
	"tls-cert-profile":  {"insecure", "legacy", "preferred", "suiteb"},
	"compress":          {"lzo", "lz4", "lz4-v2", "stub", "stub-v2", "migrate"},
	"comp-lzo":          {"yes", "no", "adaptive"},
	"allow-compression": {"no", "asym", "yes"},
	"key-direction":     {"0", "1"},
	"pull-filter":       {"accept", "ignore", "reject"},
	"tls-version-min":   tlsVersions,
	"tls-version-max":   tlsVersions,
	"dev-type":          {"tun", "tap", "null"},
}

var tlsVersions = []string{"1.0", "1.1", "1.2", "1.3"}

// second are those of the second word.
var second = map[string][]string{
	"verify-x509-name": {"subject", "name", "name-prefix"},
	"tls-version-min":  {"or-highest"},
	"tls-auth":         {"0", "1"},
	"verify-hash":      {"SHA1", "SHA256"},
}

// ciphers and digests are what the client's library knows (openvpn --show-ciphers, --show-digests).
var (
	ciphers = regexp.MustCompile(
		`^(?i)((AES|ARIA|CAMELLIA)-(128|192|256)-(CBC|CFB|CFB1|CFB8|OFB|GCM)|` +
			`CHACHA20-POLY1305|(SM4|SEED|BF|CAST5|IDEA|RC2)-(CBC|CFB|OFB)|RC2-(40|64)-CBC|` +
			`DES(X|-EDE3?)?-(CBC|CFB|CFB1|CFB8|OFB)|none)$`,
	)
	digests = regexp.MustCompile(`^(?i)((RSA-)?(SHA(1|224|256|384|512)|MD[45]|RIPEMD160)|` +
		`SHA-?512[-/](224|256)|SHA3-(224|256|384|512)|SHA2-(224|256|384|512)|BLAKE2[bs](256|512)|` +
		`SHAKE(128|256)|MD5-SHA1|SM3|WHIRLPOOL|none)$`)
	groups = regexp.MustCompile(
		`^(?i)(X25519|X448|P-(224|256|384|521)|(sec|prime|brainpool|sect)\w+|` +
			`ffdhe(2048|3072|4096|6144|8192))$`,
	)
	fingerprint = regexp.MustCompile(`^(?i)([0-9a-f]{2}:){31}[0-9a-f]{2}$`)
)

// suites are the words that the name of a cipher suite begins with, of either kind of name
// (openvpn(8), --tls-cipher; ciphers(1)).
var suites = strings.Fields(`ECDHE DHE ECDH DH RSA EDH ADH AECDH PSK SRP AES AESGCM AES128 AES256
	CHACHA20 CAMELLIA CAMELLIA128 CAMELLIA256 ARIA 3DES DES NULL EXP LOW MEDIUM HIGH ALL DEFAULT
	COMPLEMENTOFDEFAULT kRSA aRSA kDHE kECDHE aDSS DSS aECDSA ECDSA SHA SHA1 SHA256 SHA384 SSLv3
	TLSv1 TLSv1.2 RC4 MD5 SEED IDEA eNULL aNULL SUITEB128 SUITEB192`)

// suite tells whether a suite may be one that the client's library knows.
func suite(name string) bool {
	name = strings.TrimLeft(name, "!+-")
	if strings.HasPrefix(name, "@") { // @STRENGTH, @SECLEVEL=1
		return true
	}
	first, _, _ := strings.Cut(strings.TrimPrefix(name, "TLS-"), "-")
	first, _, _ = strings.Cut(first, "+")
	return slices.ContainsFunc(suites, func(s string) bool { return strings.EqualFold(s, first) })
}

// whole are options that the client reads as a number from its beginning on, whatever follows.
var whole = strings.Fields(`reneg-sec reneg-bytes reneg-pkts ping ping-restart ping-exit
	keepalive hand-window tran-window tls-timeout inactive session-timeout mssfix fragment
	tun-mtu link-mtu sndbuf rcvbuf verb mute connect-retry connect-retry-max connect-timeout
	server-poll-timeout explicit-exit-notify route-delay route-metric replay-window`)

var digitsOnly = regexp.MustCompile(`^\d+$`)

// inConnection are the options that may stand in a <connection> block (openvpn(8), INLINE FILE
// SUPPORT and --connection).
var inConnection = strings.Fields(`bind connect-retry connect-retry-max connect-timeout
	explicit-exit-notify float fragment http-proxy http-proxy-option http-proxy-retry
	http-proxy-timeout http-proxy-user-pass link-mtu local lport mssfix mtu-disc nobind port
	proto remote rport server-poll-timeout socks-proxy tun-mtu tun-mtu-extra tun-mtu-max tls-auth
	tls-crypt tls-crypt-v2 key-direction proto-force connection`)

// form holds an option to the client's grammar; false where the client refuses the file for it.
func (r *reader) form(at format.Position, name string, words []string) bool {
	refused := func(found string, args ...any) bool {
		r.Note(format.OptionValue, at, found, args...)
		r.Left(name, at)
		return false
	}
	if count, known := arity[name]; known &&
		(name != "setenv" || len(words) == 0 || words[0] != "opt") {
		switch {
		case len(words) < count.least:
			return refused("%s with %s, expected %d", name, counted(len(words)), count.least)
		case len(words) > count.most:
			return refused("%s with %s, expected %d at most", name, counted(len(words)), count.most)
		}
	}
	if r.block != nil && !slices.Contains(inConnection, name) {
		return refused("%s inside <connection>, which takes no such option", name)
	}
	for i, list := range []map[string][]string{vocabulary, second} {
		if allowed := list[name]; allowed != nil && len(words) > i &&
			!slices.Contains(allowed, words[i]) && words[i] != "[inline]" {
			return refused("%s %q, expected %s", name, words[i], format.Choice(allowed))
		}
	}
	if len(words) == 0 {
		return true
	}
	if slices.Contains(whole, name) {
		for _, word := range words {
			if !digitsOnly.MatchString(word) && word != "mtu" && word != "fixed" &&
				word != "maybe" {
				r.Note(format.ValueMisread, at, "%s %q, which the client reads as %d", name, word,
					leading(word))
				break
			}
		}
	}
	return r.algorithms(name, words[0], refused)
}

// algorithms holds lists of algorithms and digests of certificates to what the client knows.
func (r *reader) algorithms(name, list string, refused func(string, ...any) bool) bool {
	switch name {
	case "cipher", "data-ciphers-fallback":
		if !ciphers.MatchString(list) {
			return refused("%s %q, a cipher that the client does not know", name, list)
		}
	case "data-ciphers", "ncp-ciphers":
		for one := range strings.SplitSeq(list, ":") {
			if !strings.HasPrefix(one, "?") && !ciphers.MatchString(one) && one != "DEFAULT" {
				return refused("%s with %q, a cipher that the client does not know", name, one)
			}
		}
	case "tls-groups":
		for one := range strings.SplitSeq(list, ":") {
			if !groups.MatchString(one) {
				return refused("tls-groups with %q, a group that the client does not know", one)
			}
		}
	case "tls-cipher":
		for one := range strings.SplitSeq(list, ":") {
			if !suite(one) {
				return refused("tls-cipher with %q, a suite that the client does not know", one)
			}
		}
	case "tls-ciphersuites":
		for one := range strings.SplitSeq(list, ":") {
			if !slices.ContainsFunc(tls.CipherSuites(), func(s *tls.CipherSuite) bool {
				return strings.ReplaceAll(s.Name, "_", "-") == strings.ReplaceAll(one, "_", "-")
			}) && !strings.HasPrefix(one, "TLS_AES_128_CCM") {
				return refused(
					"tls-ciphersuites with %q, a suite that the client does not know",
					one,
				)
			}
		}
	case "peer-fingerprint":
		if list != "[inline]" && !fingerprint.MatchString(list) {
			return refused("peer-fingerprint, expected a SHA-256 digest of 32 bytes, with colons")
		}
	}
	return true
}

// Refused tells why the client refuses a list of algorithms of an option; it is empty where it does
// not.
func Refused(option, list string) (found string) {
	(&reader{}).algorithms(option, list, func(text string, args ...any) bool {
		found = fmt.Sprintf(text, args...)
		return false
	})
	return found
}

// KnownDigest tells whether the client knows a digest.
func KnownDigest(name string) bool { return digests.MatchString(name) }

func counted(n int) string {
	return map[bool]string{true: "no word", false: strconv.Itoa(n) + " words"}[n == 0]
}

// leading is the number that a word begins with, as atoi(3) reads it.
func leading(word string) int {
	end := 0
	for end < len(word) && (word[end] >= '0' && word[end] <= '9' || end == 0 && word[end] == '-') {
		end++
	}
	n, _ := strconv.Atoi(word[:end])
	return n
}

// apartOptions notes options that the client refuses together, or without one another.
func (r *reader) apartOptions() {
	start := format.Position{File: r.file, Line: 1, Column: 1}
	has := func(name string) bool { _, ok := r.first[name]; return ok }
	number := func(name string, i int) int {
		if words := r.words[name]; len(words) > i {
			return leading(words[i])
		}
		return -1
	}
	if !has("dev") {
		r.Note(format.OptionConflict, start, "no dev, expected dev tun")
	} else if dev := r.words["dev"]; len(dev) > 0 && !has("dev-type") && !r.guessed(dev[0]) {
		r.Note(format.OptionConflict, r.first["dev"], "dev %q without dev-type, expected "+
			"dev-type tun",
			dev[0])
	}
	if has("bind") && has("nobind") {
		r.Note(format.OptionConflict, r.first["bind"], "bind with nobind")
	}
	if low, high := r.words["tls-version-min"], r.words["tls-version-max"]; len(low) > 0 &&
		len(high) > 0 && low[0] > high[0] {
		r.Note(format.OptionConflict, r.first["tls-version-max"],
			"tls-version-max %s below tls-version-min %s", high[0], low[0])
	}
	if ping, restart := number("keepalive", 0), number("keepalive", 1); ping >= 0 &&
		restart < 2*ping {
		r.Note(format.OptionConflict, r.first["keepalive"],
			"keepalive %d %d, expected a second number of at least twice the first", ping, restart)
	}
	if has("http-proxy") && len(r.words["http-proxy"]) < 2 {
		r.Note(format.OptionConflict, r.first["http-proxy"], "http-proxy without a port")
	}
	if mtu := number("tun-mtu", 0); mtu >= 0 && mtu < leastMTU {
		r.Note(format.OptionConflict, r.first["tun-mtu"], "tun-mtu %d, expected at least %d", mtu,
			leastMTU)
	}
	if auth := r.words["auth"]; len(auth) > 0 && !digests.MatchString(auth[0]) {
		kind := format.KeyUnknown // with the ciphers of today nobody asks for it
		if has("tls-auth") || r.parts["tls-auth"].text != "" {
			kind = format.OptionValue
		}
		r.Note(kind, r.first["auth"], "auth %q, a digest that the client does not know", auth[0])
	}
	if has("no-replay") && (!has("data-ciphers") || slices.ContainsFunc(r.s.Ciphers, aead)) {
		r.Note(format.OptionConflict, r.first["no-replay"], "no-replay with an AEAD cipher")
	}
	if has("secret") && r.mode {
		r.Note(format.OptionConflict, r.first["secret"], "secret with client or tls-client")
	}
	if has("http-proxy-option") && !has("http-proxy") && len(r.blocks) == 0 {
		r.Note(format.OptionConflict, r.first["http-proxy-option"],
			"http-proxy-option without http-proxy")
	}
}

func aead(cipher string) bool {
	return strings.HasSuffix(strings.ToUpper(cipher), "-GCM") ||
		strings.EqualFold(cipher, "CHACHA20-POLY1305")
}

// leastMTU is the smallest that the client takes (openvpn 2.6, mtu.h, TUN_MTU_MIN).
const leastMTU = 100

// guessed tells whether the client knows the kind of a device by its name (openvpn(8), --dev-type).
func (r *reader) guessed(dev string) bool {
	for _, kind := range []string{"tun", "tap", "null", "dco"} {
		if strings.HasPrefix(dev, kind) {
			return true
		}
	}
	return false
}
