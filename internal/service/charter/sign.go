package charter

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"plumlatch/internal/core/charter"
	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/record"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// mayBeSettled refuses an actor whose token is for another charter, or who needs a signature by a person and has
// none. Files that count already need none.
func (s *Service) mayBeSettled(ctx context.Context, actor people.Actor, c Compared, w *Settling) error {
	if len(c.Flaws) > 0 {
		return nil // refused for those
	}
	if actor.Only == "settle" && actor.Charter != c.Charter.Name {
		return &problem.Problem{
			Kind: problem.Forbidden, Code: "token-for-less",
			Detail: "this token settles the charter " + actor.Charter + " alone",
			Remedy: "Use one for " + c.Charter.Name,
		}
	}
	now, err := s.counting(ctx, c.Charter.Name)
	if err != nil {
		return err
	}
	// The files that count already were settled by somebody who might.
	if bytes.Equal(now.Digest, c.Digest) {
		return nil
	}
	if w.Signature == "" {
		if actor.Only == "settle" && !actor.Unsigned {
			return &problem.Problem{
				Kind: problem.Forbidden, Code: "not-signed", Field: "signature",
				Detail: "this token settles what a person has signed, and the files are not signed",
				Remedy: "Sign them: plumlatch charter sign FILE -with KEY, and give that: -signed FILE",
			}
		}
		return nil
	}
	signer, err := s.signer(ctx, c, now.Number, w.Signature)
	w.signedBy = signer.Name
	return err
}

// counting returns the version of a charter that counts; the zero one for none.
func (s *Service) counting(ctx context.Context, name string) (v record.CharterVersion, err error) {
	c, err := s.store.CharterNamed(ctx, name)
	if err == nil {
		v, err = s.store.CharterVersion(ctx, c.ID, c.Version)
	}
	if errors.Is(err, store.ErrNotFound) {
		return record.CharterVersion{}, nil
	}
	return v, err
}

// signer returns the key that has signed the files of a comparison, where its holder may settle it.
func (s *Service) signer(ctx context.Context, c Compared, version int, armoured string) (record.Key, error) {
	bad := func(format string, args ...any) (record.Key, error) {
		return record.Key{}, &problem.Problem{
			Kind: problem.Forbidden, Code: "bad-signature", Field: "signature", Detail: fmt.Sprintf(format, args...),
			Remedy: "Sign the files as they are now: plumlatch charter sign FILE -with KEY",
		}
	}
	blob, err := signature.KeyOf(armoured)
	if err != nil {
		return bad("%v", err)
	}
	k, err := s.store.KeyWithSHA256(ctx, keypair.Public{Blob: blob}.SHA256())
	if errors.Is(err, store.ErrNotFound) {
		return bad("the files are signed by a key that is not recorded")
	}
	if err != nil {
		return k, err
	}
	text := charter.ToSign(c.Charter.Name, version, c.Digest)
	if err := signature.Verify(armoured, charter.Namespace, []byte(text), k.Blob); err != nil {
		return bad(
			"the signature by %s: %v; it is for files with another content, or after another version than %d",
			k.Name,
			err,
			version,
		)
	}
	if k.State != custody.Active || k.Holder == nil {
		return bad("%s, which has signed the files, is no key in use of a known holder", k.Name)
	}
	o, err := s.store.OperatorNamed(ctx, k.Holder.Name)
	if errors.Is(err, store.ErrNotFound) {
		return bad("%s, which has signed the files, is held by %s, who is no person", k.Name, k.Holder.Name)
	}
	if err != nil {
		return k, err
	}
	if o.Machine || o.ClosedAt != nil || len(o.Limits) > 0 || !people.Role(o.Role).May(people.Operator) {
		return bad("%s, who holds %s, may not settle a charter", o.Name, k.Name)
	}
	return k, nil
}
