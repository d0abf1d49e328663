package explain_test

import (
	"fmt"

	"wardicon/core/explain"
)

// A code is found however it is written; what is known of the case ranks its causes.
func ExampleExplain() {
	code, ok := explain.Find("Error 809")
	fmt.Println(ok, code.Name)
	found := explain.Explain(code, nil, explain.Evidence{})
	fmt.Println(found.Causes[0].Title)
	// Output:
	// true 809
	// The device's network blocks the protocol
}
