package authorizedkeys_test

import (
	"fmt"

	"plumlatch/internal/core/authorizedkeys"
)

func ExampleParse() {
	file := authorizedkeys.Parse([]byte("# the cameras\n" +
		`from="192.0.2.0/24" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIFp3N0b5yJmQz1cK6eW4hU2xRZ9dTtL8sVgA7oMq3iEb cam` + "\n"))
	for _, line := range file {
		if line.Kind == authorizedkeys.Key {
			fmt.Println(line.Algorithm, line.Comment)
		}
	}
	// Output:
	// ssh-ed25519 cam
}
