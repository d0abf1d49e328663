package diagnostics_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wardicon/core/explain"
	"wardicon/core/format/diagnostics"
	"wardicon/core/vpn"
)

func subject() diagnostics.Subject {
	return diagnostics.Subject{
		Connection: vpn.Connection{
			Name:     `Skerry's "Line" $(touch /tmp/owned) Norrvik`,
			Server:   "norrvik.skerryline.example",
			Protocol: vpn.L2TP,
			Tunnel:   vpn.TunnelSplit,
			Routes:   []string{"10.20.0.0/16", "; reboot"},
		},
		BehindNAT: true,
		Hosts:     []string{"timetable.inside.skerryline.example", "$(reboot)"},
	}
}

// TestShell runs the script for Linux: it ends well, changes nothing, runs nothing of the record,
// and what it prints is explained.
func TestShell(t *testing.T) {
	for _, platform := range []vpn.Platform{vpn.Linux, vpn.LinuxDesktop} {
		f, ok := diagnostics.Script(platform, subject())
		if !ok {
			t.Fatal("there is no script")
		}
		for _, bad := range []string{"; reboot", "$(reboot)"} {
			if bytes.Contains(f.Content, []byte(bad)) {
				t.Errorf("%s is in the script", bad)
			}
		}
		cmd := exec.CommandContext(t.Context(), "sh", "-eu", "-s")
		cmd.Dir = t.TempDir()
		tools := t.TempDir()
		for _, name := range []string{"getent", "curl", "ping"} { // nothing is asked on the network
			if err := os.WriteFile(
				filepath.Join(tools, name),
				[]byte("#!/bin/sh\nexit 2\n"),
				0o755,
			); err != nil {
				t.Fatal(err)
			}
		}
		cmd.Env = append(os.Environ(), "PATH="+tools+":"+os.Getenv("PATH"))
		cmd.Stdin = bytes.NewReader(
			bytes.Replace(f.Content, []byte("touch /tmp/owned"), []byte("touch owned"), 1),
		)
		out, err := cmd.CombinedOutput()
		if err != nil || !strings.Contains(string(out), "end of the diagnostics") ||
			!strings.Contains(string(out), "name norrvik.skerryline.example: unresolved") {
			t.Errorf("%v\n%s", err, out)
		}
		if left, _ := exec.Command("ls", cmd.Dir).Output(); len(left) > 0 {
			t.Errorf("it left %s", left)
		}
		r, err := explain.Read(bytes.NewReader(out), time.Now())
		if r.Running.IsZero() || time.Since(r.Running) < 0 {
			t.Errorf("the device runs since %v", r.Running)
		}
		if err != nil || r.First == nil || r.First.Source != explain.Diagnostics {
			t.Errorf("%+v (%v)", r, err)
		}
	}
}

// TestPowerShell holds that every value is a quoted literal, and that other platforms have no
// script.
func TestPowerShell(t *testing.T) {
	f, ok := diagnostics.Script(vpn.Windows, subject())
	if !ok {
		t.Fatal("there is no script")
	}
	text := string(f.Content)
	for _, want := range []string{`Name        = 'Skerry''s "Line" $(touch /tmp/owned) Norrvik'`,
		"BehindNat   = $true", "Services    = @('IKEEXT', 'PolicyAgent', 'RasMan')",
		"Routes      = @('10.20.0.0/16')", "Hosts       = " +
			"@('timetable.inside.skerryline.example')"} {
		if !strings.Contains(text, want+"\r\n") {
			t.Errorf("%s is missing", want)
		}
	}
	for _, changes := range []string{"Set-", "New-", "Remove-", "Start-", "Restart-", "Stop-",
		"Add-", "Import-"} {
		if strings.Contains(strings.ReplaceAll(text, "New-Object ", ""), changes) {
			t.Errorf("it may change something: %s", changes)
		}
	}
	if _, ok := diagnostics.Script(vpn.IOS, subject()); ok {
		t.Error("a phone has a script")
	}
}
