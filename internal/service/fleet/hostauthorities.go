package fleet

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/hostcert"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// Took says how host keys of an instance were learnt that the service takes in the place of those that are pinned.
type Took struct {
	By                   journal.By
	Told, Learnt, Reason string
	Change               record.InstanceChange // that goes with it
}

// TakeHostKeys pins host keys in the place of those that are. Where they are pinned already only the change is made.
func (s *Service) TakeHostKeys(ctx context.Context, i record.Instance, found []keypair.Public, by Took) error {
	var keys []record.HostKey
	for _, k := range found {
		if slices.ContainsFunc(keys, func(h record.HostKey) bool { return h.Algorithm == k.Algorithm }) ||
			len(keys) == MostHostKeys {
			continue
		}
		keys = append(keys, record.HostKey{
			ID: store.NewID(), InstanceID: i.ID, Algorithm: k.Algorithm, Blob: k.Blob, SHA256: k.SHA256(), Learnt: by.Learnt,
			PinnedAt: s.now(),
		})
	}
	came, went := differing(keys, i.HostKeys), differing(i.HostKeys, keys)
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if by.Change != (record.InstanceChange{}) {
			if err := tx.ChangeInstance(ctx, i.ID, by.Change); err != nil {
				return err
			}
		}
		if len(came)+len(went) == 0 {
			return nil
		}
		was := record.FormerHostKey{ReplacedAt: s.now(), ReplacedBy: by.By.Name, Reason: by.Reason}
		if err := tx.ReplaceHostKeys(ctx, i.ID, keys, was); err != nil {
			return err
		}
		if _, err := tx.ForgetExpected(ctx, i.ID, nil); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			by.By, by.Told, "instance", i.Name, by.Reason,
			journal.Facts{"came": prints(came), "went": prints(went), "learnt": by.Learnt},
		))
	})
}

// AcceptChange looks whether a machine that shows other host keys than the pinned ones shows what was expected of it,
// or what a host authority vouches for, and takes that then. It reports whether it did.
func (s *Service) AcceptChange(ctx context.Context, i record.Instance) (bool, error) {
	expected, err := s.store.ExpectedHostKeys(ctx, i.ID)
	if err != nil {
		return false, err
	}
	target := s.Target(i, "")
	if len(expected) > 0 {
		shown, err := sshio.HostKeys(ctx, target)
		if err != nil {
			return false, err
		}
		for _, k := range shown {
			public, err := publicOf(k)
			at := slices.IndexFunc(
				expected,
				func(e record.ExpectedHostKey) bool { return bytes.Equal(e.SHA256, public.SHA256()) },
			)
			if err != nil || at < 0 {
				continue
			}
			e := expected[at]
			return true, s.TakeHostKeys(ctx, i, []keypair.Public{public}, Took{
				By: journal.ByService, Told: "hostkey.pin:expected",
				Learnt: "machine itself, with the fingerprint that was expected",
				Reason: fmt.Sprintf("%s (expected by %s)", e.Reason, e.By),
			})
		}
	}
	public, by, err := s.Vouched(ctx, target, i.Name, i.PublicAddress, i.PrivateAddress)
	if err != nil || by == "" {
		return false, err
	}
	return true, s.TakeHostKeys(ctx, i, []keypair.Public{public}, Took{
		By: journal.ByService, Told: "hostkey.pin:vouched", Learnt: "host certificate of the authority " + by,
		Reason: "the host authority " + by + " vouches for it",
	})
}

// Vouched returns a host key of a machine that has one of the names or addresses, that a host authority vouches for,
// and the authority's name; "" for none.
func (s *Service) Vouched(
	ctx context.Context, t sshio.Target, names ...string,
) (public keypair.Public, by string, err error) {
	authorities, err := s.store.HostAuthorities(ctx)
	if err != nil || len(authorities) == 0 {
		return public, "", err
	}
	certificates, err := sshio.HostCertificates(ctx, t)
	if err != nil {
		return public, "", err
	}
	for _, c := range certificates {
		for _, a := range authorities {
			key, err := ssh.ParsePublicKey(a.Blob)
			if err != nil {
				continue
			}
			if hostcert.Vouches(c, hostcert.Authority{Key: key, Hosts: a.Hosts}, names, s.now()) == nil {
				public, err = publicOf(c.Key)
				return public, a.Name, err
			}
		}
	}
	return public, "", nil
}

func publicOf(k ssh.PublicKey) (keypair.Public, error) {
	return keypair.ReadLine(k.Type() + " " + base64.StdEncoding.EncodeToString(k.Marshal()))
}

// Expect says that an instance will have a host key, or no longer that it will.
func (s *Service) Expect(
	ctx context.Context, actor people.Actor, instance, fingerprint, reason string, withdraw bool,
) (HostKeysOf, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return HostKeysOf{}, err
	}
	d, ok := keypair.ReadFingerprint(fingerprint)
	switch {
	case !ok || d.Kind != "sha256":
		return HostKeysOf{}, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-digest", Field: "sha256",
			Detail: fmt.Sprintf("%q is no SHA-256 fingerprint", text.Line(fingerprint, text.MaxLine)),
		}
	case reason == "" && !withdraw:
		return HostKeysOf{}, &problem.Problem{
			Kind: problem.Invalid, Code: "no-reason", Field: "reason",
			Detail: "another host key is expected for a reason, for the daybook", Remedy: "Say why: -reason TEXT",
		}
	}
	i, err := s.Instance(ctx, instance)
	if err != nil {
		return HostKeysOf{}, err
	}
	told := "hostkey.expect"
	if withdraw {
		told = "hostkey.expect:withdrawn"
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if withdraw {
			if there, err := tx.ForgetExpected(ctx, i.ID, d.Sum); err != nil || !there {
				return err
			}
		} else if err := tx.ExpectHostKey(ctx, record.ExpectedHostKey{
			InstanceID: i.ID, SHA256: d.Sum, At: s.now(), By: actor.Name, Reason: reason,
		}); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), told, "instance", i.Name, reason, journal.Facts{"host_key": keypair.FormatSHA256(d.Sum)},
		))
	})
	if err != nil {
		return HostKeysOf{}, err
	}
	return s.HostKeys(ctx, instance)
}

// AuthorityWanted is a certificate authority that vouches for host keys.
type AuthorityWanted struct{ Name, PublicKey, Hosts, Reason string }

// AddHostAuthority adds a certificate authority that vouches for host keys.
func (s *Service) AddHostAuthority(
	ctx context.Context, actor people.Actor, w AuthorityWanted,
) (record.HostAuthority, error) {
	if err := errors.Join(problem.CheckName("name", w.Name), problem.CheckText("reason", w.Reason)); err != nil {
		return record.HostAuthority{}, err
	}
	read, _, err := hostcert.Read(w.PublicKey)
	if err == nil && w.Hosts != "" {
		read.Hosts = w.Hosts
	}
	if err == nil && text.Line(read.Hosts, text.MaxLine) != read.Hosts {
		err = errors.New("the patterns of its hosts are too long")
	}
	if err != nil {
		return record.HostAuthority{}, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-public_key", Field: "public_key", Detail: err.Error(),
			Remedy: "Give the public key of the authority in one line, or its @cert-authority line of known_hosts",
		}
	}
	public, err := publicOf(read.Key)
	if err != nil {
		return record.HostAuthority{}, problem.FromRefusal("public_key", err)
	}
	a := record.HostAuthority{
		ID: store.NewID(), Name: w.Name, Algorithm: public.Algorithm, Blob: public.Blob, SHA256: public.SHA256(),
		Hosts: read.Hosts, AddedAt: s.now(), AddedBy: actor.Name,
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddHostAuthority(ctx, a); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "host-authority.add", "host-authority", a.Name, w.Reason,
			journal.Facts{"key": keypair.FormatSHA256(a.SHA256), "hosts": a.Hosts},
		))
	})
	if taken, ok := errors.AsType[*store.TakenError](err); ok {
		code, detail := "name-taken", fmt.Sprintf("there is a host authority named %s already", a.Name)
		if taken.Constraint == "host_authorities_key" {
			code, detail = "key-taken", "this key is a host authority already"
		}
		return a, &problem.Problem{
			Kind: problem.Conflict, Code: code, Where: []string{a.Name}, Detail: detail,
			Remedy: "See those that there are: plumlatch host-authority list",
		}
	}
	return a, err
}

// HostAuthorities returns all of them.
func (s *Service) HostAuthorities(ctx context.Context) ([]record.HostAuthority, error) {
	return s.store.HostAuthorities(ctx)
}

// RemoveHostAuthority ends an authority. What it has vouched for stays pinned.
func (s *Service) RemoveHostAuthority(ctx context.Context, actor people.Actor, name, reason string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		there, err := tx.DeleteHostAuthority(ctx, name)
		if err == nil && !there {
			err = &problem.Problem{
				Kind: problem.NotFound, Code: "no-such-authority", Where: []string{name},
				Detail: fmt.Sprintf("there is no host authority named %q", name),
				Remedy: "See those that there are: plumlatch host-authority list",
			}
		}
		if err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "host-authority.remove", "host-authority", name, reason, nil))
	})
}
