package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
)

var keyCommands = []command{
	{
		name: "key new", args: "NAME", min: 1, max: 1, flags: keyNew,
		summary: "Make a key pair on this machine and record its public half",
		detail: `The private half is written to ~/.ssh/NAME with mode 0600, never over a file that is
there, and never leaves this machine. With -make service the service makes the pair
and hands the private half over once.`,
		examples: []string{
			"plumlatch key new atlas-deploy",
			"plumlatch key new ringing-backup -type rsa -bits 4096 -passphrase",
			"plumlatch key new gauge-admin -type rsa -format ppk3",
			"plumlatch key new hides -keeper team-field -label team=cameras -out ./hides",
		},
	},
	{
		name: "key import", args: "NAME", min: 1, max: 1, flags: keyImport,
		summary: "Record the public half of a pair that you have",
		detail: `It takes the one-line OpenSSH form, as in a .pub file, the armoured form of RFC 4716, PEM
and JWK. What can be repaired without doubt, such as CRLF or a wrapped line, is repaired
and said. A private key is refused; with -agent the public half of one that the ssh-agent
holds is taken.`,
		examples: []string{
			"plumlatch key import marek-laptop -from ~/.ssh/id_ed25519.pub",
			"plumlatch key import gauge-key -no-comment < gauge.pub",
			"plumlatch key import ringing -list ./authorized_keys",
			"plumlatch key import oona-token -agent -pick oona@token",
			"plumlatch key import oona-main -from oona.pub -keeper oona -comment field-tablet",
		},
	},
	{
		name:    "key list",
		flags:   keyList,
		summary: "List keys",
		examples: []string{
			"plumlatch key list",
			"plumlatch key list -keeper ines",
			"plumlatch key list -find atlas -sort -created",
		},
	},
	{
		name:    "key show",
		args:    "NAME",
		min:     1,
		max:     1,
		flags:   keyShow,
		summary: "Show one key: what it is, whose, and what it opens",
		examples: []string{
			"plumlatch key show atlas-deploy",
			"plumlatch key show atlas-deploy -format rfc4716 > atlas-deploy.pub",
		},
	},
	{
		name: "key private", args: "NAME", min: 1, max: 1, flags: keyPrivate,
		summary: "Take a private half that the service keeps out of its safe, once",
		detail: "Its keeper or an admin may, with a reason; for some labels a second person has to consent\n(plumlatch " +
			"consent ask). It comes sealed for this machine. A private half that only its holder has is not here,\nand the " +
			"answer says what to do instead.",
		examples: []string{`plumlatch key private atlas-deploy-2 -reason "the new key of the deploy job"`},
	},
	{
		name:     "key delete",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    keyDelete,
		summary:  "Delete the record of a key that is granted nowhere",
		examples: []string{"plumlatch key delete atlas-old -yes"},
	},
}

// newKeyFlags are the flags that say what a new record is to hold.
type newKeyFlags struct {
	keeper, purpose string
	labels          labels
}

func (n *newKeyFlags) flags(f *flag.FlagSet) {
	n.labels = labels{}
	f.StringVar(&n.keeper, "keeper", "", "the person or team that holds the private half; you, unless given")
	f.StringVar(&n.purpose, "purpose", "", "what the key is for")
	f.Var(n.labels, "label", "a label, `name=value`; can be given several times")
}

func (n *newKeyFlags) labelMap() *map[string]string {
	if len(n.labels) == 0 {
		return nil
	}
	return new(map[string]string(n.labels))
}

// pairFlags are the flags that say what pair to make and where to put it.
type pairFlags struct {
	newKeyFlags
	typ            string
	bits           int
	out            string
	comment        string
	ask            bool
	passphraseFile string
	maker          string
	format         string
}

func (p *pairFlags) flags(f *flag.FlagSet) {
	p.newKeyFlags.flags(f)
	f.StringVar(&p.typ, "type", "ed25519", "ed25519, rsa or ecdsa")
	f.IntVar(&p.bits, "bits", 0, "rsa: 2048, 3072 (default) or 4096; ecdsa: 256 (default), 384 or 521")
	f.StringVar(&p.out, "out", "", "`file` for the private half; ~/.ssh/NAME unless given")
	f.StringVar(&p.comment, "comment", "", "comment in the public half; the key's name unless given")
	f.BoolVar(&p.ask, "passphrase", false, "ask for a passphrase for the private half, twice")
	f.StringVar(&p.passphraseFile, "passphrase-file", "", "`file` that holds the passphrase")
	f.StringVar(&p.format, "format", "openssh", "`format` of the private half: openssh, pem, pkcs8, ppk2 or ppk3")
	f.StringVar(&p.maker, "make", "here", "`where` to make the pair: here (this machine) or service")
}

func keyNew(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var p pairFlags
	p.flags(f)
	return func(ctx context.Context, s *session, args []string) error {
		k, path, err := s.newPair(ctx, args[0], p)
		if err != nil {
			return err
		}
		if s.json {
			return s.writeJSON(struct {
				apiclient.Key
				PrivateFile string `json:"private_file"`
			}{k, path})
		}
		if s.quiet {
			fmt.Fprintln(s.env.Out, k.Name)
			return nil
		}
		fmt.Fprintf(
			s.env.Out,
			"%s is recorded. The private half is in %s (mode 0600) and nowhere else: keep it safe.\n\n",
			k.Name,
			s.shown(path),
		)
		s.facts("Type", typeText(k.Type, k.Bits), "SHA-256", k.Fingerprints.Sha256, "Public half", s.shown(path)+".pub")
		fmt.Fprintf(s.env.Out, "\nUse it: plumlatch instance launch NAME -image IMAGE -size SIZE -key %s\n", k.Name)
		return nil
	}
}

// newPair makes a pair here or has the service make it, writes the private
// half to its file, and records the public half.
func (s *session) newPair(ctx context.Context, keyName string, p pairFlags) (apiclient.Key, string, error) {
	var none apiclient.Key
	if err := name.Check(keyName); err != nil {
		return none, "", fmt.Errorf("the name %q does not do: %w", keyName, err)
	}
	if p.maker != "here" && p.maker != "service" {
		return none, "", &usageError{fmt.Sprintf("-make is here or service, not %q", p.maker)}
	}
	p.format = cmp.Or(p.format, string(keypair.OpenSSHPrivate))
	spec, err := keypair.Spec{Type: p.typ, Bits: p.bits}.Normal()
	if err != nil {
		return none, "", &usageError{err.Error()}
	}
	client, err := s.connect()
	if err != nil {
		return none, "", err
	}
	if p.out == "" {
		home, err := s.home()
		if err != nil {
			return none, "", err
		}
		p.out = filepath.Join(home, ".ssh", keypair.Format(p.format).FileName(keyName))
	}
	if p.comment == "" {
		p.comment = keyName
	}
	// Asked first, so that no file is written for a name that is taken.
	if err := s.checkFree(ctx, client, keyName); err != nil {
		return none, "", err
	}
	place, err := reserve(p.out)
	if err != nil {
		return none, "", err
	}
	defer place.drop()
	passphrase, err := s.passphrase(p.ask, p.passphraseFile)
	if err != nil {
		return none, "", err
	}
	if p.maker == "service" {
		k, err := s.madeByService(ctx, client, keyName, spec, p, place, passphrase)
		return k, p.out, err
	}
	pair, err := keypair.Make(rand.Reader, spec, p.comment)
	if err != nil {
		return none, "", err
	}
	private, err := pair.Write(rand.Reader, keypair.Format(p.format), passphrase)
	if err != nil {
		return none, "", err
	}
	sha1, err := pair.PKCS8SHA1()
	if err != nil {
		return none, "", err
	}
	if err := place.keep(private, pair.Public); err != nil {
		return none, "", err
	}
	k, err := answer[apiclient.Key](
		client.ImportKey(ctx, &apiclient.ImportKeyParams{IdempotencyKey: newRequestKey()}, apiclient.ImportKey{
			Name:      keyName,
			PublicKey: pair.Line(),
			Keeper:    optional(p.keeper),
			Purpose:   optional(p.purpose),
			Labels:    p.labelMap(),
			Origin:    new(apiclient.OriginClient),
			Pkcs8Sha1: optional(keypair.FormatHex(sha1)),
		}),
	)
	var refused *apiclientError
	if errors.As(err, &refused) && refused.Status < 500 {
		return none, "", errors.Join(err, place.remove()) // nothing was recorded, so nothing is left
	}
	if err != nil {
		fmt.Fprintf(
			s.env.Err,
			"The pair is in %s, but it is not certain that it was recorded.\nLook: plumlatch key show %s\nOr record it: "+
				"plumlatch key import %s -from %s.pub\n",
			p.out,
			keyName,
			keyName,
			shellWord(p.out),
		)
	}
	return k, p.out, err
}

func (s *session) checkFree(ctx context.Context, client *apiclient.Client, keyName string) error {
	k, err := answer[apiclient.Key](client.GetKey(ctx, keyName))
	if code(err) == "no-such-key" {
		return nil
	}
	if err != nil {
		return err
	}
	if k.Origin == apiclient.OriginService {
		_, err := release(ctx, client, keyName, "")
		return fmt.Errorf("there is a key named %s already: %w", keyName, err)
	}
	return &apiclientError{
		apiclient.Problem{
			Code:   "name-taken",
			Detail: fmt.Sprintf("there is a key named %s already", keyName),
			Remedy: new("Choose another name, or see it: plumlatch key show " + keyName),
		},
	}
}

// madeByService has the service make the pair. A passphrase is put on the
// private half here, so that it is not sent.
func (s *session) madeByService(
	ctx context.Context,
	client *apiclient.Client,
	keyName string,
	spec keypair.Spec,
	p pairFlags,
	place *keyFile,
	passphrase []byte,
) (apiclient.Key, error) {
	made, err := answer[apiclient.MadeKey](
		client.MakeKey(ctx, &apiclient.MakeKeyParams{IdempotencyKey: newRequestKey()}, apiclient.MakeKey{
			Name:    keyName,
			Type:    &spec.Type,
			Bits:    &spec.Bits,
			Comment: &p.comment,
			Keeper:  optional(p.keeper),
			Purpose: optional(p.purpose),
			Labels:  p.labelMap(),
		}),
	)
	if err != nil {
		return apiclient.Key{}, err
	}
	pair, err := keypair.ReadPrivate([]byte(made.PrivateHalf), nil)
	var private []byte
	if err == nil {
		private, err = pair.Write(rand.Reader, keypair.Format(p.format), passphrase)
	}
	if err == nil {
		err = place.keep(private, pair.Public)
	}
	if err != nil {
		return apiclient.Key{}, fmt.Errorf(
			"the service made %s, but its private half could not be written and is lost: %w\nDelete the record: plumlatch key "+
				"delete %s",
			keyName,
			err,
			keyName,
		)
	}
	return made.Key, nil
}

func keyImport(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var n newKeyFlags
	n.flags(f)
	from := f.String("from", "", "`file` to read; standard input unless given")
	var held agentFlags
	held.flags(f)
	comment := f.String("comment", "", "replaces the comment, which often names a person and a laptop")
	drop := f.Bool("no-comment", false, "drop the comment")
	list := f.String(
		"list",
		"",
		"import every key in this `file`, one to a line, such as an authorized_keys file; NAME begins their names",
	)
	yes := f.Bool("yes", false, "with -list: do not ask")
	return func(ctx context.Context, s *session, args []string) error {
		if err := held.check(); err != nil {
			return err
		}
		if held.use && (*from != "" || *list != "") {
			return &usageError{"-agent goes with neither -from nor -list"}
		}
		if *list != "" {
			if *from != "" || *comment != "" {
				return &usageError{"-list goes with neither -from nor -comment"}
			}
			return s.importList(ctx, args[0], *list, *drop, *yes, n)
		}
		if *drop && *comment != "" {
			return &usageError{"-comment and -no-comment exclude each other"}
		}
		text, err := s.importText(*from, held)
		if err != nil {
			return err
		}
		// Read here first, so that a private key is never sent.
		public, err := keypair.ReadPublic(text)
		if err != nil {
			return err
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		request := apiclient.ImportKey{
			Name:      args[0],
			PublicKey: public.Line(),
			Keeper:    optional(n.keeper),
			Purpose:   optional(n.purpose),
			Labels:    n.labelMap(),
			Comment:   optional(*comment),
		}
		if *drop {
			request.Comment = new("")
		}
		k, err := answer[apiclient.Key](
			client.ImportKey(ctx, &apiclient.ImportKeyParams{IdempotencyKey: newRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		if s.json {
			return s.writeJSON(k)
		}
		if s.quiet {
			fmt.Fprintln(s.env.Out, k.Name)
			return nil
		}
		for _, n := range public.Notes {
			fmt.Fprintf(s.env.Err, "Repaired: %s.\n", n.Text)
		}
		fmt.Fprintf(s.env.Out, "%s is recorded.\n\n", k.Name)
		note := ""
		if k.Comment != "" && k.Comment == public.Comment {
			note = s.faint("  (kept; -no-comment drops it, -comment TEXT replaces it)")
		}
		s.facts(
			"Type",
			typeText(k.Type, k.Bits),
			"SHA-256",
			k.Fingerprints.Sha256,
			"MD5",
			k.Fingerprints.Md5,
			"Comment",
			k.Comment+note,
			"Keeper",
			keeperText(k),
		)
		s.showFindings(k.Findings)
		return nil
	}
}

func (s *session) importText(from string, held agentFlags) (string, error) {
	if !held.use {
		return s.readKeyText(from)
	}
	k, err := s.agentKey(held)
	return k.Line(), err
}

func (s *session) readKeyText(from string) (string, error) {
	return s.readText(from, "the public key", keypair.MaxTextBytes+1)
}

// readText reads at most limit bytes of a file, or of what is pasted where from is
// empty or -.
func (s *session) readText(from, what string, limit int64) (string, error) {
	var in io.Reader = s.env.In
	if from != "" && from != "-" {
		f, err := os.Open(from)
		if err != nil {
			return "", err
		}
		defer f.Close()
		in = f
	} else if isTerminal(s.env.In) {
		fmt.Fprintln(s.env.Err, "Paste "+what+", then press Ctrl-D:")
	}
	data, err := io.ReadAll(io.LimitReader(in, limit))
	return string(data), err
}

// keeperName says whose a key is.
func keeperName(k apiclient.Key) string {
	switch {
	case given(k.Steward):
		return "the service's own"
	case k.Keeper == nil:
		return "nobody"
	}
	return k.Keeper.Name
}

// keeperText says whose a key is, with who that is.
func keeperText(key apiclient.Key) string {
	k := key.Keeper
	if k == nil {
		return keeperName(key)
	}
	if k.Title != "" && k.Title != k.Name {
		return k.Name + " (" + k.Title + ")"
	}
	return k.Name
}

func keyList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var p paging
	p.flags(f)
	find := f.String("find", "", "`part` of a name, a comment or a purpose")
	typ := f.String("type", "", "only this type")
	keeper := f.String("keeper", "", "only this keeper's")
	label := f.String("label", "", "only with this label, `name=value`")
	sort := f.String("sort", "name", "`order`: name, -name, created or -created")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		keys, total, err := fetch[apiclient.Key](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListKeys(
					ctx,
					&apiclient.ListKeysParams{
						After:  after,
						Limit:  &limit,
						Total:  count,
						Q:      optional(*find),
						Type:   optional(*typ),
						Keeper: optional(*keeper),
						Label:  optional(*label),
						Sort:   sort,
					},
				)
			},
		)
		if err != nil {
			return err
		}
		return keyListing.show(s, keys, total)
	}
}

var keyListing = listing[apiclient.Key]{
	head: []string{"NAME", "TYPE", "BITS", "KEEPER", "OPENS", "MADE", "SHA-256"},
	name: func(k apiclient.Key) string { return k.Name },
	none: "No key fits. Make one: plumlatch key new NAME",
	cells: func(k apiclient.Key) []string {
		return []string{
			k.Name,
			k.Type,
			strconv.Itoa(k.Bits),
			keeperName(k),
			strconv.Itoa(k.Opens),
			day(k.CreatedAt),
			k.Fingerprints.Sha256,
		}
	},
}

func keyShow(f *flag.FlagSet) func(context.Context, *session, []string) error {
	format := f.String("format", "", "write only the public half, in this `form`: line, rfc4716, spki or jwk")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		if *format != "" {
			text, err := answerBytes(client.GetPublicHalf(ctx, args[0], &apiclient.GetPublicHalfParams{Format: format}))
			if err == nil {
				_, err = s.env.Out.Write(text)
			}
			return err
		}
		k, err := answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		openings, total, err := fetch[apiclient.Opening](
			ctx,
			paging{limit: 50},
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListOpens(ctx, args[0], &apiclient.ListOpensParams{After: after, Limit: &limit, Total: count})
			},
		)
		if err != nil {
			return err
		}
		if s.json {
			return s.writeJSON(struct {
				apiclient.Key
				Logins []apiclient.Opening `json:"logins"`
			}{k, openings})
		}
		file := s.findPrivate(k.Fingerprints.Sha256)
		s.facts(
			"Name",
			k.Name,
			"Type",
			typeText(k.Type, k.Bits)+" ("+k.Algorithm+")",
			"SHA-256",
			k.Fingerprints.Sha256,
			"MD5",
			k.Fingerprints.Md5,
			"MD5 of the SPKI DER",
			given(k.Fingerprints.SpkiMd5),
			"SHA-1 of the PKCS#8 DER",
			given(k.Fingerprints.Pkcs8Sha1),
			"SSHFP",
			given(k.Fingerprints.Sshfp),
			"Comment",
			k.Comment,
			"Keeper",
			keeperText(k),
			"Purpose",
			k.Purpose,
			"Labels",
			labelText(k.Labels),
			"State",
			string(k.State),
			"Private half",
			custodyText(k),
			"On this machine",
			file,
			"Recorded",
			moment(k.CreatedAt)+" by "+k.CreatedBy,
			"Public half",
			k.PublicKey,
		)
		s.showFindings(k.Findings)
		fmt.Fprintln(s.env.Out)
		if total == 0 {
			fmt.Fprintln(s.env.Out, "It opens nothing.")
			return nil
		}
		s.openingTable(openings, false)
		s.rest(len(openings), total)
		return nil
	}
}

func custodyText(k apiclient.Key) string {
	switch {
	case k.Custody == apiclient.CustodyKept:
		return "kept by the service, encrypted"
	case k.Origin == apiclient.OriginService:
		return "with its keeper; the service made it and handed it over once"
	}
	return "with its keeper; it never came to the service"
}

func keyPrivate(f *flag.FlagSet) func(context.Context, *session, []string) error {
	out := f.String("out", "", "`file` to write, with mode 0600; ~/.ssh/NAME unless given")
	reason := f.String("reason", "", "why, for the daybook")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		k, err := answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		public, err := keypair.ReadLine(k.PublicKey)
		if err != nil {
			return err
		}
		if *out == "" {
			home, err := s.home()
			if err != nil {
				return err
			}
			*out = filepath.Join(home, ".ssh", args[0])
		}
		place := (*keyFile)(nil)
		if k.Custody == apiclient.CustodyKept { // what is handed over once must not be lost for want of a place
			if place, err = reserve(*out); err != nil {
				return err
			}
			defer place.drop()
		}
		private, err := release(ctx, client, args[0], *reason)
		if err != nil {
			return err
		}
		if place == nil { // the service has none, and said so before
			return fmt.Errorf("the private half of %s is not kept", k.Name)
		}
		if err := place.keep(private, public); err != nil {
			return err
		}
		if !s.quiet && !s.json {
			fmt.Fprintf(
				s.env.Out,
				"The private half of %s is in %s (mode 0600). It is handed over once; the copy in the safe serves the service "+
					"alone.\nProve that you hold it: plumlatch prove %s\nHave the safe forget its copy: plumlatch key forget %s\n",
				k.Name,
				s.shown(*out),
				k.Name,
				k.Name,
			)
		}
		return nil
	}
}

func keyDelete(f *flag.FlagSet) func(context.Context, *session, []string) error {
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		k, err := answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		if k.Opens == 0 {
			if err := s.confirm(
				*yes,
				fmt.Sprintf(
					"This deletes the record of %s (%s). Its private half, wherever it is, stays there.",
					k.Name,
					k.Fingerprints.Sha256,
				),
				k.Name,
			); err != nil {
				return err
			}
		}
		if _, err := answerBytes(client.DeleteKey(ctx, args[0])); err != nil {
			return err
		}
		if !s.quiet && !s.json {
			fmt.Fprintf(s.env.Out, "The record of %s is deleted.\n", args[0])
		}
		return nil
	}
}

// localName is the name of the person at this machine, for greetings.
func localName() string {
	u, err := user.Current()
	if err != nil {
		return ""
	}
	return strings.ToLower(u.Username)
}
