package sshio

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"net"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

func newSigner(t testing.TB) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// serve runs an SSH server that accepts the keys, and returns it as a target.
// completed is called for every login that went through.
func serve(t *testing.T, completed func(), accepted ...ssh.PublicKey) Target {
	t.Helper()
	host := newSigner(t)
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		for _, k := range accepted {
			if string(k.Marshal()) == string(key.Marshal()) {
				return nil, nil
			}
		}
		return nil, errors.New("no")
	}}
	config.AddHostKey(host)
	target := listen(t, func(c net.Conn) {
		if _, _, _, err := ssh.NewServerConn(c, config); err == nil {
			completed()
		}
	})
	target.HostKeys = [][]byte{host.PublicKey().Marshal()}
	return target
}

func listen(t *testing.T, handle func(net.Conn)) Target {
	t.Helper()
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				handle(c)
			}()
		}
	}()
	return Target{User: "debian", Address: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port}
}

func TestAcceptsAsksForAKeyWithoutLoggingIn(t *testing.T) {
	known, unknown := newSigner(t).PublicKey(), newSigner(t).PublicKey()
	weak, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	rsaKey, err := ssh.NewPublicKey(weak.Public())
	if err != nil {
		t.Fatal(err)
	}
	target := serve(t, func() { t.Error("a login was completed") }, known, rsaKey)
	for _, c := range []struct {
		name string
		key  ssh.PublicKey
		want bool
	}{{"known", known, true}, {"unknown", unknown, false}, {"rsa", rsaKey, true}} {
		if got, err := Accepts(t.Context(), target, c.key.Marshal()); err != nil || got != c.want {
			t.Errorf("%s: %v %v", c.name, got, err)
		}
	}
	if err := Answers(t.Context(), target); err != nil {
		t.Errorf("Answers: %v", err)
	}
	if _, err := Accepts(t.Context(), target, []byte("not a key")); err == nil {
		t.Error("a blob that is no key was asked for")
	}
}

func TestAnotherHostKeyIsAnErrorBeforeAnyKeyIsOffered(t *testing.T) {
	key := newSigner(t).PublicKey()
	target := serve(t, func() {}, key)
	target.HostKeys = [][]byte{newSigner(t).PublicKey().Marshal()}
	if got, err := Accepts(t.Context(), target, key.Marshal()); got || !errors.Is(err, ErrHostKey) {
		t.Errorf("%v %v", got, err)
	}
	target.HostKeys = nil
	if err := Answers(t.Context(), target); !errors.Is(err, ErrHostKey) {
		t.Errorf("without any pinned key: %v", err)
	}
}

func TestAHostThatDoesNotSpeakSSHIsAnErrorInTime(t *testing.T) {
	stop := make(chan struct{})
	defer close(stop)
	mute := listen(t, func(net.Conn) { <-stop })
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if err := Answers(ctx, mute); err == nil || !strings.Contains(err.Error(), "does not answer as an SSH server") {
		t.Errorf("a mute host: %v", err)
	}
	web := listen(t, func(c net.Conn) { c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n")) })
	if err := Answers(t.Context(), web); err == nil {
		t.Error("a web server passed for an SSH server")
	}
	mute.Port = 1
	if err := Answers(t.Context(), mute); err == nil || !strings.Contains(err.Error(), "reach 127.0.0.1:1") {
		t.Errorf("a closed port: %v", err)
	}
}
