package guest

import (
	"net"
	"testing"
	"time"
)

func TestOptionsThatLimitALine(t *testing.T) {
	remote := &net.TCPAddr{IP: net.ParseIP("127.0.0.9"), Port: 4000}
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for option, in := range map[string]bool{
		`from="127.0.0.0/28"`: true, `from="10.0.0.0/8,127.0.0.*"`: true, `from="10.0.0.1"`: false,
		`expiry-time="20260602"`: true, `expiry-time="202605312359"`: false, `expiry-time="soon"`: false,
		"cert-authority": false, "no-pty": true, `command="ls"`: true,
	} {
		if got := optionsAdmit([]string{option}, remote, now); got != in {
			t.Errorf("%s admits: %v", option, got)
		}
	}
}
