package guest

import (
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// direct is what a client asks for who wants to go on from here (RFC 4254 section 7.2).
type direct struct {
	Host       string
	Port       uint32
	Origin     string
	OriginPort uint32
}

// forwards is the setting of the disk's sshd_config; see sshd_config(5).
func (e *Server) forwards() bool {
	settings, err := e.disk.Root.ReadFile("etc/ssh/sshd_config")
	if err != nil {
		return true
	}
	for l := range strings.Lines(string(settings)) { // the first value counts
		if word := strings.Fields(l); len(word) == 2 && word[0] == "AllowTcpForwarding" {
			return word[1] == "yes" || word[1] == "local"
		}
	}
	return true
}

// forward connects a client with an address of the stand-in's network, from the instance's own private one.
func (e *Server) forward(ch ssh.NewChannel) {
	var to direct
	if err := ssh.Unmarshal(ch.ExtraData(), &to); err != nil {
		ch.Reject(ssh.ConnectionFailed, "the request cannot be read")
		return
	}
	ip, err := netip.ParseAddr(to.Host)
	if !e.forwards() || err != nil || !ip.IsLoopback() {
		ch.Reject(ssh.Prohibited, "open failed")
		return
	}
	from := net.Dialer{Timeout: 5 * time.Second, LocalAddr: &net.TCPAddr{IP: net.ParseIP(e.private)}}
	conn, err := from.Dial("tcp4", net.JoinHostPort(to.Host, strconv.Itoa(int(to.Port))))
	if err != nil {
		ch.Reject(ssh.ConnectionFailed, "Connection refused")
		return
	}
	channel, requests, err := ch.Accept()
	if err != nil {
		conn.Close()
		return
	}
	go ssh.DiscardRequests(requests)
	var both sync.WaitGroup
	both.Go(func() { io.Copy(channel, conn); channel.CloseWrite() })
	both.Go(func() { io.Copy(conn, channel); conn.(*net.TCPConn).CloseWrite() })
	both.Wait()
	channel.Close()
	conn.Close()
}
