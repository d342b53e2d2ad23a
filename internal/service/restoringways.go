package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
	"plumlatch/internal/runs"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// The routes on which nothing stops.

// permit permits the guest agent for the while and waits until it answers.
func (r *restoring) permit(ctx context.Context, p *runs.Progress) (string, error) {
	id := r.instance.CloudID
	err := r.open(ctx, r.run, agentKind, "the guest agent's permission", map[string]string{"instance": id}, restore.AgentOpenFor, func(string) error {
		return r.cloud.PermitAgent(ctx, id, true)
	})
	if err != nil {
		return "", err
	}
	return "the guest agent answers", r.awaitAgent(ctx, id)
}

// awaitAgent returns an error that passes while an agent has not registered.
func (r *restoring) awaitAgent(ctx context.Context, id string) error {
	state, err := r.cloud.Agent(ctx, id)
	switch {
	case err != nil:
		return calling(err)
	case state == cloud.AgentReady:
		return nil
	case state == cloud.AgentAbsent:
		return errors.New("there is no guest agent in the image")
	}
	return runs.Temporary(fmt.Errorf("the guest agent is %s", strings.ReplaceAll(string(state), "-", " ")))
}

// openPort lets the browser shell's range in for the while.
func (r *restoring) openPort(ctx context.Context, _ *runs.Progress) (string, error) {
	can, _, err := r.outline(ctx)
	if err != nil {
		return "", calling(err)
	}
	if can.ShellRange == nil {
		return "", errors.New("the cloud does not say from where its browser shell comes")
	}
	i, err := r.cloud.Instance(ctx, r.instance.CloudID)
	if err != nil {
		return "", calling(err)
	}
	what := "the SSH port to the cloud's own " + *can.ShellRange
	details := map[string]string{"group": i.Firewall, "source": *can.ShellRange, "port": fmt.Sprint(i.SshPort)}
	err = r.open(ctx, r.run, portKind, what, details, restore.ShellOpenFor, func(token string) error {
		_, err := r.cloud.OpenPort(ctx, token, i.Firewall, *can.ShellRange, i.SshPort)
		return err
	})
	return "opened to " + *can.ShellRange + " alone", err
}

// placing returns the edit that places the new line where it does not stand yet, after
// writing down that this run does.
func (r *restoring) placing(ctx context.Context, p *runs.Progress, k store.Key) fileChange {
	return func(all []authorizedkeys.File, _ string, first bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		if !first || slices.ContainsFunc(all, func(f authorizedkeys.File) bool { return len(f.Find(k.Blob)) > 0 }) {
			return f, nil // placed before a cut, or by somebody
		}
		return f.Add(r.lineFor(k)), p.SetFact(ctx, placedFact, yesFact)
	}
}

// taking returns the edit that takes the new line out.
func taking(k store.Key) fileChange {
	return func(_ []authorizedkeys.File, _ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		return f.Remove(k.Blob), nil
	}
}

func (r *restoring) place(ctx context.Context, p *runs.Progress) (string, error) {
	k, l, err := r.subject(ctx, p)
	if err != nil {
		return "", err
	}
	name := loginName(l.OSUser, l.Instance.Name)
	switch r.route {
	case restore.MetadataKeys:
		err = r.placeEntry(ctx, p, k, l)
		return "the entry for " + l.OSUser + " is in the instance's metadata", err
	case restore.HelperDisk:
		if _, err := r.onHelper(ctx, p, l, r.placing(ctx, p, k)); err != nil {
			return "", err
		}
		return "the line stands in the file on the disk, with the owner, the mode and the label of its place", nil
	case restore.StandingKey, restore.Password:
		if p.Fact(stewardFact) == "" {
			return r.placedElsewhere(ctx, p, k, l)
		}
	}
	stands, method, err := r.edit(ctx, l, r.placing(ctx, p, k))
	if err != nil {
		return "", err
	}
	outcome, err := r.record(ctx, l, stands, method)
	return "the line stands in " + name + "; " + outcome, err
}

// edit edits the files of the login by the route's means.
func (r *restoring) edit(ctx context.Context, l store.LoginToSweep, change fileChange) (stands seen, method string, err error) {
	switch r.route {
	case restore.GuestAgent:
		stands, err = r.editThroughAgent(ctx, l, change)
		return stands, agentMethod, err
	case restore.BrowserShell:
		stands, err = r.editInShell(ctx, l, change)
		return stands, "read in the browser shell", err
	}
	session, end, err := r.stewardSession(ctx, l)
	if err != nil {
		return seen{}, "", reaching(err)
	}
	defer end()
	files, err := session.EditKnowing(change)
	if err != nil {
		return seen{}, "", reaching(err)
	}
	stands.files, stands.folders, err = filesOf(session, files)
	return stands, stewardMethod, reachingOrNil(err)
}

// takeBack takes the new line out again where this run has placed it.
func (r *restoring) takeBack(ctx context.Context, p *runs.Progress) error {
	k, l, err := r.subject(ctx, p)
	if err != nil {
		return err
	}
	if elsewhere := (r.route == restore.StandingKey || r.route == restore.Password) && p.Fact(stewardFact) == ""; elsewhere {
		return r.tellOfLine(ctx, p, k, l)
	}
	if p.Fact(placedFact) == "" {
		return nil
	}
	switch r.route {
	case restore.MetadataKeys:
		return r.changeEntries(ctx, l, func(entries []cloud.MetadataKey) []cloud.MetadataKey {
			return slices.DeleteFunc(entries, func(e cloud.MetadataKey) bool { return e.User == l.OSUser && holdsKey(e.Line, k) })
		})
	case restore.HelperDisk:
		_, err := r.onHelper(ctx, p, l, taking(k))
		return err
	case restore.GuestAgent: // whose permission may be taken back already
		if p.Fact(permitsFact) != "" {
			return r.takeBackThroughAgent(ctx, k, l)
		}
	case restore.BrowserShell:
		return r.takeBackInShell(ctx, k, l)
	}
	return r.lineOut(ctx, k, l)
}

// forUndo is what an opening that an undo needs has behind its kind.
const forUndo = " for the undo"

// again opens once more, with a closing of its own, what is closed already, does what is
// to be done, and closes it.
func (r *restoring) again(ctx context.Context, kind, what string, details map[string]string, open func(token string) error, do func() error) error {
	kind, err := r.kindForUndo(ctx, kind+forUndo)
	if err != nil {
		return err
	}
	if err := r.open(ctx, r.run, kind, what, details, restore.ShellOpenFor, open); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	_, err = r.shut(ctx, r.run, kind)
	return err
}

// kindForUndo returns the kind of the opening that is open for the undo, or of a new one:
// what was closed is never opened again under the same name, for which the cloud would
// answer with what it did before.
func (r *restoring) kindForUndo(ctx context.Context, kind string) (string, error) {
	list, err := r.store.ClosingsOf(ctx, r.run.ID)
	n := 1
	for _, c := range list {
		if !strings.HasPrefix(c.Kind, kind) {
			continue
		}
		if c.ClosedAt == nil && r.now().Before(c.Deadline) {
			return c.Kind, err
		}
		n++
	}
	return fmt.Sprintf("%s %d", kind, n), err
}

// lineOut takes the new line out by the route's means, and records what stands then.
func (r *restoring) lineOut(ctx context.Context, k store.Key, l store.LoginToSweep) error {
	stands, method, err := r.edit(ctx, l, taking(k))
	if err != nil {
		return err
	}
	_, err = r.record(ctx, l, stands, method)
	return err
}

func (r *restoring) takeBackThroughAgent(ctx context.Context, k store.Key, l store.LoginToSweep) error {
	state, err := r.cloud.Agent(ctx, l.Instance.CloudID)
	if err != nil {
		return err
	}
	if state == cloud.AgentReady {
		return r.lineOut(ctx, k, l)
	}
	permit := func(string) error { return r.cloud.PermitAgent(ctx, l.Instance.CloudID, true) }
	return r.again(ctx, agentKind, "the guest agent's permission", map[string]string{"instance": l.Instance.CloudID}, permit, func() error {
		if err := r.awaitAgent(ctx, l.Instance.CloudID); err != nil {
			return err
		}
		return r.lineOut(ctx, k, l)
	})
}

func (r *restoring) takeBackInShell(ctx context.Context, k store.Key, l store.LoginToSweep) error {
	can, _, err := r.outline(ctx)
	if err != nil {
		return err
	}
	i, err := r.cloud.Instance(ctx, l.Instance.CloudID)
	if err != nil {
		return err
	}
	rules, err := r.cloud.FirewallRules(ctx)
	if err != nil {
		return err
	}
	if can.ShellRange == nil || admits(rules, i, *can.ShellRange) {
		return r.lineOut(ctx, k, l)
	}
	open := func(token string) error {
		_, err := r.cloud.OpenPort(ctx, token, i.Firewall, *can.ShellRange, i.SshPort)
		return err
	}
	return r.again(ctx, portKind, "the SSH port to the cloud's own "+*can.ShellRange, map[string]string{}, open, func() error { return r.lineOut(ctx, k, l) })
}

// placedElsewhere waits until the line stands there, placed by somebody from their machine.
func (r *restoring) placedElsewhere(ctx context.Context, p *runs.Progress, k store.Key, l store.LoginToSweep) (string, error) {
	accepted, err := sshio.Accepts(ctx, targetOf(l.Instance, l.OSUser), k.Blob)
	if err != nil {
		return "", answering(err)
	}
	name := loginName(l.OSUser, l.Instance.Name)
	if accepted {
		return "the line stands in " + name + ", placed from somebody's machine", nil
	}
	if r.route == restore.Password {
		return "", r.waits(ctx, p, "waits for whoever knows the password of "+name+" to place the line from their machine")
	}
	return "", r.waits(ctx, p, "waits for "+p.Fact(holdersFact)+" to place the line in "+name+" from their machine")
}

// tellOfLine writes down that a line which somebody placed from their machine stays, since
// the service has no way to take it out.
func (r *restoring) tellOfLine(ctx context.Context, p *runs.Progress, k store.Key, l store.LoginToSweep) error {
	accepted, err := sshio.Accepts(ctx, targetOf(l.Instance, l.OSUser), k.Blob)
	if err != nil || !accepted {
		return err
	}
	name := loginName(l.OSUser, l.Instance.Name)
	return p.SetFact(ctx, lineLeftFact, fmt.Sprintf("a line of %s stands in %s, and the service cannot take it out: plumlatch grant withdraw %s %s -with FILE", k.Name, name, k.Name, name))
}

func holdsKey(line string, k store.Key) bool {
	public, err := keypair.ReadLine(line)
	return err == nil && bytes.Equal(public.Blob, k.Blob)
}

func (r *restoring) changeEntries(ctx context.Context, l store.LoginToSweep, change func([]cloud.MetadataKey) []cloud.MetadataKey) error {
	entries, err := r.cloud.MetadataKeys(ctx, l.Instance.CloudID)
	if err != nil {
		return calling(err)
	}
	return calling(r.cloud.SetMetadataKeys(ctx, l.Instance.CloudID, change(slices.Clone(entries))))
}

func (r *restoring) placeEntry(ctx context.Context, p *runs.Progress, k store.Key, l store.LoginToSweep) error {
	entries, err := r.cloud.MetadataKeys(ctx, l.Instance.CloudID)
	if err != nil {
		return calling(err)
	}
	if slices.ContainsFunc(entries, func(e cloud.MetadataKey) bool { return e.User == l.OSUser && holdsKey(e.Line, k) }) {
		return nil
	}
	if err := p.SetFact(ctx, placedFact, yesFact); err != nil {
		return err
	}
	return calling(r.cloud.SetMetadataKeys(ctx, l.Instance.CloudID, append(entries, cloud.MetadataKey{User: l.OSUser, Line: lineOf(k)})))
}

// editInShell edits the files of a login by commands in the browser shell: each is read,
// written beside with its mode, compared, renamed over and read back.
func (r *restoring) editInShell(ctx context.Context, l store.LoginToSweep, change fileChange) (seen, error) {
	sh := shell{ctx, r.Service, l.Instance.CloudID}
	before, err := sh.read(l)
	if err != nil {
		return seen{}, err
	}
	all := make([]authorizedkeys.File, len(before.files))
	for n, f := range before.files {
		all[n] = authorizedkeys.Parse(f.Content)
	}
	for n, f := range before.files {
		if n > 0 && !f.There {
			continue
		}
		edited, err := change(all, f.Path, n == 0, all[n])
		if err != nil {
			return seen{}, err
		}
		all[n] = edited
		if content := edited.Bytes(); !bytes.Equal(content, f.Content) {
			if err := sh.replace(f, content); err != nil {
				return seen{}, err
			}
		}
	}
	after, err := sh.read(l)
	if err != nil {
		return seen{}, err
	}
	for n, f := range after.files {
		if !bytes.Equal(f.Content, all[n].Bytes()) {
			return seen{}, runs.Temporary(fmt.Errorf("%s reads back otherwise: %w", f.Path, sshio.ErrEdited))
		}
	}
	return after, nil
}

// shell is the browser shell of one instance.
type shell struct {
	ctx context.Context
	*Service
	cloudID string
}

// run returns what a command wrote; ok is whether it ended with status 0.
func (s shell) run(input []byte, words ...string) (out []byte, ok bool, err error) {
	said, err := s.cloud.Shell(s.ctx, s.cloudID, input, words...)
	if err != nil {
		return nil, false, calling(err)
	}
	return said.Output, said.Status == 0, nil
}

func (s shell) must(input []byte, words ...string) error {
	said, err := s.cloud.Shell(s.ctx, s.cloudID, input, words...)
	if err == nil && said.Status != 0 {
		return fmt.Errorf("in the browser shell, %s", text.Line(said.Errors, text.MaxLine))
	}
	return calling(err)
}

func (s shell) read(l store.LoginToSweep) (seen, error) {
	users, ok, err := s.run(nil, "cat", "/etc/passwd")
	if err != nil || !ok {
		return seen{}, errors.Join(err, errUnless(ok, "the browser shell does not read /etc/passwd"))
	}
	home, err := homeIn(string(users), l.OSUser)
	if err != nil {
		return seen{}, fmt.Errorf("%s: %w", l.Instance.Name, err)
	}
	config, _, err := s.run(nil, "cat", sshio.ServerConfig)
	if err != nil {
		return seen{}, err
	}
	var out seen
	paths, err := sshio.KeyFilesOf(string(config), home, l.OSUser)
	if err != nil {
		return seen{}, err
	}
	for _, name := range sshio.FoldersAbove(home, paths) {
		st, err := s.stat(name)
		if err != nil {
			return seen{}, err
		}
		switch {
		case st.kind == "directory":
			out.folders = append(out.folders, store.Folder{Path: name, Mode: int(st.mode)})
		case st.kind != "" && name != home:
			return seen{}, fmt.Errorf("%s is %w", name, sshio.ErrLink)
		}
	}
	left := int64(sshio.MaxFileBytes)
	for _, name := range paths {
		st, err := s.stat(name)
		if err != nil {
			return seen{}, err
		}
		f := SeenFile{Path: name, There: st.regular(), Mode: st.mode}
		switch {
		case f.There && st.owner != l.OSUser && st.owner != "root":
			return seen{}, fmt.Errorf("%s: %w", name, sshio.ErrOwner)
		case f.There:
			if left -= st.size; left < 0 {
				return seen{}, fmt.Errorf("%s has %d bytes; %d is the limit for all files of a login", name, st.size, sshio.MaxFileBytes)
			}
			text, ok, err := s.run(nil, "cat", name)
			if err != nil || !ok {
				return seen{}, errors.Join(err, errUnless(ok, "the browser shell does not read "+name))
			}
			f.Content = text
		case st.kind != "":
			return seen{}, fmt.Errorf("%s is %w", name, sshio.ErrLink)
		}
		if n := bytes.Count(f.Content, []byte{'\n'}); n > sshio.MaxFileLines {
			return seen{}, fmt.Errorf("%s has %d lines; %d is the limit", name, n, sshio.MaxFileLines)
		}
		out.files = append(out.files, f)
	}
	return out, nil
}

func errUnless(ok bool, what string) error {
	if ok {
		return nil
	}
	return errors.New(what)
}

// replace writes the content beside the file and renames it over, if the file is still as
// it was read.
func (s shell) replace(f SeenFile, content []byte) error {
	mode := "600"
	if f.There {
		mode = fmt.Sprintf("%o", f.Mode)
	} else if above, err := s.stat(path.Dir(f.Path)); err != nil {
		return err
	} else if above.kind == "" {
		if err := errors.Join(s.must(nil, "mkdir", path.Dir(f.Path)), s.must(nil, "chmod", "700", path.Dir(f.Path))); err != nil {
			return err
		}
	}
	beside := f.Path + sshio.BesideSuffix
	if err := s.must(content, "dd", "of="+beside, "conv=excl,fsync"); err != nil {
		// One that stands there is somebody else's, or of a run that was cut off.
		stands, look := s.stat(beside)
		if look == nil && stands.kind != "" {
			return errors.Join(runs.Temporary(fmt.Errorf("edit %s: %w", f.Path, sshio.ErrEdited)), s.must(nil, "rm", beside))
		}
		return err
	}
	err := s.must(nil, "chmod", mode, beside)
	if err == nil {
		var now, wrote []byte
		var there bool
		now, there, err = s.run(nil, "cat", f.Path)
		if err == nil && (there != f.There || there && !bytes.Equal(now, f.Content)) {
			err = runs.Temporary(fmt.Errorf("edit %s: %w", f.Path, sshio.ErrEdited))
		}
		if err == nil {
			if wrote, _, err = s.run(nil, "cat", beside); err == nil && !bytes.Equal(wrote, content) {
				err = runs.Temporary(fmt.Errorf("edit %s: what was written beside it reads back otherwise", f.Path))
			}
		}
	}
	if err != nil {
		return errors.Join(err, s.must(nil, "rm", beside))
	}
	return s.must(nil, "mv", "-T", beside, f.Path)
}

// fileStat is what stat(1) says of a path, without following a symbolic link.
type fileStat struct {
	// kind is in the words of stat(1), "" where there is nothing.
	kind  string
	mode  fs.FileMode
	owner string
	size  int64 // in bytes
}

func (f fileStat) regular() bool { return strings.HasPrefix(f.kind, "regular ") }

func (s shell) stat(name string) (fileStat, error) {
	out, ok, err := s.run(nil, "stat", "-c", "%s %a %U %F", name)
	if err != nil || !ok {
		return fileStat{}, err
	}
	fields := strings.SplitN(strings.TrimSpace(string(out)), " ", 4)
	odd := fmt.Errorf("stat %s says %q", name, text.Line(string(out), text.MaxLine))
	if len(fields) < 4 {
		return fileStat{}, odd
	}
	size, err := strconv.ParseInt(fields[0], 10, 64)
	if err != nil || size < 0 {
		return fileStat{}, odd
	}
	bits, err := strconv.ParseUint(fields[1], 8, 32)
	if err != nil {
		return fileStat{}, odd
	}
	return fileStat{kind: fields[3], mode: fs.FileMode(bits) & fs.ModePerm, owner: fields[2], size: size}, nil
}

// reset has the guest agent set a new administrator's password.
func (r *restoring) reset(ctx context.Context, p *runs.Progress) (string, error) {
	k, err := r.key(ctx, p)
	if err != nil {
		return "", err
	}
	password, err := r.cloud.ResetPassword(ctx, r.instance.CloudID, lineOf(k))
	if err != nil {
		return "", calling(err)
	}
	if !holdsKey(password.PublicKey, k) {
		return "", fmt.Errorf("the cloud sealed the password to another key than %s", k.Name)
	}
	return "the new password is sealed to " + k.Name, nil
}

// awaitOpened waits until somebody has opened the password.
func (r *restoring) awaitOpened(ctx context.Context, p *runs.Progress) (string, error) {
	run, err := r.store.RunByID(ctx, r.run.ID)
	if err != nil {
		return "", err
	}
	if who := run.Facts[openedFact]; who != "" {
		return "opened by " + who + ", who should change it at once", p.SetFact(ctx, provedFact, r.now().Format(factLayout))
	}
	return "", r.waits(ctx, p, "waits for you to open the password with the private half of "+p.Fact(keyNameFact))
}
