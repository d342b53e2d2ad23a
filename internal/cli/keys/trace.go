package keys

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/weakness"
)

var TraceCommands = []kit.Command{{
	Name: "trace", Args: "[FILE|TEXT]", Max: 1, Flags: trace,
	Summary: "Find the key of a fingerprint or key file, and what it opens",
	Detail: `It takes a fingerprint in any notation and spelling (SHA-256, MD5, MD5 of the SPKI DER,
SHA-1 of the PKCS#8 DER, SSHFP), a public key in any form, or the file of a public or
private key; without an argument, or with -, standard input. Of a private key only the
public key, derived here, is sent. With -agent it traces every key in the ssh-agent, or
those that -pick names. It ends with status 3 if nothing recorded matches.`,
	Examples: []string{
		"plumlatch trace ~/.ssh/id_rsa_2",
		"plumlatch trace d3:ca:cb:61:72:e7:a3:60:68:e6:20:fa:f4:00:2c:3e",
		"ssh-keygen -lf key.pub | plumlatch trace",
		"plumlatch trace -agent",
	},
}}

func trace(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	passphraseFile := f.String("passphrase-file", "", "`file` with the passphrase")
	var from kit.AgentFlags
	from.Flags(f)
	return func(ctx context.Context, s *kit.Session, args []string) error {
		if err := from.Check(); err != nil {
			return err
		}
		if from.Use && len(args) > 0 {
			return kit.Usage("-agent takes the place of a file or text")
		}
		texts, err := traceTexts(s, args, *passphraseFile, from)
		if err != nil {
			return err
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		var found []apiclient.Trace
		unknown := false
		for _, text := range texts {
			t, err := kit.Answer[apiclient.Trace](client.Trace(ctx, apiclient.TraceText{Text: text}))
			if err != nil {
				return err
			}
			found, unknown = append(found, t), unknown || len(t.Matches) == 0
		}
		switch {
		case s.Json && from.Use:
			err = s.WriteJSON(found)
		case s.Json:
			err = s.WriteJSON(found[0])
		default:
			for n, t := range found {
				if n > 0 && !s.Quiet {
					fmt.Fprintln(s.Env.Out)
				}
				showTrace(s, t)
			}
		}
		if err == nil && unknown {
			err = kit.Quiet(kit.ExitNotAsItShould)
		}
		return err
	}
}

func traceTexts(s *kit.Session, args []string, passphraseFile string, from kit.AgentFlags) ([]string, error) {
	if !from.Use {
		text, err := traceText(s, args, passphraseFile)
		return []string{text}, err
	}
	keys, err := s.AgentKeys(from)
	var texts []string
	for _, k := range keys {
		texts = append(texts, k.Line())
	}
	return texts, err
}

// traceText returns what will be sent: never anything of a private key.
func traceText(s *kit.Session, args []string, passphraseFile string) (string, error) {
	if len(args) == 1 && args[0] != "-" {
		if _, err := os.Stat(args[0]); err != nil {
			return checkNoPrivate(args[0])
		}
		k, err := s.ReadKeyFile(args[0], passphraseFile, false)
		if err != nil {
			return "", err
		}
		if len(k.Key().Blob) == 0 {
			return "", fmt.Errorf("%s: %w: give it with -passphrase-file FILE", k.Path, keypair.ErrPassphraseNeeded)
		}
		return k.Key().Line(), nil
	}
	data, err := io.ReadAll(io.LimitReader(s.Env.In, keypair.MaxTextBytes+1))
	if err != nil {
		return "", err
	}
	return checkNoPrivate(string(data))
}

// checkNoPrivate derives the public key of a private one that was piped in.
func checkNoPrivate(text string) (string, error) {
	if !keypair.HoldsPrivate(text) {
		return text, nil
	}
	file, err := keypair.ReadPrivate([]byte(text), nil)
	if len(file.Blob) > 0 {
		return file.Line(), nil
	}
	return "", err
}

func showTrace(s *kit.Session, t apiclient.Trace) {
	if s.Quiet {
		for _, m := range t.Matches {
			fmt.Fprintln(s.Env.Out, m.Name)
		}
		return
	}
	fmt.Fprintf(s.Env.Out, "Read as %s.\n", t.ReadAs)
	if len(t.Matches) == 0 {
		fmt.Fprintln(s.Env.Out, "Nothing that is recorded matches. It was compared with:")
		for _, c := range t.Compared {
			fmt.Fprintln(s.Env.Out, "  "+c)
		}
		return
	}
	for _, m := range t.Matches {
		fmt.Fprintln(s.Env.Out)
		switch m.Kind {
		case apiclient.TracedKindHostKey:
			s.Below("", fmt.Sprintf(
				"It is a host key of the instance %s%s, known since %s%s (%s).", m.Name, goneText(m),
				kit.Day(kit.Given(m.PinnedAt)), replacedText(m), m.Matched,
			), kit.AsItIs)
			continue
		case apiclient.TracedKindFormer:
			s.Below("", fmt.Sprintf(
				"It was in %s of %s%s, last seen there on %s and gone by %s (%s).", m.Former.Path, m.Name, goneText(m),
				kit.Moment(m.Former.SeenAt), kit.Moment(m.Former.GoneBy), m.Matched,
			), kit.AsItIs)
			s.Facts("Comment", m.Former.Comment)
			continue
		case apiclient.TracedKindAuthority:
			s.Below("", fmt.Sprintf(
				"It is a certificate authority: its certificates %s %s, %s (%s).", now(m, "open", "opened"), m.Name, readText(m),
				m.Matched,
			), kit.AsItIs)
			continue
		case apiclient.TracedKindGroupKey:
			s.Below("", fmt.Sprintf("It opens %s (%s).", m.Name, m.Matched), kit.AsItIs)
			continue
		case apiclient.TracedKindNamedKey:
			s.Below("", fmt.Sprintf(
				"It is a key that a program of %s's SSH server %s at a login, %s (%s).", m.Name, now(m, "names", "named"),
				readText(m), m.Matched,
			), kit.AsItIs)
			continue
		case apiclient.TracedKindStranger:
			s.Below("", fmt.Sprintf(
				"It is a key in no record, a stranger in %s since %s, last seen on %s (%s).", m.Name,
				kit.Day(m.Stranger.FirstSeenAt), kit.Day(m.Stranger.SeenAt), m.Matched,
			), kit.AsItIs)
			s.Facts("Comment", m.Stranger.Comment, "Limits", kit.Given(m.Stranger.Limits))
			fmt.Fprintf(s.Env.Out, "Decide about it:  plumlatch settle %s\n", m.Name)
			continue
		}
		fmt.Fprintf(s.Env.Out, "It is the key %s of %s (%s).\n", m.Name, holderText(*m.Key), m.Matched)
		if openings := kit.Given(m.Logins); len(openings) > 0 {
			access.OpeningTable(s, openings, false)
			s.Rest(len(openings), m.Key.Opens)
		} else {
			fmt.Fprintln(s.Env.Out, "As far as is known it opens nothing.")
		}
	}
}

// now is the present of a verb, or its past where the settings have changed since.
func now(m apiclient.Traced, present, past string) string {
	if kit.Given(m.Over) {
		return past
	}
	return present
}

// readText says when something was read of a server's settings.
func readText(m apiclient.Traced) string {
	if m.ReadFrom == nil || m.ReadTo == nil {
		return "as it was last read"
	}
	if m.ReadFrom.Equal(*m.ReadTo) {
		return "as read on " + kit.Moment(*m.ReadTo)
	}
	return "as read from " + kit.Moment(*m.ReadFrom) + " to " + kit.Moment(*m.ReadTo)
}

// replacedText says since when others are pinned in the place of a host key; "" for one that is.
func replacedText(m apiclient.Traced) string {
	if m.ReplacedAt == nil {
		return ""
	}
	return ", and replaced on " + kit.Day(*m.ReplacedAt)
}

// goneText says that the instance of a match is gone; "" where it is there.
func goneText(m apiclient.Traced) string {
	if m.GoneAt == nil {
		return ""
	}
	return ", which is gone since " + kit.Day(*m.GoneAt)
}

func showFindings(s *kit.Session, findings []apiclient.Finding) {
	for _, f := range findings {
		s.ShowFinding(
			weakness.Finding{Weight: weakness.Weight(f.Weight), Text: f.Text, Remedy: f.Remedy, ActBy: kit.Given(f.ActBy)},
		)
	}
}
