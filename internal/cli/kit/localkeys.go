package kit

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

// LocalKeyFlags say where a private key is that is at hand here.
type LocalKeyFlags struct {
	AgentFlags
	With           string
	PassphraseFile string
}

func (h *LocalKeyFlags) Flags(f *flag.FlagSet) {
	f.StringVar(&h.With, "with", "", "`file` with a private key, or a folder with several")
	f.StringVar(&h.PassphraseFile, "passphrase-file", "", "`file` with the passphrase")
	h.AgentFlags.Flags(f)
}

func (h LocalKeyFlags) Given() bool { return h.With != "" || h.Use }

// AtHand is a private key that can sign here. It is never sent anywhere.
type AtHand struct {
	ssh.Signer
	keypair.Public
	From string
	// Certificate signs with the same private key and shows an OpenSSH certificate of it, FILE-cert.pub beside the
	// file; nil where there is none. Certified is whether a login was completed by it, which shows nothing of the key.
	Certificate ssh.Signer
	Certified   bool
}

// LocalKeys returns the private keys that the flags name. close ends the
// connection to the ssh-agent.
func (s *Session) LocalKeys(h LocalKeyFlags) (signers []AtHand, close func(), err error) {
	if err := h.Check(); err != nil {
		return nil, nil, err
	}
	switch {
	case h.With != "" && h.Use:
		return nil, nil, &UsageError{"-with and -agent exclude each other"}
	case h.Use:
		return s.agentKeys(h.AgentFlags)
	}
	files := []string{h.With}
	folder := false
	if info, err := os.Stat(h.With); err == nil && info.IsDir() {
		folder = true
		if files, err = filepath.Glob(filepath.Join(h.With, "*")); err != nil {
			return nil, nil, err
		}
	}
	for _, file := range files {
		signer, err := s.FileKey(file, h.PassphraseFile, folder)
		if err != nil && !folder {
			return nil, nil, err
		}
		if err == nil {
			signers = append(signers, signer)
		}
	}
	if len(signers) == 0 {
		return nil, nil, Missing("no-private-key", "no private key in "+h.With+" can be opened here", "")
	}
	return signers, func() {}, nil
}

// FileKey opens a private key. quiet is for folders, where other files lie too
// and no passphrase is asked for.
func (s *Session) FileKey(path, passphraseFile string, quiet bool) (AtHand, error) {
	if quiet {
		text, err := os.ReadFile(path)
		if err != nil || len(text) > keypair.MaxTextBytes || !keypair.HoldsPrivate(string(text)) {
			return AtHand{}, errors.New("no private key")
		}
		file, err := keypair.ReadPrivate(text, nil)
		if err != nil {
			return AtHand{}, err
		}
		return certified(SignerOf(file.Pair, path))
	}
	k, err := s.ReadKeyFile(path, passphraseFile, true)
	if err != nil {
		return AtHand{}, err
	}
	if k.Private == nil {
		return AtHand{}, publicGiven(path)
	}
	return certified(SignerOf(k.Private.Pair, path))
}

// maxCertificate is the greatest length of a file with a certificate, in bytes.
const maxCertificate = 64 << 10

// certified adds the certificate that lies beside the private key's file, if there is one of that key.
func certified(h AtHand, err error) (AtHand, error) {
	if err != nil {
		return h, err
	}
	info, failed := os.Stat(h.From + "-cert.pub")
	if failed != nil || !info.Mode().IsRegular() || info.Size() > maxCertificate {
		return h, nil
	}
	text, failed := os.ReadFile(h.From + "-cert.pub")
	if failed != nil {
		return h, nil
	}
	key, _, _, _, failed := ssh.ParseAuthorizedKey(text)
	if c, ok := key.(*ssh.Certificate); failed == nil && ok {
		if h.Certificate, failed = ssh.NewCertSigner(c, h.Signer); failed != nil {
			h.Certificate = nil
		}
	}
	return h, nil
}

func SignerOf(pair keypair.Pair, from string) (AtHand, error) {
	text, err := pair.OpenSSH(nil)
	if err != nil {
		return AtHand{}, err
	}
	signer, err := ssh.ParsePrivateKey(text)
	clear(text)
	return AtHand{Signer: signer, Public: pair.Public, From: from}, err
}

func (s *Session) agentKeys(a AgentFlags) ([]AtHand, func(), error) {
	keys, err := s.AgentKeys(a)
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
	var out []AtHand
	for _, k := range keys {
		i := slices.IndexFunc(signers, func(g ssh.Signer) bool { return string(g.PublicKey().Marshal()) == string(k.Blob) })
		if i >= 0 {
			out = append(out, AtHand{Signer: signers[i], Public: k, From: "the ssh-agent"})
		}
	}
	return out, func() { conn.Close() }, nil
}

// Enter logs in with the first of the keys that the server takes.
func (s *Session) Enter(
	ctx context.Context, c apiclient.Connection, signers []AtHand,
) (*sshio.Session, AtHand, error) {
	t, err := s.TargetOf(c, signers)
	if err != nil {
		return nil, AtHand{}, err
	}
	var refused error
	for _, h := range signers {
		session, err := sshio.Login(ctx, t, h.Signer)
		if err == nil {
			return session, h, nil
		}
		if !errors.Is(err, sshio.ErrRefused) {
			return nil, h, err
		}
		refused = fmt.Errorf("%w with %s", err, keypair.FormatSHA256(h.SHA256()))
	}
	return nil, AtHand{}, refused
}

// EnterToHelp is Enter where it does not matter which key it is: where none is taken, their certificates are tried.
func (s *Session) EnterToHelp(
	ctx context.Context, c apiclient.Connection, signers []AtHand,
) (*sshio.Session, AtHand, error) {
	session, h, refused := s.Enter(ctx, c, signers)
	if !errors.Is(refused, sshio.ErrRefused) {
		return session, h, refused
	}
	t, err := s.TargetOf(c, signers)
	if err != nil {
		return nil, h, err
	}
	for _, h := range signers {
		if h.Certificate == nil {
			continue
		}
		session, err := sshio.Login(ctx, t, h.Certificate)
		if err == nil {
			h.Certified = true
			return session, h, nil
		}
		if !errors.Is(err, sshio.ErrRefused) {
			return nil, h, err
		}
	}
	return nil, AtHand{}, refused
}

// HostPort writes an address for people.
func HostPort(c apiclient.Connection) string {
	return net.JoinHostPort(c.Address, fmt.Sprint(c.Port))
}

func publicGiven(path string) error {
	return Failed("public-key-given", path+" is a public key", "Give the file with the private key")
}
