package block

import (
	"errors"
	"net/netip"
	"testing"
)

func TestABlockIsHeldByOneUntilItIsClosed(t *testing.T) {
	for _, text := range []string{"127.31.0.0/16", "127.31.7.0/24", "127.31.8.0/22"} {
		b := netip.MustParsePrefix(text)
		held, err := Claim(b)
		if err != nil {
			t.Fatal(err)
		}
		var taken *TakenError
		if _, err := Claim(b); !errors.As(err, &taken) || taken.Block != b || IsFree(b) {
			t.Errorf("%s was given twice: %v", b, err)
		}
		if at := netip.MustParseAddrPort(held.Addr().String()).Addr(); !b.Contains(at) || b.Contains(at.Next()) {
			t.Errorf("%s is held at %s, want its last address", b, at)
		}
		if err := held.Close(); err != nil || !IsFree(b) {
			t.Errorf("%s is not free again: %v", b, err)
		}
	}
}
