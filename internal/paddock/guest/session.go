package guest

import (
	"encoding/binary"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/term"
)

// session is one session channel: an sftp subsystem, one command, or a shell.
type session struct {
	server  *Server
	user    string
	channel ssh.Channel
	pty     bool
	// input is what a command reads.
	input io.Reader
}

func (s *session) serve(requests <-chan *ssh.Request) {
	for r := range requests {
		switch r.Type {
		case "pty-req":
			s.pty = true
			r.Reply(true, nil)
		case "env", "window-change":
			r.Reply(true, nil)
		case "shell":
			r.Reply(true, nil)
			go s.finish(s.shell)
		case "exec":
			command := textOf(r.Payload)
			r.Reply(true, nil)
			go s.finish(func() int { return s.execute(s.user, command, s.channel, s.channel.Stderr()) })
		case "subsystem":
			if textOf(r.Payload) != "sftp" {
				r.Reply(false, nil)
				continue
			}
			r.Reply(true, nil)
			go s.finish(s.sftp)
		default:
			r.Reply(false, nil)
		}
	}
}

func textOf(payload []byte) string {
	if len(payload) < 4 || int(binary.BigEndian.Uint32(payload)) != len(payload)-4 {
		return ""
	}
	return string(payload[4:])
}

func (s *session) finish(do func() int) {
	status := do()
	s.channel.SendRequest("exit-status", false, binary.BigEndian.AppendUint32(nil, uint32(status)))
	s.channel.Close()
}

func (s *session) sftp() int {
	v := &View{Disk: s.server.disk, User: s.user}
	server := sftp.NewRequestServer(
		s.channel, sftp.Handlers{FileGet: v, FilePut: v, FileCmd: v, FileList: v},
		sftp.WithStartDirectory(HomeOf(s.user)),
	)
	if err := server.Serve(); err != nil && err != io.EOF {
		return 1
	}
	return 0
}

// rootFiles is OpenSSH's sftp-server -R as root: it reads all and changes nothing.
func (s *session) rootFiles() int {
	v := &View{Disk: s.server.disk, User: "root"}
	server := sftp.NewRequestServer(
		s.channel,
		sftp.Handlers{FileGet: v, FilePut: noWrite{}, FileCmd: noWrite{}, FileList: v},
	)
	if err := server.Serve(); err != nil && err != io.EOF {
		return 1
	}
	return 0
}

type noWrite struct{}

func (noWrite) Filewrite(*sftp.Request) (io.WriterAt, error) {
	return nil, sftp.ErrSSHFxPermissionDenied
}
func (noWrite) Filecmd(*sftp.Request) error { return sftp.ErrSSHFxPermissionDenied }

func (s *session) shell() int {
	if !s.pty {
		data, err := io.ReadAll(io.LimitReader(s.channel, 1<<20))
		if err != nil {
			return 1
		}
		status := 0
		for l := range strings.Lines(string(data)) {
			if strings.HasPrefix(strings.TrimSpace(l), "exit") {
				break
			}
			status = s.execute(s.user, l, s.channel, s.channel.Stderr())
		}
		return status
	}
	sign := "$"
	if s.user == "root" {
		sign = "#"
	}
	t := term.NewTerminal(s.channel, fmt.Sprintf("%s@%s:~%s ", s.user, s.server.hostname, sign))
	fmt.Fprintf(
		t,
		"This is %s, a stand-in instance. Known commands: %s\n", s.server.hostname, strings.Join(commandNames, " "),
	)
	status := 0
	for {
		l, err := t.ReadLine()
		if err != nil {
			return status
		}
		if f := strings.Fields(l); len(f) > 0 && (f[0] == "exit" || f[0] == "logout") {
			return status
		}
		status = s.execute(s.user, l, t, t)
	}
}

var commandNames = []string{
	"whoami",
	"hostname",
	"uptime",
	"ls",
	"cat",
	"echo",
	"id",
	"pwd",
	"uname",
	"date",
	"true",
	"false",
	"sudo",
	"stat",
	"dd",
	"chmod",
	"mv",
	"rm",
	"mkdir",
	"tee",
	"chpasswd",
	"sync",
	"systemctl",
	"exit",
}

// execute runs one line: commands joined by ";" or "&&", each without any other shell syntax than an
// end of >/dev/null.
func (s *session) execute(user, line string, out, errs io.Writer) int {
	status := 0
	for _, part := range strings.Split(strings.ReplaceAll(line, "&&", ";&"), ";") {
		only, conditional := strings.CutPrefix(part, "&")
		only, silent := strings.CutSuffix(strings.TrimSpace(only), ">/dev/null")
		to := out
		if silent {
			to = io.Discard
		}
		if args := strings.Fields(only); len(args) > 0 && (!conditional || status == 0) {
			status = s.command(user, args, to, errs)
		}
	}
	return status
}

func (s *session) command(user string, args []string, out, errs io.Writer) int {
	v := &View{Disk: s.server.disk, User: user}
	fail := func(err error) int {
		fmt.Fprintf(errs, "%s: %v\n", args[0], err)
		return 1
	}
	switch args[0] {
	case "whoami":
		fmt.Fprintln(out, user)
	case "hostname":
		fmt.Fprintln(out, s.server.hostname)
	case "uptime":
		fmt.Fprintf(out, "up %s\n", time.Since(s.server.booted).Round(time.Second))
	case "id":
		n := s.server.disk.uidOf(user)
		if len(args) == 2 && args[1] == "-Gn" {
			fmt.Fprintln(out, user)
			break
		}
		fmt.Fprintf(out, "uid=%d(%s) gid=%d(%s)\n", n, user, n, user)
	case "getent":
		data, err := v.Read("/etc/" + args[len(args)-1])
		if err != nil {
			return fail(err)
		}
		out.Write(data)
	case "/usr/lib/openssh/sftp-server":
		if s.channel == nil || user != "root" {
			return 1
		}
		return s.rootFiles()
	case "pwd":
		fmt.Fprintln(out, HomeOf(user))
	case "uname":
		fmt.Fprintln(out, "Linux")
	case "date":
		fmt.Fprintln(out, time.Now().UTC().Format(time.RFC1123))
	case "true", "exit":
	case "false":
		return 1
	case "echo":
		fmt.Fprintln(out, strings.Join(args[1:], " "))
	case "sudo":
		list := false
		for args = args[1:]; len(args) > 0 && strings.HasPrefix(args[0], "-"); {
			list = list || args[0] == "-l"
			args = args[1:]
		}
		if list {
			fmt.Fprintln(out, strings.Join(args, " "))
			break
		}
		if len(args) > 0 {
			return s.command("root", args, out, errs)
		}
	case "ls":
		dir := HomeOf(user)
		if len(args) > 1 {
			dir = absolute(args[len(args)-1], user)
		}
		entries, err := v.list(dir)
		if err != nil {
			return fail(err)
		}
		for _, e := range entries {
			if !strings.HasPrefix(e.Name(), ".") || strings.Contains(strings.Join(args[1:], " "), "-a") {
				fmt.Fprintln(out, e.Name())
			}
		}
	case "cat":
		for _, name := range args[1:] {
			data, err := v.Read(absolute(name, user))
			if err != nil {
				return fail(err)
			}
			out.Write(data)
		}
	case "stat", "dd", "chmod", "mv", "rm", "mkdir", "tee", "chpasswd", "sync", "systemctl":
		if err := s.manage(v, args, out); err != nil {
			return fail(err)
		}
	default:
		fmt.Fprintf(errs, "%s: command not found (this is a stand-in instance)\n", args[0])
		return 127
	}
	return 0
}

func absolute(name, user string) string {
	name = strings.Replace(name, "~", HomeOf(user), 1)
	if !path.IsAbs(name) {
		name = HomeOf(user) + "/" + name
	}
	return path.Clean(name)
}
