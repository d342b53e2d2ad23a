package croft

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/digitalocean/go-libvirt"
	"go.yaml.in/yaml/v3"
	"libvirt.org/go/libvirtxml"

	"plumlatch/internal/adapter"
)

// aboutSuffix ends the name of the volume that tells about the image beside it.
const aboutSuffix = ".image.yaml"

// mostAbout is how long such a volume may be, in bytes.
const mostAbout = 64 << 10

// Image is what is known of an image, which lies as a volume of its name in a host's pool.
type Image struct {
	Name      string   `yaml:"name"`
	Title     string   `yaml:"title"`
	LoginUser string   `yaml:"login-user"`
	KeyTypes  []string `yaml:"key-types"`
	Agent     bool     `yaml:"guest-agent"`
	// FileSystem and FileSystemUUID are those of the root, Partition is the number of its partition; "" and 0 where it is
	// not known.
	FileSystem     string `yaml:"file-system,omitempty"`
	FileSystemUUID string `yaml:"file-system-uuid,omitempty"`
	Partition      int    `yaml:"partition,omitempty"`
	// Container is whether it is a file system that containers start from, in the place of a disk for virtual machines.
	Container bool `yaml:"container,omitempty"`
	// SHA256 is that of the volume as it was put there, in hexadecimal.
	SHA256 string `yaml:"sha256"`
}

// Volume is the name of the volume that it is: raw for containers, qcow2 otherwise.
func (i Image) Volume() string {
	if i.Container {
		return i.Name + ".raw"
	}
	return i.Name + ".qcow2"
}

// kind is what it is for.
func (i Image) kind() string {
	if i.Container {
		return "for containers"
	}
	return "for virtual machines"
}

// Check says what is wrong with a description; nil for nothing.
func (i Image) Check() error {
	known := []string{"ed25519", "rsa", "ecdsa", "sk-ed25519", "sk-ecdsa"}
	other := func(t string) bool { return !slices.Contains(known, t) }
	switch {
	case !nameForm.MatchString(i.Name):
		return fmt.Errorf("%q is no name for an image", i.Name)
	case !nameForm.MatchString(i.LoginUser):
		return fmt.Errorf("%s: %q is no login user", i.Name, i.LoginUser)
	case len(i.KeyTypes) == 0 || slices.ContainsFunc(i.KeyTypes, other):
		return fmt.Errorf("%s: key-types are some of %s", i.Name, strings.Join(known, ", "))
	}
	return nil
}

// images are those in the host's pool whose description can be read.
func (h *host) images(ctx context.Context) (out []Image, err error) {
	p, err := h.pool(ctx, h.Pool)
	if err != nil {
		return nil, err
	}
	var volumes []libvirt.StorageVol
	err = h.call(ctx, func(l *libvirt.Libvirt) (err error) {
		volumes, _, err = l.StoragePoolListAllVolumes(p, 1, 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, v := range volumes {
		name, about := strings.CutSuffix(v.Name, aboutSuffix)
		if !about {
			continue
		}
		text, err := h.small(ctx, v)
		if is(err, libvirt.ErrNoStorageVol) { // somebody removed the file, which libvirt has not noticed yet
			continue
		}
		if err != nil {
			return nil, err
		}
		var i Image
		d := yaml.NewDecoder(bytes.NewReader(text))
		d.KnownFields(true)
		if err := d.Decode(&i); err != nil || i.Name != name || i.Check() != nil ||
			i.Container != h.contains() {
			continue // -check tells of it
		}
		out = append(out, i)
	}
	return out, nil
}

// image returns the image of that name in the host's pool.
func (h *host) image(ctx context.Context, name string) (Image, error) {
	list, err := h.images(ctx)
	if err != nil {
		return Image{}, err
	}
	at := slices.IndexFunc(list, func(i Image) bool { return i.Name == name })
	if at < 0 {
		return Image{}, adapter.BadRequest(fmt.Sprintf(
			"there is no image %q in %s; there are: %s", name, h.Zone, strings.Join(namesOf(list), ", "),
		))
	}
	return list[at], nil
}

func namesOf(list []Image) (out []string) {
	for _, i := range list {
		out = append(out, i.Name)
	}
	return out
}

// stretch takes so many bytes, and says when it has them all. What comes after them is passed over.
type stretch struct {
	bytes []byte
	size  int
	full  chan struct{}
}

func (s *stretch) Write(p []byte) (int, error) {
	if left := s.size - len(s.bytes); left > 0 {
		if s.bytes = append(s.bytes, p[:min(len(p), left)]...); len(s.bytes) == s.size {
			close(s.full)
		}
	}
	return len(p), nil
}

// small reads a volume of no more than mostAbout bytes, unless it is as it was when it was read last.
func (h *host) small(ctx context.Context, v libvirt.StorageVol) ([]byte, error) {
	var about string
	err := h.call(ctx, func(l *libvirt.Libvirt) (err error) { about, err = l.StorageVolGetXMLDesc(v, 0); return err })
	if err != nil {
		return nil, err
	}
	var now libvirtxml.StorageVolume
	if err := now.Unmarshal(about); err != nil {
		return nil, fmt.Errorf("the volume %s of %s: %w", v.Name, h.Zone, err)
	}
	changed := ""
	if now.Target != nil && now.Target.Timestamps != nil {
		changed = now.Target.Timestamps.Mtime
	}
	h.mu.Lock()
	before := h.read[v.Key]
	h.mu.Unlock()
	if changed != "" && before.changed == changed {
		return before.text, nil
	}
	text, err := h.download(ctx, v, mostAbout)
	if err == nil {
		h.mu.Lock()
		h.read[v.Key] = readVolume{changed, text}
		h.mu.Unlock()
	}
	return text, err
}

// readVolume is what was read of a volume, and when it had been changed last.
type readVolume struct {
	changed string
	text    []byte
}

// download reads a volume, at most so many bytes of it.
func (h *host) download(ctx context.Context, v libvirt.StorageVol, most int) ([]byte, error) {
	var capacity uint64
	err := h.call(ctx, func(l *libvirt.Libvirt) (err error) { _, capacity, _, err = l.StorageVolGetInfo(v); return err })
	if err != nil || capacity == 0 {
		return nil, err
	}
	for tries := 1; ; tries++ {
		s := &stretch{size: int(min(capacity, uint64(most))), full: make(chan struct{})}
		err = h.apart(ctx, s.full, func(l *libvirt.Libvirt) error {
			return l.StorageVolDownload(v, s, 0, uint64(s.size), 0)
		})
		switch {
		case err != nil || len(s.bytes) == s.size:
			return s.bytes, err
		case tries == mostTries: // streams were seen to end before their first byte
			return nil, fmt.Errorf("%w: %s: %d of %d bytes of %s came", errAway, h.Zone, len(s.bytes), s.size, v.Name)
		}
	}
}

// mostTries is how often a volume is read that does not come whole.
const mostTries = 5

// upload makes a raw volume with content, of so many bytes. One that is there is made anew.
func (h *host) upload(ctx context.Context, p libvirt.StoragePool, name string, content io.Reader, size uint64) error {
	v, err := h.create(ctx, p, name, size)
	if err != nil {
		return err
	}
	return h.apart(ctx, nil, func(l *libvirt.Libvirt) error { return l.StorageVolUpload(v, content, 0, size, 0) })
}

// create makes a raw volume of so many bytes. One that is there is made anew.
func (h *host) create(
	ctx context.Context, p libvirt.StoragePool, name string, size uint64,
) (v libvirt.StorageVol, err error) {
	v, there, err := h.volume(ctx, p, name)
	if err != nil {
		return v, err
	}
	if there {
		if err := h.remove(ctx, v); err != nil {
			return v, err
		}
	}
	about := libvirtxml.StorageVolume{
		Name:     name,
		Capacity: &libvirtxml.StorageVolumeSize{Value: size, Unit: "bytes"},
		Target:   &libvirtxml.StorageVolumeTarget{Format: &libvirtxml.StorageVolumeTargetFormat{Type: "raw"}},
	}
	text, err := about.Marshal()
	if err != nil {
		return v, err
	}
	err = h.call(ctx, func(l *libvirt.Libvirt) (err error) { v, err = l.StorageVolCreateXML(p, text, 0); return err })
	return v, err
}

func (h *host) remove(ctx context.Context, v libvirt.StorageVol) error {
	err := h.call(ctx, func(l *libvirt.Libvirt) error { return l.StorageVolDelete(v, 0) })
	if is(err, libvirt.ErrNoStorageVol) {
		return nil
	}
	return err
}

// removeNamed removes a volume of the host's pool, if there is one of that name.
func (h *host) removeNamed(ctx context.Context, name string) error {
	p, err := h.pool(ctx, h.Pool)
	if err != nil {
		return err
	}
	v, there, err := h.volume(ctx, p, name)
	if err != nil || !there {
		return err
	}
	return h.remove(ctx, v)
}

// diskOver makes a disk of a size whose content is that of another volume until it is written to.
func (h *host) diskOver(ctx context.Context, p libvirt.StoragePool, name, base string, gib int) error {
	if _, there, err := h.volume(ctx, p, name); err != nil || there {
		return err
	}
	under, there, err := h.volume(ctx, p, base)
	if err != nil {
		return err
	}
	if !there {
		return adapter.BadRequest(fmt.Sprintf("there is no volume %s in the pool %s of %s", base, h.Pool, h.Zone))
	}
	return h.call(ctx, func(l *libvirt.Libvirt) error {
		path, err := l.StorageVolGetPath(under)
		if err != nil {
			return err
		}
		_, capacity, _, err := l.StorageVolGetInfo(under)
		if err != nil {
			return err
		}
		about := libvirtxml.StorageVolume{
			Name:     name,
			Capacity: &libvirtxml.StorageVolumeSize{Value: max(uint64(gib)<<30, capacity), Unit: "bytes"},
			Target:   &libvirtxml.StorageVolumeTarget{Format: &libvirtxml.StorageVolumeTargetFormat{Type: "qcow2"}},
			BackingStore: &libvirtxml.StorageVolumeBackingStore{
				Path: path, Format: &libvirtxml.StorageVolumeTargetFormat{Type: "qcow2"},
			},
		}
		text, err := about.Marshal()
		if err != nil {
			return err
		}
		_, err = l.StorageVolCreateXML(p, text, 0)
		return err
	})
}
