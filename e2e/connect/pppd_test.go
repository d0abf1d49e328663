package connect

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	session "wardicon/core/session/ppp"
	"wardicon/core/suite"
	"wardicon/core/wire/ppp"
)

// The kernel of a test machine may have no PPP, and then pppd cannot run. This is what stands
// in its place in a device's box: it reads options as pppd(8) says they are written, runs
// the command below the link, speaks PPP, and brings up a network interface.

const insidePPPD = "WARDICON_PPPD"

func TestMain(m *testing.M) {
	if os.Getenv(insidePPPD) != "" {
		if err := pppd(os.Args[1:]); err != nil {
			fmt.Fprintln(os.Stderr, "pppd:", err)
			os.Exit(1)
		}
		return
	}
	if at := os.Getenv(insideHost); at != "" {
		serveInside(at)
		return
	}
	if at := os.Getenv(insideNames); at != "" {
		serveNames(at)
		return
	}
	if parcel := os.Getenv(insideRehearsal); parcel != "" {
		if err := serveRehearsal(parcel); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if bundle := os.Getenv(insideSSTP); bundle != "" {
		if err := serveSSTP(bundle); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	code := m.Run()
	if err := matrix(); err != nil && code == 0 {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

// simulatedPPPD puts it into a box.
func (b *box) simulatedPPPD() {
	b.t.Helper()
	b.write("/run/pppd", 0o755, "#!/bin/sh\nexec env "+insidePPPD+"=1 "+os.Args[0]+" \"$@\"\n")
	b.run("mount", "--bind", "/run/pppd", "/usr/sbin/pppd")
}

// pppOptions are what is read of a file of options.
type pppOptions struct {
	user, password, pty, ipparam, line string
	refused                            []string
	require                            []string
	split                              bool
	noauth                             bool
}

// pppWords splits a line of options (pppd(8), OPTIONS FILES).
func pppWords(line string) (words []string, err error) {
	var b strings.Builder
	in, quoted := false, byte(0)
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case c == '\\':
			if i++; i == len(line) {
				return nil, errors.New("a backslash at the end")
			}
			b.WriteByte(line[i])
			in = true
		case quoted != 0 && c == quoted:
			quoted = 0
		case quoted != 0:
			b.WriteByte(c)
		case c == '"' || c == '\'':
			quoted, in = c, true
		case c == '#' && !in:
			return words, nil
		case c == ' ' || c == '\t':
			if in {
				words = append(words, b.String())
				b.Reset()
				in = false
			}
		default:
			b.WriteByte(c)
			in = true
		}
	}
	if quoted != 0 {
		return nil, errors.New("a quote that does not end")
	}
	if in {
		words = append(words, b.String())
	}
	return words, nil
}

func (o *pppOptions) file(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	for line := range strings.SplitSeq(string(text), "\n") {
		words, err := pppWords(line)
		if err != nil {
			return fmt.Errorf("%s: %s: %w", path, line, err)
		}
		if err := o.take(words); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
	}
	return nil
}

// take takes options; one that pppd does not know is an error, as it is there.
func (o *pppOptions) take(words []string) error {
	for len(words) > 0 {
		name := words[0]
		words = words[1:]
		with := map[string]*string{
			"user":     &o.user,
			"password": &o.password,
			"pty":      &o.pty,
			"ipparam":  &o.ipparam,
		}
		if to := with[name]; to != nil ||
			slices.Contains(
				[]string{
					"file",
					"call",
					"mtu",
					"mru",
					"plugin",
					"sstp-sock",
					"linkname",
					"lcp-echo-interval",
					"lcp-echo-failure",
					"maxfail",
					"holdoff",
					"plugin",
				},
				name,
			) {
			if len(words) == 0 {
				return fmt.Errorf("%s without a value", name)
			}
			value := words[0]
			words = words[1:]
			switch {
			case to != nil:
				*to = value
			case name == "file":
				if err := o.file(value); err != nil {
					return err
				}
			case name == "call":
				if err := o.file("/etc/ppp/peers/" + value); err != nil {
					return err
				}
			}
			continue
		}
		switch {
		case strings.HasPrefix(name, "refuse-"):
			o.refused = append(o.refused, strings.TrimPrefix(name, "refuse-"))
		case strings.HasPrefix(name, "require-mppe"):
			o.require = append(o.require, name)
		case strings.HasPrefix(name, "/dev/"):
			o.line = name
		case name == "nodefaultroute":
			o.split = true
		case name == "noauth":
			o.noauth = true
		case strings.Contains(name, ":"),
			slices.Contains([]string{"defaultroute", "replacedefaultroute", "usepeerdns",
				"nodetach", "persist", "passive", "debug", "sync", "mppe-stateful", "noipdefault",
				"nobsdcomp", "nodeflate", "noccp", "novj", "noipv6"}, name):
		default:
			return fmt.Errorf("unrecognized option '%s'", name)
		}
	}
	return nil
}

func (o *pppOptions) methods() (list []suite.PPPMethod) {
	for option, method := range map[string]suite.PPPMethod{
		"mschap-v2": suite.MSCHAPv2,
		"chap":      suite.CHAP,
		"pap":       suite.PAP,
	} {
		if !slices.Contains(o.refused, option) {
			list = append(list, method)
		}
	}
	slices.SortFunc(list, func(a, b suite.PPPMethod) int {
		return slices.Index(suite.PPPMethods, a) - slices.Index(suite.PPPMethods, b)
	})
	return list
}

// terminal opens a pair of a pseudo terminal, raw as pppd sets its lines.
func terminal() (master, slave *os.File, err error) {
	if master, err = os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0); err != nil {
		return nil, nil, err
	}
	if err := unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0); err != nil {
		return nil, nil, err
	}
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	if err != nil {
		return nil, nil, err
	}
	if slave, err = os.OpenFile(
		fmt.Sprintf("/dev/pts/%d", n),
		os.O_RDWR|syscall.O_NOCTTY,
		0,
	); err != nil {
		return nil, nil, err
	}
	return master, slave, raw(slave)
}

func raw(f *os.File) error {
	t, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS)
	if err != nil {
		return err
	}
	t.Iflag, t.Oflag, t.Lflag = 0, 0, 0
	t.Cflag |= unix.CS8 | unix.CREAD | unix.CLOCAL
	t.Cc[unix.VMIN], t.Cc[unix.VTIME] = 1, 0
	return unix.IoctlSetTermios(int(f.Fd()), unix.TCSETS, t)
}

// pppd is the whole program.
func pppd(args []string) error {
	o := &pppOptions{}
	if err := o.take(args); err != nil {
		return err
	}
	if !o.noauth {
		return errors.New("the peer is not authenticated, and noauth is not there")
	}
	say := func(format string, args ...any) {
		fmt.Fprintf(os.Stderr,
			"pppd: "+format+"\n", args...)
	}
	line := os.Stdin
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	switch {
	case o.pty != "":
		master, slave, err := terminal()
		if err != nil {
			return err
		}
		cmd := exec.CommandContext(ctx, "sh", "-c", o.pty)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, os.Stderr
		if err := cmd.Start(); err != nil {
			return err
		}
		_ = slave.Close()
		line = master
	case o.line != "":
		f, err := os.OpenFile(o.line, os.O_RDWR|syscall.O_NOCTTY, 0)
		if err != nil {
			return err
		}
		if err := raw(f); err != nil {
			return err
		}
		line = f
	default:
		_ = raw(line)
	}
	link, err := session.New(
		session.Config{
			Login:    o.user,
			Password: o.password,
			Methods:  o.methods(),
			Random:   rand.Reader,
		},
	)
	if err != nil {
		return err
	}
	var mu sync.Mutex // of the link and of what is written
	flush := func() error {
		for _, frame := range link.Take() {
			if _, err := line.Write(ppp.Stuff(frame)); err != nil {
				return err
			}
		}
		return nil
	}
	var tun *os.File
	go func() {
		for range time.Tick(time.Second) {
			mu.Lock()
			link.Again()
			_ = flush()
			mu.Unlock()
		}
	}()
	mu.Lock()
	err = flush()
	mu.Unlock()
	var u ppp.Unstuffer
	b := make([]byte, 4096)
	for err == nil {
		n, readErr := line.Read(b)
		if readErr != nil {
			return fmt.Errorf("the line: %w", readErr)
		}
		for _, frame := range u.Write(b[:n]) {
			mu.Lock()
			before := link.Phase
			packet := link.Receive(frame)
			err = errors.Join(err, flush())
			after, reason := link.Phase, link.Reason
			mu.Unlock()
			if packet != nil && tun != nil {
				_, _ = tun.Write(packet)
			}
			if before != after && after == session.Ended {
				return errors.New(reason)
			}
			if before != after && after == session.Open {
				if tun, err = o.up(link, say); err != nil {
					return err
				}
				go func() {
					p := make([]byte, 4096)
					for {
						n, err := tun.Read(p)
						if err != nil {
							return
						}
						mu.Lock()
						_, _ = line.Write(ppp.Stuff(link.Packet(p[:n])))
						mu.Unlock()
					}
				}()
			}
		}
	}
	return err
}

// up makes the interface, gives it its addresses, and runs what waits for a link.
func (o *pppOptions) up(link *session.Link, say func(string, ...any)) (*os.File, error) {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	ifr, _ := unix.NewIfreq("ppp0")
	ifr.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, ifr); err != nil {
		return nil, err
	}
	remote := link.Remote
	if !remote.IsValid() || remote == link.Local {
		remote = netip.MustParseAddr("10.64.64.64")
	}
	for _, args := range [][]string{
		{"addr", "add", link.Local.String(), "peer", remote.String(), "dev", "ppp0"},
		{"link", "set", "ppp0", "up"},
	} {
		if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%v %s", err, out)
		}
	}
	if !o.split {
		if out, err := exec.Command("ip", "route", "replace", "default", "dev", "ppp0").
			CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%v %s", err, out)
		}
	}
	scripts, _ := filepath.Glob("/etc/ppp/ip-up.d/*")
	for _, s := range scripts {
		cmd := exec.Command(s, "ppp0", "", "0", link.Local.String(), remote.String(), o.ipparam)
		cmd.Env = append(os.Environ(), "USEPEERDNS=1")
		if len(link.Servers) > 0 {
			cmd.Env = append(cmd.Env, "DNS1="+link.Servers[0].String())
		}
		if out, err := cmd.CombinedOutput(); err != nil && !strings.Contains(s, "0000") {
			return nil, fmt.Errorf("%s: %v %s", s, err, out)
		}
	}
	say("up as %s by %s", link.Local, link.Method)
	if err := unix.SetNonblock(fd, true); err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), "tun"), nil
}
