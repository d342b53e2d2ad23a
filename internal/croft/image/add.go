package image

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"

	"go.yaml.in/yaml/v3"

	"plumlatch/internal/croft"
)

// Add takes a disk in the form qcow2 as an image, and keeps it with its description in a folder of its own in cache. It
// returns the path of the description.
func Add(ctx context.Context, disk string, told croft.Image, cache string) (about string, err error) {
	if err := croft.CheckDisk(disk); err != nil {
		return "", err
	}
	if told.SHA256, err = digestOf(disk); err != nil {
		return "", err
	}
	if err := told.Check(); err != nil {
		return "", err
	}
	folder := filepath.Join(cache, told.Name+"-added-"+told.SHA256[:16])
	about = filepath.Join(folder, told.Name+".image.yaml")
	text, err := yaml.Marshal(told)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", err
	}
	if err := copyFile(ctx, disk, filepath.Join(folder, told.Volume())); err != nil {
		return "", err
	}
	return about, os.WriteFile(about, text, 0o644)
}

func copyFile(ctx context.Context, from, into string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(into + ".part")
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err = errors.Join(err, out.Close(), ctx.Err()); err != nil {
		return err
	}
	return os.Rename(into+".part", into)
}
