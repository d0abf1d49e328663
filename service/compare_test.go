package service_test

import (
	"strings"
	"testing"

	"wardicon/api"
	"wardicon/core/filecheck"
	"wardicon/core/secret"
	"wardicon/core/vpn"
	"wardicon/store"
)

// TestCompare holds secrets in files to the records: the same, one that was replaced, and another.
// Neither is shown, and the asking is in the log.
func TestCompare(t *testing.T) {
	c := crewed(t)
	ctx := t.Context()
	const first, second = "kelp-4497-Harbor-mizzen-93-osprey", "tern-2210-Oakum-lantern-57-gale"
	turn := func(psk string) {
		t.Helper()
		_, err := c.Gateways.Change(ctx, c.north, 0,
			func(g *vpn.Gateway) (*vpn.Gateway, error) { g.Offers.L2TP.PSK = words(psk); return g, nil },
			func(string) bool { return false })
		c.set("gateway", err)
	}
	turn(first)
	turn(second)
	day := c.clock.now().UTC().Format("2 January 2006")
	for psk, want := range map[string]string{
		second:                       "",
		first:                        "equals what was valid for North until " + day,
		"gale-7781-Binnacle-rope-12": "differs from the record of North",
		second + " ":                 "differs from the record of North",
	} {
		checked, err := c.CheckFiles(ctx, []filecheck.File{{
			Name:  "a.nmconnection",
			Asked: true,
			Data: []byte("[connection]\nid=North\nuuid=6f1f6d3a-25a5-5b0c-9d65-0c6a2e1b7a11\ntype=vpn\n" +
				"[vpn]\nservice-type=org.freedesktop.NetworkManager.l2tp\ngateway=north.skerryline.example\n" +
				"user=ada\nipsec-enabled=yes\n[vpn-secrets]\nipsec-psk=" +
				strings.ReplaceAll(psk, " ", `\s`) + "\n[ipv4]\nmethod=auto\n"),
		}}, "")
		c.set("check", err)
		found := ""
		for _, f := range checked.Findings {
			if f.Rule == "secret-not-gateways" {
				found += f.Found
			}
			if strings.Contains(f.Found, psk) {
				t.Error("a finding shows the secret")
			}
		}
		if found != want {
			t.Errorf("found %q, expected %q", found, want)
		}
		told, err := c.Compare(ctx, c.north, api.Comparison{
			Field: vpn.FieldPSK, Protocol: vpn.L2TP, Value: secret.New(psk),
		})
		c.set("compare", err)
		if !told.Known || told.Same != (want == "") || told.Until.IsZero() != (psk != first) {
			t.Errorf("compared %+v, expected %q", told, want)
		}
	}
	entries, err := c.Audit(ctx, store.Query{Search: "compare", Limit: 10})
	c.set("audit", err)
	if entries.Total != 4 {
		t.Errorf("%d comparisons in the log, expected 4", entries.Total)
	}
}
