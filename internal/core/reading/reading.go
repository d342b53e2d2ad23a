// Package reading compares what was read of the authorized_keys files of a login with what is known:
// which files are new, which lines are in place there, which keys are known and which are strangers. The format
// is that of sshd(8), AUTHORIZED_KEYS FILE FORMAT; package authorizedkeys reads it.
package reading

import (
	"bytes"
	"crypto/sha256"
	"strings"
	"time"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
)

// File is a file as it was read. Mode are its permission bits.
type File struct {
	Path    string
	There   bool
	Content []byte
	Mode    int
}

// Version is a file as it was read before; Digest is the SHA-256 of all of it.
type Version struct {
	There  bool
	Digest []byte
	Mode   int
}

// Change is what will be kept of a file: nothing where it is as before.
type Change struct {
	// Same is whether it is as it was read before.
	Same bool
	// Digest is that of all of it, Kept what is kept: private keys are never.
	Digest []byte
	Kept   []byte
	// Exposed are the private keys that lie in it.
	Exposed []authorizedkeys.Exposed
}

// Compare compares a file with how it was read before; nil for never.
func Compare(f File, before *Version) Change {
	digest := sha256.Sum256(f.Content)
	c := Change{Digest: digest[:]}
	if before != nil && before.There == f.There && before.Mode == f.Mode && bytes.Equal(before.Digest, c.Digest) {
		c.Same = true
		return c
	}
	c.Kept, c.Exposed = authorizedkeys.Parse(f.Content).Keep()
	return c
}

// Line is one key that is in a login. Limits are what its options limit it to.
type Line struct {
	authorizedkeys.Line
	// SHA256 is the digest of the key, Opens whether the line opens the login with a shell.
	SHA256 []byte
	Opens  bool
	Limits string
}

// Lines are the keys that are in the files of a login, each once and in their order: of several lines of
// one key that which opens counts. Unreadable is how many lines cannot be read.
type Lines struct {
	Keys       []Line
	Unreadable int
}

// Read reads the keys of files as they count at a time.
func Read(files []File, at time.Time) Lines {
	var out Lines
	place := map[string]int{}
	for _, f := range files {
		for _, line := range authorizedkeys.Parse(f.Content) {
			if line.Kind == authorizedkeys.Unreadable {
				out.Unreadable++
			}
			if line.Kind != authorizedkeys.Key {
				continue
			}
			l := Line{
				Line:   line,
				SHA256: keypair.Public{Blob: line.Blob}.SHA256(),
				Opens:  line.Opens(at),
				Limits: strings.Join(line.Limits(at), "; "),
			}
			n, twice := place[string(l.SHA256)]
			switch {
			case !twice:
				place[string(l.SHA256)] = len(out.Keys)
				out.Keys = append(out.Keys, l)
			case !out.Keys[n].Opens && l.Opens:
				out.Keys[n] = l
			}
		}
	}
	return out
}
