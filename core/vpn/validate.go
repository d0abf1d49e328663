package vpn

import (
	"crypto/x509"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"wardicon/core/pki"
	"wardicon/core/secret"
	"wardicon/core/suite"
)

// Limits of length, in characters. They are far above what any device takes.
const (
	maxName   = 100
	maxLogin  = 256
	maxSecret = 1024
	maxList   = 64
	maxNote   = 2000
	maxMail   = 254 // RFC 5321 §4.5.3.1.3
	maxHost   = 253 // RFC 1035 §2.3.4
)

// inspector gathers problems of one object.
type inspector struct{ problems Problems }

func inspect(object string) *inspector { return &inspector{Problems{Object: object}} }

func (in *inspector) err() error {
	if len(in.problems.List) == 0 {
		return nil
	}
	return &in.problems
}

func (in *inspector) add(pointer, found, expected, fix string) {
	in.problems.List = append(in.problems.List, Problem{pointer, found, expected, fix})
}

// shown quotes a value for a message, cut to a readable length.
func shown(v string) string {
	if v == "" {
		return "nothing"
	}
	if runes := []rune(v); len(runes) > 60 {
		return strconv.QuoteToGraphic(
			string(runes[:60]),
		) + fmt.Sprintf(
			" and %d more characters",
			len(runes)-60,
		)
	}
	return strconv.QuoteToGraphic(v)
}

// text refuses what can be no value of any field: broken UTF-8, control
// characters and line breaks, too many characters. Reports whether it was sound.
func (in *inspector) text(pointer, v string, limit int, hidden bool) bool {
	found := shown(v)
	at := func(i int) string { return fmt.Sprintf("character %d", utf8.RuneCountInString(v[:i])+1) }
	if hidden {
		found = "a secret"
	}
	if !utf8.ValidString(v) {
		in.add(pointer, found, "text in UTF-8", "convert it to UTF-8")
		return false
	}
	if n := utf8.RuneCountInString(v); n > limit {
		in.add(
			pointer,
			fmt.Sprintf("%d characters", n),
			fmt.Sprintf("at most %d", limit),
			"shorten it",
		)
		return false
	}
	for i, r := range v {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' || r == 0xFFFE || r == 0xFFFF {
			in.add(
				pointer,
				fmt.Sprintf("the control character U+%04X as %s", r, at(i)),
				"one line of printable text",
				"remove that character",
			)
			return false
		}
	}
	return true
}

func (in *inspector) required(pointer, v string, limit int) bool {
	if strings.TrimSpace(v) == "" {
		in.add(pointer, "nothing", "a value", "fill it in")
		return false
	}
	return in.text(pointer, v, limit, false)
}

func (in *inspector) secret(pointer string, t *secret.Text) {
	if t == nil {
		return
	}
	if t.Reveal() == secret.Hidden {
		in.add(
			pointer,
			"the mask that stands for a hidden secret",
			"the secret itself",
			"leave the field out to keep what is stored",
		)
		return
	}
	in.text(pointer, t.Reveal(), maxSecret, true)
}

func oneOf[T ~string](in *inspector, pointer string, v T, allowed []T) {
	if !slices.Contains(allowed, v) {
		var names []string
		for _, a := range allowed {
			if a != "" {
				names = append(names, string(a))
			}
		}
		in.add(pointer, shown(string(v)), "one of "+strings.Join(names, ", "), "choose one of them")
	}
}

// each inspects the members of a list, within its bound.
func each[T any](in *inspector, pointer string, list []T, look func(pointer string, v T)) {
	if len(list) > maxList {
		in.add(
			pointer,
			fmt.Sprintf("%d values", len(list)),
			fmt.Sprintf("at most %d", maxList),
			"join or remove some",
		)
		return
	}
	for i, v := range list {
		look(fmt.Sprintf("%s/%d", pointer, i), v)
	}
}

// isLabel tells whether a text is a label of a host name (RFC 1123 §2.1); underscores are met in
// practice.
func isLabel(v string) bool {
	if v == "" || len(v) > 63 || v[0] == '-' || v[len(v)-1] == '-' {
		return false
	}
	for i := range len(v) {
		c := v[i]
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '-' &&
			c != '_' {
			return false
		}
	}
	return true
}

// HostProblem says why v is neither a host name (RFC 1123 §2.1, in its ASCII form)
// nor an IP address; expected is empty when it is one.
func HostProblem(v string) (expected, fix string) {
	if _, err := netip.ParseAddr(v); err == nil {
		return "", ""
	}
	expected = "a host name or an IP address"
	switch {
	case strings.TrimSpace(v) == "":
		return expected, "fill it in"
	case strings.Contains(v, "://"):
		rest := v[strings.Index(v, "://")+3:]
		return expected + " without a scheme", fmt.Sprintf(
			"write only %s",
			shown(strings.TrimRight(strings.SplitN(rest, "/", 2)[0], "/")),
		)
	case strings.ContainsAny(v, "/?#"):
		return expected + " without a path", fmt.Sprintf(
			"write only %s",
			shown(v[:strings.IndexAny(v, "/?#")]),
		)
	case strings.ContainsFunc(v, unicode.IsSpace):
		return expected + " without spaces", "remove the space"
	case strings.Contains(v, "@"):
		return expected + ", not a mail address or login", "write what stands behind the @"
	case strings.HasPrefix(v, "[") && strings.HasSuffix(v, "]"):
		return expected, "write the IPv6 address without brackets"
	case strings.Count(v, ":") == 1:
		return expected + " without a port", fmt.Sprintf(
			"write only %s",
			shown(v[:strings.Index(v, ":")]),
		)
	case len(v) > maxHost:
		return fmt.Sprintf("a host name of at most %d characters", maxHost), "shorten it"
	}
	host := strings.TrimSuffix(v, ".")
	digits := true
	for part := range strings.SplitSeq(host, ".") {
		if !utf8.ValidString(part) ||
			strings.ContainsFunc(part, func(r rune) bool { return r > unicode.MaxASCII }) {
			return "a host name in its ASCII form", "write the international name in its xn-- form"
		}
		if !isLabel(part) {
			return "a host name of labels with letters, digits and hyphens, joined by dots",
				"correct " + shown(
					part,
				)
		}
		if _, err := strconv.Atoi(part); err != nil {
			digits = false
		}
	}
	if digits {
		return "an IPv4 address of four numbers from 0 to 255", "correct the numbers"
	}
	return "", ""
}

func (in *inspector) host(pointer, v string) {
	if !in.text(pointer, v, 4*maxHost, false) {
		return
	}
	if expected, fix := HostProblem(v); expected != "" {
		in.add(pointer, shown(v), expected, fix)
	}
}

func (in *inspector) ip(pointer, v string) {
	if !in.text(pointer, v, maxHost, false) {
		return
	}
	if _, err := netip.ParseAddr(v); err != nil {
		in.add(
			pointer,
			shown(v),
			"an IP address such as 10.20.0.53 or 2001:db8::53",
			"write the number, not a name",
		)
	}
}

// cidr accepts a network with host bits set: that is a finding, not a wrong value.
func (in *inspector) cidr(pointer, v string) {
	if !in.text(pointer, v, maxHost, false) {
		return
	}
	if _, err := netip.ParsePrefix(v); err != nil {
		in.add(
			pointer,
			shown(v),
			"a network in CIDR form such as 10.20.0.0/16",
			"write address, slash and prefix length",
		)
	}
}

func (in *inspector) proposal(pointer, v string) {
	if !in.text(pointer, v, maxName, false) {
		return
	}
	if _, err := suite.Parse(v); err != nil {
		expected := "algorithms joined by hyphens, for example aes256-sha256-modp2048"
		found := shown(v)
		if e, ok := err.(*suite.SyntaxError); ok {
			expected, found = e.Expected, fmt.Sprintf("%s in %s", shown(e.Part), shown(v))
		}
		in.add(pointer, found, expected, "correct the spelling or choose another algorithm")
	}
}

var (
	country  = regexp.MustCompile(`^[A-Z]{2}$`)
	language = regexp.MustCompile(`^[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*$`)
	release  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._+-]{0,39}$`)
)

func degrees(in *inspector, pointer string, v *float64, limit float64) {
	if v != nil && (*v < -limit || *v > limit || *v != *v) {
		in.add(
			pointer,
			fmt.Sprint(*v),
			fmt.Sprintf("degrees from %g to %g", -limit, limit),
			"correct the number",
		)
	}
}

// Validate finds what is wrong with a place.
func (p Place) Validate() error {
	in := inspect("place")
	in.place(p)
	return in.err()
}

func (in *inspector) place(p Place) {
	in.text("/place/city", p.City, maxName, false)
	if p.Country != "" && !country.MatchString(p.Country) {
		in.add(
			"/place/country",
			shown(p.Country),
			"two capital letters (ISO 3166-1)",
			"write for example NO",
		)
	}
	degrees(in, "/place/latitude", p.Latitude, 90)
	degrees(in, "/place/longitude", p.Longitude, 180)
	if (p.Latitude == nil) != (p.Longitude == nil) {
		in.add(
			"/place/latitude",
			"one of latitude and longitude",
			"both or none",
			"fill in the other",
		)
	}
}

// Validate reports every field of a gateway that cannot be accepted.
func (g *Gateway) Validate() error {
	in := inspect("gateway")
	in.required("/name", g.Name, maxName)
	in.host("/address", g.Address)
	each(in, "/addresses", g.Addresses, in.ip)
	in.place(g.Place)
	in.signIn("/sign_in", g.SignIn)
	for p := range g.SignIns {
		at := "/sign_ins/" + string(p)
		if !slices.Contains(Protocols, p) {
			in.add(at, shown(string(p)), "ikev2, tls, sstp, l2tp or pptp", "correct the protocol")
			continue
		}
		in.signIn(at, g.SignInBy(p))
	}
	each(in, "/domains", g.Domains, in.host)
	each(in, "/dns", g.DNS, in.ip)
	each(in, "/routes", g.Routes, in.cidr)
	each(in, "/pool", g.Pool, in.cidr)
	each(in, "/announced", g.Announced, in.cidr)
	each(in, "/egress", g.Egress, func(p, v string) {
		if strings.Contains(v, "/") {
			in.cidr(p, v)
		} else {
			in.ip(p, v)
		}
	})
	each(in, "/hosts", g.Hosts, in.host)
	in.text("/note", g.Note, maxNote, false)
	if e := g.Rehearsal.Every; e != 0 && (e < RehearsalsOftenest || e > RehearsalsRarest) {
		in.add(
			"/rehearsal/every",
			fmt.Sprint(e),
			fmt.Sprintf("0, or %d to %d minutes", RehearsalsOftenest, RehearsalsRarest),
			"correct the number",
		)
	}
	if g.LoadShare < 0 || g.LoadShare > 1000 {
		in.add(
			"/load_share",
			fmt.Sprint(g.LoadShare),
			"a number from 0 to 1000",
			"correct the number",
		)
	}
	in.offers(g.Offers)
	in.probeAt(g.ProbeAt)
	if g.Certificate != "" {
		if list, err := pki.Certificates(g.Certificate); err != nil {
			in.add(
				"/certificate",
				err.Error(),
				"the gateway's certificate in PEM form, its own first",
				"paste the file from BEGIN CERTIFICATE to END CERTIFICATE",
			)
		} else if list[0].IsCA {
			in.add(
				"/certificate",
				"the certificate of an authority",
				"the gateway's own",
				"put the authority beside the offers",
			)
		}
	}
	if g.ClientAuthority != "" {
		if list, err := pki.Certificates(g.ClientAuthority); err != nil {
			in.add(
				"/client_authority",
				err.Error(),
				"certificates of authorities in PEM form",
				"paste the file from BEGIN CERTIFICATE to END CERTIFICATE",
			)
		} else if i := slices.IndexFunc(list, func(c *x509.Certificate) bool {
			return !c.IsCA
		}); i >= 0 {
			in.add(
				"/client_authority",
				"the certificate of "+shown(list[i].Subject.CommonName)+", which is no authority",
				"authorities that devices' certificates are checked against",
				"leave it out",
			)
		}
	}
	return in.err()
}

// signIn accepts how people sign in.
func (in *inspector) signIn(at string, s SignIn) {
	oneOf(in, at+"/form", s.Form, LoginForms)
	in.text(at+"/realm", s.Realm, maxLogin, false)
	if s.Form != LoginPlain && strings.TrimSpace(s.Realm) == "" {
		in.add(
			at+"/realm",
			"nothing",
			"a realm, because the form is "+string(s.Form),
			"fill it in or choose the form login",
		)
	}
}

func (in *inspector) probeAt(a *ProbeAt) {
	if a == nil {
		return
	}
	if a.Address != "" {
		in.ip("/probe_at/address", a.Address)
	}
	for from, to := range a.Ports {
		if n, err := strconv.Atoi(from); err != nil || !validPort(n) || !validPort(to) {
			in.add(
				"/probe_at/ports",
				shown(fmt.Sprintf("%s: %d", from, to)),
				"two port numbers from 1 to 65535",
				"write for example \"500\": 20500",
			)
		}
	}
}

func validPort(n int) bool { return n >= 1 && n <= 65535 }

// Validate reports every field of a person that cannot be accepted.
func (p *Person) Validate() error {
	in := inspect("person")
	in.required("/name", p.Name, maxName)
	if p.Mail != "" {
		in.address("/mail", p.Mail)
	}
	if p.Language != "" && !language.MatchString(p.Language) {
		in.add(
			"/language",
			shown(p.Language),
			"a language tag such as en or pt-BR (BCP 47)",
			"correct it or leave it empty",
		)
	}
	each(in, "/groups", p.Groups, func(at, v string) { in.required(at, v, maxName) })
	in.place(p.Place)
	return in.err()
}

// Validate reports every field of an account that cannot be accepted. A login with
// a blank at its end is accepted: it is found by the checks.
func (a *Account) Validate() error {
	in := inspect("account")
	in.required("/person_id", a.PersonID, maxName)
	in.required("/login", a.Login, maxLogin)
	in.text("/realm", a.Realm, maxLogin, false)
	in.secret("/password", a.Password)
	each(in, "/gateway_ids", a.GatewayIDs, func(at, v string) { in.required(at, v, maxName) })
	return in.err()
}

// Validate reports every field of a device that cannot be accepted.
func (d *Device) Validate() error {
	in := inspect("device")
	in.required("/name", d.Name, maxName)
	in.required("/person_id", d.PersonID, maxName)
	oneOf(in, "/platform", d.Platform, Platforms)
	if !release.MatchString(d.Release) {
		in.add(
			"/release",
			shown(d.Release),
			"a release such as 11, 10.15 or 23.05",
			"write the number that the device shows",
		)
	}
	if d.Offboarded != "" {
		oneOf(in, "/offboarded", d.Offboarded, OffboardReasons)
	}
	if d.Site != nil {
		in.site(d)
	}
	if e := d.Enrolment; e != nil {
		in.required("/enrolment/authority_id", e.AuthorityID, maxName)
		if e.Generation < 0 || e.Generation > 1_000_000 {
			in.add(
				"/enrolment/generation",
				fmt.Sprint(e.Generation),
				"0 to 1000000",
				"raise it by one",
			)
		}
		if n := len(e.OtherIDs); n > MaxOthers {
			in.add(
				"/enrolment/other_authority_ids",
				fmt.Sprintf("%d CAs", n),
				fmt.Sprintf(
					"at most %d beside the first",
					MaxOthers,
				),
				"name those that gateways trust",
			)
		}
	}
	if id := d.Identity; id != nil {
		in.identity("/identity", id)
	}
	if n := len(d.Others); n > MaxOthers {
		in.add(
			"/other_identities",
			fmt.Sprintf("%d certificates", n),
			fmt.Sprintf(
				"at most %d beside the first",
				MaxOthers,
			),
			"remove those that no gateway needs",
		)
	}
	for i := range d.Others {
		in.identity(fmt.Sprintf("/other_identities/%d", i), &d.Others[i])
	}
	return in.err()
}

// Validate reports every field of a profile that cannot be accepted.
func (p *Profile) Validate() error {
	in := inspect("profile")
	in.required("/device_id", p.DeviceID, maxName)
	in.required("/gateway_id", p.GatewayID, maxName)
	in.text("/preferences/name", p.Preferences.Name, maxName, false)
	in.text("/preferences/account_id", p.Preferences.AccountID, maxName, false)
	oneOf(in, "/preferences/tunnel", p.Preferences.Tunnel, []Tunnel{"", TunnelFull, TunnelSplit})
	oneOf(
		in,
		"/preferences/password",
		p.Preferences.Password,
		[]PasswordMode{"", PasswordSaved, PasswordPrompted},
	)
	oneOf(
		in,
		"/preferences/certificate_passphrase",
		p.Preferences.CertificatePassphrase,
		[]PasswordMode{"", PasswordSaved, PasswordPrompted},
	)
	oneOf(in, "/preferences/scope", p.Preferences.Scope, []Scope{"", ScopePerson, ScopeMachine})
	oneOf(in, "/preferences/protocol", p.Preferences.Protocol, append(slices.Clone(Protocols), ""))
	in.text("/preferences/format", p.Preferences.Format, maxName, false)
	w := p.Preferences
	oneOf(
		in,
		"/preferences/auth",
		w.Auth,
		[]string{
			"",
			string(IKEv2EAPTLS),
			string(IKEv2Certificate),
			string(IKEv2MSCHAPv2),
			string(IKEv2PSK),
			string(TLSCertificatePassword),
			string(TLSPassword),
		},
	)
	oneOf(in, "/preferences/transport", w.Transport, append(slices.Clone(Transports), ""))
	each(in, "/preferences/routes", w.Routes, in.cidr)
	each(in, "/preferences/dns", w.DNS, in.ip)
	each(in, "/preferences/domains", w.Domains, in.host)
	oneOf(in, "/preferences/ipv6", w.IPv6, IPv6Choices)
	oneOf(in, "/preferences/connect", w.Connect, Connects)
	if w.Demand != nil {
		in.demand("/preferences/demand", *w.Demand)
	}
	for at, v := range map[string]string{
		"/preferences/fallback_id": w.FallbackID,
		"/preferences/second_to":   w.SecondTo,
	} {
		if in.text(at, v, maxName, false) && v != "" && v == p.GatewayID {
			in.add(
				at,
				"the profile's own gateway",
				"another gateway",
				"choose another one, or leave it out",
			)
		}
	}
	in.text("/pattern_id", p.PatternID, maxName, false)
	return in.err()
}

// Normalise gives empty lists and defaults their one form, so that a record reads
// the same wherever it is shown, and says whether a secret is there.
func (g *Gateway) Normalise() {
	g.Complete()
	g.Offers.normalise()
	if g.Certificate != "" {
		g.Certificate = tidy(g.Certificate)
	}
	if g.ClientAuthority != "" {
		g.ClientAuthority = tidy(g.ClientAuthority)
	}
}

// Complete fills in what a record of an earlier release lacks.
func (g *Gateway) Complete() {
	for _, list := range []*[]string{&g.Addresses, &g.Domains, &g.DNS, &g.Routes, &g.Pool,
		&g.Egress, &g.Announced, &g.Hosts} {
		fill(list)
	}
	if g.SignIn.Form == "" {
		g.SignIn.Form = LoginPlain
	}
	g.Offers.complete()
}

// Normalise gives empty lists their one form.
func (p *Person) Normalise() { fill(&p.Groups) }

// Normalise gives empty lists their one form and says whether a password is there.
func (a *Account) Normalise() {
	fill(&a.GatewayIDs)
	a.PasswordSet = present(a.Password)
}

// Normalise leaves out what the service works out itself.
func (p *Profile) Normalise() {
	p.Tally, p.Checked = Tally{}, false
	if d := p.Preferences.Demand; d != nil {
		for _, list := range []*[]string{&d.Networks, &d.Suffixes, &d.Domains} {
			fill(list)
		}
		if d.Empty() {
			p.Preferences.Demand = nil
		}
	}
}

// Normalise says whether a key is there, and writes certificates in their one form.
func (d *Device) Normalise() {
	if d.Identity == nil && len(d.Others) > 0 {
		d.Identity, d.Others = &d.Others[0], d.Others[1:]
	}
	for id := range d.Identities() {
		id.Certificate = tidy(id.Certificate)
		id.KeySet = present(id.Key)
	}
}

// Normalise gives empty lists their one form.
func (p *Pattern) Normalise() {
	for _, list := range []*[]string{&p.Groups, &p.GatewayIDs, &p.Routes, &p.DNS, &p.Domains,
		&p.Demand.Networks, &p.Demand.Suffixes, &p.Demand.Domains, &p.Proxy.Bypass} {
		fill(list)
	}
	fill(&p.Platforms)
	fill(&p.Protocols)
}

func present(t *secret.Text) bool { return t != nil && !t.IsZero() }

func fill[T any](list *[]T) {
	if *list == nil {
		*list = []T{}
	}
}

// Validate reports every field of the organisation that cannot be accepted.
func (o *Organisation) Validate() error {
	in := inspect("organisation")
	in.required("/name", o.Name, maxName)
	in.host("/domain", o.Domain)
	in.origin("/links", o.Links)
	in.origin("/enrol", o.Enrol)
	in.origin("/links_v4", o.LinksV4)
	in.origin("/links_v6", o.LinksV6)
	if o.ProbeEvery < 0 || o.ProbeEvery > 720 {
		in.add(
			"/probe_every",
			fmt.Sprint(o.ProbeEvery),
			"hours from 1 to 720, or 0 for never",
			"correct the number",
		)
	}
	if o.KeepParcels < 0 || o.KeepParcels > 3650 {
		in.add(
			"/keep_parcels",
			fmt.Sprint(o.KeepParcels),
			"days from 1 to 3650, or 0 to keep all",
			"correct the number",
		)
	}
	return in.err()
}

// origin refuses what is neither empty nor the scheme, host and port of a service that is reached
// by TLS, or on this machine itself.
func (in *inspector) origin(pointer, v string) {
	if v == "" || !in.text(pointer, v, maxHost+20, false) {
		return
	}
	u, err := url.Parse(v)
	if err != nil || u.Host == "" || u.String() != u.Scheme+"://"+u.Host ||
		strings.ContainsAny(v, "'\"<> ;,") {
		in.add(
			pointer,
			shown(v),
			"scheme and host alone, such as https://connect.skerryline.example",
			"leave out everything behind the host",
		)
		return
	}
	if !Private(u) {
		in.add(
			pointer,
			shown(v),
			"an address that begins with https://",
			"serve it by TLS: secrets are fetched there",
		)
	}
}

// Private tells whether nobody on the way can read what is sent to an address: it is reached by
// TLS, or by HTTP on this host.
func Private(u *url.URL) bool {
	addr, err := netip.ParseAddr(u.Hostname())
	here := u.Hostname() == "localhost" || err == nil && addr.IsLoopback()
	return u.Scheme == "https" || u.Scheme == "http" && here
}
