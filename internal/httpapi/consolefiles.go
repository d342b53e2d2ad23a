package httpapi

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"fmt"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"plumlatch/console"
)

// consoleFiles serves the built console. Any path that is no file gets the
// console's page, which shows what the path names.
type consoleFiles struct {
	dist  fs.FS
	built bool

	mu     sync.Mutex
	packed map[string][]byte // gzip, by name; made at the first request
}

func newConsoleFiles() (*consoleFiles, error) {
	dist, err := fs.Sub(console.Files, "dist")
	if err != nil {
		return nil, err
	}
	_, err = fs.Stat(dist, "index.html")
	return &consoleFiles{dist: dist, built: err == nil, packed: map[string][]byte{}}, nil
}

func (f *consoleFiles) serve(c *gin.Context) {
	if !f.built {
		c.String(http.StatusNotFound, "The console is not built into this service: run make build.\n")
		return
	}
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if info, err := fs.Stat(f.dist, name); err != nil || info.IsDir() || name == "." {
		name = "index.html"
	}
	data, err := fs.ReadFile(f.dist, name)
	if err != nil {
		c.String(http.StatusNotFound, "not found\n")
		return
	}
	h := c.Writer.Header()
	h.Set("Cache-Control", "no-cache")
	if strings.HasPrefix(name, "assets/") {
		h.Set("Cache-Control", "public, max-age=31536000, immutable") // the name holds a hash of the content
	}
	h.Set("Vary", "Accept-Encoding")
	if name == "index.html" {
		nonce := rand.Text()
		h.Set("Content-Security-Policy", policy(nonce))
		h.Set("Cache-Control", "no-store")
		data = bytes.Replace(data, []byte("@nonce@"), []byte(nonce), 1)
		c.Data(http.StatusOK, mime.TypeByExtension(path.Ext(name)), data)
		return
	}
	if strings.Contains(c.GetHeader("Accept-Encoding"), "gzip") {
		if data, err = f.pack(name, data); err != nil {
			c.String(http.StatusInternalServerError, "failed\n")
			return
		}
		h.Set("Content-Encoding", "gzip")
	}
	c.Data(http.StatusOK, mime.TypeByExtension(path.Ext(name)), data)
}

func (f *consoleFiles) pack(name string, data []byte) ([]byte, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if p, ok := f.packed[name]; ok {
		return p, nil
	}
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, fmt.Errorf("pack %s: %w", name, err)
	}
	if err := w.Close(); err != nil {
		return nil, fmt.Errorf("pack %s: %w", name, err)
	}
	f.packed[name] = b.Bytes()
	return f.packed[name], nil
}
