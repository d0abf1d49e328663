package all_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// TestSites writes routers with a site behind them, reads them back, and lets the packet
// filter itself judge its rules.
func TestSites(t *testing.T) {
	nft, err := exec.LookPath("nft")
	judged := err == nil && os.Getuid() == 0
	for _, p := range vpn.Protocols {
		for _, kind := range []platform.Format{platform.Daemons, platform.UCI} {
			codec, _ := all.ByName(kind)
			for n := range 8 {
				masquerade, full, router := n&1 > 0, n&2 > 0, n&4 > 0
				if kind == platform.UCI && (router || p == vpn.IKEv2) || router && p != vpn.IKEv2 {
					continue
				}
				t.Run(
					fmt.Sprintf(
						"%s/%s/masquerade=%v,full=%v,router=%v",
						kind,
						p,
						masquerade,
						full,
						router,
					),
					func(t *testing.T) {
						c := sample(p)
						if p == vpn.L2TP {
							c.L2TP.RemoteID = ""
						}
						c.Site, c.RouterFilter = &vpn.Site{
							Networks:   []string{"10.50.1.0/24", "2001:db8:51::/64"},
							Masquerade: masquerade,
						}, router
						if full {
							c.Tunnel, c.Routes = vpn.TunnelFull, []string{}
						}
						if masquerade && p == vpn.IKEv2 {
							if _, err := codec.Write(
								c,
							); err == nil ||
								!strings.Contains(err.Error(), "2001:db8:") {
								t.Errorf("IPv6 is not masqueraded over IKEv2: %v", err)
							}
							c.Site.Networks = c.Site.Networks[:1]
							if !full {
								c.Routes = []string{"10.20.0.0/16"}
							}
						}
						files, err := codec.Write(c)
						if err != nil {
							t.Fatal(err)
						}
						if got, want := readBack(
							t,
							codec,
							files,
						), codec.Carried(
							c,
						); !equal(
							got,
							want,
						) {
							t.Fatalf("read back something else: %s", differences(got, want))
						}
						dir := t.TempDir()
						for _, f := range files {
							path := filepath.Join(dir, f.Name)
							text := string(f.Content)
							switch {
							case strings.HasSuffix(f.Name, "-nat.nft"):
								text = "table inet fw4 { chain srcnat { type nat hook " +
									"postrouting priority srcnat; " + text + "}\n}"
							case router && strings.HasSuffix(f.Name, "-site.nft"):
								text = "table inet fw4 { chain forward { type filter hook " +
									"forward priority filter; policy drop;\n" + text + "}\n}"
							case strings.HasPrefix(text, "chain "):
								text = "table inet fw4 {\n" + text + "}"
							}
							if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
								t.Fatal(err)
							}
							if strings.HasSuffix(f.Name, ".nft") && judged {
								if out, err := exec.Command(nft, "-c", "-f", path).
									CombinedOutput(); err != nil {
									t.Errorf(
										"the packet filter refuses %s: %s\n%s",
										f.Name,
										out,
										text,
									)
								}
							}
							if strings.HasSuffix(f.Name, ".sh") {
								if out, err := exec.Command("sh", "-n", path).
									CombinedOutput(); err != nil {
									t.Errorf("%s: %s", f.Name, out)
								}
							}
						}
					},
				)
			}
		}
	}
	c := sample(vpn.TLS)
	c.Site = &vpn.Site{Networks: []string{"10.50.1.0/24; flush ruleset"}}
	for _, kind := range []platform.Format{platform.Daemons, platform.UCI} {
		codec, _ := all.ByName(kind)
		var unfit *format.UnfitError
		if _, err := codec.Write(c); !errors.As(err, &unfit) || unfit.Field != vpn.FieldSite {
			t.Errorf("%s writes a network that is none: %v", kind, err)
		}
	}
}
