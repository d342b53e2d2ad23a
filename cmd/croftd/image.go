package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"plumlatch/internal/croft"
	"plumlatch/internal/croft/image"
)

const imageUsage = `Usage:
  croftd image build NAME   make an image of Debian (debian-12, debian-13) from Debian's packages
  croftd image put FOLDER   put an image that was made already into the pools

Flags:
`

// images makes images and puts them where machines are launched from.
func images(args []string) error {
	f := flag.NewFlagSet("croftd image", flag.ContinueOnError)
	f.Usage = func() { fmt.Fprint(f.Output(), imageUsage); f.PrintDefaults() }
	own, err := os.UserCacheDir()
	if err != nil {
		own = os.TempDir()
	}
	cache := f.String("cache", filepath.Join(own, "plumlatch-images"), "folder in which images are kept")
	quick := f.Bool(
		"quick",
		false,
		"one that starts in half the time under emulation, without protections of the kernel: for trying alone",
	)
	settings := f.String("settings", "", "put it into the pools of the hosts of this file too")
	zone := f.String("zone", "", "with -settings: into that of this zone alone")
	if len(args) < 2 || args[0] != "build" && args[0] != "put" {
		f.Usage()
		return errors.New("say what to do with an image: build or put")
	}
	if err := f.Parse(args[2:]); err != nil {
		return err
	}
	begun := time.Now()
	say := func(what string) { fmt.Fprintf(os.Stderr, "%6.1f s  %s\n", time.Since(begun).Seconds(), what) }
	ctx := context.Background()
	var disk, about string
	if args[0] == "build" {
		if disk, about, err = image.Build(ctx, args[1], *quick, *cache, say); err != nil {
			return err
		}
	} else if disk, about, err = pair(args[1]); err != nil {
		return err
	}
	fmt.Println(filepath.Dir(disk))
	if *settings == "" {
		return nil
	}
	s, err := croft.ReadSettings(*settings)
	if err != nil {
		return err
	}
	return croft.Put(ctx, s, *zone, about, disk, say)
}

// pair finds an image and its description in a folder.
func pair(folder string) (disk, about string, err error) {
	found, err := filepath.Glob(filepath.Join(folder, "*.image.yaml"))
	if err != nil || len(found) != 1 {
		return "", "", fmt.Errorf("%s has %d files NAME.image.yaml, want one", folder, len(found))
	}
	about = found[0]
	return about[:len(about)-len(".image.yaml")] + ".qcow2", about, nil
}
