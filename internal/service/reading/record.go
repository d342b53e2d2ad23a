package reading

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/store"
)

// SeenFile is an authorized_keys file as somebody read it.
type SeenFile = means.File

// SeenBy takes over what some means has read.
func SeenBy(m means.Seen) Seen {
	out := Seen{Files: m.Files, Server: m.Server}
	for _, f := range m.Folders {
		out.Folders = append(out.Folders, record.Folder{Path: f.Path, Mode: int(f.Mode)})
	}
	return out
}

// Seen is what is in a login: all files that the server reads keys from, and the
// folders above them.
type Seen struct {
	Files   []SeenFile
	Folders []record.Folder
	// Server is what the SSH server lets in beside, nil where that was not looked at.
	Server *reading.Server
	// Machine is what was read of all users of the machine, where that will be recorded with the login's own reading.
	Machine *record.MachineReading
}

// Look is a reading of all files that the server reads keys from for one login.
type Look struct {
	Login record.Login
	Name  string // user@instance
	Seen
	Method string
	By     journal.By
	At     time.Time
}

// RecordLook records what was seen in one login. See recordLooks.
func (s *Service) RecordLook(ctx context.Context, l Look) (outcome string, err error) {
	outcomes, err := s.RecordLooks(ctx, []Look{l})
	if err != nil {
		return "", err
	}
	return outcomes[0], nil
}

// findings gather what will be written down about looks.
type findings struct {
	versions  []record.FileVersion
	same      map[uuid.UUID]time.Time // versions that were seen again, and when
	notes     []record.Entry
	sightings []record.Sighting
	strangers []record.Stranger
	ends      []record.SweepEnd
	servers   []record.LoginServer
	former    []record.FormerLine
	machines  []record.MachineReading
}

// RecordLooks records what was seen in logins, no two of them the same, all in one
// transaction and in a few statements whatever their number: the files, the
// sightings of known keys, the strangers, in the daybook which lines came and went,
// and for the sweeps that wait for a login that it was read. It returns what is in
// each in words. A look that is older than the last is not recorded.
func (s *Service) RecordLooks(ctx context.Context, looks []Look) (outcomes []string, err error) {
	ids := make([]uuid.UUID, len(looks))
	readings := make([]reading.Lines, len(looks))
	var digests [][]byte
	for n, l := range looks {
		ids[n], readings[n] = l.Login.ID, linesIn(l)
		for _, line := range readings[n].Keys {
			digests = append(digests, line.SHA256)
		}
	}
	// A look that is lost is taken again, so it does not wait for the disk.
	err = s.store.InLooseTx(ctx, func(tx *store.Store) error {
		outcomes = make([]string, len(looks))
		logins, err := tx.LockLogins(ctx, ids)
		if err != nil {
			return err
		}
		last, err := tx.LastVersions(ctx, ids)
		if err != nil {
			return err
		}
		known, err := tx.KeysIn(ctx, digests)
		if err != nil {
			return err
		}
		named, err := tx.NamedKeyIDs(ctx, ids)
		if err != nil {
			return err
		}
		f := findings{same: map[uuid.UUID]time.Time{}}
		var changes []fileChanged
		for n, l := range looks {
			if swept := logins[l.Login.ID].SweptAt; swept != nil && swept.After(l.At) {
				outcomes[n] = "a later look is recorded already"
				f.ends = append(
					f.ends,
					record.SweepEnd{LoginID: l.Login.ID, State: reading.AsBefore, Outcome: outcomes[n], At: l.At},
				)
				ids[n] = uuid.Nil // its strangers stay as they are
				continue
			}
			state := reading.AsBefore
			differ, exposed := compareFiles(&f, l, last[l.Login.ID])
			if len(differ) > 0 {
				state = reading.Changed
			}
			changes = append(changes, differ...)
			outcomes[n] = compareKeys(&f, l, readings[n], known, named[l.Login.ID]) + exposedWords(exposed)
			if l.Server != nil {
				f.servers = append(
					f.servers, record.LoginServer{LoginID: l.Login.ID, Server: l.Server.Within(), ReadAt: l.At},
				)
			}
			if l.Machine != nil {
				f.machines = append(f.machines, *l.Machine)
			}
			f.ends = append(f.ends, record.SweepEnd{
				LoginID: l.Login.ID,
				State:   state,
				Outcome: outcomes[n],
				Method:  l.Method,
				Folders: l.Folders,
				At:      l.At,
			})
		}
		if err := s.noteChanges(ctx, tx, &f, changes); err != nil {
			return err
		}
		for _, write := range []func() error{
			func() error { return tx.AddVersions(ctx, f.versions) },
			func() error { return tx.SeenAgain(ctx, f.same) },
			func() error { return tx.PutSightings(ctx, f.sightings) },
			func() error { return tx.PutStrangers(ctx, ids, f.strangers) },
			func() error { return tx.PutFormerLines(ctx, f.former) },
			func() error { return tx.PutServers(ctx, f.servers) },
			func() error { return tx.PutMachines(ctx, f.machines) },
			func() error { return tx.EndSweepItems(ctx, f.ends) },
		} {
			if err := write(); err != nil {
				return err
			}
		}
		if len(f.notes) == 0 {
			return nil
		}
		return tx.Note(ctx, f.notes...)
	})
	return outcomes, err
}

// fileChanged is a file that is not as it was when it was read before.
type fileChanged struct {
	Look
	before, now record.FileVersion
}

// compareFiles finds the files whose content is new. It returns those that were read
// before, and what looks like a private key in any.
func compareFiles(f *findings, l Look, last map[string]record.FileVersion) (changed []fileChanged, exposed int) {
	for _, file := range l.Files {
		before, known := last[file.Path]
		var version *reading.Version
		if known {
			version = &reading.Version{There: before.There, Digest: before.Digest, Mode: before.Mode}
		}
		c := reading.Compare(fileOf(file), version)
		if c.Same {
			f.same[before.ID] = l.At
			exposed += len(before.Exposed)
			continue
		}
		exposed += len(c.Exposed)
		now := record.FileVersion{
			ID:        store.NewID(),
			LoginID:   l.Login.ID,
			Path:      file.Path,
			There:     file.There,
			Content:   append([]byte{}, c.Kept...),
			Digest:    c.Digest,
			Bytes:     len(file.Content),
			Exposed:   append([]authorizedkeys.Exposed{}, c.Exposed...),
			Mode:      int(file.Mode),
			Method:    l.Method,
			SeenAt:    l.At,
			SeenUntil: l.At,
		}
		f.versions = append(f.versions, now)
		if known || len(c.Exposed) > 0 {
			changed = append(changed, fileChanged{l, before, now})
		}
	}
	return changed, exposed
}

func fileOf(f SeenFile) reading.File {
	return reading.File{Path: f.Path, There: f.There, Content: f.Content, Mode: int(f.Mode)}
}

func exposedWords(n int) string {
	if n == 0 {
		return ""
	}
	return "; a private key lies here: treat it as exposed"
}

// noteChanges tells the daybook which lines came and went, and of private keys that lie
// where public ones belong.
func (s *Service) noteChanges(ctx context.Context, tx *store.Store, f *findings, changes []fileChanged) error {
	var ids []uuid.UUID
	for _, c := range changes {
		if c.before.ID != uuid.Nil {
			ids = append(ids, c.before.ID)
		}
	}
	contents, err := tx.ContentsOf(ctx, ids)
	if err != nil {
		return err
	}
	for _, c := range changes {
		path := text.Line(c.now.Path, text.MaxLine)
		if c.before.ID != uuid.Nil {
			came, went := ChangesOf(contents[c.before.ID], c.now.Content)
			f.former = append(f.former, formerLines(c, contents[c.before.ID])...)
			e := s.journal.Entry(
				c.By, "login.changed", "login", c.Name, "",
				journal.Facts{
					"path":    path,
					"added":   len(came),
					"removed": len(went),
					"came":    came[:min(len(came), maxNotedLines)],
					"went":    went[:min(len(went), maxNotedLines)],
				},
			)
			f.notes = append(f.notes, e)
		}
		for _, x := range c.now.Exposed[:min(len(c.now.Exposed), maxNotedLines)] {
			if slices.ContainsFunc(c.before.Exposed, func(b authorizedkeys.Exposed) bool { return b.SHA256 == x.SHA256 }) {
				continue
			}
			e, err := s.exposedEntry(ctx, tx, c, path, x)
			if err != nil {
				return err
			}
			f.notes = append(f.notes, e)
		}
	}
	return nil
}

// formerLines are the keys that went from a file.
func formerLines(c fileChanged, before []byte) (out []record.FormerLine) {
	there := map[string]bool{}
	for _, line := range authorizedkeys.Parse(c.now.Content) {
		there[string(line.Blob)] = true
	}
	for _, line := range authorizedkeys.Parse(before) {
		if len(line.Blob) == 0 || there[string(line.Blob)] {
			continue
		}
		k := keypair.Public{Blob: line.Blob}
		out = append(out, record.FormerLine{
			LoginID: c.now.LoginID,
			Path:    c.now.Path,
			SHA256:  k.SHA256(),
			MD5:     k.MD5(),
			Comment: text.Line(line.Comment, text.MaxLine),
			SeenAt:  c.before.SeenUntil,
			GoneBy:  c.now.SeenAt,
		})
	}
	return out
}

// exposedEntry tells of a private key that lies in a file, without anything of what it says.
func (s *Service) exposedEntry(
	ctx context.Context, tx *store.Store, c fileChanged, path string, x authorizedkeys.Exposed,
) (record.Entry, error) {
	var fingerprint string
	var names []string
	if d, ok := keypair.ReadFingerprint(x.Public); ok {
		fingerprint = x.Public
		known, err := tx.KeysIn(ctx, [][]byte{d.Sum})
		if err != nil {
			return record.Entry{}, err
		}
		for _, k := range known {
			names = append(names, k.Name)
		}
	}
	e := s.journal.Entry(
		c.By, "key.exposed", "login", c.Name, "",
		journal.Facts{
			"path":        path,
			"line":        x.Line,
			"lines":       x.Lines,
			"sha256":      x.SHA256,
			"fingerprint": fingerprint,
			"keys":        names,
		},
	)
	e.Outcome = "found"
	return journal.OnKeys(e, names...), nil
}

// maxNotedLines is how many lines that came or went are told in the daybook; the
// versions of the file hold all.
const maxNotedLines = 20

func ChangesOf(before, after []byte) (came, went []string) {
	came, went = []string{}, []string{}
	for _, c := range authorizedkeys.Differences(authorizedkeys.Parse(before), authorizedkeys.Parse(after)) {
		if c.Came {
			came = append(came, c.Line.Told())
			continue
		}
		went = append(went, c.Line.Told())
	}
	return came, went
}

// linesIn are the keys that are in the files of a look.
func linesIn(l Look) reading.Lines {
	files := make([]reading.File, len(l.Files))
	for n, f := range l.Files {
		files[n] = fileOf(f)
	}
	lines := reading.Read(files, l.At)
	if l.Server != nil {
		l.Server.Judge(lines)
	}
	return lines
}

// expiryOf is when a line stops opening its login by itself; nil where it does not.
func expiryOf(l authorizedkeys.Line) *time.Time {
	if at, ok := l.Expiry(time.UTC); ok && !at.IsZero() {
		return &at
	}
	return nil
}

// compareKeys finds which known keys are in the login, which of those named are
// not, and which strangers are. It says so in words.
func compareKeys(f *findings, l Look, lines reading.Lines, known map[string]record.Key, named []uuid.UUID) string {
	seen := map[uuid.UUID]bool{}
	strangers := 0
	for _, line := range lines.Keys {
		limits := text.Line(line.Limits, text.MaxLine)
		if k, ok := known[string(line.SHA256)]; ok {
			seen[k.ID] = true
			f.sightings = append(f.sightings, record.Sighting{
				LoginID: l.Login.ID,
				KeyID:   k.ID,
				SeenAt:  l.At,
				Method:  l.Method,
				Present: true,
				Limits:  limits,
				Opens:   line.Opens,
				// The zone of the machine is not known; OpenSSH counts in it where there is no Z.
				ExpiresAt: expiryOf(line.Line),
				Options:   new(text.Line(line.LimitText(), authorizedkeys.MaxLimits)),
			})
			continue
		}
		strangers++
		f.strangers = append(f.strangers, record.Stranger{
			LoginID:     l.Login.ID,
			SHA256:      line.SHA256,
			Algorithm:   text.Line(line.Algorithm, text.MaxLine),
			Blob:        line.Blob,
			Comment:     text.Line(line.Comment, text.MaxLine),
			Limits:      limits,
			FirstSeenAt: l.At,
			SeenAt:      l.At,
		})
	}
	for _, id := range named {
		if !seen[id] {
			f.sightings = append(
				f.sightings, record.Sighting{LoginID: l.Login.ID, KeyID: id, SeenAt: l.At, Method: l.Method, Opens: true},
			)
		}
	}
	outcome := text.Counted(len(seen), "known key")
	if strangers > 0 {
		outcome += ", " + text.Counted(strangers, "stranger")
	}
	if lines.Unreadable > 0 {
		outcome += ", " + text.Counted(lines.Unreadable, "line") + " that cannot be read"
	}
	return outcome
}
