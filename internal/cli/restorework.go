package cli

import (
	"bytes"
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
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/means"
	"plumlatch/internal/sshio"
)

// restoreWork is what a restore can be helped with from this machine.
type restoreWork struct {
	holderFlags
	password     bool
	passwordFile string

	found []atHand // made here just now
	tried map[string]bool
	open  *sshio.Session
}

func (w *restoreWork) flags(f *flag.FlagSet) {
	w.holderFlags.flags(f)
	f.BoolVar(&w.password, "password", false, "ask for the login's password, for the route password")
	f.StringVar(&w.passwordFile, "password-file", "", "`file` that holds the login's password")
}

const restorePause = 250 * time.Millisecond

// followRestore follows a restore to its end and does what it waits for, as far as that
// can be done from here.
func (s *session) followRestore(ctx context.Context, client *apiclient.Client, id uuid.UUID, w *restoreWork) error {
	if w.given() {
		halves, end, err := s.holder(w.holderFlags)
		if err != nil {
			return err
		}
		defer end()
		w.found = append(w.found, halves...)
	}
	w.tried = map[string]bool{}
	defer w.close()
	show := &steps{session: s, shown: map[string]bool{}}
	for tries := 0; ; {
		r, err := answer[apiclient.Restore](client.GetRestore(ctx, id))
		switch {
		case err == nil:
			tries = 0
			show.tell(r.Run)
			if r.Run.EndedAt != nil {
				show.clear()
				return s.restored(ctx, client, r)
			}
			s.help(ctx, client, r, w, show)
		case !errors.Is(err, errUnreachable) || tries == watchTries:
			show.clear()
			return err
		}
		tries++
		select {
		case <-ctx.Done():
			show.clear()
			return fmt.Errorf(
				"you stopped watching; the restore goes on in the service. Watch again: plumlatch restore watch %s",
				id,
			)
		case <-time.After(restorePause):
		}
	}
}

// help does what the restore waits for, and says once what it cannot do.
func (s *session) help(
	ctx context.Context,
	client *apiclient.Client,
	r apiclient.Restore,
	w *restoreWork,
	show *steps,
) {
	if r.Waits == nil || w.tried[r.Waits.Step] {
		return
	}
	var err error = &missingHere{}
	if !r.Waits.ByHand && !r.Waits.Undo {
		err = s.helpWith(ctx, client, r, w)
	}
	var missing *missingHere
	if err == nil {
		return
	}
	w.tried[r.Waits.Step] = true
	show.clear()
	byHand := ""
	if r.Waits.ByHand {
		byHand = " by hand"
	}
	fmt.Fprintf(s.env.Err, "  It waits for %s %s%s.\n", r.Waits.Who, r.Waits.What, byHand)
	if !errors.As(err, &missing) {
		fmt.Fprintf(s.env.Err, "  From here that failed: %v\n", err)
	} else if missing.what != "" {
		fmt.Fprintf(s.env.Err, "  From here it cannot be done: %s.\n", missing.what)
	}
	if next := given(r.Waits.Next); next != "" {
		fmt.Fprintf(s.env.Err, "  Do it where that can be done:  %s\n", next)
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

// loginOf is the login that is to be logged in to: that of the replacement, where the
// instance is replaced.
func loginOf(r apiclient.Restore) string {
	user, _, _ := strings.Cut(r.Login, "@")
	return user + "@" + r.Target
}

func (s *session) helpWith(ctx context.Context, client *apiclient.Client, r apiclient.Restore, w *restoreWork) error {
	if r.Waits.Step == "open" {
		return s.openedFor(ctx, client, r, w)
	}
	l, err := answer[apiclient.Login](client.GetLogin(ctx, loginOf(r)))
	if err != nil {
		return err
	}
	fresh, err := answer[apiclient.Key](client.GetKey(ctx, r.Key))
	if err != nil {
		return err
	}
	if r.Waits.Step == "place" {
		return s.placeFor(ctx, client, r, l, fresh, w)
	}
	if w.open == nil {
		half, err := s.halfOfKey(fresh, w)
		if err != nil {
			return err
		}
		if w.open, half, err = enter(ctx, l.Connection, []atHand{half}); err != nil {
			return err
		}
		if _, err := s.reportEntry(ctx, client, l, w.open, half); err != nil {
			return err
		}
	}
	switch r.Waits.Step {
	case "enter":
		return nil
	case "password-off":
		return w.open.PasswordsOff()
	case "remove":
		return s.removeFor(ctx, client, r, w)
	}
	return &missingHere{fmt.Sprintf("this client knows no step %q; use a newer one", r.Waits.Step)}
}

// halfOfKey returns the private half of a key that is here.
func (s *session) halfOfKey(k apiclient.Key, w *restoreWork) (atHand, error) {
	for _, h := range w.found {
		if keypair.FormatSHA256(h.SHA256()) == k.Fingerprints.Sha256 {
			return h, nil
		}
	}
	file := s.findPrivate(k.Fingerprints.Sha256)
	if file == "" {
		return atHand{}, &missingHere{"the private half of " + k.Name + " was not found on this machine"}
	}
	return s.fileHalf(file, w.passphraseFile, false)
}

// placeFor places the new line in a session that the password or another key opens.
func (s *session) placeFor(
	ctx context.Context,
	client *apiclient.Client,
	r apiclient.Restore,
	l apiclient.Login,
	fresh apiclient.Key,
	w *restoreWork,
) error {
	line, err := lineKey(fresh.Name, fresh.PublicKey)
	if err != nil {
		return err
	}
	session, err := s.wayIn(ctx, r, l, w)
	if err != nil {
		return err
	}
	defer session.Close()
	if _, err := means.New(means.Over(session), nil, nil, time.Now).Place(ctx, line); err != nil {
		return err
	}
	_, err = report(ctx, client, l.Reach.Login, session)
	return err
}

// wayIn opens a session by the password, or by another key that stands there.
func (s *session) wayIn(
	ctx context.Context,
	r apiclient.Restore,
	l apiclient.Login,
	w *restoreWork,
) (*sshio.Session, error) {
	if r.Route == "password" {
		password, err := s.loginPassword(w, r.Login)
		if err != nil {
			return nil, err
		}
		target, err := targetOf(l.Connection)
		if err != nil {
			return nil, err
		}
		return sshio.LoginWithPassword(ctx, target, password)
	}
	halves := w.found
	if file := s.fileFor(l.Openers); file != "" {
		half, err := s.fileHalf(file, w.passphraseFile, true)
		if err == nil {
			halves = append(halves, half)
		}
	}
	if len(halves) == 0 {
		return nil, &missingHere{"no private half that opens " + r.Login + " was found on this machine"}
	}
	session, _, err := enter(ctx, l.Connection, halves)
	return session, err
}

func (s *session) loginPassword(w *restoreWork, login string) (string, error) {
	switch {
	case w.passwordFile != "":
		data, err := os.ReadFile(w.passwordFile)
		return strings.TrimRight(string(data), "\r\n"), err
	case w.password || isTerminal(s.env.In):
		text, err := s.askSecret("Password of " + login + ": ")
		return string(text), err
	}
	return "", &missingHere{"the password is asked for with -password, or read from -password-file FILE"}
}

// removeFor takes the lost lines out in the session that the new key opened.
func (s *session) removeFor(ctx context.Context, client *apiclient.Client, r apiclient.Restore, w *restoreWork) error {
	var lost []means.Key
	for _, name := range r.Removes {
		k, err := answer[apiclient.Key](client.GetKey(ctx, name))
		if err != nil {
			return err
		}
		line, err := lineKey(name, k.PublicKey)
		if err != nil {
			return err
		}
		lost = append(lost, line)
	}
	_, err := means.New(means.Over(w.open), nil, nil, time.Now).Remove(ctx, w.open.Entry(), lost...)
	if err != nil {
		return err
	}
	_, err = report(ctx, client, loginOf(r), w.open)
	return err
}

// openedFor opens the administrator's password where the private half is here.
func (s *session) openedFor(ctx context.Context, client *apiclient.Client, r apiclient.Restore, w *restoreWork) error {
	k, err := answer[apiclient.Key](client.GetKey(ctx, r.Key))
	if err != nil {
		return err
	}
	file := w.with
	if file == "" {
		file = s.findPrivate(k.Fingerprints.Sha256)
	}
	if file == "" {
		return &missingHere{"the private half of " + r.Key + " was not found on this machine"}
	}
	password, _, err := s.openPassword(ctx, client, r.Target, file, w.passphraseFile)
	if err != nil {
		return err
	}
	s.showPassword(r.Target, password)
	return nil
}

// restored tells how a restore ended, and how to log in.
func (s *session) restored(ctx context.Context, client *apiclient.Client, r apiclient.Restore) error {
	if s.json {
		if err := s.writeJSON(r); err != nil {
			return err
		}
	}
	switch {
	case r.Run.State == apiclient.RunStateUndone:
		return fmt.Errorf("the restore of %s was undone: %s. %s", r.Login, given(r.Run.Error), differs(r))
	case r.Run.State != apiclient.RunStateDone:
		return s.runEnded(r.Run)
	case s.json:
	case s.quiet:
		fmt.Fprintln(s.env.Out, r.Target)
	case r.Route == "windows-password":
		fmt.Fprintf(
			s.env.Out,
			"\nThe administrator's password of %s was set anew and opened. Change it at once; who saw it when is in: "+
				"plumlatch restore report %s\n",
			r.Target,
			r.Run.Id,
		)
	default:
		if err := s.tellRestored(ctx, client, r); err != nil {
			return err
		}
	}
	if len(r.Left) > 0 {
		return &quietError{exitNotAsItShould}
	}
	return nil
}

func (s *session) tellRestored(ctx context.Context, client *apiclient.Client, r apiclient.Restore) error {
	fmt.Fprintf(s.env.Out, "\n%s is open again: a login with %s was completed.", loginOf(r), r.Key)
	if len(r.Lost) > 0 {
		fmt.Fprintf(s.env.Out, " %s opens it no more, and is marked as lost everywhere.", strings.Join(r.Lost, ", "))
	}
	fmt.Fprintln(s.env.Out)
	for _, l := range r.Left {
		fmt.Fprintf(s.env.Out, "%s  %s\n", s.bad("left to do"), l)
	}
	p, err := answer[apiclient.RestoreReport](client.ReportRestore(ctx, r.Run.Id))
	if err != nil {
		return err
	}
	for _, e := range p.Elsewhere {
		fmt.Fprintf(s.env.Out, "%s opens %s as well, which is %s\n", e.Key, e.Login, e.Reach)
	}
	if before, after := given(p.AddressBefore), given(p.AddressAfter); before != after && after != "" {
		fmt.Fprintf(s.env.Out, "Its address is %s now, and was %s.\n", after, before)
	}
	if written, err := s.refreshConfig(ctx, client); err != nil {
		return err
	} else if written != "" {
		fmt.Fprintf(s.env.Out, "%s is written anew, so that ssh %s leads there.\n", s.shown(written), r.Target)
	}
	fmt.Fprintln(s.env.Out)
	if r.Kept {
		fmt.Fprintf(s.env.Out, "  plumlatch key private %s -reason TEXT\n", r.Key)
	}
	fmt.Fprintf(s.env.Out, "  plumlatch connect %s -run\n  plumlatch restore report %s\n", r.Target, r.Run.Id)
	return nil
}

// refreshConfig writes the ssh config anew, where there is one.
func (s *session) refreshConfig(ctx context.Context, client *apiclient.Client) (string, error) {
	dir, err := s.configDir()
	if err != nil {
		return "", err
	}
	file := filepath.Join(dir, "ssh_config")
	if _, err := os.Stat(file); err != nil {
		return "", nil // it was never written
	}
	c, err := s.sshConfigOf(ctx, client, "")
	if err != nil {
		return "", err
	}
	return file, c.write()
}

var passwordCommands = []command{{
	name: "instance password", args: "NAME", min: 1, max: 1, flags: instancePassword,
	summary: "Open the administrator's password of a Windows instance with your private half, on this machine",
	detail: `The cloud gives the password sealed to an RSA public key. It is opened here; the private half is
never sent. That you asked, and that you opened it, is in the daybook. Change it at once.`,
	examples: []string{"plumlatch instance password office-windows -with ~/.ssh/office-windows"},
}}

func instancePassword(f *flag.FlagSet) func(context.Context, *session, []string) error {
	with := f.String("with", "", "`file` with the private half; one that fits is looked for unless given")
	passphraseFile := f.String("passphrase-file", "", "`file` that holds the passphrase")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		password, sealed, err := s.openPassword(ctx, client, args[0], *with, *passphraseFile)
		if err != nil {
			return err
		}
		switch {
		case s.json:
			return s.writeJSON(struct {
				Password string                      `json:"password"`
				MadeAt   time.Time                   `json:"made_at"`
				Readings []apiclient.PasswordReading `json:"readings"`
			}{password, sealed.MadeAt, sealed.Readings})
		case s.quiet:
			fmt.Fprintln(s.env.Out, password)
			return nil
		}
		s.showPassword(args[0], password)
		for _, r := range sealed.Readings[1:] { // the first is this one
			fmt.Fprintf(s.env.Err, "  %s %s it, %s\n", r.Person, r.What, moment(r.At))
		}
		return nil
	}
}

func (s *session) showPassword(instance, password string) {
	fmt.Fprintf(s.env.Out, "%s\n", password)
	fmt.Fprintf(
		s.env.Err,
		"This is the administrator's password of %s. Change it at once: it has been in a cloud's hands.\n",
		instance,
	)
}

// openPassword asks for the sealed password and opens it with a private half that is here.
func (s *session) openPassword(
	ctx context.Context,
	client *apiclient.Client,
	instance, file, passphraseFile string,
) (string, apiclient.SealedPassword, error) {
	sealed, err := answer[apiclient.SealedPassword](client.GetSealedPassword(ctx, instance))
	if err != nil {
		return "", sealed, err
	}
	public, err := keypair.ReadLine(sealed.PublicKey)
	if err != nil {
		return "", sealed, fmt.Errorf("the key that the password is sealed to cannot be read: %w", err)
	}
	fingerprint := keypair.FormatSHA256(public.SHA256())
	if file == "" {
		if file = s.findPrivate(fingerprint); file == "" {
			return "", sealed, fmt.Errorf(
				"the password is sealed to %s, whose private half was not found on this machine. Say where it is: -with FILE. If "+
					"it is lost: plumlatch restore routes %s",
				fingerprint,
				instance,
			)
		}
	}
	k, err := s.readKeyFile(file, passphraseFile, true)
	switch {
	case err != nil:
		return "", sealed, err
	case k.private == nil:
		return "", sealed, fmt.Errorf("%s is a public half; give the private one", file)
	case !bytes.Equal(k.private.Blob, public.Blob):
		return "", sealed, fmt.Errorf(
			"the password is sealed to %s, and %s is %s. If the one it is sealed to is lost: plumlatch restore routes %s",
			fingerprint,
			file,
			keypair.FormatSHA256(k.private.SHA256()),
			instance,
		)
	}
	text, err := k.private.OpenSealed(sealed.Encrypted)
	if err != nil {
		return "", sealed, err
	}
	_, err = answerBytes(client.ReportPasswordOpened(ctx, instance))
	return string(text), sealed, err
}
