package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wardicon/api"
	"wardicon/client"
)

const directoryAt = "dc=skerryline,dc=example"

// slapd is Debian's LDAP server with a directory of its own.
type slapd struct {
	t            *testing.T
	dir, url, ca string
	password     string // file
}

// startSlapd runs one with some people; it is skipped where slapd is not installed.
func startSlapd(t *testing.T, people string) *slapd {
	t.Helper()
	for _, file := range []string{"/usr/sbin/slapd", "/usr/bin/ldapmodify"} {
		if _, err := os.Stat(file); err != nil {
			t.Skip("slapd or ldap-utils is not installed")
		}
	}
	s := &slapd{t: t, dir: t.TempDir()}
	cert, key, _ := certificate(t)
	s.ca = cert
	s.write("reader", "timetable-reader-71")
	s.write("reader-bare", "timetable-reader-71")
	s.password = filepath.Join(s.dir, "reader")
	if err := os.Mkdir(filepath.Join(s.dir, "db"), 0o700); err != nil {
		t.Fatal(err)
	}
	config := fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
TLSCertificateFile %[1]s
TLSCertificateKeyFile %[2]s
sizelimit size.soft=100 size.hard=100 size.pr=500 size.prtotal=unlimited
database mdb
maxsize 268435456
suffix "%[3]s"
rootdn "cn=admin,%[3]s"
rootpw harbour-admin-12
directory %[4]s/db
access to * by dn="cn=reader,%[3]s" read by anonymous auth by * none
`, cert, key, directoryAt, s.dir)
	s.write("slapd.conf", config)
	s.write("first.ldif", `dn: `+directoryAt+`
objectClass: dcObject
objectClass: organization
o: Skerry Line
dc: skerryline

dn: cn=reader,`+directoryAt+`
objectClass: organizationalRole
objectClass: simpleSecurityObject
cn: reader
userPassword: timetable-reader-71

dn: ou=people,`+directoryAt+`
objectClass: organizationalUnit
ou: people

dn: ou=groups,`+directoryAt+`
objectClass: organizationalUnit
ou: groups

`+people)
	s.run("/usr/sbin/slapadd", "-q", "-f", s.at("slapd.conf"), "-l", s.at("first.ldif"))
	address := freeAddress(t)
	_, port, _ := net.SplitHostPort(address)
	s.url = "ldaps://localhost:" + port
	cmd := exec.Command("/usr/sbin/slapd", "-f", s.at("slapd.conf"), "-h", s.url, "-d", "0")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	for range 100 {
		c, err := net.Dial("tcp", address)
		if err == nil {
			_ = c.Close()
			return s
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("slapd does not answer")
	return nil
}

func (s *slapd) at(name string) string { return filepath.Join(s.dir, name) }

func (s *slapd) write(name, text string) {
	s.t.Helper()
	if err := os.WriteFile(s.at(name), []byte(text), 0o600); err != nil {
		s.t.Fatal(err)
	}
}

func (s *slapd) run(program string, args ...string) {
	s.t.Helper()
	ctx, stop := context.WithTimeout(s.t.Context(), time.Minute)
	defer stop()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Env = append(os.Environ(), "LDAPTLS_REQCERT=never")
	if out, err := cmd.CombinedOutput(); err != nil {
		s.t.Fatalf("%s: %v\n%s", program, err, out)
	}
}

// change changes the directory as its administrator does.
func (s *slapd) change(ldif string) {
	s.t.Helper()
	s.write("change.ldif", ldif)
	s.run("/usr/bin/ldapmodify", "-H", s.url, "-x", "-D", "cn=admin,"+directoryAt, "-w",
		"harbour-admin-12", "-f", s.at("change.ldif"))
}

// inDirectory is the entry of a person.
func inDirectory(uid, name string, more ...string) string {
	family := name[strings.LastIndex(name, " ")+1:]
	return "dn: uid=" + uid + ",ou=people," + directoryAt + "\nobjectClass: inetOrgPerson\nuid: " +
		uid + "\ncn: " + name + "\nsn: " + family + "\nmail: " + uid + "@skerryline.example\n" +
		strings.Join(append(more, ""), "\n") + "\n"
}

// TestDirectory reads people from Debian's own LDAP server: who is new, changes, leaves, comes
// back, and when it has to stop.
func TestDirectory(t *testing.T) {
	t.Parallel()
	var people strings.Builder
	// More than the server gives without pages.
	for i := range 700 {
		people.WriteString(inDirectory(fmt.Sprintf("deck%d", i), fmt.Sprintf("Deckhand %d", i)))
	}
	people.WriteString(inDirectory("ada", "Ada Fjell")) // as on record, by the address
	people.WriteString(inDirectory("sigrid", "Sigrid Ås, \"Kap\"",
		"preferredLanguage: sv", "l: Norrvik"))
	people.WriteString("dn: cn=Pursers\\, north,ou=groups," + directoryAt +
		"\nobjectClass: groupOfNames\ncn: Pursers, north\nmember: UID=sigrid, OU=people," +
		directoryAt + "\nmember: uid=ada,ou=people," + directoryAt + "\n\n")
	server := startSlapd(t, people.String())
	f := start(t, true)
	run := f.commands()
	set := []string{
		"service", "directory", "set", "--url", server.url, "--base", "ou=people," + directoryAt,
		"--bind-dn", "cn=reader," + directoryAt, "--password-file", server.password,
		"--group-base", "ou=groups," + directoryAt,
		"--group", "cn=Pursers\\, north,ou=groups," + directoryAt + "=pursers",
	}
	run(0, "No directory is set", "service", "directory", "show")
	run(0, server.url, set...)
	run(1, "a CA that is not trusted", "service", "directory", "read")
	run(0, "reader", "service", "directory", "set", "--authority", server.ca)
	dry := run(0, "702 entries, 701 to add, 1 to change, 0 the same, 0 wrong", "service", "directory",
		"read", "--dry-run")
	if !strings.Contains(dry, "Deckhand 0") {
		t.Errorf("a dry run does not show who is added:\n%s", dry)
	}
	one := func(name string) (p api.Person) {
		t.Helper()
		page, err := f.client.People.List(t.Context(), client.Query{
			Filter: map[string]string{"name": name},
		})
		if err != nil {
			t.Fatal(err)
		}
		if len(page.Items) == 1 {
			p = page.Items[0]
		}
		return p
	}
	if one("Deckhand 0").ID != "" {
		t.Fatal("a dry run has added somebody")
	}
	run(0, "done", "service", "directory", "read")
	sigrid := one("Sigrid Ås, \"Kap\"")
	if sigrid.Language != "sv" || sigrid.Place.City != "Norrvik" || sigrid.Source != "directory" ||
		sigrid.Accounts != 1 || fmt.Sprint(sigrid.Groups) != "[pursers]" {
		t.Errorf("Sigrid is %+v", sigrid)
	}
	if ada := one("Ada Fjell"); fmt.Sprint(ada.Groups) != "[planners pursers]" ||
		ada.Source != "directory" {
		t.Errorf("Ada is %+v: her own group stays, that of the directory comes", ada)
	}
	kept := func() int {
		page, err := f.client.RecordImports(t.Context(), client.Query{})
		if err != nil {
			t.Fatal(err)
		}
		return page.Total
	}
	before := kept()
	run(0, "0 to add, 0 to change, 702 the same", "service", "directory", "read")
	if kept() != before {
		t.Error("a reading that found nothing new is kept")
	}

	// A new name, moved, another address: it is the same entry.
	server.change("dn: uid=sigrid,ou=people," + directoryAt + "\nchangetype: modrdn\nnewrdn: " +
		"uid=s_aas\ndeleteoldrdn: 1\n\ndn: uid=s_aas,ou=people," + directoryAt +
		"\nchangetype: modify\nreplace: cn\ncn: Sigrid Holm\n-\nreplace: mail\nmail: " +
		"sigrid@skerryline.example\n\ndn: cn=Pursers\\, north,ou=groups," + directoryAt +
		"\nchangetype: modify\ndelete: member\nmember: uid=ada,ou=people," + directoryAt +
		"\n\ndn: uid=deck1,ou=people," + directoryAt + "\nchangetype: delete\n")
	out := run(0, "0 to add, 2 to change, 699 the same", "service", "directory", "read")
	if !strings.Contains(out, "1 person is no longer in the directory: Deckhand 1") {
		t.Errorf("it is not told who has left:\n%s", out)
	}
	if p := one("Sigrid Holm"); p.ID != sigrid.ID || p.Accounts != 2 || len(p.Groups) != 0 {
		t.Errorf("Sigrid is now %+v", p)
	}
	if ada := one("Ada Fjell"); fmt.Sprint(ada.Groups) != "[planners]" {
		t.Errorf("Ada's groups are %v", ada.Groups)
	}
	if p := one("Deckhand 1"); p.ID == "" || p.Missing == nil {
		t.Errorf("who has left is removed, or not marked: %+v", p)
	}
	run(0, "Deckhand 1", "person", "list", "--filter", "source=missing")
	server.change("dn: uid=deck1,ou=people," + directoryAt + "\nchangetype: add\n" +
		strings.SplitN(inDirectory("deck1", "Deckhand 1"), "\n", 2)[1])
	// Another entry of the same address is the same person.
	run(0, "0 to change, 702 the same", "service", "directory", "read")
	if p := one("Deckhand 1"); p.ID == "" || p.Missing != nil {
		t.Errorf("who is back is %+v", p)
	}

	// What others' tools write of the same entries is read as a table, too (LDIF, RFC 2849).
	ldif := server.at("out.ldif")
	server.run("/bin/sh", "-c", `ldapsearch -H "$1" -x -D "$2" -y "$3" -LLL -E pr=500/noprompt -b "$4" \
		"(objectClass=inetOrgPerson)" > "$5"`, "sh", server.url, "cn=reader,"+directoryAt,
		server.password+"-bare", "ou=people,"+directoryAt, ldif)
	run(0, "702 rows: 702 same", "import", ldif, "--dry-run")

	// Too many would go: nothing is touched, and the state says so.
	run(0, "deck6", "service", "directory", "set", "--entries", "(uid=deck6*)")
	run(1, "of 702 people who are no longer in the directory, expected at most 10 %", "service",
		"directory", "read")
	run(0, "no longer in the directory", "service", "directory", "show")
	if p := one("Deckhand 2"); p.Missing != nil {
		t.Error("a reading that was stopped has marked somebody")
	}
	for flag, want := range map[[2]string]string{
		{"--entries", "(uid=deck6"}:                "the filter cannot be read",
		{"--base", "ou=nowhere," + directoryAt}:    "has no such base",
		{"--key-attribute", "employeeNumber"}:      "has an entry without employeeNumber",
		{"--url", "ldaps://localhost:1"}:           "type the password again",
		{"--every", "1"}:                           "0, or 5 to 10080 minutes",
		{"--attribute", "shoe=size"}:               "a field that is not known",
		{"--url", "http://directory.example"}:      "expected ldaps:// or ldap:// and a host name",
		{"--bind-dn", "cn=other," + directoryAt}:   "type the password again",
		{"--entries", "(objectClass=*)(cn=Nobody"}: "the filter cannot be read",
	} {
		set := append([]string{}, "service", "directory", "set", flag[0], flag[1])
		if code, _, errs := f.run("", set...); code != 0 {
			if code != 1 || !strings.Contains(errs, want) {
				t.Errorf("%v ended with %d: %s", flag, code, errs)
			}
			continue
		}
		run(1, want, "service", "directory", "read")
		run(0, "", "service", "directory", "set", "--entries", "(objectClass=inetOrgPerson)",
			"--base", "ou=people,"+directoryAt, "--key-attribute", "entryUUID")
	}
	server.write("reader", "wrong")
	run(0, "", "service", "directory", "set", "--password-file", server.password)
	run(1, "refused the sign-in: invalid credentials", "service", "directory", "read")
	if strings.Contains(f.log.String(), "timetable-reader") {
		t.Error("the log has the password")
	}
}

// TestDirectoryPage sets a directory in the console, and follows who has left it.
func TestDirectoryPage(t *testing.T) {
	t.Parallel()
	server := startSlapd(t, inDirectory("sigrid", "Sigrid Holm")+inDirectory("jorunn", "Jorunn Dal")+
		inDirectory("ada", "Ada Fjell"))
	f := start(t, true)
	b := open(t, f.url)
	b.do(chromedp.EmulateViewport(1280, 800))
	b.signIn()
	b.goTo("/directory", "Directory")
	b.see("/scim/v2")
	b.fill("Address", "http://directory.example")
	b.press("Save")
	b.see("expected ldaps:// or ldap:// and a host name")
	b.accessible("a directory that is refused")
	ca, err := os.ReadFile(server.ca)
	if err != nil {
		t.Fatal(err)
	}
	b.fill("Address", server.url)
	b.fill("Base", "ou=people,"+directoryAt)
	b.fill("Signs in as", "cn=reader,"+directoryAt)
	b.fill("Password", "timetable-reader-71")
	b.fill("CA of the server's certificate", string(ca))
	b.fill("Stop if more than … % have left", "50")
	b.press("Save")
	b.see("Saved.")
	b.see("The directory has not been read yet.")
	b.press("Show what would change")
	b.see("3 entries: 2 to add, 1 to change, 0 the same, 0 wrong.")
	b.press("Read now")
	b.see("3 of 3 entries")
	server.change("dn: uid=jorunn,ou=people," + directoryAt + "\nchangetype: delete\n")
	b.press("Read now")
	b.see("1 of them is no longer in it.")
	b.accessible("the directory")
	b.fits()
	b.shot("directory")
	b.do(chromedp.EmulateViewport(360, 740))
	b.fits()
	b.shot("phone-directory")
	b.do(chromedp.EmulateViewport(1280, 800))
	b.load("/people?source=missing", "People")
	b.see("no longer in the directory")
	b.accessible("people who have left the directory")
	b.shot("people-missing")
}

// TestHostileDirectory reads from servers that answer nothing, nonsense, or without an end.
func TestHostileDirectory(t *testing.T) {
	f := start(t, true)
	for name, answer := range map[string][]byte{
		"nothing":  nil,
		"nonsense": bytes.Repeat([]byte("HTTP/1.1 400 Bad Request\r\n"), 100),
		"endless":  append([]byte{0x30, 0x84, 0x7f, 0xff, 0xff, 0xff}, bytes.Repeat([]byte{0x30}, 1<<20)...),
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = c.Write(answer)
				_ = c.Close()
			}
		}()
		d, err := f.client.Directory(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		d.URL, d.Base = "ldap://"+l.Addr().String(), directoryAt
		if _, err := f.client.SetDirectory(t.Context(), d, false); err != nil {
			t.Fatal(err)
		}
		began := time.Now()
		_, err = f.client.ReadDirectory(t.Context(), false)
		if err == nil || !strings.Contains(err.Error(), "invalid values") ||
			time.Since(began) > 30*time.Second {
			t.Errorf("%s: %v after %v", name, err, time.Since(began))
		}
		st, err := f.client.DirectoryState(t.Context())
		if err != nil || !strings.Contains(st.Problem, "a server that") {
			t.Errorf("%s: the state is %+v, %v", name, st, err)
		}
		_ = l.Close()
	}
}
