package e2e

import (
	"strconv"
	"strings"
	"testing"

	"wardicon/core/suite"
	"wardicon/simulate"
)

// TestProbeCommand asks a stand-in for a gateway on the command line: one that is as its record says, one that is
// not, and one that is silent; a gateway without the offer is not asked.
func TestProbeCommand(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	run(1, "has no offer of IKEv2", "probe", "Norrvik")
	run(0, "", "gateway", "change", "Brattvik", "--address", "127.0.0.1")
	g, err := f.client.Gateways.List(t.Context(), query("Brattvik"))
	if err != nil {
		t.Fatal(err)
	}
	takes, err := suite.ParseAll(g.Items[0].Offers.IKEv2.IKE)
	if err != nil || len(takes) == 0 {
		t.Fatalf("%d suites (%v)", len(takes), err)
	}
	for _, test := range []struct {
		gateway *simulate.IKEGateway
		code    int
		want    string
	}{
		{&simulate.IKEGateway{Takes: takes}, 0, takes[0].String()},
		{&simulate.IKEGateway{Takes: []suite.Proposal{{Encryption: "aes256", Integrity: "sha1", Group: "modp1024"}}}, 1, "the gateway takes aes256-sha1-modp1024, which the record lacks"},
		{&simulate.IKEGateway{Takes: takes[:1], NAT: true}, 1, "behind NAT: false, the gateway shows true"},
		{&simulate.IKEGateway{Silent: true}, 1, "no answer by UDP"},
	} {
		stand, err := simulate.NewIKEGateway(test.gateway)
		if err != nil {
			t.Fatal(err)
		}
		out := run(test.code, test.want, "probe", "Brattvik", "--port", strconv.Itoa(int(stand.At.Port())))
		if err := stand.Close(); err != nil {
			t.Error(err)
		}
		if strings.Contains(out, "differs:") != (test.code != 0) {
			t.Errorf("%s", out)
		}
	}
	run(1, "1 to 65535", "probe", "Brattvik", "--port", "70000")
}
