package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio/sshdtest"
)

// TestACutAtTheRenameAndALostReplyInsideARotation has a host's SFTP server die as the
// new line is renamed into place, just before and just after, and as the old is taken out.
func TestACutAtTheRenameAndALostReplyInsideARotation(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	for n, c := range []struct{ place, remove string }{
		{"before", ""},
		{"after", ""},
		{"", "before"},
		{"", "after"},
		{"after", "after"},
	} {
		name, key := fmt.Sprintf("mast-%d", n), fmt.Sprintf("key-of-%c", 'a'+n)
		t.Run(c.place+"-"+c.remove, func(t *testing.T) {
			t.Parallel()
			h := h.in(t)
			h.must("key", "new", key)
			server, cut := sshdtest.StartCutting(t)
			if err := os.WriteFile(server.KeysFile, []byte("# kept\n"+read(t, h.private(key+".pub"))), 0o600); err != nil {
				t.Fatal(err)
			}
			h.must(
				"instance", "adopt", name, "-address", "127.0.0.1", "-port", fmt.Sprint(server.Port), "-login", server.User,
				"-with", h.private(key), "-steward", "-yes",
			)
			h.must("grant", "add", key, name)
			if c.place != "" {
				cut(c.place)
			}
			h.client(
				"rotate", "start", "-key", key, "-instance", name, "-make", "service", "-grace", "4s", "-reason", name,
				"-detach", "-yes",
			)
			own := func() apiclient.Rotation {
				all := h.rotations()
				return all[slices.IndexFunc(all, func(r apiclient.Rotation) bool { return *r.Reason == name })]
			}
			eventually(t, "the new line of "+name, func() bool { return own().Counts["proved"] == 1 })
			if c.remove != "" {
				cut(c.remove)
			}
			eventually(t, "the end of "+name, func() bool { return own().EndedAt != nil })
			text := read(t, server.KeysFile)
			if own().Counts["done"] != 1 || !strings.HasPrefix(text, "# kept\n") || strings.Contains(text, " "+key+"\n") ||
				strings.Count(text, "\n") != 3 {
				t.Errorf("%+v: %v %+v\n%s", c, own().Counts, h.rotationItems(own().Id.String()), text)
			}
		})
	}
}

func TestAFullDiskStopsARotationAtItsSafePoint(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a")
	file := h.keysFile("a")
	dir, text := filepath.Dir(file), read(t, file)
	if out, err := exec.Command(
		"mount", "-t", "tmpfs", "-o", "size=16k,mode=700", "none", dir,
	).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be mounted here: %v: %s", err, out)
	}
	t.Cleanup(func() { exec.Command("umount", dir).Run() })
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	fill, err := os.Create(filepath.Join(dir, "fill"))
	for err == nil {
		_, err = fill.Write(make([]byte, 4096))
	}
	fill.Close()
	r := h.client("rotate", "start", "-key", "mine", "-make", "service", "-yes")
	if r.status != 3 || !strings.Contains(r.out, "1 failed") || !strings.Contains(r.out, "it was left unchanged") ||
		read(t, file) != text {
		t.Errorf("%d %s%s\n%s", r.status, r.out, r.err, read(t, file))
	}
	if err := os.Remove(filepath.Join(dir, "fill")); err != nil {
		t.Fatal(err)
	}
	h.client("rotate", "retry", h.rotation().Id.String())
	eventually(t, "the end", func() bool { return h.rotation().Counts["done"] == 1 })
	h.replaced(t, "a", "mine-2")
}

// TestAHostThatDiesAfterTheNewLineIsGoneBackOnWhenItIsBack closes the way to a host
// between the new line and the login with it.
func TestAHostThatDiesAfterTheNewLineIsGoneBackOnWhenItIsBack(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	server := sshdtest.StartConfined(t)
	if err := os.WriteFile(server.KeysFile, []byte("# kept\n"+read(t, h.private("mine.pub"))), 0o600); err != nil {
		t.Fatal(err)
	}
	way := fmt.Sprintf("127.0.0.1:%d", server.Port)
	g := newGate(t, way)
	h.must(
		"instance", "adopt", "mast", "-address", "127.0.0.1", "-port", fmt.Sprint(g.Addr().(*net.TCPAddr).Port),
		"-login", server.User, "-with", h.private("mine"), "-steward", "-yes",
	)
	h.must("grant", "add", "mine", "mast")
	before := read(t, server.KeysFile)
	held, letGo := h.holdAt(t, at{"run_steps", "NEW.name = 'place' AND NEW.state = 'done' AND OLD.state <> NEW.state"})
	h.client("rotate", "start", "-key", "mine", "-make", "service", "-detach", "-yes")
	eventually(t, "the new line", held)
	g.cut("127.0.0.1:1") // nobody listens there
	letGo()
	eventually(t, "the step waits for the host", func() bool {
		return strings.Contains(h.run(*h.rotationItems(h.rotation().Id.String())[0].Run), "waiting: ")
	})
	if text := read(t, server.KeysFile); !strings.Contains(text, " mine\n") || !strings.Contains(text, " mine-2\n") {
		t.Fatalf("dead in between, the file is\n%s", text)
	}
	g.lead(way)
	eventually(t, "the end", func() bool { return h.rotation().EndedAt != nil })
	if text := read(t, server.KeysFile); h.rotation().Counts["done"] != 1 ||
		text != strings.Replace(before, read(t, h.private("mine.pub")), "", 1)+lastLine(text) {
		t.Errorf("%v, the file is\n%s\nwas\n%s", h.rotation().Counts, text, before)
	}
}

// lastLine returns the last line of a text, with its end.
func lastLine(text string) string {
	return text[strings.LastIndexByte(strings.TrimSuffix(text, "\n"), '\n')+1:]
}

// TestAHostileFileIsRotatedByteForByte has a file with NUL bytes, control sequences,
// broken lines, CRLF ends, 9,000 strangers' lines and no newline at its end.
func TestAHostileFileIsRotatedByteForByte(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a")
	text := read(t, h.keysFile("a"))
	old := regexp.MustCompile(`(?m)^no-agent-forwarding .* mine\n`).FindString(text)
	hostile := "\x00\x00 ssh-ed25519 AAAA\x00\r\n\x1b[2J\x1b]0;title\x07 ssh-ed25519 AAAA\n\"unended quote ssh-ed25519 " +
		"AAAA mine\n" + strings.Repeat(
		"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGF14U+Miqie/QV8ePU2o9+hQRQv9u76/ezAO9dlK9Ar junk\r\n", 9_000,
	) + strings.Repeat(
		"=", 100_000,
	) + "\n"
	before, after, found := strings.Cut(text, old)
	if !found {
		t.Fatalf("the file is\n%s", text)
	}
	broken := hostile + before + old + after + "\xff\xfe half a line"
	if err := os.WriteFile(h.keysFile("a"), []byte(broken), 0o600); err != nil {
		t.Fatal(err)
	}
	h.client("sweep", "a")
	if r := h.client("rotate", "start", "-key", "mine", "-make", "service", "-yes"); r.status != 0 ||
		!strings.Contains(r.out, "1 done") {
		t.Fatalf("%d %.2000s%.2000s", r.status, r.out, r.err)
	}
	got := read(t, h.keysFile("a"))
	rest, ours := strings.CutPrefix(
		got, hostile+before+after+"\xff\xfe half a line\r\n",
	) // with the line ends that the file has most of
	if !ours || !regexp.MustCompile(`^no-agent-forwarding ssh-ed25519 \S+ mine-2\r\n$`).MatchString(rest) {
		t.Errorf("the file has %d bytes, had %d, and ends with %q", len(got), len(broken), got[max(0, len(got)-300):])
	}
}

// TestAClientThatIsKilledWhileItEditsLeavesALoginThatOpens kills the client at moments
// that the database holds, and continues from another client.
func TestAClientThatIsKilledWhileItEditsLeavesALoginThatOpens(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.service.kill(t)
	h.startService(h.listen(), "-report-within", "3s")
	moments := []at{
		{"run_steps", "NEW.name = 'place' AND NEW.state = 'done' AND OLD.state <> NEW.state"},
		{"run_steps", "NEW.name = 'enter' AND NEW.state = 'done' AND OLD.state <> NEW.state"},
		{"run_steps", "NEW.name = 'remove' AND NEW.state = 'done' AND OLD.state <> NEW.state"},
	}
	var names []string
	for n := range moments {
		names = append(names, fmt.Sprintf("i%d", n))
	}
	h.bare(t, "debian-12", names...)
	for n, a := range moments {
		held, letGo := h.holdAt(t, a)
		cmd := exec.Command(
			filepath.Join(bin, "plumlatch"), "rotate", "start", "-key", "mine", "-instance", names[n], "-from-here",
			"-with", h.private("mine"), "-yes",
		)
		cmd.Env = append(os.Environ(), "HOME="+h.home(), "PLUMLATCH_URL="+h.url, "PLUMLATCH_TOKEN="+h.token)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		eventually(t, a.condition, held)
		cmd.Process.Kill()
		cmd.Wait()
		letGo()
		id := h.rotation().Id.String()
		eventually(t, a.condition+": the failure or a rest", func() bool {
			r := h.rotation()
			return r.Counts["placing"]+r.Counts["removing"] == 0
		})
		h.client("rotate", "retry", id)
		h.client("rotate", "watch", id, "-from-here", "-with", h.private("mine"))
		if r := h.rotation(); r.Counts["done"] != 1 {
			item := h.rotationItems(id)[0]
			t.Errorf("%s: %v %+v", a.condition, r.Counts, item)
		}
		item := h.rotationItems(id)[0]
		h.replacedBare(t, names[n], item.New)
	}
}
