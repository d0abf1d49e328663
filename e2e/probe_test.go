package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"wardicon/core/drift"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/simulate"
)

// TestProbeCommand asks simulators for a gateway on the command line: one that is as its record
// says, and faulty ones; has the record take over what was seen; lists the history.
func TestProbeCommand(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	g, err := f.client.Gateways.List(t.Context(), query("Norrvik"))
	if err != nil {
		t.Fatal(err)
	}
	takes, err := suite.ParseAll(g.Items[0].Offers.L2TP.IKE)
	if err != nil || len(takes) == 0 {
		t.Fatalf("%d suites (%v)", len(takes), err)
	}
	stand := &simulate.Gateway{
		Name:      "127.0.0.1",
		Protocols: []vpn.Protocol{vpn.L2TP},
		Suites:    takes,
	}
	if err := stand.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = stand.Close() })
	run(2, "expected two ports", "gateway", "change", "Norrvik", "--probe-port", "500:600")
	run(1, "from 1 to 65535", "gateway", "change", "Norrvik", "--probe-port", "500=70000")
	run(
		0,
		"",
		"gateway",
		"change",
		"Norrvik",
		"--address",
		"127.0.0.1",
		"--known-address",
		"127.0.0.1",
		"--probe-at",
		"127.0.0.1",
		"--probe-port",
		forwarded(stand),
	)
	run(2, "expected a gateway or an address", "probe")
	run(4, "there is no probe latest", "probe", "Norrvik", "--last")
	if out := run(
		0,
		"accepts "+takes[0].String(),
		"probe",
		"Norrvik",
	); strings.Contains(
		out,
		"warning:",
	) {
		t.Error(out)
	}
	for _, test := range []struct {
		faults []simulate.Fault
		want   string
	}{
		{[]simulate.Fault{simulate.FaultAggressive, simulate.FaultRealm},
			`identifies as "pilots.other.example"`},
		{[]simulate.Fault{simulate.FaultBare}, "accepts L2TP without IPsec"},
		{[]simulate.Fault{simulate.FaultSilent}, "no answer by UDP"},
	} {
		stand.Break(test.faults...)
		run(1, test.want, "probe", "Norrvik")
	}
	var p drift.Probe
	if err := json.Unmarshal(
		[]byte(run(1, "", "probe", "Norrvik", "--last", "--output", "json")),
		&p,
	); err != nil || len(p.Answers) == 0 ||
		p.Answers[0].State != drift.Silent {
		t.Errorf("%+v (%v)", p, err)
	}
	if out := run(
		0,
		"main mode 500 no-response",
		"probe",
		"Norrvik",
		"--history",
	); strings.Count(
		out,
		"harbourmaster",
	) != 4 {
		t.Error(out)
	}
	if out := run(
		0,
		"Probe Norrvik",
		"job",
		"list",
		"--filter",
		"kind=probe",
	); strings.Contains(out, "roll-out") ||
		strings.Count(out, "Probe Norrvik") != 4 {
		t.Error(out)
	}
	run(1, "192.0.2.99 is not the address of a gateway on record", "probe", "192.0.2.99")
	run(4, "there is no gateway", "probe", "Nowhere")
	// Suites that differ: the record takes over what the gateway takes.
	run(0, "", "gateway", "change", "Norrvik", "--ike", "aes256-sha512-modp4096")
	other := &simulate.Gateway{
		Bind:      netip.MustParseAddr("127.0.0.2"),
		Protocols: []vpn.Protocol{vpn.L2TP},
		Suites:    takes,
	} // one address is not asked without end
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = other.Close() })
	run(
		0,
		"",
		"gateway",
		"change",
		"Norrvik",
		"--probe-at",
		"127.0.0.2",
		"--probe-port",
		forwarded(other),
	)
	run(0, "accepted into the record", "probe", "Norrvik", "--accept", "suite-none")
	if g, err = f.client.Gateways.List(
		t.Context(),
		query("Norrvik"),
	); err != nil || slices.Contains(g.Items[0].Offers.L2TP.IKE, "aes256-sha512-modp4096") ||
		len(g.Items[0].Offers.L2TP.IKE) == 0 {
		t.Errorf("%v (%v)", g.Items[0].Offers.L2TP.IKE, err)
	}
	run(1, "no such difference", "probe", "Norrvik", "--accept", "suite-none")
}

// forwarded are the ports of a simulator as flags want them.
func forwarded(g *simulate.Gateway) string {
	var ports []string
	for _, from := range slices.Sorted(maps.Keys(g.Ports())) {
		ports = append(ports, fmt.Sprintf("%d=%d", from, g.Ports()[from]))
	}
	return strings.Join(ports, ",")
}
