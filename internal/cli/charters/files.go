package charters

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/charter"
)

// collect reads the files of a charter: those that are named, those in folders that are named, and the public keys that
// they name. Links are not followed, and names that begin with a dot are left out of folders.
func collect(args []string) ([]charter.File, error) {
	c := &collecting{seen: map[string]string{}}
	for _, arg := range args {
		info, err := os.Stat(arg)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil, kit.Missing(
				"no-file",
				fmt.Sprintf("there is no file or folder %s", arg),
				"Name the files of the charter",
			)
		case err != nil:
			return nil, err
		case info.IsDir():
			err = c.folder(arg, len(args) > 1)
		default:
			err = c.one(arg)
		}
		if err != nil {
			return nil, err
		}
	}
	return c.files, nil
}

type collecting struct {
	files []charter.File
	seen  map[string]string // what each path was read from
	bytes int
}

func (c *collecting) add(at, from string) (charter.File, error) {
	if was, twice := c.seen[at]; twice {
		if was == from {
			return charter.File{}, nil
		}
		return charter.File{}, kit.Usage(fmt.Sprintf("%s and %s would both be %s; give the folder above them", was, from, at))
	}
	c.seen[at] = from
	file, err := os.Open(from)
	if err != nil {
		return charter.File{}, err
	}
	defer file.Close()
	// One more than a charter may have shows that it is too much, and is not read any further.
	content, err := io.ReadAll(io.LimitReader(file, int64(charter.MostBytes-c.bytes+1)))
	if err != nil {
		return charter.File{}, err
	}
	if c.bytes += len(content); c.bytes > charter.MostBytes || len(c.files) == charter.MostFiles {
		return charter.File{}, kit.Usage(fmt.Sprintf(
			"%s: a charter has at most %d files with %d bytes; make several of it", from, charter.MostFiles, charter.MostBytes,
		))
	}
	f := charter.File{Path: at, Content: content}
	c.files = append(c.files, f)
	return f, nil
}

func (c *collecting) folder(folder string, several bool) error {
	return filepath.WalkDir(folder, func(from string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if strings.HasPrefix(e.Name(), ".") && from != folder {
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !e.Type().IsRegular() || !charter.Declares(from) && filepath.Ext(from) != ".pub" {
			return nil
		}
		below, err := filepath.Rel(folder, from)
		if err != nil {
			return err
		}
		at := filepath.ToSlash(below)
		if several {
			at = path.Join(filepath.Base(folder), at)
		}
		_, err = c.add(at, from)
		return err
	})
}

// one reads a file and the public keys that it names.
func (c *collecting) one(from string) error {
	at := filepath.ToSlash(filepath.Clean(from))
	if filepath.IsAbs(from) || strings.HasPrefix(at, "..") {
		at = filepath.Base(from)
	}
	f, err := c.add(at, from)
	if err != nil || !charter.Declares(at) {
		return err
	}
	for _, key := range charter.Names(f) {
		below, err := filepath.Rel(path.Dir(at), key)
		if err != nil {
			return err
		}
		file := filepath.Join(filepath.Dir(from), below)
		if info, err := os.Lstat(file); err != nil || !info.Mode().IsRegular() {
			continue // reading says that it is not there
		}
		if _, err := c.add(key, file); err != nil {
			return err
		}
	}
	return nil
}

func wire(files []charter.File) []apiclient.CharterFile {
	out := make([]apiclient.CharterFile, len(files))
	for n, f := range files {
		out[n] = apiclient.CharterFile{Path: f.Path, Content: string(f.Content)}
	}
	slices.SortFunc(out, func(a, b apiclient.CharterFile) int { return strings.Compare(a.Path, b.Path) })
	return out
}
