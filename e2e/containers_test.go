package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// launchContainers launches so many containers at once, each for two keys, and returns their names.
func (h *house) launchContainers(t *testing.T, n int) (names []string) {
	t.Helper()
	for _, k := range []string{"mine", "second"} {
		h.must("key", "new", k)
		h.must("prove", k, "-with", h.private(k))
	}
	done := make(chan result, n)
	for i := range n {
		name := fmt.Sprintf("box-%02d", i+1)
		names = append(names, name)
		go func() {
			done <- h.client(
				"instance", "launch", name, "-cloud", "hall", "-image", "debian-12-container", "-size", "small", "-key", "mine",
				"-key", "second", "-steward",
			)
		}()
	}
	for range n {
		if r := <-done; r.status != 0 {
			t.Fatalf("%+v", r)
		}
	}
	return names
}

// TestRealContainers does in breadth what virtual machines are too slow for here.
func TestRealContainers(t *testing.T) {
	h, croftd := realMachines(t, "lxc")
	begun := time.Now()
	names := h.launchContainers(t, 3)
	t.Logf("%d containers: %.0f s", len(names), time.Since(begun).Seconds())
	for _, name := range names {
		if out, err := h.ssh(h.instance(name), "mine", "id -un"); err != nil || out != "debian" {
			t.Errorf("%s: %v %s", name, err, out)
		}
		if c := h.instance(name).Connection; len(c.HostKeys) == 0 {
			t.Errorf("%s: %+v", name, c)
		}
	}
	_ = strings.TrimSpace
	_ = croftd
}
