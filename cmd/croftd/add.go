package main

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"plumlatch/internal/croft"
)

// question asks for something about an image that somebody made elsewhere.
type question struct {
	name, text string
	// suggest is what an empty answer stands for, by the name of the image.
	suggest func(image string) string
	set     func(i *croft.Image, answer string) error
}

func plainly(answer string) func(string) string { return func(string) string { return answer } }

// users are the login users that distributions give their cloud images.
var users = []string{"debian", "ubuntu", "fedora", "alpine", "arch", "opensuse", "rocky", "almalinux"}

var questions = []question{
	{
		"title", "What people call it", func(image string) string { return image },
		func(i *croft.Image, a string) error { i.Title = a; return nil },
	},
	{
		"login-user", "The user for whom cloud-init places the keys", func(image string) string {
			for _, u := range users {
				if strings.Contains(image, u) {
					return u
				}
			}
			return ""
		},
		func(i *croft.Image, a string) error { i.LoginUser = a; return nil },
	},
	{
		"guest-agent", "Whether QEMU's guest agent is in it and may run commands (yes or no)", plainly("no"),
		func(i *croft.Image, a string) error {
			if a != "yes" && a != "no" {
				return fmt.Errorf("%q is neither yes nor no", a)
			}
			i.Agent = a == "yes"
			return nil
		},
	},
	{
		"file-system", "The file system of its root (ext4, xfs, btrfs)", plainly("ext4"),
		func(i *croft.Image, a string) error { i.FileSystem = a; return nil },
	},
	{
		"partition", "The number of the partition with its root", plainly("1"),
		func(i *croft.Image, a string) (err error) { i.Partition, err = strconv.Atoi(a); return err },
	},
	{
		"key-types", "The key types that its SSH server takes", plainly("ed25519,ecdsa,rsa,sk-ed25519,sk-ecdsa"),
		func(i *croft.Image, a string) error { i.KeyTypes = strings.Split(a, ","); return nil },
	},
}

var notInNames = regexp.MustCompile(`[^a-z0-9._-]+`)

// flagsOf are those that answer the questions beforehand.
func flagsOf(f *flag.FlagSet) map[string]*string {
	given := map[string]*string{
		"name": f.String("name", "", "with add: the name of the image; that of the file unless given"),
	}
	for _, q := range questions {
		given[q.name] = f.String(q.name, "", "with add: "+strings.ToLower(q.text[:1])+q.text[1:])
	}
	return given
}

// describe finds out about the image in a file: by flags, and by asking for the rest.
func describe(
	file string,
	given map[string]*string,
	in io.Reader,
	out io.Writer,
	asks bool,
) (i croft.Image, err error) {
	if i.Name = *given["name"]; i.Name == "" {
		base := strings.ToLower(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)))
		i.Name = strings.Trim(notInNames.ReplaceAllString(base, "-"), "-._")
	}
	answers := bufio.NewReader(in)
	for _, q := range questions {
		answer, suggested := *given[q.name], q.suggest(i.Name)
		switch {
		case answer != "":
		case asks:
			fmt.Fprintf(out, "%s [%s]: ", q.text, suggested)
			line, err := answers.ReadString('\n')
			if err != nil {
				return i, errors.Join(errors.New("no answer; nothing was added"), err)
			}
			if answer = strings.TrimSpace(line); answer == "" {
				answer = suggested
			}
		default:
			answer = suggested
		}
		if answer == "" {
			return i, fmt.Errorf("-%s is not known: %s", q.name, strings.ToLower(q.text[:1])+q.text[1:])
		}
		if err := q.set(&i, answer); err != nil {
			return i, fmt.Errorf("-%s: %w", q.name, err)
		}
	}
	return i, i.Check()
}
