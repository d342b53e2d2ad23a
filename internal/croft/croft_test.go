package croft

import (
	"crypto/sha256"
	"encoding/hex"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
	"libvirt.org/go/libvirtxml"

	"plumlatch/internal/adapter"
)

const goodSettings = `name: the hall
token-file: token
state: state
open: [192.0.2.0/24]
hosts:
  - {zone: a, socket: /run/libvirt/libvirt-sock, driver: kvm, pool: p, network: n, boot-output: /var/lib/boot}
sizes:
  - {name: small, cpus: 1, memory-mib: 512, disk-gib: 4}
`

func TestSettingsAreReadOrSaidToBeWrong(t *testing.T) {
	path := filepath.Join(t.TempDir(), "croftd.yaml")
	write := func(text string) {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(goodSettings)
	s, err := ReadSettings(path)
	if err != nil || s.Hosts[0].SSHPort != 22 || s.Hosts[0].Region != "a" ||
		s.State != filepath.Join(filepath.Dir(path), "state") {
		t.Fatalf("%+v %v", s, err)
	}
	for change, why := range map[[2]string]string{
		{"name: the hall", "called: x"}:                             "called",
		{"token-file: token\n", ""}:                                 "token-file",
		{"driver: kvm", "driver: fast"}:                             "driver",
		{"socket: /run/libvirt/libvirt-sock, ", ""}:                 "socket",
		{"boot-output: /var/lib/boot", "boot-output: boot"}:         "boot-output",
		{"192.0.2.0/24", "192.0.2.1/24"}:                            "open",
		{"cpus: 1", "cpus: 0"}:                                      "size 1",
		{"pool: p, ", ""}:                                           "pool",
		{"zone: a", "zone: A b"}:                                    "zone",
		{"driver: kvm", "driver: kvm, tls: {address: 'h:16514'}"}:   "one of socket",
		{"boot-output: /var/lib/boot}", "boot-output: /b, bad: 1}"}: "bad",
	} {
		text := strings.Replace(goodSettings, change[0], change[1], 1)
		if write(text); text == goodSettings {
			t.Fatalf("%v changes nothing", change)
		}
		if _, err := ReadSettings(path); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%v: %v, want an error about %s", change, err, why)
		}
	}
}

// TestAMachineIsKnownByItsMarkAlone defines a machine, reads it back, and passes over others.
func TestAMachineIsKnownByItsMarkAlone(t *testing.T) {
	m := mark{
		Token: "a <token> & \"more\"", Name: "door", Image: "debian-12", Size: "small", Firewall: "default",
		Labels: map[string]string{"team": "<field>"}, LaunchedAt: time.Unix(1e9, 0).UTC(), Agent: true, Root: "r.qcow2",
	}
	h := &host{Host: Host{Zone: "a", Driver: Emulated, Pool: "p", Network: "n", BootOutput: "/b", DiskCache: "none"}}
	text, err := h.define(idFor(m.Token), m, Size{"small", 1, 512, 4})
	if err != nil {
		t.Fatal(err)
	}
	var d libvirtxml.Domain
	if err := d.Unmarshal(text); err != nil {
		t.Fatal(err)
	}
	if got, ours := markOf(d); !ours || !reflect.DeepEqual(got, m) {
		t.Errorf("the mark is %+v, %v", got, ours)
	}
	for _, other := range []*libvirtxml.DomainMetadata{
		nil, {XML: "<a/>"}, {XML: `<instance xmlns="urn:other">{"token":"x"}</instance>`}, {XML: "<not well"},
		{XML: `<c:instance xmlns:c="urn:plumlatch:croft">{}</c:instance>`},
		{XML: `<c:instance xmlns:c="urn:plumlatch:croft">no</c:instance>`},
	} {
		if got, ours := markOf(libvirtxml.Domain{Metadata: other}); ours {
			t.Errorf("%+v is taken for ours: %+v", other, got)
		}
	}
	if idFor("a") == idFor("b") || idFor("a") != idFor(strings.ToLower("A")) {
		t.Error("ids do not go by tokens")
	}
	own := machine{host: h, id: idFor(m.Token), xml: d, mark: m}
	if at, there := own.disk("r.qcow2"); !there || deviceOf(at) != "/dev/vda" || len(at.Serial) > 20 {
		t.Errorf("%+v %v", at, there)
	}
	if _, there := own.disk(seedOf(own.id)); there {
		t.Error("its seed is told as a disk")
	}
}

func TestAFilterTellsTheRulesThatItWasMadeOf(t *testing.T) {
	rules := []rule{
		{netip.MustParsePrefix("0.0.0.0/0"), 22}, {netip.MustParsePrefix("198.51.100.7/32"), 2222},
		{netip.MustParsePrefix("10.0.0.0/9"), 22},
	}
	text, err := filterXML("field", "", rules)
	if err != nil {
		t.Fatal(err)
	}
	var f libvirtxml.NWFilter
	if err := f.Unmarshal(text); err != nil {
		t.Fatal(err)
	}
	if got := rulesOf(f); !reflect.DeepEqual(got, rules) {
		t.Errorf("%+v, want %+v", got, rules)
	}
	last := f.Entries[len(f.Entries)-2:]
	if last[0].Rule.Action != "drop" || last[0].Rule.IP == nil || last[1].Rule.Action != "drop" ||
		last[1].Rule.IPv6 == nil {
		t.Errorf("nothing is closed at the end: %s", text)
	}
	// libvirt tells masks as addresses, too.
	f.Entries[2].Rule.IP.SrcIPMask = libvirtxml.NWFilterField{Str: "255.128.0.0"}
	if got := rulesOf(f); !reflect.DeepEqual(got, rules) {
		t.Errorf("%+v, want %+v", got, rules)
	}
	if rules[0].id("a") == rules[0].id("b") || rules[0].id("a") == rules[1].id("a") {
		t.Error("two rules have one id")
	}
}

func TestASeedIsWhatCloudInitReads(t *testing.T) {
	image, err := seedImage("croft-1", "door", "#cloud-config\n{}\n")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "seed.iso")
	if err := os.WriteFile(path, image, 0o600); err != nil {
		t.Fatal(err)
	}
	disk, err := file.OpenFromPath(path, true)
	if err != nil {
		t.Fatal(err)
	}
	defer disk.Close()
	fs, err := iso9660.Read(disk, int64(len(image)), 0, 2048)
	if err != nil {
		t.Fatal(err)
	}
	if label := strings.TrimRight(fs.Label(), " \x00"); label != "cidata" {
		t.Errorf("its label is %q", label)
	}
	for name, want := range map[string]string{
		"user-data": "#cloud-config\n{}\n", "meta-data": `{"instance-id":"croft-1","local-hostname":"door"}`,
	} {
		f, err := fs.OpenFile(name, os.O_RDONLY)
		if err != nil {
			t.Fatal(err)
		}
		got := make([]byte, 100)
		n, _ := f.Read(got)
		if string(got[:n]) != want {
			t.Errorf("%s is %q, want %q", name, got[:n], want)
		}
	}
}

// TestASecondCroftdOnOneJournalIsRefused opens a journal twice, and again after it was closed.
func TestASecondCroftdOnOneJournalIsRefused(t *testing.T) {
	folder := t.TempDir()
	j, err := openJournal(folder)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := openJournal(folder); err == nil || !strings.Contains(err.Error(), "another croftd") {
		t.Errorf("a second one: %v", err)
	}
	var o operation
	o.Id, o.State, o.Lending = "o", adapter.OperationStateRunning, &lending{Disk: "d"}
	if err := put(j, bucketOperations, "o", o); err != nil {
		t.Fatal(err)
	}
	j.db.Close()
	if j, err = openJournal(folder); err != nil {
		t.Fatal(err)
	}
	defer j.db.Close()
	if list, err := j.running(); err != nil || len(list) != 1 || list[0].Lending.Disk != "d" {
		t.Errorf("%+v %v", list, err)
	}
}

// guest is a root folder on which the agent's scripts are tried, as they are on a disk that is mounted below one.
type guest struct {
	t    *testing.T
	root string
}

func newGuest(t *testing.T) guest {
	g := guest{t, t.TempDir()}
	if err := os.Chmod(g.root, 0o755); err != nil {
		t.Fatal(err)
	}
	for p := g.root; p != "/"; p = filepath.Dir(p) { // so that another user gets there
		if info, err := os.Stat(p); err == nil && info.Mode()&0o001 == 0 {
			if err := os.Chmod(p, info.Mode()|0o011); err != nil {
				t.Fatal(err)
			}
		}
	}
	g.make(
		"etc/passwd",
		"root:x:0:0:root:/root:/bin/sh\noona:x:61001:61001::/home/oona:/bin/sh\nines:x:61002:61002::/home/ines:/bin/sh\n",
		0,
	)
	g.make("home/oona/.ssh/authorized_keys", "a line\n", 61001)
	for _, p := range []string{"home/oona", "home/oona/.ssh"} {
		if err := os.Chown(filepath.Join(g.root, p), 61001, 61001); err != nil {
			t.Fatal(err)
		}
	}
	return g
}

func (g guest) make(path, content string, owner int) {
	g.t.Helper()
	path = filepath.Join(g.root, path)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		g.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(content), 0o600); err != nil {
		g.t.Fatal(err)
	}
	if owner == 0 {
		if err := os.Chmod(path, 0o644); err != nil {
			g.t.Fatal(err)
		}
	}
	if err := os.Chown(path, owner, owner); err != nil {
		g.t.Fatal(err)
	}
}

func (g guest) link(to, path string) {
	g.t.Helper()
	if err := os.Symlink(to, filepath.Join(g.root, path)); err != nil {
		g.t.Fatal(err)
	}
}

// run runs a script, and returns what it says and its exit status.
func (g guest) run(script, input string, arguments ...string) (string, int) {
	g.t.Helper()
	script = common + script
	c := exec.Command("/bin/sh", append([]string{"-c", script, "croft", g.root}, arguments...)...)
	c.Env, c.Stdin = []string{"CROFT_SCRIPT=" + script}, strings.NewReader(input)
	out, err := c.CombinedOutput()
	if c.ProcessState == nil {
		g.t.Fatal(err)
	}
	return string(out), c.ProcessState.ExitCode()
}

func (g guest) write(path, user, was, content string, more ...string) (string, int) {
	sum := func(s string) string { d := sha256.Sum256([]byte(s)); return hex.EncodeToString(d[:]) }
	size := "1"
	if was == "" {
		size = "0"
	}
	return g.run(writeScript, content, append([]string{path, user, sum(was), sum(content), "600", size}, more...)...)
}

// TestTheAgentsScriptsKeepToTheContract reads and writes files as users who set traps.
func TestTheAgentsScriptsKeepToTheContract(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can act for others")
	}
	g := newGuest(t)
	g.make("etc/secret", "s3cret\n", 61002)
	g.link("/etc/secret", "home/oona/link")
	g.link("/etc", "home/oona/folder")
	g.link("../../../../../../../../etc", "out")
	g.make("home/oona/roots", "of root\n", 0)
	if err := os.Mkdir(filepath.Join(g.root, "srv"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		path, user, want string
		status           int
	}{
		{"/home/oona/.ssh/authorized_keys", "oona", "file 600 oona 7 ", 0},
		{"/home/oona/link", "oona", "link ", 0},
		{"/home/oona/folder/secret", "oona", "link ", 0},
		{"/home/oona/folder/passwd", "", "file 644 root ", 0}, // as root a link that stays below is followed
		{"/home/oona/link", "", "link ", 0},
		{"/etc/secret", "oona", "belongs to ines", 40},
		{"/home/oona/roots", "oona", "file 644 root 8 ", 0},
		{"/out/passwd", "", "file 644 root ", 0}, // and one that leads out is not: it ends in this etc
		{"/home/oona", "oona", "folder 755 oona ", 0},
		{"/nothing", "", "none 0 - 0 -", 0},
		{"/home/oona/.ssh/none", "oona", "none 0 - 0 -", 0},
		{"/etc/passwd", "nobody-at-all", "there is no user", 40},
		{"/etc/passwd", "oo.a", "there is no user", 40},
	} {
		if out, status := g.run(readScript, "", c.path, c.user, "0", "1000"); status != c.status ||
			!strings.Contains(out, c.want) || strings.Contains(out, "s3cret") {
			t.Errorf("%s as %q: %d %q, want %d %q", c.path, c.user, status, out, c.status, c.want)
		}
	}
	keys := filepath.Join(g.root, "home/oona/.ssh/authorized_keys")
	if out, status := g.write("/home/oona/.ssh/authorized_keys", "oona", "a line\n", "another\n"); status != 0 {
		t.Errorf("%d %s", status, out)
	}
	if text, err := os.ReadFile(keys); err != nil || string(text) != "another\n" {
		t.Errorf("%q %v", text, err)
	}
	whole := filepath.Join(t.TempDir(), "whole")
	if err := os.WriteFile(whole, []byte("from a file\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256([]byte("from a file\n"))
	was := sha256.Sum256([]byte("another\n"))
	if out, status := g.run(
		writeScript, "", "/home/oona/.ssh/authorized_keys", "oona", hex.EncodeToString(was[:]), hex.EncodeToString(sum[:]),
		"600",
		"8", whole,
	); status != 0 {
		t.Errorf("%d %s", status, out)
	}
	for _, c := range []struct{ path, user, was, want string }{
		{"/home/oona/.ssh/authorized_keys", "oona", "another\n", "not what it was"},
		{"/home/oona/link", "oona", "", "symbolic link"},
		{"/home/oona/folder/new", "oona", "", "symbolic link"},
		{"/home/oona/roots", "oona", "of root\n", "does not belong"},
		{"/etc/new", "oona", "", "cannot be made"},
		{"/home/oona/gone", "oona", "it was here\n", "not there any more"},
		{"/home/oona/.ssh/authorized_keys", "ines", "from a file\n", ""},
		{"/srv", "oona", "", "no file"},
	} {
		out, status := g.write(c.path, c.user, c.was, "evil\n")
		if status != 40 || !strings.Contains(out, c.want) {
			t.Errorf("writing %s as %s: %d %q, want %q", c.path, c.user, status, out, c.want)
		}
	}
	if text, err := os.ReadFile(keys); err != nil || string(text) != "from a file\n" {
		t.Errorf("%q %v", text, err)
	}
	// A file that somebody laid in the way stays, and nothing is written.
	g.make("home/oona/.ssh/authorized_keys.plumlatch-edit", "in the way", 61001)
	if out, status := g.write("/home/oona/.ssh/authorized_keys", "oona", "from a file\n", "x\n"); status != 40 {
		t.Errorf("%d %s", status, out)
	}
	// Folders that are missing are made for the user.
	if out, status := g.write("/home/oona/new/deep/file", "oona", "", "x\n"); status != 0 {
		t.Errorf("%d %s", status, out)
	}
	if info, err := os.Stat(filepath.Join(g.root, "home/oona/new")); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("%v %v", info, err)
	}
	// A passwd file that is a link would be read out of another system.
	if err := os.Rename(filepath.Join(g.root, "etc/passwd"), filepath.Join(g.root, "passwd")); err != nil {
		t.Fatal(err)
	}
	g.link("/etc/passwd", "etc/passwd")
	if out, status := g.run(readScript, "", "/home/oona/.ssh/authorized_keys", "oona", "0", "10"); status != 40 ||
		!strings.Contains(out, "symbolic link") {
		t.Errorf("%d %s", status, out)
	}
}
