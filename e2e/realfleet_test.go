package e2e

import (
	"fmt"
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
	"plumlatch/internal/demo"
)

// TestRealFleetIsRotatedWithAKillSettledAndChartered does on twenty containers what is done on many at once.
func TestRealFleetIsRotatedWithAKillSettledAndChartered(t *testing.T) {
	h, croftd := realMachines(t, "lxc")
	begun := time.Now()
	names, done := h.launching(20)
	launched(t, done)
	t.Logf("%.0f s: %d containers", time.Since(begun).Seconds(), len(names))
	begun = time.Now()
	if r := h.client("sweep", "-all"); r.status != 3 && r.status != 0 {
		t.Fatalf("%+v", r)
	}
	t.Logf("%.1f s: a sweep of all", time.Since(begun).Seconds())

	known := map[string]apiclient.Instance{}
	for _, name := range names {
		known[name] = h.instance(name)
	}

	// A rotation, with the service killed in its middle.
	gone := make(chan result, 1)
	begun = time.Now()
	go func() { gone <- h.client("rotate", "start", "-key", "second", "-make", "service", "-yes") }()
	eventually(t, "a part of the rotation to be done", func() bool {
		list := h.rotations()
		return len(list) == 1 && list[0].Counts["done"] >= 3
	})
	h.service.kill(t)
	if got := h.opened(t, known, "mine"); got != len(names) {
		t.Errorf("while the service is away, mine opens %d", got)
	}
	h.startService(h.listen())
	if r := <-gone; r.status != 0 {
		t.Errorf("%+v", r)
	}
	eventually(t, "the end of the rotation", func() bool { return h.rotation().Counts["done"] == len(names) })
	t.Logf("%.1f s: a rotation of %d, with a kill in it", time.Since(begun).Seconds(), len(names))
	if mine, second := h.opened(t, known, "mine"), h.opened(t, known, "second"); mine != len(names) || second != 0 {
		t.Errorf("mine opens %d of %d, second %d", mine, len(names), second)
	}
	for _, name := range names { // mine, the new one, the steward's
		if out := h.on(t, name, "cat /home/debian/.ssh/authorized_keys; ls -A /home/debian/.ssh"); strings.Count(
			out,
			"ssh-ed25519",
		) != 3 ||
			strings.Contains(out, "plumlatch-edit") {
			t.Errorf("%s has\n%s", name, out)
		}
	}

	// Changes by hand: a stranger on one, a line that is missing on another.
	stranger := strings.Fields(read(t, h.private(h.strangerPair(t)+".pub")))
	h.on(t, "box-01", "echo "+strings.Join(stranger[:2], " ")+" stranger >> /home/debian/.ssh/authorized_keys")
	h.on(t, "box-02", "sed -i /steward/!d /home/debian/.ssh/authorized_keys")
	h.client("sweep", "box-01", "box-02")
	if found := h.differences("-all"); len(found) != 3 {
		t.Errorf("%d: %+v", len(found), found)
	}
	h.must("settle", "-all", "-missing", "place", "-strangers", "remove", "-reason", "by hand", "-yes")
	h.sees(t, "box-02", "mine", true)
	if found := h.differences("-all"); len(found) != 0 {
		t.Errorf("settled: %+v", found)
	}
	h.beside(t, croftd)

	// A file says who may; one key more on nine of them.
	h.must("key", "new", "third")
	h.must("prove", "third", "-with", h.private("third"))
	file := h.charter(t, "access:\n"+may("third", "debian@box-0?"))
	if c := h.compared(3, file); len(c.Changes) != 9 {
		t.Fatalf("%s", changesOf(c))
	}
	h.must("charter", "settle", file, "-yes", "-reason", "the nine")
	if got := h.opened(t, known, "third"); got != 9 {
		t.Errorf("third opens %d", got)
	}
	h.compared(0, file)
}

// strangerPair makes a pair of keys that the service does not know.
func (h *house) strangerPair(t *testing.T) string {
	t.Helper()
	sshKeygen(t, filepath.Join(h.home(), ".ssh"), "stranger", "-t", "ed25519", "-N", "")
	return "stranger"
}

// opened is how many of the instances a key opens.
func (h *house) opened(t *testing.T, known map[string]apiclient.Instance, key string) (n int) {
	t.Helper()
	var work sync.WaitGroup
	var mu sync.Mutex
	for _, i := range known {
		args := h.sshArgs(i, key, "true")
		work.Go(func() {
			if exec.Command("ssh", args...).Run() == nil {
				mu.Lock()
				n++
				mu.Unlock()
			}
		})
	}
	work.Wait()
	return n
}

// beside brings in a machine that croftd launched for somebody else, and adopts one that libvirt's own tools made.
func (h *house) beside(t *testing.T, croftd *crofter) {
	t.Helper()
	data := "#cloud-config\\nssh_authorized_keys:\\n  - " + strings.TrimSpace(read(t, h.private("mine.pub"))) + "\\n"
	var op cloud.Operation
	if status := croftd.ask("POST", "/instances", fmt.Sprintf(
		`{"request_token": "e", "name": "elsewhere", "image": "debian-12-container", "size": "small", "zone": "hall-lxc", `+
			`"user_data": "%s"}`, data,
	), &op); status != 202 {
		t.Fatal(status)
	}
	eventually(t, "elsewhere to be launched", func() bool {
		var now cloud.Operation
		croftd.ask("GET", "/operations/"+op.Id, "", &now)
		return now.State == "done"
	})
	eventually(t, "the host keys of elsewhere", func() bool {
		return strings.Contains(croftd.text("/instances/"+op.Instance+"/boot-output"), "END SSH HOST KEY KEYS")
	})
	h.must("cloud", "read", "hall")
	if list := h.notRecorded(); len(list) != 1 || list[0].Name != "elsewhere" {
		t.Fatalf("%+v", list)
	}
	h.must("instance", "bring-in", "elsewhere", "-yes")
	h.sees(t, "elsewhere", "mine", true)

	own := h.ownContainer(t, "foreign", data)
	h.must(
		"instance",
		"adopt",
		"foreign",
		"-address",
		own,
		"-login",
		"debian",
		"-with",
		h.private("mine"),
		"-steward",
		"-yes",
	)
	h.sees(t, "foreign", "mine", true)
	if r := h.client("sweep", "foreign", "elsewhere"); r.status != 0 && r.status != 3 {
		t.Errorf("%+v", r)
	}
	if i := h.instance("foreign"); i.Cloud != "" {
		t.Errorf("%+v", i)
	}
	var list []cloud.Instance
	croftd.ask("GET", "/instances", "", &list)
	if slices.ContainsFunc(list, func(i cloud.Instance) bool { return i.Name == "foreign" }) {
		t.Error("croftd tells of a machine that is not its own")
	}
}

// ownContainer makes a container by libvirt's own tools, and returns its address.
func (h *house) ownContainer(t *testing.T, name, userData string) string {
	t.Helper()
	folder := t.TempDir()
	root := filepath.Join("/var/lib/libvirt", name+".raw")
	does(t, "cp", "--sparse=always", "/var/lib/libvirt/pool/debian-12-container.raw", root)
	does(t, "mkdir", "-p", filepath.Join(folder, "seed"))
	writeFile(t, filepath.Join(folder, "seed", "user-data"), strings.ReplaceAll(userData, `\n`, "\n"))
	writeFile(t, filepath.Join(folder, "seed", "meta-data"), "instance-id: "+name+"\nlocal-hostname: "+name+"\n")
	about := writeFile(t, filepath.Join(folder, "domain.xml"), fmt.Sprintf(`<domain type='lxc'><name>%s</name>
<memory unit='MiB'>256</memory><os><type>exe</type><init>/sbin/init</init></os><devices>
<filesystem type='file'><driver type='loop' format='raw'/><source file='%s'/><target dir='/'/></filesystem>
<filesystem type='mount'><source dir='%s/seed'/><target dir='/var/lib/cloud/seed/nocloud'/><readonly/></filesystem>
<interface type='network'><source network='hall'/><mac address='52:54:00:77:00:01'/></interface><console type='pty'/>
</devices></domain>`, name, root, folder))
	virsh(t, "define", about)
	virsh(t, "start", name)
	t.Cleanup(func() {
		if err := theHall.Destroy(name); err != nil {
			t.Error(err)
		}
		os.Remove(root)
	})
	address := ""
	eventually(t, "the address of "+name, func() bool {
		for line := range strings.Lines(virsh(t, "net-dhcp-leases", "hall", "--mac", "52:54:00:77:00:01")) {
			for word := range strings.FieldsSeq(line) {
				if at, found := strings.CutSuffix(word, "/24"); found {
					address = at
				}
			}
		}
		return address != ""
	})
	eventually(t, "SSH on "+name, func() bool { return answers(address + ":22") })
	return address
}

// TestRealStoryOfTheWorstDay has a page's commands typed again on a demo with real machines.
func TestRealStoryOfTheWorstDay(t *testing.T) {
	_, croftd := realMachines(t, "lxc")
	s := newStory(t)
	does(t, "ln", "-s", ".demo", filepath.Join(s.dir, "work", ".demo-machines"))
	s.types("export PLUMLATCH_URL=" + s.url + " PLUMLATCH_TOKEN=" + s.signIn("ines", demo.Password("ines")))
	if said := s.types("plumlatch cloud add machine-hall -adapter " + croftd.url + " -adapter-token-file " +
		croftd.tokenFile()); strings.Contains(said, "status") {
		t.Fatal(said)
	}
	s.told("stories/8-worst-day-real-machines", map[string]func(p *page){
		"over": func(p *page) {
			p.open("/instances/deep-store")
			p.says("store-spare")
			p.says("machine-hall")
		},
	})
}
