package rotation_test

import (
	"fmt"

	"plumlatch/internal/core/rotation"
)

// A plan that somebody was shown and the current plan are compared before anything is
// begun.
func ExampleOutrun() {
	shown := []rotation.Shown{{"pi@hide-cam-1", "shared-cam", "cam-1"}, {"pi@hide-cam-2", "shared-cam", "cam-2"}}
	now := []rotation.Shown{{"pi@hide-cam-1", "shared-cam", "cam-1"}, {"pi@hide-cam-3", "shared-cam", "cam-3"}}
	for _, line := range rotation.Outrun(now, shown) {
		fmt.Println(line)
	}
	// Output:
	// gone: pi@hide-cam-2, shared-cam by cam-2
	// new: pi@hide-cam-3, shared-cam by cam-3
}
