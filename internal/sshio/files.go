package sshio

import (
	"errors"
	"io/fs"

	"github.com/pkg/sftp"
)

// files is an SFTP client that is never without what it was asked for: a server may answer that
// all went well and give nothing.
type files struct{ *sftp.Client }

var errNothing = errors.New("the server answers that it is done, and does not give what it was asked for")

// Stat looks at a file and follows links.
func (f files) Stat(name string) (fs.FileInfo, error) { return given(f.Client.Stat(name)) }

// Lstat looks at a file.
func (f files) Lstat(name string) (fs.FileInfo, error) { return given(f.Client.Lstat(name)) }

func given(info fs.FileInfo, err error) (fs.FileInfo, error) {
	if err != nil {
		return nil, err
	}
	if info == nil {
		return nil, errNothing
	}
	if st, ok := info.Sys().(*sftp.FileStat); ok && st == nil {
		return nil, errNothing
	}
	return info, nil
}

// Open opens a file for reading.
func (f files) Open(name string) (*sftp.File, error) { return opened(f.Client.Open(name)) }

// OpenFile opens a file with flags as of os.OpenFile.
func (f files) OpenFile(name string, flags int) (*sftp.File, error) {
	return opened(f.Client.OpenFile(name, flags))
}

func opened(file *sftp.File, err error) (*sftp.File, error) {
	if err == nil && file == nil {
		return nil, errNothing
	}
	return file, err
}
