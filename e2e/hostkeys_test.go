package e2e

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio/sshdtest"
)

func (h *house) hostKeys(instance string) (keys apiclient.HostKeys) {
	h.t.Helper()
	if err := json.Unmarshal([]byte(h.must("host-key", "show", instance, "-json")), &keys); err != nil {
		h.t.Fatal(err)
	}
	return keys
}

// TestAChangedHostKeyStopsEverythingUntilSomebodySaysWhy has another machine answer at the address of one, as after it
// was set up again.
func TestAChangedHostKeyStopsEverythingUntilSomebodySaysWhy(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	with := h.private("mine")
	first := h.sudoMachine(t, "pump", "mine", "", "")
	h.must("grant", "add", "mine", "pump", "-with", with)
	before := h.hostKeys("pump")
	if len(before.Pinned) != 1 || len(before.Former) != 0 {
		t.Fatalf("at first: %+v", before)
	}
	if out := h.must("host-key", "pin", "pump"); !strings.Contains(out, "nothing changed") {
		t.Errorf("of the pinned ones:\n%s", out)
	}
	second := sshdtest.StartMachine(t, "PasswordAuthentication no\nKbdInteractiveAuthentication no\n", map[string]string{
		"/home/warden/.ssh/authorized_keys": read(t, filepath.Join(first.Home("warden"), ".ssh/authorized_keys")),
	})
	h.sql(fmt.Sprintf("UPDATE instances SET ssh_port = %d", second.Port))

	if r := h.client("sweep", "pump", "-with", with); r.status == 0 {
		t.Errorf("a sweep of another host key: %+v", r)
	}
	if r := h.client("why", "pump", "-with", with); !strings.Contains(r.out+r.err, "host-key pin pump") {
		t.Errorf("why does not say what to do: %+v", r)
	}
	h.refused("no-reason", "host-key", "pin", "pump", "-yes")
	h.refused("not-the-expected", "host-key", "pin", "pump", "-expect", before.Pinned[0].Sha256, "-reason", "set up again")
	if now := h.hostKeys("pump"); len(now.Former) != 0 {
		t.Fatalf("after refusals: %+v", now)
	}
	if r := h.client("host-key", "pin", "pump", "-reason", "set up again"); r.status != 2 ||
		!strings.Contains(r.err, before.Pinned[0].Sha256) {
		t.Errorf("it does not ask: %+v", r)
	}
	fresh := ssh.FingerprintSHA256(second.HostKey)
	h.must("host-key", "pin", "pump", "-expect", fresh, "-reason", "set up again on 12 November")
	now := h.hostKeys("pump")
	if len(now.Former) != 1 || now.Former[0].Reason != "set up again on 12 November" || now.Pinned[0].Sha256 != fresh ||
		now.Former[0].Sha256 != before.Pinned[0].Sha256 {
		t.Errorf("afterwards: %+v", now)
	}
	// Grants and history are as they were, and everything works again.
	h.client("sweep", "pump", "-with", with)
	if l := h.login("pump"); l.Reach.InPlace != 1 || l.Reach.SweepError != nil {
		t.Errorf("the login: %+v", l.Reach)
	}
	if r := h.client("trace", before.Pinned[0].Sha256); r.status != 0 || !strings.Contains(r.out, "replaced on") {
		t.Errorf("a former host key is not traced: %+v", r)
	}
	if told := h.told("hostkey.pin"); len(told) != 1 {
		t.Errorf("the daybook: %+v", told)
	}
	file := writeFile(t, filepath.Join(t.TempDir(), "host.pub"), string(ssh.MarshalAuthorizedKey(second.HostKey)))
	said, err := exec.Command("ssh-keygen", "-r", "pump.wrackline.example.", "-f", file).Output()
	if err != nil {
		t.Fatal(err)
	}
	records := h.must("host-key", "show", "pump", "-sshfp", "pump.wrackline.example.")
	if !strings.Contains(string(said), strings.TrimSpace(records)) {
		t.Errorf("ssh-keygen has\n%s\nand we have\n%s", said, records)
	}
	// In the page: back to the first.
	h.sql(fmt.Sprintf("UPDATE instances SET ssh_port = %d", first.Port))
	page := h.console(t)
	page.open("/instances/pump")
	page.press("Compare with what it shows now")
	page.says("other host keys than those that are pinned")
	page.fill("Reason", "the old disk is back")
	page.press("Pin what it shows")
	eventually(t, "the pin by the page", func() bool { return len(h.hostKeys("pump").Former) == 2 })
	page.says(before.Pinned[0].Sha256)
	if now := h.hostKeys("pump"); len(now.Former) != 2 || now.Pinned[0].Sha256 != before.Pinned[0].Sha256 {
		t.Errorf("by the page: %+v", now)
	}
	viewer := h.api(strings.TrimSpace(h.must("token", "new", "weak", "-role", "viewer", "-q")))
	if answer, err := viewer.PinHostKeys(t.Context(), "pump", apiclient.PinHostKeys{
		HostKeys: []string{string(ssh.MarshalAuthorizedKey(second.HostKey))}, Learnt: "nowhere", Reason: new("mine"),
	}); err != nil || answer.StatusCode != 403 {
		t.Errorf("a viewer: %v %v", answer, err)
	}
}
