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
		"http://127.0.0.1:7480":               "each device itself",
		"http://[::1]:7480":                   "each device itself",
		"https://[::ffff:10.20.0.5]":          "internal network",
		"https://localhost":                   "each device itself",
		"https://10.20.0.5":                   "internal network",
		"https://172.31.0.5":                  "internal network",
		"https://100.64.3.2":                  "internal network",
		"https://[fd00:20::5]":                "internal network",
		"https://169.254.3.2":                 "one link only",
		"https://wardicon":                    "inside only",
		"https://wardicon.harbour.internal":   "inside only",
		"https://wardicon.lan.":               "inside only",
		"https://local.skerryline.example:99": "",
	} {
		if got := Unreachable(origin); !strings.Contains(got, want) || (got == "") != (want == "") {
			t.Errorf("%s: %q, expected %q", origin, got, want)
		}
	}
}
