package filecheck

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"wardicon/core/format"
)

// Bounds on what an archive may ask for.
const (
	maxEntries  = 4_000
	maxUnpacked = 64 << 20
	maxRatio    = 100 // of unpacked to packed bytes, above a megabyte
	maxNested   = 2   // archives inside archives
)

// unpacker takes archives apart within bounds that all archives of a batch share.
type unpacker struct {
	files   []File
	notes   []format.Note
	entries int
	bytes   int
	over    func() bool // there is no more time
}

var errTooMuch = errors.New("more than an archive of connections ever holds")

func isArchive(data []byte) bool {
	return bytes.HasPrefix(data, []byte("PK\x03\x04")) ||
		bytes.HasPrefix(data, []byte{0x1f, 0x8b}) ||
		len(data) > 262 && string(data[257:262]) == "ustar"
}

// add takes a file in; an archive is taken apart, and what is wrong with it is remarked.
func (u *unpacker) add(f File, depth int) {
	if !isArchive(f.Data) {
		u.files = append(u.files, f)
		return
	}
	refuse := func(what string, args ...any) {
		u.notes = append(
			u.notes,
			format.Note{
				Kind:  format.ArchiveRefused,
				Found: fmt.Sprintf(what, args...),
				At:    format.Position{File: f.Name, Line: 1, Column: 1},
			},
		)
	}
	if depth > maxNested {
		refuse("archives in archives, more than %d deep", maxNested)
		return
	}
	var err error
	switch {
	case f.Data[0] == 'P':
		err = u.zip(f, depth)
	case f.Data[0] == 0x1f:
		err = u.gzip(f, depth)
	default:
		err = u.tar(f.Name, bytes.NewReader(f.Data), len(f.Data), depth)
	}
	if err != nil {
		refuse("%s", err)
	}
}

// entry takes one file out of an archive.
func (u *unpacker) entry(archive, name string, r io.Reader, packed, depth int) error {
	clean := path.Clean(strings.ReplaceAll(name, `\`, "/"))
	if strings.HasPrefix(clean, "/") || clean == ".." || strings.HasPrefix(clean, "../") ||
		strings.ContainsRune(clean, 0) ||
		len(clean) > 1 && clean[1] == ':' {
		return fmt.Errorf("the name %q leads out of its folder", name)
	}
	if u.entries++; u.entries > maxEntries || u.over() {
		return errTooMuch
	}
	limit := min(format.MaxFile+1, maxUnpacked-u.bytes)
	data, err := io.ReadAll(io.LimitReader(r, int64(limit)))
	if err != nil {
		return errors.New("broken, or cut short")
	}
	if len(data) > 1<<20 && len(data)/max(packed, 1) > maxRatio {
		return fmt.Errorf("%q grows to more than %d times its size", name, maxRatio)
	}
	if u.bytes += len(data); u.bytes >= maxUnpacked {
		return errTooMuch
	}
	u.add(File{Name: archive + "/" + clean, Data: data}, depth+1)
	return nil
}

func (u *unpacker) zip(f File, depth int) error {
	z, err := zip.NewReader(bytes.NewReader(f.Data), int64(len(f.Data)))
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return errors.New("broken, or cut short")
	}
	for _, e := range z.File {
		if e.FileInfo().IsDir() || !e.Mode().IsRegular() {
			continue
		}
		if e.Flags&1 != 0 {
			return fmt.Errorf("%q is closed by a passphrase", e.Name)
		}
		if e.UncompressedSize64 > format.MaxFile &&
			e.UncompressedSize64/max(e.CompressedSize64, 1) > maxRatio {
			return fmt.Errorf("%q grows to more than %d times its size", e.Name, maxRatio)
		}
		r, err := e.Open()
		if err != nil {
			return errors.New("packed in a way that is not read")
		}
		err = u.entry(f.Name, e.Name, r, int(min(e.CompressedSize64, maxUnpacked)), depth)
		_ = r.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (u *unpacker) gzip(f File, depth int) error {
	z, err := gzip.NewReader(bytes.NewReader(f.Data))
	if err != nil {
		return errors.New("broken, or cut short")
	}
	head := make([]byte, 512)
	n, err := io.ReadFull(z, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return errors.New("broken, or cut short")
	}
	rest := io.MultiReader(bytes.NewReader(head[:n]), z)
	if n > 262 && string(head[257:262]) == "ustar" {
		return u.tar(f.Name, rest, len(f.Data), depth)
	}
	return u.entry(
		f.Name,
		strings.TrimSuffix(path.Base(f.Name), path.Ext(f.Name)),
		rest,
		len(f.Data),
		depth,
	)
}

func (u *unpacker) tar(name string, r io.Reader, packed, depth int) error {
	t := tar.NewReader(io.LimitReader(r, maxUnpacked))
	for {
		h, err := t.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil && h == nil:
			return errors.New("broken, or cut short")
		case h.Typeflag != tar.TypeReg:
			if u.entries++; u.entries > maxEntries {
				return errTooMuch
			}
			continue
		}
		if err := u.entry(name, h.Name, t, packed, depth); err != nil {
			return err
		}
	}
}
