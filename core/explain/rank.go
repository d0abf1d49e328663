package explain

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wardicon/core/drift"
	"wardicon/core/format/shell"
	"wardicon/core/vpn"
)

// Evidence is what the records say of the case. The zero value knows nothing.
type Evidence struct {
	Now      time.Time
	Platform vpn.Platform
	Release  string
	Protocol vpn.Protocol
	Name     string // of the connection on the device
	Address  string // of the gateway
	Gateway  string
	Offers   []vpn.Protocol // of the gateway
	Routes   []string       // through the tunnel

	// Proofs are what the profile proves itself with: key, certificate, password; none are not
	// known.
	Proofs          []Proof
	MachineWide     bool      // the connection is for all who use the device
	Built           time.Time // the newest parcel
	Delivered       time.Time // when it was fetched
	Outdated        bool      // building now would give something else
	KeyChanged      time.Time // the pre-shared or control-channel key
	PasswordChanged time.Time
	BehindNAT       bool
	// the gateway's certificate comes from an authority that devices do not know by themselves
	AuthorityNeeded     bool
	CertificateExpiring time.Time // of the device
	GatewayExpires      time.Time // of the certificate that the gateway shows
	Realm               bool      // the gateway wants a realm
	PasswordAsked       bool      // the parcel has no password
	CannotAsk           bool      // nobody can be asked on the device
	Findings            []string  // rules that found something in the profile
	Probe               *drift.Probe
	Tried               *Tried
	Others              int // other devices seen through the same gateway within a day
	Seen                time.Time

	RunningSince time.Time           // of the device, where the diagnostic script says so
	Shown        map[string][]string // lines of the diagnostic script that show a cause, by cause
}

// Proof is something that a device proves itself with.
type Proof string

// The proofs.
const (
	ByKey         Proof = "pre-shared key"
	ByCertificate Proof = "certificate"
	ByPassword    Proof = "password"
)

// ProofsOf are those of a connection.
func ProofsOf(c vpn.Connection) (list []Proof) {
	if c.L2TP != nil && c.L2TP.Auth != vpn.MachineCertificate ||
		c.IKEv2 != nil && c.IKEv2.Auth == vpn.IKEv2PSK {
		list = append(list, ByKey)
	}
	if c.NeedsIdentity() {
		list = append(list, ByCertificate)
	}
	if c.NeedsPassword() {
		list = append(list, ByPassword)
	}
	return list
}

// proves are the causes that only concern devices with a proof.
var proves = map[string]Proof{
	"key-wrong": ByKey, "client-refused": ByCertificate,
	"device-certificate-expired": ByCertificate, "device-certificate-revoked": ByCertificate,
	"password-wrong": ByPassword, "realm-wrong": ByPassword, "password-expired": ByPassword,
	"account-locked": ByPassword,
}

// Take takes in what the diagnostic script showed.
func (e *Evidence) Take(r *Reading) {
	if r == nil {
		return
	}
	e.RunningSince, e.Shown = r.Running, map[string][]string{}
	for _, event := range r.Events {
		if event.Source == Diagnostics && event.Tells && len(event.Causes) > 0 {
			e.Shown[event.Causes[0]] = append(e.Shown[event.Causes[0]], event.Text)
		}
	}
}

// Notes are what the records say of the case as a whole.
func (e Evidence) Notes() []string {
	notes := []string{}
	if e.Outdated {
		notes = append(
			notes,
			"The parcel was built from other data than those on record now: build it again and "+
				"hand it over before anything else is tried.",
		)
	}
	if e.Gateway != "" && e.Built.IsZero() {
		notes = append(notes, "No parcel was built for this profile yet.")
	}
	if !e.Seen.IsZero() {
		notes = append(
			notes,
			fmt.Sprintf("This device was last seen connected on %s.", e.Seen.Format(minutes)),
		)
	}
	if e.Gateway != "" && e.Probe == nil && e.Tried == nil {
		notes = append(
			notes,
			fmt.Sprintf(
				"What the gateway answers is not known: wardicon probe %s",
				shell.Quote(e.Gateway),
			),
		)
	}
	return notes
}

// Ranked is a cause with what speaks for it in this case.
type Ranked struct {
	Cause
	// The greater the likelier.
	Score int `json:"score"`
	// What in the records speaks for it.
	Reasons []string `json:"reasons"`
	// What speaks against it.
	Against []string `json:"against"`
}

// weights of evidence beside the order in a code's list, whose steps are 10.
const (
	step   = 10
	proof  = 60 // the records show it
	strong = 30
	some   = 15
)

// Rank orders causes by what the records say of the case, the likeliest first. The fixes are those
// for the platform.
func Rank(causes []string, e Evidence) []Ranked {
	list := []Ranked{}
	for i, id := range causes {
		cause, ok := Causes[id]
		if !ok || slices.ContainsFunc(list, func(r Ranked) bool { return r.ID == id }) {
			continue
		}
		r := e.judged(cause, max(step*(len(causes)-i), 0))
		list = append(list, r)
	}
	slices.SortStableFunc(list, func(a, b Ranked) int { return cmp.Compare(b.Score, a.Score) })
	return append(list, besides(list, e)...)
}

// anyway are causes that stop a connection whatever the device says of it.
var anyway = []string{"release-lacks", "device-certificate-expired", "device-certificate-revoked"}

// besides are those among them that the records show, behind what the device says.
func besides(list []Ranked, e Evidence) (more []Ranked) {
	for _, id := range anyway {
		if slices.ContainsFunc(list, func(r Ranked) bool { return r.ID == id }) {
			continue
		}
		if r := e.judged(Causes[id], 0); r.Score >= strong {
			more = append(more, r)
		}
	}
	return more
}

// judged is a cause with its fix and with what speaks for it, from a score on.
func (e Evidence) judged(c Cause, score int) Ranked {
	r := Ranked{Cause: c, Score: score, Reasons: []string{}, Against: []string{}}
	r.Fix, r.Confirm = fixFor(c, e), e.fill(c.Confirm)
	weigh(&r, e)
	return r
}

func (r *Ranked) speaks(weight int, format string, args ...any) {
	r.Score += weight
	text := fmt.Sprintf(format, args...)
	if weight < 0 {
		r.Against = append(r.Against, text)
	} else {
		r.Reasons = append(r.Reasons, text)
	}
}

// signs are rules whose findings speak for a cause.
var signs = map[string][]string{
	"suites-differ":       {"suites-refused", "ike-nothing-shared", "proposals-unset"},
	"child-suites-differ": {"esp-nothing-shared", "pfs-not-offered"},
	"methods-differ":      {"ppp-nothing-shared", "auth-nothing-shared"},
	"encryption-differs":  {"mppe-without-keys", "mppe-missing", "ppp-clear"},
	"eap-missing":         {"auth-nothing-shared"},
	"authority-missing": {
		"authority-missing",
		"authority-wrong",
		"authority-assumed",
		"chain-incomplete",
		"shown-authority-other",
		"shown-authority-private",
	},
	"authority-store":             {"scope-lacking"},
	"gateway-certificate-expired": {"shown-certificate-expired"},
	"certificate-name":            {"shown-name-other", "name-not-certified"},
	"certificate-usage":           {"server-usage-missing"},
	"client-refused":              {"client-usage-missing", "certificate-revoked"},
	"device-certificate-missing":  {"identity-missing"},
	"gateway-no-response":         {"gateway-no-response"},
	"proxy-between":               {"port-answers-else"},
	"name-unresolved":             {"name-unanswered"},
	"release-lacks":               {"protocol-gone", "protocol-never", "auth-nothing-shared"},
	"device-certificate-revoked":  {"certificate-revoked"},
	"password-wrong": {
		"edge-space",
		"login-space",
		"login-capitals",
		"login-is-mail",
		"lookalike-character",
		"invisible-character",
	},
	"realm-wrong": {
		"realm-missing",
		"realm-is-host",
		"realm-differs",
		"realm-doubled",
	},
	"identity-differs": {"remote-id-differs", "remote-id-not-gateways"},
	"control-key":      {"control-direction", "control-not-gateways"},
	"ciphers-differ":   {"cipher-nothing-shared"},
	"tls-versions":     {"tls-version-old", "shown-tls-old"},
	"secret-missing":   {"cannot-ask", "password-missing", "psk-missing"},
	"inside-names":     {"dns-lacking", "domains-without-dns", "dns-outside-routes"},
	"routes-missing":   {"split-without-routes"},
	"other-way":        {"past-the-tunnel"},
	"nat-registry":     {"nat-unrecorded"},
}

// Signs are rules whose findings speak for a cause.
func Signs() map[string][]string { return signs }

// weigh adds what the records say.
func weigh(r *Ranked, e Evidence) {
	for _, rule := range signs[r.ID] {
		if slices.Contains(e.Findings, rule) {
			r.speaks(strong, "the profile has the finding %s", rule)
		}
	}
	if by, ok := proves[r.ID]; ok && len(e.Proofs) > 0 && !slices.Contains(e.Proofs, by) {
		r.speaks(-proof, "the profile has no %s", by)
	}
	weighRehearsal(r, e)
	for _, line := range e.Shown[r.ID] {
		r.speaks(proof, "the diagnostic script shows it: %s", line)
	}
	day := func(t time.Time) string { return t.Format(minutes) }
	later := func(t time.Time) bool { return !e.Built.IsZero() && t.After(e.Built) }
	switch r.ID {
	case "key-wrong", "control-key":
		if later(e.KeyChanged) {
			r.speaks(
				proof,
				"the key was changed on %s, after this parcel was built on %s",
				day(e.KeyChanged),
				day(e.Built),
			)
		} else if !e.Built.IsZero() && !e.Seen.IsZero() && e.Seen.After(e.Built) {
			r.speaks(-strong, "this device has connected with this parcel, last on %s", day(e.Seen))
		}
	case "password-wrong":
		if later(e.PasswordChanged) {
			r.speaks(
				proof,
				"the password was changed on %s, after this parcel was built on %s",
				day(e.PasswordChanged),
				day(e.Built),
			)
		}
	case "realm-wrong":
		if e.Realm {
			r.speaks(some, "the gateway wants a realm")
		}
	case "nat-registry":
		switch {
		case e.Platform != "" && e.Platform != vpn.Windows:
			r.speaks(-proof, "only Windows has this")
		case e.Protocol == vpn.L2TP && e.BehindNAT:
			weighRestart(r, e)
		case e.Protocol == vpn.L2TP && e.Gateway != "":
			r.speaks(
				-some,
				"the record says that the gateway does not stand behind address translation",
			)
		}
	case "authority-store", "authority-missing":
		if e.AuthorityNeeded {
			r.speaks(some, "the gateway's certificate comes from an authority of your own")
		} else if e.Gateway != "" {
			r.speaks(-some, "no authority of your own is on record for this protocol")
		}
		if r.ID == "authority-store" && e.Platform != "" && e.Platform != vpn.Windows {
			r.speaks(-proof, "only Windows tells the two stores apart")
		}
	case "gateway-certificate-expired":
		weighEnd(r, e.GatewayExpires, e.Now, "the gateway's certificate")
	case "device-certificate-expired":
		weighEnd(r, e.CertificateExpiring, e.Now, "the device's certificate")
	case "device-certificate-missing":
		if e.Gateway != "" && e.CertificateExpiring.IsZero() {
			r.speaks(some, "the device has no certificate on record")
		}
	case "secret-missing":
		if e.PasswordAsked && e.CannotAsk {
			r.speaks(proof, "the parcel has no password, and nobody can be asked on this device")
		}
	case "gateway-no-response",
		"port-blocked",
		"proxy-between",
		"suites-differ",
		"group-differs",
		"certificate-name",
		"tls-versions",
		"name-unresolved":
		weighProbe(r, e)
	}
}

// weighRestart looks whether the device was restarted since it has the parcel, which sets the
// value: the diagnostic script says since when it runs.
func weighRestart(r *Ranked, e Evidence) {
	had := e.Delivered
	if had.IsZero() {
		had = e.Built
	}
	known := !e.RunningSince.IsZero() && !had.IsZero()
	if known && e.RunningSince.After(had) {
		r.speaks(
			-some,
			"the gateway is behind NAT, and the device was restarted on %s, "+
				"after it had the parcel",
			e.RunningSince.Format(minutes),
		)
		return
	}
	r.speaks(
		proof,
		"the gateway is behind NAT and the parcel sets the value, which "+
			"counts after a restart",
	)
	if known {
		r.speaks(
			strong,
			"it has not been restarted since: it runs since %s, the parcel is of %s",
			e.RunningSince.Format(minutes),
			had.Format(minutes),
		)
	}
}

const minutes = "2006-01-02 15:04"

func weighEnd(r *Ranked, end, now time.Time, what string) {
	switch {
	case end.IsZero():
	case end.Before(now):
		r.speaks(proof, "%s expired on %s", what, end.Format(time.DateOnly))
	default:
		r.speaks(-strong, "%s is good until %s", what, end.Format(time.DateOnly))
	}
}

// places are where the gateway answered the last probe in the protocol of the case, and where not
// at any of its addresses.
func (e Evidence) places() (answered, silent string) {
	if e.Probe == nil {
		return "", ""
	}
	answers := map[string]bool{}
	for _, a := range e.Probe.Answers {
		if a.Protocol != e.Protocol || a.Method == drift.MethodBareL2TP ||
			a.Method == drift.MethodAggressive {
			continue
		}
		place := fmt.Sprintf("%s %d", strings.ToUpper(string(a.Transport)), a.Port)
		if a.State == drift.Answered || a.State == drift.Silent || a.State == drift.Closed {
			answers[place] = answers[place] || a.State == drift.Answered
		}
	}
	for _, place := range slices.Sorted(maps.Keys(answers)) {
		if answers[place] {
			answered = place
		} else {
			silent = place
		}
	}
	return answered, silent
}

// weighProbe looks at what the gateway answered last, and at who else connects.
func weighProbe(r *Ranked, e Evidence) {
	answered, silent := e.places()
	var differences []drift.Difference
	if e.Probe != nil {
		for _, d := range e.Probe.Differences {
			if d.Protocol == e.Protocol || d.Protocol == "" {
				differences = append(differences, d)
			}
		}
	}
	found := func(code string) bool {
		return slices.ContainsFunc(
			differences,
			func(d drift.Difference) bool { return d.Code == code },
		)
	}
	switch r.ID {
	case "gateway-no-response":
		if silent != "" && !e.newer() {
			r.speaks(proof, "the last probe found no answer on %s", silent)
		}
		if answered != "" && silent == "" {
			r.speaks(-strong, "the gateway answered the last probe on %s", answered)
		}
		if e.Others > 0 {
			r.speaks(
				-strong,
				"%d other devices were seen through this gateway within a day",
				e.Others,
			)
		}
	case "port-blocked":
		if answered != "" {
			r.speaks(some, "the gateway answered the last probe on %s", answered)
		}
		if e.Others > 0 {
			r.speaks(
				strong,
				"%d other devices were seen through this gateway within a day, so it is this "+
					"device's network",
				e.Others,
			)
		}
	case "suites-differ", "group-differs":
		if found(drift.SuiteNone) {
			r.speaks(proof, "the last probe: the gateway takes none of the suites on record")
		} else if answered != "" && e.Gateway != "" {
			r.speaks(-some, "the last probe: the gateway takes a suite of the record")
		}
	case "certificate-name":
		if found(drift.CertificateName) {
			r.speaks(proof, "the last probe: the certificate is for another name")
		}
	case "tls-versions":
		if found(drift.TLSOld) {
			r.speaks(proof, "the last probe: the gateway has an old TLS")
		}
	case "proxy-between":
		if found(drift.NotTheProtocol) {
			r.speaks(proof, "the last probe: something else answers on that port")
		}
	case "name-unresolved":
		if found(drift.NameMissing) {
			r.speaks(proof, "the last probe: the name leads nowhere")
		}
	}
}
