package text

import "testing"

func TestANumberComesWithItsNoun(t *testing.T) {
	for _, c := range []struct {
		n          int
		noun, want string
	}{
		{0, "key", "0 keys"},
		{1, "key", "1 key"},
		{2, "key", "2 keys"},
		{1, "entry", "1 entry"},
		{3, "daybook entry", "3 daybook entries"},
		{2, "private key", "2 private keys"},
	} {
		if got := Counted(c.n, c.noun); got != c.want {
			t.Errorf("Counted(%d, %q) = %q, want %q", c.n, c.noun, got, c.want)
		}
	}
}
