package platform

import "testing"

func TestNamed(t *testing.T) {
	for _, test := range []struct{ name, release, want string }{
		{"Windows 11 Pro", "", "windows 11"},
		{"windows", "10", "windows 10"},
		{"macOS 15.1 (24B83)", "", "macos 15.1"},
		{"Mac OS X", "10.15", "macos 10.15"},
		{"iOS", "17.4", "ios 17.4"},
		{"linux-desktop", "1.42", "linux-desktop 1.42"},
		{"Debian 13", "", "linux-desktop debian 13"},
		{"Ubuntu", "24.04", "linux-desktop ubuntu 24.04"},
		{"Windowsill", "", "none"},
		{"BeOS 5", "", "none"},
	} {
		p, release, ok := Named(test.name, test.release)
		got := string(p) + " " + release
		if !ok {
			got = "none"
		}
		if got != test.want {
			t.Errorf("%s, %s: %s, expected %s", test.name, test.release, got, test.want)
		}
	}
	if p, release, ok := Named("", "11"); p != "" || release != "11" || !ok {
		t.Errorf("no name: %s %s %v", p, release, ok)
	}
}
