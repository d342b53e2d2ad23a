package custody_test

import (
	"fmt"

	"plumlatch/internal/core/custody"
)

func ExampleJudge() {
	fmt.Printf("%q\n", custody.Judge(custody.Asked{Kept: true, Reason: true, Holds: true}))
	fmt.Printf("%q\n", custody.Judge(custody.Asked{Kept: true, Reason: true}))
	// Output:
	// ""
	// "not-the-holder"
}
