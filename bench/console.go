package main

import (
	"compress/gzip"
	"encoding/base64"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

func encode(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) }

type counter int

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}

// firstLoad returns the bytes of all of the console's files as they are sent.
// The first page loads only some of them.
func firstLoad() (int, error) {
	total := 0
	err := filepath.WalkDir("console/dist", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		var n counter
		w, err := gzip.NewWriterLevel(&n, gzip.BestCompression)
		if err != nil {
			return err
		}
		_, err = io.Copy(w, f)
		err = errors.Join(err, w.Close())
		total += int(n)
		return err
	})
	return total, err
}
