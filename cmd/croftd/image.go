package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/term"

	"plumlatch/internal/croft"
	"plumlatch/internal/croft/image"
)

const imageUsage = `Usage:
  croftd image build NAME   make an image of Debian (debian-12, debian-13) from Debian's packages
  croftd image add FILE     take a cloud image that somebody else made (qcow2); what is not known of it is asked
  croftd image put FOLDER   put an image that was made already into the pools

Examples:
  croftd image build debian-12 -settings /etc/plumlatch/croftd.yaml
  croftd image add fedora-cloud.qcow2 -file-system btrfs -partition 4 -guest-agent yes

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
	given := flagsOf(f)
	if len(args) < 2 || !slices.Contains([]string{"build", "add", "put"}, args[0]) {
		f.Usage()
		return errors.New("say what to do with an image: build, add or put")
	}
	if err := f.Parse(args[2:]); err != nil {
		return err
	}
	begun := time.Now()
	say := func(what string) { fmt.Fprintf(os.Stderr, "%6.1f s  %s\n", time.Since(begun).Seconds(), what) }
	ctx := context.Background()
	var about string
	switch args[0] {
	case "build":
		about, err = image.Build(ctx, args[1], *quick, *cache, say)
	case "add":
		var told croft.Image
		if told, err = describe(args[1], given, os.Stdin, os.Stderr, term.IsTerminal(int(os.Stdin.Fd()))); err == nil {
			about, err = image.Add(ctx, args[1], told, *cache)
		}
	default:
		about, err = described(args[1])
	}
	if err != nil {
		return err
	}
	fmt.Println(filepath.Dir(about))
	if *settings == "" {
		return nil
	}
	s, err := croft.ReadSettings(*settings)
	if err != nil {
		return err
	}
	return croft.Put(ctx, s, *zone, about, say)
}

// described finds the description of the image in a folder.
func described(folder string) (string, error) {
	found, err := filepath.Glob(filepath.Join(folder, "*.image.yaml"))
	if err == nil && len(found) != 1 {
		err = fmt.Errorf("%s has %d files NAME.image.yaml, want one", folder, len(found))
	}
	if err != nil {
		return "", err
	}
	return found[0], nil
}
