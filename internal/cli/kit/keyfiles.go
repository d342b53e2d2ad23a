package kit

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
)

// KeyFile is a private key's place on this machine, held open so that the
// the pair can be written there whole or not at all.
type KeyFile struct {
	Path string
	temp *os.File
}

// Reserve holds the place for a private key. It refuses a path where anything
// is already, and makes ~/.ssh with mode 0700 if that is missing.
func Reserve(path string) (*KeyFile, error) {
	for _, p := range []string{path, path + ".pub"} {
		if _, err := os.Lstat(p); err == nil {
			return nil, Conflict("file-exists", p+" exists, and files are never overwritten", "Give another file: -out FILE")
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	temp, err := os.CreateTemp(filepath.Dir(path), ".plumlatch-*") // with mode 0600
	if err != nil {
		return nil, fmt.Errorf("no place to write the private key: %w", err)
	}
	k := &KeyFile{path, temp}
	// Room for the largest key, so that a full disk shows now and not later.
	if _, err := temp.Write(make([]byte, 16<<10)); err != nil {
		k.Drop()
		return nil, fmt.Errorf("no place to write the private key: %w", err)
	}
	return k, nil
}

// Keep writes both files. A file that somebody put there meanwhile stays.
func (k *KeyFile) Keep(private []byte, public keypair.Public) error {
	defer k.Drop()
	if err := errors.Join(k.temp.Truncate(0), seekStart(k.temp)); err != nil {
		return err
	}
	if _, err := k.temp.Write(private); err != nil {
		return err
	}
	if err := k.temp.Sync(); err != nil {
		return err
	}
	if err := os.Link(k.temp.Name(), k.Path); err != nil {
		return fmt.Errorf("write %s: %w", k.Path, err)
	}
	pub, err := os.OpenFile(k.Path+".pub", os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = pub.WriteString(public.Line() + "\n")
	return errors.Join(err, pub.Close())
}

func seekStart(f *os.File) error {
	_, err := f.Seek(0, 0)
	return err
}

// Drop gives the place up.
func (k *KeyFile) Drop() {
	k.temp.Close()
	os.Remove(k.temp.Name())
}

// Remove removes both files.
func (k *KeyFile) Remove() error { return errors.Join(os.Remove(k.Path), os.Remove(k.Path+".pub")) }

// KeyDirs are the folders where this machine's keys are looked for: ~/.ssh, and
// those in PLUMLATCH_KEYS.
func (s *Session) KeyDirs() []string {
	var dirs []string
	if home, err := s.Home(); err == nil {
		dirs = append(dirs, filepath.Join(home, ".ssh"))
	}
	return append(dirs, filepath.SplitList(s.Env.Getenv("PLUMLATCH_KEYS"))...)
}

// FindPrivate returns the file that holds the private key of the key with the
// fingerprint, told by the .pub file beside it; "" if this machine has none.
func (s *Session) FindPrivate(sha256 string) string {
	for _, dir := range s.KeyDirs() {
		pubs, err := filepath.Glob(filepath.Join(dir, "*.pub"))
		if err != nil {
			continue
		}
		for _, pub := range pubs {
			data, err := os.ReadFile(pub)
			if err != nil || len(data) > keypair.MaxTextBytes {
				continue
			}
			k, err := keypair.ReadLine(string(data))
			if err != nil || keypair.FormatSHA256(k.SHA256()) != sha256 {
				continue
			}
			private := strings.TrimSuffix(pub, ".pub")
			if _, err := os.Stat(private); err == nil {
				return private
			}
		}
	}
	return ""
}

// Shown writes a path for people, from the home folder where it lies below it.
// A shell reads it as well.
func (s *Session) Shown(path string) string {
	home, err := s.Home()
	if err != nil {
		return ShellWord(path)
	}
	if below, ok := strings.CutPrefix(path, home+"/"); ok && ShellWord(below) == below {
		return "~/" + below
	}
	return ShellWord(path)
}

// ShellWord quotes s for a shell where it needs it.
func ShellWord(s string) string {
	plain := strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("/._-+@:~=", r))
	}) < 0
	if plain && s != "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// Passphrase reads one from the file, or asks twice; nil means none.
func (s *Session) Passphrase(ask bool, file string) ([]byte, error) {
	if file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("read the passphrase: %w", err)
		}
		data = bytes.TrimRight(data, "\r\n")
		if len(data) == 0 {
			return nil, fmt.Errorf("the passphrase file %s is empty", file)
		}
		return data, nil
	}
	if !ask {
		return nil, nil
	}
	first, err := s.AskSecret("Passphrase for the private key: ")
	if err != nil {
		return nil, err
	}
	second, err := s.AskSecret("Again: ")
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(first, second) {
		return nil, Failed("passphrases-differ", "the two passphrases differ; nothing was made", "Try again")
	}
	if len(first) == 0 {
		return nil, Failed("empty-passphrase", "the passphrase is empty", "For none, leave out -passphrase")
	}
	return first, nil
}

// FileFor returns a private key on this machine that should open, before all
// one of a key that was seen in place.
func (s *Session) FileFor(openers []apiclient.Opening) string {
	second := ""
	for _, o := range openers {
		file := s.FindPrivate(o.Key.Sha256)
		if file == "" || o.GrantedAt == nil {
			continue
		}
		if o.Status == apiclient.StatusInPlace {
			return file
		}
		second = file
	}
	return second
}

// Identity returns a file for ssh's -i that stands for a private key which should open: one on this machine, or
// the public key of one that the ssh-agent holds, which ssh then signs with. "" where there is none.
func (s *Session) Identity(openers []apiclient.Opening, held AgentFlags) (string, error) {
	if file := s.FileFor(openers); file != "" && !held.Use {
		return file, nil
	}
	if !held.Use && s.Env.Getenv("SSH_AUTH_SOCK") == "" {
		return "", nil
	}
	keys, err := s.AgentKeys(held)
	if err != nil {
		if held.Use {
			return "", err
		}
		return "", nil
	}
	for _, o := range openers {
		for _, k := range keys {
			if o.Key.Sha256 == keypair.FormatSHA256(k.SHA256()) && o.Status != apiclient.StatusMissing {
				return s.AgentIdentity(k)
			}
		}
	}
	return "", nil
}

// AgentIdentity writes the public key of one that the ssh-agent holds to a file for ssh's -i, and returns it.
func (s *Session) AgentIdentity(k keypair.Public) (string, error) {
	dir, err := s.ConfigDir()
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "agent", hex.EncodeToString(k.SHA256()[:8])+".pub")
	return path, WriteWhole(path, k.Line()+"\n")
}

// WriteWhole writes a file with mode 0600, whole or not at all.
func WriteWhole(path, text string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	temp, err := os.CreateTemp(filepath.Dir(path), ".plumlatch-*")
	if err != nil {
		return err
	}
	defer os.Remove(temp.Name())
	_, err = temp.WriteString(text)
	if err := errors.Join(err, temp.Sync(), temp.Close()); err != nil {
		return err
	}
	return os.Rename(temp.Name(), path)
}

// ReadKeyFile reads a key file of either kind. A closed private key asks for
// its passphrase, on a terminal; with mustOpen it is an error if that cannot be.
func (s *Session) ReadKeyFile(path, passphraseFile string, mustOpen bool) (KeyOnDisk, error) {
	k := KeyOnDisk{Path: path}
	f, err := os.Open(path)
	if err != nil {
		return k, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return k, err
	}
	if !info.Mode().IsRegular() {
		return k, fmt.Errorf("%s is not a file", path)
	}
	k.Mode = info.Mode().Perm()
	if k.Text, err = io.ReadAll(io.LimitReader(f, keypair.MaxTextBytes+1)); err != nil {
		return k, err
	}
	if !keypair.HoldsPrivate(string(k.Text)) {
		k.Public, err = keypair.ReadPublic(string(k.Text))
		return k, WrapFile(path, err)
	}
	if k.Passphrase, err = s.Passphrase(false, passphraseFile); err != nil {
		return k, err
	}
	file, err := keypair.ReadPrivate(k.Text, k.Passphrase)
	if errors.Is(err, keypair.ErrPassphraseNeeded) && IsTerminal(s.Env.In) {
		if k.Passphrase, err = s.AskSecret("Passphrase for " + path + ": "); err != nil {
			return k, err
		}
		file, err = keypair.ReadPrivate(k.Text, k.Passphrase)
	}
	k.Private = &file
	if errors.Is(err, keypair.ErrPassphraseNeeded) && !mustOpen {
		k.Encrypted, err = true, nil
	}
	if errors.Is(err, keypair.ErrPassphraseNeeded) {
		err = fmt.Errorf("%w: give it with -passphrase-file FILE", err)
	}
	return k, WrapFile(path, err)
}

// KeyOnDisk is a key file as it was found.
type KeyOnDisk struct {
	Path    string
	Text    []byte
	Mode    fs.FileMode
	Private *keypair.PrivateFile // nil for a public key
	Public  keypair.PublicFile   // of a public key
	// Passphrase is what opened the private key.
	Passphrase []byte
	// Encrypted is whether the private key stayed closed for want of a passphrase.
	Encrypted bool
}

func (k KeyOnDisk) Key() keypair.Public {
	if k.Private != nil {
		return k.Private.Public
	}
	return k.Public.Public
}

func WrapFile(path string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", path, err)
}

// NoPrivateKey is the failure that no private key of a kind was found on this machine.
func NoPrivateKey(which string) error {
	return Missing(
		"no-private-key", "no private key "+which+" was found on this machine",
		"Say where it is: -with FILE, or -agent for the keys of the ssh-agent",
	)
}
