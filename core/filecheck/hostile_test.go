package filecheck_test

import (
	"archive/zip"
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"fmt"
	"math/big"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"software.sslmate.com/src/go-pkcs12"

	"wardicon/core/filecheck"
)

// seq and others write DER for files that no honest program makes.
func tlv(tag byte, parts ...[]byte) []byte {
	content := bytes.Join(parts, nil)
	n := len(content)
	switch {
	case n < 0x80:
		return append([]byte{tag, byte(n)}, content...)
	case n < 0x100:
		return append([]byte{tag, 0x81, byte(n)}, content...)
	case n < 0x10000:
		return append([]byte{tag, 0x82, byte(n >> 8), byte(n)}, content...)
	}
	return append([]byte{tag, 0x83, byte(n >> 16), byte(n >> 8), byte(n)}, content...)
}

func seq(parts ...[]byte) []byte { return tlv(0x30, parts...) }

func der(v any) []byte {
	data, err := asn1.Marshal(v)
	if err != nil {
		panic(err)
	}
	return data
}

func oid(n ...int) []byte { return der(asn1.ObjectIdentifier(n)) }

// pbes2 names PBES2 with AES-256-CBC and so many rounds (RFC 8018 §A.4).
func pbes2(salt, iv []byte, rounds int) []byte {
	derive := seq(
		oid(1, 2, 840, 113549, 1, 5, 12),
		seq(der(salt), der(rounds), seq(oid(1, 2, 840, 113549, 2, 9), []byte{5, 0})),
	)
	return seq(
		oid(1, 2, 840, 113549, 1, 5, 13),
		seq(derive, seq(oid(2, 16, 840, 1, 101, 3, 4, 1, 42), der(iv))),
	)
}

// innerBag is PKCS #12 whose encrypted part, which anybody opens with no passphrase, holds a key
// that asks for endless rounds.
func innerBag(rounds int) []byte {
	salt, iv := make([]byte, 8), make([]byte, 16)
	shrouded := seq(pbes2(salt, iv, rounds), der(make([]byte, 32)))
	safe := seq(seq(oid(1, 2, 840, 113549, 1, 12, 10, 1, 2), tlv(0xa0, shrouded)))
	pad := 16 - len(safe)%16
	safe = append(safe, bytes.Repeat([]byte{byte(pad)}, pad)...)
	key, _ := pbkdf2.Key(sha256.New, "", salt, 1, 32)
	block, _ := aes.NewCipher(key)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(safe, safe)
	encrypted := seq(
		oid(1, 2, 840, 113549, 1, 7, 6),
		tlv(
			0xa0,
			seq(der(0), seq(oid(1, 2, 840, 113549, 1, 7, 1), pbes2(salt, iv, 1), tlv(0x80, safe))),
		),
	)
	return seq(der(3), seq(oid(1, 2, 840, 113549, 1, 7, 1), tlv(0xa0, der(seq(encrypted)))))
}

// deep is PKCS #7 with so many elements one in another: with lengths, or without (X.690 §8.1.3.6).
func deep(n int, open bool) []byte {
	head := oid(1, 2, 840, 113549, 1, 7, 2)
	if open {
		return append(
			append(append([]byte{0x30, 0x80}, head...), bytes.Repeat([]byte{0xa0, 0x80}, n)...),
			bytes.Repeat([]byte{0, 0}, n+1)...)
	}
	inner := []byte{}
	for range n {
		inner = tlv(0xa0, inner)
	}
	return seq(head, inner)
}

// odd is a number of so many bits.
func odd(bits int) *big.Int {
	n := new(big.Int).Lsh(big.NewInt(1), uint(bits)-1)
	return n.Add(n, big.NewInt(12345))
}

var maker = func() *ecdsa.PrivateKey {
	k, _ := ecdsa.GenerateKey(elliptic.P256(),
		rand.Reader)
	return k
}()

// certificate has a key of somebody's making; it names itself as its issuer, so that whoever builds
// a path tries it.
func certificate(public any, serial int64) []byte {
	t := &x509.Certificate{
		SerialNumber:          big.NewInt(serial),
		Subject:               pkix.Name{CommonName: "Skerry Line Root"},
		NotBefore:             time.Unix(1.7e9, 0),
		NotAfter:              time.Unix(4e9, 0),
		IsCA:                  true,
		BasicConstraintsValid: true,
	}
	list, err := x509.CreateCertificate(
		rand.Reader,
		t,
		&x509.Certificate{Subject: t.Subject},
		public,
		maker,
	)
	if err != nil {
		panic(err)
	}
	return list
}

func inPEM(kind string, data ...[]byte) (text []byte) {
	for _, one := range data {
		text = append(text, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: one})...)
	}
	return text
}

// TestHostileFiles measures what files cost that were made to cost: no lot takes more than two
// seconds of a processor or 150 MB, and each is answered.
func TestHostileFiles(t *testing.T) {
	huge := &rsa.PublicKey{N: odd(131_072), E: 65537}
	private := seq(
		der(0),
		der(huge.N),
		der(65537),
		der(odd(131_000)),
		der(odd(65_536)),
		der(odd(65_536)),
		der(odd(65_000)),
		der(odd(65_000)),
		der(odd(65_000)),
	)
	var many [][]byte
	for i := range 150 {
		many = append(many, certificate(&rsa.PublicKey{N: odd(8192 + 2*i), E: 1<<31 - 1}, int64(i)))
	}
	var bundle [][]byte
	for i := range 150 {
		bundle = append(
			bundle,
			certificate(
				&rsa.PublicKey{
					N: new(big.Int).Add(odd(8192), big.NewInt(int64(2*i))),
					E: 1<<31 - 1,
				},
				int64(i),
			),
		)
	}
	modern, err := pkcs12.Modern2023.WithIterations(1_000_000).
		Encode(maker, must(x509.ParseCertificate(certificate(maker.Public(), 1))), nil, "another")
	if err != nil {
		t.Fatal(err)
	}
	packed := func(names int, content string) []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for i := range names {
			w, _ := z.Create(fmt.Sprintf("%d.ovpn", i))
			_, _ = w.Write([]byte(content))
		}
		_ = z.Close()
		return b.Bytes()
	}
	// One file names another of 7 MB again and again.
	again := func(file, head, line string, times int, other, filler string) []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		w, _ := z.Create(file)
		_, _ = w.Write([]byte(head))
		_, _ = w.Write([]byte(named(times, line)))
		w, _ = z.CreateHeader(&zip.FileHeader{Name: other, Method: zip.Store})
		_, _ = w.Write(bytes.Repeat([]byte(filler), (7<<20)/len(filler)))
		_ = z.Close()
		return b.Bytes()
	}
	sections := "connections {\n a {\n  version = 2\n  remote_addrs = a.example\n }\n}\n"
	profile := "client\ndev tun\nremote norrvik.skerryline.example 1194 " +
		"udp\nauth-user-pass\nremote-cert-tls server\n<ca>\n" + string(
		inPEM("CERTIFICATE", bundle[0]),
	) + "</ca>\n"
	t.Logf("%-34s %9s %8s %8s", "file", "bytes", "CPU", "MB")
	for _, test := range []struct {
		name, file string
		data       []byte
	}{
		{"rounds inside encrypted data", "a.p12", innerBag(1 << 30)},
		{"a number of rounds without end", "a.p12", innerBag(1 << 60)},
		{"PKCS #12 closed otherwise", "a.p12", modern},
		{"PKCS #7, deep with lengths", "a.p7b", deep(60_000, false)},
		{"PKCS #7, deep without", "a.p7b", deep(120_000, true)},
		{"PKCS #7, deep, packed", "a.zip", zippedOne("a.p7b", deep(120_000, true))},
		{"RSA of 131,072 bits", "a.pem", inPEM("CERTIFICATE", certificate(huge, 1))},
		{"RSA of 131,072 bits, DER", "a.cer", certificate(huge, 1)},
		{"private RSA of 131,072 bits", "a.pem", inPEM("RSA PRIVATE KEY", private)},
		{"private RSA, PKCS #8", "a.key", inPEM("PRIVATE KEY",
			seq(der(0), seq(oid(1, 2, 840, 113549, 1, 1, 1), []byte{5, 0}), der(private)))},
		{"150 keys above 8,192 bits", "a.pem", inPEM("CERTIFICATE", many...)},
		{"150 issuers of 8,192 bits", "a.pem", inPEM("CERTIFICATE", bundle...)},
		{"4,000 files in 160 KB", "a.zip", packed(2000,
			"client\n"+strings.Repeat("remote a.example 1194\n", 60))},
		{"1,000 profiles that look alike", "a.zip", packed(1000, profile)},
		{"one profile of many remotes", "a.ovpn", []byte("client\ndev tun\n" +
			strings.Repeat("remote norrvik.skerryline.example 1194 udp\n", 100_000))},
		{"an include, 10,000 times", "a.zip",
			again("a.conf", sections, "include b.conf\n", 10_000, "b.conf", "# x\n")},
		{"a file that includes itself", "a.zip",
			again("b.conf", sections, "include a.conf\n", 10, "a.conf", "include a.conf\n")},
		{"options of 10,000 callers", "a.zip", again("xl2tpd.conf", "", "[lac a%]\nlns = a.example\n"+
			"pppoptfile = /etc/ppp/b\n", 10_000, "b", "noauth\n")},
		{"options within options", "a.zip",
			again("peer", "pty \"pptp a.example --nolaunchpppd\"\nname a\n", "file b\n", 10_000, "b",
				"file b\nnoauth\n")},
		{"sections that name each other", "ipsec.conf", []byte("conn %default\n\tkeyexchange=ikev2\n" +
			named(40, "conn a%\n\tright=a.example\n\talso=a#\n\talso=a#\n\talso=a#\n"))},
		{"10,000 sections of one template", "ipsec.conf", []byte("conn a\n" +
			named(9_000, "\tk%=1\n") + named(5_000, "conn b%\n\talso=a\n"))},
		{"references without end", "swanctl.conf", []byte(sections + "x {\n" +
			named(10_000, " k% = 1\n") + "}\n" + named(10_000, "a% : x { }\n"))},
	} {
		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		begun := used()
		top := make(chan uint64)
		stop := make(chan struct{})
		go watch(stop, top)
		items := filecheck.Check(
			[]filecheck.File{{Name: test.file, Data: test.data, Asked: true}},
			filecheck.Options{Now: time.Now()},
		)
		took := used() - begun
		close(stop)
		runtime.ReadMemStats(&after)
		heap := float64(
			max(<-top, after.HeapAlloc)-min(before.HeapAlloc, after.HeapAlloc),
		) / (1 << 20)
		t.Logf("%-34s %9d %8s %8.0f", test.name, len(test.data), took.Round(time.Millisecond), heap)
		if len(items) == 0 {
			t.Errorf("%s: no answer", test.name)
		}
		if took > 2*time.Second || heap > 150 {
			t.Errorf("%s: took %s and %.0f MB", test.name, took, heap)
		}
	}
}

// named repeats a text with its number for %, and the next for #.
func named(times int, text string) string {
	var b strings.Builder
	for i := range times {
		b.WriteString(strings.NewReplacer("%", strconv.Itoa(i), "#", strconv.Itoa(i+1)).Replace(text))
	}
	return b.String()
}

func zippedOne(name string, data []byte) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, _ := z.Create(name)
	_, _ = w.Write(data)
	_ = z.Close()
	return b.Bytes()
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// used is the time that the processor has spent on this process.
func used() time.Duration {
	var r syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &r); err != nil {
		panic(err)
	}
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}

// watch keeps the highest heap.
func watch(stop chan struct{}, top chan uint64) {
	var most uint64
	for {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		most = max(most, m.HeapAlloc)
		select {
		case <-stop:
			top <- most
			return
		case <-time.After(5 * time.Millisecond):
		}
	}
}
