package all_test

import (
	"fmt"

	"wardicon/core/format/all"
)

// A file of any format is read into connections; what is wrong with it is in the notes.
func ExampleRead() {
	reading := all.Read("norrvik.ovpn", []byte(`client
dev tun
remote norrvik.skerryline.example 1194 udp
<ca>
</ca>
`), nil)
	for _, c := range reading.Connections {
		fmt.Println(c.Connection.Protocol.Title(), c.Connection.Server)
	}
	for _, n := range reading.Notes {
		fmt.Println(n.Kind, n.At)
	}
	// Output:
	// TLS tunnel norrvik.skerryline.example
	// block-empty norrvik.ovpn:4:1 ca
	// role-unchecked norrvik.ovpn:1:1
}
