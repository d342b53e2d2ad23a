package cloud

import (
	"strings"

	"plumlatch/internal/core/keypair"
)

const (
	keysBegin = "-----BEGIN SSH HOST KEY KEYS-----"
	keysEnd   = "-----END SSH HOST KEY KEYS-----"
)

// HostKeys reads the host keys that cloud-init writes to the console at the end
// of a boot, between its SSH HOST KEY KEYS marks. It takes the last such block and
// leaves out lines that it cannot read.
func HostKeys(bootOutput string) []keypair.Public {
	i := strings.LastIndex(bootOutput, keysBegin)
	if i < 0 {
		return nil
	}
	block, _, whole := strings.Cut(bootOutput[i+len(keysBegin):], keysEnd)
	if !whole {
		return nil
	}
	var keys []keypair.Public
	for l := range strings.Lines(block) {
		if k, err := keypair.ReadLine(l); err == nil {
			keys = append(keys, k)
		}
	}
	return keys
}
