package corpus_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"testing"

	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/vpn"
)

// cleanEach is how many sound files of each format are written and checked.
const cleanEach = 60

// What sound records may hold: everything that writers have to quote, and nothing that is
// wrong.
var (
	towns = []string{
		"Norrvik",
		"Tällholm",
		"Brattvik",
		"Lyngholm",
		"Easthaven",
		"St. Ola & Co",
		"Grey 'Skerry'",
		"Ærøby 2",
		"Deep #4",
		"Vik; Süd",
	}
	logins = []string{
		"a_fjell",
		"bo.holm",
		"cpt-strand",
		"d'arcy",
		"e+watch",
		"night%20crew",
		"f$deck",
		"g#1",
		"h=pilot",
		"i\\bridge",
	}
	passwords = []string{
		"tern-88-Gannet-orbit-luff-3497",
		`Qv7"fog'4-Lamp$Tide`,
		`%USERNAME%-brine-93-Kettle`,
		`back\slash-74-Oakum-Reef`,
		`<b>&amp;-Shoal-52-Plover`,
		"`tick`-33-Halyard-Morrow",
		`semi;colon-61-Thwart-Eider`,
		`#hash-19-Marlin-Spike`,
		`{brace}-84-Fathom-Teal`,
		`per%d-cent-27-Cuddy-Wrasse`,
	}
	keys = []string{
		"kelp-4497-Harbor-mizzen-93-osprey",
		`Wick"74'Lantern$Fog-Brig`,
		`Keel=92;Scupper#41-Dunlin`,
		`Bilge\\63-Tarpaulin-Gull`,
		"Anker<47>&Sextant-Petrel",
	}
	networks = [][]string{
		{"10.20.0.0/16"},
		{"10.20.0.0/16", "172.20.8.0/22"},
		{"10.20.0.0/18", "2001:db8:20::/48"},
	}
)

// sound are records without a fault, different for each number.
func sound(t *testing.T, n int, p vpn.Protocol, row platform.Row, f platform.Format) plan.Input {
	t.Helper()
	town, host := towns[n%len(towns)], fmt.Sprintf("gw%d.skerryline.example", n)
	ability := row.Can[p]
	tunnel := vpn.TunnelFull
	if ability.SplitRoutes && n%2 == 0 {
		tunnel = vpn.TunnelSplit
	}
	offers := map[string]any{}
	patch := map[string]any{
		"profile": map[string]any{
			"preferences": map[string]any{"protocol": p, "format": f, "tunnel": tunnel},
		},
		"gateway": map[string]any{
			"name":    town,
			"address": host,
			"routes":  networks[n%len(networks)],
			"offers":  map[string]any{string(p): offers},
		},
		"device": map[string]any{
			"platform":  row.Platform,
			"release":   row.Releases[n%len(row.Releases)],
			"encrypted": true,
			"identity":  map[string]any{"certificate": "@client.pem", "key": "@client.key"},
		},
		"accounts": []any{
			map[string]any{
				"id":       "a-1",
				"login":    logins[n%len(logins)],
				"password": passwords[n%len(passwords)],
			},
		},
		"pattern": map[string]any{"ipv6": vpn.IPv6Refused},
	}
	switch p {
	case vpn.L2TP:
		offers["psk"] = keys[n%len(keys)]
		offers["ike"] = []string{"aes256-sha256-modp2048", "aes256-sha1-modp2048"}
		offers["esp"] = []string{"aes256-sha256-modp2048", "aes256-sha1", "aes128-sha256"}
		if len(ability.Machine) > 1 && n%3 == 0 {
			offers["auth"], offers["authority"] = []vpn.MachineAuth{
				vpn.MachineCertificate,
			}, "@root.pem"
		}
	case vpn.IKEv2:
		offers["ike"] = []string{"aes256-sha256-ecp256", "aes256-sha256-modp2048"}
		offers["esp"] = []string{"aes256gcm16-ecp256", "aes256-sha256-modp2048", "aes256gcm16"}
		offers["auth"] = ability.IKEv2[n%len(ability.IKEv2) : n%len(ability.IKEv2)+1]
	case vpn.TLS:
		offers["server_name"] = host
		offers["auth"] = vpn.TLSAuths[n%3 : n%3+1]
		offers["remotes"] = []vpn.Remote{{Port: 1194, Transport: vpn.UDP},
			{Port: 443, Transport: vpn.TCP}}[:1+n%2]
		offers["control_key"] = []any{map[string]any{"kind": "crypt"},
			map[string]any{"kind": "auth", "direction": "1"}}[n%2]
	}
	data, err := json.Marshal(patch)
	if err != nil {
		t.Fatal(err)
	}
	return records(t, data)
}

// serious keeps what would be a false alarm on a sound file.
func serious(findings []check.Finding) []check.Finding {
	return slices.DeleteFunc(findings, func(f check.Finding) bool { return f.Severity == vpn.Note })
}

// TestCleanWritten writes sound files of each format, as often as there are reasons to
// quote, and holds that nothing is found in them.
func TestCleanWritten(t *testing.T) {
	for _, codec := range all.Codecs {
		written, alarms := 0, 0
		for n := 0; written < cleanEach && n < 200*cleanEach; n++ {
			row := platform.Table[n%len(platform.Table)]
			p := codec.Protocols[n/len(platform.Table)%len(codec.Protocols)]
			if p == vpn.PPTP || !row.Can[p].Support.Usable() ||
				!slices.Contains(row.Can[p].Formats, codec.Name) {
				continue // PPTP is a warning in itself
			}
			if p == vpn.IKEv2 && codec.Name == platform.PhoneBook {
				continue // and so are the proposals that Windows sends by itself
			}
			in := sound(t, n, p, row, codec.Name)
			made := plan.Make(in)
			if !made.Works() || made.Format != codec.Name {
				continue
			}
			files, err := codec.Write(made.Connection)
			var unfit *format.UnfitError
			if errors.As(err, &unfit) {
				continue // what a format cannot carry is no sound file of it
			}
			if err != nil {
				t.Fatalf("%s: %s", codec.Name, err)
			}
			written++
			alone := filecheck.Check(came(files), filecheck.Options{Now: now})
			against := filecheck.Check(
				came(files),
				filecheck.Options{
					Now:      now,
					Gateways: []vpn.Gateway{in.Gateway},
					Release:  &made.Release,
				},
			)
			for _, f := range serious(slices.Concat(filecheck.Findings(alone),
				filecheck.Findings(against))) {
				alarms++
				t.Errorf(
					"%s, %s by %s, number %d: %s: %s",
					codec.Name,
					row.Title,
					p,
					n,
					f.Rule,
					f.Found,
				)
			}
		}
		if written < cleanEach {
			t.Errorf("%s: only %d files could be written", codec.Name, written)
		}
		t.Logf("%s: %d sound files, %d false alarms", codec.Title, written, alarms)
	}
}

func came(files []format.File) []filecheck.File {
	var list []filecheck.File
	for _, f := range files {
		list = append(list, filecheck.File{Name: f.Name, Data: f.Content, Asked: true})
	}
	return list
}

// TestCleanElsewhere checks sound files as other hands wrote them: one folder of files that
// came together for each.
func TestCleanElsewhere(t *testing.T) {
	folders, err := filepath.Glob("testdata/clean/*/*")
	if err != nil {
		t.Fatal(err)
	}
	alarms, kinds := 0, map[string]int{}
	for _, folder := range folders {
		_, findings := load(t, folder)
		kinds[filepath.Base(filepath.Dir(folder))]++
		for _, f := range serious(findings) {
			alarms++
			t.Errorf("%s: %s: %s", folder, f.Rule, f.Found)
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(kinds)) {
		t.Logf("%s from elsewhere: %d", kind, kinds[kind])
	}
	t.Logf("%d sound files from elsewhere, %d false alarms", len(folders), alarms)
	if len(folders) < 60 {
		t.Errorf("%d files, expected at least 60", len(folders))
	}
}
