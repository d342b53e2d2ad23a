package cli

import (
	"bytes"
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

// keyFile is a private half's place on this machine, held open so that the
// half can be written there whole or not at all.
type keyFile struct {
	path string
	temp *os.File
}

// reserve holds the place for a private half. It refuses a path where anything
// is already, and makes ~/.ssh with mode 0700 if that is missing.
func reserve(path string) (*keyFile, error) {
	for _, p := range []string{path, path + ".pub"} {
		if _, err := os.Lstat(p); err == nil {
			return nil, fmt.Errorf("%s is there already and is never written over; give another file with -out FILE", p)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	temp, err := os.CreateTemp(filepath.Dir(path), ".plumlatch-*") // with mode 0600
	if err != nil {
		return nil, fmt.Errorf("no place to write the private half: %w", err)
	}
	k := &keyFile{path, temp}
	// Room for the largest key, so that a full disk shows now and not later.
	if _, err := temp.Write(make([]byte, 16<<10)); err != nil {
		k.drop()
		return nil, fmt.Errorf("no place to write the private half: %w", err)
	}
	return k, nil
}

// keep writes both halves. A file that somebody put there meanwhile stays.
func (k *keyFile) keep(private []byte, public keypair.Public) error {
	defer k.drop()
	if err := errors.Join(k.temp.Truncate(0), seekStart(k.temp)); err != nil {
		return err
	}
	if _, err := k.temp.Write(private); err != nil {
		return err
	}
	if err := k.temp.Sync(); err != nil {
		return err
	}
	if err := os.Link(k.temp.Name(), k.path); err != nil {
		return fmt.Errorf("write %s: %w", k.path, err)
	}
	pub, err := os.OpenFile(k.path+".pub", os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
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

// drop gives the place up.
func (k *keyFile) drop() {
	k.temp.Close()
	os.Remove(k.temp.Name())
}

// remove takes both halves away again.
func (k *keyFile) remove() error { return errors.Join(os.Remove(k.path), os.Remove(k.path+".pub")) }

// keyDirs are the folders where this machine's keys are looked for: ~/.ssh, and
// those in PLUMLATCH_KEYS.
func (s *session) keyDirs() []string {
	var dirs []string
	if home, err := s.home(); err == nil {
		dirs = append(dirs, filepath.Join(home, ".ssh"))
	}
	return append(dirs, filepath.SplitList(s.env.Getenv("PLUMLATCH_KEYS"))...)
}

// findPrivate returns the file that holds the private half of the key with the
// fingerprint, told by the .pub file beside it; "" if this machine has none.
func (s *session) findPrivate(sha256 string) string {
	for _, dir := range s.keyDirs() {
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

// shown writes a path for people, from the home folder where it lies below it.
// A shell reads it as well.
func (s *session) shown(path string) string {
	home, err := s.home()
	if err != nil {
		return shellWord(path)
	}
	if below, ok := strings.CutPrefix(path, home+"/"); ok && shellWord(below) == below {
		return "~/" + below
	}
	return shellWord(path)
}

// shellWord quotes s for a shell where it needs it.
func shellWord(s string) string {
	plain := strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("/._-+@:~=", r))
	}) < 0
	if plain && s != "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// passphrase reads one from the file, or asks twice; nil means none.
func (s *session) passphrase(ask bool, file string) ([]byte, error) {
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
	first, err := s.askSecret("Passphrase for the private half: ")
	if err != nil {
		return nil, err
	}
	second, err := s.askSecret("Again: ")
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(first, second) {
		return nil, errors.New("the two passphrases differ; nothing was made")
	}
	if len(first) == 0 {
		return nil, errors.New("the passphrase is empty; leave -passphrase out for none")
	}
	return first, nil
}

// fileFor returns a private half on this machine that should open, before all
// one of a key that was seen in place.
func (s *session) fileFor(openers []apiclient.Opening) string {
	second := ""
	for _, o := range openers {
		file := s.findPrivate(o.Key.Sha256)
		if file == "" || o.GrantedAt == nil {
			continue
		}
		if o.Fit == apiclient.FitInPlace {
			return file
		}
		second = file
	}
	return second
}

// readKeyFile reads a key file of either kind. A closed private half asks for
// its passphrase, on a terminal; with mustOpen it is an error if that cannot be.
func (s *session) readKeyFile(path, passphraseFile string, mustOpen bool) (keyOnDisk, error) {
	k := keyOnDisk{path: path}
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
	k.mode = info.Mode().Perm()
	if k.text, err = io.ReadAll(io.LimitReader(f, keypair.MaxTextBytes+1)); err != nil {
		return k, err
	}
	if !keypair.HoldsPrivate(string(k.text)) {
		k.public, err = keypair.ReadPublic(string(k.text))
		return k, wrapFile(path, err)
	}
	if k.passphrase, err = s.passphrase(false, passphraseFile); err != nil {
		return k, err
	}
	file, err := keypair.ReadPrivate(k.text, k.passphrase)
	if errors.Is(err, keypair.ErrPassphraseNeeded) && isTerminal(s.env.In) {
		if k.passphrase, err = s.askSecret("Passphrase for " + path + ": "); err != nil {
			return k, err
		}
		file, err = keypair.ReadPrivate(k.text, k.passphrase)
	}
	k.private = &file
	if errors.Is(err, keypair.ErrPassphraseNeeded) && !mustOpen {
		k.sealed, err = true, nil
	}
	if errors.Is(err, keypair.ErrPassphraseNeeded) {
		err = fmt.Errorf("%w: give it with -passphrase-file FILE", err)
	}
	return k, wrapFile(path, err)
}

// keyOnDisk is a key file as it was found.
type keyOnDisk struct {
	path    string
	text    []byte
	mode    fs.FileMode
	private *keypair.PrivateFile // nil for a public half
	public  keypair.PublicFile   // of a public half
	// passphrase is what opened the private half.
	passphrase []byte
	// sealed is whether the private half stayed closed for want of a passphrase.
	sealed bool
}

func (k keyOnDisk) key() keypair.Public {
	if k.private != nil {
		return k.private.Public
	}
	return k.public.Public
}

func wrapFile(path string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", path, err)
}
