package sshio

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/core/text"
)

// What is read of one login at most, whatever its machine says. More is an error that
// says so, never a part of the truth.
const (
	// MaxKeyFiles is the number of files that a server may read keys from.
	MaxKeyFiles = 8
	// MaxFileBytes is the size of those files together, and so of any one, in bytes.
	MaxFileBytes = 1 << 20
	// MaxFileLines is the number of lines of one file.
	MaxFileLines = 10_000

	maxConfigBytes = 256 << 10
	maxPathBytes   = 1024
	maxFolders     = 32
	// slack is how many more bytes than its size a file may have grown by while it is read.
	slack = 4 << 10
)

// Session is a completed login.
type Session struct {
	// HostKey is the one that the server showed, a pinned one.
	HostKey ssh.PublicKey

	client *ssh.Client
	files  *files
	user   string
	// under is the session whose user became this one's, whose account is as the machine has it; nil for a login.
	under   *Session
	account reading.Account
	// key is what it was opened with, in the wire form; nil for a password or a certificate. at is when.
	key []byte
	at  time.Time
	// Once they were read:
	home    string
	owner   uint32 // of the home folder
	paths   []string
	server  reading.Server
	folders []Folder // from the home folder down; nil where they have to be looked at again
	// homeInfo is the home folder as it was when the paths were read.
	homeInfo fs.FileInfo
	// config is the server's configuration as it was read with the paths, or configErr why it was not.
	config    *sshdconfig.Config
	configErr error
}

// ServerVersion is what the server says of itself (RFC 4253 §4.2).
func (s *Session) ServerVersion() string {
	return text.Line(string(s.client.ServerVersion()), text.MaxLine)
}

var openSSH = regexp.MustCompile(`^SSH-2\.0-OpenSSH_([0-9]{1,3})\.([0-9]{1,3})`)

// EndsLines reports whether a server of this version enforces an expiry-time option in UTC: OpenSSH since 9.1.
func EndsLines(version string) bool {
	m := openSSH.FindStringSubmatch(version)
	if m == nil {
		return false
	}
	major, _ := strconv.Atoi(m[1])
	minor, _ := strconv.Atoi(m[2])
	return major > 9 || major == 9 && minor >= 1
}

// Login logs in with the private key. A completed login is proof of entry. The
// session ends with ctx.
func Login(ctx context.Context, t Target, signer ssh.Signer) (*Session, error) {
	client, shown, err := t.dial(ctx, ssh.PublicKeys(signer))
	if err != nil {
		return nil, err
	}
	s := &Session{HostKey: shown, client: client, user: t.User, key: signer.PublicKey().Marshal(), at: time.Now()}
	if _, certified := signer.PublicKey().(*ssh.Certificate); certified {
		s.key = nil // no line of the key opened it
	}
	return s, nil
}

// LoginAndSee logs in with the private key, and sees in the same connection whether
// the server accepts another key, which it is asked about first. Where it does, there
// is no session.
func LoginAndSee(
	ctx context.Context, t Target, signer ssh.Signer, other []byte,
) (s *Session, accepted bool, err error) {
	key, err := ssh.ParsePublicKey(other)
	if err != nil {
		return nil, false, fmt.Errorf("read the public key: %w", err)
	}
	a := &asker{key: key}
	client, shown, err := t.dial(ctx, ssh.PublicKeys(a, signer))
	if a.accepted {
		return nil, true, nil
	}
	if err != nil {
		return nil, false, err
	}
	return &Session{
		HostKey: shown,
		client:  client,
		user:    t.User,
		key:     signer.PublicKey().Marshal(),
		at:      time.Now(),
	}, false, nil
}

// Close ends the session. The connection goes first: a server that does not end its SFTP
// would be waited for otherwise.
func (s *Session) Close() {
	if s.under == nil {
		s.client.Close()
	}
	if s.files != nil {
		s.files.Close()
	}
}

func (s *Session) sftp() (*files, error) {
	if s.files != nil {
		return s.files, nil
	}
	c, err := sftp.NewClient(s.client)
	if err != nil {
		return nil, fmt.Errorf("the SSH server offers no SFTP: %w", err)
	}
	s.files = &files{c}
	return s.files, nil
}

// RemoteFile is an authorized_keys file as it was read.
type RemoteFile struct {
	// Path is absolute.
	Path string
	// There is whether the file is there at all.
	There   bool
	Content []byte
	Mode    fs.FileMode
	// UID and GID are the owner's numbers.
	UID, GID uint32
}

// KeyFiles returns the paths that the server reads keys from for this login:
// those of AuthorizedKeysFile in sshd_config where that can be read, and otherwise
// the default of sshd_config(5).
func (s *Session) KeyFiles() ([]string, error) {
	if s.paths != nil {
		return s.paths, nil
	}
	c, err := s.sftp()
	if err != nil {
		return nil, err
	}
	if s.home = s.account.Home; s.under == nil {
		if s.home, err = c.Getwd(); err != nil {
			return nil, fmt.Errorf("find the home folder of %s: %w", s.user, err)
		}
	}
	if s.home, err = CleanPath(s.home); err != nil {
		return nil, fmt.Errorf("find the home folder of %s: %w", s.user, err)
	}
	info, err := c.Stat(s.home)
	if err != nil {
		return nil, fmt.Errorf("look at the home folder %s: %w", s.home, err)
	}
	if st, ok := info.Sys().(*sftp.FileStat); ok {
		s.owner = st.UID
	}
	s.homeInfo = info
	u := sshdconfig.User{Name: s.user, UID: s.owner, Home: s.home}
	if s.user == "root" {
		u.UID = 0
	}
	if s.under != nil {
		u.UID = s.account.UID
	}
	s.config, s.configErr = readConfig(sessionFiles{s})
	settings, err := settingsBy(s.config, s.configErr, sessionFiles{s}, u)
	if err != nil {
		return nil, err
	}
	if s.paths, err = KeyFilesOf(settings, u); err != nil {
		s.paths = nil
		return nil, err
	}
	s.server = settings.Server
	return s.paths, nil
}

// Server returns what the SSH server lets into the login beside the keys of its files.
func (s *Session) Server() (reading.Server, error) {
	_, err := s.KeyFiles()
	return s.server, err
}

// CleanPath returns a path that a peer told of in its shortest form, or an error where it
// is not absolute, too long, or holds control characters.
func CleanPath(name string) (string, error) {
	switch {
	case len(name) > maxPathBytes:
		return "", fmt.Errorf("a path of %d bytes; %d is the limit", len(name), maxPathBytes)
	case text.Plain(name) != name:
		return "", fmt.Errorf("the path %q has control characters in it", text.Cut(name, text.MaxLine))
	case !path.IsAbs(name):
		return "", fmt.Errorf("the path %q does not begin with a slash", name)
	}
	return path.Clean(name), nil
}

// ServerConfig is where sshd is told where its key files are.
const ServerConfig = "/etc/ssh/sshd_config"

// KeyFilesOf returns the paths that a server with the settings reads a user's keys from, in
// their shortest form. More than MaxKeyFiles, or a path that cannot be one, is an error.
func KeyFilesOf(s Settings, u sshdconfig.User) ([]string, error) {
	out, err := s.KeyFiles(u)
	if err != nil {
		return nil, err
	}
	if n := len(s.Get(sshdconfig.AuthorizedKeysFile)); n > MaxKeyFiles {
		return nil, fmt.Errorf("AuthorizedKeysFile in %s names %d files; %d is the limit", ServerConfig, n, MaxKeyFiles)
	}
	for _, p := range out {
		if _, err := CleanPath(p); err != nil {
			return nil, fmt.Errorf("AuthorizedKeysFile in %s: %w", ServerConfig, err)
		}
	}
	if n := len(FoldersAbove(u.Home, out)); n > maxFolders {
		return nil, fmt.Errorf(
			"AuthorizedKeysFile in %s names files below %d folders; %d is the limit", ServerConfig, n, maxFolders,
		)
	}
	return out, nil
}

// FoldersAbove returns the folders whose modes sshd's StrictModes judges: for the
// files below the home folder, all from there down.
func FoldersAbove(home string, files []string) []string {
	out := []string{home}
	for _, f := range files {
		for dir := path.Dir(f); strings.HasPrefix(dir, home+"/"); dir = path.Dir(dir) {
			if !slices.Contains(out, dir) {
				out = append(out, dir)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Folder is a folder above an authorized_keys file.
type Folder struct {
	Path string
	Mode fs.FileMode
}

// Folders looks at the folders above the files that the server reads keys from, from the
// home folder down. Something else than a folder below the home folder, such as a symbolic
// link, is an error: nothing is read or written through it.
func (s *Session) Folders() ([]Folder, error) {
	if s.folders != nil {
		return s.folders, nil
	}
	paths, err := s.KeyFiles()
	if err != nil {
		return nil, err
	}
	var out []Folder
	for _, name := range FoldersAbove(s.home, paths) {
		info, err := s.homeInfo, error(nil)
		if name != s.home {
			info, err = s.files.Lstat(name)
		}
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("look at %s: %w", name, err)
		}
		if !info.IsDir() {
			return nil, fmt.Errorf("%s is %w", name, ErrLink)
		}
		out = append(out, Folder{Path: name, Mode: info.Mode().Perm()})
	}
	s.folders = out
	return out, nil
}

// ErrLink is wrapped where something else than a folder or an ordinary file is in the
// way: a symbolic link, a device, a pipe. Nothing is read or written through it.
var ErrLink = errors.New("not the ordinary file or folder that belongs there, and is not followed")

// ErrOwner is wrapped where a file belongs to somebody else than the login's user and root.
var ErrOwner = errors.New("it belongs to somebody else")

// Read reads a file. A file that is not there is no error; one that is not an ordinary
// one of the user's or of root's, or that is too large, is.
func (s *Session) Read(name string) (RemoteFile, error) { return s.read(name, MaxFileBytes) }

func (s *Session) read(name string, most int) (RemoteFile, error) {
	c, err := s.sftp()
	if err != nil {
		return RemoteFile{}, err
	}
	r := RemoteFile{Path: name}
	info, err := c.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err != nil {
		return r, fmt.Errorf("look at %s: %w", name, err)
	}
	if !info.Mode().IsRegular() {
		return r, fmt.Errorf("%s is %w", name, ErrLink)
	}
	// The peer says what the size is: as an unsigned number of 64 bits, which FileInfo gives as a signed one.
	if size := info.Size(); size < 0 || size > int64(most) {
		return r, fmt.Errorf("%s has %d bytes; %d is the limit for all files of a login", name, uint64(size), MaxFileBytes)
	}
	r.There, r.Mode = true, info.Mode().Perm()
	if st, ok := info.Sys().(*sftp.FileStat); ok {
		r.UID, r.GID = st.UID, st.GID
		if s.home != "" && st.UID != 0 && st.UID != s.owner {
			return r, fmt.Errorf("%s belongs to the user with the number %d: %w", name, st.UID, ErrOwner)
		}
	}
	f, err := c.Open(name)
	if err != nil {
		return r, fmt.Errorf("open %s: %w", name, err)
	}
	defer f.Close()
	limit := min(int(info.Size())+slack, most)
	if r.Content, err = readUpTo(f, int64(limit)+1, int(info.Size())); err != nil {
		return r, fmt.Errorf("read %s: %w", name, err)
	}
	if len(r.Content) > limit {
		return r, fmt.Errorf("%s has %d bytes by its size and over %d when it is read", name, info.Size(), limit)
	}
	if n := bytes.Count(r.Content, []byte{'\n'}); n > MaxFileLines {
		return r, fmt.Errorf("%s has %d lines; %d is the limit", name, n, MaxFileLines)
	}
	return r, nil
}

// readUpTo reads at most limit bytes in few requests where there are about as
// many as expected, which was checked against the limit.
func readUpTo(f io.Reader, limit int64, expected int) ([]byte, error) {
	b := bytes.NewBuffer(make([]byte, 0, expected+bytes.MinRead))
	_, err := b.ReadFrom(io.LimitReader(f, limit))
	return b.Bytes(), err
}

// ReadAll reads all files that the server reads keys from for this login.
func (s *Session) ReadAll() ([]RemoteFile, error) {
	paths, err := s.KeyFiles()
	if err != nil {
		return nil, err
	}
	if _, err := s.Folders(); err != nil {
		return nil, err
	}
	files := make([]RemoteFile, len(paths))
	left := MaxFileBytes
	for n, p := range paths {
		if files[n], err = s.read(p, left); err != nil {
			return nil, err
		}
		left -= len(files[n].Content)
	}
	return files, nil
}
