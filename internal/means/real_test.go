package means

import (
	"context"
	"errors"
	"fmt"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/userdata"
	"plumlatch/internal/paddock"
	"plumlatch/internal/sshio"
)

// yard is a stand-in cloud, on whose instances each real means is tried.
type yard struct {
	t     *testing.T
	dir   string
	cloud *cloud.Cloud
	count int
	// Of every login: who is let in, and has a real private key.
	ines, marek person
}

func newYard(t *testing.T) *yard {
	t.Helper()
	y := &yard{t: t, dir: t.TempDir(), ines: newPerson(t, "ines"), marek: newPerson(t, "marek")}
	c, err := paddock.Open(paddock.Options{Dir: y.dir, Token: "secret", Block: netip.MustParsePrefix("127.30.4.0/24")})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	server := httptest.NewServer(c.Handler())
	t.Cleanup(server.Close)
	if y.cloud, err = cloud.Connect(server.URL, "secret", cloud.CallTimeout); err != nil {
		t.Fatal(err)
	}
	return y
}

func (y *yard) done(op cloud.Operation, err error) string {
	y.t.Helper()
	if op, err = y.cloud.Await(y.t.Context(), op, err); err != nil {
		y.t.Fatal(err)
	}
	return op.Instance
}

func (y *yard) must(err error) {
	y.t.Helper()
	if err != nil {
		y.t.Fatal(err)
	}
}

// launch launches an instance that lets ines and marek in, and returns its id.
func (y *yard) launch() string {
	y.t.Helper()
	y.count++
	data, err := userdata.Render(userdata.Config{LoginUser: "debian", Keys: []string{y.ines.Line, y.marek.Line}})
	y.must(err)
	name := fmt.Sprintf("door-%d", y.count)
	id := y.done(y.cloud.Launch(y.t.Context(), cloud.Launch{
		RequestToken: name,
		Name:         name,
		Image:        "debian-12",
		Size:         "small",
		Zone:         "north-shore-a",
		UserData:     &data,
	}))
	y.must(y.cloud.PermitAgent(y.t.Context(), id, true))
	return id
}

// ways are the real means, each to the login debian of an instance.
var ways = map[string]func(y *yard, id string) Means{
	"a session": func(y *yard, id string) Means {
		i, err := y.cloud.Instance(y.t.Context(), id)
		y.must(err)
		output, err := y.cloud.BootOutput(y.t.Context(), id)
		y.must(err)
		at := sshio.Target{User: "debian", Address: i.PublicAddress, Port: i.SshPort}
		for _, k := range cloud.HostKeys(output) {
			at.HostKeys = append(at.HostKeys, k.Blob)
		}
		session, err := sshio.Login(y.t.Context(), at, y.ines.signer)
		y.must(err)
		y.t.Cleanup(session.Close)
		return Over(session)
	},
	"the guest agent": func(y *yard, id string) Means {
		return ByAgent(
			y.cloud, cloud.AgentPlace{Instance: id}, "debian",
		)
	},
	"the cloud's shell": func(y *yard, id string) Means { return InShell(y.cloud, id, "debian") },
	"a helper's disk": func(y *yard, id string) Means {
		ctx, helper, below := y.t.Context(), y.launch(), "/mnt/lent"
		disks, err := y.cloud.Disks(ctx, id)
		y.must(err)
		y.done(y.cloud.Stop(ctx, id))
		y.done(y.cloud.Detach(ctx, disks[0].Id, id))
		lent := cloud.Attachment{Instance: helper, Device: "/dev/vdx"}
		y.done(y.cloud.Attach(ctx, disks[0].Id, lent))
		said, err := y.cloud.AgentCommand(ctx, helper, "mount", "-o", "nouuid", lent.Device, below)
		if err != nil || said.Status != 0 {
			y.t.Fatal(err, said.Errors)
		}
		return ByAgent(y.cloud, cloud.AgentPlace{Instance: helper, Below: below}, "debian")
	},
}

// login is a login, its means and its file on the disk.
type login struct {
	Means
	// other is the same means for somebody else.
	other Means
	t     *testing.T
	home  string
}

// TestEveryMeansKeepsToTheRules places, takes back, removes and puts back by each of them, and has
// what it is to leave alone lie in the way.
func TestEveryMeansKeepsToTheRules(t *testing.T) {
	y := newYard(t)
	for name, way := range ways {
		for what, check := range rules {
			id := y.launch()
			l := login{t: t, home: filepath.Join(y.dir, "disks", id, "home/debian")}
			l.write("# by hand\t\r\n" + "no-pty " + y.ines.Line + "\n" + y.marek.Line + "\nhalf a line")
			l.Means = way(y, id)
			if l.other = l.Means; name == "a session" { // of which each has one
				l.other = way(y, id)
			}
			if wrong := check(y, l); wrong != "" {
				t.Errorf("%s: %s: %s\n%s", name, what, wrong, l.text())
			}
		}
	}
}

func (l login) file() string { return filepath.Join(l.home, ".ssh/authorized_keys") }

func (l login) text() string {
	data, err := os.ReadFile(l.file())
	if err != nil {
		return err.Error()
	}
	return string(data)
}

func (l login) write(text string) {
	l.t.Helper()
	if err := os.WriteFile(l.file(), []byte(text), 0o600); err != nil {
		l.t.Fatal(err)
	}
}

// rules are what holds by every means; each returns what is wrong.
var rules = map[string]func(*yard, login) string{
	"foreign lines stay byte for byte": func(y *yard, l login) string {
		before, oona := l.text(), newPerson(y.t, "oona")
		seen, err := New(l, nil, nil, now).Place(y.t.Context(), oona.Key)
		added, whole := strings.CutPrefix(l.text(), before) // and the end of its last line
		if err != nil || !seen.Here(oona.Blob) || !whole || strings.TrimSpace(added) != oona.Line {
			return fmt.Sprint("placed: ", err)
		}
		_, err = New(l, nil, nil, now).Remove(y.t.Context(), y.ines.entered(y.t), oona.Key)
		added, whole = strings.CutPrefix(l.text(), before)
		if err != nil || !whole || strings.TrimSpace(added) != "" {
			return fmt.Sprint("removed: ", err)
		}
		info, err := os.Stat(l.file())
		if err != nil || info.Mode().Perm() != 0o600 {
			return fmt.Sprintf("the mode is %v, %v", info.Mode(), err)
		}
		beside, err := os.ReadDir(filepath.Dir(l.file()))
		if err != nil || len(beside) != 1 {
			return fmt.Sprint("beside the file: ", beside, err)
		}
		return ""
	},
	"no line is removed without a login whose own line stays": func(y *yard, l login) string {
		before := l.text()
		d := New(l, nil, nil, now)
		for _, by := range []sshio.Entry{{}, y.marek.entered(y.t), newPerson(y.t, "eve").entered(y.t)} {
			if _, err := d.Remove(y.t.Context(), by, y.marek.Key); err == nil || l.text() != before {
				return fmt.Sprint("removed: ", err)
			}
		}
		return ""
	},
	"what is removed is put back": func(y *yard, l login) string {
		before, j := l.text(), &Journal{}
		d := New(l, j, nil, now)
		if _, err := d.Remove(y.t.Context(), y.marek.entered(y.t), y.ines.Key); err != nil ||
			strings.Contains(l.text(), y.ines.Line) {
			return fmt.Sprint("removed: ", err)
		}
		if _, err := d.PutBack(y.t.Context()); err != nil || strings.Count(l.text(), "no-pty "+y.ines.Line) != 1 {
			return fmt.Sprint("put back, it was\n", before, "\n", err)
		}
		return ""
	},
	"what is placed is taken back until it is proved": func(y *yard, l login) string {
		oona, j := newPerson(y.t, "oona"), &Journal{}
		d := New(l, j, nil, now)
		if _, err := d.PlaceBeside(y.t.Context(), y.ines.Key, oona.Key); err != nil ||
			!strings.Contains(l.text(), "no-pty "+oona.Line) {
			return fmt.Sprint("placed: ", err)
		}
		if _, err := d.TakeBack(y.t.Context(), true, nil, oona.Key); !errors.Is(err, ErrProved) ||
			!strings.Contains(l.text(), oona.Line) {
			return fmt.Sprint("proved: ", err)
		}
		if _, err := d.TakeBack(y.t.Context(), false, []Key{y.ines.Key}, oona.Key); err != nil ||
			strings.Contains(l.text(), oona.Line) {
			return fmt.Sprint("taken back: ", err)
		}
		return ""
	},
	"two who remove each other do not empty the file": func(y *yard, l login) string {
		l.write(y.ines.Line + "\n" + y.marek.Line + "\n")
		var both sync.WaitGroup
		remove := func(m Means, by, whose person) {
			New(m, nil, nil, now).Remove(context.Background(), by.entered(y.t), whose.Key)
		}
		both.Go(func() { remove(l.Means, y.ines, y.marek) })
		both.Go(func() { remove(l.other, y.marek, y.ines) })
		both.Wait()
		if !strings.Contains(l.text(), y.ines.Line) && !strings.Contains(l.text(), y.marek.Line) {
			return "nobody is left"
		}
		return ""
	},
	"a link in place of the file is not followed": func(y *yard, l login) string {
		elsewhere := filepath.Join(l.home, "elsewhere")
		y.must(os.Rename(l.file(), elsewhere))
		y.must(os.Symlink("../elsewhere", l.file()))
		return l.leftAlone(y, elsewhere)
	},
	"a link in place of the folder is not followed": func(y *yard, l login) string {
		y.must(os.Rename(filepath.Dir(l.file()), filepath.Join(l.home, "other")))
		y.must(os.Symlink("other", filepath.Dir(l.file())))
		return l.leftAlone(y, filepath.Join(l.home, "other/authorized_keys"))
	},
	"a pipe in place of the file is not opened": func(y *yard, l login) string {
		y.must(os.Remove(l.file()))
		y.must(syscall.Mkfifo(l.file(), 0o600))
		return l.leftAlone(y, "")
	},
	"a file that is too large is not read": func(y *yard, l login) string {
		l.write(strings.Repeat("# "+strings.Repeat("x", 100)+"\n", 2*sshio.MaxFileBytes/100))
		return l.leftAlone(y, l.file())
	},
}

// leftAlone sees that nothing is read or changed, and that this is said.
func (l login) leftAlone(y *yard, file string) string {
	var before []byte
	var err error
	if file != "" {
		before, err = os.ReadFile(file)
		y.must(err)
	}
	ctx, cancel := context.WithTimeout(y.t.Context(), 20*time.Second)
	defer cancel()
	if seen, err := l.Read(ctx); err == nil {
		return fmt.Sprintf("it was read: %d bytes", len(seen.Files[0].Content))
	}
	if _, err := New(l, nil, nil, now).Place(ctx, newPerson(y.t, "oona").Key); err == nil {
		return "a line was placed"
	}
	if ctx.Err() != nil {
		return "it took 20 s"
	}
	if file == "" {
		return ""
	}
	if after, err := os.ReadFile(file); err != nil || string(after) != string(before) {
		return fmt.Sprintf("%s has changed: %v", file, err)
	}
	return ""
}
