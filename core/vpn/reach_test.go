package vpn

import (
	"strings"
	"testing"
)

func TestUnreachable(t *testing.T) {
	for origin, want := range map[string]string{
		"":                                    "no address is set",
		"https://connect.skerryline.example":  "",
		"https://203.0.113.7:8443":            "",
		"https://[2001:db8::7]":               "",
		"http://127.0.0.1:7480":               "loopback",
		"http://[::1]:7480":                   "loopback",
		"https://[::ffff:10.20.0.5]":          "a private address",
		"https://localhost":                   "the device itself",
		"https://10.20.0.5":                   "a private address",
		"https://172.31.0.5":                  "a private address",
		"https://100.64.3.2":                  "a private address",
		"https://[fd00:20::5]":                "a private address",
		"https://169.254.3.2":                 "link-local",
		"https://wardicon":                    "internal name",
		"https://wardicon.harbour.internal":   "internal name",
		"https://wardicon.lan.":               "internal name",
		"https://local.skerryline.example:99": "",
	} {
		if got := Unreachable(origin); !strings.Contains(got, want) || (got == "") != (want == "") {
			t.Errorf("%s: %q, expected %q", origin, got, want)
		}
	}
}
