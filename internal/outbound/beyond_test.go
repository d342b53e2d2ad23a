package outbound

import (
	"errors"
	"testing"
)

func TestWhatLeadsBackToAJumpHostIsRefusedBeyondIt(t *testing.T) {
	RefuseLocal(true)
	t.Cleanup(func() { RefuseLocal(false) })
	for host, refused := range map[string]bool{
		"10.20.0.4": false, "gauge.example": false, "2001:db8::7": false, "127.0.0.1": true, "127.9.9.9": true, "::1": true,
		"0.0.0.0": true, "169.254.169.254": true, "fe80::1": true, "100.100.100.200": true, "::ffff:127.0.0.1": true,
		"64:ff9b::7f00:1": true, "localhost": true, "LOCALHOST.": true, "x.localhost": true, "localhost.example": false,
	} {
		var r *RefusedError
		if err := Beyond(host); errors.As(err, &r) != refused {
			t.Errorf("%s: %v", host, err)
		}
	}
	RefuseLocal(false)
	if err := Beyond("127.0.0.1"); err != nil {
		t.Errorf("where that is allowed: %v", err)
	}
}
