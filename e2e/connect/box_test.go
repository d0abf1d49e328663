package connect

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// box is a machine of its own as far as a connection can tell: a network namespace, and a mount
// namespace with overlays over /etc, /var and /usr/share and an own /run, so that install scripts
// and daemons run in it as they would on a device, and the machine below stays as it is.
type box struct {
	t    testing.TB
	name string
	dir  string // for logs and files of the test
	pid  int
}

// layers mounts what a box has of its own, and then waits for the end.
const layers = `set -e
b=$1
mount -t tmpfs none "$b"
mkdir -p "$b/etc.u" "$b/etc.w" "$b/var.u" "$b/var.w" "$b/share.u" "$b/share.w" "$b/run"
mount -t overlay overlay -o "lowerdir=/etc,upperdir=$b/etc.u,workdir=$b/etc.w" /etc
mount -t overlay overlay -o "lowerdir=/var,upperdir=$b/var.u,workdir=$b/var.w" /var
mount -t overlay overlay -o "lowerdir=/usr/share,upperdir=$b/share.u,workdir=$b/share.w" /usr/share
mount --bind "$b/run" /run
mkdir -p /run/lock /run/dbus /run/NetworkManager /run/sstpc
mount -t sysfs -o ro sysfs /sys
ip link set lo up
: > "$b/ready"
echo ready
exec sleep 3000`

// newBox makes a box, which ends with the test.
func newBox(t testing.TB, name string) *box {
	t.Helper()
	b := &box{t: t, name: name, dir: t.TempDir()}
	mounted := t.TempDir()
	cmd := exec.Command(
		"unshare",
		"-n",
		"-m",
		"--propagation",
		"private",
		"sh",
		"-c",
		layers,
		"box",
		mounted,
	)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	var errs bytes.Buffer
	cmd.Stderr = &errs
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
	})
	if _, err := out.Read(make([]byte, 16)); err != nil {
		t.Fatalf("box %s: %v %s", name, err, errs.String())
	}
	b.pid = cmd.Process.Pid
	return b
}

func (b *box) command(ctx context.Context, dir string, args ...string) *exec.Cmd {
	inside := append(
		[]string{"-t", fmt.Sprint(b.pid), "-m", "-n", "sh", "-c", `cd "$0" && exec "$@"`, dir},
		args...)
	cmd := exec.CommandContext(ctx, "nsenter", inside...)
	cmd.Env = []string{
		"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
		"HOME=/root",
		"LC_ALL=C.UTF-8",
		"TMPDIR=" + b.dir,
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	return cmd
}

// try runs a command in the box for at most so many seconds, and gives what it printed.
func (b *box) try(seconds int, args ...string) (string, error) {
	ctx, stop := context.WithTimeout(b.t.Context(), time.Duration(seconds)*time.Second)
	defer stop()
	out, err := b.command(ctx, b.dir, args...).CombinedOutput()
	return string(out), err
}

// run is try for what must succeed.
func (b *box) run(args ...string) string {
	b.t.Helper()
	out, err := b.try(30, args...)
	if err != nil {
		b.t.Fatalf("%s: %s: %v\n%s", b.name, strings.Join(args, " "), err, out)
	}
	return out
}

// shell runs a script in the box; what it prints is given back.
func (b *box) shell(script string, args ...string) string {
	b.t.Helper()
	return b.run(append([]string{"sh", "-euc", script, "sh"}, args...)...)
}

// write puts a file into the box.
func (b *box) write(path string, mode os.FileMode, content string) {
	b.t.Helper()
	cmd := b.command(
		b.t.Context(),
		"/",
		"sh",
		"-c",
		`mkdir -p "$(dirname "$0")" && cat > "$0" && chmod "$1" "$0"`,
		path,
		fmt.Sprintf("%o", mode),
	)
	cmd.Stdin = strings.NewReader(content)
	if out, err := cmd.CombinedOutput(); err != nil {
		b.t.Fatalf("%s: %s: %v %s", b.name, path, err, out)
	}
}

// daemon is a program that goes on in a box.
type daemon struct {
	box *box
	cmd *exec.Cmd
	log string
}

// start starts a daemon, which ends with the test at the latest.
func (b *box) start(name string, args ...string) *daemon {
	b.t.Helper()
	d := &daemon{box: b, log: filepath.Join(b.dir, name+".log")}
	file, err := os.Create(d.log)
	if err != nil {
		b.t.Fatal(err)
	}
	defer func() { _ = file.Close() }()
	d.cmd = b.command(context.Background(), b.dir, args...)
	d.cmd.Stdout, d.cmd.Stderr = file, file
	if err := d.cmd.Start(); err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(d.stop)
	return d
}

// stop ends it, and all that it started.
func (d *daemon) stop() {
	if d.cmd.ProcessState != nil {
		return
	}
	_ = syscall.Kill(-d.cmd.Process.Pid, syscall.SIGTERM)
	done := make(chan struct{})
	go func() { _ = d.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(3 * time.Second):
		_ = syscall.Kill(-d.cmd.Process.Pid, syscall.SIGKILL)
		<-done
	}
}

// said is what it has printed so far.
func (d *daemon) said() string {
	text, _ := os.ReadFile(d.log)
	return string(text)
}

// until waits until a condition holds.
func until(seconds float64, what func() bool) bool {
	for end := time.Now().Add(time.Duration(seconds * float64(time.Second))); ; time.Sleep(50 * time.Millisecond) {
		if what() {
			return true
		}
		if time.Now().After(end) {
			return false
		}
	}
}

// join connects boxes with the first of them, which is their network's middle.
func join(middle *box, others ...*box) {
	middle.run("ip", "link", "add", "br0", "type", "bridge")
	middle.run("ip", "addr", "add", "10.211.0.1/16", "dev", "br0")
	middle.run("ip", "link", "set", "br0", "up")
	for i, o := range others {
		port := fmt.Sprintf("port%d", i+1)
		if out, err := exec.Command("nsenter", "-t", fmt.Sprint(middle.pid), "-n", "ip", "link",
			"add", port, "type", "veth", "peer", "name", "eth0", "netns", fmt.Sprint(o.pid)).
			CombinedOutput(); err != nil {
			middle.t.Fatalf("%v %s", err, out)
		}
		middle.run("ip", "link", "set", port, "master", "br0", "up")
		o.run("ip", "addr", "add", fmt.Sprintf("10.211.1.%d/16", i+1), "dev", "eth0")
		o.run("ip", "link", "set", "eth0", "up")
		o.run("ip", "route", "add", "default", "via", "10.211.0.1")
	}
}

// copies puts the files of a folder into one of the box, readable by root alone.
func (b *box) copies(from, to string) {
	b.t.Helper()
	files, err := os.ReadDir(from)
	if err != nil {
		b.t.Fatal(err)
	}
	for _, f := range files {
		content, err := os.ReadFile(filepath.Join(from, f.Name()))
		if err != nil {
			b.t.Fatal(err)
		}
		b.write(filepath.Join(to, f.Name()), 0o600, string(content))
	}
}
