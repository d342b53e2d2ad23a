package main

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
)

// unsafe is a file that the disk does not take.
type unsafe struct {
	*os.File
	synced, closed error
}

func (u unsafe) Sync() error { return errors.Join(u.synced, u.File.Sync()) }

func (u unsafe) Close() error { return errors.Join(u.closed, u.File.Close()) }

func TestACopyThatIsNotOnTheDiskGetsNoName(t *testing.T) {
	full := errors.New("the disk is full")
	for name, c := range map[string]unsafe{
		"whole": {}, "not synced": {synced: full}, "not closed": {closed: full},
	} {
		dir := t.TempDir()
		part, err := os.Create(filepath.Join(dir, "copy.part"))
		if err != nil {
			t.Fatal(err)
		}
		c.File = part
		want := errors.Join(c.synced, c.closed)
		if err := whole(c, filepath.Join(dir, "copy")); !errors.Is(err, full) && want != nil || want == nil && err != nil {
			t.Errorf("%s: %v, want %v", name, err, want)
		}
		if _, err := os.Stat(filepath.Join(dir, "copy")); errors.Is(err, fs.ErrNotExist) != (want != nil) {
			t.Errorf("%s: the copy: %v", name, err)
		}
	}
}
