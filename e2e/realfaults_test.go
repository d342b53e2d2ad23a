package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/cloud"
)

// does runs a command of the system, which has to succeed.
func does(t *testing.T, command ...string) string {
	t.Helper()
	out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %v %s", command, err, out)
	}
	return string(out)
}

func virsh(t *testing.T, args ...string) string {
	t.Helper()
	return does(t, append([]string{"virsh", "-q", "-c", "lxc:///system"}, args...)...)
}

// with starts croftd anew with other settings.
func (c *crofter) with(pairs ...string) {
	c.t.Helper()
	text := read(c.t, c.settings)
	for n := 0; n < len(pairs); n += 2 {
		if !strings.Contains(text, pairs[n]) {
			c.t.Fatalf("%q is not in\n%s", pairs[n], text)
		}
		text = strings.ReplaceAll(text, pairs[n], pairs[n+1])
	}
	c.kill(c.t)
	writeFile(c.t, c.settings, text)
	c.again()
}

// launch launches a machine by croftd's own API, and returns how that ended.
func (c *crofter) launch(name, image, zone string) (id string, ended cloud.Operation) {
	c.t.Helper()
	var op cloud.Operation
	if status := c.ask("POST", "/instances", fmt.Sprintf(
		`{"request_token": "of %s", "name": %q, "image": %q, "size": "small", "zone": %q, `+
			`"user_data": "#cloud-config\n{}\n"}`,
		name, name, image, zone,
	), &op); status != 202 {
		c.t.Fatalf("%s: %d %+v", name, status, op)
	}
	return op.Instance, c.ended(op)
}

// ended waits for the end of an operation.
func (c *crofter) ended(op cloud.Operation) (now cloud.Operation) {
	c.t.Helper()
	eventually(c.t, "the end of "+string(op.Kind), func() bool {
		c.ask("GET", "/operations/"+op.Id, "", &now)
		return now.State != "running"
	})
	return now
}

// nothingOf sees that nothing is left of a machine.
func nothingOf(t *testing.T, id, pool string) {
	t.Helper()
	if there, err := theHall.Machines(); err != nil || len(there) > 0 {
		t.Errorf("there is %v %v", there, err)
	}
	if left, _ := filepath.Glob(filepath.Join("/var/lib/libvirt", pool, id+"*")); len(left) > 0 {
		t.Errorf("left: %v", left)
	}
}

// TestRealHostsThatFail has the host's disk full, its pool gone, its network mute and its libvirtd killed at each step
// of a launch.
func TestRealHostsThatFail(t *testing.T) {
	h, croftd := realMachines(t, "lxc", "qemu")
	const image = "debian-12-container"
	tiny := "/var/lib/libvirt/tiny"
	does(t, "mkdir", "-p", tiny)
	does(t, "mount", "-t", "tmpfs", "-o", "size=800m", "tiny", tiny)
	for _, name := range []string{image + ".raw", image + ".image.yaml"} {
		does(t, "cp", "--sparse=always", "/var/lib/libvirt/pool/"+name, tiny)
	}
	virsh(t, "pool-define-as", "tiny", "dir", "--target", tiny)
	virsh(t, "pool-start", "tiny")
	croftd.with("pool: machines", "pool: tiny")

	// There is room for one, and not for a second.
	first, op := croftd.launch("first", image, "hall-lxc")
	if op.State != "done" {
		t.Fatalf("%+v", op)
	}
	h.must("key", "new", "mine")
	r := h.client("instance", "launch", "second", "-cloud", "hall", "-image", image, "-size", "small", "-key", "mine")
	if r.status != 1 || !strings.Contains(r.out+r.err, "No space left on device") {
		t.Errorf("%+v", r)
	}
	folder := t.TempDir()
	disk := strings.Repeat("a disk that is too large ", 12_000_000)
	sum := sha256.Sum256([]byte(disk))
	writeFile(t, filepath.Join(folder, "large.raw"), disk)
	writeFile(t, filepath.Join(folder, "large.image.yaml"), "name: large\ntitle: Large\nlogin-user: tiny\n"+
		"key-types: [ed25519]\nguest-agent: false\ncontainer: true\nsha256: "+hex.EncodeToString(sum[:])+"\n")
	out, err := exec.Command(
		filepath.Join(bin, "croftd"), "image", "put", folder, "-settings", croftd.settings,
	).CombinedOutput()
	if err == nil || !strings.Contains(string(out), "No space left on device") {
		t.Errorf("%v %s", err, out)
	}
	if text := croftd.text("/images"); strings.Contains(text, "large") {
		t.Errorf("half an image is told: %s", text)
	}
	does(t, "rm", "-f", filepath.Join(tiny, "large.raw"))

	// The pool goes away, and comes back.
	virsh(t, "pool-destroy", "tiny")
	r = h.client("instance", "launch", "third", "-cloud", "hall", "-image", image, "-size", "small", "-key", "mine")
	if r.status != 7 {
		t.Errorf("%+v", r)
	}
	virsh(t, "pool-start", "tiny")
	var gone cloud.Operation
	croftd.ask("DELETE", "/instances/"+first, "", &gone)
	if gone = croftd.ended(gone); gone.State != "done" {
		t.Errorf("%+v", gone)
	}
	nothingOf(t, first, "tiny")

	// libvirtd is killed as each phase of a launch begins.
	croftd.with("pool: tiny", "pool: machines")
	for _, phase := range []string{"disk", "instance", "boot"} {
		done := make(chan cloud.Operation, 1)
		name := "killed-in-" + phase
		go func() { _, op := croftd.launch(name, image, "hall-lxc"); done <- op }()
		eventually(t, "the phase "+phase, func() bool { return strings.Contains(croftd.out.String(), "phase="+phase) })
		if err := theHall.Kill(); err != nil {
			t.Fatal(err)
		}
		if err := theHall.Start(); err != nil {
			t.Fatal(err)
		}
		op := <-done
		if op.State != "done" {
			t.Errorf("%s: %+v", phase, op)
		}
		// Somebody takes its mark away: it is nobody's that croftd would touch, until it is given back.
		const mark = "urn:plumlatch:croft"
		was := virsh(t, "metadata", op.Instance, mark)
		virsh(t, "metadata", op.Instance, mark, "--remove", "--config", "--live")
		if status := croftd.ask("DELETE", "/instances/"+op.Instance, "", nil); status != 404 {
			t.Errorf("without its mark: %d", status)
		}
		virsh(t, "metadata", op.Instance, mark, "--key", "croft", "--set", strings.TrimSpace(was), "--config", "--live")
		croftd.ask("DELETE", "/instances/"+op.Instance, "", &gone)
		if gone = croftd.ended(gone); gone.State != "done" {
			t.Errorf("%+v", gone)
		}
		nothingOf(t, op.Instance, "pool")
		croftd.with("pool: machines", "pool: machines") // whose output begins anew
	}

	// A network that lends nothing, and a disk that nothing starts from.
	net := writeFile(
		t,
		filepath.Join(t.TempDir(), "net.xml"),
		"<network><name>mute</name><bridge name='mute0'/></network>",
	)
	virsh(t, "net-define", net)
	virsh(t, "net-start", "mute")
	croftd.with("network: hall", "network: mute, boots-within: 8s")
	id, op := croftd.launch("mute", image, "hall-lxc")
	if op.State != "failed" || op.Error == nil ||
		!strings.Contains(*op.Error, "no address after 8s; the last on its console") {
		t.Errorf("%+v", op)
	}
	nothingOf(t, id, "pool")
	croftd.with("network: mute, boots-within: 8s", "network: hall, boots-within: 8s")
	for _, name := range []string{"blank.qcow2", "blank.image.yaml"} {
		t.Cleanup(func() { os.Remove(filepath.Join("/var/lib/libvirt/pool", name)) })
	}
	does(t, "qemu-img", "create", "-q", "-f", "qcow2", "/var/lib/libvirt/pool/blank.qcow2", "8M")
	writeFile(t, "/var/lib/libvirt/pool/blank.image.yaml", "name: blank\ntitle: Blank\nlogin-user: nobody\n"+
		"key-types: [ed25519]\nguest-agent: false\n")
	virsh(t, "pool-refresh", "machines")
	id, op = croftd.launch("blank", "blank", "hall-qemu")
	if op.State != "failed" || op.Error == nil || !strings.Contains(*op.Error, "no address after 8s") {
		t.Errorf("%+v", op)
	}
	nothingOf(t, id, "pool")
	virsh(t, "net-destroy", "mute")
	virsh(t, "pool-destroy", "tiny")
	does(t, "umount", tiny)
}
