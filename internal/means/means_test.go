package means

import (
	"context"
	"crypto/rand"
	"errors"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/sshio"
)

// shelf is a means over files in memory. Each change is whole: nobody edits in between.
type shelf struct {
	mu    sync.Mutex
	paths []string
	text  map[string]string
}

func newShelf(first string, more ...string) *shelf {
	s := &shelf{text: map[string]string{}}
	for n, text := range append([]string{first}, more...) {
		path := "/home/debian/.ssh/authorized_keys" + strings.Repeat("2", n)
		s.paths = append(s.paths, path)
		s.text[path] = text
	}
	return s
}

func (s *shelf) seen() (seen Seen) {
	for _, p := range s.paths {
		seen.Files = append(seen.Files, File{Path: p, There: true, Content: []byte(s.text[p]), Mode: 0o600})
	}
	return seen
}

func (s *shelf) Read(context.Context) (Seen, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.seen(), nil
}

func (s *shelf) change(_ context.Context, edit edit) (Seen, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for n, p := range s.paths {
		all := parseAll(s.seen().Files)
		f, err := edit(all, p, n == 0, all[n])
		if err != nil {
			return Seen{}, err
		}
		s.text[p] = string(f.Bytes())
	}
	return s.seen(), nil
}

func (s *shelf) all() string {
	var b strings.Builder
	for _, p := range s.paths {
		b.WriteString(s.text[p])
	}
	return b.String()
}

// person holds a key.
type person struct {
	Key
	signer ssh.Signer
}

func newPerson(t testing.TB, name string) person {
	t.Helper()
	pair, err := keypair.Make(rand.Reader, keypair.Spec{}, name)
	if err != nil {
		t.Fatal(err)
	}
	text, err := pair.OpenSSH(nil)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		t.Fatal(err)
	}
	return person{Key{name, pair.Public.Blob, pair.Public.Line()}, signer}
}

// entered is the login that the person completed.
func (p person) entered(t testing.TB) sshio.Entry {
	t.Helper()
	report := signature.Entry{Key: p.Name, SHA256: fingerprint(p.Blob), Issued: now()}
	armoured, err := signature.Sign(p.signer, signature.EntryNamespace, []byte(report.Text()))
	if err != nil {
		t.Fatal(err)
	}
	e, err := sshio.SignedEntry(report, armoured, p.Blob)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func now() time.Time { return time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC) }

func door(m Means, j *Journal) *Door { return New(m, j, nil, now) }

func TestALineIsRemovedOnlyWhereTheLineThatWasLoggedInWithStays(t *testing.T) {
	ines, marek, oona := newPerson(t, "ines"), newPerson(t, "marek"), newPerson(t, "oona")
	for name, c := range map[string]struct {
		text    []string
		by      sshio.Entry
		remove  []Key
		removed bool
	}{
		"as it should be": {
			[]string{ines.Line + "\n" + marek.Line + "\n"},
			marek.entered(t),
			[]Key{ines.Key},
			true,
		},
		"the other in another file": {
			[]string{ines.Line + "\n", marek.Line + "\n"},
			marek.entered(t),
			[]Key{ines.Key},
			true,
		},
		"several": {
			[]string{ines.Line + "\n" + marek.Line + "\n" + oona.Line + "\n"},
			marek.entered(t),
			[]Key{ines.Key, oona.Key},
			true,
		},
		"no login was completed": {
			[]string{ines.Line + "\n" + marek.Line + "\n"},
			sshio.Entry{},
			[]Key{ines.Key},
			false,
		},
		"with the key itself": {
			[]string{ines.Line + "\n" + marek.Line + "\n"},
			ines.entered(t),
			[]Key{ines.Key},
			false,
		},
		"with one of those that go": {
			[]string{ines.Line + "\n" + marek.Line + "\n"},
			marek.entered(t),
			[]Key{ines.Key, marek.Key},
			false,
		},
		"its line is gone meanwhile": {[]string{ines.Line + "\n"}, marek.entered(t), []Key{ines.Key}, false},
		"its line is a comment now": {
			[]string{ines.Line + "\n#" + marek.Line + "\n"},
			marek.entered(t),
			[]Key{ines.Key},
			false,
		},
		"its line has run out": {
			[]string{ines.Line + "\nexpiry-time=\"20200101\" " + marek.Line + "\n"},
			marek.entered(t),
			[]Key{ines.Key},
			false,
		},
		"its line is for certificates": {
			[]string{ines.Line + "\ncert-authority " + marek.Line + "\n"},
			marek.entered(t),
			[]Key{ines.Key},
			false,
		},
		"its line is cut short": {
			[]string{ines.Line + "\n" + marek.Line[:40] + "\n"},
			marek.entered(t),
			[]Key{ines.Key},
			false,
		},
		"another stands in its stead": {
			[]string{ines.Line + "\n" + oona.Line + "\n"},
			marek.entered(t),
			[]Key{ines.Key},
			false,
		},
		"there is nothing to be removed": {[]string{marek.Line + "\n"}, marek.entered(t), []Key{ines.Key}, true},
	} {
		m := newShelf(c.text[0], c.text[1:]...)
		before := m.all()
		_, err := door(m, nil).Remove(t.Context(), c.by, c.remove...)
		if c.removed != (err == nil) {
			t.Errorf("%s: %v", name, err)
		}
		if !c.removed && m.all() != before {
			t.Errorf("%s: refused, and the files are\n%s", name, m.all())
		}
		for _, k := range c.remove {
			if c.removed && strings.Contains(m.all(), k.Line) {
				t.Errorf("%s: %s is in place there still", name, k.Name)
			}
		}
		if c.removed && !strings.Contains(m.all(), marek.Line) {
			t.Errorf("%s: the files are\n%s", name, m.all())
		}
	}
}

// TestTwoWhoRemoveEachOtherDoNotEmptyTheFile has two that are both let in, each of whom removes the other.
func TestTwoWhoRemoveEachOtherDoNotEmptyTheFile(t *testing.T) {
	ines, marek := newPerson(t, "ines"), newPerson(t, "marek")
	a, b := ines.entered(t), marek.entered(t)
	for range 300 {
		m := newShelf("# by hand\n" + ines.Line + "\n" + marek.Line + "\n")
		var both sync.WaitGroup
		var first, second error
		both.Go(func() { _, first = door(m, nil).Remove(context.Background(), a, marek.Key) })
		both.Go(func() { _, second = door(m, nil).Remove(context.Background(), b, ines.Key) })
		both.Wait()
		if (first == nil) == (second == nil) ||
			strings.Contains(m.all(), ines.Line) == strings.Contains(m.all(), marek.Line) {
			t.Fatalf("%v, %v:\n%s", first, second, m.all())
		}
	}
}

func TestALostLineGoesWithoutALoginByLeaveForThatLoginAlone(t *testing.T) {
	lost, fresh := newPerson(t, "lost"), newPerson(t, "fresh")
	leave, err := rotation.OverrideFor("debian@door", "debian@door", "stolen", true)
	if err != nil {
		t.Fatal(err)
	}
	both := lost.Line + "\n" + fresh.Line + "\n"
	for name, c := range map[string]struct {
		text, login string
		leave       rotation.Override
		removed     bool
	}{
		"with leave":               {both, "debian@door", leave, true},
		"leave for another":        {both, "debian@gate", leave, false},
		"no leave":                 {both, "debian@door", rotation.Override{}, false},
		"the new one is not there": {lost.Line + "\n", "debian@door", leave, false},
	} {
		m := newShelf(c.text)
		if _, err := door(m, nil).RemoveForced(
			t.Context(), c.login, c.leave, fresh.Key, lost.Key,
		); c.removed != (err == nil) ||
			c.removed == strings.Contains(m.all(), lost.Line) {
			t.Errorf("%s: %v\n%s", name, err, m.all())
		}
	}
}

func TestWhatWasPlacedIsTakenBackOnlyUnprovedAndWhereSomebodyIsLeft(t *testing.T) {
	old, fresh, other := newPerson(t, "old"), newPerson(t, "fresh"), newPerson(t, "other")
	place := func(t *testing.T, text string) (*shelf, *Journal) {
		m, j := newShelf(text), &Journal{}
		if _, err := door(m, j).PlaceBeside(t.Context(), old.Key, fresh.Key); err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(m.all(), fresh.Line) || !j.HasPlaced(fresh.Blob) {
			t.Fatalf("not placed:\n%s", m.all())
		}
		return m, j
	}
	m, j := place(t, old.Line+"\n")
	if _, err := door(m, j).TakeBack(t.Context(), true, nil, fresh.Key); !errors.Is(err, ErrProved) ||
		!strings.Contains(m.all(), fresh.Line) {
		t.Errorf("proved: %v\n%s", err, m.all())
	}
	if _, err := door(m, j).TakeBack(t.Context(), false, []Key{old.Key}, fresh.Key); err != nil ||
		m.all() != old.Line+"\n" {
		t.Errorf("taken back: %v\n%s", err, m.all())
	}
	// Meanwhile somebody removed all others.
	m, j = place(t, old.Line+"\n")
	m.text[m.paths[0]] = fresh.Line + "\n"
	for _, stay := range [][]Key{nil, {old.Key}} {
		if _, err := door(m, j).TakeBack(t.Context(), false, stay, fresh.Key); !errors.Is(err, ErrLast) ||
			m.all() != fresh.Line+"\n" {
			t.Errorf("the last one: %v\n%s", err, m.all())
		}
	}
	// What this run did not place it does not take back.
	m = newShelf(fresh.Line + "\n" + other.Line + "\n")
	if _, err := door(m, &Journal{}).TakeBack(t.Context(), false, nil, fresh.Key); err != nil ||
		!strings.Contains(m.all(), fresh.Line) {
		t.Errorf("placed by somebody else: %v\n%s", err, m.all())
	}
	// The old one is gone: there is nothing to place beside, and nothing is placed.
	m = newShelf(other.Line + "\n")
	if _, err := door(m, nil).PlaceBeside(t.Context(), old.Key, fresh.Key); !errors.Is(err, ErrOldGone) ||
		m.all() != other.Line+"\n" {
		t.Errorf("the old one is gone: %v\n%s", err, m.all())
	}
}

func TestWhatWasRemovedIsPutBackAsItWas(t *testing.T) {
	old, fresh := newPerson(t, "old"), newPerson(t, "fresh")
	line := `from="192.0.2.0/24",no-pty ` + old.Line
	m, j := newShelf("# first\n"+line+"\n"+fresh.Line+"\n", line+"\n"), &Journal{}
	saved := 0
	d := New(m, j, func(context.Context) error { saved++; return nil }, now)
	if _, err := d.Remove(t.Context(), fresh.entered(t), old.Key); err != nil || strings.Contains(m.all(), old.Line) ||
		saved != 2 {
		t.Fatalf("%v, saved %d times\n%s", err, saved, m.all())
	}
	for range 2 { // as often as it likes
		if _, err := d.PutBack(t.Context()); err != nil || strings.Count(m.all(), line) != 2 ||
			!strings.HasPrefix(m.all(), "# first\n") {
			t.Errorf("%v\n%s", err, m.all())
		}
	}
	// What cannot be written down is not done.
	m = newShelf(line + "\n" + fresh.Line + "\n")
	before := m.all()
	cut := New(m, nil, func(context.Context) error { return errors.New("cut") }, now)
	if _, err := cut.Remove(t.Context(), fresh.entered(t), old.Key); err == nil || m.all() != before {
		t.Errorf("%v\n%s", err, m.all())
	}
	if _, err := cut.Place(t.Context(), newPerson(t, "late").Key); err == nil || m.all() != before {
		t.Errorf("%v\n%s", err, m.all())
	}
}

func TestWhatIsPlacedIsOneLineOfTheKey(t *testing.T) {
	ines, eve := newPerson(t, "ines"), newPerson(t, "eve")
	for name, line := range map[string]string{
		"two lines":   ines.Line + "\n" + eve.Line,
		"a return":    ines.Line + "\r" + eve.Line,
		"another key": eve.Line,
		"a comment":   "# " + ines.Line,
		"nothing":     "",
		"half":        ines.Line[:30],
	} {
		m := newShelf("")
		if _, err := door(m, nil).Place(t.Context(), Key{"ines", ines.Blob, line}); err == nil || m.all() != "" {
			t.Errorf("%s: %v\n%s", name, err, m.all())
		}
	}
	m := newShelf(ines.Line + "\n")
	if _, err := door(m, nil).Place(t.Context(), ines.Key); err != nil || m.all() != ines.Line+"\n" {
		t.Errorf("there already: %v\n%s", err, m.all())
	}
}

// TestNothingElseChangesWhoGetsIn reads the code: the edits of a login's files are reached through this package alone.
func TestNothingElseChangesWhoGetsIn(t *testing.T) {
	out, err := exec.CommandContext(
		t.Context(), "grep", "-rnE",
		`\.(EditKnowing|EditAll|WriteAgentFile)\(|authorizedkeys\.File\{|sshio\.SignedEntry\(`, "--include=*.go",
		"..", "../../cmd",
	).
		CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	seen := 0
	for line := range strings.Lines(string(out)) {
		path, _, _ := strings.Cut(line, ":")
		allowed := strings.HasSuffix(path, "_test.go") || strings.HasSuffix(path, ".gen.go")
		for _, dir := range []string{"../means/", "../sshio/", "../cloud/", "../paddock/", "../core/"} {
			allowed = allowed || strings.HasPrefix(path, dir)
		}
		if strings.Contains(line, "sshio.SignedEntry(") { // for whoever checks what the report is of
			allowed = allowed || strings.HasPrefix(path, "../service/")
		}
		if seen++; !allowed {
			t.Errorf("who gets in is changed outside of internal/means: %s", line)
		}
	}
	if seen < 5 {
		t.Errorf("only %d lines were found:\n%s", seen, out)
	}
}
