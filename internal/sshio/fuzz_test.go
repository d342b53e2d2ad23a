package sshio

import (
	"encoding/binary"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/authorizedkeys"
)

// answering is an SSH server whose SFTP gives what it was told to, packet by packet.
type answering struct {
	mu      sync.Mutex
	answers []byte
}

func (a *answering) set(answers []byte) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.answers = answers
}

// serve answers each request with the type, the length and the bytes that come next
// (draft-ietf-secsh-filexfer-02), and ends when there are none.
func (a *answering) serve(channel ssh.Channel) {
	defer channel.Close()
	a.mu.Lock()
	answers := a.answers
	a.mu.Unlock()
	for first := true; ; first = false {
		var head [4]byte
		if _, err := io.ReadFull(channel, head[:]); err != nil {
			return
		}
		request := make([]byte, binary.BigEndian.Uint32(head[:]))
		if _, err := io.ReadFull(channel, request); err != nil {
			return
		}
		if first {
			channel.Write([]byte{0, 0, 0, 5, 2, 0, 0, 0, 3}) // SSH_FXP_VERSION 3
			continue
		}
		if len(answers) < 2 || len(request) < 5 {
			return
		}
		kind, size := answers[0], min(int(answers[1]), len(answers)-2)
		body := answers[2 : 2+size]
		answers = answers[2+size:]
		packet := append(binary.BigEndian.AppendUint32(nil, uint32(1+4+size)), kind)
		packet = append(append(packet, request[1:5]...), body...)
		if _, err := channel.Write(packet); err != nil {
			return
		}
	}
}

func (a *answering) accept(t testing.TB, conn net.Conn) {
	config := &ssh.ServerConfig{NoClientAuth: true}
	config.AddHostKey(newSigner(t))
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	defer server.Close()
	go ssh.DiscardRequests(requests)
	for c := range channels {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				r.Reply(r.Type == "subsystem", nil)
				if r.Type == "subsystem" {
					go a.serve(channel)
				}
			}
		}()
	}
}

// FuzzSFTPAnswers reads and edits a login's files on a machine that answers anything.
func FuzzSFTPAnswers(f *testing.F) {
	text := func(s string) []byte { return append(binary.BigEndian.AppendUint32(nil, uint32(len(s))), s...) }
	packet := func(kind byte, body []byte) []byte { return append([]byte{kind, byte(len(body))}, body...) }
	name := packet(104, append([]byte{0, 0, 0, 1}, append(append(text("/home/warden"), text("")...), 0, 0, 0, 0)...))
	status := func(code byte) []byte {
		return packet(101, append([]byte{0, 0, 0, code}, append(text("no\x1b[2J"), text("")...)...))
	}
	folder := packet(105, []byte{0, 0, 0, 6, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x41, 0xc0})
	file := packet(105, []byte{0, 0, 0, 7, 0, 0, 0, 0, 0, 0, 0, 9, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x81, 0x80})
	handle, data := packet(102, text("h")), packet(103, text("# by hand"))
	f.Add(append(name, status(2)...))
	whole := append(append(name, status(2)...), folder...)
	for range 4 {
		whole = append(whole, folder...)
	}
	whole = append(append(append(append(whole, file...), handle...), file...), data...)
	f.Add(append(whole, status(1)...))
	f.Add(packet(103, []byte{0xff, 0xff, 0xff, 0xff}))
	f.Add(packet(104, []byte{0xff, 0xff, 0xff, 0xff, 0, 0, 0, 1}))
	f.Add(packet(105, []byte{0xff, 0xff, 0xff, 0xff}))
	a := &answering{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go a.accept(f, conn)
		}
	}()
	client, err := ssh.Dial(
		"tcp", l.Addr().String(),
		&ssh.ClientConfig{User: "warden", HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 10 * time.Second},
	)
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { client.Close() })
	f.Fuzz(func(t *testing.T, answers []byte) {
		a.set(answers)
		for _, use := range []func(s *Session) error{
			func(s *Session) error {
				files, err := s.ReadAll()
				for _, file := range files {
					if len(file.Content) > MaxFileBytes {
						t.Errorf("%d bytes were read of %s", len(file.Content), file.Path)
					}
				}
				return err
			},
			func(s *Session) error { _, err := s.Folders(); return err },
			func(s *Session) error {
				return s.EditAll(func(_ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
					return f.Add("# a line"), nil
				})
			},
		} {
			s := &Session{client: client, user: "warden", at: time.Now()}
			if err := use(s); err != nil {
				for _, c := range err.Error() {
					if c < ' ' || c == 0x7f {
						t.Errorf("an error holds control characters: %q", err)
						break
					}
				}
			}
			if s.files != nil {
				s.files.Close()
			}
		}
	})
}
