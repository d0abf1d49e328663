package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"wardicon/api"
	"wardicon/client"
	"wardicon/core/check"
	"wardicon/core/filecheck"
	"wardicon/core/pki"
	"wardicon/core/platform"
	"wardicon/core/secret"
	"wardicon/core/vpn"
)

// Bounds on what is taken out of folders.
const (
	maxFiles = 20_000
	maxTotal = 64 << 20

	// memory is what a check keeps within where files do not need more by themselves, in bytes.
	memory = 80 << 20
)

// ignoreName is the ignore file that is looked for beside what is checked.
const ignoreName = "wardicon-ignore.yaml"

// checkOptions are the flags of the command.
type checkOptions struct {
	least, release, ignore, passphrases string
	against, live, fix                  bool
}

func (a *app) checkFiles() *cobra.Command {
	var o checkOptions
	cmd := &cobra.Command{
		Use:         "check FILE|FOLDER|-…",
		Short:       "Find errors in client files, without a service",
		Annotations: map[string]string{"output": "sarif"},
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage(
					"found no file, expected at least one file or folder, or - for standard input",
				)
			}
			return nil
		},
		Long: `Reads files of every format that Wardicon writes (see wardicon convert --help),
PEM, DER, PKCS #7 and PKCS #12, folders, and zip and tar archives. Files that belong together are
checked together. Prints each finding with its position in the file. Nothing leaves this machine,
except for the DNS queries of --live, and with --against the secrets that the service compares with
the gateway's record; neither is shown.

Exits 1 when there is an error or a warning; --exit-on changes that. --fix applies automatic fixes
after showing the difference, and keeps a copy of the original file. An ignore file (` +
			ignoreName + ` in the working folder, or --ignore) lists accepted findings, each with a
reason and an end date:

  ignore:
    - rule: profile-unsigned
      files: ["*.mobileconfig"]
      reason: handed over in person
      until: 2027-01-31`,
		Example: `  wardicon check norrvik.mobileconfig
  wardicon check parcels/ --output sarif --exit-on error
  wardicon check tallholm.ovpn --for "desk-phone 1" --against
  wardicon check *.nmconnection --fix`,
		RunE: func(cmd *cobra.Command, args []string) error { return a.runCheck(cmd, args, o) },
	}
	f := cmd.Flags()
	f.StringVar(
		&o.least,
		"exit-on",
		"warning",
		"lowest severity that makes the command exit 1: error, warning or note",
	)
	f.StringVar(
		&o.release,
		"for",
		"",
		"platform and release that the files are for, such as \"android 14\"",
	)
	f.StringVar(
		&o.ignore,
		"ignore",
		"",
		"ignore file (default: "+ignoreName+" in the working folder)",
	)
	f.StringVar(
		&o.passphrases,
		"passphrase-file",
		"",
		"file with passphrases for PKCS #12, one per line",
	)
	f.BoolVar(&o.against, "against", false, "compare with the gateways on record at the service")
	f.BoolVar(&o.live, "live", false, "resolve the gateways' names")
	f.BoolVar(
		&o.fix,
		"fix",
		false,
		"apply automatic fixes after showing them; the original is kept as NAME.before-fix",
	)
	return cmd
}

func (a *app) runCheck(cmd *cobra.Command, args []string, o checkOptions) error {
	if !slices.Contains([]string{"error", "warning", "note"}, o.least) {
		return usage("--exit-on: found %q, expected error, warning or note", o.least)
	}
	options, err := a.batchOptions(cmd.Context(), cmd, o)
	if err != nil {
		return err
	}
	ignore, err := a.ignoreFile(o.ignore)
	if err != nil {
		return err
	}
	files, err := a.gather(args)
	if err != nil {
		return err
	}
	begun := time.Now()
	options.Over = func() bool {
		return cmd.Context().Err() != nil ||
			time.Since(begun) > filecheck.Longest
	}
	debug.SetMemoryLimit(memory)
	items := filecheck.Check(files, options)
	if o.fix {
		if items, err = a.fix(files, items, options); err != nil {
			return err
		}
	}
	result := api.CheckedItems(items)
	result.Findings, result.Ignored, result.Ended = filecheck.Apply(
		result.Findings,
		ignore,
		options.Now,
	)
	result.Tally = check.Count(result.Findings)
	if a.output == "sarif" {
		err = a.sarif(result.Findings)
	} else {
		err = a.print(result, func(table.Writer) { a.checked(result) })
	}
	if err != nil {
		return err
	}
	return failed(result.Findings, vpn.Severity(o.least))
}

// checked prints the answer for a reader.
func (a *app) checked(c api.Checked) {
	for _, f := range c.Files {
		for _, one := range f.Connections {
			line := fmt.Sprintf(
				"%s: %s, %s to %s",
				f.Name,
				one.Name,
				one.Protocol.Title(),
				one.Server,
			)
			if one.Gateway != "" {
				line += " (on record as " + one.Gateway + ")"
			}
			a.say("%s", line)
			a.agreements("         ", one.Agreements)
		}
		a.brokenChains(f.Name, f.Chains)
	}
	a.findings(c.Findings)
	if n := len(c.Ignored); n > 0 {
		a.say("ignored: %d", n)
	}
	for _, e := range c.Ended {
		a.say("the ignore entry for %s expired on %s", e.Rule, e.Until)
	}
}

func (a *app) batchOptions(
	ctx context.Context,
	cmd *cobra.Command,
	o checkOptions,
) (filecheck.Options, error) {
	key := make([]byte, 32)
	_, _ = rand.Read(key)
	options := filecheck.Options{
		Now:   time.Now(),
		Fetch: fetch,
		Judge: secret.NewMemo(key, 10_000).Judge,
	}
	if o.release != "" {
		name, release, _ := strings.Cut(o.release, " ")
		found, ok := platform.Find(vpn.Platform(name), strings.TrimSpace(release))
		if !ok || release == "" {
			return options, usage(
				"--for: found %q, expected a platform and a release, such as \"android 14\"; "+
					"wardicon platform list lists them",
				o.release,
			)
		}
		options.Release = &found
	}
	if o.passphrases != "" {
		data, err := a.read(o.passphrases)
		if err != nil {
			return options, err
		}
		for line := range strings.SplitSeq(strings.TrimRight(string(data), "\r\n"), "\n") {
			options.Passphrases = append(
				options.Passphrases,
				secret.New(strings.TrimSuffix(line, "\r")),
			)
		}
	}
	if o.live {
		options.Live = func(host string) *check.Live { return resolveNames(ctx, host) }
	}
	if !o.against {
		return options, nil
	}
	return options, a.with(cmd, func(ctx context.Context, c *client.Client) error {
		options.Compare = func(
			g *vpn.Gateway, one vpn.Connection, field vpn.Field, value secret.Text,
		) check.Compared {
			told, err := c.Compare(cmd.Context(), g.ID, api.Comparison{
				Field: field, Protocol: one.Protocol, Login: one.Login, Value: value,
			})
			if err != nil {
				a.say("%s: not compared: %s", field, err)
			}
			return told
		}
		for offset := 0; ; offset += 200 {
			page, err := c.Gateways.List(ctx, client.Query{Limit: 200, Offset: offset})
			if err != nil {
				return err
			}
			for _, g := range page.Items {
				options.Gateways = append(options.Gateways, g.Gateway)
			}
			if len(page.Items) < 200 {
				return nil
			}
		}
	})
}

// resolveNames asks the name server of this computer.
func resolveNames(ctx context.Context, host string) *check.Live {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	l := &check.Live{Name: host, At: time.Now(), From: "this computer"}
	var err error
	l.Addresses, err = net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	var fault *net.DNSError
	switch {
	case errors.As(err, &fault) && fault.IsNotFound:
		l.Missing = true
	case err != nil:
		l.Fault = "the name server does not answer"
	}
	return l
}

// ignoreFile reads the entries of an ignore file; the one that is looked for by itself may
// be absent.
func (a *app) ignoreFile(name string) ([]filecheck.Ignore, error) {
	asked := name != ""
	if !asked { // never one that lies in what is judged: it would silence its own findings
		name = ignoreName
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) && !asked {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	list, err := filecheck.ParseIgnore(data)
	if err != nil {
		return nil, usage("%s: %v", name, err)
	}
	_, _ = fmt.Fprintf(a.Err, "%d entries of the ignore file %s apply\n", len(list), name)
	return list, nil
}

// gather reads files and folders.
func (a *app) gather(args []string) ([]filecheck.File, error) {
	var files []filecheck.File
	total := 0
	take := func(name string, data []byte, asked, exposed bool) error {
		if total += len(data); total > maxTotal || len(files) >= maxFiles {
			return fmt.Errorf(
				"found more than %d files or %d MB; check them in parts",
				maxFiles,
				maxTotal>>20,
			)
		}
		files = append(
			files,
			filecheck.File{
				Name:    filepath.ToSlash(name),
				Data:    data,
				Asked:   asked,
				Exposed: exposed,
			},
		)
		return nil
	}
	for _, arg := range args {
		if arg == "-" {
			data, err := a.read("-")
			if err != nil {
				return nil, err
			}
			if err := take("-", data, true, false); err != nil {
				return nil, err
			}
			continue
		}
		err := filepath.WalkDir(arg, func(name string, d fs.DirEntry, err error) error {
			switch {
			case errors.Is(err, fs.ErrNotExist):
				return usage("%w", err)
			case err != nil:
				return err
			case d.IsDir() && name != arg && strings.HasPrefix(d.Name(), "."):
				return fs.SkipDir
			case d.IsDir() || d.Name() == ignoreName || name != arg && !d.Type().IsRegular():
				return nil
			}
			data, exposed, err := readFile(name)
			if err != nil {
				return err
			}
			return take(name, data, name == arg, exposed)
		})
		if err != nil {
			return nil, err
		}
	}
	return files, nil
}

// readFile reads a file within the bounds of all readers, and tells whether others can
// read it too.
func readFile(name string) (data []byte, exposed bool, err error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, false, err
	}
	info, err := f.Stat()
	if err == nil {
		exposed = info.Mode().IsRegular() && info.Mode().Perm()&0o044 != 0
		var b bytes.Buffer
		b.Grow(int(min(max(info.Size(), 0), maxRead)) + bytes.MinRead)
		_, err = b.ReadFrom(io.LimitReader(f, maxRead))
		data = b.Bytes()
	}
	return data, exposed, errors.Join(err, f.Close())
}

// fetch reads a file beside another one.
func fetch(folder, name string) ([]byte, bool) {
	data, _, err := readFile(filepath.Join(filepath.FromSlash(folder), filepath.Base(name)))
	return data, err == nil
}

// fix fixes what is mechanical, shows it, and looks at everything again.
func (a *app) fix(
	files []filecheck.File,
	items []filecheck.Item,
	options filecheck.Options,
) ([]filecheck.Item, error) {
	changed := false
	for _, item := range items {
		i := slices.IndexFunc(files, func(f filecheck.File) bool { return f.Name == item.Name })
		if i < 0 || item.Name == "-" ||
			!slices.ContainsFunc(item.Findings, func(f check.Finding) bool { return f.Fixable }) {
			continue // in an archive, or nothing to do
		}
		m := filecheck.Fix(files[i], files, item)
		if len(m.Done) == 0 {
			continue
		}
		for _, f := range m.Done {
			_, _ = fmt.Fprintf(a.Err, "fixed  %s: %s [%s]\n", f.Position, f.Title, f.Rule)
		}
		_, _ = fmt.Fprint(a.Err, difference(m))
		if err := replace(item.Name, m); err != nil {
			return nil, err
		}
		files[i].Data, changed = m.New, true
	}
	if !changed {
		return items, nil
	}
	return filecheck.Check(files, options), nil
}

// difference compares a file before and after, without its secrets.
func difference(m filecheck.Fixed) string {
	var pairs []string
	for _, s := range m.Secrets {
		pairs = append(pairs, s, secret.Hidden)
	}
	hide := strings.NewReplacer(pairs...)
	before, after := hide.Replace(string(m.Old)), hide.Replace(string(m.New))
	if before == after {
		return "        (a secret was changed; it is not shown)\n"
	}
	lines := strings.SplitAfter(udiff.Unified(m.Name, m.Name+" (fixed)", before, after), "\n")
	for i, line := range lines { // a blank at an end, which most fixes are about, is drawn
		if text := strings.TrimRight(
			line,
			"\r\n",
		); strings.HasPrefix(text, "-") ||
			strings.HasPrefix(text, "+") {
			bare := strings.TrimRight(text, " ")
			lines[i] = bare + strings.Repeat(
				string(secret.SpaceSign),
				len(text)-len(bare),
			) + line[len(text):]
		}
	}
	return strings.Join(lines, "")
}

// replace keeps the file as it was beside it and puts the fixed one into its place, whole.
func replace(name string, m filecheck.Fixed) error {
	name = filepath.FromSlash(name)
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	if now, err := os.ReadFile(name); err != nil || !bytes.Equal(now, m.Old) {
		return fmt.Errorf("%s was changed in the meantime; nothing was fixed in it", name)
	}
	write := func(to string, data []byte, flag int) error {
		f, err := os.OpenFile(to, flag, info.Mode().Perm())
		if err != nil {
			return err
		}
		_, err = f.Write(data)
		return errors.Join(err, f.Sync(), f.Close())
	}
	backup := name + ".before-fix"
	if err := write(backup, m.Old, os.O_WRONLY|os.O_CREATE|os.O_EXCL); err != nil {
		return fmt.Errorf("%w; there is an earlier copy, move it away first", err)
	}
	fresh := path.Join(filepath.Dir(name), "."+filepath.Base(name)+".fixing")
	if err := write(fresh, m.New, os.O_WRONLY|os.O_CREATE|os.O_TRUNC); err != nil {
		return err
	}
	return os.Rename(fresh, name)
}

// brokenChains draws the chains with a link at fault.
func (a *app) brokenChains(of string, chains [][]pki.Link) {
	for _, links := range chains {
		if slices.ContainsFunc(links, func(l pki.Link) bool { return l.Fault != "" }) {
			a.say("%s", strings.TrimSpace(of+" chain of certificates"))
			a.links(links)
			a.say("")
		}
	}
}
