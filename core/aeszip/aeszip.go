// Package aeszip writes ZIP archives whose files are encrypted with AES-256 under a passphrase, in
// the form AE-2 that common archive programs open (APPNOTE.TXT §4.5.3 and §7.2; "AES Encryption
// Information", version 1.04). Names and sizes of files are not encrypted: the form has no place
// for that.
package aeszip

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"crypto/aes"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"wardicon/core/secret"
)

// Numbers of the form AE-2.
const (
	method     = 99     // of a file that is encrypted
	extraID    = 0x9901 // of the field that says how
	strength   = 3      // AES-256
	saltSize   = 16
	keySize    = 32
	checkSize  = 2
	macSize    = 10
	iterations = 1000 // fixed by the form: the passphrase itself must be strong
	encrypted  = 0x1  // general purpose flag
	utf8Names  = 0x800
)

// LeastBits is how strong a passphrase must at least be, for the few iterations that the form has.
const LeastBits = 100

// File is a file of an archive. Its name may have folders, parted by slashes.
type File struct {
	Name    string
	Content []byte
}

// Write writes an archive. random is a source of randomness fit for keys, at is when the files were
// made.
func Write(
	to io.Writer,
	random io.Reader,
	passphrase secret.Text,
	at time.Time,
	files []File,
) error {
	archive := zip.NewWriter(to)
	for _, f := range files {
		if f.Name == "" || path.IsAbs(f.Name) || path.Clean(f.Name) != f.Name ||
			strings.HasPrefix(f.Name, "../") ||
			strings.ContainsAny(f.Name, "\\:\x00") {
			return fmt.Errorf("archive: found the name %q, expected one inside the archive", f.Name)
		}
		if err := add(archive, random, passphrase, at, f); err != nil {
			return fmt.Errorf("archive: %s: %w", f.Name, err)
		}
	}
	return archive.Close()
}

func add(
	archive *zip.Writer,
	random io.Reader,
	passphrase secret.Text,
	at time.Time,
	f File,
) error {
	var packed bytes.Buffer
	deflate, err := flate.NewWriter(&packed, flate.DefaultCompression)
	if err != nil {
		return err
	}
	if _, err := deflate.Write(f.Content); err != nil {
		return err
	}
	if err := deflate.Close(); err != nil {
		return err
	}
	salt := make([]byte, saltSize)
	if _, err := io.ReadFull(random, salt); err != nil {
		return err
	}
	k, err := derive(passphrase, salt)
	if err != nil {
		return err
	}
	text := packed.Bytes()
	if err := k.crypt(text); err != nil {
		return err
	}
	size := saltSize + checkSize + len(text) + macSize
	h := &zip.FileHeader{
		Name:               f.Name,
		Method:             method,
		Flags:              encrypted | utf8Names,
		Modified:           at,
		UncompressedSize64: uint64(len(f.Content)),
		CompressedSize64:   uint64(size),
		// The form AE-2 leaves the checksum of what is inside out: the digest below stands for it.
		Extra: []byte{
			extraID & 0xFF,
			extraID >> 8,
			7,
			0,
			2,
			0,
			'A',
			'E',
			strength,
			byte(zip.Deflate),
			0,
		},
	}
	w, err := archive.CreateRaw(h)
	if err != nil {
		return err
	}
	for _, part := range [][]byte{salt, k.check, text, k.sum(text)} {
		if _, err := w.Write(part); err != nil {
			return err
		}
	}
	return nil
}

// keys are those of one file.
type keys struct{ cipher, mac, check []byte }

func derive(passphrase secret.Text, salt []byte) (k keys, err error) {
	all, err := pbkdf2.Key(sha1.New, passphrase.Reveal(), salt, iterations, 2*keySize+checkSize)
	if err != nil {
		return k, err
	}
	return keys{all[:keySize], all[keySize : 2*keySize], all[2*keySize:]}, nil
}

// crypt encrypts or decrypts in place: AES in counter mode with a counter that begins at 1, its
// lowest byte first.
func (k keys) crypt(text []byte) error {
	block, err := aes.NewCipher(k.cipher)
	if err != nil {
		return err
	}
	var count, stream [aes.BlockSize]byte
	for n := uint64(1); len(text) > 0; n++ {
		binary.LittleEndian.PutUint64(count[:], n)
		block.Encrypt(stream[:], count[:])
		i := min(len(text), aes.BlockSize)
		for at := range i {
			text[at] ^= stream[at]
		}
		text = text[i:]
	}
	return nil
}

func (k keys) sum(text []byte) []byte {
	m := hmac.New(sha1.New, k.mac)
	_, _ = m.Write(text)
	return m.Sum(nil)[:macSize]
}
