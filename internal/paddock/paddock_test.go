package paddock

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	mathrand "math/rand/v2"
	"net"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"go.etcd.io/bbolt"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/adapter"
	"plumlatch/internal/cloud"
	"plumlatch/internal/core/userdata"
)

// callTimeout is for how long the client waits for a call, which a test has hang.
const callTimeout = 2 * time.Second

// rig is a stand-in cloud with a client that speaks the contract to it.
type rig struct {
	t       *testing.T
	options Options
	cloud   *Cloud
	client  *cloud.Cloud
	server  *httptest.Server
}

func newRig(t *testing.T, l Latency) *rig {
	t.Helper()
	block := netip.PrefixFrom(
		netip.AddrFrom4([4]byte{127, byte(210 + mathrand.IntN(40)), byte(mathrand.IntN(256)), 0}), 24,
	)
	r := &rig{t: t, options: Options{Dir: t.TempDir(), Token: "secret", Block: block, Latency: l}}
	r.open()
	t.Cleanup(r.close)
	return r
}

func (r *rig) open() {
	r.t.Helper()
	var err error
	if r.cloud, err = Open(r.options); err != nil {
		r.t.Fatal(err)
	}
	r.server = httptest.NewServer(r.cloud.Handler())
	if r.client, err = cloud.Connect(r.server.URL, "secret", callTimeout); err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) close() {
	r.server.Close()
	r.cloud.Close()
}

func makeKey(t *testing.T) (ssh.Signer, string) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return s, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.PublicKey())))
}

func (r *rig) await(op cloud.Operation, err error) cloud.Operation {
	r.t.Helper()
	for until := time.Now().Add(10 * time.Second); err == nil && op.State == "running" &&
		time.Now().Before(until); time.Sleep(time.Millisecond) {
		op, err = r.client.Operation(r.t.Context(), op.Id)
	}
	if err != nil {
		r.t.Fatal(err)
	}
	return op
}

func (r *rig) launch(name string, lines ...string) cloud.Instance {
	r.t.Helper()
	data, err := userdata.Render(userdata.Config{LoginUser: "debian", Keys: lines})
	if err != nil {
		r.t.Fatal(err)
	}
	op := r.await(r.client.Launch(r.t.Context(), cloud.Launch{
		RequestToken: name,
		Name:         name,
		Image:        "debian-12",
		Size:         "small",
		Zone:         "north-shore-a",
		UserData:     &data,
	}))
	if op.State != "done" {
		r.t.Fatalf("%+v", op)
	}
	return r.instance(op.Instance)
}

// diskOf is the folder of the disk that the instance was launched with.
func (r *rig) diskOf(i cloud.Instance) string { return r.options.Dir + "/disks/" + i.Id }

func (r *rig) instance(id string) cloud.Instance {
	r.t.Helper()
	i, err := r.client.Instance(r.t.Context(), id)
	if err != nil {
		r.t.Fatal(err)
	}
	return i
}

// login logs in from the source address, and fails if the host key is not one
// of those in the boot output.
func (r *rig) login(i cloud.Instance, user, source string, s ssh.Signer) (*ssh.Client, error) {
	output, err := r.client.BootOutput(r.t.Context(), i.Id)
	if err != nil {
		return nil, err
	}
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(source)}, Timeout: 5 * time.Second}
	address := fmt.Sprintf("%s:%d", i.PublicAddress, i.SshPort)
	conn, err := dialer.DialContext(r.t.Context(), "tcp", address)
	if err != nil {
		return nil, err
	}
	c, channels, requests, err := ssh.NewClientConn(
		conn,
		address,
		&ssh.ClientConfig{User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(s)},
			HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
				for _, k := range cloud.HostKeys(output) {
					if bytes.Equal(k.Blob, key.Marshal()) {
						return nil
					}
				}
				return errors.New("the host key is not in the boot output")
			}},
	)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return ssh.NewClient(c, channels, requests), nil
}

func TestOnlyThePlacedKeyOpensAndOnlyForTheImagesUser(t *testing.T) {
	r := newRig(t, Latency{})
	key, line := makeKey(t)
	other, _ := makeKey(t)
	i := r.launch("one", line)
	client, err := r.login(i, "debian", "127.0.0.1", key)
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	session, err := client.NewSession()
	if err != nil {
		t.Fatal(err)
	}
	if out, err := session.CombinedOutput("whoami && hostname; sudo whoami"); err != nil ||
		string(out) != "debian\none\nroot\n" {
		t.Errorf("%q %v", out, err)
	}
	for name, try := range map[string]struct {
		user string
		key  ssh.Signer
	}{"another key": {"debian", other}, "root": {"root", key}, "nobody": {"nobody", key}, "outside": {"../debian", key}} {
		if c, err := r.login(i, try.user, "127.0.0.1", try.key); err == nil {
			c.Close()
			t.Errorf("%s got in", name)
		}
	}
}

func TestTheFirewallJudgesTheSourceAddress(t *testing.T) {
	r := newRig(t, Latency{})
	key, line := makeKey(t)
	i := r.launch("guarded", line)
	rules, err := r.cloud.state.rules()
	if err != nil {
		t.Fatal(err)
	}
	a := api{r.cloud}
	if _, err := a.RemoveFirewallRule(
		t.Context(), adapter.RemoveFirewallRuleRequestObject{Rule: rules[0].Id},
	); err != nil {
		t.Fatal(err)
	}
	if c, err := r.login(i, "debian", "127.0.0.1", key); err == nil {
		c.Close()
		t.Error("got in without any rule")
	}
	rule := adapter.NewFirewallRule{Group: "default", Source: "127.0.0.64/26", Port: SSHPort}
	if _, err := a.AddFirewallRule(t.Context(), adapter.AddFirewallRuleRequestObject{Body: &rule}); err != nil {
		t.Fatal(err)
	}
	for source, in := range map[string]bool{"127.0.0.65": true, "127.0.0.1": false} {
		c, err := r.login(i, "debian", source, key)
		if (err == nil) != in {
			t.Errorf("from %s: %v", source, err)
		}
		if err == nil {
			c.Close()
		}
	}
	rule.Source = "everywhere"
	if _, err := a.AddFirewallRule(t.Context(), adapter.AddFirewallRuleRequestObject{Body: &rule}); err == nil {
		t.Error("a rule for everywhere was taken")
	}
}

func TestStateSurvivesARestartAndOperationsGoOn(t *testing.T) {
	r := newRig(t, Latency{})
	key, line := makeKey(t)
	i := r.launch("stays", line)
	r.close()
	r.options.Latency = Latency{Disk: 50 * time.Millisecond}
	r.open()
	if c, err := r.login(i, "debian", "127.0.0.1", key); err != nil {
		t.Errorf("after the restart: %v", err)
	} else {
		c.Close()
	}
	data := "#cloud-config\nssh_authorized_keys:\n  - " + line + "\n"
	op, err := r.client.Launch(t.Context(), cloud.Launch{
		RequestToken: "cut",
		Name:         "cut",
		Image:        "debian-12",
		Size:         "small",
		Zone:         "north-shore-a",
		UserData:     &data,
	})
	if err != nil {
		t.Fatal(err)
	}
	r.close()
	r.open()
	if op = r.await(r.client.Operation(t.Context(), op.Id)); op.State != "done" {
		t.Fatalf("the launch that was cut off: %+v", op)
	}
	if c, err := r.login(r.instance(op.Instance), "debian", "127.0.0.1", key); err != nil {
		t.Error(err)
	} else {
		c.Close()
	}
}

func TestAStateFromBeforeDisksWereFoundByTheirInstancesIsReadOn(t *testing.T) {
	r := newRig(t, Latency{})
	i := r.launchOf("debian-12", "north-shore-a", nil)
	disk := r.root(i)
	r.close()
	db, err := bbolt.Open(filepath.Join(r.options.Dir, "state.db"), 0o600, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(
		db.Update(func(tx *bbolt.Tx) error { return tx.DeleteBucket(bucketAttached) }),
		db.Close(),
	); err != nil {
		t.Fatal(err)
	}
	r.open()
	if now := r.root(i); now.Id != disk.Id {
		t.Errorf("it has the disk %s, and had %s", now.Id, disk.Id)
	}
	r.done(r.client.Stop(t.Context(), i.Id))
	r.done(r.client.Start(t.Context(), i.Id)) // which looks for the root disk
}

func TestOneTokenMakesOneInstance(t *testing.T) {
	r := newRig(t, Latency{Disk: 20 * time.Millisecond})
	request := cloud.Launch{RequestToken: "t", Name: "once", Image: "debian-12", Size: "small", Zone: "north-shore-a"}
	first, err := r.client.Launch(t.Context(), request)
	if err != nil {
		t.Fatal(err)
	}
	if second, err := r.client.Launch(t.Context(), request); err != nil || second.Id != first.Id {
		t.Errorf("%v %v", second, err)
	}
	if i, ok, err := r.client.Launched(t.Context(), "t"); err != nil || !ok || i.Id != first.Instance {
		t.Errorf("%v %v %v", i, ok, err)
	}
	if _, ok, err := r.client.Launched(t.Context(), "unheard of"); err != nil || ok {
		t.Errorf("%v %v", ok, err)
	}
}

func TestTerminateInMidLaunchWins(t *testing.T) {
	r := newRig(t, Latency{Disk: 30 * time.Millisecond, Boot: 30 * time.Millisecond})
	op, err := r.client.Launch(
		t.Context(),
		cloud.Launch{RequestToken: "t", Name: "brief", Image: "debian-12", Size: "small", Zone: "north-shore-a"},
	)
	if err != nil {
		t.Fatal(err)
	}
	if end := r.await(r.client.Delete(t.Context(), op.Instance)); end.State != "done" {
		t.Errorf("%+v", end)
	}
	if launch := r.await(r.client.Operation(t.Context(), op.Id)); launch.State != "failed" {
		t.Errorf("the launch ended %s", launch.State)
	}
	if i := r.instance(op.Instance); i.State != "deleted" || i.PublicAddress != "" {
		t.Errorf("%+v", i)
	}
	if _, err := os.Stat(r.options.Dir + "/disks/" + op.Instance); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the disk is still there: %v", err)
	}
	if again := r.await(r.client.Delete(t.Context(), op.Instance)); again.State != "done" {
		t.Errorf("a second end: %+v", again)
	}
}

func TestBadUserDataPlacesNothingAndSaysSo(t *testing.T) {
	r := newRig(t, Latency{})
	for _, data := range []string{"#cloud-config\nssh_authorized_keys: [", "#!/bin/sh\nreboot\n"} {
		op := r.await(r.client.Launch(t.Context(), cloud.Launch{
			RequestToken: data,
			Name:         "odd",
			Image:        "debian-12",
			Size:         "small",
			Zone:         "north-shore-a",
			UserData:     &data,
		}))
		output, err := r.client.BootOutput(t.Context(), op.Instance)
		if err != nil || !strings.Contains(output, "placed 0 keys") || len(cloud.HostKeys(output)) != 2 {
			t.Errorf("%q: %v", output, err)
		}
	}
}

func TestFilesAreSeenWithTheLoginUsersRights(t *testing.T) {
	r := newRig(t, Latency{})
	key, line := makeKey(t)
	client, err := r.login(r.launch("files", line), "debian", "127.0.0.1", key)
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	files, err := sftp.NewClient(client)
	if err != nil {
		t.Fatal(err)
	}
	defer files.Close()
	if dir, err := files.Getwd(); err != nil || dir != "/home/debian" {
		t.Errorf("the login begins in %s, %v", dir, err)
	}
	f, err := files.Open(".ssh/authorized_keys")
	if err != nil {
		t.Fatal(err)
	}
	var text bytes.Buffer
	if _, err := text.ReadFrom(f); err != nil || text.String() != line+"\n" {
		t.Errorf("authorized_keys is %q, %v", text.String(), err)
	}
	f.Close()
	info, err := files.Stat(".ssh/authorized_keys")
	if err != nil || info.Mode().Perm() != 0o600 || info.Sys().(*sftp.FileStat).UID != 1000 {
		t.Errorf("%v %v", info, err)
	}
	for name, forbidden := range map[string]func() error{
		"read a host key":     func() error { return opened(files.Open("/etc/ssh/ssh_host_ed25519_key")) },
		"write /etc/passwd":   func() error { return opened(files.OpenFile("/etc/passwd", os.O_WRONLY)) },
		"make a file in /etc": func() error { return opened(files.Create("/etc/new")) },
		"list /root":          func() error { _, err := files.ReadDir("/root"); return err },
		"leave the disk":      func() error { return opened(files.Open("/../../../../etc/shadow")) },
		"leave by a link": func() error {
			return errors.Join(files.Symlink("/etc", "/home/debian/out"), opened(files.Create("out/new")))
		},
		"change a foreign mode": func() error { return files.Chmod("/etc/passwd", 0o777) },
		"rename into /etc":      func() error { return files.PosixRename(".ssh/authorized_keys", "/etc/moved") },
		"remove from /etc":      func() error { return files.Remove("/etc/hostname") },
		"rename over a file": func() error {
			return errors.Join(
				files.Rename(".ssh/authorized_keys", ".ssh/authorized_keys"),
			)
		},
		"give a file to root":     func() error { return files.Chown(".ssh/authorized_keys", 0, 0) },
		"read what is not there":  func() error { return opened(files.Open("nothing")) },
		"make a folder in /":      func() error { return files.Mkdir("/new") },
		"write without its place": func() error { return opened(files.Create("nowhere/new")) },
	} {
		if err := forbidden(); err == nil {
			t.Errorf("allowed to %s", name)
		}
	}
	w, err := files.Create(".ssh/new")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write([]byte("x")); err != nil {
		t.Error(err)
	}
	if err := errors.Join(
		w.Close(), files.Chmod(".ssh/new", 0o600), files.PosixRename(".ssh/new", ".ssh/authorized_keys"),
	); err != nil {
		t.Error(err)
	}
}

func opened(f *sftp.File, err error) error {
	if err == nil {
		f.Close()
	}
	return err
}

func TestAuthorizedKeysThatOthersCanWriteOpensNothing(t *testing.T) {
	r := newRig(t, Latency{})
	key, line := makeKey(t)
	i := r.launch("strict", line)
	d, err := r.cloud.openDisk(i.Id)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if err := d.Root.Chmod("home/debian/.ssh", 0o777); err != nil {
		t.Fatal(err)
	}
	if c, err := r.login(i, "debian", "127.0.0.1", key); err == nil {
		c.Close()
		t.Error("a key in a folder that others can write got in")
	}
}

func TestTheAPIAsksForItsTokenAndTellsErrorsApart(t *testing.T) {
	r := newRig(t, Latency{})
	stranger, err := cloud.Connect(r.server.URL, "wrong", callTimeout)
	if err != nil {
		t.Fatal(err)
	}
	var refused *cloud.RefusedError
	if _, err := stranger.Images(t.Context()); !errors.As(err, &refused) || refused.Status != 401 {
		t.Errorf("a wrong token: %v", err)
	}
	if _, err := r.client.Instance(t.Context(), "i-none"); !cloud.NotThere(err) {
		t.Errorf("an instance that is not there: %v", err)
	}
	if _, err := r.client.Launch(
		t.Context(), cloud.Launch{RequestToken: "t", Name: "x", Image: "none", Size: "small", Zone: "north-shore-a"},
	); !errors.As(
		err, &refused,
	) ||
		refused.Status != 400 {
		t.Errorf("an image that is not there: %v", err)
	}
	i := r.launch("up")
	if _, err := r.client.Start(t.Context(), i.Id); !errors.As(err, &refused) || refused.Status != 409 {
		t.Errorf("a start of what runs: %v", err)
	}
	r.server.Close()
	if _, err := r.client.Images(context.WithoutCancel(t.Context())); !errors.Is(err, cloud.ErrUnreachable) {
		t.Errorf("a cloud that is away: %v", err)
	}
}

func TestProgressGrowsThroughThePhases(t *testing.T) {
	r := newRig(t, Latency{Disk: 500 * time.Millisecond, Boot: 500 * time.Millisecond})
	op, err := r.client.Launch(
		t.Context(),
		cloud.Launch{RequestToken: "t", Name: "slow", Image: "debian-12", Size: "small", Zone: "north-shore-a"},
	)
	seen := map[string]int{}
	for err == nil && op.State == "running" {
		if op.Percent < seen[op.Phase] {
			t.Errorf("%s went back from %d to %d", op.Phase, seen[op.Phase], op.Percent)
		}
		seen[op.Phase] = op.Percent
		op, err = r.client.Operation(t.Context(), op.Id)
	}
	if err != nil || seen["disk"] < 50 || seen["boot"] < 50 || op.Percent != 100 {
		t.Errorf("%v %v %v", seen, op, err)
	}
}

func TestTheGuestAgentReplacesAFileThatIsAsItWasReadOrNotAtAll(t *testing.T) {
	r := newRig(t, Latency{})
	i := r.launch("door", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKWLepVmjhcmmnyayP5kjdqGOoVk/Qi0KjDJDTglMex3 c")
	const file = "/home/debian/.ssh/authorized_keys"
	write := func(path, was, text string) error {
		return r.client.WriteAgentFile(
			t.Context(), cloud.AgentPlace{Instance: i.Id}, path, []byte(was), []byte(text), "debian", 0o600,
		)
	}
	if err := write(file, "", "x"); err == nil || !strings.Contains(err.Error(), "not-permitted") {
		t.Errorf("without a permission: %v", err)
	}
	if err := r.client.PermitAgent(t.Context(), i.Id, true); err != nil {
		t.Fatal(err)
	}
	disk := r.diskOf(i)
	before, err := os.ReadFile(disk + file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(disk+file, 0o640); err != nil {
		t.Fatal(err)
	}
	if err := write(file, string(before)+"x", "lost"); err == nil || !strings.Contains(err.Error(), "has changed since") {
		t.Errorf("a file that changed: %v", err)
	}
	if err := os.WriteFile(disk+file+".plumlatch-edit", nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := write(file, string(before), "lost"); err == nil {
		t.Error("it was replaced while somebody else edits it")
	}
	if err := os.Remove(disk + file + ".plumlatch-edit"); err != nil {
		t.Fatal(err)
	}
	if now, err := os.ReadFile(disk + file); err != nil || string(now) != string(before) {
		t.Errorf("refused, the file is\n%s", now)
	}
	if err := write(file, string(before), string(before)+"# more\n"); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(disk + file)
	if now, readErr := os.ReadFile(disk + file); err != nil || readErr != nil ||
		string(now) != string(before)+"# more\n" ||
		info.Mode().Perm() != 0o640 {
		t.Errorf("%v %v %s %v", err, readErr, now, info)
	}
	if err := write("/home/debian/.new/file", "", "text"); err != nil {
		t.Errorf("a new file in a new folder: %v", err)
	}
	if info, err := os.Stat(disk + "/home/debian/.new"); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("%v %v", info, err)
	}
	if err := os.Symlink("/etc/passwd", disk+"/home/debian/link"); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		"/home/debian/link": "symbolic link",
		"/home/debian":      "permission denied",
		"relative":          "not absolute",
	} {
		if err := write(path, "", "text"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
}

func TestNoPathLeadsTheGuestAgentOffTheDisk(t *testing.T) {
	r := newRig(t, Latency{})
	i := r.launch("door")
	if err := r.client.PermitAgent(t.Context(), i.Id, true); err != nil {
		t.Fatal(err)
	}
	outside := t.TempDir()
	up := strings.Repeat("/..", 40) + outside + "/out"
	if err := r.client.WriteAgentFile(
		t.Context(), cloud.AgentPlace{Instance: i.Id}, up, nil, []byte("text"), "root", 0o600,
	); err != nil {
		t.Fatal(err) // as on a machine, where there is nothing above the root
	}
	if _, err := os.Stat(r.diskOf(i) + outside + "/out"); err != nil {
		t.Errorf("it is not on the disk: %v", err)
	}
	if err := os.Symlink(outside, r.diskOf(i)+"/srv/way"); err != nil {
		t.Fatal(err)
	}
	if err := r.client.WriteAgentFile(
		t.Context(), cloud.AgentPlace{Instance: i.Id}, "/srv/way/out", nil, []byte("text"), "root", 0o600,
	); err == nil {
		t.Error("it wrote through a link that leads off the disk")
	}
	if _, err := os.Stat(outside + "/out"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("it wrote off the disk: %v", err)
	}
}

func TestASnapshotIsTheDiskAsItWas(t *testing.T) {
	r := newRig(t, Latency{})
	i := r.launch("door", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKWLepVmjhcmmnyayP5kjdqGOoVk/Qi0KjDJDTglMex3 c")
	made := r.await(r.client.MakeSnapshot(t.Context(), "once", i.Id, "before", false))
	again := r.await(r.client.MakeSnapshot(t.Context(), "once", i.Id, "before", false))
	if made.State != "done" || made.Snapshot == nil || again.Id != made.Id {
		t.Fatalf("%+v, and with the same token %+v", made, again)
	}
	file := "/home/debian/.ssh/authorized_keys"
	before, err := os.ReadFile(r.diskOf(i) + file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(r.diskOf(i)+file, []byte("changed\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	r.close() // and it stays through a restart
	r.open()
	list, err := r.client.Snapshots(t.Context())
	if err != nil || len(list) != 1 || list[0].Id != *made.Snapshot || list[0].Instance != i.Id ||
		list[0].Name != "before" {
		t.Fatalf("%v %+v", err, list)
	}
	if copied, err := os.ReadFile(r.options.Dir + "/snapshots/" + *made.Snapshot + file); err != nil ||
		string(copied) != string(before) {
		t.Errorf("%v %s", err, copied)
	}
	if _, err := r.client.MakeSnapshot(t.Context(), "a", "i-none", "x", false); !cloud.NotThere(err) {
		t.Errorf("of no instance: %v", err)
	}
	if _, err := r.client.MakeSnapshot(t.Context(), "b", i.Id, "", false); err == nil {
		t.Error("without a name")
	}
}

// TestTheGuestAgentFollowsNothingThatTheUserPutThere has a user who leads the agent, which is
// root, to what only root may read and write.
func TestTheGuestAgentFollowsNothingThatTheUserPutThere(t *testing.T) {
	r := newRig(t, Latency{})
	i := r.launch("door", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKWLepVmjhcmmnyayP5kjdqGOoVk/Qi0KjDJDTglMex3 c")
	if err := r.client.PermitAgent(t.Context(), i.Id, true); err != nil {
		t.Fatal(err)
	}
	disk, at := r.diskOf(i), cloud.AgentPlace{Instance: i.Id}
	if err := errors.Join(
		os.WriteFile(disk+"/etc/shadow", []byte("root:MARKER"), 0o600),
		os.Symlink("../../../etc/shadow", disk+"/home/debian/.ssh/authorized_keys2"),
		os.MkdirAll(disk+"/root/.ssh", 0o700), os.Symlink("../../root/.ssh", disk+"/home/debian/.other"),
		os.WriteFile(disk+"/root/.ssh/authorized_keys", []byte("# root's\n"), 0o600),
	); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]cloud.AgentFile{
		"/home/debian/.ssh/authorized_keys2":  {Kind: "link"},
		"/home/debian/.other/authorized_keys": {Kind: "link"},
		"/home/debian/.other":                 {Kind: "link"},
	} {
		got, err := r.client.AgentFile(t.Context(), at, path, "debian")
		if err != nil || got.Kind != want.Kind || got.Content != nil {
			t.Errorf("reading %s: %q with a content of %v, %v; want %q without one", path, got.Kind, got.Content, err, want.Kind)
		}
	}
	if got, err := r.client.AgentFile(t.Context(), at, "/etc/shadow", "debian"); err == nil {
		t.Errorf("debian reads /etc/shadow: %v", got)
	}
	for _, path := range []string{
		"/home/debian/.ssh/authorized_keys2",
		"/home/debian/.other/authorized_keys",
		"/root/.ssh/authorized_keys",
		"/etc/shadow",
	} {
		if err := r.client.WriteAgentFile(
			t.Context(), at, path, []byte("# root's\n"), []byte("# mine\n"), "debian", 0o600,
		); err == nil {
			t.Errorf("debian has written %s", path)
		}
	}
	for path, want := range map[string]string{"/root/.ssh/authorized_keys": "# root's\n", "/etc/shadow": "root:MARKER"} {
		if got, err := os.ReadFile(disk + path); err != nil || string(got) != want {
			t.Errorf("%s is now %q, %v; want %q", path, got, err, want)
		}
	}
}
