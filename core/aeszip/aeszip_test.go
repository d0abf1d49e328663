package aeszip

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"crypto/rand"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wardicon/core/secret"
)

var sample = []File{
	{"Ada/Planner Mac 1/norrvik.mobileconfig", bytes.Repeat([]byte("a profile, "), 5000)},
	{"Åse/Bro-nettbrett/empty.txt", nil},
	{"read me.txt", []byte("x")},
}

func write(t *testing.T, passphrase string) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := Write(
		&b,
		rand.Reader,
		secret.New(passphrase),
		time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC),
		sample,
	); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestWrite reads an archive back part by part, and looks that nothing of the content is in it in
// clear.
func TestWrite(t *testing.T) {
	data := write(t, "tern-88-Gannet")
	if bytes.Contains(data, []byte("a profile")) {
		t.Error("the content is there in clear")
	}
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil || len(archive.File) != len(sample) {
		t.Fatalf("%d files (%v)", len(archive.File), err)
	}
	for i, f := range archive.File {
		raw, err := f.OpenRaw()
		if err != nil {
			t.Fatal(err)
		}
		all, err := io.ReadAll(raw)
		if err != nil || f.Name != sample[i].Name || f.CRC32 != 0 {
			t.Fatalf("%s: checksum %d (%v)", f.Name, f.CRC32, err)
		}
		k, err := derive(secret.New("tern-88-Gannet"), all[:saltSize])
		if err != nil {
			t.Fatal(err)
		}
		text := all[saltSize+checkSize : len(all)-macSize]
		if !bytes.Equal(k.check, all[saltSize:saltSize+checkSize]) ||
			!bytes.Equal(k.sum(text), all[len(all)-macSize:]) {
			t.Errorf("%s: check or digest differ", f.Name)
		}
		if err := k.crypt(text); err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(
			flate.NewReader(bytes.NewReader(text)),
		); err != nil ||
			!bytes.Equal(got, sample[i].Content) {
			t.Errorf("%s: %d bytes (%v)", f.Name, len(got), err)
		}
	}
	for _, name := range []string{"", "/etc/passwd", "../up", "a/../../up", "a\\b", "c:x"} {
		if err := Write(
			io.Discard,
			rand.Reader,
			secret.New("x"),
			time.Now(),
			[]File{{Name: name}},
		); err == nil {
			t.Errorf("%q was taken for a name", name)
		}
	}
}

// TestOpened lets another program open an archive, and fail on a wrong passphrase and on a changed
// byte.
func TestOpened(t *testing.T) {
	tool, err := exec.LookPath("7z")
	if err != nil {
		t.Skip("no 7z here")
	}
	data := write(t, "tern-88-Gannet")
	broken := slices.Clone(data)
	broken[len("Ada/Planner Mac 1/norrvik.mobileconfig")+150] ^= 1
	for _, test := range []struct {
		name, passphrase string
		data             []byte
		opens            bool
	}{
		{"right", "tern-88-Gannet", data, true},
		{"wrong", "tern-88-gannet", data, false},
		{"changed", "tern-88-Gannet", broken, false},
	} {
		dir := t.TempDir()
		file := filepath.Join(dir, "archive.zip")
		if err := os.WriteFile(file, test.data, 0o600); err != nil {
			t.Fatal(err)
		}
		cmd := exec.CommandContext(
			t.Context(),
			tool,
			"x",
			"-y",
			"-p"+test.passphrase,
			"-o"+filepath.Join(dir, "out"),
			file,
		)
		cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
		said, err := cmd.CombinedOutput()
		if (err == nil) != test.opens {
			t.Errorf("%s: %v\n%s", test.name, err, said)
		}
		if !test.opens {
			continue
		}
		for _, f := range sample {
			got, err := os.ReadFile(filepath.Join(dir, "out", filepath.FromSlash(f.Name)))
			if err != nil || !bytes.Equal(got, f.Content) {
				t.Errorf("%s: %d bytes (%v)", f.Name, len(got), err)
			}
		}
		if !strings.Contains(string(said), "Everything is Ok") {
			t.Errorf("%s", said)
		}
	}
}
