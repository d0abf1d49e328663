package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"wardicon/cli"
)

// TestSelfMadeTLS starts a service with a certificate of its own making: known by its file and by
// nothing else, the same after a restart, another one where another name is wanted. An owner who is
// lost is recovered on the data folder.
func TestSelfMadeTLS(t *testing.T) {
	t.Parallel()
	dir := setUp(t)
	config := t.TempDir()
	run := func(code int, want, stdin, service string, args ...string) string {
		t.Helper()
		var out, errs bytes.Buffer
		got := cli.Run(
			args,
			cli.Streams{
				In:  strings.NewReader(stdin),
				Out: &out,
				Err: &errs,
				Env: func(name string) string {
					return map[string]string{
						"XDG_CONFIG_HOME":  config,
						"WARDICON_SERVICE": service,
					}[name]
				},
			},
		)
		if got != code || !strings.Contains(out.String()+errs.String(), want) {
			t.Errorf(
				"%s ended with %d, expected %d and %q\n%s%s",
				strings.Join(args, " "),
				got,
				code,
				want,
				out.String(),
				errs.String(),
			)
		}
		return out.String()
	}
	file := filepath.Join(dir, "tls-certificate.pem")
	made := func() string {
		t.Helper()
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	p := serve(t, dir, "--tls-self", "127.0.0.1,localhost")
	if !strings.HasPrefix(p.url, "https://127.0.0.1:") {
		t.Fatalf("it listens at %s", p.url)
	}
	for _, name := range []string{"tls-key.pem", "tls-certificate.pem"} {
		if info, err := os.Stat(
			filepath.Join(dir, name),
		); err != nil ||
			info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v (%v)", name, info.Mode(), err)
		}
	}
	first := made()
	run(
		3,
		"certificate",
		ownerPassword+"\n",
		p.url,
		"me",
		"sign-in",
		"--name",
		"owner",
		"--password-file",
		"-",
	)
	run(
		2,
		"--authority",
		ownerPassword+"\n",
		p.url,
		"me",
		"sign-in",
		"--name",
		"owner",
		"--password-file",
		"-",
		"--authority",
		filepath.Join(dir, "wardicon.db"),
	)
	run(
		0,
		"signed in",
		ownerPassword+"\n",
		p.url,
		"me",
		"sign-in",
		"--name",
		"owner",
		"--password-file",
		"-",
		"--authority",
		file,
	)
	run(0, "owner", "", p.url, "me", "show")
	code, log := p.stop(syscall.SIGTERM)
	if code != 0 || !strings.Contains(log, `"sha256":"`) || strings.Contains(log, "PRIVATE") {
		t.Errorf("ended with %d:\n%s", code, log)
	}

	out := run(
		0,
		"signs in for the first time",
		"",
		"",
		"operator",
		"reset",
		"owner",
		"--data",
		dir,
	)
	password := strings.Fields(out[strings.Index(out, "with"):])[1]
	p = serve(t, dir, "--tls-self", "127.0.0.1")
	if made() != first {
		t.Error("another certificate after a restart")
	}
	run(
		1,
		"is wrong",
		ownerPassword+"\n",
		p.url,
		"me",
		"sign-in",
		"--name",
		"owner",
		"--password-file",
		"-",
		"--authority",
		file,
	)
	run(
		0,
		"signed in",
		password+"\n",
		p.url,
		"me",
		"sign-in",
		"--name",
		"owner",
		"--password-file",
		"-",
		"--authority",
		file,
	)
	run(1, "change it first", "", p.url, "operator", "list")
	p.stop(syscall.SIGTERM)

	p = serve(t, dir, "--tls-self", "127.0.0.1,vpn.skerryline.example")
	if made() == first {
		t.Error("the same certificate for another name")
	}
	p.stop(syscall.SIGTERM)
	cmd := command("serve", "--data", dir, "--listen", "127.0.0.1:0", "--tls-self", "a b")
	if out, _ := cmd.CombinedOutput(); cmd.ProcessState.ExitCode() != 1 ||
		!strings.Contains(string(out), `found "a b"`) {
		t.Errorf("a name that is none: %s", out)
	}
}
