package switchover

import (
	"testing"

	"wardicon/core/vpn"
)

func TestCapacity(t *testing.T) {
	for _, test := range []struct {
		pool []string
		want int
	}{
		{nil, 0},
		{[]string{"10.99.1.0/24"}, 253},
		{[]string{"10.99.1.0/24", "10.99.2.0/25"}, 253 + 125},
		{[]string{"10.99.1.0/24", "2001:db8::/64"}, 253},
		{[]string{"10.99.1.0/31"}, 0},
		{[]string{"2001:db8::/64"}, 1<<31 - 1},
		{[]string{"none"}, 0},
	} {
		if got := Capacity(test.pool); got != test.want {
			t.Errorf("%v has %d, expected %d", test.pool, got, test.want)
		}
	}
}

func TestByCapacity(t *testing.T) {
	small, large := vpn.Gateway{Pool: []string{"10.99.1.0/25"}}, vpn.Gateway{Pool: []string{"10.99.2.0/24"}}
	set, unknown := vpn.Gateway{Pool: small.Pool, LoadShare: 30}, vpn.Gateway{}
	for _, test := range []struct {
		list []vpn.Gateway
		want []int
	}{
		{[]vpn.Gateway{small, large}, []int{125, 253}},
		{[]vpn.Gateway{set, large}, []int{30, 0}},
		{[]vpn.Gateway{small, unknown}, []int{0, 0}},
	} {
		if got := ByCapacity(test.list); got != (test.want[1] > 30) {
			t.Errorf("%v: %t", test.want, got)
		}
		for i, g := range test.list {
			if g.LoadShare != test.want[i] {
				t.Errorf("%d has the share %d, expected %d", i, g.LoadShare, test.want[i])
			}
		}
	}
}
