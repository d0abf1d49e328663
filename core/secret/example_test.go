package secret_test

import (
	"fmt"

	"wardicon/core/secret"
)

// A secret prints as [hidden]; its value comes out through Reveal alone.
func Example() {
	key := secret.New("kelp-4497-Harbor")
	fmt.Printf("%v %s %+v\n", key, key, struct{ Key secret.Text }{key})
	fmt.Println(key.Reveal())
	// Output:
	// [hidden] [hidden] {Key:[hidden]}
	// kelp-4497-Harbor
}
