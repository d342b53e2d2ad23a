package cloud

import (
	"crypto/rand"
	"testing"

	"plumlatch/internal/core/keypair"
)

func TestHostKeysComeFromTheLastWholeBlock(t *testing.T) {
	line := func() string {
		p, err := keypair.Make(rand.Reader, keypair.Spec{}, "root@hide-cam-1")
		if err != nil {
			t.Fatal(err)
		}
		return p.Line()
	}
	first, second := line(), line()
	block := func(l string) string { return "noise\n" + keysBegin + "\n" + l + "\r\nnot a key\n" + keysEnd + "\n" }
	keys := HostKeys(block(first) + "reboot\n" + block(second) + "hide-cam-1 login: ")
	if len(keys) != 1 || keys[0].Line() != second {
		t.Errorf("got %v, want the second key alone", keys)
	}
	if keys := HostKeys("boot\n" + keysBegin + "\n" + first); keys != nil {
		t.Errorf("a block without its end gave %v", keys)
	}
	if keys := HostKeys("nothing here"); keys != nil {
		t.Errorf("no block gave %v", keys)
	}
}
