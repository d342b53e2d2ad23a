package restore

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/connect"
	"plumlatch/internal/cli/grants"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/means"
	"plumlatch/internal/sshio"
)

// restoreWork is what a restore can be helped with from this machine.
type restoreWork struct {
	kit.LocalKeyFlags
	password     bool
	passwordFile string

	found []kit.AtHand // made here just now
	tried map[string]bool
	open  *sshio.Session
}

func (w *restoreWork) flags(f *flag.FlagSet) {
	w.LocalKeyFlags.Flags(f)
	f.BoolVar(&w.password, "password", false, "ask for the login's password, for the route password")
	f.StringVar(&w.passwordFile, "password-file", "", "`file` with the login's password")
}

const restorePause = 250 * time.Millisecond

// followRestore follows a restore to its end and does what it waits for, as far as that
// can be done from here.
func followRestore(s *kit.Session, ctx context.Context, client *apiclient.Client, id uuid.UUID, w *restoreWork) error {
	if w.Given() {
		signers, end, err := s.LocalKeys(w.LocalKeyFlags)
		if err != nil {
			return err
		}
		defer end()
		w.found = append(w.found, signers...)
	}
	w.tried = map[string]bool{}
	defer w.close()
	show := &kit.Steps{Session: s, Shown: map[string]bool{}}
	patience := s.Patience()
	for {
		r, err := kit.Answer[apiclient.Restore](client.GetRestore(ctx, id))
		switch {
		case err == nil:
			patience.Answered()
			show.Tell(r.Run)
			if r.Run.EndedAt != nil {
				show.Clear()
				return restored(s, ctx, client, r)
			}
			help(s, ctx, client, r, w, show)
		case ctx.Err() == nil:
			show.Clear()
			if err := patience.Wait(ctx, err); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			show.Clear()
			return kit.Stopped("restore", "plumlatch restore watch "+cmp.Or(r.Login, id.String()))
		case <-time.After(restorePause):
		}
	}
}

// help does what the restore waits for, and says once what it cannot do.
func help(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	r apiclient.Restore,
	w *restoreWork,
	show *kit.Steps,
) {
	if r.Waits == nil || w.tried[r.Waits.Step] {
		return
	}
	var err error = &missingHere{}
	if !r.Waits.ByHand && !r.Waits.Undo {
		err = helpWith(s, ctx, client, r, w)
	}
	var missing *missingHere
	if err == nil {
		return
	}
	w.tried[r.Waits.Step] = true
	show.Clear()
	byHand := ""
	if r.Waits.ByHand {
		byHand = " by hand"
	}
	fmt.Fprintf(s.Env.Err, "  It waits for %s %s%s.\n", r.Waits.Who, r.Waits.What, byHand)
	if !errors.As(err, &missing) {
		fmt.Fprintf(s.Env.Err, "  From here that failed: %v\n", err)
	} else if missing.what != "" {
		fmt.Fprintf(s.Env.Err, "  From here it cannot be done: %s.\n", missing.what)
	}
	if next := kit.Given(r.Waits.Next); next != "" {
		fmt.Fprintf(s.Env.Err, "  Do it where that can be done:  %s\n", next)
	}
}

// missingHere is that something cannot be done from this machine.
type missingHere struct{ what string }

func (m *missingHere) Error() string { return m.what }

func (w *restoreWork) close() {
	if w.open != nil {
		w.open.Close()
		w.open = nil
	}
}

// loginOf is the login that will be logged in to: that of the replacement, where the
// instance is replaced.
func loginOf(r apiclient.Restore) string {
	user, _, _ := strings.Cut(r.Login, "@")
	return user + "@" + r.Target
}

func helpWith(
	s *kit.Session, ctx context.Context, client *apiclient.Client, r apiclient.Restore, w *restoreWork,
) error {
	if r.Waits.Step == "open" {
		return openedFor(s, ctx, client, r, w)
	}
	l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, loginOf(r)))
	if err != nil {
		return err
	}
	fresh, err := kit.Answer[apiclient.Key](client.GetKey(ctx, r.Key))
	if err != nil {
		return err
	}
	if r.Waits.Step == "place" {
		return placeFor(s, ctx, client, r, l, fresh, w)
	}
	if w.open == nil {
		signer, err := signerOfKey(s, fresh, w)
		if err != nil {
			return err
		}
		if w.open, signer, err = s.Enter(ctx, l.Connection, []kit.AtHand{signer}); err != nil {
			return err
		}
		if _, err := s.ReportEntry(ctx, client, l, w.open, signer); err != nil {
			return err
		}
	}
	switch r.Waits.Step {
	case "enter":
		return nil
	case "password-off":
		return w.open.PasswordsOff()
	case "remove":
		return removeFor(s, ctx, client, r, w)
	}
	return &missingHere{fmt.Sprintf("this client knows no step %q; use a newer one", r.Waits.Step)}
}

// signerOfKey returns the private key of a key that is here.
func signerOfKey(s *kit.Session, k apiclient.Key, w *restoreWork) (kit.AtHand, error) {
	for _, h := range w.found {
		if keypair.FormatSHA256(h.SHA256()) == k.Fingerprints.Sha256 {
			return h, nil
		}
	}
	file := s.FindPrivate(k.Fingerprints.Sha256)
	if file == "" {
		return kit.AtHand{}, &missingHere{"the private key of " + k.Name + " was not found on this machine"}
	}
	return s.FileKey(file, w.PassphraseFile, false)
}

// placeFor places the new line in a session that the password or another key opens.
func placeFor(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	r apiclient.Restore,
	l apiclient.Login,
	fresh apiclient.Key,
	w *restoreWork,
) error {
	line, err := grants.LineKey(fresh.Name, fresh.PublicKey)
	if err != nil {
		return err
	}
	session, err := wayIn(s, ctx, r, l, w)
	if err != nil {
		return err
	}
	defer session.Close()
	if _, err := means.New(means.Over(session), nil, nil, time.Now).Place(ctx, line); err != nil {
		return err
	}
	_, err = access.Report(ctx, client, l.Reach.Login, session)
	return err
}

// wayIn opens a session by the password, or by another key that is in place there.
func wayIn(s *kit.Session,
	ctx context.Context,
	r apiclient.Restore,
	l apiclient.Login,
	w *restoreWork,
) (*sshio.Session, error) {
	if r.Route == "password" {
		password, err := loginPassword(s, w, r.Login)
		if err != nil {
			return nil, err
		}
		target, err := s.TargetOf(l.Connection, w.found)
		if err != nil {
			return nil, err
		}
		return sshio.LoginWithPassword(ctx, target, password)
	}
	signers := w.found
	if file := s.FileFor(l.Openers); file != "" {
		signer, err := s.FileKey(file, w.PassphraseFile, true)
		if err == nil {
			signers = append(signers, signer)
		}
	}
	if len(signers) == 0 {
		return nil, &missingHere{"no private key that opens " + r.Login + " was found on this machine"}
	}
	session, _, err := s.EnterToHelp(ctx, l.Connection, signers)
	return session, err
}

func loginPassword(s *kit.Session, w *restoreWork, login string) (string, error) {
	switch {
	case w.passwordFile != "":
		data, err := os.ReadFile(w.passwordFile)
		return strings.TrimRight(string(data), "\r\n"), err
	case w.password || kit.IsTerminal(s.Env.In):
		text, err := s.AskSecret("Password of " + login + ": ")
		return string(text), err
	}
	return "", &missingHere{"the password is asked for with -password, or read from -password-file FILE"}
}

// removeFor takes the lost lines out in the session that the new key opened.
func removeFor(
	s *kit.Session, ctx context.Context, client *apiclient.Client, r apiclient.Restore, w *restoreWork,
) error {
	var lost []means.Key
	for _, name := range r.Removes {
		k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, name))
		if err != nil {
			return err
		}
		line, err := grants.LineKey(name, k.PublicKey)
		if err != nil {
			return err
		}
		lost = append(lost, line)
	}
	_, err := means.New(means.Over(w.open), nil, nil, time.Now).Remove(ctx, w.open.Entry(), lost...)
	if err != nil {
		return err
	}
	_, err = access.Report(ctx, client, loginOf(r), w.open)
	return err
}

// openedFor opens the administrator's password where the private key is here.
func openedFor(
	s *kit.Session, ctx context.Context, client *apiclient.Client, r apiclient.Restore, w *restoreWork,
) error {
	k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, r.Key))
	if err != nil {
		return err
	}
	file := w.With
	if file == "" {
		file = s.FindPrivate(k.Fingerprints.Sha256)
	}
	if file == "" {
		return &missingHere{"the private key of " + r.Key + " was not found on this machine"}
	}
	password, _, err := openPassword(s, ctx, client, r.Target, file, w.PassphraseFile)
	if err != nil {
		return err
	}
	showPassword(s, r.Target, password)
	return nil
}

// restored tells how a restore ended, and how to log in.
func restored(s *kit.Session, ctx context.Context, client *apiclient.Client, r apiclient.Restore) error {
	if s.Json {
		if err := s.WriteJSON(r); err != nil {
			return err
		}
	}
	switch {
	case r.Run.State == apiclient.RunStateUndone:
		return kit.Failed(
			"run-undone", fmt.Sprintf("the restore of %s was undone: %s. %s", r.Login, kit.Given(r.Run.Error), differs(r)), "",
		)
	case r.Run.State != apiclient.RunStateDone:
		return s.RunEnded(r.Run)
	case s.Json:
	case s.Quiet:
		fmt.Fprintln(s.Env.Out, r.Target)
	case r.Route == "windows-password":
		fmt.Fprintf(
			s.Env.Out,
			"\nThe administrator's password of %s was set again and opened. Change it at once; who saw it when is in: "+
				"plumlatch restore report %s\n",
			r.Target,
			r.Login,
		)
	default:
		if err := tellRestored(s, ctx, client, r); err != nil {
			return err
		}
	}
	if len(r.Left) > 0 {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

func tellRestored(s *kit.Session, ctx context.Context, client *apiclient.Client, r apiclient.Restore) error {
	fmt.Fprintf(s.Env.Out, "\n%s is open again: a login with %s was completed.", loginOf(r), r.Key)
	if len(r.Lost) > 0 {
		fmt.Fprintf(s.Env.Out, " %s no longer opens it, and is marked as lost everywhere.", strings.Join(r.Lost, ", "))
	}
	fmt.Fprintln(s.Env.Out)
	for _, l := range r.Left {
		fmt.Fprintf(s.Env.Out, "%s  %s\n", s.Bad("left to do"), l)
	}
	p, err := kit.Answer[apiclient.RestoreReport](client.ReportRestore(ctx, r.Run.Id))
	if err != nil {
		return err
	}
	for _, e := range p.Elsewhere {
		fmt.Fprintf(s.Env.Out, "%s opens %s as well, which is %s\n", e.Key, e.Login, e.Reach)
	}
	if before, after := kit.Given(p.AddressBefore), kit.Given(p.AddressAfter); before != after && after != "" {
		fmt.Fprintf(s.Env.Out, "Its address is %s now, and was %s.\n", after, before)
	}
	if written, err := refreshConfig(s, ctx, client); err != nil {
		return err
	} else if written != "" {
		fmt.Fprintf(s.Env.Out, "%s is written again, so that ssh %s leads there.\n", s.Shown(written), r.Target)
	}
	fmt.Fprintln(s.Env.Out)
	if r.Kept {
		fmt.Fprintf(s.Env.Out, "  plumlatch key private %s -reason TEXT\n", r.Key)
	}
	fmt.Fprintf(s.Env.Out, "  plumlatch connect %s\n  plumlatch restore report %s\n", r.Target, r.Login)
	return nil
}

// refreshConfig writes the ssh config again, where there is one.
func refreshConfig(s *kit.Session, ctx context.Context, client *apiclient.Client) (string, error) {
	dir, err := s.ConfigDir()
	if err != nil {
		return "", err
	}
	file := filepath.Join(dir, "ssh_config")
	if _, err := os.Stat(file); err != nil {
		return "", nil // it was never written
	}
	c, err := connect.SshConfigOf(s, ctx, client, "")
	if err != nil {
		return "", err
	}
	return file, c.Write()
}

var PasswordCommands = []kit.Command{{
	Name: "instance password", Args: "NAME", Min: 1, Max: 1, Flags: instancePassword,
	Summary: "Open the administrator's password of a Windows instance with your private key, on this machine",
	Detail: `The cloud gives the password encrypted to an RSA public key. It is decrypted here; the
private key is never sent. The daybook records that you asked and that you opened it. Change
the password at once.`,
	Examples: []string{"plumlatch instance password office-windows -with ~/.ssh/office-windows"},
}}

func instancePassword(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	with := f.String("with", "", "`file` with the private key; a matching one on this machine unless given")
	passphraseFile := f.String("passphrase-file", "", "`file` with the passphrase")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		password, encrypted, err := openPassword(s, ctx, client, args[0], *with, *passphraseFile)
		if err != nil {
			return err
		}
		switch {
		case s.Json:
			return s.WriteJSON(struct {
				Password string                      `json:"password"`
				MadeAt   time.Time                   `json:"made_at"`
				Readings []apiclient.PasswordReading `json:"readings"`
			}{password, encrypted.MadeAt, encrypted.Readings})
		case s.Quiet:
			fmt.Fprintln(s.Env.Out, password)
			return nil
		}
		showPassword(s, args[0], password)
		for _, r := range encrypted.Readings[1:] { // the first is this one
			fmt.Fprintf(s.Env.Err, "  %s %s it, %s\n", r.Person, r.What, kit.Moment(r.At))
		}
		return nil
	}
}

func showPassword(s *kit.Session, instance, password string) {
	fmt.Fprintf(s.Env.Out, "%s\n", password)
	fmt.Fprintf(
		s.Env.Err,
		"This is the administrator's password of %s. Change it at once: it has been in a cloud's hands.\n", instance,
	)
}

// openPassword asks for the encrypted password and opens it with a private key that is here.
func openPassword(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	instance, file, passphraseFile string,
) (string, apiclient.EncryptedPassword, error) {
	encrypted, err := kit.Answer[apiclient.EncryptedPassword](client.GetEncryptedPassword(ctx, instance))
	if err != nil {
		return "", encrypted, err
	}
	public, err := keypair.ReadLine(encrypted.PublicKey)
	if err != nil {
		return "", encrypted, fmt.Errorf("the key that the password is encrypted to cannot be read: %w", err)
	}
	fingerprint := keypair.FormatSHA256(public.SHA256())
	if file == "" {
		if file = s.FindPrivate(fingerprint); file == "" {
			return "", encrypted, kit.Missing(
				"no-private-key",
				"the password is encrypted to "+fingerprint+", whose private key was not found on this machine",
				"Say where it is: -with FILE. If it is lost: plumlatch restore routes "+instance,
			)
		}
	}
	k, err := s.ReadKeyFile(file, passphraseFile, true)
	switch {
	case err != nil:
		return "", encrypted, err
	case k.Private == nil:
		return "", encrypted, kit.Failed("public-key-given", file+" is a public key", "Give the file with the private key")
	case !bytes.Equal(k.Private.Blob, public.Blob):
		return "", encrypted, kit.Conflict(
			"another-key",
			fmt.Sprintf(
				"the password is encrypted to %s; %s is %s", fingerprint, file, keypair.FormatSHA256(k.Private.SHA256()),
			),
			"If the private key of "+fingerprint+" is lost: plumlatch restore routes "+instance,
		)
	}
	text, err := k.Private.OpenEncrypted(encrypted.Encrypted)
	if err != nil {
		return "", encrypted, err
	}
	_, err = kit.AnswerBytes(client.ReportPasswordOpened(ctx, instance))
	return string(text), encrypted, err
}
