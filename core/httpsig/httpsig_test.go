package httpsig_test

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"wardicon/core/httpsig"
)

// TestSignature makes the signature of RFC 9421 §B.2.5 with the key of §B.1.5.
func TestSignature(t *testing.T) {
	key, err := base64.StdEncoding.DecodeString("uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxB" +
		"dtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ==")
	if err != nil {
		t.Fatal(err)
	}
	_, mac := httpsig.Signature([]httpsig.Component{
		{Name: "date", Value: "Tue, 20 Apr 2021 02:07:55 GMT"},
		{Name: "@authority", Value: "example.com"},
		{Name: "content-type", Value: "application/json"},
	}, `;created=1618884473;keyid="test-shared-secret"`, key)
	if got := base64.StdEncoding.EncodeToString(mac); got !=
		"pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8=" {
		t.Error(got)
	}
}

// TestDigest makes the digest of RFC 9421 §B.2's request, which RFC 9530 defines.
func TestDigest(t *testing.T) {
	h := httpsig.Sign(httpsig.Message{Method: "POST", URI: "https://example.com/foo",
		Body: []byte(`{"hello": "world"}`)}, []byte("k"), "id", time.Unix(1, 0))
	if h.ContentDigest != "sha-256=:X48E9qOokqqrvdts8nOJRJN3OWDUoyWxBf7kbu9DBPE=:" ||
		!strings.HasPrefix(h.SignatureInput,
			`wardicon=("@method" "@target-uri" "content-digest");created=1;keyid="id"`) {
		t.Errorf("%+v", h)
	}
}
