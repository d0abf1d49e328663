package switchover

import (
	"math"
	"net/netip"

	"wardicon/core/vpn"
)

// ByCapacity weighs successors that are equally near by how many clients each has addresses for,
// and tells whether it did: not where an operator has set a load share, or a pool is not known.
func ByCapacity(list []vpn.Gateway) bool {
	for _, g := range list {
		if g.LoadShare != 0 || Capacity(g.Pool) == 0 {
			return false
		}
	}
	for i := range list {
		list[i].LoadShare = Capacity(list[i].Pool)
	}
	return true
}

// Capacity is how many clients a pool has addresses for, in the family that has the fewest;
// networks are in CIDR form. Each IPv4 network leaves out its own address, the broadcast address
// and that of the gateway. It is 0 without a network, and at most 2^31 - 1.
func Capacity(pool []string) int {
	sums := map[bool]float64{}
	for _, text := range pool {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			continue // the rules say so
		}
		v4 := p.Addr().Is4()
		free := math.Exp2(float64(p.Addr().BitLen() - p.Bits()))
		if v4 {
			free -= 3
		}
		sums[v4] += max(free, 0)
	}
	least := math.Inf(1)
	for _, sum := range sums {
		least = min(least, sum)
	}
	if math.IsInf(least, 1) {
		return 0
	}
	return int(min(least, math.MaxInt32))
}
