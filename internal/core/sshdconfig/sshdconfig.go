// Package sshdconfig reads sshd_config(5) as sshd does, and says what it means for one user: which
// files keys are read from, which certificate authorities count, whether a password lets in, and who may
// log in at all.
//
// The first value of a keyword counts, those of a Match block that applies before those outside of any.
// Include reads further files in their order, and a Match in one of these ends with it. What an
// evaluation does not know, such as the address that somebody comes from, is not guessed: a Match that
// asks for it is conditional, and its settings are told apart.
//
// It reads no files itself: Parse says which ones an Include asks for. It follows servconf.c of OpenSSH
// 9.2; of what other versions do otherwise, quoting within arguments (before 8.7) is not followed.
package sshdconfig

import (
	"fmt"
	"path"
	"strings"
)

// Folder is where relative paths of Include begin.
const Folder = "/etc/ssh"

const (
	// maxDepth is how deep files may include one another, as of sshd.
	maxDepth = 16
	// MaxDirectives is how many lines are evaluated, those of files that are included twice counted twice.
	MaxDirectives = 20_000
)

// File is a configuration file as it was read.
type File struct {
	Path    string
	Content []byte
}

// Directive is a line that sets something.
type Directive struct {
	// Keyword is in small letters, and the current one of those that mean the same.
	Keyword string
	Args    []string
	// File and Line, from 1, say where it is.
	File string
	Line int
}

func (d Directive) String() string { return fmt.Sprintf("%s, line %d", d.File, d.Line) }

// Config is a server's configuration.
type Config struct {
	main     *parsed
	included map[string][]*parsed
	// Faults are what sshd would refuse to start with, as far as it was seen.
	Faults []string
}

// parsed is a file in its directives. Match and Include are among them.
type parsed struct {
	path       string
	directives []Directive
}

// Parse reads the main file and those that were included: by the pattern of an Include, absolute, the
// files that match it, in the order of their names. missing are the patterns that included does not
// have yet; while there are any, more may be missing once these were read.
func Parse(main File, included map[string][]File) (c *Config, missing []string) {
	c = &Config{included: map[string][]*parsed{}}
	done := map[string]*parsed{}
	var read func(f File) *parsed
	read = func(f File) *parsed {
		if p, ok := done[f.Path]; ok {
			return p
		}
		p := &parsed{path: f.Path}
		done[f.Path] = p
		p.directives = c.directives(f)
		for _, d := range p.directives {
			if d.Keyword != "include" {
				continue
			}
			for _, pattern := range d.Args {
				pattern = absolute(pattern)
				if _, ok := c.included[pattern]; ok {
					continue
				}
				files, ok := included[pattern]
				c.included[pattern] = nil
				if !ok {
					missing = append(missing, pattern)
				}
				for _, f := range files {
					c.included[pattern] = append(c.included[pattern], read(f))
				}
			}
		}
		return p
	}
	c.main = read(main)
	return c, missing
}

// absolute returns the pattern of an Include as sshd takes it.
func absolute(pattern string) string {
	if strings.HasPrefix(pattern, "/") || strings.HasPrefix(pattern, "~") {
		return pattern
	}
	return path.Join(Folder, pattern)
}

// directives parts a file into its lines that set something.
func (c *Config) directives(f File) (out []Directive) {
	number := 0
	for line := range strings.Lines(string(f.Content)) {
		number++
		keyword, rest := keywordOf(line)
		if keyword == "" || strings.HasPrefix(keyword, "#") {
			continue
		}
		keyword = strings.ToLower(keyword)
		if now, ok := aliases[keyword]; ok {
			keyword = now
		}
		d := Directive{Keyword: keyword, File: f.Path, Line: number}
		var err error
		if keyword == "match" {
			d.Args, err = matchWords(rest)
		} else {
			d.Args, err = words(rest)
		}
		if err == nil && len(d.Args) == 0 {
			err = errNoValue
		}
		if err != nil {
			c.Faults = append(c.Faults, fmt.Sprintf("%s: %v", d, err))
			continue
		}
		out = append(out, d)
	}
	return out
}

// aliases are keywords that mean the same as another.
var aliases = map[string]string{
	"challengeresponseauthentication": KbdInteractiveAuthentication,
	"skeyauthentication":              KbdInteractiveAuthentication,
	"dsaauthentication":               PubkeyAuthentication,
	"pubkeyacceptedkeytypes":          "pubkeyacceptedalgorithms",
}
