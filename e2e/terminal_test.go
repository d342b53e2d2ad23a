package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"plumlatch/internal/cli/clitest"
)

// secret finds the prompts whose answer is not to be seen.
var secret = regexp.MustCompile("^(Passphrase|Password|Again)")

// onTerminal runs the client on a terminal. After each prompt the next answer is typed.
func (h *house) onTerminal(args []string, dialogue ...string) (string, error) {
	h.t.Helper()
	t := h.t.(*testing.T)
	master, slave := clitest.Terminal(t)
	if err := os.MkdirAll(h.home(), 0o700); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Env = append(os.Environ(), "HOME="+h.home(), "PLUMLATCH_URL="+h.url, "PLUMLATCH_TOKEN="+h.token)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	said, drained := &output{}, make(chan struct{})
	go func() {
		defer close(drained)
		buffer := make([]byte, 1024)
		for {
			n, err := master.Read(buffer)
			said.Write(buffer[:n])
			if err != nil {
				return
			}
		}
	}()
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	slave.Close() // so that reading ends once the client has
	for i := 0; i+1 < len(dialogue); i += 2 {
		eventually(t, "the prompt "+dialogue[i], func() bool {
			state, err := unix.IoctlGetTermios(int(master.Fd()), unix.TCGETS)
			silent := err == nil && state.Lflag&unix.ECHO == 0
			return strings.HasSuffix(said.String(), dialogue[i]) && silent == secret.MatchString(dialogue[i])
		})
		if _, err := master.WriteString(dialogue[i+1] + "\n"); err != nil {
			t.Fatal(err)
		}
	}
	err := cmd.Wait()
	<-drained
	return said.String(), err
}

func TestAPassphraseIsAskedTwiceWithoutEcho(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	said, err := h.onTerminal(
		[]string{"key", "new", "asked", "-passphrase"}, "Passphrase for the private key: ", "storm petrel",
		"Again: ", "storm petrel",
	)
	if err != nil || strings.Contains(said, "petrel") || !strings.Contains(said, "asked is recorded") {
		t.Errorf("%v: %q", err, said)
	}
	if err := exec.Command(
		"ssh-keygen", "-y", "-P", "storm petrel", "-f", filepath.Join(h.home(), ".ssh/asked"),
	).Run(); err != nil {
		t.Errorf("the passphrase does not open it: %v", err)
	}
	said, err = h.onTerminal(
		[]string{"key", "new", "mistyped", "-passphrase"}, "Passphrase for the private key: ", "storm petrel",
		"Again: ", "storm petral",
	)
	if err == nil || !strings.Contains(said, "the two passphrases differ") {
		t.Errorf("two different passphrases: %v: %q", err, said)
	}
	h.refused("no-such-key", "key", "show", "mistyped")
}

func TestHarmIsConfirmedByTypingTheName(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "doomed", "-image", "debian-12", "-size", "small", "-no-key")
	said, err := h.onTerminal([]string{"instance", "delete", "doomed"}, "Type doomed to continue: ", "yes")
	if err == nil || !strings.Contains(said, "not confirmed; nothing was done") {
		t.Errorf("%v: %q", err, said)
	}
	said, err = h.onTerminal([]string{"instance", "delete", "doomed"}, "Type doomed to continue: ", "doomed")
	if err != nil || !strings.Contains(said, "gone, with its disks") {
		t.Errorf("%v: %q", err, said)
	}
}
