package charters

import (
	"context"
	"flag"
	"fmt"
	"os"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/charter"
	"plumlatch/internal/core/signature"
)

var signCommands = []kit.Command{{
	Name: "charter sign", NoNames: true, Args: "FILE ...", Min: 1, Max: -1, Flags: sign,
	Summary: "Sign the files of a charter, so that a pipeline may settle them",
	Detail: `The signature (SSHSIG) names the charter, the SHA-256 of its files and the version that it follows. It is of
no use for other files, nor once another version counts. A person who may settle charters signs, with a key that they
hold. -after says which version it follows; unless given, the service is asked.`,
	Examples: []string{
		"plumlatch charter sign field.yaml -with ~/.ssh/oona -into field.sig",
		"plumlatch charter sign field.yaml -agent -after 3",
	},
}}

func sign(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var h kit.LocalKeyFlags
	h.Flags(f)
	after := f.Int("after", -1, "the version `number` that it follows, 0 for none")
	into := f.String("into", "", "write the signature to this `file`; printed unless given")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		files, err := collect(args)
		if err != nil {
			return err
		}
		c, flaws := charter.Read(files)
		if len(flaws) > 0 {
			showFlaws(s, wireFlaws(flaws))
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		if !h.Given() {
			return kit.Usage("say by which key: -with FILE or -agent")
		}
		if *after < 0 {
			if *after, err = counting(ctx, s, c.Name); err != nil {
				return err
			}
		}
		signers, end, err := s.LocalKeys(h)
		if err != nil {
			return err
		}
		defer end()
		if len(signers) != 1 {
			return kit.Usage(fmt.Sprintf("%d keys are there; name the file of one: -with FILE", len(signers)))
		}
		text := charter.ToSign(c.Name, *after, charter.Digest(files))
		armoured, err := signature.Sign(signers[0].Signer, charter.Namespace, []byte(text))
		if err != nil {
			return err
		}
		if *into == "" {
			fmt.Fprint(s.Env.Out, armoured)
			return nil
		}
		if err := os.WriteFile(*into, []byte(armoured), 0o644); err != nil {
			return err
		}
		keys.Say(s, "Signed version %d of %s: %s", *after+1, c.Name, *into)
		return nil
	}
}

// counting is the version of a charter that counts, 0 for none.
func counting(ctx context.Context, s *kit.Session, name string) (int, error) {
	client, err := s.Connect()
	if err != nil {
		return 0, err
	}
	d, err := kit.Answer[apiclient.CharterDetail](client.GetCharter(ctx, name))
	if kit.Code(err) == "no-such-charter" {
		return 0, nil
	}
	return d.Charter.Version, err
}

// signatureIn reads the signature that a person has made; nil where none is given.
func signatureIn(file string) (*string, error) {
	if file == "" {
		return nil, nil
	}
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if info.Size() > signature.MaxArmourBytes {
		return nil, kit.Usage(file + " is no signature: it is too large")
	}
	text, err := os.ReadFile(file)
	return new(string(text)), err
}
