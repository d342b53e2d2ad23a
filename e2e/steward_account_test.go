package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio/sshdtest"
)

const sudoAll = "warden ALL=(ALL) NOPASSWD: ALL\n"

// sudoMachine brings in a real machine whose login user may use sudo, and is opened by the key.
func (h *house) sudoMachine(t *testing.T, name, key, sudoers, config string) *sshdtest.Machine {
	t.Helper()
	h.must("key", "new", key)
	m := sshdtest.StartMachine(t, config+"PasswordAuthentication no\nKbdInteractiveAuthentication no\n", map[string]string{
		"/etc/sudoers.d/warden":             sudoers,
		"/home/warden/.ssh/authorized_keys": read(t, h.private(key+".pub")),
	})
	list := writeFile(t, filepath.Join(t.TempDir(), "machines.csv"), fmt.Sprintf(
		"name,address,port,login\n%s,127.0.0.1,%d,%s\n", name, m.Port, sshdtest.MachineUser,
	))
	h.client("instance", "adopt", "-list", list, "-with", h.private(key), "-yes")
	return m
}

// TestAStewardOfItsOwnReadsAllAndChangesOneLogin has the steward key log in as an account of its own on a real machine,
// with a rule of sudo's: by it everything is read, and the login user's file alone is changed.
func TestAStewardOfItsOwnReadsAllAndChangesOneLogin(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	m := h.sudoMachine(t, "pump", "mine", sudoAll, "")
	rule := filepath.Join(m.Etc(), "sudoers.d/plum-latch-plumlatch")

	// Nothing is done before the rule was shown and agreed to.
	r := h.client("instance", "steward", "pump", "-account", "plumlatch", "-with", h.private("mine"))
	shown := "plumlatch ALL=(root) NOPASSWD: /usr/lib/openssh/sftp-server -R\n" +
		"  plumlatch ALL=(warden) NOPASSWD: /usr/lib/openssh/sftp-server \"\"\n"
	if r.status != 2 || !strings.Contains(r.err, shown) {
		t.Errorf("before it: %+v", r)
	}
	if _, err := os.Stat(rule); !errors.Is(err, fs.ErrNotExist) {
		t.Fatalf("the rule is there before it was agreed to: %v", err)
	}
	h.must("instance", "steward", "pump", "-account", "plumlatch", "-with", h.private("mine"), "-yes")
	if got, want := read(t, rule), strings.ReplaceAll(shown, "\n  ", "\n"); got != want {
		t.Errorf("the rule is %q, and %q was shown", got, want)
	}
	if info, err := os.Stat(rule); err != nil || info.Mode().Perm() != 0o440 {
		t.Errorf("the rule: %v %v", info, err)
	}
	var st apiclient.Steward
	if err := json.Unmarshal([]byte(h.must("instance", "steward", "pump", "-json")), &st); err != nil ||
		st.Login != "plumlatch@pump" || !st.OwnAccount {
		t.Errorf("the steward: %+v %v", st, err)
	}

	// The service reads the whole machine by itself, and the account is nobody's trouble.
	h.must("grant", "add", "mine", "pump")
	h.must("sweep", "pump")
	in := h.access("pump")
	if in.Machine.Rights == nil || *in.Machine.Rights != apiclient.MachineReadingRightsSudo ||
		len(in.Machine.Unread) > 0 {
		t.Errorf("read: %+v", in.Machine)
	}
	if got := h.must("reach", "-q"); strings.Contains(got, "plumlatch@pump") {
		t.Errorf("the account is among the logins to worry about:\n%s", got)
	}
	if out := h.must("openers", "pump"); !strings.Contains(out, "plumlatch@pump") {
		t.Errorf("the account's login is not told:\n%s", out)
	}

	// It places a key in the login user's file, which opens; and takes none away that nobody has shown to be one of two.
	h.must("key", "new", "second")
	h.must("grant", "add", "second", "pump")
	if got := h.must("why", "pump", "-with", h.private("second")); strings.Contains(got, "✗") {
		t.Errorf("why:\n%s", got)
	}
	keys := filepath.Join(m.Home("warden"), ".ssh/authorized_keys")
	before := read(t, keys)
	h.must("key", "new", "third")
	h.must("grant", "add", "third", "pump")
	h.must("grant", "withdraw", "third", "pump", "-anyway", "-reason", "it was a try")
	if got := read(t, keys); got != before {
		t.Errorf("after a key came and went the file is\n%s\nand it was\n%s", got, before)
	}
	h.must("login", "add", "root@pump")
	if r := h.client("grant", "add", "second", "root@pump"); r.status != 5 && r.status != 6 {
		t.Errorf("a login that it may not change: %+v", r)
	}

	// It shows nothing of the login that it changes: without a fresh report of a login with another key, no line goes.
	h.sql("UPDATE proofs SET at = at - interval '60 days'")
	if r := h.client("grant", "withdraw", "second", "pump", "-anyway", "-reason", "a try"); r.status == 0 {
		t.Errorf("a line went that nobody has shown to be one of two: %+v", r)
	}
	if got := read(t, keys); got != before {
		t.Errorf("the file is\n%s\nand it was\n%s", got, before)
	}
	h.must("prove", "pump", "-with", h.private("mine"))
	h.must("grant", "withdraw", "second", "pump", "-anyway", "-reason", "a try")
	if got, want := read(t, keys), read(t, h.private("mine.pub")); got != want {
		t.Errorf("after the last the file is\n%s\nwant\n%s", got, want)
	}

	// Its withdrawal shuts nobody out, and leaves nothing.
	h.must("grant", "add", "second", "plumlatch@pump")
	h.refused("account-shared", "instance", "steward", "pump", "-withdraw", "-with", h.private("mine"), "-yes")
	h.must("grant", "withdraw", "second", "plumlatch@pump", "-anyway", "-reason", "a try")
	h.must("instance", "steward", "pump", "-withdraw", "-with", h.private("mine"), "-yes")
	if _, err := os.Stat(rule); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the rule is still there: %v", err)
	}
	if passwd := read(t, filepath.Join(m.Etc(), "passwd")); strings.Contains(passwd, "plumlatch") {
		t.Errorf("the account is still there:\n%s", passwd)
	}
	if _, err := os.Stat(m.Home("plumlatch")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("its home folder is still there: %v", err)
	}
	if out := h.client("openers", "pump").out; strings.Contains(out, "steward") {
		t.Errorf("the steward key is told as if it were there:\n%s", out)
	}
	if r := h.client("instance", "steward", "pump"); r.status != 4 {
		t.Errorf("there is still a steward key: %+v", r)
	}
}

// TestAStewardAccountThatCannotBeMadeLeavesNothing tries to make one where sudo asks for a password, where the user is
// there already, and where the SSH server would not let it in.
func TestAStewardAccountThatCannotBeMadeLeavesNothing(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for name, c := range map[string]struct{ sudoers, config, account string }{
		"asks":    {"warden ALL=(ALL) ALL\n", "", "plumlatch"},
		"taken":   {sudoAll, "", "nobody"},
		"refuses": {sudoAll, "AllowUsers warden\n", "plumlatch"},
		"narrow":  {"warden ALL=(root) NOPASSWD: /usr/lib/openssh/sftp-server -R\n", "", "plumlatch"},
	} {
		t.Run(name, func(t *testing.T) {
			m := h.sudoMachine(t, name, "key-"+name, c.sudoers, c.config)
			before := read(t, filepath.Join(m.Etc(), "passwd"))
			r := h.client(
				"instance", "steward", name, "-account", c.account, "-with", h.private("key-"+name), "-yes",
			)
			if r.status != 1 || r.err == "" {
				t.Errorf("%+v", r)
			}
			if left, err := filepath.Glob(filepath.Join(m.Etc(), "sudoers.d/plum*")); len(left) > 0 || err != nil {
				t.Errorf("left behind: %v %v", left, err)
			}
			if got := read(t, filepath.Join(m.Etc(), "passwd")); got != before {
				t.Errorf("the users are\n%s\nand were\n%s", got, before)
			}
			if r := h.client("instance", "steward", name); r.status != 4 {
				t.Errorf("a steward key is recorded all the same: %+v", r)
			}
			if in := h.access(name); slices.ContainsFunc(in.Logins, func(l apiclient.Login) bool {
				return l.Reach.Login == "plumlatch@"+name && (c.config == "" || len(l.Openers) > 0)
			}) {
				t.Errorf("an account that is not there is told: %+v", in.Logins)
			}
		})
	}
	for account, says := range map[string]string{"root": "user of its own", "ALL": "a-z", "warden": "user of its own"} {
		r := h.client("instance", "steward", "taken", "-account", account, "-with", h.private("key-taken"), "-yes")
		if r.status != 2 || !strings.Contains(r.err, says) {
			t.Errorf("%s as the account: %+v", account, r)
		}
	}
}

// TestTheServiceChangesTheFilesOfAnotherUser has the steward key of root's login place a key for another user, whose
// file is that user's own then.
func TestTheServiceChangesTheFilesOfAnotherUser(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	m := sshdtest.StartMachine(
		t, "PasswordAuthentication no\nMatch User root\nAuthorizedKeysFile /etc/ssh/keys/%u\n",
		map[string]string{
			"/etc/ssh/keys/root": read(t, h.private("mine.pub")),
			"/etc/shells":        "/bin/sh\n", // so that runuser(1) asks nothing
		},
	)
	list := writeFile(t, filepath.Join(t.TempDir(), "machines.csv"), fmt.Sprintf(
		"name,address,port,login\npump,127.0.0.1,%d,root\n", m.Port,
	))
	h.client("instance", "adopt", "-list", list, "-with", h.private("mine"), "-yes", "-steward")
	h.must("login", "add", "warden@pump")
	h.must("key", "new", "second")
	h.must("grant", "add", "second", "warden@pump")
	file := filepath.Join(m.Home("warden"), ".ssh/authorized_keys")
	if got, want := read(t, file), read(t, h.private("second.pub")); got != want {
		t.Errorf("the file is\n%s\nwant\n%s", got, want)
	}
	for _, name := range []string{file, filepath.Dir(file)} {
		info, err := os.Stat(name)
		if err != nil {
			t.Fatal(err)
		}
		if st := info.Sys().(*syscall.Stat_t); st.Uid != 3001 || info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s is of the user %d, with the mode %v", name, st.Uid, info.Mode())
		}
	}
	h.must("prove", "warden@pump", "-with", h.private("second"))
	// A folder that leads elsewhere is not followed, also not as root.
	if err := os.RemoveAll(filepath.Dir(file)); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc", filepath.Dir(file)); err != nil {
		t.Fatal(err)
	}
	h.must("key", "new", "third")
	if r := h.client("grant", "add", "third", "warden@pump"); r.status == 0 {
		t.Errorf("a link was followed: %+v", r)
	}
	if _, err := os.Stat(filepath.Join(m.Etc(), "authorized_keys")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a file was written where the link leads: %v", err)
	}
}

// TestAStewardAccountThatIsThereAlreadyIsTakenUp has an account left behind by a client that was killed: it is used
// again, and what else opens it is told.
func TestAStewardAccountThatIsThereAlreadyIsTakenUp(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	m := h.sudoMachine(t, "pump", "mine", sudoAll, "")
	h.must("grant", "add", "mine", "pump", "-with", h.private("mine"))
	appendTo := func(name, line string) {
		t.Helper()
		file := filepath.Join(m.Etc(), name)
		if err := os.WriteFile(file, []byte(read(t, file)+line+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	appendTo("passwd", "plumlatch:x:990:990:Plum Latch service account:/home/plumlatch:/bin/sh")
	appendTo("shadow", "plumlatch:*:19000::::::")
	appendTo("group", "plumlatch:x:990:")
	folder := filepath.Join(m.Home("plumlatch"), ".ssh")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	left := h.pairOutside("left-behind")
	writeFile(t, filepath.Join(folder, "authorized_keys"), left+"\n")
	for _, name := range []string{m.Home("plumlatch"), folder, filepath.Join(folder, "authorized_keys")} {
		if err := os.Chown(name, 990, 990); err != nil {
			t.Fatal(err)
		}
	}
	h.must("instance", "steward", "pump", "-account", "plumlatch", "-with", h.private("mine"), "-yes")
	if r := h.client("sweep", "pump"); r.status != 3 {
		t.Errorf("the sweep: %+v", r)
	}
	if in := h.access("pump"); in.Beyond.Strangers != 1 {
		t.Errorf("what was left behind is not told: %+v", in.Beyond)
	}
	if out := h.client("reach", "-q", "-all").out; !strings.Contains(out, "plumlatch@pump") {
		t.Errorf("an account that a stranger gets in to is not among the logins:\n%s", out)
	}
	h.refused("account-shared", "instance", "steward", "pump", "-withdraw", "-with", h.private("mine"), "-yes")
}
