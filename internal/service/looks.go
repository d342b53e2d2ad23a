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

// look is a reading of all files that the server reads keys from for one login.
type look struct {
	login  store.Login
	name   string // user@instance
	files  []SeenFile
	method string
	by     Actor
	at     time.Time
}

// recordLook records what was seen in a login, all in one transaction: the files,
// the sightings of known keys, the strangers, in the daybook which lines came and
// went, and for the sweeps that wait for the login that it was read. It returns what
// stands there in words. A look that is older than the last is not recorded.
func (s *Service) recordLook(ctx context.Context, l look) (outcome string, err error) {
	changed := false
	// A look that is lost is taken again, so it does not wait for the disk.
	err = s.store.InLooseTx(ctx, func(tx *store.Store) error {
		login, err := tx.LockLogin(ctx, l.login.ID)
		if err != nil {
			return err
		}
		if login.SweptAt != nil && login.SweptAt.After(l.at) {
			outcome = "a later look is recorded already"
			return tx.EndSweepItem(ctx, login.ID, sweepAsBefore, outcome, s.now())
		}
		changed = false
		last, err := tx.LastVersions(ctx, login.ID)
		if err != nil {
			return err
		}
		var lines authorizedkeys.File
		var same []uuid.UUID
		for _, f := range l.files {
			lines = append(lines, authorizedkeys.Parse(f.Content)...)
			earlier, known := last[f.Path]
			if known && earlier.There == f.There && bytes.Equal(earlier.Content, f.Content) && earlier.Mode == int(f.Mode) {
				same = append(same, earlier.ID)
				continue
			}
			changed = changed || known
			if err := s.recordFile(ctx, tx, l, f, earlier, known); err != nil {
				return err
			}
		}
		if err := tx.SeenAgain(ctx, same, l.at); err != nil {
			return err
		}
		if outcome, err = s.recordKeys(ctx, tx, l, lines); err != nil {
			return err
		}
		if err := tx.NoteSwept(ctx, login.ID, l.method, l.at); err != nil {
			return err
		}
		state := sweepAsBefore
		if changed {
			state = sweepChanged
		}
		return tx.EndSweepItem(ctx, login.ID, state, outcome, s.now())
	})
	return outcome, err
}

// recordFile keeps the new content of a file, and where it was looked at before
// tells the daybook which lines came and went.
func (s *Service) recordFile(ctx context.Context, tx *store.Store, l look, f SeenFile, earlier store.FileVersion, known bool) error {
	content := f.Content
	if content == nil {
		content = []byte{}
	}
	v := store.FileVersion{ID: newID(), LoginID: l.login.ID, Path: f.Path, There: f.There, Content: content, Mode: int(f.Mode), Method: l.method, SeenAt: l.at, SeenUntil: l.at}
	if err := tx.AddVersion(ctx, v); err != nil || !known {
		return err
	}
	came, went := changesOf(earlier.Content, f.Content)
	e := s.entry(l.by, "login.changed", "login", l.name, "", "The file %s of %s is not as it was: %s came, %s went.", f.Path, l.name, counted(len(came), "line"), counted(len(went), "line"))
	e.Details = map[string]any{"came": came[:min(len(came), maxNotedLines)], "went": went[:min(len(went), maxNotedLines)]}
	return tx.Note(ctx, e)
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

// recordKeys records which known keys stand in the login, which do not any more,
// and which strangers do.
func (s *Service) recordKeys(ctx context.Context, tx *store.Store, l look, lines authorizedkeys.File) (outcome string, err error) {
	type standing struct {
		line  authorizedkeys.Line
		opens bool
	}
	var digests [][]byte
	byDigest := map[string]standing{}
	unreadable := 0
	for _, line := range lines {
		if line.Kind == authorizedkeys.Unreadable {
			unreadable++
		}
		if line.Kind != authorizedkeys.Key {
			continue
		}
		digest := keypair.Public{Blob: line.Blob}.SHA256()
		earlier, twice := byDigest[string(digest)]
		if !twice {
			digests = append(digests, digest)
		}
		if !twice || !earlier.opens && line.Opens(l.at) {
			byDigest[string(digest)] = standing{line, line.Opens(l.at)}
		}
	}
	known, err := tx.KeysIn(ctx, digests)
	if err != nil {
		return "", err
	}
	named, err := tx.NamedKeyIDs(ctx, l.login.ID)
	if err != nil {
		return "", err
	}
	var sightings []store.Sighting
	var strangers []store.Stranger
	seen := map[uuid.UUID]bool{}
	for _, digest := range digests {
		at := byDigest[string(digest)]
		limits := oneLine(strings.Join(at.line.Limits(l.at), "; "))
		if k, ok := known[string(digest)]; ok {
			seen[k.ID] = true
			sightings = append(sightings, store.Sighting{LoginID: l.login.ID, KeyID: k.ID, SeenAt: l.at, Method: l.method, Present: true, Limits: limits, Opens: at.opens})
			continue
		}
		strangers = append(strangers, store.Stranger{LoginID: l.login.ID, SHA256: digest, Algorithm: oneLine(at.line.Algorithm), Blob: at.line.Blob, Comment: oneLine(at.line.Comment), Limits: limits, FirstSeenAt: l.at, SeenAt: l.at})
	}
	for _, id := range named {
		if !seen[id] {
			sightings = append(sightings, store.Sighting{LoginID: l.login.ID, KeyID: id, SeenAt: l.at, Method: l.method, Opens: true})
		}
	}
	outcome = counted(len(known), "known key")
	if len(strangers) > 0 {
		outcome += ", " + counted(len(strangers), "stranger")
	}
	if unreadable > 0 {
		outcome += ", " + counted(unreadable, "line") + " that cannot be read"
	}
	return outcome, errors.Join(tx.PutSightings(ctx, sightings), tx.PutStrangers(ctx, l.login.ID, strangers))
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

const maxReportedFiles = 8

// ReportFiles records what the actor read in a login's files from their own
// machine, where the host key that they saw is a pinned one.
func (s *Service) ReportFiles(ctx context.Context, actor Actor, name string, files []SeenFile, hostKey string) (Login, error) {
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
	_, err = s.recordLook(ctx, look{login: l, name: loginName(l.OSUser, i.Name), files: files, method: "read by " + actor.Name + " from their machine", by: actor, at: s.now()})
	if err != nil {
		return Login{}, err
	}
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
