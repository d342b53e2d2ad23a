package means

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/core/text"
	"plumlatch/internal/sshio"

	"golang.org/x/sync/errgroup"
)

// AgentCloud is a cloud whose guest agents are asked.
type AgentCloud interface {
	AgentFile(ctx context.Context, at cloud.AgentPlace, path, user string) (cloud.AgentFile, error)
	WriteAgentFile(
		ctx context.Context, at cloud.AgentPlace, path string, was, content []byte, owner string, mode int,
	) error
	AgentCommand(ctx context.Context, id string, words ...string) (cloud.CommandResult, error)
}

// ByAgent is the means of a guest agent, for the login of the user: on the agent's own system, or
// on the disk that is mounted where at says. The agent acts with the user's rights, and
// follows no symbolic link below the home folder (api/adapter.yaml).
func ByAgent(c AgentCloud, at cloud.AgentPlace, user string) Means { return agent{c, at, user} }

type agent struct {
	cloud AgentCloud
	at    cloud.AgentPlace
	user  string
}

const (
	// agentTimeout is for how long the reading of one login may take.
	agentTimeout = 30 * time.Second
	// A file that somebody else edits is tried again.
	agentEdits = 5
	agentPause = 100 * time.Millisecond
)

// system reads a file of the system as root; "" where there is none.
func (a agent) system(ctx context.Context, path string) (string, error) {
	f, err := a.cloud.AgentFile(ctx, a.at, path, "")
	if err != nil || f.Content == nil {
		return "", err
	}
	if len(*f.Content) > sshio.MaxFileBytes {
		return "", fmt.Errorf("%s has %d bytes; %d is the limit", path, len(*f.Content), sshio.MaxFileBytes)
	}
	return string(*f.Content), nil
}

// Read reads the files.
func (a agent) Read(ctx context.Context) (Seen, error) {
	ctx, cancel := context.WithTimeout(ctx, agentTimeout)
	defer cancel()
	users, err := a.system(ctx, "/etc/passwd")
	if err != nil {
		return Seen{}, err
	}
	u, err := userIn(users, a.user)
	if err != nil {
		return Seen{}, err
	}
	settings, err := sshio.ReadSettings(agentConfig{a, ctx}, u)
	if err != nil {
		return Seen{}, err
	}
	home := u.Home
	paths, err := sshio.KeyFilesOf(settings, u)
	if err != nil {
		return Seen{}, err
	}
	out := Seen{Server: &settings.Server}
	left := budget{bytes: sshio.MaxFileBytes}
	for _, path := range paths {
		f, err := a.cloud.AgentFile(ctx, a.at, path, a.user)
		if err != nil {
			return Seen{}, err
		}
		read := File{Path: path, There: f.Kind == cloud.AgentFileIsFile, Mode: fs.FileMode(f.Mode) & fs.ModePerm}
		switch {
		case f.Kind == cloud.AgentFileIsNone:
			read.Mode = 0
		case f.Kind != cloud.AgentFileIsFile:
			return Seen{}, fmt.Errorf("%s is %w", path, sshio.ErrLink)
		case f.Content != nil:
			read.Content = *f.Content
		}
		if err := left.take(read); err != nil {
			return Seen{}, err
		}
		out.Files = append(out.Files, read)
	}
	for _, path := range sshio.FoldersAbove(home, paths) {
		user := a.user
		if path == home {
			user = "" // which may be anything above
		}
		f, err := a.cloud.AgentFile(ctx, a.at, path, user)
		if err != nil {
			return Seen{}, err
		}
		switch f.Kind {
		case cloud.AgentFileIsFolder:
			out.Folders = append(out.Folders, Folder{Path: path, Mode: fs.FileMode(f.Mode) & fs.ModePerm})
		case cloud.AgentFileIsNone:
		default:
			return Seen{}, fmt.Errorf("%s is %w", path, sshio.ErrLink)
		}
	}
	return out, nil
}

// budget is what is left of what is read of one login.
type budget struct{ bytes int }

func (b *budget) take(f File) error {
	if b.bytes -= len(f.Content); b.bytes < 0 {
		return fmt.Errorf(
			"%s: the files of the login have over %d bytes together, which is the limit", f.Path, sshio.MaxFileBytes,
		)
	}
	if n := bytes.Count(f.Content, []byte{'\n'}); n > sshio.MaxFileLines {
		return fmt.Errorf("%s has %d lines; %d is the limit", f.Path, n, sshio.MaxFileLines)
	}
	return nil
}

func (a agent) change(ctx context.Context, edit edit) (Seen, error) {
	for range agentEdits {
		seen, err := a.changeOnce(ctx, edit)
		var refused *cloud.RefusedError
		if !errors.As(err, &refused) || refused.Status != http.StatusConflict {
			return seen, a.says(err)
		}
		select { // somebody else is at it
		case <-ctx.Done():
			return Seen{}, ctx.Err()
		case <-time.After(agentPause):
		}
	}
	return Seen{}, a.says(sshio.ErrEdited)
}

// says adds what was being done.
func (a agent) says(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("edit the files of %s by the guest agent: %w", a.user, err)
}

func (a agent) changeOnce(ctx context.Context, edit edit) (Seen, error) {
	before, err := a.Read(ctx)
	if err != nil {
		return Seen{}, err
	}
	all := parseAll(before.Files)
	wrote := map[string][]byte{}
	for n, f := range before.Files {
		if n > 0 && !f.There {
			continue
		}
		edited, err := edit(all, f.Path, n == 0, all[n])
		if err != nil {
			return Seen{}, err
		}
		all[n] = edited
		content := edited.Bytes()
		if bytes.Equal(content, f.Content) {
			continue
		}
		if err := a.cloud.WriteAgentFile(ctx, a.at, f.Path, f.Content, content, a.user, 0o600); err != nil {
			return Seen{}, err
		}
		wrote[f.Path] = content
	}
	for _, f := range before.Files { // also where a write whose answer was lost has left one without
		if _, ours := wrote[f.Path]; a.at.Below != "" && (f.There || ours) {
			if err := a.label(ctx, f.Path); err != nil {
				return Seen{}, err
			}
		}
	}
	after, err := a.Read(ctx)
	if err != nil {
		return Seen{}, err
	}
	for _, f := range after.Files {
		if want, ours := wrote[f.Path]; ours && !bytes.Equal(f.Content, want) {
			return Seen{}, fmt.Errorf("%s was written, but reads back otherwise: %w", f.Path, sshio.ErrEdited)
		}
	}
	return after, nil
}

// label gives a file that was written from another system the security label that its
// own asks for. A system without labels has no use for it, and says so.
func (a agent) label(ctx context.Context, path string) error {
	said, err := a.cloud.AgentCommand(ctx, a.at.Instance, "chcon", "-h", "-t", "ssh_home_t", a.at.Below+path)
	if err == nil && strings.Contains(said.Errors, "unlabeled file") {
		// The helper's system gives none by itself. The whole label is set, if that of the disk has labels at all.
		config, failed := a.system(ctx, "/etc/selinux/config")
		if failed != nil || config == "" {
			return failed
		}
		said, err = a.cloud.AgentCommand(
			ctx, a.at.Instance, "chcon", "-h", "system_u:object_r:ssh_home_t:s0", a.at.Below+path,
		)
	}
	if err == nil && said.Status != 0 && !strings.Contains(said.Errors, "not supported") {
		err = errors.New("give it its security label: " + text.Line(said.Errors, text.MaxLine))
	}
	return err
}

const (
	// agentAccounts is how many users of a machine are asked for through its agent.
	agentAccounts = 200
	// agentAtOnce is how many of them at once.
	agentAtOnce = 8
)

// Machine reads all users of the machine, as root.
func (a agent) Machine(ctx context.Context) (Machine, error) {
	if a.at.Below != "" {
		return Machine{}, errors.New("a disk is read for one login alone")
	}
	ctx, cancel := context.WithTimeout(ctx, agentTimeout)
	defer cancel()
	out := Machine{Machine: reading.Machine{Rights: reading.AsRoot}}
	passwd, err := a.system(ctx, "/etc/passwd")
	if err != nil {
		return Machine{}, err
	}
	accounts, skipped := reading.Accounts([]byte(passwd))
	out.Accounts, out.Skipped = len(accounts), skipped
	config, err := sshio.ReadConfig(agentConfig{a, ctx})
	if err != nil {
		return Machine{}, err
	}
	group, _ := a.system(ctx, "/etc/group")
	var groups map[string][]string
	nsswitch, _ := a.system(ctx, "/etc/nsswitch.conf")
	out.AddSources([]byte(nsswitch))
	if len(reading.ForeignSources([]byte(nsswitch), "group"))+
		len(reading.ForeignSources([]byte(nsswitch), "initgroups")) == 0 {
		groups = reading.GroupsOf([]byte(group), accounts)
	}
	shadow, err := a.system(ctx, "/etc/shadow")
	passwords := reading.PasswordsOf(accounts, []byte(shadow), err == nil)
	authorities := func(name string) ([]byte, error) { return agentConfig{a, ctx}.ReadFile(name) }
	var mu sync.Mutex
	held := 0 // bytes
	var asked errgroup.Group
	asked.SetLimit(agentAtOnce)
	for n, account := range accounts {
		settings, err := sshio.SettingsFor(config, account, groups, passwords[account.Name], authorities)
		if account.Name == a.user {
			if err == nil {
				out.Own = &settings.Server
			}
			continue
		}
		if n >= agentAccounts {
			err = fmt.Errorf("over %d users are not asked for through the guest agent", agentAccounts)
		}
		asked.Go(func() error {
			var seen Seen
			if err == nil {
				seen, err = a.filesOf(ctx, account, settings)
			}
			mu.Lock()
			defer mu.Unlock()
			for _, f := range seen.Files {
				held += len(f.Content)
			}
			if held > sshio.MaxFileBytes && err == nil {
				err = fmt.Errorf("%d bytes of other users' keys are read of a machine at most", sshio.MaxFileBytes)
			}
			keys := slices.ContainsFunc(seen.Files, func(f File) bool { return f.There && len(f.Content) > 0 })
			switch {
			case err != nil:
				out.AddUnread(account.Name, err.Error())
			case keys || settings.Server.LetsIn(account):
				out.Others = append(out.Others, Account{Name: account.Name, Seen: seen})
			default:
				out.NoWay++
			}
			return nil
		})
	}
	asked.Wait()
	slices.SortFunc(out.Others, func(a, b Account) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(out.Unread, func(a, b reading.UnreadAccount) int { return strings.Compare(a.User, b.User) })
	return out, ctx.Err()
}

// filesOf reads the key files of another user, with that user's rights.
func (a agent) filesOf(ctx context.Context, of reading.Account, settings sshio.Settings) (Seen, error) {
	home, err := sshio.CleanPath(of.Home)
	if err != nil {
		return Seen{}, err
	}
	paths, err := sshio.KeyFilesOf(settings, sshdconfig.User{Name: of.Name, UID: of.UID, Home: home})
	if err != nil {
		return Seen{}, err
	}
	out := Seen{Server: &settings.Server}
	left := budget{bytes: sshio.MaxFileBytes}
	for _, path := range paths {
		f, err := a.cloud.AgentFile(ctx, a.at, path, of.Name)
		if err != nil {
			return Seen{}, err
		}
		read := File{Path: path}
		switch {
		case f.Kind == cloud.AgentFileIsFile && f.Content != nil:
			read.There, read.Mode, read.Content = true, fs.FileMode(f.Mode)&fs.ModePerm, *f.Content
		case f.Kind != cloud.AgentFileIsNone:
			return Seen{}, fmt.Errorf("%s is %w", path, sshio.ErrLink)
		}
		if err := left.take(read); err != nil {
			return Seen{}, err
		}
		out.Files = append(out.Files, read)
	}
	return out, nil
}
