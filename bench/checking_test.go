package bench

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"wardicon/core/filecheck"
	"wardicon/core/format"
	"wardicon/core/format/all"
	"wardicon/core/plan"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/suite"
	"wardicon/core/vpn"
)

// files checks a file of each format: what it is, all connections in it, all rules on each. The
// baseline only parses it and what lies beside it. Secrets are judged once, as they are in a folder
// of files.
func files() error {
	now := time.Date(2026, time.November, 20, 0, 0, 0, 0, time.UTC)
	memo := secret.NewMemo([]byte("key"), 1000)
	for _, codec := range all.Codecs {
		made, err := written(codec)
		if err != nil {
			return err
		}
		var came []filecheck.File
		bytes := 0
		for _, f := range made {
			came = append(came, filecheck.File{Name: f.Name, Data: f.Content})
			bytes += len(f.Content)
		}
		took, baseline := beside(
			func() { filecheck.Check(came, filecheck.Options{Now: now, Judge: memo.Judge}) },
			parser(made),
		)
		row(fmt.Sprintf("check: %s (%d a second)", codec.Name, time.Second/took), took, baseline)
	}
	return nil
}

// parser reads each file by the format that it has.
func parser(files []format.File) func() {
	beside := format.Files(files)
	codecs := make([]*format.Codec, len(files))
	for i, f := range files {
		codecs[i], _ = filecheck.Sniff(f.Name, f.Content)
	}
	return func() {
		for i, f := range files {
			if codecs[i] != nil {
				codecs[i].Read(f.Name, f.Content, beside)
			}
		}
	}
}

// written makes the files of a format for the first release that takes it.
func written(codec format.Codec) ([]format.File, error) {
	for _, p := range codec.Protocols {
		for _, r := range platform.Table {
			if !slices.Contains(r.Can[p].Formats, codec.Name) {
				continue
			}
			in := input(r.Platform, r.Releases[0])
			in.Gateway.Offers = vpn.Offers{
				L2TP: in.Gateway.Offers.L2TP,
				IKEv2: &vpn.IKEv2Offer{
					Auth: []vpn.IKEv2Auth{vpn.IKEv2MSCHAPv2},
					IKE:  []string{"aes256-sha256-modp2048"},
					ESP:  []string{"aes256-sha256-modp2048"},
				},
				SSTP: &vpn.SSTPOffer{PPP: []suite.PPPMethod{suite.MSCHAPv2}},
				TLS: &vpn.TLSOffer{
					Remotes:    []vpn.Remote{{Port: 1194, Transport: vpn.UDP}},
					Auth:       []vpn.TLSAuth{vpn.TLSPassword},
					Ciphers:    []string{"AES-256-GCM"},
					TLSOptions: vpn.TLSOptions{Digest: "SHA256"},
				},
			}
			in.Profile.Preferences = vpn.Preferences{Protocol: p, Format: string(codec.Name)}
			if files, err := codec.Write(plan.Make(in).Connection); err == nil {
				return files, nil
			}
		}
	}
	return nil, fmt.Errorf("%s: no release could be written for", codec.Name)
}

// hostile runs the program on files that mean harm, and prints the seconds for each megabyte
// (of a whole one at least) and the most memory that it ever had.
func hostile() error {
	dir, err := os.MkdirTemp("", "wardicon-bench")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	fmt.Printf("\n%-44s %12s %14s %8s\n", "hostile file", "size", "seconds a MB", "memory")
	line := func(text string, size int) []byte { return bytes.Repeat([]byte(text), size/len(text)) }
	const most = format.MaxFile - 4096
	profile := `<plist version="1.0"><dict><key>PayloadType</key><string>Configuration</string>` +
		`<key>PayloadContent</key><array>`
	payload := `<dict><key>PayloadType</key><string>com.apple.vpn.managed</string><key>` +
		`VPNType</key><string>L2TP</string></dict>`
	wide := utf16.Encode([]rune("\uFEFF" + strings.Repeat("[vpn]\na=b\n", most/24)))
	narrow := make([]byte, 0, 2*len(wide))
	for _, u := range wide {
		narrow = append(narrow, byte(u), byte(u>>8))
	}
	bomb, err := zipped(1, bytes.Repeat([]byte("a"), 200<<20))
	if err != nil {
		return err
	}
	nested, err := zipped(50, bomb)
	if err != nil {
		return err
	}
	crowd, err := zipped(
		3900,
		[]byte(
			"[connection]\nid=a\ntype=vpn\n[vpn]\n"+
				"service-type=org.freedesktop.NetworkManager.l2tp\ngateway=a.example\nuser=a\n",
		),
	)
	if err != nil {
		return err
	}
	var faults error
	for _, f := range []struct {
		name, title string
		data        []byte
	}{
		{"a.ovpn", "200 MB in one line", line("a", 200<<20)},
		{"b.ovpn", "remotes without end", line("remote a.example 1194\n", most)},
		{"c.nmconnection", "one key again and again", line("[vpn]\na=b\n", most)},
		{"d.conf", "sections inside sections", append([]byte("connections {\n"),
			line("a {\n", most)...)},
		{"e.conf", "thousands of connections",
			append(append([]byte("connections {\n"),
				line("a {\nversion=2\nremote_addrs=a\n}\n", 140_000)...), '}', '\n')},
		{"f.mobileconfig", "arrays inside arrays",
			append([]byte("<plist>"), line("<array>", most)...)},
		{"g.mobileconfig", "connections without end",
			append(append([]byte(profile), line(payload, most-400)...),
				"</array></dict></plist>"...)},
		{"h.mobileconfig", "entities",
			[]byte(`<!DOCTYPE plist [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;&a;">]><plist><string>` +
				`&b;</string></plist>`)},
		{"i.mobileconfig", "broken base64",
			append(append([]byte(profile+"<dict><key>PayloadContent</key><data>"),
				line("*A", most-400)...), "</data></dict></array></dict></plist>"...)},
		{"j.xml", "attributes without end",
			append(append([]byte("<VPNProfile "), line(`a="b" `, most)...), "/>"...)},
		{"k.sswan", "objects inside objects", line(`{"remote":`, most)},
		{"l.onc", "numbers without end", append(append([]byte(`{"a":[`), line("0,", most)...),
			"0]}"...)},
		{"m.nmconnection", "UTF-16", narrow},
		{"n.pem", "blocks without end", line("-----BEGIN X-----\nAAAA\n-----END X-----\n", most)},
		{"o.ps1", "passwords without end", line("rasdial a b c\n", most)},
		{"p.zip", "archive that grows by 1,000", bomb},
		{"q.zip", "such archives in an archive", nested},
		{"r.zip", "3,900 files in an archive", crowd},
	} {
		name := filepath.Join(dir, f.name)
		if err := os.WriteFile(name, f.data, 0o600); err != nil {
			return err
		}
		took, memory, err := watched("../bin/wardicon", "check", name)
		faults = errors.Join(faults, err)
		megabytes := float64(len(f.data)) / (1 << 20)
		fmt.Printf(
			"%-44s %9.1f MB %14.2f %5.0f MB\n",
			f.title,
			megabytes,
			took.Seconds()/max(1, megabytes),
			memory,
		)
	}
	fmt.Println()
	return faults
}

func zipped(n int, data []byte) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := range n {
		w, err := z.Create(fmt.Sprintf("%d.zip", i))
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(data); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return b.Bytes(), err
}

// watched runs a program and looks every few milliseconds how much memory it has had at the
// most, in MB.
func watched(program string, args ...string) (took time.Duration, memory float64, err error) {
	cmd := exec.Command(program, args...)
	begin := time.Now()
	if err := cmd.Start(); err != nil {
		return 0, 0, err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for {
		select {
		case err := <-ended:
			var exit *exec.ExitError
			if errors.As(err, &exit) && exit.ExitCode() == 1 { // it found something
				err = nil
			}
			return time.Since(begin), memory, err
		case <-time.After(2 * time.Millisecond):
			status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
			_, rest, _ := strings.Cut(string(status), "VmHWM:")
			if fields := strings.Fields(rest); len(fields) > 0 {
				if kb, err := strconv.ParseFloat(fields[0], 64); err == nil {
					memory = max(memory, kb/1024)
				}
			}
		}
	}
}
