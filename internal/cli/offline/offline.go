// Package offline holds the commands that look into, convert and repair key files on this machine, without a service.
package offline

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/weakness"
)

// OfflineCommands work on files of this machine and need no service.
var OfflineCommands = []kit.Command{
	{
		Name: "key inspect", NoNames: true, Args: "[FILE ...]", Max: -1, Flags: keyInspect,
		Summary: "Inspect key files: format, fingerprints and findings",
		Detail: `It reads private keys (OpenSSH, PEM, PKCS#8, .ppk) and public ones (one line, RFC 4716,
PEM, JWK), lists of keys such as authorized_keys, and with -agent the keys in the ssh-agent.
It needs no service. It ends with status 3 if a file is not as it should be:
a private key that others can read, a public key that does not belong to it, a broken key.`,
		Examples: []string{
			"plumlatch key inspect ~/.ssh/id_ed25519",
			"plumlatch key inspect ~/.ssh/*.pub -json",
			"plumlatch key inspect -agent",
		},
	},
	{
		Name: "key convert", NoNames: true, Args: "FILE", Min: 1, Max: 1, Flags: keyConvert,
		Summary: "Write a key in another file format",
		Detail: `Private formats: openssh, pem (PKCS#1 and SEC1), pkcs8, ppk2, ppk3. Public formats, also of
a private key: line, rfc4716, spki, jwk. A passphrase is kept unless another is asked for.
Files get the mode 0600 and are written whole or not at all, never over another one:
-replace keeps the old one beside it, with the ending .old.`,
		Examples: []string{
			"plumlatch key convert ~/.ssh/atlas -to ppk3 -out atlas.ppk",
			"plumlatch key convert old.pem -to openssh -out ~/.ssh/old -new-passphrase",
			"plumlatch key convert saved-by-windows.pub -to line",
		},
	},
	{
		Name: "key public", NoNames: true,
		Args:     "FILE",
		Min:      1,
		Max:      1,
		Flags:    keyPublic,
		Summary:  "Derive the public key of a private key",
		Examples: []string{"plumlatch key public ~/.ssh/atlas > ~/.ssh/atlas.pub"},
	},
	{
		Name: "key passphrase", NoNames: true, Args: "FILE", Min: 1, Max: 1, Flags: keyPassphrase,
		Summary: "Change or remove the passphrase of a private key",
		Detail: "The file keeps its format; classic PEM and .ppk version 2 become openssh and ppk3, whose " +
			"encryption is sound. The old file stays beside it, with the ending .old.",
		Examples: []string{"plumlatch key passphrase ~/.ssh/atlas", "plumlatch key passphrase ~/.ssh/robot -none"},
	},
}

// inspected is what key inspect says of a file.
type inspected struct {
	File       string             `json:"file"`
	Kind       string             `json:"kind"`
	Format     keypair.Format     `json:"format"`
	Type       string             `json:"type,omitempty"`
	Bits       int                `json:"bits,omitempty"`
	Encrypted  bool               `json:"encrypted"`
	Cipher     string             `json:"cipher,omitempty"`
	Comment    string             `json:"comment,omitempty"`
	SHA256     string             `json:"sha256,omitempty"`
	MD5        string             `json:"md5,omitempty"`
	SPKIMD5    string             `json:"spki_md5,omitempty"`
	PKCS8SHA1  string             `json:"pkcs8_sha1,omitempty"`
	SSHFP      string             `json:"sshfp,omitempty"`
	Mode       string             `json:"mode"`
	LineEnds   string             `json:"line_ends"`
	PublicFile string             `json:"public_file,omitempty"`
	Belongs    *bool              `json:"belongs_together,omitempty"`
	Repaired   []string           `json:"repaired,omitempty"`
	Findings   []weakness.Finding `json:"findings"`
	// Lines are those of a list of keys.
	Lines []inspectedLine `json:"lines,omitempty"`
}

// inspectedLine is one line of a list of keys: a key, or why it is none.
type inspectedLine struct {
	Line    int    `json:"line"`
	Type    string `json:"type,omitempty"`
	Bits    int    `json:"bits,omitempty"`
	SHA256  string `json:"sha256,omitempty"`
	Comment string `json:"comment,omitempty"`
	Options string `json:"options,omitempty"`
	Refused string `json:"refused,omitempty"`
}

func keyInspect(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	passphraseFile := f.String("passphrase-file", "", "`file` with the passphrase")
	var held kit.AgentFlags
	held.Flags(f)
	return func(_ context.Context, s *kit.Session, args []string) error {
		if err := held.Check(); err != nil {
			return err
		}
		if held.Use == (len(args) > 0) {
			return kit.Usage("give files, or -agent for the keys in the ssh-agent")
		}
		var all []inspected
		var keys []placedKey
		var problems []error
		if held.Use {
			found, err := s.AgentKeys(held)
			if err != nil {
				return err
			}
			for _, k := range found {
				i, err := inspect(s, kit.KeyOnDisk{Path: "in the ssh-agent", Public: keypair.PublicFile{Public: k}})
				if err != nil {
					return err
				}
				i.Kind, i.Mode, i.LineEnds = "key in the ssh-agent", "", ""
				all, keys = append(all, i), append(keys, placedKey{k, len(all), k.Comment + " in the ssh-agent"})
			}
		}
		for _, path := range args {
			k, err := s.ReadKeyFile(path, *passphraseFile, false)
			var several *keypair.Refusal
			if errors.As(err, &several) && several.Code == keypair.CodeSeveral {
				i, found, err := inspectList(k)
				if err != nil {
					return err
				}
				for _, l := range found {
					keys = append(keys, placedKey{l.Public, len(all), fmt.Sprintf("line %d of %s", l.Line, path)})
				}
				all = append(all, i)
				continue
			}
			if err != nil {
				problems = append(problems, err)
				continue
			}
			i, err := inspect(s, k)
			if err != nil {
				return err
			}
			all, keys = append(all, i), append(keys, placedKey{k.Key(), len(all), path})
		}
		judgeTogether(all, keys)
		if s.Json {
			if err := s.WriteJSON(all); err != nil {
				return err
			}
		} else {
			for n, i := range all {
				if n > 0 {
					fmt.Fprintln(s.Env.Out)
				}
				showInspected(s, i)
			}
		}
		if len(problems) > 0 {
			return errors.Join(problems...)
		}
		if slices.ContainsFunc(all, func(i inspected) bool {
			return slices.ContainsFunc(i.Findings, func(f weakness.Finding) bool { return f.Weight == weakness.Bad })
		}) {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	}
}

// placedKey is a key, which of the inspected things it is in, and its place in words.
type placedKey struct {
	keypair.Public
	in    int
	place string
}

// judgeTogether finds RSA keys among those inspected that share a prime, which
// breaks both.
func judgeTogether(all []inspected, keys []placedKey) {
	var moduli []*big.Int
	var places []placedKey
	for _, k := range keys {
		if _, m := k.RSANumbers(); m != nil {
			moduli, places = append(moduli, m), append(places, k)
		}
	}
	for _, pair := range weakness.SharedPrimes(moduli) {
		a, b := places[pair.A], places[pair.B]
		all[a.in].Findings = append(all[a.in].Findings, weakness.SharedPrimeFinding([]string{b.place}))
		all[b.in].Findings = append(all[b.in].Findings, weakness.SharedPrimeFinding([]string{a.place}))
	}
}

// inspectList says what the lines of a list of keys are.
func inspectList(k kit.KeyOnDisk) (inspected, []keypair.Listed, error) {
	i := inspected{
		File:     k.Path,
		Kind:     "list of keys",
		Mode:     fmt.Sprintf("%04o", k.Mode),
		LineEnds: lineEnds(k.Text),
		Findings: []weakness.Finding{},
	}
	listed, notes, err := keypair.ReadList(string(k.Text))
	if err != nil {
		return i, nil, kit.WrapFile(k.Path, err)
	}
	keypair.RefuseTwice(listed)
	for _, n := range notes {
		i.Repaired = append(i.Repaired, n.Text)
	}
	var keys []keypair.Listed
	for _, l := range listed {
		if l.Refused != nil {
			i.Lines = append(i.Lines, inspectedLine{Line: l.Line, Refused: l.Refused.Problem})
			continue
		}
		keys = append(keys, l)
		i.Lines = append(i.Lines, inspectedLine{
			Line:    l.Line,
			Type:    l.Type,
			Bits:    l.Bits,
			SHA256:  keypair.FormatSHA256(l.SHA256()),
			Comment: l.Comment,
			Options: l.Options,
		})
		for _, f := range weakness.Judge(l.Public) {
			if f.Weight != weakness.Remark {
				f.Text = fmt.Sprintf("line %d: %s", l.Line, f.Text)
				i.Findings = append(i.Findings, f)
			}
		}
	}
	return i, keys, nil
}

func inspect(s *kit.Session, k kit.KeyOnDisk) (inspected, error) {
	p := k.Key()
	i := inspected{
		File:     k.Path,
		Kind:     "public key",
		Format:   k.Public.Format,
		Type:     p.Type,
		Bits:     p.Bits,
		Comment:  p.Comment,
		Mode:     fmt.Sprintf("%04o", k.Mode),
		LineEnds: lineEnds(k.Text),
		Findings: []weakness.Finding{},
	}
	if len(p.Blob) > 0 {
		i.SHA256, i.MD5, i.SSHFP = keypair.FormatSHA256(p.SHA256()), keypair.FormatMD5(p.MD5()), p.SSHFP()
		if sum := p.SPKIMD5(); sum != nil {
			i.SPKIMD5 = keypair.FormatHex(sum)
		}
	}
	for _, n := range k.Public.Notes {
		i.Repaired = append(i.Repaired, n.Text)
	}
	if k.Private != nil {
		for _, n := range k.Private.Notes {
			i.Repaired = append(i.Repaired, n.Text)
			i.Findings = append(i.Findings, weakness.Finding{
				Code:   "damaged-text",
				Weight: weakness.Caution,
				Text:   "other programs may refuse the file: " + n.Text,
				Remedy: "Write it again: plumlatch key convert " + s.Shown(
					k.Path,
				) + " -to openssh -replace -out " + s.Shown(
					k.Path,
				),
			})
		}
		i.Kind, i.Format, i.Encrypted, i.Cipher = "private key", k.Private.Format, k.Private.Encrypted, k.Private.Cipher
		if !k.Encrypted {
			sum, err := k.Private.PKCS8SHA1()
			if err != nil {
				return i, err
			}
			i.PKCS8SHA1 = keypair.FormatHex(sum)
		}
		i.Findings = append(i.Findings, judgeFile(s, k)...)
		if err := comparePublic(s, k, &i); err != nil {
			return i, err
		}
		i.Findings = append(i.Findings, weakness.JudgePrivate(*k.Private)...)
	}
	if len(p.Blob) > 0 {
		i.Findings = append(i.Findings, weakness.Judge(p)...)
	}
	return i, nil
}

// judgeFile judges what only the file shows, not the key in it.
func judgeFile(s *kit.Session, k kit.KeyOnDisk) []weakness.Finding {
	var out []weakness.Finding
	if k.Mode&0o077 != 0 {
		out = append(out, weakness.Finding{
			Code:   "mode-open",
			Weight: weakness.Bad,
			Text:   fmt.Sprintf("the mode %04o lets others read it, and ssh refuses such a file", k.Mode),
			Remedy: "chmod 600 " + s.Shown(k.Path),
		})
	}
	if bytes.Contains(k.Text, []byte("\r\n")) && !strings.HasPrefix(string(k.Private.Format), "ppk") {
		out = append(out, weakness.Finding{
			Code:   "crlf",
			Weight: weakness.Caution,
			Text:   "its line ends are CRLF, which some clients refuse",
			Remedy: "plumlatch key convert " + s.Shown(
				k.Path,
			) + " -to " + string(
				k.Private.Format,
			) + " -replace -out " + s.Shown(
				k.Path,
			),
		})
	}
	return out
}

// comparePublic looks at the public key beside a private one.
func comparePublic(s *kit.Session, k kit.KeyOnDisk, i *inspected) error {
	beside := k.Path + ".pub"
	text, err := os.ReadFile(beside)
	if errors.Is(err, fs.ErrNotExist) || len(k.Key().Blob) == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	i.PublicFile = beside
	public, err := keypair.ReadPublic(string(text))
	together := err == nil && bytes.Equal(public.Blob, k.Key().Blob)
	i.Belongs = &together
	if !together {
		i.Findings = append(i.Findings, weakness.Finding{
			Code:   "keys-differ",
			Weight: weakness.Bad,
			Text:   beside + " is not the public key of it",
			Remedy: "Write it again: plumlatch key public " + s.Shown(k.Path),
		})
	}
	return nil
}

func lineEnds(text []byte) string {
	crlf, lf := bytes.Count(text, []byte("\r\n")), bytes.Count(text, []byte("\n"))
	switch {
	case lf == 0:
		return "none"
	case crlf == 0:
		return "LF"
	case crlf == lf:
		return "CRLF"
	}
	return "mixed"
}

var formatNames = map[keypair.Format]string{
	keypair.OpenSSHPrivate: "OpenSSH's own",
	keypair.ClassicPEM:     "PEM, PKCS#1 or SEC1",
	keypair.PKCS8:          "PEM, PKCS#8",
	keypair.PPK2:           ".ppk version 2",
	keypair.PPK3:           ".ppk version 3",
	keypair.OneLine:        "one line, OpenSSH",
	keypair.RFC4716:        "armoured, RFC 4716",
	keypair.SPKI:           "PEM, SPKI or PKCS#1",
	keypair.JWK:            "JSON Web Key",
}

func showInspectedList(s *kit.Session, i inspected) {
	s.Facts(
		"File", i.File, "Kind", fmt.Sprintf("%s, %d lines", i.Kind, len(i.Lines)), "Mode", i.Mode, "Line ends",
		i.LineEnds, "Repaired", strings.Join(i.Repaired, "; "),
	)
	t := kit.Table{Head: []string{"LINE", "TYPE", "SHA-256", "COMMENT", "OPTIONS"}}
	for _, l := range i.Lines {
		if l.Refused == "" {
			t.Add(strconv.Itoa(l.Line), fmt.Sprintf("%s %d", l.Type, l.Bits), l.SHA256, l.Comment, l.Options)
		}
	}
	t.Write(s)
	for _, l := range i.Lines {
		if l.Refused != "" {
			fmt.Fprintf(s.Env.Out, "line %d is no key that can be recorded: %s\n", l.Line, l.Refused)
		}
	}
	for _, f := range i.Findings {
		s.ShowFinding(f)
	}
}

func showInspected(s *kit.Session, i inspected) {
	if i.Lines != nil {
		showInspectedList(s, i)
		return
	}
	typ, encrypted, together := "not known without the passphrase", "", ""
	if i.Type != "" {
		typ = kit.TypeText(i.Type, i.Bits)
	}
	if i.Kind == "private key" {
		encrypted = "no, it has no passphrase"
		if i.Encrypted {
			encrypted = "yes, " + i.Cipher
		}
	}
	if i.Belongs != nil {
		together = i.PublicFile + " belongs to it"
		if !*i.Belongs {
			together = i.PublicFile + " does NOT belong to it"
		}
	}
	s.Facts(
		"File", i.File, "Kind", i.Kind, "Format", formatNames[i.Format], "Type", typ, "Encrypted", encrypted,
		"Comment", i.Comment, "SHA-256", i.SHA256, "MD5", i.MD5, "MD5 of the SPKI DER", i.SPKIMD5,
		"SHA-1 of the PKCS#8 DER", i.PKCS8SHA1, "SSHFP", i.SSHFP, "Mode", i.Mode, "Line ends", i.LineEnds,
		"Public key", together, "Repaired", strings.Join(i.Repaired, "; "),
	)
	for _, f := range i.Findings {
		s.ShowFinding(f)
	}
}

// newPassphrase are the flags that say how a written private key is closed.
type newPassphrase struct {
	ask, none bool
	file      string
}

// choose returns the passphrase for the new file; old is that of the file read.
func (n newPassphrase) choose(s *kit.Session, old []byte) ([]byte, error) {
	switch {
	case n.none && (n.ask || n.file != ""):
		return nil, kit.Usage("a new passphrase and none at all exclude each other")
	case n.none:
		return nil, nil
	case n.ask || n.file != "":
		return s.Passphrase(n.ask, n.file)
	}
	return old, nil
}

func keyConvert(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	to := f.String("to", "", "the `format`: openssh, pem, pkcs8, ppk2, ppk3, or line, rfc4716, spki, jwk")
	out := f.String("out", "", "`file` to write; standard output for public formats unless given")
	replace := f.Bool("replace", false, "replace an existing file, and keep the old one beside it")
	passphraseFile := f.String("passphrase-file", "", "`file` with the passphrase")
	var fresh newPassphrase
	f.BoolVar(&fresh.ask, "new-passphrase", false, "ask for a new passphrase, twice")
	f.StringVar(&fresh.file, "new-passphrase-file", "", "`file` with the new passphrase")
	f.BoolVar(&fresh.none, "no-passphrase", false, "write it without a passphrase")
	return func(_ context.Context, s *kit.Session, args []string) error {
		format := keypair.Format(*to)
		if _, known := formatNames[format]; !known {
			return kit.Usage(
				fmt.Sprintf("-to is one of openssh, pem, pkcs8, ppk2, ppk3, line, rfc4716, spki and jwk, not %q", *to),
			)
		}
		public := slices.Contains([]keypair.Format{keypair.OneLine, keypair.RFC4716, keypair.SPKI, keypair.JWK}, format)
		k, err := s.ReadKeyFile(args[0], *passphraseFile, !public)
		if err != nil {
			return err
		}
		if len(k.Key().Blob) == 0 {
			return fmt.Errorf("%s: %w: give it with -passphrase-file FILE", k.Path, keypair.ErrPassphraseNeeded)
		}
		if public {
			text, err := k.Key().Write(format)
			if err != nil {
				return err
			}
			if *out == "" || *out == "-" {
				_, err := s.Env.Out.Write(text)
				return err
			}
			return writeKeyFile(s, *out, text, *replace)
		}
		if k.Private == nil {
			return fmt.Errorf("%s is a public key; nothing can make a private key of it", k.Path)
		}
		if *out == "" {
			return kit.Usage("say where to write the private key: -out FILE")
		}
		passphrase, err := fresh.choose(s, k.Passphrase)
		if err != nil {
			return err
		}
		text, err := k.Private.Write(rand.Reader, format, passphrase)
		if err != nil {
			return err
		}
		return writeKeyFile(s, *out, text, *replace)
	}
}

func keyPublic(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	passphraseFile := f.String("passphrase-file", "", "`file` with the passphrase")
	return func(_ context.Context, s *kit.Session, args []string) error {
		k, err := s.ReadKeyFile(args[0], *passphraseFile, false)
		if err != nil {
			return err
		}
		if len(k.Key().Blob) == 0 {
			return fmt.Errorf("%s: %w: give it with -passphrase-file FILE", k.Path, keypair.ErrPassphraseNeeded)
		}
		fmt.Fprintln(s.Env.Out, k.Key().Line())
		return nil
	}
}

func keyPassphrase(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	passphraseFile := f.String("passphrase-file", "", "`file` with the current passphrase")
	var fresh newPassphrase
	f.StringVar(&fresh.file, "new-passphrase-file", "", "`file` with the new one; asked for, twice, unless given")
	f.BoolVar(&fresh.none, "none", false, "remove the passphrase")
	return func(_ context.Context, s *kit.Session, args []string) error {
		k, err := s.ReadKeyFile(args[0], *passphraseFile, true)
		if err != nil {
			return err
		}
		if k.Private == nil {
			return fmt.Errorf("%s is a public key, which has no passphrase", k.Path)
		}
		fresh.ask = !fresh.none && fresh.file == ""
		passphrase, err := fresh.choose(s, nil)
		if err != nil {
			return err
		}
		format := k.Private.Format
		if sound := map[keypair.Format]keypair.Format{
			keypair.ClassicPEM: keypair.OpenSSHPrivate,
			keypair.PPK2:       keypair.PPK3,
		}[format]; sound != "" &&
			len(passphrase) > 0 {
			format = sound
		}
		text, err := k.Private.Write(rand.Reader, format, passphrase)
		if err != nil {
			return err
		}
		return writeKeyFile(s, k.Path, text, true)
	}
}

// writeKeyFile writes a file with mode 0600, whole or not at all. Where one is
// there already, it refuses, or with replace keeps that one beside it.
func writeKeyFile(s *kit.Session, path string, text []byte, replace bool) error {
	temp, err := os.CreateTemp(filepath.Dir(path), ".plumlatch-*") // with mode 0600
	if err != nil {
		return err
	}
	defer os.Remove(temp.Name())
	_, err = temp.Write(text)
	if err := errors.Join(err, temp.Sync(), temp.Close()); err != nil {
		return err
	}
	err = os.Link(temp.Name(), path)
	if err == nil {
		fmt.Fprintf(s.Env.Err, "Wrote %s (mode 0600).\n", s.Shown(path))
		return nil
	}
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if !replace {
		return kit.Conflict(
			"file-exists", path+" exists, and files are not overwritten",
			"Say -replace to keep the old one as "+path+".old",
		)
	}
	old := path + ".old"
	for n := 2; ; n++ {
		if err = os.Link(path, old); !errors.Is(err, fs.ErrExist) {
			break
		}
		old = fmt.Sprintf("%s.old-%d", path, n)
	}
	if err != nil {
		return err
	}
	if err := os.Rename(temp.Name(), path); err != nil {
		return err
	}
	fmt.Fprintf(
		s.Env.Err,
		"Wrote %s (mode 0600). The old file is %s: delete it once you are sure.\n", s.Shown(path), s.Shown(old),
	)
	return nil
}
