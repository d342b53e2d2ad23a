package grants

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/core/text"
)

var ProveCommands = []kit.Command{
	{
		Name: "prove", Args: "[KEY|LOGIN ...]", Max: -1, Flags: prove,
		Summary: "Prove that you have a private key, or that it opens a login",
		Detail: `For a key, this machine signs a text from the service with the private key (from -with FILE
or folder, -agent, or found here), and the service checks the signature. Without arguments
it proves every recorded key at hand. For a login, user@instance or just the instance, it
logs in from here and reports the host key. Nothing secret is sent. With -due it shows what
you or -holder have to prove, and ends with status 3 if a proof is missing or too old.`,
		Examples: []string{
			"plumlatch prove -due",
			"plumlatch prove -agent",
			"plumlatch prove -with ~/.ssh",
			"plumlatch prove atlas-deploy",
			"plumlatch prove ubuntu@atlas-web-1 -with ~/.ssh/atlas",
			"plumlatch prove atlas-web-1",
		},
	},
}

func sha256Of(h kit.AtHand) string { return keypair.FormatSHA256(h.Public.SHA256()) }

func prove(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var h kit.LocalKeyFlags
	h.Flags(f)
	due := f.Bool("due", false, "show which proofs are due")
	holder := f.String("holder", "me", "with -due: of this `holder`; all for everybody")
	within := kit.Days(7)
	f.Var(&within, "within", "with -due: also proofs that go stale within this `time`, such as 14d; 7d unless given")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if *due {
			if len(args) > 0 || h.Given() {
				return kit.Usage("-due only shows which proofs are due; to prove a key, leave -due out")
			}
			return proofsDue(s, ctx, client, *holder, int(within))
		}
		var signers []kit.AtHand
		if h.Given() {
			found, end, err := s.LocalKeys(h)
			if err != nil {
				return err
			}
			defer end()
			signers = found
		} else if len(args) == 0 {
			return kit.Usage("say what to prove: KEY or user@instance; or everything in a place: -agent, -with FOLDER")
		}
		var results []proved
		var problems []error
		note := func(r proved, err error) {
			results = append(results, r)
			problems = append(problems, err)
		}
		if len(args) == 0 {
			for _, signer := range signers {
				note(proveKey(s, ctx, client, signer))
			}
		}
		for _, name := range args {
			if strings.Contains(name, "@") || isInstance(s, ctx, client, name) {
				note(proveLogin(s, ctx, client, name, signers, h))
				continue
			}
			note(ProveKey(s, ctx, client, name, signers, h))
		}
		return showProved(s, results, errors.Join(problems...))
	}
}

// proofsDue shows what a holder, or everybody, has to prove.
func proofsDue(s *kit.Session, ctx context.Context, client *apiclient.Client, holder string, within int) error {
	params := apiclient.ListProofsDueParams{Within: &within}
	if holder != "all" {
		params.Holder = &holder
	}
	rows, total, err := kit.Fetch[apiclient.ProofDue](
		ctx,
		kit.Paging{Limit: 1, All: true},
		func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
			params.After, params.Limit = after, &limit
			return client.ListProofsDue(ctx, &params)
		},
	)
	if err != nil {
		return err
	}
	l := kit.Listing[apiclient.ProofDue]{
		Head: []string{
			"HOLDER",
			"KEY",
			"OPENS",
			"PROVED",
			"STATE",
		}, Name: func(d apiclient.ProofDue) string { return d.Key.Name },
		None: "Nothing to prove.",
		Cells: func(d apiclient.ProofDue) []string {
			last, state := "never", string(d.State)
			if d.ProvedAt != nil {
				last = kit.Day(*d.ProvedAt)
			}
			if d.State == apiclient.ProofDueStateSoonStale {
				state = "stale from " + kit.Day(*d.StaleAt)
			}
			return []string{kit.Given(d.Key.Holder), d.Key.Name, fmt.Sprint(d.Logins), last, state}
		},
	}
	if err := l.Show(s, rows, total); err != nil {
		return err
	}
	if err := alsoAsked(s, ctx, client, holder); err != nil {
		return err
	}
	if !slices.ContainsFunc(rows, func(d apiclient.ProofDue) bool { return d.State != apiclient.ProofDueStateSoonStale }) {
		return nil
	}
	if !s.Json && !s.Quiet {
		fmt.Fprintln(
			s.Env.Out,
			"\nProve all that are in a folder or in the ssh-agent: plumlatch prove -with ~/.ssh, or plumlatch prove -agent",
		)
	}
	return kit.Quiet(kit.ExitNotAsItShould)
}

// alsoAsked tells of the new public keys that the same holder is asked to bring.
func alsoAsked(s *kit.Session, ctx context.Context, client *apiclient.Client, holder string) error {
	if s.Json || s.Quiet {
		return nil
	}
	var params apiclient.ListAskedKeysParams
	if holder != "all" {
		params.Holder = &holder
	}
	asked, err := kit.Answer[[]apiclient.AskedKey](client.ListAskedKeys(ctx, &params))
	for _, k := range asked {
		fmt.Fprintf(
			s.Env.Out,
			"\n%s is asked to bring a new public key that follows %s, for %s: plumlatch rotate bring %s -new\n",
			k.Holder, k.Follows, text.Counted(k.Logins, "login"), k.Name,
		)
	}
	return err
}

// proved is what came of one proof.
type proved struct {
	What   string `json:"what"`
	Kind   string `json:"kind"`
	Proved bool   `json:"proved"`
	Why    string `json:"why,omitempty"`
}

func showProved(s *kit.Session, results []proved, err error) error {
	if s.Json {
		if err := s.WriteJSON(results); err != nil {
			return err
		}
		if err != nil {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	}
	done := 0
	for _, r := range results {
		switch {
		case r.Proved && s.Quiet:
			fmt.Fprintln(s.Env.Out, r.What)
		case r.Proved:
			fmt.Fprintf(s.Env.Out, "%s: %s is proved.\n", r.What, r.Kind)
		case !s.Quiet && len(results) > 1: // of one, the error says it
			fmt.Fprintf(s.Env.Out, "%s: %s\n", r.What, r.Why)
		}
		if r.Proved {
			done++
		}
	}
	switch {
	case err != nil && done > 0:
		return kit.Quiet(kit.ExitNotAsItShould)
	case done == 0 && err == nil:
		return kit.Missing("no-such-key", "no key here is recorded", "Record one: plumlatch key import NAME -from FILE")
	}
	return err
}

// proveKey proves the record that a private key belongs to, if there is one.
func proveKey(s *kit.Session, ctx context.Context, client *apiclient.Client, signer kit.AtHand) (proved, error) {
	name, err := s.RecordOf(ctx, client, signer)
	if err != nil {
		return proved{What: signer.From, Why: err.Error()}, err
	}
	if name == "" {
		return proved{What: signer.From + " " + signer.Comment, Kind: "possession", Why: "it is not recorded"}, nil
	}
	return signFor(s, ctx, client, name, signer)
}

// isInstance reports whether there is an instance of that name, and no key. An error is left to
// whoever asks for the thing itself.
func isInstance(s *kit.Session, ctx context.Context, client *apiclient.Client, name string) bool {
	if _, err := kit.Answer[apiclient.Key](client.GetKey(ctx, name)); kit.Code(err) != "no-such-key" {
		return false
	}
	_, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, name))
	return err == nil
}

func ProveKey(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	name string,
	signers []kit.AtHand,
	h kit.LocalKeyFlags,
) (proved, error) {
	fail := func(err error) (proved, error) { return proved{What: name, Kind: "possession", Why: err.Error()}, err }
	k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, name))
	if err != nil {
		return fail(err)
	}
	signer, err := signerFor(s, k.Fingerprints.Sha256, signers, h)
	if err != nil {
		return fail(err)
	}
	return signFor(s, ctx, client, name, signer)
}

// signerFor picks the private key of a key among those given, or finds it on this machine.
func signerFor(s *kit.Session, sha256 string, signers []kit.AtHand, h kit.LocalKeyFlags) (kit.AtHand, error) {
	for _, signer := range signers {
		if sha256Of(signer) == sha256 {
			return signer, nil
		}
	}
	if h.Given() {
		return kit.AtHand{}, kit.Missing("no-private-key", "the private key of "+sha256+" is not among those given", "")
	}
	file := s.FindPrivate(sha256)
	if file == "" {
		return kit.AtHand{}, kit.NoPrivateKey("of " + sha256)
	}
	return s.FileKey(file, h.PassphraseFile, false)
}

func signFor(
	s *kit.Session, ctx context.Context, client *apiclient.Client, name string, signer kit.AtHand,
) (proved, error) {
	out := proved{What: name, Kind: "possession"}
	c, err := kit.Answer[apiclient.Challenge](client.ChallengeKeyWithBody(ctx, name, "application/json", http.NoBody))
	if err == nil && c.Namespace != signature.Namespace {
		err = fmt.Errorf(
			"the service asks for a signature in the namespace %q, which is not for proofs; nothing was signed",
			c.Namespace,
		)
	}
	if err == nil {
		var armoured string
		if armoured, err = signature.Sign(signer.Signer, c.Namespace, []byte(c.Text)); err == nil {
			_, err = kit.Answer[apiclient.Key](
				client.ProveKey(ctx, name, apiclient.ProveKey{Challenge: c.Id, Signature: armoured}),
			)
		}
	}
	if err != nil {
		out.Why = err.Error()
		return out, err
	}
	out.Proved = true
	return out, nil
}

func proveLogin(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	name string,
	signers []kit.AtHand,
	h kit.LocalKeyFlags,
) (proved, error) {
	out := proved{What: name, Kind: "entry"}
	fail := func(err error) (proved, error) {
		out.Why = err.Error()
		return out, err
	}
	l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, name))
	if err != nil {
		return fail(err)
	}
	if !h.Given() {
		file := s.FileFor(l.Openers)
		if file == "" {
			return fail(
				kit.NoPrivateKey("that opens " + name),
			)
		}
		signer, err := s.FileKey(file, h.PassphraseFile, false)
		if err != nil {
			return fail(err)
		}
		signers = []kit.AtHand{signer}
	}
	session, signer, err := s.Enter(ctx, l.Connection, signers)
	if err != nil {
		return fail(err)
	}
	defer session.Close()
	if record, err := s.RecordOf(ctx, client, signer); err != nil || record == "" {
		return fail(errors.Join(err, kit.Missing(
			"no-such-key", "the login was completed, but its key is not recorded",
			"Record it: plumlatch key import NAME -from FILE",
		)))
	}
	if _, err := s.ReportEntry(ctx, client, l, session, signer); err != nil {
		return fail(err)
	}
	out.Proved = true
	return out, nil
}
