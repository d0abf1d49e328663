package suite_test

import (
	"fmt"

	"wardicon/core/suite"
)

// The first proposal of the initiator that the responder has too is what both negotiate.
func ExampleMatch() {
	device, _ := suite.ParseAll([]string{"aes256-sha256-ecp384", "aes256-sha256-modp2048"})
	gateway, _ := suite.ParseAll([]string{"aes256-sha256-modp2048", "aes128-sha256-modp2048"})
	agreed, ok := suite.Match(device, gateway, false)
	fmt.Println(agreed, ok)
	// Output: aes256-sha256-modp2048 true
}
