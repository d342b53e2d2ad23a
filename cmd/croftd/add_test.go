package main

import (
	"flag"
	"io"
	"reflect"
	"strings"
	"testing"

	"plumlatch/internal/croft"
)

func TestAnImageIsDescribedByFlagsAndAnswers(t *testing.T) {
	all := []string{"ed25519", "ecdsa", "rsa", "sk-ed25519", "sk-ecdsa"}
	for name, c := range map[string]struct {
		file, flags, answers string
		asks                 bool
		want                 croft.Image
		fault                string
	}{
		"all suggested": {
			file: "/x/Debian-12 generic.qcow2", answers: "\n\n\n\n\n\n", asks: true, want: croft.Image{
				Name: "debian-12-generic", Title: "debian-12-generic", LoginUser: "debian", FileSystem: "ext4", Partition: 1,
				KeyTypes: all,
			},
		},
		"answered": {
			file: "disk.img", answers: "The mast's\npi\nyes\nxfs\n3\nrsa\n", asks: true, want: croft.Image{
				Name: "disk", Title: "The mast's", LoginUser: "pi", Agent: true, FileSystem: "xfs", Partition: 3,
				KeyTypes: []string{"rsa"},
			},
		},
		"by flags alone": {
			file: "disk.img", flags: "-name mast -login-user pi -partition 2", want: croft.Image{
				Name: "mast", Title: "mast", LoginUser: "pi", FileSystem: "ext4", Partition: 2, KeyTypes: all,
			},
		},
		"nobody to ask": {file: "disk.img", fault: "-login-user"},
		"no answer":     {file: "disk.img", asks: true, answers: "x\n", fault: "no answer"},
		"neither":       {file: "ubuntu.img", flags: "-guest-agent maybe", fault: "-guest-agent"},
		"no number":     {file: "ubuntu.img", flags: "-partition one", fault: "-partition"},
		"no such type":  {file: "ubuntu.img", flags: "-key-types dsa", fault: "key-types"},
		"no fit name":   {file: "ubuntu.img", flags: "-name A -login-user x", fault: "no name"},
	} {
		f := flag.NewFlagSet("", flag.ContinueOnError)
		given := flagsOf(f)
		if err := f.Parse(strings.Fields(c.flags)); err != nil {
			t.Fatal(err)
		}
		got, err := describe(c.file, given, strings.NewReader(c.answers), io.Discard, c.asks)
		switch {
		case c.fault != "" && (err == nil || !strings.Contains(err.Error(), c.fault)):
			t.Errorf("%s: %v, want an error about %s", name, err, c.fault)
		case c.fault == "" && (err != nil || !reflect.DeepEqual(got, c.want)):
			t.Errorf("%s: %+v %v, want %+v", name, got, err, c.want)
		}
	}
}
