package connect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wardicon/core/explain"
	"wardicon/core/vpn"
)

// explained demands that the log of a real client that fails leads to a cause first.
func explained(t *testing.T, log string, protocol vpn.Protocol, cause string) {
	t.Helper()
	r, err := explain.Read(strings.NewReader(log), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	x := explain.Explain(nil, &r, explain.Evidence{
		Now: time.Now(), Platform: vpn.Linux, Release: "6", Protocol: protocol,
	})
	var causes []string
	for _, c := range x.Causes {
		causes = append(causes, c.ID)
	}
	if len(causes) == 0 || causes[0] != cause {
		t.Errorf("the client's log is explained by %v, expected %s first\n%s", causes, cause, log)
	}
}

// tunnelSays is what the real client of the TLS tunnel logs with a spoilt parcel.
func (b *box) tunnelSays(t *testing.T, parcel string) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(parcel, "*"))
	if err != nil {
		t.Fatal(err)
	}
	config := ""
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		text := strings.ReplaceAll(string(data), "/etc/openvpn/client/", parcel+"/")
		if err := os.WriteFile(f, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(f, ".ovpn") {
			config = f
		}
	}
	out, _ := b.try(12, "openvpn", "--cd", parcel, "--config", config, "--connect-retry-max", "1",
		"--hand-window", "6", "--dev", "null", "--verb", "3")
	return out
}

// ikeSays is what the IKE daemon of a device logs with a spoilt parcel, whose files are put where the
// install script puts sound ones.
func (b *box) ikeSays(t *testing.T, parcel string) string {
	t.Helper()
	out, _ := b.try(40, "sh", "-c", `cd "$0" || exit 1
rm -f /etc/swanctl/conf.d/* /etc/swanctl/x509/* /etc/swanctl/x509ca/* /etc/swanctl/private/*
for f in *.pem; do
	[ -e "$f" ] || continue
	case $f in
	*-key.pem) cp "$f" /etc/swanctl/private/ ;;
	*-ca*.pem) cp "$f" /etc/swanctl/x509ca/ ;;
	*) cp "$f" /etc/swanctl/x509/ ;;
	esac
done
for f in *.conf; do
	grep -q '^connections' "$f" && cp "$f" /etc/swanctl/conf.d/
done
swanctl --load-all --noprompt > /dev/null 2>&1
swanctl --initiate --child "$(grep -ho 'skerry-line-[a-z]*' ./*.conf | head -n 1)" --timeout 15 2>&1`, parcel)
	return out
}
