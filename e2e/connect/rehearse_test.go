package connect

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"github.com/miekg/dns"

	"wardicon/core/rehearsal"
)

// program is the command line as it is shipped, for boxes in which it has to run.
var program = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "wardicon-program")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "wardicon")
	out, err := exec.Command("go", "build", "-o", path, "../../cmd/wardicon").CombinedOutput()
	if err != nil {
		return string(out), err
	}
	return path, nil
})

const insideNames = "WARDICON_INSIDE_NAMES"

// serveNames is the resolver behind a gateway: it knows one name.
func serveNames(at string) {
	_ = (&dns.Server{Addr: at, Net: "udp", Handler: dns.HandlerFunc(
		func(w dns.ResponseWriter, q *dns.Msg) {
			m := new(dns.Msg).SetReply(q)
			if q.Question[0].Name == insideName+"." {
				m.Answer = []dns.RR{&dns.A{
					Hdr: dns.RR_Header{Name: insideName + ".", Rrtype: dns.TypeA,
						Class: dns.ClassINET, Ttl: 60},
					A: net.IPv4(10, 20, 0, 1),
				}}
			} else {
				m.Rcode = dns.RcodeNameError
			}
			_ = w.WriteMsg(m)
		})}).ListenAndServe()
}

const insideName = "timetable.inside.skerryline.example"

// serves puts a resolver and a service behind a gateway.
func (b *box) serves() {
	b.t.Helper()
	b.start("inside", "env", insideHost+"=10.20.0.1:8082", os.Args[0])
	b.start("names", "env", insideNames+"=10.20.0.53:53", os.Args[0])
}

// rehearse signs in with the files of a parcel from a box.
func (b *box) rehearse(parcel string, more ...string) (rehearsal.Result, string) {
	b.t.Helper()
	path, err := program()
	if err != nil {
		b.t.Fatalf("%v %s", err, path)
	}
	out, _ := b.try(90, append([]string{
		path, "rehearse", parcel, "--output", "json", "--host", "10.20.0.1",
		"--host", "10.20.0.1:8082", "--lookup", insideName,
	}, more...)...)
	var list []rehearsal.Result
	if err := json.Unmarshal([]byte(out), &list); err != nil || len(list) == 0 {
		b.t.Fatalf("a rehearsal of %s: %v\n%s", parcel, err, out)
	}
	return list[0], out
}

// rehearsed demands that a parcel signs in and reaches the internal host by its bytes alone, as the
// real client does.
func (b *box) rehearsed(parcel string) {
	b.t.Helper()
	r, out := b.rehearse(parcel)
	if !r.Passed {
		b.t.Errorf("the rehearsal failed:\n%s", out)
		return
	}
	for _, s := range r.Steps {
		if s.Name == rehearsal.Echo && !strings.HasPrefix(s.Found, "10.20.0.1 ") ||
			s.State != rehearsal.Passed {
			b.t.Errorf("%s: %s %s", s.Name, s.State, s.Found)
		}
	}
}
