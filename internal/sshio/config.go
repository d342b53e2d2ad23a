package sshio

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/core/text"
)

// ConfigFiles are the files of a machine that its SSH server's configuration is in.
type ConfigFiles interface {
	// ReadFile returns a file's content. The error is fs.ErrNotExist where there is none.
	ReadFile(name string) ([]byte, error)
	// Names returns the names in a folder; none where there is no such folder.
	Names(folder string) ([]string, error)
	// Groups returns the names of the user's groups.
	Groups() ([]string, error)
}

// maxConfigFiles is how many files a configuration may be in.
const maxConfigFiles = 64

// Settings are an SSH server's settings for one user as they were read.
type Settings struct {
	sshdconfig.Settings
	Server reading.Server
}

// ReadSettings reads the configuration of the server, with what it includes, and what it means for the user.
// Where that cannot be told, Server.Unread says why, and the settings are the defaults. A configuration beyond
// the limits is an error.
func ReadSettings(files ConfigFiles, u sshdconfig.User) (Settings, error) {
	config, err := readConfig(files)
	return settingsBy(config, err, files, u)
}

// settingsBy is ReadSettings of a configuration that was read, or of the error with which it was not.
func settingsBy(config *sshdconfig.Config, err error, files ConfigFiles, u sshdconfig.User) (Settings, error) {
	conn := sshdconfig.Conn{User: u.Name}
	unread := func(err error) (Settings, error) {
		return Settings{Server: reading.Server{Unread: text.Line(err.Error(), text.MaxLine)}}, nil
	}
	if errors.Is(err, errConfigLimit) {
		return Settings{}, err
	}
	if err != nil {
		return unread(err)
	}
	settings, err := config.For(conn)
	if err == nil && asksForGroups(settings) {
		groups, unknown := files.Groups() // where they are not known, it stays conditional
		conn.Groups, conn.GroupsKnown = groups, unknown == nil
		settings, err = config.For(conn)
	}
	if err != nil {
		return unread(err)
	}
	return Settings{settings, reading.ServerOf(settings, u, conn, func(name string) ([]byte, error) {
		name, err := CleanPath(name)
		if err != nil {
			return nil, err
		}
		return files.ReadFile(name)
	})}, nil
}

// errConfigLimit is wrapped where a configuration is larger than it may be.
var errConfigLimit = errors.New("which is the limit")

// asksForGroups reports whether the settings depend on the groups of the user.
func asksForGroups(s sshdconfig.Settings) bool {
	return len(s.Get(sshdconfig.AllowGroups))+len(s.Get(sshdconfig.DenyGroups)) > 0 ||
		slices.ContainsFunc(s.Conditional, func(c sshdconfig.Conditional) bool {
			return strings.Contains(strings.ToLower(c.Match), "group")
		})
}

// ReadConfig reads the configuration with all that it includes.
func ReadConfig(files ConfigFiles) (*sshdconfig.Config, error) { return readConfig(files) }

// readConfig reads the configuration with all that it includes.
func readConfig(files ConfigFiles) (*sshdconfig.Config, error) {
	left, count := maxConfigBytes, 0
	read := func(name string) (sshdconfig.File, error) {
		if count++; count > maxConfigFiles {
			return sshdconfig.File{}, fmt.Errorf("%s is in over %d files, %w", ServerConfig, maxConfigFiles, errConfigLimit)
		}
		content, err := files.ReadFile(name)
		if err != nil && !(name == ServerConfig && errors.Is(err, fs.ErrNotExist)) { // without one, the defaults count
			return sshdconfig.File{}, fmt.Errorf("%s: %w", name, err)
		}
		if left -= len(content); left < 0 {
			return sshdconfig.File{}, fmt.Errorf(
				"%s has over %d bytes with what it includes, %w", ServerConfig, maxConfigBytes, errConfigLimit,
			)
		}
		return sshdconfig.File{Path: name, Content: content}, nil
	}
	main, err := read(ServerConfig)
	if err != nil {
		return nil, err
	}
	included := map[string][]sshdconfig.File{}
	for {
		config, missing := sshdconfig.Parse(main, included)
		if len(missing) == 0 {
			return config, nil
		}
		for _, pattern := range missing {
			if len(included) == maxConfigFiles {
				return nil, fmt.Errorf("%s includes over %d times, %w", ServerConfig, maxConfigFiles, errConfigLimit)
			}
			names, err := matching(files, pattern)
			if err != nil {
				return nil, fmt.Errorf("include %s: %w", pattern, err)
			}
			included[pattern] = []sshdconfig.File{}
			for _, name := range names {
				file, err := read(name)
				if errors.Is(err, fs.ErrNotExist) { // it was removed meanwhile, or is no pattern
					continue
				}
				if err != nil {
					return nil, err
				}
				included[pattern] = append(included[pattern], file)
			}
		}
	}
}

// matching returns the files that match the pattern of an Include, in the order of their names. Only
// the last part of the path may be a pattern.
func matching(files ConfigFiles, pattern string) ([]string, error) {
	pattern, err := CleanPath(pattern)
	if err != nil {
		return nil, err
	}
	folder, base := path.Split(pattern)
	if folder = path.Clean(folder); strings.ContainsAny(folder, `*?[\`) {
		return nil, errors.New("folders by a pattern are not followed")
	}
	if !strings.ContainsAny(base, `*?[\`) {
		return []string{pattern}, nil
	}
	names, err := files.Names(folder)
	if err != nil {
		return nil, fmt.Errorf("list %s: %w", folder, err)
	}
	var out []string
	for _, name := range names {
		fits, err := path.Match(base, name)
		if err != nil {
			return nil, err
		}
		if fits && (!strings.HasPrefix(name, ".") || strings.HasPrefix(base, ".")) {
			out = append(out, path.Join(folder, name))
		}
	}
	slices.Sort(out)
	return out, nil
}

// sessionFiles are read over a session, with the rights of its user.
type sessionFiles struct{ *Session }

func (s sessionFiles) ReadFile(name string) ([]byte, error) {
	c, err := s.sftp()
	if err != nil {
		return nil, err
	}
	f, err := c.Open(name)
	switch {
	case errors.Is(err, fs.ErrPermission):
		return nil, fmt.Errorf("%s may not read it", s.user)
	case err != nil:
		return nil, err
	}
	defer f.Close()
	content, err := readUpTo(f, maxConfigBytes+1, 4096)
	if err == nil && len(content) > maxConfigBytes {
		err = fmt.Errorf("it has over %d bytes, %w", maxConfigBytes, errConfigLimit)
	}
	return content, err
}

// Names asks ls, whose output is bounded, as that of SFTP is not.
func (s sessionFiles) Names(folder string) ([]string, error) {
	return NamesIn(s.Run(nil, "ls", "--", folder))
}

func (s sessionFiles) Groups() ([]string, error) {
	words := []string{"id", "-Gn"}
	if s.under != nil {
		words = append(words, "--", s.user)
	}
	out, err := s.Run(nil, words...)
	return strings.Fields(string(out)), err
}

// NamesIn reads what ls said of a folder. One that is not there has none.
func NamesIn(said []byte, err error) ([]string, error) {
	if err != nil {
		if strings.Contains(strings.ToLower(err.Error()), "no such file") {
			return nil, nil
		}
		return nil, err
	}
	return strings.FieldsFunc(string(said), func(r rune) bool { return r == '\n' || r == '\r' }), nil
}
