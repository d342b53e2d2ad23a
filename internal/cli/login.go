package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
)

// errNotTried is wrapped by what kept a login from being tried at all.
var errNotTried = errors.New("it was not possible from here")

// tryLogin completes a login with the private half in the file, and returns
// nil only if that succeeded. The host must show a pinned key.
func tryLogin(ctx context.Context, c apiclient.Connection, file string) error {
	data, err := readable(file)
	if err != nil {
		return err
	}
	signer, err := ssh.ParsePrivateKey(data)
	if err != nil {
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) {
			return fmt.Errorf("%w: %s has a passphrase", errNotTried, file)
		}
		return fmt.Errorf("%w: %s cannot be read: %w", errNotTried, file, err)
	}
	pins := map[string]bool{}
	var algorithms []string
	for _, h := range c.HostKeys {
		pins[h.Sha256] = true
		algorithms = append(algorithms, h.Algorithm)
	}
	config := &ssh.ClientConfig{
		User: c.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, Timeout: 10 * time.Second, HostKeyAlgorithms: algorithms,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if !pins[ssh.FingerprintSHA256(key)] {
				return fmt.Errorf("the host key %s is not the pinned one", ssh.FingerprintSHA256(key))
			}
			return nil
		},
	}
	address := net.JoinHostPort(c.Address, strconv.Itoa(c.Port))
	conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", address)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(15 * time.Second)); err != nil {
		return err
	}
	client, channels, requests, err := ssh.NewClientConn(conn, address, config)
	if err != nil {
		return err
	}
	return ssh.NewClient(client, channels, requests).Close()
}
