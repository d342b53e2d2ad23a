package paddock

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"errors"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/adapter"
	"plumlatch/internal/cloud"
	"plumlatch/internal/core/userdata"
)

// The parts of the cloud by which a way back in is found.

// wanted is a launch with the settings that a test changes.
func (r *rig) launchOf(image, zone string, change func(*cloud.Launch), lines ...string) cloud.Instance {
	r.t.Helper()
	user, _ := imageNamed(image)
	data, err := userdata.Render(userdata.Config{LoginUser: user.LoginUser, Keys: lines})
	if err != nil {
		r.t.Fatal(err)
	}
	l := cloud.Launch{RequestToken: newID("t"), Name: newID("n"), Image: image, Size: "small", Zone: zone, UserData: &data}
	if change != nil {
		change(&l)
	}
	op := r.await(r.client.Launch(r.t.Context(), l))
	if op.State != "done" {
		r.t.Fatalf("%+v", op)
	}
	return r.instance(op.Instance)
}

func (r *rig) root(i cloud.Instance) cloud.Disk {
	r.t.Helper()
	disks, err := r.client.Disks(r.t.Context(), i.Id)
	if err != nil || len(disks) != 1 {
		r.t.Fatalf("%v %+v", err, disks)
	}
	return disks[0]
}

func (r *rig) done(op cloud.Operation, err error) {
	r.t.Helper()
	if op = r.await(op, err); op.State != "done" {
		r.t.Fatalf("%+v %s", op, *op.Error)
	}
}

// permit permits the guest agent.
func (r *rig) permit(i cloud.Instance) {
	r.t.Helper()
	if err := r.client.PermitAgent(r.t.Context(), i.Id, true); err != nil {
		r.t.Fatal(err)
	}
}

// root runs a command by the guest agent and returns what it complained of.
func (r *rig) command(i cloud.Instance, words ...string) string {
	r.t.Helper()
	result, err := r.client.AgentCommand(r.t.Context(), i.Id, words...)
	if err != nil {
		r.t.Fatal(err)
	}
	return result.Errors
}

func isRefused(err error, about string) bool {
	var refused *cloud.RefusedError
	return errors.As(err, &refused) && refused.Status == http.StatusConflict && strings.Contains(refused.Detail, about)
}

func TestADiskMovesToAHelperAndBackAndOnlyUnderItsOwnNameDoesTheMachineStart(t *testing.T) {
	r := newRig(t, Latency{})
	key, line := makeKey(t)
	i, helper, far := r.launchOf(
		"fedora-42", "north-shore-a", nil,
	), r.launchOf(
		"fedora-42", "north-shore-a", nil,
	), r.launchOf(
		"fedora-42", "north-shore-b", nil,
	)
	disk := r.root(i)
	own := disk.Attachments[0]
	ctx := t.Context()
	if _, err := r.client.Detach(ctx, disk.Id, i.Id); !isRefused(err, "stopped") {
		t.Errorf("the root disk of a running instance: %v", err)
	}
	r.done(r.client.Stop(ctx, i.Id))
	if _, err := r.client.Attach(ctx, disk.Id, cloud.Attachment{Instance: helper.Id, Device: "/dev/vdb"}); !isRefused(
		err, "attached to",
	) {
		t.Errorf("attached twice: %v", err)
	}
	r.done(r.client.Detach(ctx, disk.Id, i.Id))
	if op := r.await(r.client.Start(ctx, i.Id)); op.State != "failed" || !strings.Contains(*op.Error, "no root disk") ||
		r.instance(i.Id).State != "stopped" {
		t.Errorf("a start without a disk: %+v", op)
	}
	if _, err := r.client.Attach(ctx, disk.Id, cloud.Attachment{Instance: far.Id, Device: "/dev/vdb"}); !isRefused(
		err, "zone",
	) {
		t.Errorf("in another zone: %v", err)
	}
	r.done(r.client.Attach(ctx, disk.Id, cloud.Attachment{Instance: helper.Id, Device: "/dev/vdb"}))
	r.permit(helper)
	if said := r.command(helper, "mount", "/dev/vdb", "/mnt/rescued"); !strings.Contains(said, "duplicate UUID") {
		t.Errorf("beside its twin: %q", said)
	}
	if said := r.command(helper, "mount", "-o", "nouuid", "/dev/vdb", "/mnt/rescued"); said != "" {
		t.Errorf("with nouuid: %q", said)
	}
	if _, err := r.client.Detach(ctx, disk.Id, helper.Id); !isRefused(err, "mounted") {
		t.Errorf("while it is mounted: %v", err)
	}
	mounted, file := cloud.AgentPlace{Instance: helper.Id, Below: "/mnt/rescued"}, "/home/fedora/.ssh/authorized_keys"
	before, err := r.client.AgentFile(ctx, mounted, file, "fedora")
	if err != nil {
		t.Fatal(err)
	}
	var was []byte
	if before.Content != nil {
		was = *before.Content
	}
	if err := r.client.WriteAgentFile(ctx, mounted, file, was, append(was, line+"\n"...), "fedora", 0o600); err != nil {
		t.Fatal(err)
	}
	back := func() {
		t.Helper()
		if said := r.command(helper, "umount", "/mnt/rescued"); said != "" {
			t.Errorf("umount: %q", said)
		}
		r.done(r.client.Detach(ctx, disk.Id, helper.Id))
		r.done(r.client.Attach(ctx, disk.Id, cloud.Attachment{Instance: i.Id, Device: own.Device, Root: true}))
		r.done(r.client.Start(ctx, i.Id))
	}
	back()
	if _, err := r.login(r.instance(i.Id), "fedora", "127.0.0.1", key); err == nil {
		t.Error("a file without the label of its place lets in")
	}
	// Under another name it does not start.
	r.done(r.client.Stop(ctx, i.Id))
	r.done(r.client.Detach(ctx, disk.Id, i.Id))
	r.done(r.client.Attach(ctx, disk.Id, cloud.Attachment{Instance: i.Id, Device: "/dev/vdz", Root: true}))
	if op := r.await(r.client.Start(ctx, i.Id)); op.State != "failed" || !strings.Contains(*op.Error, own.Device) {
		t.Errorf("under another device name: %+v", op)
	}
	r.done(r.client.Detach(ctx, disk.Id, i.Id))
	r.done(r.client.Attach(ctx, disk.Id, cloud.Attachment{Instance: helper.Id, Device: "/dev/vdb"}))
	r.command(helper, "mount", "-o", "nouuid", "/dev/vdb", "/mnt/rescued")
	if said := r.command(helper, "chcon", "-h", "-t", "ssh_home_t", mounted.Below+file); said != "" {
		t.Errorf("chcon: %q", said)
	}
	back()
	if client, err := r.login(r.instance(i.Id), "fedora", "127.0.0.1", key); err != nil {
		t.Error(err)
	} else {
		client.Close()
	}
	// What is said twice is done once.
	r.done(r.client.Start(ctx, i.Id))
	r.done(r.client.Attach(ctx, disk.Id, own))
	if disk := r.root(i); !slices.Equal(disk.Attachments, []cloud.Attachment{own}) {
		t.Errorf("%+v", disk)
	}
}

func TestAHelperThatEndsLetsGoOfTheDiskThatWasBroughtToIt(t *testing.T) {
	r := newRig(t, Latency{})
	i, helper := r.launchOf("debian-12", "north-shore-a", nil), r.launchOf("debian-12", "north-shore-a", nil)
	disk := r.root(i)
	ctx := t.Context()
	r.done(r.client.Stop(ctx, i.Id))
	r.done(r.client.Detach(ctx, disk.Id, i.Id))
	r.done(r.client.Attach(ctx, disk.Id, cloud.Attachment{Instance: helper.Id, Device: "/dev/vdb"}))
	r.done(r.client.Delete(ctx, helper.Id))
	if now, ok, err := r.client.Disk(ctx, disk.Id); err != nil || !ok || len(now.Attachments) != 0 {
		t.Errorf("%v %+v", err, now)
	}
	if all, err := r.client.AllDisks(ctx); err != nil || len(all) != 1 {
		t.Errorf("the helper's own disk is still there: %v %+v", err, all)
	}
	if _, err := os.Stat(r.diskOf(i) + "/etc/passwd"); err != nil {
		t.Error(err)
	}
}

func TestACopyOfTheKindImageStartsAsAnotherMachineWithTheOldKeysInIt(t *testing.T) {
	r := newRig(t, Latency{SnapshotGiB: 20 * time.Millisecond})
	old, oldLine := makeKey(t)
	fresh, freshLine := makeKey(t)
	static := true
	i := r.launchOf("debian-12", "north-shore-a", func(l *cloud.Launch) { l.StaticAddress = &static }, oldLine)
	op, err := r.client.MakeSnapshot(t.Context(), "image", i.Id, "copy", true)
	if err != nil || op.State != "running" {
		t.Fatalf("%v %+v", err, op)
	}
	seen := 0
	for until := time.Now().Add(10 * time.Second); op.State == "running" &&
		time.Now().Before(until); time.Sleep(5 * time.Millisecond) {
		if op, err = r.client.Operation(t.Context(), op.Id); err != nil {
			t.Fatal(err)
		}
		seen = max(seen, op.Percent)
	}
	if op.State != "done" || seen == 0 {
		t.Fatalf("%+v; it told of %d %%", op, seen)
	}
	j := r.launchOf("debian-12", "north-shore-a", func(l *cloud.Launch) { l.Snapshot = op.Snapshot }, freshLine)
	for name, key := range map[string]ssh.Signer{"old": old, "fresh": fresh} {
		if client, err := r.login(j, "debian", "127.0.0.1", key); err != nil {
			t.Errorf("%s: %v", name, err)
		} else {
			client.Close()
		}
	}
	before, err := r.client.BootOutput(t.Context(), i.Id)
	if err != nil {
		t.Fatal(err)
	}
	after, err := r.client.BootOutput(t.Context(), j.Id)
	if err != nil || cloud.HostKeys(before)[0].Line() == cloud.HostKeys(after)[0].Line() {
		t.Errorf("%v: the host keys are those of the other", err)
	}
	// The static address moves, in exchange for the other's.
	address, other := i.PublicAddress, j.PublicAddress
	for range 2 {
		if err := r.client.MoveAddress(t.Context(), i.Id, j.Id); err != nil {
			t.Fatal(err)
		}
	}
	i, j = r.instance(i.Id), r.instance(j.Id)
	if j.PublicAddress != address || !j.StaticAddress || i.PublicAddress != other || i.StaticAddress {
		t.Errorf("%+v\n%+v", i, j)
	}
	if client, err := r.login(j, "debian", "127.0.0.1", fresh); err != nil {
		t.Error(err)
	} else {
		client.Close()
	}
}

func TestMetadataKeysComeAndGoWithTheirEntriesAndTouchNoOtherLine(t *testing.T) {
	r := newRig(t, Latency{Metadata: 10 * time.Millisecond})
	_, line := makeKey(t)
	key, fresh := makeKey(t)
	i := r.launchOf("ubuntu-24.04", "north-shore-a", nil, line)
	file := r.diskOf(i) + "/home/ubuntu/.ssh/authorized_keys"
	before, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	becomes := func(want string) {
		t.Helper()
		var text []byte
		for until := time.Now().Add(10 * time.Second); time.Now().Before(until); time.Sleep(5 * time.Millisecond) {
			if text, err = os.ReadFile(file); err == nil && string(text) == want {
				return
			}
		}
		t.Errorf("the file is\n%s", text)
	}
	if err := r.client.SetMetadataKeys(t.Context(), i.Id, []cloud.MetadataKey{{User: "ubuntu", Line: fresh}}); err != nil {
		t.Fatal(err)
	}
	becomes(string(before) + fresh + "\n")
	if client, err := r.login(i, "ubuntu", "127.0.0.1", key); err != nil {
		t.Error(err)
	} else {
		client.Close()
	}
	if err := r.client.SetMetadataKeys(t.Context(), i.Id, nil); err != nil {
		t.Fatal(err)
	}
	becomes(string(before))
	for _, bad := range []cloud.MetadataKey{
		{User: "", Line: fresh},
		{User: "ubuntu", Line: "ssh-ed25519 AAAA"},
		{User: "../x", Line: fresh},
	} {
		if err := r.client.SetMetadataKeys(t.Context(), i.Id, []cloud.MetadataKey{bad}); err == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
}

func TestTheBrowserShellNeedsThePortOpenToItsOwnRange(t *testing.T) {
	r := newRig(t, Latency{})
	_, line := makeKey(t)
	key, fresh := makeKey(t)
	i := r.launchOf("debian-12", "north-shore-a", nil, line)
	ctx := t.Context()
	rules, err := r.client.FirewallRules(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, rule := range rules { // the default lets everybody of loopback in
		if err := r.client.ClosePort(ctx, rule.Id); err != nil {
			t.Fatal(err)
		}
	}
	file := "/home/debian/.ssh/authorized_keys"
	if _, err := r.client.Shell(ctx, i.Id, nil, "cat", file); !isRefused(err, "is closed") {
		t.Errorf("with the port closed: %v", err)
	}
	rule, err := r.client.OpenPort(ctx, "once", "default", shellRange.String(), SSHPort)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := r.client.OpenPort(ctx, "once", "default", shellRange.String(), SSHPort); err != nil ||
		again.Id != rule.Id {
		t.Errorf("%v %+v", err, again)
	}
	read, err := r.client.Shell(ctx, i.Id, nil, "cat", file)
	if err != nil || string(read.Output) != line+"\n" {
		t.Fatalf("%v %+v", err, read)
	}
	for _, step := range [][]string{
		{"dd", "of=" + file + ".new", "conv=excl,fsync"},
		{"chmod", "600", file + ".new"},
		{"mv", "-T", file + ".new", file},
	} {
		var input []byte
		if step[0] == "dd" {
			input = []byte(line + "\n" + fresh + "\n")
		}
		if out, err := r.client.Shell(ctx, i.Id, input, step...); err != nil || out.Status != 0 {
			t.Fatalf("%v: %v %+v", step, err, out)
		}
	}
	if out, err := r.client.Shell(ctx, i.Id, nil, "cat", "/etc/shadow"); err != nil || out.Status == 0 {
		t.Errorf("it reads as root: %v %+v", err, out)
	}
	if err := r.client.ClosePort(ctx, rule.Id); err != nil {
		t.Fatal(err)
	}
	if _, err := r.login(i, "debian", "127.0.0.1", key); err == nil {
		t.Error("the firewall lets in from elsewhere")
	}
	if rules, err := r.client.FirewallRules(ctx); err != nil || len(rules) != 0 {
		t.Errorf("%v %+v", err, rules)
	}
}

func TestAPasswordOpensOnlyWherePasswordLoginIsOn(t *testing.T) {
	r := newRig(t, Latency{})
	data := "#cloud-config\nssh_pwauth: true\npassword: brent goose\n"
	i := r.launchOf("debian-12", "north-shore-a", func(l *cloud.Launch) { l.UserData = &data })
	try := func(password string) error {
		c, err := ssh.Dial("tcp", net.JoinHostPort(i.PublicAddress, "2222"), &ssh.ClientConfig{
			User:            "debian",
			Auth:            []ssh.AuthMethod{ssh.Password(password)},
			HostKeyCallback: ssh.InsecureIgnoreHostKey(),
		})
		if err == nil {
			c.Close()
		}
		return err
	}
	if err := try("brent goose"); err != nil {
		t.Error(err)
	}
	if try("barnacle goose") == nil {
		t.Error("another password opens it")
	}
	file := r.diskOf(i) + "/etc/ssh/sshd_config"
	settings, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(
		file, []byte(strings.ReplaceAll(string(settings), "PasswordAuthentication yes", "PasswordAuthentication no")),
		0o644,
	); err != nil {
		t.Fatal(err)
	}
	if try("brent goose") == nil {
		t.Error("it opens with password login off")
	}
}

func TestTheAdministratorsPasswordIsEncryptedToTheKeyAndCanBeReset(t *testing.T) {
	r := newRig(t, Latency{})
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	public, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		t.Fatal(err)
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
	i := r.launchOf("windows-2022", "north-shore-a", nil, line)
	read := func(p cloud.Password, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		text, err := rsa.DecryptOAEP(sha256.New(), nil, private, p.Encrypted, nil)
		if err != nil || p.PublicKey != line {
			t.Fatalf("%v %+v", err, p)
		}
		return string(text)
	}
	first := read(r.client.Password(t.Context(), i.Id))
	if _, err := r.client.ResetPassword(t.Context(), i.Id, line); !isRefused(err, "not-permitted") {
		t.Errorf("without permission: %v", err)
	}
	_, other := makeKey(t)
	r.permit(i)
	if again := read(r.client.ResetPassword(t.Context(), i.Id, line)); again != first {
		t.Errorf("said again for the same key, %q became %q", first, again)
	}
	if private, err = rsa.GenerateKey(rand.Reader, 2048); err != nil {
		t.Fatal(err)
	}
	if public, err = ssh.NewPublicKey(private.Public()); err != nil {
		t.Fatal(err)
	}
	line = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
	if second := read(r.client.ResetPassword(t.Context(), i.Id, line)); second == first {
		t.Error("the previous password is still good")
	}
	if _, err := r.client.ResetPassword(t.Context(), i.Id, other); err == nil {
		t.Error("an Ed25519 key was taken")
	}
	linux := r.launchOf("debian-12", "north-shore-a", nil)
	if _, err := r.client.Password(t.Context(), linux.Id); !isRefused(err, "no administrator") {
		t.Errorf("of a Debian: %v", err)
	}
}

func TestFaultsComeAtTheCallThatTheyAreScheduledFor(t *testing.T) {
	r := newRig(t, Latency{})
	i := r.launchOf("debian-12", "north-shore-a", nil)
	ctx := t.Context()
	schedule := func(call string, kind cloud.FaultKind, nth int) {
		t.Helper()
		if err := r.client.ScheduleFault(ctx, cloud.Fault{Call: call, Kind: kind, Nth: &nth}); err != nil {
			t.Fatal(err)
		}
	}
	schedule("GetInstance", "fail", 2)
	for n, fails := range []bool{false, true, false} {
		if _, err := r.client.Instance(ctx, i.Id); errors.Is(err, cloud.ErrUnreachable) != fails {
			t.Errorf("call %d: %v", n+1, err)
		}
	}
	schedule("*", "refuse", 1)
	if _, err := r.client.Stop(ctx, i.Id); !isRefused(err, "scheduled") || r.instance(i.Id).State != "running" {
		t.Errorf("refused: %v", err)
	}
	schedule("StopInstance", "hang", 1)
	if _, err := r.client.Stop(ctx, i.Id); !errors.Is(err, cloud.ErrUnreachable) || r.instance(i.Id).State != "running" {
		t.Errorf("hanging: %v", err)
	}
	schedule("StopInstance", "break", 1)
	if op := r.await(r.client.Stop(ctx, i.Id)); op.State != "failed" || r.instance(i.Id).State != "running" {
		t.Errorf("broken off: %+v", op)
	}
	schedule("StopInstance", "twice", 1)
	r.done(r.client.Stop(ctx, i.Id))
	schedule("StartInstance", "lose-reply", 1)
	if _, err := r.client.Start(ctx, i.Id); !errors.Is(err, cloud.ErrUnreachable) {
		t.Errorf("the reply lost: %v", err)
	}
	r.done(r.client.Start(ctx, i.Id))
	schedule("GetInstance", "fail", 1)
	if err := r.client.ClearFaults(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := r.client.Instance(ctx, i.Id); err != nil {
		t.Errorf("cleared: %v", err)
	}
	if err := r.client.ScheduleFault(ctx, cloud.Fault{Call: "x", Kind: "sulk"}); err == nil {
		t.Error("an unknown kind was taken")
	}
}

func TestACloudThatDoesWithoutSomethingSaysSoAndHasNoCallForIt(t *testing.T) {
	r := newRig(t, Latency{})
	r.close()
	r.options.Without = []adapter.Capability{adapter.CapabilityDisks, adapter.CapabilityMetadataKeys}
	r.open()
	can, err := r.client.Capabilities(t.Context())
	if err != nil || slices.Contains(can.Capabilities, cloud.CanDisks) ||
		!slices.Contains(can.Capabilities, cloud.CanSnapshots) {
		t.Errorf("%v %+v", err, can)
	}
	if _, err := r.client.AllDisks(t.Context()); !cloud.NotThere(err) {
		t.Errorf("%v", err)
	}
}
