package main

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/internal/child"
	"plumlatch/internal/croft"
	"plumlatch/internal/hall"
	"plumlatch/internal/service/clouds"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

// enterFile is a script in the demo's folder by which another terminal gets into the hall.
const enterFile = "enter"

// hallCloud is what the service calls the real machines.
const hallCloud = "machine-hall"

// enterHall starts the demo anew in a hall. The console is served outside of it too.
func enterHall(o *settings) error {
	if hall.Inside() {
		l, err := net.FileListener(hall.Handed())
		if err != nil {
			return err
		}
		o.outside, o.listen = l, l.Addr().String()
		return nil
	}
	if !hall.Outside() {
		return hall.Enter(nil, nil)
	}
	if err := hall.WhyNot(); err != nil {
		return fmt.Errorf("-machines: %w", err)
	}
	dir, err := filepath.Abs(o.dir)
	if err != nil {
		return err
	}
	here, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	l, err := net.Listen("tcp", o.listen)
	if err != nil {
		return err
	}
	tcp, ok := l.(*net.TCPListener)
	if !ok {
		return fmt.Errorf("-listen %s is no address of TCP", o.listen)
	}
	socket, err := tcp.File()
	if err != nil {
		return err
	}
	return hall.Enter(socket, func(pid int) error {
		text := fmt.Sprintf(`#!/bin/sh
# A shell in the namespaces of the demo's machine hall, or one command there.
[ $# -gt 0 ] || set -- "${SHELL:-/bin/sh}"
exec nsenter -a -t %d sh -c 'cd "%s" && . "%s/demo.env" && exec "$@"' enter "$@"
`, pid, here, dir)
		return os.WriteFile(filepath.Join(dir, enterFile), []byte(text), 0o700)
	})
}

// machineHall is the hall of the demo with its croftd.
type machineHall struct {
	hall   *hall.Hall
	image  croft.Image
	croftd *child.Process
}

// openHall opens the hall in the demo's folder, and has the service know its croftd.
func openHall(ctx context.Context, h *house, dir, images string, log *os.File) (m *machineHall, err error) {
	folder := filepath.Join(dir, "hall")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	m = &machineHall{}
	if m.hall, err = hall.Open(folder); err != nil {
		return nil, err
	}
	var url, token string
	if m.image, err = imageIn(images); err == nil {
		err = m.hall.TakeImages(images)
	}
	if err != nil {
		err = fmt.Errorf("-machines: %w", err)
	}
	if err == nil {
		url, token, err = m.startCroftd(folder, log)
	}
	if err == nil {
		err = addHall(ctx, h, url, token)
	}
	if err != nil {
		return nil, errors.Join(err, m.close())
	}
	return m, nil
}

// imageIn reads the description of the image in a folder.
func imageIn(folder string) (i croft.Image, err error) {
	found, err := filepath.Glob(filepath.Join(folder, "*.image.yaml"))
	if err != nil || len(found) != 1 {
		return i, fmt.Errorf("%s has %d files NAME.image.yaml, want one", folder, len(found))
	}
	text, err := os.ReadFile(found[0])
	if err != nil {
		return i, err
	}
	return i, yaml.Unmarshal(text, &i)
}

// driver is that by which machines of the image run here.
func (m *machineHall) driver() croft.Driver {
	if m.image.Container {
		return croft.Containers
	}
	return croft.Emulated
}

func (m *machineHall) startCroftd(folder string, log *os.File) (url, token string, err error) {
	tokenFile, settings := filepath.Join(folder, "croftd.token"), filepath.Join(folder, "croftd.yaml")
	text, err := os.ReadFile(tokenFile)
	if err != nil {
		text = []byte(rand.Text())
		if err := os.WriteFile(tokenFile, text, 0o600); err != nil {
			return "", "", err
		}
	}
	wanted := m.hall.Settings(tokenFile, filepath.Join(folder, "croftd"), string(m.driver()))
	if err := os.WriteFile(settings, []byte(wanted), 0o600); err != nil {
		return "", "", err
	}
	self, err := os.Executable()
	if err != nil {
		return "", "", err
	}
	cmd := exec.Command(filepath.Join(filepath.Dir(self), "croftd"), "-settings", settings)
	out, inward, err := os.Pipe()
	if err != nil {
		return "", "", err
	}
	defer out.Close()
	cmd.Stdout, cmd.Stderr = inward, log
	m.croftd, err = child.Start(cmd)
	inward.Close()
	if err != nil {
		return "", "", err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return "", "", fmt.Errorf("croftd did not start; %s says why", log.Name())
	}
	return strings.TrimSpace(line), strings.TrimSpace(string(text)), nil
}

// addHall has the service know croftd, or where it is now.
func addHall(ctx context.Context, h *house, url, token string) error {
	by := people.Actor{Name: "demo", Via: "service"}
	wanted := clouds.Wanted{Name: hallCloud, Adapter: url, Token: token, Reason: "real machines for the demo"}
	_, err := h.service.Clouds.Cloud(ctx, hallCloud)
	if err == nil {
		_, err = h.service.Clouds.Change(ctx, by, hallCloud, wanted)
		return err
	}
	_, err = h.service.Clouds.Add(ctx, by, wanted)
	return err
}

// realMachines are those that the demo launches, by name.
var realMachines = []string{"hall-1", "hall-2", "hall-3"}

// launch launches the machines that are not there, and says so.
func (m *machineHall) launch(ctx context.Context, h *house) error {
	o, err := h.store.OperatorNamed(ctx, "ines")
	if err != nil {
		return err
	}
	by := people.Actor{ID: o.ID, Name: o.Name, Role: people.Role(o.Role), Via: "service"}
	begun := 0
	for _, name := range realMachines {
		_, _, err := h.service.Fleet.Launch(ctx, by, journal.IdempotencyKey{}, fleet.Launch{
			Name: name, Image: m.image.Name, Size: "small", Cloud: hallCloud, Keys: []string{"ines-main", "oona-main"},
			Steward: true, Labels: map[string]string{"team": "hall"}, Reason: "a real machine",
		})
		if p := (&problem.Problem{}); errors.As(err, &p) && p.Kind == problem.Conflict {
			continue // it is there
		}
		if err != nil {
			return err
		}
		begun++
	}
	if begun > 0 {
		fmt.Printf(
			"\n%d real machines (%s; %s) are being launched, which takes %s:\n"+
				"  bin/plumlatch run list -instance hall-1\n  bin/plumlatch openers hall-1\n",
			begun, strings.Join(realMachines, ", "), m.image.Title, takes[m.driver()],
		)
	}
	return nil
}

// takes is about how long launches take, three at once.
var takes = map[croft.Driver]string{croft.Containers: "some 20 seconds", croft.Emulated: "some two minutes, emulated"}

func (m *machineHall) close() error {
	var err error
	if m.croftd != nil {
		err = m.croftd.Stop(10 * time.Second)
	}
	fmt.Println("Stopping the real machines.")
	return errors.Join(err, m.hall.Close())
}
