package e2e

import (
	"fmt"
	"io/fs"
	"math"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/sshio/sshdtest"
)

const wardensKeys = "/home/warden/.ssh/authorized_keys"

// hostile are machines that try to harm who reads or changes them: what they do, and what must be
// said when they are read and when they are changed.
func hostile(text string) map[string]hostileCase {
	file := func(f sshdtest.HostileFile) sshdtest.Harm {
		return sshdtest.Harm{Files: map[string]sshdtest.HostileFile{wardensKeys: f}}
	}
	refuses, swallows, slow := file(sshdtest.Text(text)), file(sshdtest.Text(text)), file(sshdtest.Text(text))
	swallows.Swallows = true
	slow.Pause = time.Hour
	both := func(harm sshdtest.Harm, says string) hostileCase { return hostileCase{harm, says, says} }
	many := sshdtest.Harm{
		Config: "AuthorizedKeysFile " + strings.Repeat("/x/k%u ", 60),
		Files:  map[string]sshdtest.HostileFile{"/x/*": {Size: 8 << 20, Mode: 0o600, Content: "#\n", Endless: true}},
	}
	return map[string]hostileCase{
		"huge": both(file(sshdtest.HostileFile{Size: math.MinInt64, Mode: 0o600}), "is the limit"),
		"endless": both(
			file(sshdtest.HostileFile{Size: 100, Mode: 0o600, Content: "# more\n", Endless: true}), "when it is read",
		),
		"link":     both(file(sshdtest.HostileFile{Mode: fs.ModeSymlink | 0o777}), "is not followed"),
		"others":   both(file(sshdtest.HostileFile{Mode: 0o600, UID: 33}), "belongs to"),
		"folders":  both(sshdtest.Harm{Config: "AuthorizedKeysFile %h" + strings.Repeat("/a", 400)}, "is the limit"),
		"many":     both(many, "60 files"),
		"config":   both(sshdtest.Harm{Config: strings.Repeat("# x\n", 1<<20)}, "is the limit"),
		"steers":   both(sshdtest.Harm{Config: "AuthorizedKeysFile /x\x1b]0;pwned\x07"}, "control characters"),
		"home":     both(sshdtest.Harm{Home: "/home/\x1b[2J"}, "control characters"),
		"banner":   both(sshdtest.Harm{Banner: "come in \x1b[2J" + strings.Repeat("x", 70) + "\r\n"}, "version string"),
		"slow":     {slow, "connection lost", ""},
		"refuses":  {refuses, "", "pwned"},
		"swallows": {swallows, "", "left unchanged"},
	}
}

// neverAnswers are those that are tried again for as long as patience lasts, so not changed here.
var neverAnswers = map[string]bool{"slow": true, "banner": true}

type hostileCase struct {
	harm          sshdtest.Harm
	read, changed string
}

// plainly fails where an answer holds what steers a terminal.
func plainly(t *testing.T, what string, r result) string {
	t.Helper()
	all := r.out + r.err
	if strings.ContainsAny(all, "\x1b\x07") {
		t.Errorf("%s: control characters reach the terminal: %q", what, all)
	}
	return all
}

var highWater = regexp.MustCompile(`VmHWM:\s+(\d+) kB`)

// mostMemory is the most that a process has ever had in memory, in MiB.
func (p *process) mostMemory(t *testing.T) int {
	t.Helper()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.PID()))
	if err != nil {
		t.Fatal(err)
	}
	kib, err := strconv.Atoi(highWater.FindStringSubmatch(string(status))[1])
	if err != nil {
		t.Fatal(err)
	}
	return kib >> 10
}

// TestHostileMachinesAreSweptExplainedRotatedRestoredAndAdoptedInSafety has machines turn hostile
// that were as they should be, and does to them all that the service and the client do.
func TestHostileMachinesAreSweptExplainedRotatedRestoredAndAdoptedInSafety(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	mine := h.private("mine")
	machines, texts := map[string]*sshdtest.Server{}, map[string]string{}
	for name := range hostile("") {
		m := sshdtest.StartConfined(t)
		machines[name] = m
		if err := os.WriteFile(m.KeysFile, []byte(read(t, mine+".pub")), 0o600); err != nil {
			t.Fatal(err)
		}
		h.must(
			"instance", "adopt", name, "-address", "127.0.0.1", "-port", fmt.Sprint(m.Port), "-login", m.User, "-with",
			mine, "-steward", "-yes",
		)
		if !neverAnswers[name] {
			h.must("settle", name, "-ungranted", "accept", "-reason", "it was there", "-yes")
		}
		texts[name] = read(t, m.KeysFile)
	}
	for name, m := range machines {
		m.Turn(t, hostile(texts[name])[name].harm)
	}
	r := h.client("sweep", "-all")
	swept := plainly(t, "sweep", r)
	if r.status != 3 {
		t.Errorf("sweep: %d %s", r.status, swept)
	}
	h.client("rotate", "start", "-key", "mine", "-make", "service", "-detach", "-yes")
	eventually(
		t,
		"the rotation fails everywhere",
		func() bool { return h.rotation().Counts["failed"] == len(machines)-len(neverAnswers) },
	)
	rotated := map[string]string{}
	for _, item := range h.rotationItems(h.rotation().Id.String()) {
		rotated[item.Instance] = *item.Detail
		plainly(t, "rotate "+item.Instance, result{out: *item.Detail})
	}
	for name, c := range hostile("") {
		line := regexp.MustCompile(`(?m)^root@` + name + " .*$").FindString(swept)
		if strings.Contains(line, "failed") != (c.read != "") || !strings.Contains(line, c.read) {
			t.Errorf("sweep says %q, want %q", line, c.read)
		}
		if neverAnswers[name] {
			continue
		}
		if !strings.Contains(rotated[name], c.changed) || rotated[name] == "" {
			t.Errorf("rotate says of %s %q, want %q", name, rotated[name], c.changed)
		}
		r := h.client("why", name, "-with", mine)
		if all := plainly(t, "why "+name, r); r.status != 0 ||
			!strings.Contains(all, "A login completes") { // it takes any key
			t.Errorf("why %s: %d %s", name, r.status, all)
		}
		r = h.client(
			"restore", "start", name, "-route", "standing-key", "-new", "new-"+name, "-lost-none", "-reason", "a try",
			"-yes",
		)
		if all := plainly(t, "restore "+name, r); r.status != 1 || !strings.Contains(all, c.changed) ||
			!strings.Contains(all, "Everything is as it was before") {
			t.Errorf("restore %s: %d %s", name, r.status, all)
		}
		m := sshdtest.StartHostile(t, hostile(texts[name])[name].harm)
		r = h.client(
			"instance", "adopt", "again-"+name, "-address", "127.0.0.1", "-port", fmt.Sprint(m.Port), "-login", "warden",
			"-with", mine, "-steward", "-yes",
		)
		if all := plainly(t, "adopt "+name, r); r.status != 1 || !strings.Contains(all, c.changed) {
			t.Errorf("adopt %s: %d %s", name, r.status, all)
		}
	}
	if mib := h.service.mostMemory(t); mib > 200 {
		t.Errorf("the service took %d MiB, want under 200", mib)
	}
	h.must("key", "list")
}
