package reach_test

import (
	"fmt"

	"plumlatch/internal/core/reach"
)

// What is known of a login becomes what to say of it and what to type next.
func ExampleTell() {
	why, next := reach.Tell("debian@tide-gauge-3", "tide-gauge-3", reach.Standing{State: reach.Stale}, false)
	fmt.Println(why)
	fmt.Println(next)
	// Output:
	// no key in place has a fresh proof
	// plumlatch prove debian@tide-gauge-3
}
