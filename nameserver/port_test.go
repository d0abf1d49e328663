package nameserver_test

import (
	"context"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"syscall"
	"testing"

	"wardicon/nameserver"
)

const alone = "WARDICON_TWO_PORTS"

// TestAnyPort has a kernel that has two ports to give away, of which one is taken for TCP: the server finds
// the other one.
func TestAnyPort(t *testing.T) {
	if os.Getenv(alone) == "" {
		if os.Getuid() != 0 {
			t.Skip("a network of its own can be made by root only")
		}
		cmd := exec.Command(os.Args[0], "-test.run=^TestAnyPort$")
		cmd.Env = append(os.Environ(), alone+"=1")
		cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		return
	}
	if out, err := exec.Command("ip", "link", "set", "lo", "up").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if err := os.WriteFile("/proc/sys/net/ipv4/ip_local_port_range", []byte("40000 40001"), 0); err != nil {
		t.Fatal(err)
	}
	taken, err := net.Listen("tcp", "127.0.0.1:40000")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = taken.Close() }()
	note := func(context.Context, string, string) error { return nil }
	for range 20 {
		s, err := nameserver.New("look.skerryline.example", "127.0.0.1:0", note, slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		if s.Address() != "127.0.0.1:40001" {
			t.Errorf("it is at %s", s.Address())
		}
		ctx, stop := context.WithCancel(t.Context())
		stop()
		s.Run(ctx)
	}
}
