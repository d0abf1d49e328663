// Package connect proves parcels with real clients: a service makes records and parcels,
// Debian's daemons are the gateways, and a device in namespaces of its own installs the
// parcel with its own script, connects, and removes it again.
package connect

import (
	"os"
	"os/exec"
	"testing"
)

// need skips a test where this machine cannot run it, and says why.
func need(t testing.TB, programs ...string) {
	t.Helper()
	if os.Getuid() != 0 || exec.Command("unshare", "-n", "-m", "true").Run() != nil {
		partly = true
		t.Skip("skipped: gateways and clients need networks of their own, which only root can make")
	}
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			partly = true
			t.Skipf("skipped: %s is not installed", p)
		}
	}
}
