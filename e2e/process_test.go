package e2e

import (
	"bufio"
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wardicon/api"
	"wardicon/cli"
	"wardicon/client"
	"wardicon/core/secret"
	"wardicon/service"
	"wardicon/store"
)

// TestMain lets the test's own program stand in for wardicon, as a process of its own.
func TestMain(m *testing.M) {
	service.HashQuickly()
	if os.Getenv("WARDICON_PROCESS") != "" {
		os.Exit(cli.Run(os.Args[1:], cli.Standard()))
	}
	// Of many short lives of a service in one process, collecting garbage would be half the work.
	debug.SetGCPercent(400)
	code := m.Run()
	forgetSample()
	os.Exit(code)
}

const ownerPassword = "anchor-velvet-52-pepper-rudder"

// process is a running wardicon serve.
type process struct {
	t    *testing.T
	cmd  *exec.Cmd
	url  string
	mu   sync.Mutex // of log
	log  bytes.Buffer
	read chan struct{}
}

// logged is what the process has logged so far.
func (p *process) logged() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.log.String()
}

// said is the line of its log with a message.
func (p *process) said(msg string) (line struct{ Msg, Address string }) {
	p.t.Helper()
	for text := range strings.Lines(p.logged()) {
		if json.Unmarshal([]byte(text), &line) == nil && line.Msg == msg {
			return line
		}
	}
	p.t.Errorf("it does not say %q", msg)
	return line
}

// command makes a command line of wardicon in a process of its own.
func command(args ...string) *exec.Cmd {
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), "WARDICON_PROCESS=1")
	return cmd
}

// serve starts wardicon serve and waits until it listens.
func serve(t *testing.T, dir string, more ...string) *process {
	t.Helper()
	return begun(
		t,
		command(
			append(
				[]string{"serve", "--data", dir, "--listen", "127.0.0.1:0", "--log", "json"},
				more...)...),
	)
}

// begun starts a command that becomes a service.
func begun(t *testing.T, cmd *exec.Cmd) *process {
	t.Helper()
	p := &process{t: t, cmd: cmd, read: make(chan struct{})}
	out, err := p.cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Kill() })
	listening := make(chan string, 1)
	go func() {
		defer close(p.read)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			p.mu.Lock()
			p.log.Write(append(lines.Bytes(), '\n'))
			p.mu.Unlock()
			var line struct{ Msg, Address string }
			if json.Unmarshal(lines.Bytes(), &line) == nil && line.Msg == "listening" {
				listening <- line.Address
			}
		}
		close(listening)
	}()
	select {
	case p.url = <-listening:
	case <-time.After(20 * time.Second):
	}
	if p.url == "" {
		_ = p.cmd.Process.Kill()
		<-p.read
		t.Fatalf("it does not listen:\n%s", p.log.String())
	}
	return p
}

// stop ends the process by a signal and returns its exit code and its log.
func (p *process) stop(signal os.Signal) (int, string) {
	p.t.Helper()
	if err := p.cmd.Process.Signal(signal); err != nil {
		p.t.Fatal(err)
	}
	<-p.read
	_ = p.cmd.Wait() // its code is looked at
	return p.cmd.ProcessState.ExitCode(), p.log.String()
}

// TestFirstStart starts a service that nobody has set up: the code in its folder is for
// its owner's eyes, makes the owner once, and is gone after the next start.
func TestFirstStart(t *testing.T) {
	ctx := t.Context()
	dir := filepath.Join(t.TempDir(), "data")
	p := serve(t, dir)
	path := filepath.Join(dir, "set-up-code")
	code, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the code's file has mode %v (%v)", info.Mode(), err)
	}
	if info, err := os.Stat(dir); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the data folder has mode %v (%v)", info.Mode(), err)
	}
	c := client.New(p.url, "")
	if s, err := c.Start(ctx); err != nil || !s.SetUp {
		t.Errorf("start says %+v (%v)", s, err)
	}
	const publicURL = "https://connect.skerryline.example"
	for _, test := range []struct {
		name, code, owner, password, links string
		status                             int
		pointer                            string
	}{
		{"wrong code", "x", "owner", ownerPassword, "", 401, ""},
		{"short password", string(code), "owner", "short", "", 422, "/password"},
		{"guessable password", string(code), "owner", "aaaaaaaaaaaaaaaaaaaa", "", 422, "/password"},
		{"no name", string(code), " ", ownerPassword, "", 422, "/name"},
		{"no scheme", string(code), "owner", ownerPassword, "connect.example", 422, "/links"},
		{"right", string(code), "owner", ownerPassword, publicURL, 0, ""},
		{"again", string(code), "other", ownerPassword, "", 409, ""},
	} {
		err := c.SetUp(ctx, test.code, test.owner, secret.New(test.password), test.links)
		problem, _ := err.(*api.Problem)
		switch {
		case test.status == 0:
			if err != nil {
				t.Errorf("%s: %v", test.name, err)
			}
		case problem == nil || problem.Status != test.status:
			t.Errorf("%s: %v, expected %d", test.name, err, test.status)
		case test.pointer != "" && (len(problem.Errors) != 1 ||
			problem.Errors[0].Pointer != test.pointer):
			t.Errorf("%s: %v, expected an error at %s", test.name, problem.Errors, test.pointer)
		}
	}
	if _, err := c.SignIn(ctx, "OWNER", secret.New(ownerPassword)); err != nil {
		t.Error(err)
	}
	if o, err := c.Organisation(ctx); err != nil || o.Links != publicURL {
		t.Errorf("the public URL is %q (%v)", o.Links, err)
	}
	exit, log := p.stop(syscall.SIGTERM)
	if exit != 0 || !strings.Contains(log, `"msg":"stopped"`) {
		t.Errorf("ended with %d:\n%s", exit, log)
	}
	for _, s := range []string{ownerPassword, strings.TrimSpace(string(code))} {
		if strings.Contains(log, s) {
			t.Error("the log tells the code or the password")
		}
	}

	p = serve(t, dir)
	if _, err := os.Stat(path); !os.IsNotExist(err) {
		t.Errorf("the code is still there: %v", err)
	}
	if _, err := client.New(p.url, "").SignIn(ctx, "owner", secret.New(ownerPassword)); err != nil {
		t.Errorf("after a restart: %v", err)
	}
	p.stop(os.Interrupt)
}

// setUp makes a data folder with an owner, by the command line.
func setUp(t *testing.T, more ...string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "data")
	cmd := command(
		append(
			[]string{
				"service",
				"set-up",
				"--data",
				dir,
				"--owner",
				"owner",
				"--password-file",
				"-",
			},
			more...)...)
	cmd.Stdin = strings.NewReader(ownerPassword + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return dir
}

func signedIn(t *testing.T, url string) *client.Client {
	t.Helper()
	c := client.New(url, "")
	if _, err := c.SignIn(t.Context(), "owner", secret.New(ownerPassword)); err != nil {
		t.Fatal(err)
	}
	return c
}

// TestBackup copies the data of a running service, and starts another from the copy.
func TestBackup(t *testing.T) {
	t.Parallel()
	dir := setUp(t)
	p := serve(t, dir)
	c := signedIn(t, p.url)
	person, err := c.People.Add(t.Context(), client.Patch{"name": "Ada"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Accounts.Add(
		t.Context(),
		client.Patch{"person_id": person.ID, "login": "a_fjell", "password": "dune-45-Tangerine"},
	); err != nil {
		t.Fatal(err)
	}
	restored := t.TempDir()
	copied := filepath.Join(restored, store.File)
	for _, want := range []struct {
		code int
		says string
	}{{0, "wrote"}, {1, "exists"}} { // the second finds the file there
		cmd := command("service", "backup", "--data", dir, "--out", copied)
		out, _ := cmd.CombinedOutput()
		if code := cmd.ProcessState.ExitCode(); code != want.code ||
			!strings.Contains(string(out), want.says) {
			t.Errorf(
				"backup ended with %d, expected %d and %q: %s",
				code,
				want.code,
				want.says,
				out,
			)
		}
	}
	second := command("serve", "--data", dir, "--listen", "127.0.0.1:0")
	if out, _ := second.CombinedOutput(); second.ProcessState.ExitCode() != 1 ||
		!strings.Contains(string(out), "another process works on it") {
		t.Errorf("a second service on the folder: %s", out)
	}
	p.stop(os.Interrupt)
	refused, err := command("serve", "--data", restored, "--listen", "127.0.0.1:0").CombinedOutput()
	if err == nil || !strings.Contains(string(refused), "without it the secrets cannot be opened") {
		t.Errorf("without its key: %v %s", err, refused)
	}
	key, err := os.ReadFile(filepath.Join(dir, "master.key"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(restored, "master.key"), key, 0o600); err != nil {
		t.Fatal(err)
	}
	p = serve(t, restored)
	accounts, err := signedIn(
		t,
		p.url,
	).Accounts.List(
		t.Context(),
		client.Query{Filter: map[string]string{"login": "a_fjell"}},
	)
	if err != nil || accounts.Total != 1 || !accounts.Items[0].PasswordSet {
		t.Errorf("from the copy: %+v (%v)", accounts, err)
	}
	p.stop(os.Interrupt)
}

// TestBackupFull copies to a disk that has too little room: it says so, and leaves nothing behind.
func TestBackupFull(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("a small disk is made as root")
	}
	dir, small := setUp(t), t.TempDir()
	inside := `mount -t tmpfs -o size=64k none "$1" || exit 9; "$0" service backup --data "$2" ` +
		`--out "$1/copy.db"; echo "ended with $?, left: $(ls "$1")"`
	cmd := exec.Command("unshare", "-m", "sh", "-c", inside, os.Args[0], small, dir)
	cmd.Env = append(os.Environ(), "WARDICON_PROCESS=1")
	if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), small) ||
		!strings.Contains(string(out), "full") ||
		!strings.HasSuffix(string(out), "ended with 1, left: \n") {
		t.Errorf("%v: %s", err, out)
	}
}

// TestStartsRefused starts services that must not start, or not like that.
func TestStartsRefused(t *testing.T) {
	t.Parallel()
	dir := setUp(t)
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = busy.Close() }()
	short := write(t, "short", "x\n")
	open := write(t, "open.key", strings.Repeat("ab", 32))
	if err := os.Chmod(open, 0o644); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		args []string
		want int
		says string
	}{
		{[]string{"--listen", "0.0.0.0:0"}, 2, "without TLS the service listens on loopback only"},
		{[]string{"--listen", "[::]:0"}, 2, "without TLS"},
		{[]string{"--listen", busy.Addr().String()}, 1, "address already in use"},
		{[]string{"--listen", "nowhere"}, 1, "--listen"},
		{[]string{"--log", "xml"}, 2, "expected text or json"},
		{[]string{"--tls-cert", "x.pem"}, 2, "tls-key"},
		{[]string{"--key-file", open}, 1, "chmod 600"},
		{[]string{"--key-file", "/nowhere/key"}, 1, "cannot be opened"},
		{[]string{"--passphrase-file", short}, 2, "at least 12"},
		{[]string{"--passphrase-file", write(t, "long", "anchor velvet pepper\n")}, 1,
			"not from a passphrase"},
		{[]string{"--data", "/proc/nowhere"}, 1, "data folder"},
	} {
		cmd := command(append([]string{"serve", "--data", dir}, test.args...)...)
		out, _ := cmd.CombinedOutput()
		if got := cmd.ProcessState.ExitCode(); got != test.want ||
			!strings.Contains(string(out), test.says) {
			t.Errorf(
				"%v: ended with %d, expected %d and %q:\n%s",
				test.args,
				got,
				test.want,
				test.says,
				out,
			)
		}
	}
	taken := command("demo", "--listen", busy.Addr().String())
	if out, _ := taken.CombinedOutput(); taken.ProcessState.ExitCode() != 1 ||
		!strings.Contains(string(out), "address already in use") {
		t.Errorf("a demo where the port is taken: %s", out)
	}
	again := command("service", "set-up", "--data", dir, "--password-file", "-")
	again.Stdin = strings.NewReader(ownerPassword)
	if out, err := again.CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "set up already") {
		t.Errorf("a second owner: %v %s", err, out)
	}
}

// certificate makes a certificate for this machine as PEM files.
func certificate(t *testing.T) (cert, key string, pool *x509.CertPool) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		Subject:               pkix.Name{CommonName: "localhost"},
		NotAfter:              time.Now().Add(time.Hour),
		IPAddresses:           []net.IP{net.IPv4(127, 0, 0, 1)},
		DNSNames:              []string{"localhost"},
		IsCA:                  true,
		BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	if err != nil {
		t.Fatal(err)
	}
	encoded, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	parsed, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	pool = x509.NewCertPool()
	pool.AddCert(parsed)
	return write(
			t,
			"cert.pem",
			string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		),
		write(
			t,
			"key.pem",
			string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: encoded})),
		), pool
}

// TestTLS serves by TLS, with a passphrase in the place of a key file: cookies are
// marked as secure, and the browser is told to come back by TLS only.
func TestTLS(t *testing.T) {
	t.Parallel()
	cert, key, pool := certificate(t)
	passphrase := write(t, "passphrase", "anchor velvet pepper rudder\n")
	dir := setUp(t, "--passphrase-file", passphrase)
	p := serve(t, dir, "--passphrase-file", passphrase, "--tls-cert", cert, "--tls-key", key)
	if !strings.HasPrefix(p.url, "https://") {
		t.Fatal(p.url)
	}
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	res, err := web.Post(
		p.url+"/api/v1/session",
		"application/json",
		strings.NewReader(`{"name":"owner","password":"`+ownerPassword+`","kind":"cookie"}`),
	)
	if err != nil {
		t.Fatal(err)
	}
	_ = res.Body.Close()
	if len(res.Cookies()) != 2 ||
		slices.ContainsFunc(
			res.Cookies(),
			func(c *http.Cookie) bool {
				return !c.Secure || !c.HttpOnly ||
					!strings.HasPrefix(c.Name, "__Host-")
			},
		) ||
		res.Header.Get("Strict-Transport-Security") == "" ||
		res.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("%d cookies, status %s", len(res.Cookies()), res.Status)
	}
	// The certificate is renewed while the service runs: first one file of the two, then the other.
	newCert, newKey, newPool := certificate(t)
	reached := func(pool *x509.CertPool) bool {
		conn, err := tls.Dial(
			"tcp",
			strings.TrimPrefix(p.url, "https://"),
			&tls.Config{RootCAs: pool},
		)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}
	renew := func(from, to string) {
		if err := os.Rename(from, to); err != nil {
			t.Fatal(err)
		}
	}
	renew(newCert, cert)
	for range 3 {
		time.Sleep(time.Second)
		if !reached(pool) {
			t.Error("half a renewal takes the certificate in use away")
		}
	}
	renew(newKey, key)
	for begun := time.Now(); !reached(newPool); time.Sleep(200 * time.Millisecond) {
		if time.Since(begun) > 20*time.Second {
			t.Fatal("the renewed certificate is not shown")
		}
	}
	exit, log := p.stop(syscall.SIGTERM)
	if exit != 0 || strings.Count(log, "the one in use stays") != 1 ||
		strings.Count(log, "certificate reloaded") != 1 {
		t.Errorf("ended with %d: %s", exit, log)
	}
	if _, err := os.Stat(filepath.Join(dir, "master.key")); !os.IsNotExist(err) {
		t.Errorf("a key file beside the passphrase: %v", err)
	}
}

// TestLog looks at the log of some requests: one line each with its id, and nothing of
// query, header or body.
func TestLog(t *testing.T) {
	f := start(t, true)
	auth := f.token()
	f.send("GET", "/api/v1/devices?search=whisper-in-query", "", "Authorization", auth)
	res, problem := f.send(
		"POST",
		"/api/v1/people",
		`{"name":"whisper-in-body","x":1}`,
		"Authorization",
		auth,
		"Content-Type",
		"application/json",
		"User-Agent",
		"whisper-in-header",
		"X-Request-Id",
		"whisper-as-id",
	)
	id := res.Header.Get("X-Request-Id")
	if id == "" || problem.Instance != "urn:wardicon:request:"+id {
		t.Errorf("request %q, instance %q", id, problem.Instance)
	}
	log := f.log.String()
	if strings.Contains(log, "whisper") ||
		strings.Contains(log, strings.TrimPrefix(auth, "Bearer ")) {
		t.Errorf("the log tells query, header or body:\n%s", log)
	}
	found := false
	for line := range strings.SplitSeq(strings.TrimSpace(log), "\n") {
		var entry struct {
			Msg, Request, Method, Route string
			Status                      int
		}
		if err := json.Unmarshal([]byte(line), &entry); err != nil {
			t.Fatalf("%v: %s", err, line)
		}
		if entry.Request == id {
			found = entry.Status == 422 && entry.Method == "POST" && entry.Route == "/api/v1/people"
		}
	}
	if !found {
		t.Errorf("no right line for %s:\n%s", id, log)
	}
}

// TestCompressed holds that the console is compressed, and answers of the API never.
func TestCompressed(t *testing.T) {
	f := start(t, true)
	auth := f.token()
	for path, want := range map[string]string{"/": "gzip", "/api/v1/rules": ""} {
		res, _ := f.send("GET", path, "", "Authorization", auth, "Accept-Encoding", "gzip")
		if got := res.Header.Get("Content-Encoding"); got != want {
			t.Errorf("%s: %q, expected %q", path, got, want)
		}
	}
}

// TestStrangers points the client at what is no Wardicon service.
func TestStrangers(t *testing.T) {
	answers := map[string]http.HandlerFunc{
		"HTML": func(w http.ResponseWriter, _ *http.Request) {
			_,
				_ = io.WriteString(w, "<html>")
		},
		"an error page": func(w http.ResponseWriter,
			_ *http.Request) {
			http.Error(w, "bad gateway", http.StatusBadGateway)
		},
		"hanging up": func(w http.ResponseWriter, _ *http.Request) {
			conn, _, err := http.NewResponseController(w).Hijack()
			if err == nil {
				_ = conn.Close()
			}
		},
	}
	for name, answer := range answers {
		server := &http.Server{Handler: answer, ReadHeaderTimeout: time.Second}
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() { _ = server.Serve(listener) }()
		_, err = client.New("http://"+listener.Addr().String(), "").Overview(t.Context())
		_ = server.Close()
		if err == nil || len(err.Error()) > 300 {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := client.New("no address", "").Organisation(t.Context()); err == nil {
		t.Error("no address was taken for one")
	}
}
