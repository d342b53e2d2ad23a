// Package hall makes a machine hall of one's own, for the demo and for tests: a libvirtd that shares nothing with the
// machine that it runs on but its files, in mount, network and process namespaces of its own (namespaces(7)). Whatever
// runs in it ends with it.
package hall

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"syscall"
)

// stageVariable says in the environment how far inside a process is.
const stageVariable = "PLUMLATCH_HALL"

// Inside reports whether this process runs in a hall.
func Inside() bool { return os.Getenv(stageVariable) == "inside" }

// Outside reports whether this process is outside of any hall. What is neither outside nor inside has to call Enter.
func Outside() bool { return os.Getenv(stageVariable) == "" }

// WhyNot says why there cannot be a hall on this machine; nil where there can.
func WhyNot() error {
	if os.Getuid() != 0 {
		return errors.New("it needs root, for namespaces of its own")
	}
	c := exec.Command("/bin/true")
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWNET}
	if err := c.Run(); err != nil {
		return fmt.Errorf("namespaces of its own cannot be made: %w", err)
	}
	for _, program := range []string{"libvirtd", "qemu-system-x86_64", "dnsmasq", "ip"} {
		if _, err := exec.LookPath(program); err != nil {
			return fmt.Errorf("%s is not installed", program)
		}
	}
	return nil
}

// Enter starts this program anew in a hall, with the same arguments, and ends this process with what came of it. It
// does nothing in a process that is inside. Call it first. A file is handed in, and is Handed there: a socket that
// listens stays in the network that it was opened in. begun is told the id of a process in the namespaces.
func Enter(hand *os.File, begun func(pid int) error) error {
	switch os.Getenv(stageVariable) {
	case "inside":
		return nil
	case "first":
		return first()
	}
	runtime.LockOSThread() // the first process ends when the thread ends that has started it
	status, err := again("first", &syscall.SysProcAttr{
		Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL,
	}, hand, begun, nil)
	if err != nil {
		return err
	}
	os.Exit(status)
	return nil
}

// handed is the number of the file that is handed in, and handedVariable says in the environment that one is.
const (
	handed         = 3
	handedVariable = "PLUMLATCH_HALL_HANDED"
)

// Handed is the file that was handed to a process in a hall.
func Handed() *os.File { return os.NewFile(handed, "handed in") }

// again starts this program with another stage, passes signals on to it and returns its exit status. wait stands in for
// waiting for it alone.
func again(
	stage string, attributes *syscall.SysProcAttr, hand *os.File, begun func(pid int) error,
	wait func(pid int) (int, error),
) (int, error) {
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	c := exec.Command(self, os.Args[1:]...)
	c.Env = append(os.Environ(), stageVariable+"="+stage)
	c.Stdin, c.Stdout, c.Stderr, c.SysProcAttr = os.Stdin, os.Stdout, os.Stderr, attributes
	if hand != nil {
		c.ExtraFiles, c.Env = []*os.File{hand}, append(c.Env, handedVariable+"=yes")
	}
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	if err := c.Start(); err != nil {
		return 0, err
	}
	go func() {
		for s := range signals {
			c.Process.Signal(s) //nolint:errcheck // it may have ended
		}
	}()
	if begun != nil {
		if err := begun(c.Process.Pid); err != nil {
			c.Process.Kill() //nolint:errcheck // it is of no use
			return 0, err
		}
	}
	if wait != nil {
		return wait(c.Process.Pid)
	}
	err = c.Wait()
	if exit := (&exec.ExitError{}); errors.As(err, &exit) {
		if s, ok := exit.Sys().(syscall.WaitStatus); ok && s.Signaled() {
			return 128 + int(s.Signal()), nil
		}
		return exit.ExitCode(), nil
	}
	return 0, err
}

// first is what the first process of the namespaces does: it lays them out, and takes leave of all that end.
func first() error {
	if err := syscall.Mount("", "/", "", syscall.MS_PRIVATE|syscall.MS_REC, ""); err != nil {
		return fmt.Errorf("mounts of its own: %w", err)
	}
	if err := syscall.Mount("proc", "/proc", "proc", 0, ""); err != nil {
		return fmt.Errorf("/proc of its own: %w", err)
	}
	if out, err := exec.Command("ip", "link", "set", "lo", "up").CombinedOutput(); err != nil {
		return fmt.Errorf("loopback of its own: %w: %s", err, out)
	}
	var hand *os.File
	if os.Getenv(handedVariable) != "" {
		hand = Handed()
	}
	status, err := again("inside", nil, hand, nil, func(pid int) (int, error) {
		for {
			var s syscall.WaitStatus
			ended, err := syscall.Wait4(-1, &s, 0, nil)
			switch {
			case err == syscall.EINTR:
			case err != nil:
				return 0, err
			case ended == pid && s.Signaled():
				return 128 + int(s.Signal()), nil
			case ended == pid:
				return s.ExitStatus(), nil
			}
		}
	})
	if err != nil {
		return err
	}
	os.Exit(status)
	return nil
}
