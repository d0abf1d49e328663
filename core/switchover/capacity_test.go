package switchover

import "testing"

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
