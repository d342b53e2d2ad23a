package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/sshio"
)

// holderFlags say where a private half is that is at hand here.
type holderFlags struct {
	agentFlags
	with           string
	passphraseFile string
}

func (h *holderFlags) flags(f *flag.FlagSet) {
	f.StringVar(&h.with, "with", "", "`file` with a private half, or a folder with several")
	f.StringVar(&h.passphraseFile, "passphrase-file", "", "`file` that holds the passphrase")
	h.agentFlags.flags(f)
}

func (h holderFlags) given() bool { return h.with != "" || h.use }

// atHand is a private half that can sign here. It is never sent anywhere.
type atHand struct {
	ssh.Signer
	keypair.Public
	from string
}

// holder returns the private halves that the flags name. close ends the
// connection to the ssh-agent.
func (s *session) holder(h holderFlags) (halves []atHand, close func(), err error) {
	if err := h.check(); err != nil {
		return nil, nil, err
	}
	switch {
	case h.with != "" && h.use:
		return nil, nil, &usageError{"-with and -agent exclude each other"}
	case h.use:
		return s.agentHalves(h.agentFlags)
	}
	files := []string{h.with}
	folder := false
	if info, err := os.Stat(h.with); err == nil && info.IsDir() {
		folder = true
		if files, err = filepath.Glob(filepath.Join(h.with, "*")); err != nil {
			return nil, nil, err
		}
	}
	for _, file := range files {
		half, err := s.fileHalf(file, h.passphraseFile, folder)
		if err != nil && !folder {
			return nil, nil, err
		}
		if err == nil {
			halves = append(halves, half)
		}
	}
	if len(halves) == 0 {
		return nil, nil, fmt.Errorf("there is no private half in %s that can be opened here", h.with)
	}
	return halves, func() {}, nil
}

// fileHalf opens a private half. quiet is for folders, where other files lie too
// and no passphrase is asked for.
func (s *session) fileHalf(path, passphraseFile string, quiet bool) (atHand, error) {
	if quiet {
		text, err := os.ReadFile(path)
		if err != nil || len(text) > keypair.MaxTextBytes || !keypair.HoldsPrivate(string(text)) {
			return atHand{}, errors.New("no private half")
		}
		file, err := keypair.ReadPrivate(text, nil)
		if err != nil {
			return atHand{}, err
		}
		return halfOf(file.Pair, path)
	}
	k, err := s.readKeyFile(path, passphraseFile, true)
	if err != nil {
		return atHand{}, err
	}
	if k.private == nil {
		return atHand{}, fmt.Errorf("%s is a public half; give the private one", path)
	}
	return halfOf(k.private.Pair, path)
}

func halfOf(pair keypair.Pair, from string) (atHand, error) {
	text, err := pair.OpenSSH(nil)
	if err != nil {
		return atHand{}, err
	}
	signer, err := ssh.ParsePrivateKey(text)
	clear(text)
	return atHand{signer, pair.Public, from}, err
}

func (s *session) agentHalves(a agentFlags) ([]atHand, func(), error) {
	keys, err := s.agentKeys(a)
	if err != nil {
		return nil, nil, err
	}
	client, conn, err := s.dialAgent()
	if err != nil {
		return nil, nil, err
	}
	signers, err := client.Signers()
	if err != nil {
		conn.Close()
		return nil, nil, fmt.Errorf("ask the ssh-agent for its keys: %w", err)
	}
	var out []atHand
	for _, k := range keys {
		i := slices.IndexFunc(signers, func(g ssh.Signer) bool { return string(g.PublicKey().Marshal()) == string(k.Blob) })
		if i >= 0 {
			out = append(out, atHand{signers[i], k, "the ssh-agent"})
		}
	}
	return out, func() { conn.Close() }, nil
}

// targetOf is how to reach a login, with the pinned host keys.
func targetOf(c apiclient.Connection) (sshio.Target, error) {
	t := sshio.Target{User: c.User, Address: c.Address, Port: c.Port}
	for _, h := range c.HostKeys {
		k, err := keypair.ReadLine(h.PublicKey)
		if err != nil {
			return t, fmt.Errorf("the pinned host key %s cannot be read: %w", h.Sha256, err)
		}
		t.HostKeys = append(t.HostKeys, k.Blob)
	}
	if len(t.HostKeys) == 0 {
		return t, errors.New("no host key is pinned, so the machine cannot be told from another")
	}
	return t, nil
}

// enter logs in with the first of the halves that the server takes.
func enter(ctx context.Context, c apiclient.Connection, halves []atHand) (*sshio.Session, atHand, error) {
	t, err := targetOf(c)
	if err != nil {
		return nil, atHand{}, err
	}
	var refused error
	for _, h := range halves {
		session, err := sshio.Login(ctx, t, h.Signer)
		if err == nil {
			return session, h, nil
		}
		if !errors.Is(err, sshio.ErrRefused) {
			return nil, h, err
		}
		refused = fmt.Errorf("%w with %s", err, keypair.FormatSHA256(h.SHA256()))
	}
	return nil, atHand{}, refused
}

// hostPort writes an address for people.
func hostPort(c apiclient.Connection) string {
	return net.JoinHostPort(c.Address, fmt.Sprint(c.Port))
}
