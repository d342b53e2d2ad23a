package sshio

import (
	"context"
	"errors"
	"io/fs"
	"math"
	"runtime"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/sshio/sshdtest"
)

const keysFile = "/home/warden/.ssh/authorized_keys"

// HostileMachines are the ways in which a machine tries to harm whoever reads it.
var hostileMachines = map[string]struct {
	harm sshdtest.Harm
	says string
}{
	"a size of 1<<63": {
		sshdtest.Harm{Files: map[string]sshdtest.HostileFile{keysFile: {Size: math.MinInt64, Mode: 0o600}}},
		"is the limit",
	},
	"a size of 1<<64-1": {
		sshdtest.Harm{Files: map[string]sshdtest.HostileFile{keysFile: {Size: -1, Mode: 0o600}}},
		"is the limit",
	},
	"a size of 1<<62": {
		sshdtest.Harm{Files: map[string]sshdtest.HostileFile{keysFile: {Size: 1 << 62, Mode: 0o600}}},
		"is the limit",
	},
	"a file without end": {
		sshdtest.Harm{
			Files: map[string]sshdtest.HostileFile{keysFile: {Size: 10, Mode: 0o600, Content: "# more\n", Endless: true}},
		},
		"when it is read",
	},
	"a full file without end": {
		sshdtest.Harm{
			Files: map[string]sshdtest.HostileFile{
				keysFile: {Size: MaxFileBytes, Mode: 0o600, Content: "# more\n", Endless: true},
			},
		},
		"when it is read",
	},
	"a million lines": {
		sshdtest.Harm{Files: map[string]sshdtest.HostileFile{keysFile: sshdtest.Text(strings.Repeat("\n", 1_000_000))}},
		"10000 is the limit",
	},
	"60 key files": {
		sshdtest.Harm{
			Config: "AuthorizedKeysFile " + strings.Repeat("/x/k%u ", 60),
			Files:  map[string]sshdtest.HostileFile{"/x/*": {Size: 8 << 20, Mode: 0o600, Content: "#\n", Endless: true}},
		},
		"60 files",
	},
	"8 files of a MiB each": {
		sshdtest.Harm{
			Config: "AuthorizedKeysFile /x/1 /x/2 /x/3 /x/4 /x/5 /x/6 /x/7 /x/8",
			Files: map[string]sshdtest.HostileFile{
				"/x/*": sshdtest.Text(strings.Repeat("# "+strings.Repeat("x", 150)+"\n", 6000)),
			},
		},
		"is the limit for all files",
	},
	"a config without end": {sshdtest.Harm{Config: strings.Repeat("# x\n", 1<<20)}, "is the limit"},
	"a path of 100 kB": {
		sshdtest.Harm{Config: "AuthorizedKeysFile /" + strings.Repeat("x", 100_000)},
		"is the limit",
	},
	"a path of 400 folders": {
		sshdtest.Harm{Config: "AuthorizedKeysFile %h" + strings.Repeat("/a", 400)},
		"is the limit",
	},
	"a path that steers":         {sshdtest.Harm{Config: "AuthorizedKeysFile /x\x1b]0;pwned\x07"}, "control characters"},
	"a home that steers":         {sshdtest.Harm{Home: "/home/\x1b[2J"}, "control characters"},
	"a home without a beginning": {sshdtest.Harm{Home: "home"}, "does not begin with a slash"},
	"a link for a file": {
		sshdtest.Harm{Files: map[string]sshdtest.HostileFile{keysFile: {Mode: fs.ModeSymlink | 0o777}}},
		"is not followed",
	},
	"a link for a folder": {
		sshdtest.Harm{Files: map[string]sshdtest.HostileFile{"/home/warden/.ssh": {Mode: fs.ModeSymlink | 0o777}}},
		"is not followed",
	},
	"a pipe for a file": {
		sshdtest.Harm{Files: map[string]sshdtest.HostileFile{keysFile: {Mode: fs.ModeNamedPipe | 0o600}}},
		"is not followed",
	},
	"a file of another user": {
		sshdtest.Harm{Files: map[string]sshdtest.HostileFile{keysFile: {Mode: 0o600, UID: 33}}},
		"belongs to",
	},
}

func TestAHostileMachineIsReadWithinBoundsOrNotAtAll(t *testing.T) {
	signer := newSigner(t)
	for name, test := range hostileMachines {
		machine := sshdtest.StartHostile(t, test.harm)
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		s, err := Login(
			t.Context(),
			Target{User: "warden", Address: machine.Address, Port: machine.Port, HostKeys: [][]byte{machine.HostKey.Marshal()}},
			signer,
		)
		if err != nil {
			t.Errorf("%s: log in: %v", name, err)
			continue
		}
		files, err := s.ReadAll()
		s.Close()
		runtime.ReadMemStats(&after)
		if err == nil || !strings.Contains(err.Error(), test.says) {
			t.Errorf("%s: read %d files, and the error is %v, want one with %q", name, len(files), err, test.says)
		}
		if err != nil && strings.ContainsAny(err.Error(), "\x1b\x07") {
			t.Errorf("%s: the error holds control characters: %q", name, err)
		}
		if read := machine.Reads.Load(); read > 4<<20 {
			t.Errorf("%s: %d bytes were asked for", name, read)
		}
		if took := after.TotalAlloc - before.TotalAlloc; took > 64<<20 {
			t.Errorf("%s: %d MiB were allocated", name, took>>20)
		}
	}
}

// TestWhatAHostileMachineSaysWithoutEndIsCutOff has no deadline but the session's own.
func TestWhatAHostileMachineSaysWithoutEndIsCutOff(t *testing.T) {
	t.Parallel() // it waits
	signer := newSigner(t)
	machine := sshdtest.StartHostile(t, sshdtest.Harm{Banner: "come in, " + strings.Repeat("x", 70) + "\r\n"})
	if _, err := Login(
		t.Context(),
		Target{User: "warden", Address: machine.Address, Port: machine.Port, HostKeys: [][]byte{machine.HostKey.Marshal()}},
		signer,
	); err == nil {
		t.Error("it logged in behind a banner without end")
	}
	machine = sshdtest.StartHostile(t, sshdtest.Harm{
		Pause:  time.Hour,
		Files:  map[string]sshdtest.HostileFile{keysFile: sshdtest.Text("# x\n")},
		Config: "#",
	})
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	s, err := Login(
		ctx,
		Target{User: "warden", Address: machine.Address, Port: machine.Port, HostKeys: [][]byte{machine.HostKey.Marshal()}},
		signer,
	)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.ReadAll(); err == nil || ctx.Err() == nil {
		t.Errorf("a machine that never answers: %v, want an error once the time is over", err)
	}
	machine = sshdtest.StartHostile(t, sshdtest.Harm{})
	s, err = Login(
		t.Context(),
		Target{User: "warden", Address: machine.Address, Port: machine.Port, HostKeys: [][]byte{machine.HostKey.Marshal()}},
		signer,
	)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if out, err := s.Run(nil, "whoami"); !errors.Is(err, errOutput) {
		t.Errorf("a command that writes without end: %d bytes, %v", len(out), err)
	}
}
