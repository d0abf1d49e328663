package check

import (
	"strings"
	"testing"
	"time"

	"wardicon/core/vpn"
)

// TestChains draws what a connection looks at: a gap on the gateway's way up is a fault, one on the
// device's is not known from here.
func TestChains(t *testing.T) {
	deep := sampleDeep()
	for _, test := range []struct {
		name string
		held []Held
		want string
	}{
		{"sound", []Held{authority(sampleRoot()), server(sampleServer()), client(sampleClient())},
			"norrvik.skerryline.example, Skerry Line Root; ada-laptop, Skerry Line Root | "},
		{"a gap", []Held{authority(sampleOther()), server(deep[0])},
			"ada-laptop.skerryline.example, Skerry Line Issuing | is not there"},
		{"a device by another authority", []Held{authority(sampleOther()),
			client(deep[0], deep[1])}, "ada-laptop.skerryline.example, Skerry Line Issuing | "},
		{"a gateway alone", []Held{server(sampleServer())}, "norrvik.skerryline.example | "},
		{"nothing", []Held{authority(sampleRoot())}, " | "},
	} {
		s := Sound()
		s.Now = deep[0].NotBefore.Add(time.Hour)
		s.by(vpn.IKEv2)
		s.holds(test.held...)
		var got, faults []string
		for _, links := range s.Chains() {
			var names []string
			for _, l := range links {
				names = append(names, l.Subject)
				if l.Fault != "" {
					faults = append(faults, l.Fault)
				}
			}
			got = append(got, strings.Join(names, ", "))
		}
		if said := strings.Join(got, "; ") + " | " + strings.Join(faults, "; "); said != test.want {
			t.Errorf("%s: drawn as %q, expected %q", test.name, said, test.want)
		}
	}
}
