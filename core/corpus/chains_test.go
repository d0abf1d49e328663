package corpus_test

import (
	"os/exec"
	"strings"
	"testing"
)

// TestLibraryWantsARoot asks the TLS library of the clients whether it takes an intermediate for
// the end of a chain, as rule authority-not-root says that it does not.
func TestLibraryWantsARoot(t *testing.T) {
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("no openssl here")
	}
	const dir = "testdata/certificates/"
	for _, test := range []struct{ trusted, said string }{
		{"deep-root.pem", "OK"},
		{"deep-issuing.pem", "unable to get issuer certificate"},
	} {
		out, _ := exec.Command("openssl", "verify", "-attime", "1790000000", "-CAfile",
			dir+test.trusted, "-untrusted", dir+"deep-issuing.pem",
			dir+"deep-client.pem").CombinedOutput()
		if !strings.Contains(string(out), test.said) {
			t.Errorf("with %s the library says %s, expected %q", test.trusted, out, test.said)
		}
	}
}
