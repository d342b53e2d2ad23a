package e2e

import (
	"os"
	"testing"
	"time"
)

func TestRealZZ(t *testing.T) {
	_, c := realMachines(t, "lxc")
	for _, n := range []string{"a", "b"} {
		body := `{"request_token": "` + n + `", "name": "` + n + `", "image": "debian-12-container", "size": "small", "zone": "hall-lxc", "user_data": "#cloud-config\n{}\n"}`
		t.Log(c.ask("POST", "/instances", body, nil))
	}
	time.Sleep(15 * time.Second)
	t.Log(c.settings)
	for range 60 {
		if _, err := os.Stat("/tmp/zz.stop"); err == nil {
			break
		}
		time.Sleep(5 * time.Second)
	}
}
