// Package keys holds the commands about keys, who keeps them, and the safe.
package keys

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
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
)

var KeyCommands = []kit.Command{
	{
		Name: "key new", Args: "NAME", Min: 1, Max: 1, Flags: keyNew,
		Summary: "Make a key pair on this machine and record its public key",
		Detail: `The private key is written to ~/.ssh/NAME with mode 0600, never over an existing file,
and never leaves this machine. With -make service the service makes the pair and hands
over the private key once. The maker of a private key has it: with -holder of
somebody else you hold it until they have proved that they do.`,
		Examples: []string{
			"plumlatch key new atlas-deploy",
			"plumlatch key new ringing-backup -type rsa -bits 4096 -passphrase",
			"plumlatch key new gauge-admin -type rsa -format ppk3",
			"plumlatch key new hides -holder team-field -label team=cameras -out ./hides",
		},
	},
	{
		Name: "key import", Args: "NAME", Min: 1, Max: 1, Flags: keyImport,
		Summary: "Import a public key",
		Detail: `It takes the one-line OpenSSH form, as in a .pub file, the armoured form of RFC 4716, PEM
and JWK. It repairs what can be repaired without doubt, such as CRLF or a wrapped line,
and says so. A private key is refused; with -agent it takes the public key of one in the
ssh-agent.`,
		Examples: []string{
			"plumlatch key import marek-laptop -from ~/.ssh/id_ed25519.pub",
			"plumlatch key import gauge-key -no-comment < gauge.pub",
			"plumlatch key import ringing -list ./authorized_keys",
			"plumlatch key import oona-token -agent -pick oona@token",
			"plumlatch key import oona-main -from oona.pub -holder oona -comment field-tablet",
		},
	},
	{
		Name:    "key list",
		Flags:   keyList,
		Summary: "List keys",
		Examples: []string{
			"plumlatch key list",
			"plumlatch key list -holder ines",
			"plumlatch key list -find atlas -sort -created",
		},
	},
	{
		Name: "key show", NoNames: true,
		Args:    "NAME",
		Min:     1,
		Max:     1,
		Flags:   keyShow,
		Summary: "Show one key: what it is, whose, and what it opens",
		Examples: []string{
			"plumlatch key show atlas-deploy",
			"plumlatch key show atlas-deploy -format rfc4716 > atlas-deploy.pub",
		},
	},
	{
		Name: "key private", Args: "NAME", Min: 1, Max: 1, Flags: keyPrivate,
		Summary: "Release a kept private key from the safe, once",
		Detail: "Its holder or an admin may, with a reason; for some labels a second person has to consent\n(plumlatch " +
			"consent ask). It comes encrypted for this machine. A private key that only its holder has is not here,\nand the " +
			"answer says what to do instead.",
		Examples: []string{`plumlatch key private atlas-deploy-2 -reason "the new key of the deploy job"`},
	},
	{
		Name: "key change", Args: "KEY", Min: 1, Max: 1, Flags: keyChange,
		Summary: "Rename a key, or change its purpose, labels or holder",
		Detail: `Its holder may, or an admin. -holder asks somebody to take the key over, as key hand-over does.
The lines on the instances stay as they are.`,
		Examples: []string{
			"plumlatch key change id_rsa_2 -name ringing-sunniva",
			`plumlatch key change hides-shared -purpose "cameras in the hides" -label team=field -remove-label old`,
			"plumlatch key change atlas-deploy -holder team-atlas",
		},
	},
	{
		Name:     "key delete",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    keyDelete,
		Summary:  "Delete the record of a key that is granted nowhere",
		Examples: []string{"plumlatch key delete atlas-old -yes"},
	},
}

// newKeyFlags are the flags that say what a new record is to hold.
type newKeyFlags struct {
	holder, purpose string
	labels          kit.Labels
}

func (n *newKeyFlags) flags(f *flag.FlagSet) {
	n.labels = kit.Labels{}
	f.StringVar(&n.holder, "holder", "", "the person or team that has the private key; you, unless given")
	f.StringVar(&n.purpose, "purpose", "", "what the key is for")
	f.Var(n.labels, "label", "a label, `name=value`; can be given several times")
}

func (n *newKeyFlags) labelMap() *map[string]string {
	if len(n.labels) == 0 {
		return nil
	}
	return new(map[string]string(n.labels))
}

// PairFlags are the flags that say what pair to make and where to put it.
type PairFlags struct {
	newKeyFlags
	Typ            string
	Bits           int
	Out            string
	comment        string
	ask            bool
	PassphraseFile string
	Maker          string
	format         string
}

func (p *PairFlags) flags(f *flag.FlagSet) {
	p.newKeyFlags.flags(f)
	f.StringVar(&p.Typ, "type", "ed25519", "ed25519, rsa or ecdsa")
	f.IntVar(&p.Bits, "bits", 0, "rsa: 2048, 3072 (default) or 4096; ecdsa: 256 (default), 384 or 521")
	f.StringVar(&p.Out, "out", "", "`file` for the private key; ~/.ssh/NAME unless given")
	f.StringVar(&p.comment, "comment", "", "comment in the public key; the key's name unless given")
	f.BoolVar(&p.ask, "passphrase", false, "ask for a passphrase for the private key, twice")
	f.StringVar(&p.PassphraseFile, "passphrase-file", "", "`file` with the passphrase")
	f.StringVar(&p.format, "format", "openssh", "`format` of the private key: openssh, pem, pkcs8, ppk2 or ppk3")
	f.StringVar(&p.Maker, "make", "here", "`where` to make the pair: here (this machine) or service")
}

func keyNew(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p PairFlags
	p.flags(f)
	return func(ctx context.Context, s *kit.Session, args []string) error {
		k, path, err := NewPair(s, ctx, args[0], p)
		if err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(struct {
				apiclient.Key
				PrivateFile string `json:"private_file"`
			}{k, path})
		}
		if s.Quiet {
			fmt.Fprintln(s.Env.Out, k.Name)
			return nil
		}
		fmt.Fprintf(
			s.Env.Out,
			"%s is recorded. The private key is in %s (mode 0600) and nowhere else: keep it safe.\n\n", k.Name,
			s.Shown(path),
		)
		s.Facts("Type", kit.TypeText(k.Type, k.Bits), "SHA-256", k.Fingerprints.Sha256, "Public key", s.Shown(path)+".pub")
		fmt.Fprintf(s.Env.Out, "\nUse it: plumlatch instance launch NAME -image IMAGE -size SIZE -key %s\n", k.Name)
		return nil
	}
}

// NewPair makes a pair here or has the service make it, writes the private
// key to its file, and records the public key.
func NewPair(s *kit.Session, ctx context.Context, keyName string, p PairFlags) (apiclient.Key, string, error) {
	var none apiclient.Key
	if err := name.Check(keyName); err != nil {
		return none, "", kit.BadName(keyName, err)
	}
	if p.Maker != "here" && p.Maker != "service" {
		return none, "", kit.Usage(fmt.Sprintf("-make is here or service, not %q", p.Maker))
	}
	p.format = cmp.Or(p.format, string(keypair.OpenSSHPrivate))
	spec, err := keypair.Spec{Type: p.Typ, Bits: p.Bits}.Normal()
	if err != nil {
		return none, "", kit.Usage(err.Error())
	}
	client, err := s.Connect()
	if err != nil {
		return none, "", err
	}
	if p.Out == "" {
		home, err := s.Home()
		if err != nil {
			return none, "", err
		}
		p.Out = filepath.Join(home, ".ssh", keypair.Format(p.format).FileName(keyName))
	}
	if p.comment == "" {
		p.comment = keyName
	}
	// Asked first, so that no file is written for a name that is taken.
	if err := checkFree(s, ctx, client, keyName); err != nil {
		return none, "", err
	}
	place, err := kit.Reserve(p.Out)
	if err != nil {
		return none, "", err
	}
	defer place.Drop()
	passphrase, err := s.Passphrase(p.ask, p.PassphraseFile)
	if err != nil {
		return none, "", err
	}
	if p.Maker == "service" {
		k, err := madeByService(s, ctx, client, keyName, spec, p, place, passphrase)
		return k, p.Out, err
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
	if err := place.Keep(private, pair.Public); err != nil {
		return none, "", err
	}
	k, err := kit.Answer[apiclient.Key](
		client.ImportKey(ctx, &apiclient.ImportKeyParams{IdempotencyKey: kit.NewRequestKey()}, apiclient.ImportKey{
			Name:      keyName,
			PublicKey: pair.Line(),
			Holder:    kit.Optional(p.holder),
			Purpose:   kit.Optional(p.purpose),
			Labels:    p.labelMap(),
			Origin:    new(apiclient.OriginClient),
			Pkcs8Sha1: kit.Optional(keypair.FormatHex(sha1)),
		}),
	)
	var refused *kit.ApiclientError
	if errors.As(err, &refused) && refused.Status < 500 {
		return none, "", errors.Join(err, place.Remove()) // nothing was recorded, so nothing is left
	}
	if err != nil {
		fmt.Fprintf(
			s.Env.Err,
			"The pair is in %s, but it is not certain that it was recorded.\nLook: plumlatch key show %s\nOr record it: "+
				"plumlatch key import %s -from %s.pub\n",
			p.Out,
			keyName,
			keyName,
			kit.ShellWord(p.Out),
		)
	}
	return k, p.Out, err
}

func checkFree(s *kit.Session, ctx context.Context, client *apiclient.Client, keyName string) error {
	k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, keyName))
	if kit.Code(err) == "no-such-key" {
		return nil
	}
	if err != nil {
		return err
	}
	if k.Origin == apiclient.OriginService {
		_, err := release(ctx, client, keyName, "")
		return fmt.Errorf("there is a key named %s already: %w", keyName, err)
	}
	return kit.Conflict(
		"name-taken", fmt.Sprintf("there is a key named %s already", keyName),
		"Choose another name, or see it: plumlatch key show "+keyName,
	)
}

// madeByService has the service make the pair. A passphrase is put on the
// private key here, so that it is not sent.
func madeByService(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	keyName string,
	spec keypair.Spec,
	p PairFlags,
	place *kit.KeyFile,
	passphrase []byte,
) (apiclient.Key, error) {
	made, err := kit.Answer[apiclient.MadeKey](
		client.MakeKey(ctx, &apiclient.MakeKeyParams{IdempotencyKey: kit.NewRequestKey()}, apiclient.MakeKey{
			Name:    keyName,
			Type:    &spec.Type,
			Bits:    &spec.Bits,
			Comment: &p.comment,
			Holder:  kit.Optional(p.holder),
			Purpose: kit.Optional(p.purpose),
			Labels:  p.labelMap(),
		}),
	)
	if err != nil {
		return apiclient.Key{}, err
	}
	pair, err := keypair.ReadPrivate([]byte(made.PrivateKey), nil)
	var private []byte
	if err == nil {
		private, err = pair.Write(rand.Reader, keypair.Format(p.format), passphrase)
	}
	if err == nil {
		err = place.Keep(private, pair.Public)
	}
	if err != nil {
		return apiclient.Key{}, fmt.Errorf(
			"the service made %s, but its private key could not be written and is lost: %w\nDelete the record: plumlatch key "+
				"delete %s",
			keyName,
			err,
			keyName,
		)
	}
	return made.Key, nil
}

func keyImport(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var n newKeyFlags
	n.flags(f)
	from := f.String("from", "", "`file` to read; standard input unless given")
	var held kit.AgentFlags
	held.Flags(f)
	comment := f.String("comment", "", "replaces the comment, which often names a person and a laptop")
	drop := f.Bool("no-comment", false, "drop the comment")
	list := f.String(
		"list", "",
		"import every key in this `file`, one to a line, such as an authorized_keys file; NAME begins their names",
	)
	yes := f.Bool("yes", false, "with -list: do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		if err := held.Check(); err != nil {
			return err
		}
		if held.Use && (*from != "" || *list != "") {
			return kit.Usage("-agent goes with neither -from nor -list")
		}
		if *list != "" {
			if *from != "" || *comment != "" {
				return kit.Usage("-list goes with neither -from nor -comment")
			}
			return importList(s, ctx, args[0], *list, *drop, *yes, n)
		}
		if *drop && *comment != "" {
			return kit.Usage("-comment and -no-comment exclude each other")
		}
		text, err := importText(s, *from, held)
		if err != nil {
			return err
		}
		// Read here first, so that a private key is never sent.
		public, err := keypair.ReadPublic(text)
		if err != nil {
			return err
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		request := apiclient.ImportKey{
			Name:      args[0],
			PublicKey: public.Line(),
			Holder:    kit.Optional(n.holder),
			Purpose:   kit.Optional(n.purpose),
			Labels:    n.labelMap(),
			Comment:   kit.Optional(*comment),
		}
		if *drop {
			request.Comment = new("")
		}
		k, err := kit.Answer[apiclient.Key](
			client.ImportKey(ctx, &apiclient.ImportKeyParams{IdempotencyKey: kit.NewRequestKey()}, request),
		)
		recorded := "is recorded"
		if code := kit.Code(err); code == "key-known" || code == "name-taken" {
			recorded = "was recorded already, with this key; nothing was changed"
			k, err = sameKey(ctx, client, args[0], public.Public, err)
		}
		if err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(k)
		}
		if s.Quiet {
			fmt.Fprintln(s.Env.Out, k.Name)
			return nil
		}
		for _, n := range public.Notes {
			fmt.Fprintf(s.Env.Err, "Repaired: %s.\n", n.Text)
		}
		fmt.Fprintf(s.Env.Out, "%s %s.\n\n", k.Name, recorded)
		s.Facts(
			"Type", kit.TypeText(k.Type, k.Bits), "SHA-256", k.Fingerprints.Sha256, "MD5", k.Fingerprints.Md5, "Comment",
			k.Comment, "Holder", holderText(k),
		)
		if k.Comment != "" && k.Comment == public.Comment {
			s.Below("", "The comment is kept; -no-comment drops it, -comment TEXT replaces it.", s.Faint)
		}
		showFindings(s, k.Findings)
		return nil
	}
}

// sameKey returns the key of that name if it is this one, and refused if it is not.
func sameKey(
	ctx context.Context, client *apiclient.Client, keyName string, public keypair.Public, refused error,
) (apiclient.Key, error) {
	k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, keyName))
	if err != nil || k.Fingerprints.Sha256 != keypair.FormatSHA256(public.SHA256()) {
		return k, refused
	}
	return k, nil
}

func importText(s *kit.Session, from string, held kit.AgentFlags) (string, error) {
	if !held.Use {
		return readKeyText(s, from)
	}
	k, err := s.AgentKey(held)
	return k.Line(), err
}

func readKeyText(s *kit.Session, from string) (string, error) {
	return ReadText(s, from, "the public key", keypair.MaxTextBytes+1)
}

// ReadText reads at most limit bytes of a file, or of what is pasted where from is
// empty or -.
func ReadText(s *kit.Session, from, what string, limit int64) (string, error) {
	var in io.Reader = s.Env.In
	if from != "" && from != "-" {
		f, err := os.Open(from)
		if err != nil {
			return "", err
		}
		defer f.Close()
		in = f
	} else if kit.IsTerminal(s.Env.In) {
		fmt.Fprintln(s.Env.Err, "Paste "+what+", then press Ctrl-D:")
	}
	data, err := io.ReadAll(io.LimitReader(in, limit))
	return string(data), err
}

// holderName says whose a key is.
func holderName(k apiclient.Key) string {
	switch {
	case kit.Given(k.Steward):
		return "the service's own"
	case k.Holder == nil:
		return "nobody"
	}
	return k.Holder.Name
}

// holderText says whose a key is, with who that is.
func holderText(key apiclient.Key) string {
	k := key.Holder
	if k == nil {
		return holderName(key)
	}
	if k.Title != "" && k.Title != k.Name {
		return k.Name + " (" + k.Title + ")"
	}
	return k.Name
}

func keyList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	find := f.String("find", "", "`part` of a name, a comment or a purpose")
	typ := f.String("type", "", "only this type")
	holder := f.String("holder", "", "only this holder's")
	label := f.String("label", "", "only with this label, `name=value`")
	own := f.Bool("own", false, "the service's own keys instead: steward keys, and those made for one visit")
	sort := f.String("sort", "name", "`order`: name, -name, created or -created")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		keys, total, err := kit.Fetch[apiclient.Key](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListKeys(ctx, &apiclient.ListKeysParams{
					After:  after,
					Limit:  &limit,
					Total:  count,
					Q:      kit.Optional(*find),
					Type:   kit.Optional(*typ),
					Holder: kit.Optional(*holder),
					Label:  kit.Optional(*label),
					Own:    own,
					Sort:   sort,
				})
			},
		)
		if err != nil {
			return err
		}
		return keyListing.Show(s, keys, total)
	}
}

var keyListing = kit.Listing[apiclient.Key]{
	Head:  []string{"NAME", "TYPE", "BITS", "HOLDER", "OPENS", "MADE", "SHA-256"},
	Least: []string{"SHA-256", "MADE", "BITS"}, Whole: []string{"SHA-256"},
	Name: func(k apiclient.Key) string { return k.Name },
	None: "No key matches. Make one: plumlatch key new NAME",
	Cells: func(k apiclient.Key) []string {
		return []string{
			k.Name,
			k.Type,
			strconv.Itoa(k.Bits),
			holderName(k),
			strconv.Itoa(k.Opens),
			kit.Day(k.CreatedAt),
			k.Fingerprints.Sha256,
		}
	},
}

func keyShow(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	format := f.String("format", "", "write only the public key, in this `form`: line, rfc4716, spki or jwk")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if *format != "" {
			text, err := kit.AnswerBytes(client.GetPublicKey(ctx, args[0], &apiclient.GetPublicKeyParams{Format: format}))
			if err == nil {
				_, err = s.Env.Out.Write(text)
			}
			return err
		}
		k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		openings, total, err := kit.Fetch[apiclient.Opening](
			ctx,
			kit.Paging{Limit: 50},
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListOpens(ctx, args[0], &apiclient.ListOpensParams{After: after, Limit: &limit, Total: count})
			},
		)
		if err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(struct {
				apiclient.Key
				Logins []apiclient.Opening `json:"logins"`
			}{k, openings})
		}
		file := s.FindPrivate(k.Fingerprints.Sha256)
		s.Facts(
			"Name", k.Name, "Type", kit.TypeText(k.Type, k.Bits)+" ("+k.Algorithm+")", "SHA-256", k.Fingerprints.Sha256,
			"MD5", k.Fingerprints.Md5, "MD5 of the SPKI DER", kit.Given(k.Fingerprints.SpkiMd5),
			"SHA-1 of the PKCS#8 DER", kit.Given(k.Fingerprints.Pkcs8Sha1), "SSHFP", kit.Given(k.Fingerprints.Sshfp),
			"Comment", k.Comment, "Holder", holderText(k), "Purpose", k.Purpose, "Labels", kit.LabelText(k.Labels),
			"State", string(k.State), "Private key", custodyText(k), "On this machine", file, "Recorded",
			kit.Moment(k.CreatedAt)+" by "+k.CreatedBy, "Public key", k.PublicKey,
		)
		showFindings(s, k.Findings)
		fmt.Fprintln(s.Env.Out)
		if total == 0 {
			fmt.Fprintln(s.Env.Out, "It opens nothing.")
			return nil
		}
		access.OpeningTable(s, openings, false)
		s.Rest(len(openings), total)
		return nil
	}
}

func custodyText(k apiclient.Key) string {
	switch {
	case k.Custody == apiclient.CustodyKept:
		return "kept by the service, encrypted"
	case k.Origin == apiclient.OriginService:
		return "with its holder; the service made it and handed it over once"
	}
	return "with its holder; it never came to the service"
}

func keyPrivate(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	out := f.String("out", "", "`file` to write, with mode 0600; ~/.ssh/NAME unless given")
	reason := f.String("reason", "", "why, for the daybook")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		public, err := keypair.ReadLine(k.PublicKey)
		if err != nil {
			return err
		}
		if *out == "" {
			home, err := s.Home()
			if err != nil {
				return err
			}
			*out = filepath.Join(home, ".ssh", args[0])
		}
		place := (*kit.KeyFile)(nil)
		if k.Custody == apiclient.CustodyKept { // what is handed over once must not be lost for want of a place
			if place, err = kit.Reserve(*out); err != nil {
				return err
			}
			defer place.Drop()
		}
		private, err := release(ctx, client, args[0], *reason)
		if err != nil {
			return err
		}
		if place == nil { // the service has none, and said so before
			return fmt.Errorf("the private key of %s is not kept", k.Name)
		}
		if err := place.Keep(private, public); err != nil {
			return err
		}
		if !s.Quiet && !s.Json {
			fmt.Fprintf(
				s.Env.Out,
				"The private key of %s is in %s (mode 0600). It is handed over once; the copy in the safe serves the service "+
					"alone.\nProve that you have it: plumlatch prove %s\nDelete the safe's copy: plumlatch key forget %s\n",
				k.Name,
				s.Shown(*out),
				k.Name,
				k.Name,
			)
		}
		return nil
	}
}

func keyChange(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	labels := kit.Labels{}
	var remove kit.Names
	rename := f.String("name", "", "its new `name`")
	purpose := f.String("purpose", "", "what the key is for")
	f.Var(labels, "label", "set a label, `name=value`; can be given several times")
	f.Var(&remove, "remove-label", "remove the label of this `name`; can be given several times")
	holder := f.String("holder", "", "ask this person or team to take the key over")
	reason := f.String("reason", "", "why, for the daybook")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		request := apiclient.ChangeKey{Name: kit.Optional(*rename), Reason: kit.Optional(*reason)}
		f.Visit(func(given *flag.Flag) {
			if given.Name == "purpose" {
				request.Purpose = purpose
			}
		})
		if len(labels) > 0 {
			request.SetLabels = new(map[string]string(labels))
		}
		if len(remove) > 0 {
			request.RemoveLabels = new([]string(remove))
		}
		changes := request.Name != nil || request.Purpose != nil || len(labels)+len(remove) > 0
		if !changes && *holder == "" {
			return kit.Usage("no changes were given: -name, -purpose, -label, -remove-label or -holder")
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if changes && err == nil {
			k, err = kit.Answer[apiclient.Key](client.ChangeKey(ctx, args[0], request))
		}
		if err != nil {
			return err
		}
		if *holder != "" && holderName(k) != *holder {
			return handOver(s, ctx, client, k.Name, apiclient.HandOver{To: *holder, Reason: kit.Optional(*reason)})
		}
		return Record(s, k, k.Name, func() { Say(s, "%s is changed. See it: plumlatch key show %s", k.Name, k.Name) })
	}
}

func keyDelete(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		if k.Opens == 0 {
			if err := s.Confirm(
				*yes,
				fmt.Sprintf(
					"This deletes the record of %s (%s). Its private key, wherever it is, stays there.", k.Name,
					k.Fingerprints.Sha256,
				),
				k.Name,
			); err != nil {
				return err
			}
		}
		if _, err := kit.AnswerBytes(client.DeleteKey(ctx, args[0])); err != nil {
			return err
		}
		if !s.Quiet && !s.Json {
			fmt.Fprintf(s.Env.Out, "The record of %s is deleted.\n", args[0])
		}
		return nil
	}
}

// LocalName is the name of the person at this machine, for greetings.
func LocalName() string {
	u, err := user.Current()
	if err != nil {
		return ""
	}
	return strings.ToLower(u.Username)
}
