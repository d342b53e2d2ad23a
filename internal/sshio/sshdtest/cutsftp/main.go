// Command cutsftp is an SFTP server for tests that dies at a rename. It serves
// standard input and output. Where the file /cut says "before", it ends as it is asked to
// rename; where it says "after", it renames and ends without an answer. Either way
// the file is removed first, so that it dies once.
package main

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"io"
	"os"
	"strings"

	"github.com/pkg/sftp"
)

// extended is the type of a packet of an extension (SSH_FXP_EXTENDED of
// draft-ietf-secsh-filexfer-02, section 8).
const extended = 200

type stream struct {
	in      *bufio.Reader
	pending bytes.Buffer // of the packet that is being handed on
	renamed bool
}

func (s *stream) Read(p []byte) (int, error) {
	if s.pending.Len() == 0 {
		if err := s.next(); err != nil {
			return 0, err
		}
	}
	return s.pending.Read(p)
}

// next takes one packet from standard input.
func (s *stream) next() error {
	var length [4]byte
	if _, err := io.ReadFull(s.in, length[:]); err != nil {
		return err
	}
	packet := make([]byte, binary.BigEndian.Uint32(length[:]))
	if _, err := io.ReadFull(s.in, packet); err != nil {
		return err
	}
	if len(packet) > 0 && packet[0] == extended && bytes.Contains(packet, []byte("posix-rename@openssh.com")) {
		how, err := os.ReadFile("/cut")
		if err == nil && os.Remove("/cut") == nil {
			if strings.TrimSpace(string(how)) == "before" {
				os.Exit(1)
			}
			s.renamed = true
		}
	}
	s.pending.Write(length[:])
	s.pending.Write(packet)
	return nil
}

func (s *stream) Write(p []byte) (int, error) {
	if s.renamed { // what would be the answer
		os.Exit(1)
	}
	return os.Stdout.Write(p)
}

func (s *stream) Close() error { return nil }

func main() {
	server, err := sftp.NewServer(&stream{in: bufio.NewReader(os.Stdin)})
	if err != nil || server.Serve() != nil {
		os.Exit(1)
	}
}
