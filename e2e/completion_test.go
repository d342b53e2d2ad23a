package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"plumlatch/internal/cli/clitest"
)

// escapes are what a shell sends to move the cursor and to colour.
var escapes = regexp.MustCompile(`\x1b\[[0-9;?]*[a-zA-Z]|\x1b[=>]|\x1b\][^\x07]*\x07|\x1b\(B`)

// shells are the shells, with how each is started without the start-up files of this machine, and how it takes
// the completion.
var shells = map[string]struct{ args, setup string }{
	"bash": {"--norc -i", "source <(plumlatch completion bash)"},
	"zsh":  {"-f -i", "autoload -U compinit; compinit -u; source <(plumlatch completion zsh)"},
	"fish": {"--no-config -i", "plumlatch completion fish | source"},
}

// TestShellsCompleteTheNamesOfTheService types in real shells on a terminal and presses the tabulator.
func TestShellsCompleteTheNamesOfTheService(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "gannet-deploy")
	h.must("instance", "launch", "walkway-door", "-image", "debian-12", "-size", "small", "-key", "gannet-deploy")
	for shell, s := range shells {
		t.Run(shell, func(t *testing.T) {
			path, err := exec.LookPath(shell)
			if err != nil {
				t.Fatal(err) // make test installs it
			}
			master, slave := clitest.Terminal(t)
			cmd := exec.Command(path, strings.Fields(s.args)...)
			cmd.Env = append(
				os.Environ(), "HOME="+t.TempDir(), "PLUMLATCH_URL="+h.url, "PLUMLATCH_TOKEN="+h.token, "TERM=xterm", "PS1=> ",
				"PATH="+bin+":"+os.Getenv("PATH"),
			)
			cmd.Stdin, cmd.Stdout, cmd.Stderr = slave, slave, slave
			cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
			said := &output{}
			go func() {
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
			t.Cleanup(func() {
				cmd.Process.Kill()
				cmd.Wait()
			})
			typeIn := func(text string) {
				if _, err := master.WriteString(text); err != nil {
					t.Fatal(err)
				}
			}
			typeIn(s.setup + "\n")
			mark := filepath.Join(t.TempDir(), "ready")
			typeIn("touch " + mark + "\n")
			eventually(t, shell+" is ready", func() bool { _, err := os.Stat(mark); return err == nil })
			for typed, want := range map[string]string{
				"plumlatch key show gann":              "gannet-deploy",
				"plumlatch connect walkw":              "walkway-door",
				"plumlatch login show debian@walkw":    "debian@walkway-door",
				"plumlatch grant list -key gannet-d":   "gannet-deploy",
				"plumlatch rotate pla":                 "plan",
				"plumlatch operator leave in":          "ines",
				"plumlatch instance launch x -image d": "debian-12",
			} {
				before := len(said.String())
				typeIn(typed + "\t")
				rest := want[len(typed)-strings.LastIndex(typed, " ")-1:]
				eventually(t, typed+" and a tabulator in "+shell, func() bool {
					return strings.Contains(escapes.ReplaceAllString(said.String()[before:], ""), rest)
				})
				typeIn("\x15") // takes the line away
			}
		})
	}
}
