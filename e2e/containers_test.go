package e2e

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/cloud"
)

// launching begins to launch so many containers at once, each for two keys.
func (h *house) launching(n int) (names []string, done chan result) {
	for _, k := range []string{"mine", "second"} {
		h.must("key", "new", k)
		h.must("prove", k, "-with", h.private(k))
	}
	done = make(chan result, n)
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
	return names, done
}

// launched waits for launches.
func launched(t *testing.T, done chan result) {
	t.Helper()
	late := time.After(4 * time.Minute)
	for range cap(done) {
		select {
		case r := <-done:
			if r.status != 0 {
				t.Fatalf("%+v", r)
			}
		case <-late:
			t.Fatal("not all were launched within four minutes")
		}
	}
}

// on runs a command as root on an instance.
func (h *house) on(t *testing.T, instance, command string) string {
	t.Helper()
	return h.onBy(t, "mine", instance, command)
}

func (h *house) onBy(t *testing.T, key, instance, command string) string {
	t.Helper()
	out, err := h.ssh(h.instance(instance), key, "sudo sh -c '"+command+"'")
	if err != nil {
		t.Fatalf("%s: %s: %v", instance, command, err)
	}
	return out
}

// sees checks whether a key opens an instance.
func (h *house) sees(t *testing.T, instance, key string, want bool) {
	t.Helper()
	if out, err := h.ssh(h.instance(instance), key, "id -un"); (err == nil) != want || want && out != "debian" {
		t.Errorf("%s opens %s: %v %s, want %v", key, instance, err, out, want)
	}
}

// TestRealContainersAreLaunchedReadRestoredAndEnded does the job on system containers, with croftd and libvirtd killed
// in it, and with guests that lie.
func TestRealContainersAreLaunchedReadRestoredAndEnded(t *testing.T) {
	h, croftd := realMachines(t, "lxc")
	begun := time.Now()
	names, done := h.launching(3)
	eventually(t, "the launches to be in their boot phase", func() bool {
		return strings.Count(croftd.out.String(), "phase=boot") >= len(names)-1
	})
	croftd.kill(t)
	if err := theHall.Kill(); err != nil {
		t.Fatal(err)
	}
	croftd.again()
	if err := theHall.Start(); err != nil {
		t.Fatal(err)
	}
	launched(t, done)
	t.Logf("%.0f s: %d containers, with croftd and libvirtd killed in it", time.Since(begun).Seconds(), len(names))
	for _, name := range names {
		h.sees(t, name, "mine", true)
		h.sees(t, name, "second", true)
		if c := h.instance(name).Connection; len(c.HostKeys) == 0 {
			t.Errorf("%s: %+v", name, c)
		}
	}
	h.firewalled(t, croftd, "box-01")
	for path, want := range map[string]string{
		"/instances": `{"request_token": "w", "name": "w", "image": "debian-12", "size": "small", "zone": "hall-lxc"}`,
		"/snapshots": `{"request_token": "w", "name": "w", "kind": "image", "instance": "` + croftd.id("box-01") + `"}`,
	} {
		if status := croftd.ask("POST", path, want, nil); status < 400 || status >= 500 {
			t.Errorf("%s %s: %d", path, want, status)
		}
	}
	// The lost key's line goes and a new one comes, by the guest agent.
	h.timed(
		t, "restore", "start", "box-01", "-route", "guest-agent", "-new", "back", "-lost", "mine", "-reason", "lost", "-yes",
		"-confirm", "box-01",
	)
	h.sees(t, "box-01", "back", true)
	h.sees(t, "box-01", "mine", false)
	h.lies(t, croftd, "box-02")
	h.timed(t, "instance", "stop", "box-02", "-yes")
	h.timed(t, "instance", "start", "box-02")
	h.sees(t, "box-02", "mine", true)
	h.firewalled(t, croftd, "box-02")
	// The SSH server of one has lost its host keys, as after a power cut soon after the first boot.
	id := croftd.id("box-03")
	croftd.ask("PUT", "/instances/"+id+"/agent", `{"permitted": true}`, nil)
	h.on(t, "box-03", "for k in /etc/ssh/ssh_host_*_key; do : > $k; done; systemctl restart ssh || true")
	if r := h.client("why", "box-03"); r.status != 3 || !strings.Contains(r.out, "no hostkeys available") ||
		!strings.Contains(r.out, "ssh-keygen -A") {
		t.Errorf("%+v", r)
	}
	// One is destroyed behind everybody's back: it is gone for croftd, and so it is for the service.
	if err := theHall.Destroy(id); err != nil {
		t.Fatal(err)
	}
	if status := croftd.ask("GET", "/instances/"+id, "", nil); status != 404 {
		t.Errorf("a machine that was destroyed: %d", status)
	}
	h.must("cloud", "read", "hall")
	if r := h.client("instance", "show", "box-03"); r.status != 4 {
		t.Errorf("%+v", r)
	}
	for _, name := range names[:2] {
		h.must("instance", "delete", name, "-yes")
	}
	if left, err := theHall.Machines(); err != nil || len(left) > 0 {
		t.Errorf("%v are left: %v", left, err)
	}
}

// id is what croftd calls an instance.
func (c *crofter) id(name string) string {
	c.t.Helper()
	var list []cloud.Instance
	if status := c.ask("GET", "/instances", "", &list); status != 200 {
		c.t.Fatal(status)
	}
	for _, i := range list {
		if i.Name == name {
			return i.Id
		}
	}
	c.t.Fatalf("croftd has no %s among %+v", name, list)
	return ""
}

// endless is a guest agent that never stops talking, and never ends a line.
const endless = `import socket, itertools
s = socket.socket(socket.AF_UNIX); s.bind("/srv/agent/socket"); s.listen()
while True:
    c, _ = s.accept()
    try:
        while True: c.sendall(b"\xff" + b"x" * 65536)
    except OSError: pass
`

// lies has the guest agent of an instance hang, be something else than a socket, and never stop talking.
func (h *house) lies(t *testing.T, croftd *crofter, name string) {
	t.Helper()
	id := croftd.id(name)
	agent := func() string {
		var a struct{ State string }
		croftd.ask("GET", "/instances/"+id+"/agent", "", &a)
		return a.State
	}
	croftd.ask("PUT", "/instances/"+id+"/agent", `{"permitted": true}`, nil)
	if got := agent(); got != "ready" {
		t.Fatalf("the agent of %s is %s", name, got)
	}
	h.on(t, name, "pkill -STOP qemu-ga")
	if got := agent(); got != "registering" {
		t.Errorf("one that hangs is %s", got)
	}
	h.on(t, name, "pkill -CONT qemu-ga")
	eventually(t, "the agent to answer again", func() bool { return agent() == "ready" })
	h.on(t, name, "systemctl stop guest-agent-folder")
	for what, command := range map[string]string{
		"a link to libvirt": "ln -s /run/libvirt/libvirt-sock /srv/agent/socket",
		"a link to /proc":   "ln -s /proc/1/root/run/libvirt/libvirt-sock /srv/agent/socket",
		"a file":            "echo x > /srv/agent/socket",
		"a folder":          "mkdir /srv/agent/socket",
		"an endless one": "echo " + base64.StdEncoding.EncodeToString([]byte(endless)) +
			" | base64 -d > /root/talk.py; nohup python3 /root/talk.py > /dev/null 2>&1 & sleep 1",
	} {
		h.on(t, name, "rm -rf /srv/agent/socket; "+command)
		if got := agent(); got != "registering" {
			t.Errorf("%s in its place is %s", what, got)
		}
	}
}
