// Package sshio speaks SSH to instances: it checks the host key against the
// pinned ones, asks whether a public key would open a login, logs in, and reads and
// edits authorized_keys over SFTP.
package sshio

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// ErrHostKey is wrapped by the error of a host that shows a key that is not
// among the pinned ones.
var ErrHostKey = errors.New("the host key is not the pinned one")

// Target is a login and how to reach it.
type Target struct {
	User    string
	Address string
	Port    int
	// HostKeys are the pinned host keys, in the wire form.
	HostKeys [][]byte
	// Road is how the machine is reached; nil for straight, at Address and Port.
	Road Road
}

const handshakeTimeout = 15 * time.Second

// asker stands in for a private key that the service does not have. An SSH
// client first asks, without a signature, whether a key is acceptable (RFC 4252
// section 7); when it is then told to sign, the answer was yes.
type asker struct {
	key      ssh.PublicKey
	accepted bool
}

var errAccepted = errors.New("the server accepts the key")

func (a *asker) PublicKey() ssh.PublicKey { return a.key }

func (a *asker) Sign(r io.Reader, data []byte) (*ssh.Signature, error) {
	return a.SignWithAlgorithm(r, data, "")
}

func (a *asker) SignWithAlgorithm(io.Reader, []byte, string) (*ssh.Signature, error) {
	a.accepted = true
	return nil, errAccepted
}

// Accepts asks the server whether the public key, in the wire form, would open
// the login. It needs no private key and completes no login, so a yes is no proof
// that anybody can get in.
func Accepts(ctx context.Context, t Target, blob []byte) (bool, error) {
	key, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return false, fmt.Errorf("read the public key: %w", err)
	}
	a := &asker{key: key}
	err = t.handshake(ctx, ssh.PublicKeys(a))
	if a.accepted {
		return true, nil
	}
	return false, err
}

// Answers completes the key exchange, checks the host key and sees that the
// server asks who wants to log in.
func Answers(ctx context.Context, t Target) error { return t.handshake(ctx) }

// ErrRefused is wrapped by the error of a login that the server refused.
var ErrRefused = errors.New("the SSH server refuses the login")

// handshake returns nil if the server came as far as judging the login.
func (t Target) handshake(ctx context.Context, methods ...ssh.AuthMethod) error {
	ctx, cancel := context.WithTimeout(ctx, handshakeTimeout)
	defer cancel()
	client, _, err := t.dial(ctx, methods...)
	if err == nil { // a server that asks for nothing
		client.Close()
	}
	if errors.Is(err, ErrRefused) {
		return nil
	}
	return err
}

// dial connects and logs in, and returns the host key that was shown. The
// connection ends with ctx.
func (t Target) dial(ctx context.Context, methods ...ssh.AuthMethod) (*ssh.Client, ssh.PublicKey, error) {
	conn, address, err := t.connect(ctx)
	if err != nil {
		return nil, nil, err
	}
	context.AfterFunc(ctx, func() { conn.Close() })
	if err := conn.SetDeadline(time.Now().Add(handshakeTimeout)); err != nil {
		conn.Close()
		return nil, nil, err
	}
	var shown ssh.PublicKey // set once it has proved to be a pinned one
	config := &ssh.ClientConfig{
		User:          t.User,
		Auth:          methods,
		ClientVersion: "SSH-2.0-PlumLatch",
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if err := t.checkHost(key); err != nil {
				return err
			}
			shown = key
			return nil
		},
		HostKeyAlgorithms: t.algorithms(),
	}
	raw, channels, requests, err := ssh.NewClientConn(conn, address, config)
	var timeout net.Error
	switch {
	case err == nil:
		if err := conn.SetDeadline(time.Time{}); err != nil {
			conn.Close()
			return nil, nil, err
		}
		return ssh.NewClient(raw, channels, requests), shown, nil
	case shown != nil && strings.Contains(err.Error(), "unable to authenticate"):
		err = fmt.Errorf("%w %s@%s", ErrRefused, t.User, address)
	case ctx.Err() != nil, errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, os.ErrDeadlineExceeded):
		err = fmt.Errorf("%s does not answer as an SSH server within %s", address, handshakeTimeout)
	default:
		err = fmt.Errorf("speak SSH to %s: %w", address, err)
	}
	conn.Close()
	return nil, shown, err
}

func (t Target) checkHost(key ssh.PublicKey) error {
	for _, k := range t.HostKeys {
		if string(k) == string(key.Marshal()) {
			return nil
		}
	}
	return fmt.Errorf("%w: it shows %s", ErrHostKey, ssh.FingerprintSHA256(key))
}

// algorithms asks for a kind of host key that is pinned.
func (t Target) algorithms() []string {
	var out []string
	for _, k := range t.HostKeys {
		if key, err := ssh.ParsePublicKey(k); err == nil {
			if key.Type() == ssh.KeyAlgoRSA {
				out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
				continue
			}
			out = append(out, key.Type())
		}
	}
	return out
}

// HostKeys returns the host keys that the server shows, one for
// each kind that it has. Nothing vouches for them: somebody has to compare them with
// what another way tells. User and HostKeys of the target do not count.
func HostKeys(ctx context.Context, t Target) ([]ssh.PublicKey, error) {
	var keys []ssh.PublicKey
	var last error
	for _, algorithms := range [][]string{
		{ssh.KeyAlgoED25519},
		{ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521},
		{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256},
	} {
		key, reached, err := t.shownKey(ctx, algorithms)
		if key != nil {
			keys = append(keys, key)
			continue
		}
		last = err
		if !reached {
			break
		}
	}
	if len(keys) == 0 {
		return nil, fmt.Errorf(
			"ask %s for its host keys: %w", net.JoinHostPort(t.Address, strconv.Itoa(t.Port)), last,
		)
	}
	return keys, nil
}

// HostCertificates returns the host certificates that the server shows, one for each kind that it has; none where it
// has none. Nothing vouches for them but who signed them. User and HostKeys of the target do not count.
func HostCertificates(ctx context.Context, t Target) ([]*ssh.Certificate, error) {
	var out []*ssh.Certificate
	for _, algorithms := range [][]string{
		{ssh.CertAlgoED25519v01},
		{ssh.CertAlgoECDSA256v01, ssh.CertAlgoECDSA384v01, ssh.CertAlgoECDSA521v01},
		{ssh.CertAlgoRSASHA512v01, ssh.CertAlgoRSASHA256v01},
	} {
		shown, reached, err := t.shownKey(ctx, algorithms)
		if !reached {
			return out, err
		}
		if c, ok := shown.(*ssh.Certificate); ok {
			out = append(out, c)
		}
	}
	return out, nil
}

var errShown = errors.New("the host key was shown")

func (t Target) shownKey(
	ctx context.Context, algorithms []string,
) (shown ssh.PublicKey, reached bool, err error) {
	conn, address, err := t.connect(ctx)
	if err != nil {
		return nil, false, err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(handshakeTimeout)); err != nil {
		return nil, true, err
	}
	_, _, _, err = ssh.NewClientConn(conn, address, &ssh.ClientConfig{
		ClientVersion: "SSH-2.0-PlumLatch", HostKeyAlgorithms: algorithms,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			shown = key
			return errShown
		},
	})
	return shown, true, err
}
