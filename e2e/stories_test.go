package e2e

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/demo"
	"plumlatch/internal/sshio/sshdtest"
)

var tell = flag.Bool("tell", false, "write into the pages of docs what their commands print")

// story is a page of docs, told on a demo of its own: the commands of the page are typed
// into a shell one after another, and must print what the page says they do.
type story struct {
	*house
	shell io.Writer
	said  *bufio.Reader
	// instead is what is in a page for what is typed here, pair by pair.
	instead []string
	page    *page
	// fingerprint is typed for the one that is in a command of a page.
	fingerprint string
}

const said = "\x01said\x01"

// newStory starts a demo and a shell in it, with .demo as make demo leaves it.
func newStory(t *testing.T) *story {
	t.Helper()
	dir := demoDir(t)
	_, h := startDemo(t, dir)
	work := filepath.Join(h.dir, "work")
	docs, err := filepath.Abs(filepath.Join("..", "docs"))
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(
		os.MkdirAll(filepath.Join(work, "bin"), 0o755), os.MkdirAll(h.home(), 0o700),
		os.Symlink(dir, filepath.Join(work, ".demo")),
		os.Symlink(filepath.Join(bin, "plumlatch"), filepath.Join(work, "bin/plumlatch")),
		os.Symlink(docs, filepath.Join(work, "docs")),
	); err != nil {
		t.Fatal(err)
	}
	shell := exec.Command("bash", "--norc", "--noprofile")
	shell.Dir = work
	shell.Env = append(
		os.Environ(), "HOME="+h.home(), "PATH="+filepath.Join(work, "bin")+":"+os.Getenv("PATH"), "PLUMLATCH_URL=",
		"PLUMLATCH_TOKEN=", "PLUMLATCH_KEYS=", "TZ=UTC",
	)
	in, err := shell.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	shell.Stdout, shell.Stderr = write, write
	if err := shell.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		in.Close()
		shell.Wait()
		out.Close()
		write.Close()
	})
	return &story{
		house:   h,
		shell:   in,
		said:    bufio.NewReader(out),
		instead: []string{h.home(), "~", h.dir, "~", dir, ".demo"},
	}
}

// type types a line and returns what was printed, with a last line that tells of a status
// other than 0.
func (s *story) types(line string) string {
	s.t.Helper()
	for n := 0; n+1 < len(s.instead); n += 2 {
		if s.instead[n+1] != "~" && s.instead[n+1] != ".demo" {
			line = strings.ReplaceAll(line, s.instead[n+1], s.instead[n])
		}
	}
	// What is typed has no terminal, so that nothing waits for an answer.
	fmt.Fprintf(s.shell, "{ %s\n} </dev/null; printf '%s%%s\\n' $?\n", line, said)
	var out strings.Builder
	for {
		text, err := s.said.ReadString('\n')
		if err != nil {
			s.t.Fatalf("%s: %v after %s", line, err, out.String())
		}
		before, status, ended := strings.Cut(text, said)
		out.WriteString(before)
		if !ended {
			continue
		}
		if status = strings.TrimSpace(status); status != "0" {
			fmt.Fprintf(&out, "# status %s\n", status)
		}
		text = out.String()
		for n := 0; n+1 < len(s.instead); n += 2 {
			text = strings.ReplaceAll(text, s.instead[n], s.instead[n+1])
		}
		return text
	}
}

// changing is what differs from one telling to the next, and what it is read as.
var changing = []struct {
	what *regexp.Regexp
	as   string
}{
	{regexp.MustCompile(`[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}`), "ID"},
	{regexp.MustCompile(`\bi-[0-9a-f]{12}\b`), "ID"},
	{regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}`), "FINGERPRINT"},
	{regexp.MustCompile(`\b[0-9a-f]{64}\b|\b[0-9a-f]{32}\b|\b[0-9a-f]{16}\b`), "HASH"},
	{regexp.MustCompile(`(?:[0-9a-f]{2}:){15,19}[0-9a-f]{2}`), "DIGEST"},
	{regexp.MustCompile(`127\.\d+\.\d+\.\d+|10\.77\.0\.\d+`), "ADDRESS"},
	{regexp.MustCompile(`\b\d{1,2} (?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]* \d{4}\b`), "DAY"},
	{regexp.MustCompile(`\b\d{4}-\d{2}-\d{2}(?:T[0-9:.]+Z)?\b`), "DATE"},
	{regexp.MustCompile(`\b\d{2}:\d{2}(?::\d{2})?\b`), "TIME"},
	{regexp.MustCompile(`\b\d+(?:\.\d+)? (?:s|ms|min|seconds)\b`), "SPAN"},
	{regexp.MustCompile(`Plum Latch [0-9a-z]\S*`), "VERSION"},
	{regexp.MustCompile(`port \d+|-p \d+|:\d{4,5}\b|,\d{4,5},`), "PORT"},
	{regexp.MustCompile(`[A-Za-z0-9+/]{40,}={0,2}`), "BASE64"},
	{regexp.MustCompile(`(?i)\bentr(?:y|ies) \d+|\b\d+ entr(?:y|ies)`), "ENTRIES"}, // uses of the safe are told in batches
	{regexp.MustCompile(`\b\d+ of \d+ shown`), "SOME SHOWN"},
	{regexp.MustCompile(`(?m)^\s*running: .*$`), ""}, // how far it was, where it took a while
	{regexp.MustCompile(`\s+`), " "},
}

func lasting(text string) string {
	for _, c := range changing {
		text = c.what.ReplaceAllString(text, c.as)
	}
	return strings.TrimSpace(text)
}

// told goes through a page of docs. Where it says <!-- console NAME -->, the function
// of that name looks at the console, or works there.
//
// <!-- as NAME --> has the commands that follow typed by somebody else.
func (s *story) told(name string, console map[string]func(p *page)) {
	s.t.Helper()
	file := filepath.Join("..", "docs", name+".md")
	data, err := os.ReadFile(file)
	if err != nil {
		s.t.Fatal(err)
	}
	lines := strings.Split(string(data), "\n")
	var out []string
	seen := map[string]bool{}
	for n := 0; n < len(lines); {
		line := lines[n]
		n++
		out = append(out, line)
		if m := regexp.MustCompile(`^<!-- console ([a-z -]+) -->$`).FindStringSubmatch(line); m != nil {
			do := console[m[1]]
			if do == nil {
				s.t.Fatalf("%s: nothing is known of the console's %q", name, m[1])
			}
			seen[m[1]] = true
			if s.page == nil {
				s.page = openBrowser(s.t, s.url)
				s.page.signedIn("ines", demo.Password("ines"))
			}
			do(s.page)
			continue
		}
		if m := regexp.MustCompile(`^<!-- as ([a-z]+) -->$`).FindStringSubmatch(line); m != nil {
			s.types("export PLUMLATCH_URL=" + s.url + " PLUMLATCH_TOKEN=" + s.signIn(m[1], demo.Password(m[1])))
			continue
		}
		typed, ok := strings.CutPrefix(line, "    $ ")
		if !ok {
			continue
		}
		if s.fingerprint != "" {
			typed = regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}`).ReplaceAllLiteralString(typed, s.fingerprint)
			out[len(out)-1] = "    $ " + typed
		}
		var want []string
		for n < len(lines) && (strings.HasPrefix(lines[n], "    ") && !strings.HasPrefix(lines[n], "    $ ") ||
			lines[n] == "" && n+1 < len(lines) && strings.HasPrefix(lines[n+1], "    ") &&
				!strings.HasPrefix(lines[n+1], "    $ ")) {
			want = append(want, strings.TrimPrefix(lines[n], "    "))
			n++
		}
		got := s.types(typed)
		if *tell {
			for text := range strings.Lines(strings.TrimRight(got, "\n") + "\n") {
				if text = strings.TrimRight(text, " \n"); text != "" {
					text = "    " + text
				}
				out = append(out, text)
			}
			if got == "" {
				out = out[:len(out)-1]
			}
			continue
		}
		if a, b := lasting(strings.Join(want, "\n")), lasting(got); a != b {
			s.t.Errorf("%s: %s prints\n%s\nand the page says\n%s", name, typed, got, strings.Join(want, "\n"))
		}
	}
	for c := range console {
		if !seen[c] {
			s.t.Errorf("%s has no place for the console's %q", name, c)
		}
	}
	if *tell {
		if err := os.WriteFile(file, []byte(strings.Join(out, "\n")), 0o644); err != nil {
			s.t.Fatal(err)
		}
	}
}

// nightZone is a time zone in which it is half past one at night or later, before three.
func nightZone() string {
	offset := (2 - time.Now().UTC().Hour() + 24) % 24 // hours east that make it two at night
	if offset > 12 {
		offset -= 24
	}
	return fmt.Sprintf("Etc/GMT%+d", -offset) // POSIX counts to the west
}

func TestStoryOfTheFleetInAFile(t *testing.T) {
	t.Parallel()
	s := newStory(t)
	s.told("stories/7-the-fleet-in-a-file", map[string]func(p *page){
		"versions": func(p *page) {
			p.open("/charters/atlas")
			p.says("2, which counts")
			p.says("oona joins the atlas team")
			p.says("atlas is so: nothing differs")
		},
	})
}

func TestStoryOfTheFirstHour(t *testing.T) {
	t.Parallel()
	s := newStory(t)
	s.told("stories/1-first-hour", map[string]func(p *page){
		"what is wrong": func(p *page) {
			p.open("/")
			p.says("no key in place that anybody is known to have")
			p.says("tide-gauge-3")
			p.says("Get back in")
		},
		"launched": func(p *page) {
			p.open("/instances/my-first")
			p.says("marek-main")
			p.says("my-key")
			p.says("in place")
		},
	})
}

func TestStoryOfOurOwnMachines(t *testing.T) {
	t.Parallel()
	s := newStory(t)
	s.ownMachines()
	s.told("stories/2-our-own-machines", map[string]func(p *page){
		"a stranger": func(p *page) {
			p.open("/logins/root@lamp-room")
			p.says("lars@lamp")
			p.says("keys in place here that are not recorded")
		},
		"settled": func(p *page) {
			p.open("/drift?label=site%3Dpier")
			p.says("No drift")
		},
	})
}

func TestStoryOfSpringCleaning(t *testing.T) {
	t.Parallel()
	s := newStory(t)
	s.instead = append(s.instead, nightZone(), "Europe/Berlin")
	s.told("stories/3-spring-cleaning", map[string]func(p *page){
		"watched": func(p *page) {
			p.open("/rotations/" + s.rotation().Id.String())
			p.holds("nine that are done", `document.querySelector("[role=img][aria-label='9 done']") !== null`)
			p.press("Report")
			p.says("hide-cam-golden")
		},
	})
}

func TestStoryOfTheWorstDay(t *testing.T) {
	t.Parallel()
	s := newStory(t)
	s.told("stories/4-worst-day", map[string]func(p *page){
		"lost": func(p *page) {
			p.open("/keys/oona-main")
			p.says("lost")
			p.open("/?state=shut")
			p.says("debian@tide-gauge-1")
		},
		"over": func(p *page) {
			p.open("/logins/debian@tide-gauge-4")
			p.says("pier-spare")
			p.says("in place")
		},
	})
}

func TestStoryOfSomebodyWhoLeaves(t *testing.T) {
	t.Parallel()
	s := newStory(t)
	s.told("stories/5-somebody-leaves", map[string]func(p *page){
		"leaving": func(p *page) {
			p.open("/settings/people/marek/leaving")
			p.says("it is over")
		},
	})
}

func TestStoryOfAFleetThatWasThere(t *testing.T) {
	t.Parallel()
	s := newStory(t)
	s.told("stories/6-a-fleet-that-was-there", map[string]func(p *page){
		"brought in": func(p *page) {
			p.open("/instances/weir-gauge")
			p.says("Brought in")
			p.says("south-marsh")
		},
	})
}

func TestTheTourOfTheReadmeAndTheWorkedExampleOfAnAdapter(t *testing.T) {
	t.Parallel()
	s := newStory(t)
	s.told("../README", nil)
	s.told("adapters", nil)
}

// ownMachines starts three hosts that are of no cloud, with a list of them and the key that opens
// all, in the folder of the story.
func (s *story) ownMachines() {
	s.t.Helper()
	work := filepath.Join(s.dir, "work")
	made := func(name, comment string) string {
		file := filepath.Join(work, name)
		if out, err := exec.Command(
			"ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", comment, "-f", file,
		).CombinedOutput(); err != nil {
			s.t.Fatalf("%v %s", err, out)
		}
		return read(s.t, file+".pub")
	}
	old, stranger := made("old-key", "piers 2019"), made("stranger", "lars@lamp")
	s.must("key", "import", "piers-old", "-from", filepath.Join(work, "old-key.pub"))
	oona := read(s.t, filepath.Join(work, ".demo/keys/oona-main.pub"))
	list := "name,address,port,login,site\n"
	for _, m := range [][2]string{
		{"weather-mast", old},
		{"pump-house", old + oona},
		{"lamp-room", "# since 2019\n" + old + stranger},
	} {
		name, lines := m[0], m[1]
		host := sshdtest.StartConfined(s.t)
		if err := errors.Join(
			os.WriteFile(host.KeysFile, []byte(lines), 0o600),
			os.Symlink(filepath.Dir(host.KeysFile), filepath.Join(work, name)),
		); err != nil {
			s.t.Fatal(err)
		}
		list += fmt.Sprintf("%s,127.0.0.1,%d,%s,pier\n", name, host.Port, host.User)
	}
	if err := os.WriteFile(filepath.Join(work, "machines.csv"), []byte(list), 0o600); err != nil {
		s.t.Fatal(err)
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(stranger))
	if err != nil {
		s.t.Fatal(err)
	}
	s.fingerprint = ssh.FingerprintSHA256(public)
}

// TestTheWorstDayInTheConsole goes from a stolen tablet to a login that is open again with the
// browser alone; only the last login is by ssh.
func TestTheWorstDayInTheConsole(t *testing.T) {
	t.Parallel()
	_, h := startDemo(t, demoDir(t))
	p := openBrowser(t, h.url)
	p.signedIn("ines", demo.Password("ines"))
	p.open("/keys?holder=oona")
	p.says("oona-main")
	p.press("All of them are lost")
	p.says("5 of them shut")
	p.fill("What happened", "field tablet stolen at the pier")
	p.press("Mark it as lost")
	p.holds("the plan of the urgent rotation", `location.pathname === "/rotations/plan"`)
	p.says("root@gateway-1")
	p.says("Get back in, which takes the lost line out as well")
	p.press("Replace keys in 4 logins")
	p.holds("all that have a steward key to be done", `document.querySelector("[role=img][aria-label='4 done']") !== null`)
	p.open("/?state=shut")
	p.says("debian@tide-gauge-1")
	p.open("/?q=tide-gauge-1")
	p.says("1 login")
	p.press("Get back in")
	p.says("Get back into debian@tide-gauge-1: browser shell")
	p.fill("Name of the new key", "pier-spare")
	p.fill("Why, for the daybook", "tablet stolen")
	p.press("Begin")
	p.holds("the run to its end, where it was begun", `(() => {
		const at = document.querySelector("[role=dialog] [role=status]")?.innerText ?? "";
		return location.pathname === "/" && at.startsWith("✓") && at.includes("a login with pier-spare was completed");
	})()`)
	p.press("Its page")
	p.says("debian@tide-gauge-1 is open again: a login with pier-spare was completed.")
	p.press("See where else it is")
	p.says("tide-gauge-2")
	h.must("key", "private", "pier-spare", "-reason", "to look after the gauge")
	if out, err := h.ssh(h.instance("tide-gauge-1"), "pier-spare", "whoami"); err != nil || out != "debian" {
		t.Errorf("%s %v", out, err)
	}
}
