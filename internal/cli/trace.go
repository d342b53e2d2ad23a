package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
)

var traceCommands = []command{{
	name: "trace", args: "[FILE|TEXT]", max: 1, flags: trace,
	summary: "Say which record a fingerprint or a key file is, and what it opens",
	detail: `It takes a fingerprint in any notation and spelling (SHA-256, MD5, MD5 of the SPKI DER, SHA-1
of the PKCS#8 DER, SSHFP), a public key in any form, or the file of a public or private key;
without an argument, or with -, standard input. Of a private half only the public one,
derived here, is sent. With -agent it traces every key that the ssh-agent holds, or those
that -pick names. It ends with status 3 if nothing is recorded that matches.`,
	examples: []string{
		"plumlatch trace ~/.ssh/id_rsa_2",
		"plumlatch trace d3:ca:cb:61:72:e7:a3:60:68:e6:20:fa:f4:00:2c:3e",
		"ssh-keygen -lf key.pub | plumlatch trace",
		"plumlatch trace -agent",
	},
}}

func trace(f *flag.FlagSet) func(context.Context, *session, []string) error {
	passphraseFile := f.String("passphrase-file", "", "`file` that holds the passphrase")
	var from agentFlags
	from.flags(f)
	return func(ctx context.Context, s *session, args []string) error {
		if err := from.check(); err != nil {
			return err
		}
		if from.use && len(args) > 0 {
			return &usageError{"-agent takes the place of a file or text"}
		}
		texts, err := s.traceTexts(args, *passphraseFile, from)
		if err != nil {
			return err
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		var found []apiclient.Trace
		unknown := false
		for _, text := range texts {
			t, err := answer[apiclient.Trace](client.Trace(ctx, apiclient.TraceText{Text: text}))
			if err != nil {
				return err
			}
			found, unknown = append(found, t), unknown || len(t.Matches) == 0
		}
		switch {
		case s.json && from.use:
			err = s.writeJSON(found)
		case s.json:
			err = s.writeJSON(found[0])
		default:
			for n, t := range found {
				if n > 0 && !s.quiet {
					fmt.Fprintln(s.env.Out)
				}
				s.showTrace(t)
			}
		}
		if err == nil && unknown {
			err = &quietError{exitNotAsItShould}
		}
		return err
	}
}

func (s *session) traceTexts(args []string, passphraseFile string, from agentFlags) ([]string, error) {
	if !from.use {
		text, err := s.traceText(args, passphraseFile)
		return []string{text}, err
	}
	keys, err := s.agentKeys(from)
	var texts []string
	for _, k := range keys {
		texts = append(texts, k.Line())
	}
	return texts, err
}

// traceText returns what is to be sent: never anything of a private half.
func (s *session) traceText(args []string, passphraseFile string) (string, error) {
	if len(args) == 1 && args[0] != "-" {
		if _, err := os.Stat(args[0]); err != nil {
			return checkNoPrivate(args[0])
		}
		k, err := s.readKeyFile(args[0], passphraseFile, false)
		if err != nil {
			return "", err
		}
		if len(k.key().Blob) == 0 {
			return "", fmt.Errorf("%s: %w: give it with -passphrase-file FILE", k.path, keypair.ErrPassphraseNeeded)
		}
		return k.key().Line(), nil
	}
	data, err := io.ReadAll(io.LimitReader(s.env.In, keypair.MaxTextBytes+1))
	if err != nil {
		return "", err
	}
	return checkNoPrivate(string(data))
}

// checkNoPrivate derives the public half of a private one that was piped in.
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

func (s *session) showTrace(t apiclient.Trace) {
	if s.quiet {
		for _, m := range t.Matches {
			fmt.Fprintln(s.env.Out, m.Name)
		}
		return
	}
	fmt.Fprintf(s.env.Out, "Read as %s.\n", t.ReadAs)
	if len(t.Matches) == 0 {
		fmt.Fprintln(s.env.Out, "Nothing that is recorded matches. It was compared with:")
		for _, c := range t.Compared {
			fmt.Fprintln(s.env.Out, "  "+c)
		}
		return
	}
	for _, m := range t.Matches {
		fmt.Fprintln(s.env.Out)
		if m.Kind == apiclient.TracedKindHostKey {
			fmt.Fprintf(s.env.Out, "It is a host key of the instance %s (%s).\n", m.Name, m.Matched)
			continue
		}
		fmt.Fprintf(s.env.Out, "It is the key %s of %s (%s).\n", m.Name, keeperText(*m.Key), m.Matched)
		if openings := given(m.Logins); len(openings) > 0 {
			s.openingTable(openings, false)
			s.rest(len(openings), m.Key.Opens)
		} else {
			fmt.Fprintln(s.env.Out, "It opens nothing.")
		}
	}
}

func (s *session) showFindings(findings []apiclient.Finding) {
	for _, f := range findings {
		s.showFinding(
			keypair.Finding{Weight: keypair.Weight(f.Weight), Text: f.Text, Remedy: f.Remedy, ActBy: given(f.ActBy)},
		)
	}
}
