// Pack makes a Debian package (deb(5)) of a static binary, with manual pages and completions made
// from its commands. The same input gives the same bytes: all files have the time of
// SOURCE_DATE_EPOCH, and belong to root.
//
//	pack BINARY ARCHITECTURE VERSION OUT.deb
package main

import (
	"archive/tar"
	"bytes"
	"cmp"
	"compress/gzip"
	"crypto/md5"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra/doc"

	"wardicon/cli"
	"wardicon/pkcs11"
)

func main() {
	if err := pack(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "pack:", err)
		os.Exit(1)
	}
}

// file is one of the package.
type file struct {
	path string // from the root
	mode int64
	data []byte
}

func pack(args []string) error {
	if len(args) != 4 && len(args) != 5 {
		return errors.New("expected BINARY ARCHITECTURE VERSION OUT.deb [TOKENS]")
	}
	seconds, err := strconv.ParseInt(cmp.Or(os.Getenv("SOURCE_DATE_EPOCH"), "0"), 10, 64)
	if err != nil {
		return fmt.Errorf("SOURCE_DATE_EPOCH: %w", err)
	}
	at := time.Unix(seconds, 0).UTC()
	binary, err := os.ReadFile(args[0])
	if err != nil {
		return err
	}
	files := []file{{"usr/bin/wardicon", 0o755, binary}}
	depends := "passwd"
	if len(args) == 5 { // what loads the modules of tokens needs the C library, as they do
		tokens, err := os.ReadFile(args[4])
		if err != nil {
			return err
		}
		files = append(files, file{"usr/bin/" + pkcs11.Helper, 0o755, tokens})
		depends += ", libc6 (>= 2.34)"
	}
	for _, one := range []struct {
		from, to string
		packed   bool
	}{
		{"packaging/wardicon.service", "usr/lib/systemd/system/wardicon.service", false},
		{"packaging/wardicon.yaml", "etc/wardicon/wardicon.yaml", false},
		{"packaging/copyright", "usr/share/doc/wardicon/copyright", false},
		{"CHANGELOG.md", "usr/share/doc/wardicon/changelog.gz", true},
	} {
		data, err := os.ReadFile(one.from)
		if err == nil && one.packed {
			data, err = packed(data)
		}
		if err != nil {
			return err
		}
		files = append(files, file{one.to, 0o644, data})
	}
	described, err := described(at)
	if err != nil {
		return err
	}
	files = append(files, described...)
	return write(args[3], files, args[1], args[2], depends, at)
}

// described are manual pages and completions.
func described(at time.Time) (files []file, err error) {
	root := cli.Tree()
	root.DisableAutoGenTag = true
	dir, err := os.MkdirTemp("", "pack-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	header := &doc.GenManHeader{Section: "1", Source: "Wardicon", Manual: "Wardicon", Date: &at}
	if err := doc.GenManTree(root, header, dir); err != nil {
		return nil, err
	}
	pages, err := filepath.Glob(filepath.Join(dir, "*.1"))
	if err != nil {
		return nil, err
	}
	for _, page := range pages {
		data, err := os.ReadFile(page)
		if err == nil {
			data, err = packed(data)
		}
		if err != nil {
			return nil, err
		}
		files = append(files, file{"usr/share/man/man1/" + filepath.Base(page) + ".gz", 0o644, data})
	}
	for _, one := range []struct {
		to    string
		write func(io.Writer) error
	}{
		{"usr/share/bash-completion/completions/wardicon", func(w io.Writer) error {
			return root.GenBashCompletionV2(w, true)
		}},
		{"usr/share/zsh/vendor-completions/_wardicon", root.GenZshCompletion},
		{"usr/share/fish/vendor_completions.d/wardicon.fish", func(w io.Writer) error {
			return root.GenFishCompletion(w, true)
		}},
	} {
		var b bytes.Buffer
		if err := one.write(&b); err != nil {
			return nil, err
		}
		files = append(files, file{one.to, 0o644, b.Bytes()})
	}
	return files, nil
}

func packed(data []byte) ([]byte, error) {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write(data)
	err = errors.Join(err, w.Close())
	return b.Bytes(), err
}

// write writes the package: its format, what Debian is told of it, and its files.
func write(to string, files []file, architecture, version, depends string, at time.Time) error {
	slices.SortFunc(files, func(a, b file) int { return strings.Compare(a.path, b.path) })
	size := 0
	var sums strings.Builder
	for _, f := range files {
		size += len(f.data)
		fmt.Fprintf(&sums, "%x  %s\n", md5.Sum(f.data), f.path) // deb-md5sums(5)
	}
	control := []file{
		{"control", 0o644, fmt.Appendf(nil, `Package: wardicon
Version: %s
Architecture: %s
Maintainer: Wardicon developers <wardicon@skerryline.example>
Installed-Size: %d
Depends: %s
Recommends: ca-certificates
Section: net
Priority: optional
Description: builds and hands over VPN client profiles
 Plans the connection of every device with a reason for each choice, finds
 errors before a person meets them, and hands the files over by links.
`, version, architecture, size/1024, depends)},
		{"conffiles", 0o644, []byte("/etc/wardicon/wardicon.yaml\n")},
		{"md5sums", 0o644, []byte(sums.String())},
	}
	for _, script := range []string{"postinst", "prerm", "postrm"} {
		data, err := os.ReadFile("packaging/" + script)
		if err != nil {
			return err
		}
		control = append(control, file{script, 0o755, data})
	}
	about, err := archive(control, at)
	if err != nil {
		return err
	}
	data, err := archive(files, at)
	if err != nil {
		return err
	}
	out := []byte("!<arch>\n")
	for _, member := range []file{
		{"debian-binary", 0o644, []byte("2.0\n")},
		{"control.tar.gz", 0o644, about},
		{"data.tar.gz", 0o644, data},
	} {
		out = fmt.Appendf(out, "%-16s%-12d%-6d%-6d%-8o%-10d`\n", member.path, at.Unix(), 0, 0,
			0o100000|member.mode, len(member.data))
		out = append(out, member.data...)
		if len(member.data)%2 == 1 {
			out = append(out, '\n')
		}
	}
	return os.WriteFile(to, out, 0o644)
}

// archive packs files with their folders.
func archive(files []file, at time.Time) ([]byte, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	made := map[string]bool{}
	var folders func(dir string) error
	folders = func(dir string) error {
		if made[dir] {
			return nil
		}
		made[dir] = true
		if dir != "." {
			if err := folders(path.Dir(dir)); err != nil {
				return err
			}
		}
		name := "./" + dir + "/"
		if dir == "." {
			name = "./"
		}
		return w.WriteHeader(&tar.Header{
			Typeflag: tar.TypeDir, Name: name, Mode: 0o755, ModTime: at, Uname: "root",
			Gname: "root", Format: tar.FormatGNU,
		})
	}
	for _, f := range files {
		if err := folders(path.Dir(f.path)); err != nil {
			return nil, err
		}
		if err := w.WriteHeader(&tar.Header{
			Typeflag: tar.TypeReg, Name: "./" + f.path, Mode: f.mode, Size: int64(len(f.data)),
			ModTime: at, Uname: "root", Gname: "root", Format: tar.FormatGNU,
		}); err != nil {
			return nil, err
		}
		if _, err := w.Write(f.data); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return packed(b.Bytes())
}
