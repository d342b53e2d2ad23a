// Package means is the one way to read and change what opens a login: which lines the
// files hold that its SSH server reads keys from. Each means is a way to those files:
// a session that a key has opened, a guest agent, a disk that is mounted elsewhere, a cloud's
// own shell.
//
// What is done to lines is here once for all of them: place, take back, remove, put back. No
// other code removes a line. A removal wants an sshio.Entry, which only a completed login gives,
// and sees at the moment of the edit, in the files as they are then, that the line of
// the key that was logged in with is there and stays. An edit is that of package sshio: read, edit
// without a change of what is foreign, write beside, compare, rename, read back; the other means
// keep to the same.
//
// It does not know records, runs or people. The client edits from somebody's own machine by it
// too. The format of the files is that of sshd(8), AUTHORIZED_KEYS FILE FORMAT.
package means

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/sshio"
)

// File is a file of a login as it was read.
type File struct {
	Path    string // absolute
	There   bool
	Content []byte
	Mode    fs.FileMode
}

// Folder is a folder above a login's files.
type Folder struct {
	Path string
	Mode fs.FileMode
}

// Seen is what is in a login: all files that the server reads keys from, and the folders above.
type Seen struct {
	Files   []File
	Folders []Folder
	// Server is what the SSH server lets in beside the keys of the files.
	Server *reading.Server
}

// Account is what is in another login of the same machine.
type Account struct {
	Name string
	Seen
}

// Machine is what was read of all users of a machine. Others are those whom somebody gets in to, or may.
type Machine struct {
	reading.Machine
	Others []Account
	// Own is what the SSH server lets in to the login that was read with; nil where this tells nothing of it.
	Own *reading.Server
}

// Whole is a means by which all users of the machine are read.
type Whole interface {
	Machine(ctx context.Context) (Machine, error)
}

// Means is a way to the files of one login. Its implementations are this package's own.
type Means interface {
	// Read reads the files.
	Read(ctx context.Context) (Seen, error)
	// change edits the files, each knowing all of them as they are at that moment, and returns
	// them as they are afterwards.
	change(ctx context.Context, edit edit) (Seen, error)
}

// edit is a change of one file of a login that knows all of them. It may be called again for the
// same file, where somebody else edited it meanwhile.
type edit func(all []authorizedkeys.File, path string, first bool, f authorizedkeys.File) (authorizedkeys.File, error)

// Key is a key and the line by which it opens a login.
type Key struct {
	Name string
	Blob []byte // in the wire form
	Line string // without a line end
}

// Journal is what was done to lines, written down before it is done. It is what an undo goes by.
type Journal struct {
	// Placed are the SHA-256 fingerprints of the keys whose lines were placed.
	Placed []string `json:"placed,omitempty"`
	// Others is how many other lines let somebody in when the first was placed.
	Others int `json:"others,omitempty"`
	// Ends are lines as they were before their end or their limits were changed, by the path of the file.
	Ends map[string][]string `json:"ends,omitempty"`
	// Removed are the lines that were removed, by the path of the file, as they were there.
	Removed map[string][]string `json:"removed,omitempty"`
}

// HasPlaced reports whether the key's line was placed.
func (j *Journal) HasPlaced(blob []byte) bool { return slices.Contains(j.Placed, fingerprint(blob)) }

func (j *Journal) placed(blob []byte) {
	if !j.HasPlaced(blob) {
		j.Placed = append(j.Placed, fingerprint(blob))
	}
}

func fingerprint(blob []byte) string {
	return keypair.FormatSHA256(keypair.Public{Blob: blob}.SHA256())
}

// Save keeps a journal where it outlives a cut. It is called before each edit that the journal
// tells of.
type Save func(context.Context) error

// Door is a login that is changed by some means.
type Door struct {
	Means
	Journal *Journal
	Save    Save
	// Now tells the time. Local is the zone of the machine; UTC where it is not known.
	Now   func() time.Time
	Local *time.Location
}

// New returns the door to a login. journal may be nil, and save, where nothing will be undone.
func New(m Means, journal *Journal, save Save, now func() time.Time) *Door {
	if journal == nil {
		journal = &Journal{}
	}
	if save == nil {
		save = func(context.Context) error { return nil }
	}
	return &Door{Means: m, Journal: journal, Save: save, Now: now, Local: time.UTC}
}

// Here reports whether a line of the key is in one of the files.
func (s Seen) Here(blob []byte) bool {
	return slices.ContainsFunc(s.Files, func(f File) bool { return len(authorizedkeys.Parse(f.Content).Find(blob)) > 0 })
}

func here(all []authorizedkeys.File, blob []byte) bool {
	return slices.ContainsFunc(all, func(f authorizedkeys.File) bool { return len(f.Find(blob)) > 0 })
}

// Place places the lines of those keys that are in none of the files, at the end of the first.
func (d *Door) Place(ctx context.Context, keys ...Key) (Seen, error) {
	return d.change(
		ctx,
		func(all []authorizedkeys.File, _ string, first bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			if !first {
				return f, nil
			}
			before := len(d.Journal.Placed)
			others := rotation.Others(all, nil, d.Now(), d.Local)
			for _, k := range keys {
				if err := checkKey(k); err != nil {
					return nil, err
				}
				if here(all, k.Blob) || len(f.Find(k.Blob)) > 0 {
					continue // placed before a cut, or by somebody
				}
				f = f.Add(k.Line)
				d.Journal.placed(k.Blob)
			}
			if len(d.Journal.Placed) == before {
				return f, nil
			}
			if before == 0 {
				d.Journal.Others = others
			}
			return f, d.Save(ctx)
		},
	)
}

// ErrNoEnds is returned where the SSH server is not known to end a line by itself.
var ErrNoEnds = errors.New("the SSH server is not known to enforce an expiry-time in UTC, as OpenSSH does since 9.1")

// EndsLines reports whether the login's SSH server is known to understand an expiry-time in UTC.
func (d *Door) EndsLines() bool {
	s, ok := d.Means.(interface{ ServerVersion() string })
	return ok && sshio.EndsLines(s.ServerVersion())
}

// As says how a key's line is placed.
type As struct {
	// End is when the SSH server refuses it from (expiry-time, sshd(8)); the zero time for never.
	End time.Time
	// Limits are those that ReadLimits of package authorizedkeys has read; nil for what lines that are there have.
	Limits *string
}

func (a As) on(l authorizedkeys.Line) authorizedkeys.Line {
	if a.Limits != nil {
		l = l.WithLimits(*a.Limits)
	}
	return l.WithExpiry(a.End)
}

// PlaceAs places the key's line. Lines of the key that are there get the end and the limits, and keep all else.
func (d *Door) PlaceAs(ctx context.Context, as As, k Key) (Seen, error) {
	if !as.End.IsZero() && !d.EndsLines() {
		return Seen{}, ErrNoEnds
	}
	if err := checkKey(k); err != nil {
		return Seen{}, err
	}
	added := as.on(authorizedkeys.Parse([]byte(k.Line))[0])
	seen, err := d.Place(ctx, Key{Name: k.Name, Blob: k.Blob, Line: added.Raw})
	if err != nil || d.Journal.HasPlaced(k.Blob) {
		return seen, err
	}
	return d.change(
		ctx,
		func(_ []authorizedkeys.File, path string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			before := linesOf(f, [][]byte{k.Blob})
			f, changed := withEnds(
				f,
				k.Blob,
				func(l authorizedkeys.Line, _ int) authorizedkeys.Line { return as.on(l) },
			)
			if !changed {
				return f, nil
			}
			if d.Journal.Ends == nil {
				d.Journal.Ends = map[string][]string{}
			}
			if _, noted := d.Journal.Ends[path]; !noted {
				d.Journal.Ends[path] = before
			}
			return f, d.Save(ctx)
		},
	)
}

// PutBackEnds gives the lines of the key the text back that they had before PlaceAs.
func (d *Door) PutBackEnds(ctx context.Context, k Key) (Seen, error) {
	return d.change(
		ctx,
		func(_ []authorizedkeys.File, path string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			was := d.Journal.Ends[path]
			f, _ = withEnds(f, k.Blob, func(l authorizedkeys.Line, n int) authorizedkeys.Line {
				if n >= len(was) {
					return l
				}
				old := authorizedkeys.Parse([]byte(was[n]))
				if len(old) != 1 || !bytes.Equal(old[0].Blob, k.Blob) {
					return l
				}
				old[0].Raw += l.Raw[len(strings.TrimRight(l.Raw, "\r\n")):]
				return old[0]
			})
			return f, nil
		},
	)
}

// withEnds returns the file with the lines of a key as to gives them; n counts these.
func withEnds(
	f authorizedkeys.File, blob []byte, to func(l authorizedkeys.Line, n int) authorizedkeys.Line,
) (out authorizedkeys.File, changed bool) {
	n := 0
	for _, l := range f {
		if l.Kind == authorizedkeys.Key && bytes.Equal(l.Blob, blob) {
			with := to(l, n)
			changed = changed || with.Raw != l.Raw
			l = with
			n++
		}
		out = append(out, l)
	}
	return out, changed
}

// checkKey refuses a line that is not one line of the key.
func checkKey(k Key) error {
	lines := authorizedkeys.Parse([]byte(k.Line))
	if len(lines) != 1 || lines[0].Kind != authorizedkeys.Key || !bytes.Equal(lines[0].Blob, k.Blob) ||
		strings.ContainsAny(k.Line, "\r\n") {
		return fmt.Errorf("the line for %s is not one line of that key", k.Name)
	}
	return nil
}

// ErrOldGone is returned where the old key is in none of the files, so that there is nothing
// to place another beside.
var ErrOldGone = errors.New("the old key's line is no longer there, so there is nothing to replace")

// PlaceBeside places a line of the new key for each line of the old, with the old one's options.
// Where the new key is there, nothing is placed.
func (d *Door) PlaceBeside(ctx context.Context, old, fresh Key) (Seen, error) {
	there := false
	seen, err := d.change(
		ctx,
		func(all []authorizedkeys.File, _ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			if there = there || here(all, fresh.Blob); there && !d.Journal.HasPlaced(fresh.Blob) {
				return f, nil // by somebody else
			}
			if len(f.Find(fresh.Blob)) > 0 {
				return f, nil // placed before a cut
			}
			with, added, err := rotation.Beside(f, old.Blob, fresh.Blob, fresh.Line)
			if err != nil || !added {
				return f, err
			}
			there = true
			if len(d.Journal.Placed) == 0 {
				d.Journal.Others = rotation.Others(all, fresh.Blob, d.Now(), d.Local)
			}
			d.Journal.placed(fresh.Blob)
			return with, d.Save(ctx)
		},
	)
	if err == nil && !there {
		return seen, ErrOldGone
	}
	return seen, err
}

// Remove removes the lines of the keys. It needs that a login was completed with another key,
// whose line is in one of the files at the moment of the edit and opens the login then.
func (d *Door) Remove(ctx context.Context, by sshio.Entry, keys ...Key) (Seen, error) {
	return d.removeAll(ctx, keys, func([]authorizedkeys.File) ([]byte, error) { return by.Key(), nil })
}

// RemoveForced removes the lines of a lost key from a login where nobody has shown that the key
// that stays opens it. The override is leave for that. The line of the key that stays must be
// there all the same.
func (d *Door) RemoveForced(
	ctx context.Context, login string, leave rotation.Override, stays Key, keys ...Key,
) (Seen, error) {
	return d.removeAll(ctx, keys, func([]authorizedkeys.File) ([]byte, error) {
		if !leave.For(login) {
			return nil, rotation.ErrNoOverride
		}
		return stays.Blob, nil
	})
}

// removeAll removes lines where the key that stays, which stays tells, is seen to.
func (d *Door) removeAll(
	ctx context.Context, keys []Key, stays func([]authorizedkeys.File) ([]byte, error),
) (Seen, error) {
	var old [][]byte
	for _, k := range keys {
		old = append(old, k.Blob)
	}
	return d.change(
		ctx,
		func(all []authorizedkeys.File, path string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			lines := linesOf(f, old)
			if len(lines) == 0 {
				return f, nil // removed before a cut, or in another file
			}
			stay, err := stays(all)
			if err == nil {
				err = rotation.MayRemove(all, old, stay, d.Now(), d.Local)
			}
			if err != nil {
				return nil, err
			}
			if d.Journal.Removed == nil {
				d.Journal.Removed = map[string][]string{}
			}
			d.Journal.Removed[path] = lines
			return without(f, old), d.Save(ctx)
		},
	)
}

// The errors of TakeBack.
var (
	ErrProved = errors.New("the new key was shown to open the login, so its line stays")
	ErrLast   = errors.New("no other line lets anybody in now, so the line that was placed stays")
)

// TakeBack removes the lines of those of the keys that the journal says were placed, which nobody
// has shown to open the login: proved tells. Where other lines let somebody in when they were
// placed, one must do so at the moment of the edit. stay are keys of which each must be there
// then.
func (d *Door) TakeBack(ctx context.Context, proved bool, stay []Key, keys ...Key) (Seen, error) {
	var placed [][]byte
	for _, k := range keys {
		if d.Journal.HasPlaced(k.Blob) {
			placed = append(placed, k.Blob)
		}
	}
	if len(placed) == 0 {
		return d.Read(ctx)
	}
	if proved {
		return Seen{}, ErrProved
	}
	return d.change(
		ctx,
		func(all []authorizedkeys.File, _ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			if len(linesOf(f, placed)) == 0 {
				return f, nil
			}
			for _, k := range stay {
				if !here(all, k.Blob) {
					return nil, fmt.Errorf("the line of %s is gone: %w", k.Name, ErrLast)
				}
			}
			left := make([]authorizedkeys.File, len(all))
			for n := range all {
				left[n] = without(all[n], placed)
			}
			if d.Journal.Others > 0 && rotation.Others(left, nil, d.Now(), d.Local) == 0 {
				return nil, ErrLast
			}
			return without(f, placed), nil
		},
	)
}

// PutBack places again what the journal says was removed, with the options that it had, where no
// line of the key is in the file.
func (d *Door) PutBack(ctx context.Context) (Seen, error) {
	if len(d.Journal.Removed) == 0 {
		return d.Read(ctx)
	}
	return d.change(
		ctx,
		func(_ []authorizedkeys.File, path string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			before := f
			for _, text := range d.Journal.Removed[path] {
				lines := authorizedkeys.Parse([]byte(text))
				if len(lines) != 1 || lines[0].Kind != authorizedkeys.Key {
					return nil, fmt.Errorf("what was removed from %s is no line of a key", path)
				}
				if len(before.Find(lines[0].Blob)) == 0 {
					f = f.Add(text)
				}
			}
			return f, nil
		},
	)
}

// linesOf returns the lines of the keys without their line ends.
func linesOf(f authorizedkeys.File, keys [][]byte) []string {
	var lines []string
	for _, l := range f {
		if l.Kind == authorizedkeys.Key && slices.ContainsFunc(keys, func(b []byte) bool { return bytes.Equal(b, l.Blob) }) {
			lines = append(lines, strings.TrimRight(l.Raw, "\r\n"))
		}
	}
	return lines
}

// without returns the file without the lines of the keys. Nothing else removes a line, and it
// is called only where that was judged.
func without(f authorizedkeys.File, keys [][]byte) authorizedkeys.File {
	var out authorizedkeys.File
	for _, l := range f {
		if l.Kind == authorizedkeys.Key && slices.ContainsFunc(keys, func(b []byte) bool { return bytes.Equal(b, l.Blob) }) {
			continue
		}
		l.Number = len(out) + 1
		out = append(out, l)
	}
	return out
}

func parseAll(files []File) []authorizedkeys.File {
	all := make([]authorizedkeys.File, len(files))
	for n, f := range files {
		all[n] = authorizedkeys.Parse(f.Content)
	}
	return all
}
