package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/vpn"
	"wardicon/demo"
	"wardicon/simulate"
	"wardicon/store"
)

// settledJobs waits until no job runs.
func (f *fleet) settledJobs() {
	f.t.Helper()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); {
		page, err := f.client.Jobs(f.t.Context(), client.Query{Limit: 20})
		if err != nil {
			f.t.Fatal(err)
		}
		if !slices.ContainsFunc(page.Items, func(j api.Job) bool { return j.State == api.Running }) {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	f.t.Fatal("a job does not end")
}

// switchover finds one by its name.
func (f *fleet) switchover(name string) api.Switchover {
	f.t.Helper()
	page, err := f.client.Switchovers.List(f.t.Context(), client.Query{
		Limit: 1, Filter: map[string]string{"name": name},
	})
	if err != nil || len(page.Items) == 0 {
		f.t.Fatalf("no switchover %s: %v", name, err)
	}
	return page.Items[0]
}

// gateway finds the identifier of a gateway.
func (f *fleet) gateway(name string) string {
	f.t.Helper()
	page, err := f.client.Gateways.List(f.t.Context(), client.Query{
		Limit: 1, Filter: map[string]string{"name": name},
	})
	if err != nil || len(page.Items) == 0 {
		f.t.Fatalf("no gateway %s: %v", name, err)
	}
	return page.Items[0].ID
}

// steps are the devices of a switchover by their names.
func (f *fleet) steps(name string) map[string]api.SwitchoverStep {
	f.t.Helper()
	page, err := f.client.SwitchoverDevices(f.t.Context(), f.switchover(name).ID,
		client.Query{Limit: 500})
	if err != nil {
		f.t.Fatal(err)
	}
	all := map[string]api.SwitchoverStep{}
	for _, x := range page.Items {
		all[x.Device] = x
	}
	return all
}

// TestSwitchoverKinds takes one device through every kind of switchover: its plan has the new value
// once it is released and not before, the record has it once the old one is cut off, and an undone
// one leaves nothing.
func TestSwitchoverKinds(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	file := func(name, text string) string {
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	run(0, "", "authority", "make", "Harbour", "--issuing")
	run(0, "", "authority", "make", "Pier", "--issuing")
	authority := func(name string) string {
		page, err := f.client.Authorities.List(t.Context(), query(name))
		if err != nil {
			t.Fatal(err)
		}
		return page.Items[0].Certificate
	}
	// One gateway that offers all, and one to go to, with a device that can follow.
	offers := []string{
		"--address", "skagen.skerryline.example", "--known-address", "192.0.2.77",
		"--route", "10.40.0.0/16", "--dns", "10.40.0.53", "--domain", "inside.skerryline.example",
		"--ikev2-auth", "psk", "--ikev2-psk-file", file("psk", "kelp-harbour-lantern-Tide-4471"),
		"--ikev2-ike", "aes256-sha256-ecp256", "--ikev2-esp", "aes256-sha256-ecp256",
		"--tls-remote", "udp:1194", "--tls-auth", "password", "--tls-cipher", "AES-256-GCM",
		"--tls-authority", file("ca.pem", authority("Harbour")),
		"--tls-control-kind", "crypt", "--tls-control-key", file("control", demoControl),
	}
	run(0, "", append([]string{"gateway", "add", "Skagen"}, offers...)...)
	run(0, "", append([]string{"gateway", "add", "Hirtshals"}, offers...)...)
	run(0, "", "person", "add", "Tora Lind", "--mail", "tora@skerryline.example")
	run(0, "", "account", "add", "t_lind", "--person", "Tora Lind", "--password-file",
		file("password", "Sextant-Marrow-Flint-8802"))
	device := func(name, protocol string) string {
		run(0, "", "device", "add", name, "--person", "Tora Lind", "--platform", "linux",
			"--release", "6", "--encrypted")
		run(0, "", "profile", "add", name, "--gateway", "Skagen", "--protocol", protocol,
			"--password", "saved")
		run(0, "", "build", name+"/Skagen", "--out", t.TempDir()+"/parcel")
		return f.profile(name, "Skagen")
	}
	ike, tls := device("Ike box", "ikev2"), device("Tls box", "tls")
	plan := func(profile string) vpn.Connection {
		p, err := f.client.Plan(t.Context(), profile)
		if err != nil {
			t.Fatal(err)
		}
		return p.Connection
	}
	record := func() api.Gateway {
		page, err := f.client.Gateways.List(t.Context(), client.Query{
			Limit: 1, Filter: map[string]string{"name": "Skagen"},
		})
		if err != nil {
			t.Fatal(err)
		}
		return page.Items[0]
	}
	kept := func() *vpn.Gateway { // with its secrets, past the API
		g, err := store.Gateways.Get(t.Context(), f.store.Read(), record().ID)
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	server := func(address string) func() bool {
		return func() bool { return plan(tls).Server == address }
	}
	var before *vpn.Gateway
	for _, test := range []struct {
		kind   string
		flags  []string
		device string // that changes; the other one needs nothing
		moved  func() bool
		final  func() bool
	}{
		{
			"address", []string{"--address", "nyskagen.skerryline.example"}, "Tls box",
			func() bool {
				return server("nyskagen.skerryline.example")() &&
					slices.ContainsFunc(plan(tls).TLS.Remotes, func(r vpn.Remote) bool {
						return r.Address == "skagen.skerryline.example" // both, where files can
					})
			},
			func() bool { return record().Address == "nyskagen.skerryline.example" },
		},
		{
			"psk", nil, "Ike box",
			func() bool { return strings.HasPrefix(plan(ike).IKEv2.LocalID, "key-") },
			func() bool {
				return kept().Offers.IKEv2.PSK.Reveal() != before.Offers.IKEv2.PSK.Reveal() &&
					strings.HasPrefix(kept().Offers.IKEv2.LocalID, "key-")
			},
		},
		{
			"control-key", nil, "Tls box",
			func() bool { return f.steps("control-key")["Tls box"].State == api.StepHanded },
			func() bool {
				return kept().Offers.TLS.ControlKey.Key.Reveal() !=
					before.Offers.TLS.ControlKey.Key.Reveal()
			},
		},
		{
			"authority", []string{"--authority-file", file("new.pem", authority("Pier"))},
			"Tls box",
			func() bool {
				for cert := range strings.SplitAfterSeq(authority("Pier")+authority("Harbour"),
					"-----END CERTIFICATE-----") {
					if !strings.Contains(plan(tls).Authority, strings.TrimSpace(cert)) {
						return false
					}
				}
				return true
			},
			func() bool { return record().Offers.TLS.Authority == authority("Pier") },
		},
		{
			"port", []string{"--remote", "tcp:443"}, "Tls box",
			func() bool {
				r := plan(tls).TLS.Remotes
				return len(r) == 2 && r[0].Port == 443 && r[1].Port == 1194
			},
			func() bool {
				r := record().Offers.TLS.Remotes
				return len(r) == 1 && r[0].Port == 443
			},
		},
		{
			"proposals", []string{"--ike", "aes256gcm16-prfsha384-ecp384", "--protocol", "ikev2"},
			"Ike box",
			func() bool { return strings.Contains(plan(ike).IKEv2.IKE[0], "ecp384") },
			func() bool {
				return record().Offers.IKEv2.IKE[0] == "aes256gcm16-prfsha384-ecp384"
			},
		},
		{
			"passwords", nil, "Tls box",
			func() bool { return f.steps("passwords")["Tls box"].Need == "run" },
			func() bool {
				list, err := store.Accounts.Where(t.Context(), f.store.Read(), "login = 't_lind'")
				return err == nil && list[0].Password.Reveal() != "Sextant-Marrow-Flint-8802"
			},
		},
	} {
		t.Run(test.kind, func(t *testing.T) {
			before = kept()
			flags := append([]string{"switchover", "add", test.kind, "--kind", test.kind,
				"--gateway", "Skagen"}, test.flags...)
			run(0, "draft", flags...)
			run(1, "a preview of its devices", "switchover", "start", test.kind)
			run(0, "", "switchover", "preview", test.kind)
			if test.kind != "passwords" && test.kind != "control-key" && test.moved() {
				t.Error("its plan has the new value before it is released")
			}
			steps := f.steps(test.kind)
			if steps[test.device].Need != "run" {
				t.Errorf("the preview says %+v", steps[test.device])
			}
			run(0, "running", "switchover", "start", test.kind)
			f.settledJobs()
			if !test.moved() {
				t.Errorf("its plan has not the new value: %+v", f.steps(test.kind)[test.device])
			}
			if _, out, _ := f.run("", "plan", test.device, "Skagen"); !strings.Contains(out,
				"with the new value of the switchover "+test.kind) {
				t.Errorf("the plan does not say by what it has the new value:\n%s", out)
			}
			if after := kept(); test.kind != "passwords" && after.Version != before.Version {
				t.Error("the record has changed before the cut-off")
			}
			var refused *api.Problem
			if _, err := f.client.Switch(t.Context(), f.switchover(test.kind).ID, client.Phase{
				Phase: "cut-off", Holders: 77,
			}); !errors.As(err, &refused) || len(refused.Errors) == 0 ||
				!strings.Contains(refused.Errors[0].Expected, "devices that hold") {
				t.Errorf("a cut-off by somebody who has not seen who holds the old value: %v", err)
			}
			run(0, "closed", "switchover", "cut-off", test.kind, "--yes")
			if !test.final() {
				t.Errorf("the record has not the new value")
			}
			if list, err := f.client.Parcels(t.Context(), f.profile(test.device, "Skagen")); err != nil ||
				list.Items[0].Outdated {
				t.Errorf("after the cut-off, the parcel with the new value is outdated: %v", err)
			}
			if s, err := store.Switchovers.Get(t.Context(), f.store.Read(),
				f.switchover(test.kind).ID); err != nil || s.Next.PSK != nil ||
				s.Next.ControlKey != nil {
				t.Errorf("its secrets are still there: %v", err)
			}
		})
	}
	t.Run("certificate", func(t *testing.T) {
		dir := t.TempDir()
		for _, name := range []string{"first", "second"} {
			run(0, "", "certificate", "bundle", "Skagen", "--authority", "Pier", "--out",
				filepath.Join(dir, name))
		}
		first := filepath.Join(dir, "first", "skagen-chain.pem")
		text, err := os.ReadFile(first)
		if err != nil {
			t.Fatal(err)
		}
		run(0, "draft", "switchover", "add", "Its certificate", "--kind", "certificate", "--gateway",
			"Skagen", "--certificate", first)
		run(0, "", "switchover", "preview", "Its certificate")
		for name, x := range f.steps("Its certificate") {
			if x.Need != "nothing" { // devices know the CA
				t.Errorf("%s needs %q", name, x.Need)
			}
		}
		run(0, "running", "switchover", "start", "Its certificate")
		run(0, "closed", "switchover", "cut-off", "Its certificate", "--yes")
		if !strings.Contains(record().Certificate, strings.TrimSpace(string(text))) {
			t.Error("the record has not the new certificate")
		}
	})
	t.Run("offers", func(t *testing.T) {
		run(0, "", "device", "add", "Free box", "--person", "Tora Lind", "--platform", "linux",
			"--release", "6", "--encrypted")
		run(0, "", "profile", "add", "Free box", "--gateway", "Skagen", "--password", "saved")
		run(0, "", "build", "Free box/Skagen", "--out", t.TempDir()+"/parcel")
		free := f.profile("Free box", "Skagen")
		protocol := func(when string, want vpn.Protocol) {
			t.Helper()
			if p := plan(free).Protocol; p != want {
				t.Errorf("%s it is planned with %s, expected %s", when, p, want)
			}
		}
		protocol("before", vpn.IKEv2)
		run(0, "draft", "switchover", "add", "No IKE", "--kind", "offers", "--gateway", "Skagen",
			"--drop", "ikev2")
		run(0, "", "switchover", "preview", "No IKE")
		for name, need := range map[string]string{
			"Free box": "run", "Ike box": "cannot", "Tls box": "nothing",
		} {
			if x := f.steps("No IKE")[name]; x.Need != need {
				t.Errorf("%s needs %q because of %q, expected %q", name, x.Need, x.Why, need)
			}
		}
		run(0, "running", "switchover", "start", "No IKE")
		f.settledJobs()
		protocol("while it runs,", vpn.TLS)
		run(0, "undone", "switchover", "undo", "No IKE", "--yes")
		protocol("after undoing,", vpn.IKEv2)
		run(0, "", "profile", "remove", "Free box/Skagen", "--yes")
		run(0, "", "device", "remove", "Free box", "--yes")
	})
	t.Run("two at once", func(t *testing.T) {
		for name, flags := range map[string][]string{
			"Their address": {"--kind", "address", "--address", "grenen.skerryline.example"},
			"Their proposals": {"--kind", "proposals", "--ike", "aes256-sha384-ecp384",
				"--esp", "aes256-sha384-ecp384"},
		} {
			run(0, "draft", append([]string{"switchover", "add", name, "--gateway", "Skagen"},
				flags...)...)
			run(0, "", "switchover", "preview", name)
		}
		run(0, "running", "switchover", "start", "Their address")
		f.settledJobs()
		run(0, "running", "switchover", "start", "Their proposals")
		f.settledJobs()
		both := func(when string) {
			t.Helper()
			if c := plan(ike); c.Server != "grenen.skerryline.example" ||
				!slices.Equal(c.IKEv2.IKE, []string{"aes256-sha384-ecp384"}) {
				t.Errorf("%s it is planned with %s and %v", when, c.Server, c.IKEv2.IKE)
			}
		}
		both("while both run,")
		run(0, "closed", "switchover", "cut-off", "Their address", "--yes")
		both("after the first has ended,")
		run(0, "closed", "switchover", "cut-off", "Their proposals", "--yes")
		both("after both have ended,")
		if g := record(); g.Address != "grenen.skerryline.example" ||
			!slices.Equal(g.Offers.IKEv2.IKE, []string{"aes256-sha384-ecp384"}) {
			t.Errorf("on record are %s and %v", g.Address, g.Offers.IKEv2.IKE)
		}
	})
	t.Run("retirement", func(t *testing.T) {
		run(0, "draft", "switchover", "add", "Leave", "--kind", "retirement", "--gateway",
			"Skagen", "--successor", "Hirtshals")
		run(0, "", "gateway", "change", "Hirtshals", "--pool", "10.99.50.0/30")
		run(0, "Hirtshals takes 2 devices", "switchover", "preview", "Leave")
		run(0, "warning: its client address pool has room for 1 client.", "switchover", "preview", "Leave")
		run(0, "running", "switchover", "start", "Leave")
		f.settledJobs()
		if x := f.steps("Leave")["Tls box"]; x.State != api.StepHanded || x.Gateway != "Hirtshals" ||
			x.Tracked == x.ProfileID {
			t.Errorf("it is %+v", x)
		}
		run(0, "undone", "switchover", "undo", "Leave", "--yes")
		if _, err := f.client.Profiles.Show(t.Context(), tls); err != nil {
			t.Errorf("after undoing, the old profile is %v", err)
		}
		page, err := f.client.Profiles.List(t.Context(), query("Tls box"))
		if err != nil || page.Total != 1 {
			t.Errorf("after undoing there are %d profiles (%v)", page.Total, err)
		}
	})
	t.Run("retirement for good", func(t *testing.T) {
		run(0, "draft", "switchover", "add", "Leave now", "--kind", "retirement", "--gateway",
			"Skagen", "--successor", "Hirtshals")
		run(0, "", "switchover", "preview", "Leave now")
		run(0, "running", "switchover", "start", "Leave now")
		f.settledJobs()
		run(1, "is still used by", "gateway", "remove", "Skagen", "--yes")
		run(0, "closed", "switchover", "cut-off", "Leave now", "--yes")
		page, err := f.client.Profiles.List(t.Context(), query("Tls box"))
		if err != nil || page.Total != 1 || page.Items[0].Gateway != "Hirtshals" {
			t.Errorf("its profiles are %+v (%v)", page.Items, err)
		}
		run(0, "removed", "gateway", "remove", "Skagen", "--yes")
		run(0, "closed", "switchover", "board", "Leave now")
		run(0, "closed", "switchover", "board", "psk")
	})
	t.Run("ca-rollover", func(t *testing.T) {
		run(0, "", "authority", "make", "Skerry Line 2")
		run(1, "the CA that is replaced", "switchover", "add", "Roll", "--kind", "ca-rollover",
			"--old-authority", "Skerry Line Authority", "--new-authority", "Skerry Line Authority")
		run(0, "draft", "switchover", "add", "Roll", "--kind", "ca-rollover", "--old-authority",
			"Skerry Line Authority", "--new-authority", "Skerry Line 2")
		run(0, "install a file", "switchover", "preview", "Roll")
		run(0, "running", "switchover", "start", "Roll")
		f.settledJobs()
		certificates, err := f.client.Certificates(t.Context(), client.Query{
			Limit: 100, Search: "Yard laptop", Sort: "-created",
		})
		if err != nil || len(certificates.Items) == 0 ||
			certificates.Items[0].Authority != "Skerry Line 2" {
			t.Errorf("its certificates are %+v (%v)", certificates.Items, err)
		}
		if x := f.steps("Roll")["Yard laptop"]; x.State != api.StepHanded {
			t.Errorf("it is %+v", x)
		}
		run(0, "closed", "switchover", "cut-off", "Roll", "--yes")
		g, err := f.client.Gateways.List(t.Context(), client.Query{
			Limit: 1, Filter: map[string]string{"name": "Brattvik"},
		})
		if err != nil || g.Items[0].Offers.TLS.Authority != authority("Skerry Line 2") {
			t.Errorf("after the cut-off the gateway names %+v (%v)", g.Items[0].Offers.TLS, err)
		}
	})
	t.Run("release", func(t *testing.T) {
		run(0, "draft", "switchover", "add", "Sequoia", "--kind", "release", "--platform", "macos",
			"--release", "15")
		run(0, "", "switchover", "preview", "Sequoia")
		run(0, "running", "switchover", "start", "Sequoia")
		f.settledJobs()
		run(0, "closed", "switchover", "cut-off", "Sequoia", "--yes")
		page, err := f.client.Devices.List(t.Context(), query("Planner Mac 1"))
		if err != nil || page.Items[0].Release != "15" {
			t.Errorf("its release is %v (%v)", page.Items, err)
		}
	})
}

// demoControl is a control-channel key for tests.
var demoControl = "-----BEGIN OpenVPN Static key V1-----\n" +
	strings.Repeat("6bd52c1f9a4470e83b1d5c7a92f0e6d4\n", 16) +
	"-----END OpenVPN Static key V1-----\n"

// TestSwitchoverWaves lets a fleet move in waves: each waits for the one before, links to the old
// value end, people are reminded in their language, and it pauses once too many report a problem.
func TestSwitchoverWaves(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	ctx := t.Context()
	emails, err := simulate.NewMailServer("", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = emails.Close() })
	if err := errors.Join(
		demo.Post(ctx, f.svc, vpn.Mail{
			Server: emails.Host, Port: emails.Port, Authority: emails.Authority,
		}),
		demo.Reach(ctx, f.svc, f.url),
	); err != nil {
		t.Fatal(err)
	}
	run := f.commands()
	run(0, "", "build", "Bridge tablet 1/Norrvik", "--out", t.TempDir()+"/old")
	run(0, "", "handover", "make", "Bridge tablet 1/Norrvik")
	run(0, "draft", "switchover", "add", "Key", "--kind", "psk", "--gateway", "Norrvik", "--wave",
		"bridge", "--wave", "100", "--seen-share", "30", "--report-share", "40", "--remind-days",
		"1", "--mail", "--cut-off", "2027-05-01")
	run(0, "IKEv1 in main mode", "switchover", "preview", "Key")
	id := f.switchover("Key").ID
	run(0, "running", "switchover", "start", "Key")
	f.settledJobs()
	var early, late []string
	for name, x := range f.steps("Key") {
		switch {
		case x.State == api.StepHanded && x.Wave == 1:
			early = append(early, name)
		case x.State == api.StepWaiting && x.Wave == 2:
			late = append(late, name)
		case x.State != api.StepCannot:
			t.Errorf("%s is %+v", name, x)
		}
	}
	if len(early) != 3 || len(late) < 4 {
		t.Fatalf("in the first wave are %v, in the second %v", early, late)
	}
	links, err := f.client.Handovers(ctx, client.Query{
		Limit: 10, Filter: map[string]string{"profile_id": f.profile("Bridge tablet 1", "Norrvik")},
	})
	if err != nil || len(links.Items) != 2 || links.Items[1].State != api.HandoverRecalled {
		t.Errorf("the link to the old key is %+v (%v)", links.Items, err)
	}
	run(1, "0 of 3 devices of wave 1 were seen connected", "switchover", "advance", "Key")

	// One fetches the new parcel and connects: a third is enough for the second wave.
	byProfile := func(name string) string { return f.steps("Key")[name].Tracked }
	made := func(name string) string {
		page, err := f.client.Handovers(ctx, client.Query{
			Limit: 1, Filter: map[string]string{"profile_id": byProfile(name)},
		})
		if err != nil || len(page.Items) == 0 {
			t.Fatalf("no link of %s: %v", name, err)
		}
		return page.Items[0].ID
	}
	note := func(what func(*store.Tx) error) {
		t.Helper()
		if err := f.store.Write(ctx, what); err != nil {
			t.Fatal(err)
		}
	}
	note(func(tx *store.Tx) error { return tx.NoteFetched(ctx, made(early[0])) })
	if x := f.steps("Key")[early[0]]; x.State != api.StepTaken {
		t.Errorf("who has fetched is %+v", x)
	}
	note(func(tx *store.Tx) error { return tx.NoteConnected(ctx, made(early[0])) })
	if err := f.svc.WatchSwitchoversOnce(ctx); err != nil {
		t.Fatal(err)
	}
	f.settledJobs()
	if x := f.steps("Key")[late[0]]; x.Released == nil {
		t.Errorf("the second wave has not begun: %+v", x)
	}

	// Who does not come is reminded, once a day, in their language.
	note(func(tx *store.Tx) error { return backdate(ctx, tx, id) })
	for range 2 {
		if err := f.svc.WatchSwitchoversOnce(ctx); err != nil {
			t.Fatal(err)
		}
	}
	reminded := func() (list []string) {
		for _, e := range emails.Emails() {
			if strings.Contains(e.Subject, "Erinnerung") || strings.Contains(e.Subject, "Reminder") {
				list = append(list, e.To+" "+e.Subject)
			}
		}
		return list
	}
	edda := func(v string) bool { return strings.HasPrefix(v, "edda@skerryline.example Erinnerung") }
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end) &&
		!slices.ContainsFunc(reminded(), edda); {
		time.Sleep(20 * time.Millisecond)
	}
	if list := reminded(); !slices.ContainsFunc(list, edda) || slices.ContainsFunc(list, func(v string) bool {
		return strings.HasPrefix(v, f.steps("Key")[early[0]].Person)
	}) {
		t.Errorf("reminded are %v", list)
	}
	for n := -1; n != len(reminded()); time.Sleep(time.Second) { // all of them
		n = len(reminded())
	}
	sent := len(reminded())
	if err := f.svc.WatchSwitchoversOnce(ctx); err != nil || len(reminded()) != sent {
		t.Errorf("reminded again at once: %d, before %d (%v)", len(reminded()), sent, err)
	}

	// Too many report a problem.
	note(func(tx *store.Tx) error {
		for name, x := range f.steps("Key") {
			if x.Handed == nil {
				continue
			}
			if err := tx.AddReport(ctx, api.Report{
				ProfileID: byProfile(name), Message: "it does not connect", Cause: "unknown",
			}); err != nil {
				return err
			}
		}
		return nil
	})
	if err := f.svc.WatchSwitchoversOnce(ctx); err != nil {
		t.Fatal(err)
	}
	if s := f.switchover("Key"); s.State != vpn.SwitchPaused ||
		!strings.Contains(s.Paused, "report a problem") {
		t.Errorf("it is %s (%s)", s.State, s.Paused)
	}
	run(1, "one that has not begun", "switchover", "remove", "Key", "--yes")
	run(1, "because it has begun", "switchover", "change", "Key", "--wave", "100")
	run(0, "", "switchover", "change", "Key", "--remind-days", "7")
	run(0, "has the new value", "switchover", "confirm", "Key", late[0]+"/Norrvik")
	run(0, "undone", "switchover", "undo", "Key", "--yes")
	plan, err := f.client.Plan(ctx, f.profile("Bridge tablet 1", "Norrvik"))
	if err != nil || plan.Connection.L2TP == nil {
		t.Errorf("after undoing: %+v (%v)", plan.Connection, err)
	}
	run(0, "removed", "switchover", "remove", "Key", "--yes")
}

// backdate lets what was handed over have been two days ago.
func backdate(ctx context.Context, tx *store.Tx, id string) error {
	return tx.Backdate(ctx, id, 48*time.Hour)
}

// TestCalendarFeed subscribes to the calendar: another program reads it (RFC 5545), and its address
// is all that it needs.
func TestCalendarFeed(t *testing.T) {
	t.Parallel()
	f := start(t, true)
	run := f.commands()
	run(0, "Lyngholm", "switchover", "calendar")
	run(0, "draft", "switchover", "add", "Ports; \"old\", new \\ é", "--kind", "offers",
		"--gateway", "Norrvik", "--drop", "pptp", "--cut-off", "2027-02-03")
	for i, release := range []string{"RHEL 10.1", "13"} {
		run(0, "", "device", "add", fmt.Sprintf("Desk %d", i), "--person", "Ada Fjell",
			"--platform", "linux-desktop", "--release", release)
	}
	run(0, "RHEL 10.1: reaches its end of support (devices: 1)", "switchover", "calendar", "--days", "3650")
	address := strings.TrimSpace(run(0, "/calendar/", "switchover", "calendar", "--feed"))
	fetch := func(address string) (int, []byte) {
		t.Helper()
		answer, err := http.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = answer.Body.Close() }()
		data, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, data
	}
	status, data := fetch(address)
	if status != 200 {
		t.Fatalf("%d %s", status, data)
	}
	judge := exec.Command("/usr/bin/python3", "-c", `
import sys, icalendar
c = icalendar.Calendar.from_ical(sys.stdin.buffer.read())
for e in c.walk("VEVENT"):
    assert not e.errors, e.errors
    print(e.decoded("dtstart"), e["summary"], sep="\t")
`)
	judge.Stdin = bytes.NewReader(data)
	out, err := judge.CombinedOutput()
	if strings.Contains(string(out), "No module named") && os.Getenv("CI") != "true" {
		t.Skip("skipped: python3-icalendar is not installed")
	}
	if err != nil || !strings.Contains(string(out),
		"2027-02-03\tPorts; \"old\", new \\ é: protocol change: the old value ends") {
		t.Errorf("%v\n%s\n%s", err, out, data)
	}
	if strings.Contains(f.log.String(), strings.TrimSuffix(filepath.Base(address), ".ics")) {
		t.Error("the address is in the log")
	}
	if status, _ := fetch(strings.Replace(address, ".ics", "x.ics", 1)); status != 404 {
		t.Errorf("another address answers with %d", status)
	}
	run(0, "/calendar/", "switchover", "calendar", "--feed")
	if status, _ := fetch(address); status != 404 {
		t.Errorf("an address in whose place another one is answers with %d", status)
	}
}

// TestSwitchoverRehearsal holds that a wave is rehearsed without being asked, by a profile that can be,
// that the next one waits for it, and that the plan says where the new value comes from.
func TestSwitchoverRehearsal(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		faults []simulate.Fault
		state  api.RehearsalState
		waits  string
	}{
		{[]simulate.Fault{simulate.FaultCertificate}, api.RehearsalFailed, "1 rehearsal of wave 1 has failed"},
		{nil, api.RehearsalPassed, "0 of 4 devices of wave 1 were seen connected"},
	} {
		t.Run(string(test.state), func(t *testing.T) {
			f := start(t, true)
			ctx, run, stand := t.Context(), f.commands(), f.tunnel()
			stand.Break(test.faults...)
			run(0, "draft", "switchover", "add", "Ciphers", "--kind", "proposals", "--gateway", "Brattvik",
				"--protocol", "tls", "--cipher", "AES-256-GCM,CHACHA20-POLY1305", "--wave", "halls",
				"--wave", "100", "--seen-share", "1", "--rehearse")
			run(0, "", "switchover", "preview", "Ciphers")
			run(0, "running", "switchover", "start", "Ciphers")
			f.settledJobs()
			var done []api.Rehearsal
			for end := time.Now().Add(time.Minute); time.Now().Before(end) && len(done) == 0; {
				if err := f.svc.WatchSwitchoversOnce(ctx); err != nil {
					t.Fatal(err)
				}
				page, err := f.client.Rehearsals(ctx, client.Query{Limit: 10})
				if err != nil {
					t.Fatal(err)
				}
				done = slices.DeleteFunc(page.Items, func(r api.Rehearsal) bool {
					return r.State == api.RehearsalRunning
				})
				time.Sleep(50 * time.Millisecond)
			}
			if len(done) != 1 || done[0].State != test.state {
				t.Fatalf("rehearsals are %+v, expected one that has %s", done, test.state)
			}
			run(1, test.waits, "switchover", "advance", "Ciphers")
			run(1, "new value of the switchover Ciphers", "plan", "Hall Mac", "Brattvik")
			if out := run(0, "strongest", "plan", "Master tablet", "Brattvik"); strings.Contains(out, "Ciphers ") {
				t.Errorf("a device of another wave has the new value:\n%s", out)
			}
		})
	}
}
