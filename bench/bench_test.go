// Package bench prints how long Wardicon's work takes, each figure as a ratio to a
// baseline that is measured in the same run: the bare encoding and cryptography in it,
// bare SQL, bare parsing, the bare start of a process. It runs by make bench only.
package bench

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/chacha20poly1305"

	"wardicon/console"
	"wardicon/core/card"
	"wardicon/core/check"
	"wardicon/core/explain"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
	"wardicon/demo"
	"wardicon/service"
	"wardicon/store"
)

func TestMain(m *testing.M) {
	if os.Getenv("WARDICON_BENCH") == "" {
		os.Exit(m.Run())
	}
	if err := run(os.Getenv("WARDICON_BENCH_ONLY")); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// run measures all, or the one part that is named.
func run(only string) error {
	fmt.Printf("%-44s %12s %14s %8s\n", "work", "time", "baseline", "ratio")
	var faults error
	known := false
	for _, part := range []struct {
		name    string
		measure func() error
	}{
		{"profiles", profiles},
		{"files", files},
		{"hostile", hostile},
		{"certificates", certificates},
		{"rechecks", rechecks},
		{"growth", growth},
		{"imports", imports},
		{"starts", starts},
		{"logs", logs},
		{"rehearsals", rehearsals},
		{"sizes", sizes},
		{"console", pageScripts},
		{"year", year}, // takes long: only by its name
	} {
		if only == "" && part.name != "year" || only == part.name {
			known = true
			faults = errors.Join(faults, part.measure())
		}
	}
	if !known {
		return fmt.Errorf("no part of the benchmarks is named %q", only)
	}
	return faults
}

func row(work string, took, baseline time.Duration) {
	fmt.Printf(
		"%-44s %12s %14s %8.1f\n",
		work,
		took.Round(100*time.Nanosecond),
		baseline.Round(100*time.Nanosecond),
		float64(took)/float64(baseline),
	)
}

func measure(do func()) time.Duration {
	return time.Duration(testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			do()
		}
	}).NsPerOp())
}

// beside measures work and its baseline in turns, so that both meet the same machine, and takes the
// median of the rounds of each.
func beside(work, baseline func()) (took, base time.Duration) {
	const rounds, long = 15, 70 * time.Millisecond
	var times [2][]time.Duration
	for range rounds {
		for i, do := range []func(){work, baseline} {
			n, begin := 0, time.Now()
			for time.Since(begin) < long || n == 0 {
				do()
				n++
			}
			times[i] = append(times[i], time.Since(begin)/time.Duration(n))
		}
	}
	slices.Sort(times[0])
	slices.Sort(times[1])
	return times[0][rounds/2], times[1][rounds/2]
}

func input(p vpn.Platform, release string) plan.Input {
	psk, password := secret.New(
		"halyard-58-Cormorant-shingle-27-thrift",
	), secret.New(
		"dune-45-Tangerine-flint-moss",
	)
	g := vpn.Gateway{
		Meta: vpn.Meta{
			ID: "gw-1",
		},
		Name:    "Norrvik",
		Address: "norrvik.skerryline.example",
		SignIn:  vpn.SignIn{Form: vpn.LoginAtRealm, Realm: "crew.skerryline.example"},
		DNS: []string{
			"10.20.0.53",
		},
		Domains: []string{"inside.skerryline.example"},
		Routes:  []string{"10.20.0.0/16"},
		Pool:    []string{"10.99.20.0/24"},
		Offers: vpn.Offers{
			L2TP: &vpn.L2TPOffer{
				PSK: &psk,
				PPP: []suite.PPPMethod{suite.MSCHAPv2},
				IKE: []string{"aes256-sha256-modp2048", "aes256-sha1-modp2048"},
				ESP: []string{"aes256-sha256", "aes256-sha1"},
			},
		},
	}
	return plan.Input{
		Organisation: vpn.Organisation{
			Name:   "Skerry Line",
			Domain: "skerryline.example",
		},
		Profile: vpn.Profile{Meta: vpn.Meta{ID: "pr-1"}},
		Gateway: g,
		Person: vpn.Person{
			Name: "Ines Moreau",
		},
		Accounts: []vpn.Account{
			{Meta: vpn.Meta{ID: "ac-1"}, Login: "i_moreau", Password: &password},
		},
		Device: vpn.Device{
			Name:      "Engine laptop 1",
			Platform:  p,
			Release:   release,
			Encrypted: true,
		},
	}
}

// profiles plans, checks, builds and seals one profile; the baseline encodes and seals
// the same files.
func profiles() error {
	key := make([]byte, chacha20poly1305.KeySize)
	_, _ = rand.Read(key)
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return err
	}
	seal := func(content []byte) {
		nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(content)+aead.Overhead())
		_, _ = rand.Read(nonce)
		aead.Seal(nonce, nonce, content, []byte("parcel"))
	}
	memo := secret.NewMemo(key, 1000)
	for _, of := range []struct {
		platform vpn.Platform
		release  string
	}{{vpn.IOS, "17"}, {vpn.Windows, "11"}, {vpn.LinuxDesktop, "1.42"}} {
		in := input(of.platform, of.release)
		p := plan.Make(in)
		codec, _ := all.ByName(p.Format)
		files, err := codec.Write(p.Connection)
		if err != nil {
			return err
		}
		c := card.Make(in, p, files, false)
		took, baseline := beside(func() {
			p := plan.Make(in)
			s := check.Planned(in, p, nil)
			s.Judge = memo.Judge
			check.Run(s)
			files, _ := p.Files()
			c := card.Make(in, p, files, false)
			page, _ := c.HTML()
			for _, f := range files {
				seal(f.Content)
			}
			seal(page)
			seal(c.Text())
		}, func() {
			files, _ := codec.Write(p.Connection)
			page, _ := c.HTML()
			for _, f := range files {
				seal(f.Content)
			}
			seal(page)
			seal(c.Text())
		})
		row(fmt.Sprintf("plan, check, build, seal: %s", codec.Name), took, baseline)
	}
	if err := mixed(seal); err != nil {
		return err
	}
	in := input(vpn.LinuxDesktop, "1.42")
	s := check.Planned(in, plan.Make(in), nil)
	s.Judge = memo.Judge
	first, again := beside(
		func() { s := *s; s.Judge = nil; check.Run(&s) },
		func() { s := *s; check.Run(&s) },
	)
	row("check with secrets judged for the first time", first, again)
	return nil
}

// mixed builds a parcel for each of 1,000 devices of all platforms and releases by all
// protocols: plan, check, files, cards, the sheet for paper, and sealing. The baseline
// only encodes and seals what came out.
func mixed(seal func([]byte)) error {
	memo := secret.NewMemo([]byte("key"), 1000)
	var inputs []plan.Input
	for i := range 1000 {
		row := platform.Table[i%len(platform.Table)]
		in := input(row.Platform, row.Releases[i%len(row.Releases)])
		in.Profile.ID, in.Device.ID = fmt.Sprintf("pr-%d", i), fmt.Sprintf("de-%d", i)
		in.Gateway.Offers.IKEv2 = &vpn.IKEv2Offer{
			Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
			IKE:  []string{"aes256-sha256-modp2048"},
			ESP:  []string{"aes256-sha256-modp2048"},
		}
		in.Gateway.Offers.SSTP = &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}}
		in.Gateway.Offers.PPTP = &vpn.PPTPOffer{
			PPP:  []suite.PPPMethod{suite.MSCHAPv2},
			MPPE: []suite.MPPE{"128"},
		}
		in.Gateway.Offers.TLS = &vpn.TLSOffer{
			Remotes:    []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
			Auth:       []vpn.TLSAuth{vpn.TLSPassword},
			Ciphers:    []string{"AES-256-GCM"},
			TLSOptions: vpn.TLSOptions{Digest: "SHA256"},
		}
		// Every device begins with another protocol; what it does not have is passed over.
		in.Pattern.Protocols = slices.Concat(vpn.Protocols[i%5:], vpn.Protocols[:i%5])
		inputs = append(inputs, in)
	}
	kinds := map[string]int{}
	begin := time.Now()
	for _, in := range inputs {
		p := plan.Make(in)
		s := check.Planned(in, p, nil)
		s.Judge = memo.Judge
		check.Run(s)
		if err := parcel(in, p, seal, true); err != nil {
			return err
		}
		kinds[string(p.Connection.Protocol)+" "+string(p.Format)]++
	}
	took := time.Since(begin) / 1000
	plans := make([]plan.Plan, len(inputs))
	for i, in := range inputs {
		plans[i] = plan.Make(in)
	}
	begin = time.Now()
	for i, in := range inputs {
		if err := parcel(in, plans[i], seal, true); err != nil {
			return err
		}
	}
	encoding := time.Since(begin) / 1000
	row(fmt.Sprintf("a device out of 1,000 (%d kinds), with sheet", len(kinds)), took, encoding)
	begin = time.Now()
	for _, in := range inputs {
		p := plan.Make(in)
		s := check.Planned(in, p, nil)
		s.Judge = memo.Judge
		check.Run(s)
		if err := parcel(in, p, seal, false); err != nil {
			return err
		}
	}
	took = time.Since(begin) / 1000
	begin = time.Now()
	for i, in := range inputs {
		if err := parcel(in, plans[i], seal, false); err != nil {
			return err
		}
	}
	row("the same without the sheet for paper", took, time.Since(begin)/1000)
	return nil
}

// parcel encodes and seals all that a device gets.
func parcel(in plan.Input, p plan.Plan, seal func([]byte), sheet bool) error {
	var files []format.File
	if codec, ok := all.ByName(p.Format); ok && p.Ability.Support.Usable() {
		made, err := codec.Write(p.Connection)
		if err != nil {
			return err
		}
		files = made
	}
	c := card.Make(in, p, files, false)
	page, err := c.HTML()
	if err != nil {
		return err
	}
	for _, f := range files {
		seal(f.Content)
	}
	seal(page)
	seal(c.Text())
	if !sheet {
		return nil
	}
	paper, err := c.PDF()
	if err != nil {
		return err
	}
	seal(paper)
	return nil
}

// rechecks checks every profile of the sample data again, as after a change of the records, and as
// after a change of the organisation's name, against which every secret is judged anew; the
// baseline plans and checks one without the records being read.
func rechecks() error {
	ctx := context.Background()
	s, dir, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	svc := service.New(s, slog.New(slog.DiscardHandler), time.Now)
	if err := demo.Load(ctx, svc); err != nil {
		return err
	}
	n, turn := 0, 0
	in := input(vpn.LinuxDesktop, "1.42")
	memo := secret.NewMemo([]byte("key"), 1000)
	again := func(change func() error) func() {
		return func() {
			turn++
			err1 := change()
			checked, err2 := svc.CheckAll(ctx)
			if err = errors.Join(err, err1, err2); err == nil {
				n = checked
			}
		}
	}
	touch := again(func() error {
		return s.Write(ctx, func(tx *store.Tx) error { return tx.TouchProfiles(ctx, "1") })
	})
	rename := again(func() error {
		_, err := svc.SetOrganisation(ctx, vpn.Organisation{
			Name: fmt.Sprintf("Skerry Line %d", turn), Domain: "skerryline.example",
		})
		return err
	})
	alone := func() {
		subject := check.Planned(in, plan.Make(in), nil)
		subject.Judge = memo.Judge
		check.Run(subject)
	}
	for _, of := range []struct {
		what string
		do   func()
	}{{"check a kept profile again", touch}, {"  after the organisation was renamed", rename}} {
		took, baseline := beside(of.do, alone)
		if err != nil || n == 0 {
			return fmt.Errorf("%d profiles checked: %w", n, err)
		}
		row(fmt.Sprintf("%s (%d at once)", of.what, n), took/time.Duration(n), baseline)
	}
	return s.Close()
}

// scratch opens a store in a new folder.
func scratch(ctx context.Context) (*store.Store, string, error) {
	dir, err := os.MkdirTemp("", "wardicon-bench-")
	if err != nil {
		return nil, "", err
	}
	s, err := store.Open(ctx, dir, store.Key{}, time.Now)
	return s, dir, err
}

// starts times the service from its start to its first answer, on the sample data; the
// baseline starts the same program to print its version.
func starts() error {
	ctx := context.Background()
	s, dir, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	if err := errors.Join(
		demo.Load(ctx, service.New(s, slog.New(slog.DiscardHandler), time.Now)),
		s.Close(),
	); err != nil {
		return err
	}
	var took, baseline []time.Duration
	for range 7 {
		begin := time.Now()
		if err := exec.Command(program, "--version").Run(); err != nil {
			return fmt.Errorf("%s: %w; run make build first", program, err)
		}
		baseline = append(baseline, time.Since(begin))
		t, err := startTime(dir)
		if err != nil {
			return err
		}
		took = append(took, t)
	}
	slices.Sort(took)
	slices.Sort(baseline)
	row("start to first answer (median of 7)", took[3], baseline[3])
	return nil
}

const program = "../bin/wardicon"

// startTime is how long a service takes from its start to its first answer.
func startTime(dir string) (took time.Duration, err error) {
	begin := time.Now()
	err = served(dir, func(string) error {
		took = time.Since(begin)
		return nil
	})
	return took, err
}

// served starts the service on a folder, does something with its address once it answers, and stops it.
func served(dir string, do func(address string) error) error {
	const address = "127.0.0.1:17481"
	cmd := exec.Command(program, "serve", "--data", dir, "--listen", address)
	begin := time.Now()
	if err := cmd.Start(); err != nil {
		return err
	}
	for {
		res, err := http.Get("http://" + address + "/ready")
		if err == nil {
			_ = res.Body.Close()
			break
		}
		if time.Since(begin) > 20*time.Second {
			return err
		}
		time.Sleep(2 * time.Millisecond)
	}
	err := do("http://" + address)
	_ = cmd.Process.Signal(os.Interrupt)
	if stopped := cmd.Wait(); stopped != nil {
		err = errors.Join(err, fmt.Errorf("the service did not stop well: %w", stopped))
	}
	return err
}

var asset = regexp.MustCompile(`(?:src|href)="(/assets/[^"]+)"`)

// sizes prints what a browser loads first, compressed, and the size of the program.
func sizes() error {
	dist := console.Dist()
	index, err := fs.ReadFile(dist, "index.html")
	if err != nil {
		return fmt.Errorf("the console is not built: %w", err)
	}
	names := []string{"index.html"}
	for _, m := range asset.FindAllStringSubmatch(string(index), -1) {
		names = append(names, strings.TrimPrefix(m[1], "/"))
	}
	// The overview is the first page, and its parts come with it.
	for _, part := range []string{"Overview-", "PageHead-", "TallyTags-", "Notice-"} {
		found, err := fs.Glob(dist, "assets/"+part+"*.js")
		if err != nil {
			return err
		}
		names = append(names, found...)
	}
	total := 0
	for _, name := range names {
		data, err := fs.ReadFile(dist, name)
		if err != nil {
			return err
		}
		var out bytes.Buffer
		w := gzip.NewWriter(&out)
		if _, err := io.Copy(w, bytes.NewReader(data)); err != nil {
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
		total += out.Len()
	}
	info, err := os.Stat(filepath.Join("..", "bin", "wardicon"))
	if err != nil {
		return err
	}
	fmt.Printf(
		"\nconsole's first load: %d files, %.1f KB compressed\nprogram: %.1f MB\n",
		len(names),
		float64(total)/1000,
		float64(info.Size())/1e6,
	)
	return nil
}

// logs reads a log of 64 MB in which one line of 200 says something; the baseline is reading its
// lines.
func logs() error {
	quiet := strings.Repeat(
		"Nov 21 12:00:00 halyard kernel: [ 1234.567890] eth0: link is up, 1000 Mbps, full duplex\n",
		199,
	)
	text := []byte(
		strings.Repeat(
			quiet+"Nov 21 12:00:01 halyard charon: 05[IKE] received NO_PROPOSAL_CHOSEN notify "+
				"error\n",
			64<<20/len(quiet),
		),
	)
	var fault error
	took, baseline := beside(func() {
		r, err := explain.Read(bytes.NewReader(text), time.Now())
		if fault = errors.Join(fault, err); r.First == nil {
			fault = errors.Join(fault, errors.New("nothing was found in the log"))
		}
	}, func() {
		lines, n := bufio.NewScanner(bytes.NewReader(text)), 0
		for lines.Scan() {
			n += len(lines.Bytes())
		}
		fault = errors.Join(fault, lines.Err())
	})
	row(
		fmt.Sprintf("read a log (%.0f MB/s) / plain lines", float64(len(text))/1e6/took.Seconds()),
		took,
		baseline,
	)
	return fault
}
