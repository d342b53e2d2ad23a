package keys

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// minGrantedRSA is the least length of an RSA key that may be granted again, in bits.
const minGrantedRSA = 2048

// NewKey says what a key that is recorded or made will be called and whose it is.
type NewKey struct {
	Name    string
	Holder  string // "" means the actor
	Purpose string
	Labels  map[string]string
}

// ImportedKey is the public key of a pair made elsewhere.
type ImportedKey struct {
	NewKey
	// PublicKey is in any of the forms that keypair.ReadPublic reads.
	PublicKey string
	// PKCS8SHA1 is the digest of the private key's PKCS#8 DER, in hexadecimal,
	// where the client had that at hand; "" otherwise.
	PKCS8SHA1 string
	// Comment replaces the line's own; nil keeps that.
	Comment *string
	// MadeByClient is whether the pair was made by our client just now.
	MadeByClient bool
	// NoHolder is whether nobody is known to have the private key.
	NoHolder bool
}

// ReadKey says what a pasted text is, and the name under which the key is
// recorded already, if it is. Nothing is kept.
func (s *Service) ReadKey(ctx context.Context, text string) (keypair.PublicFile, string, error) {
	file, err := keypair.ReadPublic(text)
	if err != nil {
		return file, "", problem.FromRefusal("public_key", err)
	}
	k, err := s.store.KeyWithSHA256(ctx, file.SHA256())
	if errors.Is(err, store.ErrNotFound) {
		return file, "", nil
	}
	return file, k.Name, err
}

// ImportKey records the public key of a key pair.
func (s *Service) ImportKey(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, in ImportedKey,
) (record.Key, error) {
	if err := CheckNewKey(in.NewKey); err != nil {
		return record.Key{}, err
	}
	file, err := keypair.ReadPublic(in.PublicKey)
	if err != nil {
		return record.Key{}, problem.FromRefusal("public_key", err)
	}
	public := file.Public
	sha1, err := readPKCS8SHA1(in.PKCS8SHA1)
	if err != nil {
		return record.Key{}, err
	}
	if in.Comment != nil {
		if err := keypair.CheckComment(*in.Comment); err != nil {
			return record.Key{}, problem.FromRefusal("comment", err)
		}
		public.Comment = *in.Comment
	}
	origin, told := "import", "key.import"
	if in.MadeByClient {
		origin, told = "client", "key.import:made"
	}
	var k record.Key
	var to *record.Holder
	switch {
	case in.NoHolder && (in.MadeByClient || in.Holder != ""):
		return k, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-no_holder", Field: "no_holder",
			Detail: "a key has a holder who is named, or that it was made by, or none", Remedy: "Leave one of the two out",
		}
	case in.NoHolder:
		k = s.NewRecord(actor, in.NewKey, public, origin)
	case in.MadeByClient:
		k, to, err = s.madeFor(ctx, actor, in.NewKey, public, origin)
	default:
		k, err = s.record(ctx, actor, in.NewKey, public, origin)
	}
	if err != nil {
		return record.Key{}, err
	}
	k.PKCS8SHA1 = sha1
	first := true
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, k.Name)
		if err != nil || earlier != "" {
			first = false
			return err
		}
		if err := tx.AddKey(ctx, &k); err != nil {
			return err
		}
		if err := tx.ClaimStrangers(ctx); err != nil {
			return err
		}
		if err := tx.Note(
			ctx,
			s.journal.Entry(actor.By(), told, "key", k.Name, "", journal.Facts{"key": Describe(public)}),
		); err != nil {
			return err
		}
		return s.askOver(ctx, tx, actor, k, to)
	})
	if err != nil {
		return record.Key{}, s.TakenKey(ctx, err, in.Name, public)
	}
	if !first {
		return s.Key(ctx, k.Name)
	}
	return k, nil
}

// MadeHere is a pair that the service is to make.
type MadeHere struct {
	NewKey
	keypair.Spec
	Comment string
	// Format is that of the private key; "" means keypair.OpenSSHPrivate.
	Format keypair.Format
	// Passphrase encrypts the private key; empty for none.
	Passphrase string
	// Recipient is the asker's public key, as in Release; "" for a private key that is not encrypted to anybody.
	Recipient string
}

// MakeKey makes a pair here and returns the private key, which is kept nowhere.
func (s *Service) MakeKey(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, made MadeHere,
) (record.Key, []byte, error) {
	in, spec := made.NewKey, made.Spec
	if err := CheckNewKey(in); err != nil {
		return record.Key{}, nil, err
	}
	if _, err := spec.Normal(); err != nil {
		return record.Key{}, nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-key-type",
			Field:  "type",
			Detail: err.Error(),
		}
	}
	if made.Format == "" {
		made.Format = keypair.OpenSSHPrivate
	}
	pair, err := keypair.Make(rand.Reader, spec, made.Comment)
	if err != nil {
		return record.Key{}, nil, problem.FromRefusal("comment", err)
	}
	recipient, err := recipientOf(made.Recipient)
	if err != nil {
		return record.Key{}, nil, err
	}
	private, err := pair.Write(rand.Reader, made.Format, []byte(made.Passphrase))
	var none *keypair.FormatError
	if errors.As(err, &none) {
		return record.Key{}, nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-such-format",
			Field:  "format",
			Detail: none.Problem,
		}
	}
	if err == nil && recipient != nil {
		private, err = sealFor(recipient, in.Name, private)
	}
	if err != nil {
		return record.Key{}, nil, err
	}
	k, to, err := s.madeFor(ctx, actor, in, pair.Public, "service")
	if err != nil {
		return record.Key{}, nil, err
	}
	if k.PKCS8SHA1, err = pair.PKCS8SHA1(); err != nil {
		return record.Key{}, nil, err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, k.Name)
		if err != nil {
			return err
		}
		if earlier != "" {
			made, err := tx.KeyNamed(ctx, earlier)
			if err != nil {
				return s.NoKey(err, earlier)
			}
			return handedOver(made)
		}
		if err := tx.AddKey(ctx, &k); err != nil {
			return err
		}
		if err := tx.Note(ctx, s.journal.Entry(
			actor.By(), "key.make", "key", k.Name, "",
			journal.Facts{"key": Describe(pair.Public)},
		)); err != nil {
			return err
		}
		return s.askOver(ctx, tx, actor, k, to)
	})
	if err != nil {
		return record.Key{}, nil, s.TakenKey(ctx, err, in.Name, pair.Public)
	}
	return k, private, nil
}

func readPKCS8SHA1(text string) ([]byte, error) {
	if text == "" {
		return nil, nil
	}
	d, ok := keypair.ReadFingerprint(text)
	if !ok || d.Kind != "sha1" {
		return nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-digest",
			Field:  "pkcs8_sha1",
			Detail: "the SHA-1 digest is not 20 bytes in hexadecimal",
		}
	}
	return d.Sum, nil
}

func CheckNewKey(in NewKey) error {
	if err := problem.CheckName("name", in.Name); err != nil {
		return err
	}
	if err := problem.CheckText("purpose", in.Purpose); err != nil {
		return err
	}
	return problem.CheckLabels(in.Labels)
}

func (s *Service) record(
	ctx context.Context, actor people.Actor, in NewKey, public keypair.Public, origin string,
) (record.Key, error) {
	holder, err := s.people.HolderFor(ctx, actor, in.Holder)
	if err != nil {
		return record.Key{}, err
	}
	k := s.NewRecord(actor, in, public, origin)
	k.Holder = holder
	if holder != nil {
		k.HolderID = &holder.ID
	}
	return k, nil
}

// madeFor is record for a key whose private key the actor has made or is given. They hold it until whoever was
// named has proved it, who is asked to take it over: to, nil for nobody.
func (s *Service) madeFor(
	ctx context.Context, actor people.Actor, in NewKey, public keypair.Public, origin string,
) (k record.Key, to *record.Holder, err error) {
	if k, err = s.record(ctx, actor, in, public, origin); err != nil || k.HolderID == nil {
		return k, nil, err
	}
	is, err := s.store.IsOf(ctx, *k.HolderID, actor.ID)
	if err != nil || is {
		return k, nil, err
	}
	to = k.Holder
	own, err := s.people.HolderFor(ctx, actor, "")
	if k.Holder, k.HolderID = own, nil; own != nil {
		k.HolderID = &own.ID
	}
	return k, to, err
}

// askOver asks a holder to take over a key that the actor has made.
func (s *Service) askOver(
	ctx context.Context, tx *store.Store, actor people.Actor, k record.Key, to *record.Holder,
) error {
	if to == nil {
		return nil
	}
	if err := tx.AddHandover(ctx, record.Handover{
		ID:         store.NewID(),
		KeyID:      k.ID,
		FromHolder: k.HolderID,
		ToHolder:   to.ID,
		AskedBy:    actor.Name,
		AskedAt:    s.now().Truncate(time.Microsecond),
		KeyName:    k.Name,
		ToName:     to.Name,
	}); err != nil {
		return err
	}
	return tx.Note(ctx, s.journal.Entry(
		actor.By(), "key.hand-over-ask", "key", k.Name, "", journal.Facts{"holder": to.Name},
	))
}

// NewRecord fills in all of a record but its holder.
func (s *Service) NewRecord(actor people.Actor, in NewKey, public keypair.Public, origin string) record.Key {
	k := record.Key{
		ID:        store.NewID(),
		Name:      in.Name,
		Type:      public.Type,
		Algorithm: public.Algorithm,
		Bits:      public.Bits,
		Blob:      public.Blob,
		SHA256:    public.SHA256(),
		MD5:       public.MD5(),
		SPKIMD5:   public.SPKIMD5(),
		Comment:   public.Comment,
		Purpose:   in.Purpose,
		Labels:    in.Labels,
		Custody:   custody.Holder, Origin: origin, State: custody.Active, CreatedAt: s.now(), CreatedBy: actor.Name,
	}
	if k.Labels == nil {
		k.Labels = map[string]string{}
	}
	return k
}

func Describe(p keypair.Public) string {
	if p.Type == keypair.RSA || p.Type == keypair.ECDSA {
		return fmt.Sprintf("%s, %d bits", p.Type, p.Bits)
	}
	return p.Type
}

// TakenKey says which record has the name or the key already.
func (s *Service) TakenKey(ctx context.Context, err error, wanted string, public keypair.Public) error {
	var taken *store.TakenError
	if !errors.As(err, &taken) {
		return err
	}
	if same, err := s.store.KeyWithSHA256(ctx, public.SHA256()); err == nil {
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "key-known",
			Field:  "public_key",
			Where:  []string{same.Name},
			Detail: fmt.Sprintf("this key is recorded already, under the name %s", same.Name),
			Remedy: "Use that record: plumlatch key show " + same.Name,
		}
	}
	p := &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "name-taken",
		Field:  "name",
		Detail: fmt.Sprintf("there is a key named %s already", wanted),
		Remedy: "Choose another name",
	}
	if k, err := s.store.KeyNamed(ctx, wanted); err == nil && k.Origin == "service" {
		p.Detail += "; the service made it, and its private key " + handedOverWords(k)
		p.Remedy = "Make a new pair under another name"
	}
	return p
}

func (s *Service) NoKey(err error, name string) error {
	if errors.Is(err, store.ErrNotFound) {
		return &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-key",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is no key named %q", name),
			Remedy: "See what there is: plumlatch key list",
		}
	}
	return err
}

// List returns one page of keys.
func (s *Service) List(ctx context.Context, f record.KeyFilter, p record.Page) (record.List[record.Key], error) {
	l, err := s.store.Keys(ctx, f, p)
	return l, problem.FromPage(err)
}

// Key returns the key of that name.
func (s *Service) Key(ctx context.Context, name string) (record.Key, error) {
	k, err := s.store.KeyNamed(ctx, name)
	return k, s.NoKey(err, name)
}

// PublicKey returns the public key of a key in the form; "" means one line.
func (s *Service) PublicKey(ctx context.Context, name string, f keypair.Format) (string, error) {
	k, err := s.Key(ctx, name)
	if err != nil {
		return "", err
	}
	if f == "" {
		f = keypair.OneLine
	}
	p, err := keypair.ReadBlob(k.Blob)
	if err != nil {
		return "", err
	}
	p.Comment = k.Comment
	text, err := p.Write(f)
	var none *keypair.FormatError
	if errors.As(err, &none) {
		return "", &problem.Problem{Kind: problem.Invalid, Code: "no-such-format", Field: "format", Detail: none.Problem}
	}
	return string(text), err
}

// Opens returns one page of the logins that the key opens or should open.
func (s *Service) Opens(ctx context.Context, name string, p record.Page) (record.List[record.Opening], error) {
	k, err := s.Key(ctx, name)
	if err != nil {
		return record.List[record.Opening]{}, err
	}
	l, err := s.store.Opens(ctx, k.ID, p)
	return l, problem.FromPage(err)
}

// DeleteKey removes the record of a key that is granted nowhere.
func (s *Service) DeleteKey(ctx context.Context, actor people.Actor, name string) error {
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := s.LockKey(ctx, tx, name, func(k record.Key) error { return s.Beyond(ctx, tx, k) })
		if err != nil {
			return err
		}
		opens, err := tx.Opens(ctx, k.ID, record.Page{Limit: 20, Total: true})
		if err != nil {
			return err
		}
		if n := *opens.Total; n > 0 {
			return stillOpens(name, n, opens.Items)
		}
		if err := tx.DeleteKey(ctx, k.ID); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), "key.delete", "key", name, "", nil),
		)
	})
	var problem *problem.Problem
	if errors.As(err, &problem) && problem.Code == "key-granted" {
		refused := s.journal.Entry(
			actor.By(), "key.delete:refused", "key", name, "", nil,
		)
		refused.Outcome = "refused"
		return errors.Join(err, s.store.Note(ctx, refused))
	}
	return err
}

func stillOpens(name string, n int, some []record.Opening) error {
	p := &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "key-granted",
		Detail: fmt.Sprintf("the key %s still opens, or should open, %s", name, text.Counted(n, "login")),
		Remedy: "Withdraw it there first, or delete those instances. See them all: plumlatch opens " + name,
	}
	for _, o := range some {
		p.Where = append(p.Where, o.OSUser+"@"+o.InstanceName)
	}
	return p
}

// Beyond refuses what would reach past the actor's limits: a change of a key that also
// opens logins which the actor does not see.
func (s *Service) Beyond(ctx context.Context, tx *store.Store, k record.Key) error {
	if !store.Limited(ctx) {
		return nil
	}
	page := record.Page{Limit: 1, Total: true}
	within, err := tx.Opens(ctx, k.ID, page)
	if err != nil {
		return err
	}
	all, err := tx.Opens(store.Unlimited(ctx), k.ID, page)
	if err != nil {
		return err
	}
	if *all.Total > *within.Total {
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "beyond-your-limit",
			Where:  []string{k.Name},
			Detail: fmt.Sprintf("%s also opens logins that you do not see", k.Name),
			Remedy: "Ask somebody without a limit",
		}
	}
	return nil
}

// Grantable refuses keys that are not to be granted again.
func (s *Service) Grantable(k record.Key) error {
	refuse := func(code, detail, remedy string) error {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   code,
			Field:  "key",
			Where:  []string{k.Name},
			Detail: detail,
			Remedy: remedy,
		}
	}
	switch {
	case k.State != custody.Active:
		return refuse("key-not-active", fmt.Sprintf("the key %s is %s", k.Name, k.State), "Choose a key that is active")
	case k.Type == keypair.RSA && k.Bits < minGrantedRSA && !s.AllowShortRSA:
		return refuse(
			"key-too-weak",
			fmt.Sprintf("the key %s is RSA with %d bits; new grants take %d or more", k.Name, k.Bits, minGrantedRSA),
			"Make a new key: plumlatch key new NAME",
		)
	case len(k.SharesPrimeWith) > 0:
		return refuse(
			"key-broken",
			fmt.Sprintf(
				"the key %s shares a prime with %s, so anybody can compute its private key", k.Name,
				strings.Join(k.SharesPrimeWith, ", "),
			),
			"Make a new key on another machine: plumlatch key new NAME",
		)
	}
	return nil
}
