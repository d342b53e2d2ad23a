package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cloud"
	"plumlatch/internal/hall"
)

// machines are the folders with the images for the tests of real machines, which run only where they are given: they
// need root, libvirt and QEMU, and a hall of their own, in which TestMain starts them.
var machines = flag.String(
	"machines", "", "run the tests of real machines with the images of these folders, divided by commas, and no others",
)

var (
	theHall     *hall.Hall
	theHallOnce sync.Once
	endHall     = func() {}
)

// realMachines are real machines under a croftd, as a cloud called hall of a house, with a zone for each driver.
func realMachines(t *testing.T, drivers ...string) (h *house, c *crofter) {
	t.Helper()
	if *machines == "" {
		t.Skip("real machines are tried by make test-machines")
	}
	theHallOnce.Do(func() {
		folder, err := os.MkdirTemp("", "plumlatch-hall-*")
		if err == nil {
			endHall = func() { os.RemoveAll(folder) }
			theHall, err = hall.Open(folder)
		}
		for from := range strings.SplitSeq(*machines, ",") {
			if err == nil {
				err = theHall.TakeImages(from)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
	})
	if theHall == nil {
		t.Fatal("there is no hall")
	}
	h = newHouse(t, "")
	folder := t.TempDir()
	token := writeFile(t, filepath.Join(folder, "token"), "of-the-hall\n")
	settings := writeFile(
		t, filepath.Join(folder, "croftd.yaml"), theHall.Settings(token, filepath.Join(folder, "state"), drivers...),
	)
	c = &crofter{t: t, settings: settings}
	c.start("127.0.0.1:0")
	c.url = c.await(t, `(http://\S+)`)
	h.must("cloud", "add", "hall", "-adapter", c.url, "-adapter-token-file", token)
	return h, c
}

// needsImage skips a test of virtual machines where their image was not given.
func needsImage(t *testing.T, name string) {
	t.Helper()
	for from := range strings.SplitSeq(*machines, ",") {
		if _, err := os.Stat(filepath.Join(from, name+".image.yaml")); err == nil {
			return
		}
	}
	t.Skipf("the image %s is not among those of -machines; make test-machines makes it", name)
}

// crofter is a croftd at work.
type crofter struct {
	*process
	t             *testing.T
	settings, url string
}

func (c *crofter) tokenFile() string { return filepath.Join(filepath.Dir(c.settings), "token") }

func (c *crofter) start(listen string) {
	c.process = start(c.t, "croftd", "-settings", c.settings, "-listen", listen, "-take-over") // from the test before
}

// again starts it once more, after a kill, where it was.
func (c *crofter) again() {
	c.t.Helper()
	c.start(strings.TrimPrefix(c.url, "http://"))
	c.await(c.t, `(http://\S+)`)
}

// ask calls croftd as the service does, and returns the status.
func (c *crofter) ask(method, path, body string, answer any) int {
	c.t.Helper()
	r, err := http.NewRequestWithContext(c.t.Context(), method, c.url+"/v1"+path, strings.NewReader(body))
	if err != nil {
		c.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer of-the-hall")
	r.Header.Set("Content-Type", "application/json")
	got, err := http.DefaultClient.Do(r)
	if err != nil {
		c.t.Fatal(err)
	}
	defer got.Body.Close()
	if answer != nil {
		if err := json.NewDecoder(got.Body).Decode(answer); err != nil {
			c.t.Fatal(err)
		}
	}
	return got.StatusCode
}

// text calls croftd for what is no JSON.
func (c *crofter) text(path string) string {
	c.t.Helper()
	r, err := http.NewRequestWithContext(c.t.Context(), "GET", c.url+"/v1"+path, nil)
	if err != nil {
		c.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer of-the-hall")
	got, err := http.DefaultClient.Do(r)
	if err != nil {
		c.t.Fatal(err)
	}
	defer got.Body.Close()
	out, err := io.ReadAll(got.Body)
	if err != nil {
		c.t.Fatal(err)
	}
	return string(out)
}

// answers reports whether somebody listens at an address.
func answers(address string) bool {
	c, err := net.DialTimeout("tcp", address, time.Second)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

// TestRealHostsKeepWhatIsSomebodyElses asks for a machine whose name somebody has taken, and for a second croftd.
func TestRealHostsKeepWhatIsSomebodyElses(t *testing.T) {
	needsImage(t, "debian-12")
	_, croftd := realMachines(t, "qemu")
	sum := sha256.Sum256([]byte("taken"))
	name := "croft-" + hex.EncodeToString(sum[:8])
	if err := theHall.Define(name); err != nil {
		t.Fatal(err)
	}
	wanted := `{"request_token": "taken", "name": "x", "image": "debian-12", "size": "small", "zone": "hall-qemu"}`
	var p apiclient.Problem
	if status := croftd.ask("POST", "/instances", wanted, &p); status != 409 ||
		!strings.Contains(p.Detail, "somebody's own") {
		t.Errorf("%d %+v", status, p)
	}
	for method, path := range map[string]string{"DELETE": "", "GET": "", "POST": "/start"} {
		if status := croftd.ask(method, "/instances/"+name+path, "", nil); status != 404 {
			t.Errorf("%s %s: %d", method, path, status)
		}
	}
	if there, err := theHall.Machines(); err != nil || !slices.Contains(there, name) {
		t.Errorf("%v %v", there, err)
	}
	if err := theHall.Undefine(name); err != nil {
		t.Error(err)
	}
	second := start(t, "croftd", "-settings", croftd.settings)
	<-second.Done()
	if out := second.out.String(); !strings.Contains(out, "another croftd") {
		t.Errorf("a second croftd: %s", out)
	}
	// Nor may one with a journal of its own, unless it is told to take the host over.
	other := filepath.Join(t.TempDir(), "croftd.yaml")
	writeFile(t, other, theHall.Settings(croftd.tokenFile(), filepath.Join(t.TempDir(), "state"), "qemu", "lxc"))
	third := start(t, "croftd", "-settings", other)
	<-third.Done()
	if out := third.out.String(); !strings.Contains(out, "another croftd") || !strings.Contains(out, "-take-over") {
		t.Errorf("a third croftd: %s", out)
	}
	if status := croftd.ask("GET", "/instances", "", nil); status != 200 {
		t.Errorf("the first one answers %d", status)
	}
	croftd.kill(t)
	croftd.again()
	// An image is put into the pool by libvirt alone; one that is not what its description says is refused.
	put := func(folder string) (string, error) {
		out, err := exec.Command(
			filepath.Join(bin, "croftd"), "image", "put", folder, "-settings", croftd.settings,
		).CombinedOutput()
		return string(out), err
	}
	folder := t.TempDir()
	about := "name: tiny\ntitle: Tiny\nlogin-user: tiny\nkey-types: [ed25519]\nguest-agent: false\nsha256: "
	disk := "QFI\xfb\x00\x00\x00\x03" + strings.Repeat("\x00", 96) + strings.Repeat("a disk ", 5_000_000)
	right := sha256.Sum256([]byte(disk))
	writeFile(t, filepath.Join(folder, "tiny.qcow2"), disk)
	writeFile(t, filepath.Join(folder, "tiny.image.yaml"), about+strings.Repeat("0", 64)+"\n")
	if out, err := put(folder); err == nil || !strings.Contains(out, "SHA-256") {
		t.Errorf("%v %s", err, out)
	}
	writeFile(t, filepath.Join(folder, "tiny.image.yaml"), about+hex.EncodeToString(right[:])+"\n")
	for range 2 { // the second time it is there
		if out, err := put(folder); err != nil {
			t.Errorf("%v %s", err, out)
		}
	}
	var images []cloud.Image
	if status := croftd.ask("GET", "/images", "", &images); status != 200 ||
		!slices.ContainsFunc(images, func(i cloud.Image) bool { return i.Name == "tiny" }) {
		t.Errorf("%d %+v", status, images)
	}
	check := exec.Command(filepath.Join(bin, "croftd"), "-settings", croftd.settings, "-check")
	if out, err := check.CombinedOutput(); err != nil || strings.Contains(string(out), "missing") {
		t.Errorf("%v\n%s", err, out)
	}
}

// timed is must, and tells how long it took.
func (h *house) timed(t *testing.T, args ...string) {
	t.Helper()
	begun := time.Now()
	h.must(args...)
	t.Logf("%.1f s: plumlatch %s", time.Since(begun).Seconds(), strings.Join(args, " "))
}

// firewalled changes the rules of a running machine, and sees who gets through from three addresses.
func (h *house) firewalled(t *testing.T, croftd *crofter, name string) {
	t.Helper()
	for _, a := range []string{"198.51.100.7/32", "203.0.113.9/32"} {
		exec.Command("ip", "addr", "add", a, "dev", "lo").Run() //nolint:errcheck // it may be there
	}
	through := func(want ...bool) {
		t.Helper()
		for n, from := range []string{"", "198.51.100.7", "203.0.113.9"} {
			d := net.Dialer{Timeout: 3 * time.Second}
			if from != "" {
				d.LocalAddr = &net.TCPAddr{IP: net.ParseIP(from)}
			}
			c, err := d.Dial("tcp", h.instance(name).Connection.Address+":22")
			if err == nil {
				c.Close()
			}
			if (err == nil) != want[n] {
				t.Errorf("from %q: %v, want %v", from, err, want[n])
			}
		}
	}
	through(true, true, true)
	var rules []cloud.FirewallRule
	if status := croftd.ask("GET", "/firewall-rules", "", &rules); status != 200 || len(rules) != 1 {
		t.Fatal(status, rules)
	}
	var added cloud.FirewallRule
	rule := `{"group": "default", "source": "198.51.100.0/24", "port": 22}`
	for range 2 { // the second time it is there
		if status := croftd.ask("POST", "/firewall-rules", rule, &added); status != 201 {
			t.Error(status)
		}
	}
	croftd.ask("DELETE", "/firewall-rules/"+rules[0].Id, "", nil)
	through(false, true, false)
	var again cloud.FirewallRule
	croftd.ask("POST", "/firewall-rules", `{"group": "default", "source": "0.0.0.0/0", "port": 22}`, &again)
	croftd.ask("DELETE", "/firewall-rules/"+added.Id, "", nil)
	if again.Id != rules[0].Id {
		t.Errorf("%s is %s now", rules[0].Id, again.Id)
	}
	through(true, true, true)
}

// killedWhile returns what runs a restore of the client's with the service, croftd and libvirtd killed as each of some
// steps ends.
func (h *house) killedWhile(t *testing.T, croftd *crofter, steps ...string) func(args ...string) {
	return func(args ...string) {
		t.Helper()
		begun := time.Now()
		gone := make(chan result, 1)
		for n, step := range steps {
			held, letGo := h.holdAt(t, at{
				"run_steps", fmt.Sprintf("NEW.name = '%s' AND NEW.state = 'done' AND OLD.state <> NEW.state", step),
			})
			if n == 0 {
				go func() { gone <- h.client(args...) }()
			}
			eventually(t, "the step "+step, func() bool {
				select {
				case r := <-gone:
					t.Fatalf("%+v", r)
				default:
				}
				return held()
			})
			h.service.kill(t)
			croftd.kill(t)
			if err := theHall.Kill(); err != nil {
				t.Fatal(err)
			}
			letGo()
			if err := theHall.Start(); err != nil {
				t.Fatal(err)
			}
			croftd.again()
			h.startService(h.listen())
		}
		if r := <-gone; r.status != 0 {
			t.Fatalf("%+v", r)
		}
		t.Logf(
			"%.0f s: plumlatch %s, with all killed at %s", time.Since(begun).Seconds(), strings.Join(args, " "),
			strings.Join(steps, " and "),
		)
	}
}

// TestRealDiskOfAnXFSMachineIsLentAndGivenBack has a restore over a helper's disk undone at the latest point there is:
// the helper's own file system is XFS with the same UUID.
func TestRealDiskOfAnXFSMachineIsLentAndGivenBack(t *testing.T) {
	needsImage(t, "debian-12-xfs")
	h, croftd := realMachines(t, "qemu")
	h.must("key", "new", "mine")
	h.must("prove", "mine", "-with", h.private("mine"))
	h.timed(t, "instance", "launch", "xfs", "-cloud", "hall", "-image", "debian-12-xfs", "-size", "small", "-key", "mine")
	if out, err := h.ssh(h.instance("xfs"), "mine", "stat -fc %T /"); err != nil || out != "xfs" {
		t.Fatal(err, out)
	}
	h.must("key", "new", "back")
	begun := time.Now()
	h.must("restore", "start", "xfs", "-route", "helper-disk", "-key", "back", "-no-wait", "-yes", "-confirm", "xfs")
	id := h.newestRestore().Run.Id.String()
	eventually(t, "the new key's login to be asked for", func() bool {
		// Before that the machine stops, and ssh would wait for it without end.
		asked := slices.ContainsFunc(h.newestRestore().Run.Steps, func(s apiclient.Step) bool {
			return s.Name == "enter" && s.State == "running"
		})
		if !asked {
			return false
		}
		_, err := h.ssh(h.instance("xfs"), "back", "true")
		return err == nil
	})
	t.Logf("%.0f s: a restore over a helper's disk with XFS, until the login", time.Since(begun).Seconds())
	h.timed(t, "restore", "undo", id, "-yes", "-reason", "the key was found")
	eventually(
		t,
		"the machine to be up again",
		func() bool { return answers(h.instance("xfs").Connection.Address + ":22") },
	)
	for key, want := range map[string]bool{"mine": true, "back": false} {
		if out, err := h.ssh(h.instance("xfs"), key, "id -un"); (err == nil) != want {
			t.Errorf("%s opens xfs: %v %s, want %v", key, err, out, want)
		}
	}
	if there, err := theHall.Machines(); err != nil || len(there) != 1 {
		t.Errorf("there are %v %v", there, err)
	}
	var disks []cloud.Disk
	if croftd.ask("GET", "/disks", "", &disks); len(disks) != 1 || len(disks[0].Attachments) != 1 {
		t.Errorf("%+v", disks)
	}
	h.must("instance", "delete", "xfs", "-yes")
}

// TestRealMachineIsLaunchedReadRotatedAndEnded does the whole job on a virtual machine with Debian's own cloud-init,
// OpenSSH and guest agent.
func TestRealMachineIsLaunchedReadRotatedAndEnded(t *testing.T) {
	needsImage(t, "debian-12")
	h, croftd := realMachines(t, "qemu")
	for _, k := range []string{"mine", "second"} {
		h.must("key", "new", k)
		h.must("prove", k, "-with", h.private(k))
	}
	launched := []string{
		"instance", "launch", "door", "-cloud", "hall", "-image", "debian-12", "-size", "small", "-key", "mine", "-key",
		"second", "-steward",
	}
	// croftd and libvirtd are killed while it is launched; both go on where they were.
	gone, begun := make(chan result, 1), time.Now()
	go func() { gone <- h.client(launched...) }()
	eventually(t, "the launch to be in its boot phase", func() bool {
		select {
		case r := <-gone:
			t.Fatalf("%+v", r)
		default:
		}
		return strings.Contains(croftd.out.String(), "phase=boot")
	})
	croftd.kill(t)
	if err := theHall.Kill(); err != nil {
		t.Fatal(err)
	}
	croftd.again()
	if err := theHall.Start(); err != nil {
		t.Fatal(err)
	}
	if r := <-gone; r.status != 0 {
		t.Fatalf("%+v", r)
	}
	t.Logf("a launch, with croftd and libvirtd killed in it: %.0f s", time.Since(begun).Seconds())
	opens := func(key string, want bool) {
		t.Helper()
		if out, err := h.ssh(h.instance("door"), key, "id -un"); (err == nil) != want || want && out != "debian" {
			t.Errorf("%s opens door: %v %s, want %v", key, err, out, want)
		}
	}
	opens("mine", true)
	opens("second", true)
	if c := h.instance("door").Connection; len(c.HostKeys) == 0 {
		t.Errorf("%+v", c)
	}
	h.firewalled(t, croftd, "door")
	opens("mine", true)
	// All of the machine is read by the steward key.
	if out := h.client("sweep", "door").out; !strings.Contains(out, "3 known keys") {
		t.Error(out)
	}
	// cloud-init gives root the same keys with a command that sends people away; that is told as it is.
	if r := h.client("openers", "door"); r.status != 3 || strings.Contains(r.out, "not known") ||
		!strings.Contains(r.out, "root@door") || !strings.Contains(r.out, "only the command echo 'Please login as") {
		t.Errorf("%+v", r)
	}
	// A rotation, and a line by hand that it leaves alone.
	h.must("rotate", "start", "-key", "second", "-make", "service", "-yes")
	opens("second", false)
	// The private key that opens it is lost, and the steward key's line is gone; the guest agent lets a new key in.
	if out, err := h.ssh(
		h.instance("door"), "mine",
		"sed -i -e '1i # by hand' -e /steward/d .ssh/authorized_keys; head -1 .ssh/authorized_keys",
	); err != nil || out != "# by hand" {
		t.Fatal(err, out)
	}
	h.timed(
		t, "restore", "start", "door", "-route", "guest-agent", "-new", "back", "-lost", "mine", "-reason", "lost", "-yes",
		"-confirm", "door",
	)
	opens("back", true)
	opens("mine", false)
	if out, err := h.ssh(
		h.instance("door"), "back", "cd .ssh; stat -c '%a %U' authorized_keys; head -1 authorized_keys",
	); err != nil ||
		out != "600 debian\n# by hand" {
		t.Error(err, out)
	}
	// Two more at once: a helper's disk brings back one whose agent is not asked, and a copy of the running machine is
	// another.
	h.must("key", "mark-lost", "back", "-reason", "the same bag", "-yes")
	h.killedWhile(t, croftd, "lend", "mount")(
		"restore",
		"start",
		"door",
		"-route",
		"helper-disk",
		"-new",
		"third",
		"-lost",
		"back",
		"-reason",
		"lost again",
		"-yes",
		"-confirm",
		"door",
	)
	opens("third", true)
	opens("back", false)
	// libvirtd is killed as the copy begins: it is made anew.
	gone = make(chan result, 1)
	begun = time.Now()
	go func() {
		gone <- h.client(
			"restore", "start", "door", "-route", "replacement", "-new", "fourth", "-lost", "third", "-reason", "and again",
			"-yes", "-confirm", "door",
		)
	}()
	eventually(t, "the copy to begin", func() bool { return strings.Contains(croftd.out.String(), "operation=snapshot") })
	if err := theHall.Kill(); err != nil {
		t.Fatal(err)
	}
	if err := theHall.Start(); err != nil {
		t.Fatal(err)
	}
	if r := <-gone; r.status != 0 {
		t.Fatalf("%+v", r)
	}
	t.Logf("%.0f s: a replacement, with libvirtd killed in it", time.Since(begun).Seconds())
	again := func() {
		t.Helper()
		if out, err := h.ssh(h.instance("door-2"), "fourth", "id -un"); err != nil || out != "debian" {
			t.Errorf("fourth opens door-2: %v %s", err, out)
		}
	}
	again()
	// A stop asks the machine first, so that nothing is lost, and the host keys are the pinned ones afterwards.
	h.timed(t, "instance", "stop", "door-2", "-yes")
	h.timed(t, "instance", "start", "door-2")
	again()
	for _, name := range []string{"door-2", "door"} {
		h.must("instance", "delete", name, "-yes")
	}
	if left, err := theHall.Machines(); err != nil || len(left) > 0 {
		t.Errorf("%v are left: %v", left, err)
	}
}
