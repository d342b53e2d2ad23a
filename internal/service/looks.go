package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/store"
)

// SeenFile is an authorized_keys file as somebody read it.
type SeenFile struct {
	Path    string
	There   bool
	Content []byte
	Mode    fs.FileMode
}

// seen is what stands in a login: all files that the server reads keys from, and
// the folders above them.
type seen struct {
	files   []SeenFile
	folders []store.Folder
}

// look is a reading of all files that the server reads keys from for one login.
type look struct {
	login store.Login
	name  string // user@instance
	seen
	method string
	by     Actor
	at     time.Time
}

// recordLook records what was seen in one login. See recordLooks.
func (s *Service) recordLook(ctx context.Context, l look) (outcome string, err error) {
	outcomes, err := s.recordLooks(ctx, []look{l})
	if err != nil {
		return "", err
	}
	return outcomes[0], nil
}

// findings gather what is to be written down about looks.
type findings struct {
	versions  []store.FileVersion
	same      map[uuid.UUID]time.Time // versions that were seen again, and when
	notes     []store.Entry
	sightings []store.Sighting
	strangers []store.Stranger
	ends      []store.SweepEnd
}

// recordLooks records what was seen in logins, no two of them the same, all in one
// transaction and in a few statements whatever their number: the files, the
// sightings of known keys, the strangers, in the daybook which lines came and went,
// and for the sweeps that wait for a login that it was read. It returns what stands
// in each in words. A look that is older than the last is not recorded.
func (s *Service) recordLooks(ctx context.Context, looks []look) (outcomes []string, err error) {
	ids := make([]uuid.UUID, len(looks))
	readings := make([]reading, len(looks))
	var digests [][]byte
	for n, l := range looks {
		ids[n], readings[n] = l.login.ID, readLines(l)
		digests = append(digests, readings[n].digests...)
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
		for n, l := range looks {
			if swept := logins[l.login.ID].SweptAt; swept != nil && swept.After(l.at) {
				outcomes[n] = "a later look is recorded already"
				f.ends = append(f.ends, store.SweepEnd{LoginID: l.login.ID, State: sweepAsBefore, Outcome: outcomes[n], At: l.at})
				ids[n] = uuid.Nil // its strangers stay as they are
				continue
			}
			state := sweepAsBefore
			if s.compareFiles(&f, l, last[l.login.ID]) {
				state = sweepChanged
			}
			outcomes[n] = readings[n].compareKeys(&f, l, known, named[l.login.ID])
			f.ends = append(f.ends, store.SweepEnd{LoginID: l.login.ID, State: state, Outcome: outcomes[n], Method: l.method, Folders: l.folders, At: l.at})
		}
		for _, write := range []func() error{
			func() error { return tx.AddVersions(ctx, f.versions) },
			func() error { return tx.SeenAgain(ctx, f.same) },
			func() error { return tx.PutSightings(ctx, f.sightings) },
			func() error { return tx.PutStrangers(ctx, ids, f.strangers) },
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

// compareFiles finds the files whose content is new, and where they were looked at
// before tells the daybook which lines came and went.
func (s *Service) compareFiles(f *findings, l look, last map[string]store.FileVersion) (changed bool) {
	for _, file := range l.files {
		earlier, known := last[file.Path]
		if known && earlier.There == file.There && bytes.Equal(earlier.Content, file.Content) && earlier.Mode == int(file.Mode) {
			f.same[earlier.ID] = l.at
			continue
		}
		content := file.Content
		if content == nil {
			content = []byte{}
		}
		f.versions = append(f.versions, store.FileVersion{ID: newID(), LoginID: l.login.ID, Path: file.Path, There: file.There, Content: content, Mode: int(file.Mode), Method: l.method, SeenAt: l.at, SeenUntil: l.at})
		if !known {
			continue
		}
		changed = true
		came, went := changesOf(earlier.Content, file.Content)
		e := s.entry(l.by, "login.changed", "login", l.name, "", "The file %s of %s is not as it was: %s came, %s went.", file.Path, l.name, counted(len(came), "line"), counted(len(went), "line"))
		e.Details = map[string]any{"came": came[:min(len(came), maxNotedLines)], "went": went[:min(len(went), maxNotedLines)]}
		f.notes = append(f.notes, e)
	}
	return changed
}

// maxNotedLines is how many lines that came or went stand in the daybook; the
// versions of the file hold all.
const maxNotedLines = 100

// oneLine makes a text that somebody wrote on an instance fit for a record and for a
// terminal: what is no UTF-8 and every control character becomes a question mark.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == utf8.RuneError || unicode.Is(unicode.Bidi_Control, r) {
			return '?'
		}
		return r
	}, text)
}

func changesOf(before, after []byte) (came, went []string) {
	came, went = []string{}, []string{}
	for _, c := range authorizedkeys.Differences(authorizedkeys.Parse(before), authorizedkeys.Parse(after)) {
		text := oneLine(strings.ReplaceAll(strings.TrimRight(c.Line.Raw, "\r\n"), "\t", " "))
		if c.Came {
			came = append(came, text)
			continue
		}
		went = append(went, text)
	}
	return came, went
}

// reading is what the lines of a login's files say.
type reading struct {
	digests    [][]byte // of the keys, each once
	standing   map[string]standingLine
	unreadable int
}

type standingLine struct {
	line  authorizedkeys.Line
	opens bool
}

func readLines(l look) reading {
	r := reading{standing: map[string]standingLine{}}
	for _, f := range l.files {
		for _, line := range authorizedkeys.Parse(f.Content) {
			if line.Kind == authorizedkeys.Unreadable {
				r.unreadable++
			}
			if line.Kind != authorizedkeys.Key {
				continue
			}
			digest := keypair.Public{Blob: line.Blob}.SHA256()
			earlier, twice := r.standing[string(digest)]
			if !twice {
				r.digests = append(r.digests, digest)
			}
			if !twice || !earlier.opens && line.Opens(l.at) {
				r.standing[string(digest)] = standingLine{line, line.Opens(l.at)}
			}
		}
	}
	return r
}

// compareKeys finds which known keys stand in the login, which of those named do
// not, and which strangers do. It says so in words.
func (r reading) compareKeys(f *findings, l look, known map[string]store.Key, named []uuid.UUID) string {
	seen := map[uuid.UUID]bool{}
	strangers := 0
	for _, digest := range r.digests {
		at := r.standing[string(digest)]
		limits := oneLine(strings.Join(at.line.Limits(l.at), "; "))
		if k, ok := known[string(digest)]; ok {
			seen[k.ID] = true
			f.sightings = append(f.sightings, store.Sighting{LoginID: l.login.ID, KeyID: k.ID, SeenAt: l.at, Method: l.method, Present: true, Limits: limits, Opens: at.opens})
			continue
		}
		strangers++
		f.strangers = append(f.strangers, store.Stranger{LoginID: l.login.ID, SHA256: digest, Algorithm: oneLine(at.line.Algorithm), Blob: at.line.Blob, Comment: oneLine(at.line.Comment), Limits: limits, FirstSeenAt: l.at, SeenAt: l.at})
	}
	for _, id := range named {
		if !seen[id] {
			f.sightings = append(f.sightings, store.Sighting{LoginID: l.login.ID, KeyID: id, SeenAt: l.at, Method: l.method, Opens: true})
		}
	}
	outcome := counted(len(seen), "known key")
	if strangers > 0 {
		outcome += ", " + counted(strangers, "stranger")
	}
	if r.unreadable > 0 {
		outcome += ", " + counted(r.unreadable, "line") + " that cannot be read"
	}
	return outcome
}

// loginNamed returns the login user@instance; an instance alone means its own
// login user's.
func (s *Service) loginNamed(ctx context.Context, name string) (store.Login, store.Instance, error) {
	user, instance, ok := strings.Cut(name, "@")
	if !ok {
		user, instance = "", name
	}
	i, err := s.Instance(ctx, instance)
	if err != nil {
		return store.Login{}, i, err
	}
	if user == "" {
		user = i.LoginUser
	}
	l, err := s.store.LoginOf(ctx, i.ID, user)
	if errors.Is(err, store.ErrNotFound) {
		return l, i, &Problem{Kind: NotFound, Code: "no-such-login", Where: []string{name}, Detail: fmt.Sprintf("no login %s is recorded on %s", user, i.Name), Remedy: "See those that are: plumlatch reach -find " + i.Name}
	}
	return l, i, err
}

func loginName(user, instance string) string { return user + "@" + instance }

const (
	maxReportedFiles   = 8
	maxReportedFolders = 32
)

// ReportFiles records what the actor read in a login's files from their own
// machine, where the host key that they saw is a pinned one.
func (s *Service) ReportFiles(ctx context.Context, actor Actor, name string, files []SeenFile, folders []store.Folder, hostKey string) (Login, error) {
	l, i, err := s.loginNamed(ctx, name)
	if err != nil {
		return Login{}, err
	}
	if err := checkHostKey(i, hostKey); err != nil {
		return Login{}, err
	}
	if len(files) == 0 || len(files) > maxReportedFiles {
		return Login{}, &Problem{Kind: Invalid, Code: "bad-files", Field: "files", Detail: fmt.Sprintf("%d files were given; a login has 1 to %d", len(files), maxReportedFiles)}
	}
	for _, f := range files {
		if f.Path == "" || len(f.Path) > 4096 || oneLine(f.Path) != f.Path || !f.There && len(f.Content) > 0 {
			return Login{}, &Problem{Kind: Invalid, Code: "bad-files", Field: "files", Detail: "a file has no path, one with control characters, or content though it is not there"}
		}
	}
	if len(folders) > maxReportedFolders {
		return Login{}, &Problem{Kind: Invalid, Code: "bad-folders", Field: "folders", Detail: fmt.Sprintf("%d folders were given; %d is the limit", len(folders), maxReportedFolders)}
	}
	for _, f := range folders {
		if f.Path == "" || len(f.Path) > 4096 || oneLine(f.Path) != f.Path {
			return Login{}, &Problem{Kind: Invalid, Code: "bad-folders", Field: "folders", Detail: "a folder has no path, or one with control characters"}
		}
	}
	_, err = s.recordLook(ctx, look{login: l, name: loginName(l.OSUser, i.Name), seen: seen{files, folders}, method: "read by " + actor.Name + " from their machine", by: actor, at: s.now()})
	if err != nil {
		return Login{}, err
	}
	s.wakeRestore(ctx, i.ID) // one may have waited for it
	return s.Login(ctx, name)
}

// checkHostKey refuses a report from a machine that is not the one that is recorded.
func checkHostKey(i store.Instance, seen string) error {
	d, ok := keypair.ReadFingerprint(seen)
	for _, h := range i.HostKeys {
		if ok && bytes.Equal(h.SHA256, d.Sum) {
			return nil
		}
	}
	return &Problem{Kind: Conflict, Code: "host-key-differs", Field: "host_key", Detail: fmt.Sprintf("the host key that was seen is not a pinned one of %s, so nothing was recorded", i.Name), Remedy: "Find out why it differs: plumlatch instance show " + i.Name}
}
