package e2e

import (
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"plumlatch/internal/hall"
)

// machines is the folder with the images for the tests of real machines, which run only where it is given: they need root,
// libvirt and QEMU, and a hall of their own, in which TestMain starts them.
var machines = flag.String("machines", "", "run the tests of real machines with the images of this folder, and no others")

var (
	theHall     *hall.Hall
	theHallOnce sync.Once
	endHall     = func() {}
)

// realMachines are real machines under a croftd, as a cloud called hall of a house.
func realMachines(t *testing.T) (h *house, croftd *process) {
	t.Helper()
	if *machines == "" {
		t.Skip("real machines are tried by make test-machines")
	}
	theHallOnce.Do(func() {
		folder, err := os.MkdirTemp("", "plumlatch-hall-*")
		if err == nil {
			endHall = func() { os.RemoveAll(folder) }
			theHall, err = hall.Open(folder)
		}
		if err == nil {
			err = copyImages(*machines, filepath.Join(folder, "pool"))
		}
		if err == nil {
			err = theHall.Refresh()
		}
		if err != nil {
			t.Fatal(err)
		}
	})
	if theHall == nil {
		t.Fatal("there is no hall")
	}
	h = newHouse(t, "")
	folder := t.TempDir()
	token := writeFile(t, filepath.Join(folder, "token"), "of-the-hall\n")
	settings := writeFile(
		t, filepath.Join(folder, "croftd.yaml"), theHall.Settings(token, filepath.Join(folder, "state"), "qemu"),
	)
	croftd = start(t, "croftd", "-settings", settings)
	h.must("cloud", "add", "hall", "-adapter", croftd.await(t, `(http://\S+)`), "-adapter-token-file", token)
	return h, croftd
}

func copyImages(from, to string) error {
	list, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, e := range list {
		if !strings.HasSuffix(e.Name(), ".qcow2") && !strings.HasSuffix(e.Name(), ".image.yaml") {
			continue
		}
		in, err := os.Open(filepath.Join(from, e.Name()))
		if err != nil {
			return err
		}
		out, err := os.Create(filepath.Join(to, e.Name()))
		if err == nil {
			_, err = io.Copy(out, in)
			out.Close()
		}
		in.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// TestARealMachineIsLaunchedReadRotatedAndEnded does the whole job on a virtual machine with Debian's own cloud-init,
// OpenSSH and guest agent.
func TestARealMachineIsLaunchedReadRotatedAndEnded(t *testing.T) {
	h, _ := realMachines(t)
	for _, k := range []string{"mine", "second"} {
		h.must("key", "new", k)
		h.must("prove", k, "-with", h.private(k))
	}
	fmt.Println(h.must(
		"instance", "launch", "door", "-cloud", "hall", "-image", "debian-12", "-size", "small", "-key", "mine", "-key",
		"second", "-steward",
	))
	for _, k := range []string{"mine", "second"} {
		if out, err := h.ssh(h.instance("door"), k, "id -un"); err != nil || out != "debian" {
			t.Errorf("%s: %v %s", k, err, out)
		}
	}
	fmt.Println(h.client("sweep", "door", "-whole").out)
	fmt.Println(h.must("openers", "door"))
	fmt.Println(h.client("access", "door").out)
}
