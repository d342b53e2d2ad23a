package croft

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/digitalocean/go-libvirt"
	"go.yaml.in/yaml/v3"
)

// putChunk is how much of an image goes to a host by one call, in bytes.
const putChunk = 16 << 20

// ReadImage reads the description of an image, and sees that the disk beside it is the one that it tells of. It returns
// the path of that, too.
func ReadImage(about string) (i Image, disk string, err error) {
	text, err := os.ReadFile(about)
	if err != nil {
		return i, "", err
	}
	d := yaml.NewDecoder(bytes.NewReader(text))
	d.KnownFields(true)
	if err := d.Decode(&i); err != nil {
		return i, "", fmt.Errorf("%s: %w", about, err)
	}
	if err := i.Check(); err != nil {
		return i, "", err
	}
	disk = filepath.Join(filepath.Dir(about), i.Volume())
	f, err := os.Open(disk)
	if err != nil {
		return i, "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return i, "", err
	}
	if sum := hex.EncodeToString(h.Sum(nil)); sum != i.SHA256 {
		return i, "", fmt.Errorf("%s has the SHA-256 %s, and is said to have %q", disk, sum, i.SHA256)
	}
	if !i.Container {
		err = CheckDisk(disk)
	}
	return i, disk, err
}

// Put puts an image into the pools of all hosts, or of the one of a zone. say is told what is being done.
func Put(ctx context.Context, s Settings, zone, about string, say func(string)) error {
	i, disk, err := ReadImage(about)
	if err != nil {
		return err
	}
	put := 0
	for n := range s.Hosts {
		if zone != "" && s.Hosts[n].Zone != zone {
			continue
		}
		if i.Container != (s.Hosts[n].Driver == Containers) { // which is of no use there
			continue
		}
		put++
		h := newHost(s.Hosts[n])
		defer h.close()
		say("putting " + i.Name + " into the pool " + h.Pool + " of " + h.Zone)
		if err := h.put(ctx, i, about, disk); err != nil {
			return fmt.Errorf("%s: %w", h.Zone, err)
		}
	}
	if put == 0 {
		return fmt.Errorf("there is no zone that takes it: %s is %s", i.Name, i.kind())
	}
	return nil
}

func (h *host) put(ctx context.Context, i Image, about, disk string) error {
	p, err := h.pool(ctx, h.Pool)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(about)
	if err != nil {
		return err
	}
	f, err := os.Open(disk)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	// The description goes last: an image without one is not launched.
	if err := h.removeNamed(ctx, i.Name+aboutSuffix); err != nil {
		return err
	}
	if err := h.uploadLong(ctx, p, i.Volume(), f, uint64(info.Size())); err != nil {
		return err
	}
	if err := h.call(ctx, func(l *libvirt.Libvirt) error { return l.StoragePoolRefresh(p, 0) }); err != nil {
		return err
	}
	return h.upload(ctx, p, i.Name+aboutSuffix, bytes.NewReader(text), uint64(len(text)))
}

// uploadLong is upload for what may take longer than one call: it goes a stretch at a time.
func (h *host) uploadLong(ctx context.Context, p libvirt.StoragePool, name string, f io.Reader, size uint64) error {
	v, err := h.create(ctx, p, name, size)
	if err != nil {
		return err
	}
	part := make([]byte, putChunk)
	for at := uint64(0); at < size; {
		n, err := io.ReadFull(f, part[:min(uint64(len(part)), size-at)])
		if err != nil {
			return err
		}
		if at += uint64(n); len(bytes.TrimRight(part[:n], "\x00")) == 0 { // so it is in a new volume
			continue
		}
		err = h.apart(ctx, nil, func(l *libvirt.Libvirt) error {
			return l.StorageVolUpload(v, bytes.NewReader(part[:n]), at-uint64(n), uint64(n), 0)
		})
		if err != nil {
			return err
		}
	}
	return nil
}
