package cloudkeys

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

// mostNamed is how many named keys of one catalogue are told of.
const mostNamed = 10_000

// Named is a key of a cloud's own catalogue.
type Named struct {
	Name, Region string
	// Fingerprint is in the cloud's own notation, Notation says which that is; "" for one that is not known.
	Fingerprint, Notation string
	// PublicKey is in one line; "" where the cloud does not give it.
	PublicKey string
	// Recorded are the names of the records that it is.
	Recorded []string
	// Launched is how many instances the cloud shows its name beside. Of those that are recorded, Opens is how many the
	// key opens as they were last read, and Untrue how many it does not.
	Launched, Opens, Untrue int
}

// Catalogue is a cloud's own catalogue of named keys.
type Catalogue struct {
	Keys  []Named
	Quota int // of a region; 0 for none that is known
}

// Catalogue asks a cloud for its catalogue, and says what of it is recorded here.
func (s *Service) Catalogue(ctx context.Context, name string) (Catalogue, error) {
	c, err := s.asked(ctx, name, cloud.CanCatalogue, "a catalogue of named keys")
	if err != nil {
		return Catalogue{}, err
	}
	told, err := s.clouds.Of(&c.ID).KeyPairs(ctx)
	if err != nil {
		return Catalogue{}, problem.FromCloud(err)
	}
	if len(told.KeyPairs) > mostNamed {
		return Catalogue{}, &problem.Problem{
			Kind: problem.Unavailable, Code: "bad-answer", Detail: fmt.Sprintf("%s has over %d named keys", c.Name, mostNamed),
		}
	}
	var out Catalogue
	if told.Quota != nil {
		out.Quota = *told.Quota
	}
	var digests []keypair.Digest
	for _, k := range told.KeyPairs {
		one := Named{
			Name: text.Line(k.Name, text.MaxLine), Region: text.Line(k.Region, text.MaxLine),
			Fingerprint: text.Line(k.Fingerprint, text.MaxLine),
		}
		digest, ok := keypair.ReadFingerprint(k.Fingerprint)
		if k.PublicKey != nil {
			if public, err := keypair.ReadLine(*k.PublicKey); err == nil {
				one.PublicKey = public.Line()
				digest, ok = keypair.Digest{Kind: "sha256", Sum: public.SHA256()}, true
			}
		}
		if !ok {
			digest = keypair.Digest{}
		}
		one.Notation = notation(k.Fingerprint)
		out.Keys, digests = append(out.Keys, one), append(digests, digest)
	}
	return out, s.compare(ctx, c, out.Keys, digests)
}

// notation names how a fingerprint is written.
func notation(fingerprint string) string {
	d, ok := keypair.ReadFingerprint(fingerprint)
	if !ok {
		return ""
	}
	return map[string]string{"sha256": "SHA-256", "md5": "MD5", "sha1": "SHA-1"}[d.Kind]
}

// compare says of named keys which records they are, and what their names beside instances are worth.
func (s *Service) compare(ctx context.Context, c record.Cloud, list []Named, digests []keypair.Digest) error {
	known, err := s.store.KeysWithDigests(ctx, digests)
	if err != nil {
		return err
	}
	names, ids := make([]string, len(list)), make([]uuid.UUID, len(list))
	for n := range list {
		names[n] = list[n].Name
		for _, k := range known {
			if k.Has(digests[n]) {
				list[n].Recorded, ids[n] = append(list[n].Recorded, k.Name), k.ID
			}
		}
	}
	worth, err := s.store.LabelsWorth(ctx, c.ID, names, ids)
	for n := range list {
		w := worth[n]
		list[n].Launched, list[n].Opens, list[n].Untrue = w.Launched, w.Opens, w.Untrue
	}
	return err
}

// PublishWanted is a key of ours that goes into a cloud's catalogue.
type PublishWanted struct {
	Key     string
	As      string   // the name there; "" for that which it has here
	Regions []string // none for all of the cloud
	Reason  string
}

// Published is what came of it in one region.
type Published struct {
	Region string
	// Was is whether it was there before.
	Was     bool
	Problem *problem.Problem
}

// Publish puts the public key of a record into a cloud's catalogue. Repeating it changes nothing.
func (s *Service) Publish(ctx context.Context, actor people.Actor, name string, w PublishWanted) ([]Published, error) {
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return nil, err
	}
	if err := people.FleetWide(ctx, "what a cloud's catalogue names for other launches"); err != nil {
		return nil, err
	}
	c, err := s.asked(ctx, name, cloud.CanCatalogue, "a catalogue of named keys")
	if err != nil {
		return nil, err
	}
	k, err := s.keys.Key(ctx, w.Key)
	if err != nil {
		return nil, err
	}
	if k.StewardOf != nil {
		return nil, &problem.Problem{
			Kind: problem.Invalid, Code: "steward-key", Field: "key", Detail: "a steward key is for one instance alone",
		}
	}
	if w.As == "" {
		w.As = k.Name
	}
	if text.Line(w.As, text.MaxLine) != w.As {
		return nil, invalid("as", "the name is too long, or has control characters")
	}
	regions, err := s.regionsOf(c, w.Regions)
	if err != nil {
		return nil, err
	}
	there, err := s.clouds.Of(&c.ID).KeyPairs(ctx)
	if err != nil {
		return nil, problem.FromCloud(err)
	}
	var out []Published
	for _, region := range regions {
		one := Published{Region: region}
		was := slices.ContainsFunc(there.KeyPairs, func(o cloud.KeyPair) bool { return o.Name == w.As && o.Region == region })
		_, err := s.clouds.Of(&c.ID).
			AddKeyPair(ctx, region, w.As, keypair.Public{Algorithm: k.Algorithm, Blob: k.Blob}.Line())
		if p, ok := errors.AsType[*problem.Problem](problem.FromCloud(err)); ok {
			one.Problem = p
		} else if err != nil {
			return out, err
		}
		if one.Was = was && err == nil; err == nil && !was {
			err = s.store.Note(ctx, journal.OnKeys(s.journal.Entry(
				actor.By(), "cloud.publish", "cloud", c.Name, w.Reason,
				journal.Facts{"key": k.Name, "as": w.As, "region": region},
			), k.Name))
			if err != nil {
				return out, err
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// Unpublish takes a named key out of a cloud's catalogue. What it opens stays.
func (s *Service) Unpublish(
	ctx context.Context, actor people.Actor, name, key string, regions []string, reason string,
) error {
	if err := problem.CheckText("reason", reason); err != nil {
		return err
	}
	c, err := s.asked(ctx, name, cloud.CanCatalogue, "a catalogue of named keys")
	if err != nil {
		return err
	}
	if regions, err = s.regionsOf(c, regions); err != nil {
		return err
	}
	there, err := s.clouds.Of(&c.ID).KeyPairs(ctx)
	if err != nil {
		return problem.FromCloud(err)
	}
	var gone []string
	for _, k := range there.KeyPairs {
		if k.Name != key || !slices.Contains(regions, k.Region) {
			continue
		}
		if err := s.clouds.Of(&c.ID).RemoveKeyPair(ctx, k.Region, k.Name); err != nil {
			return problem.FromCloud(err)
		}
		gone = append(gone, k.Region)
		if err := s.store.Note(ctx, s.journal.Entry(
			actor.By(), "cloud.unpublish", "cloud", c.Name, reason, journal.Facts{"key": key, "region": k.Region},
		)); err != nil {
			return err
		}
	}
	if len(gone) == 0 {
		return &problem.Problem{
			Kind: problem.NotFound, Code: "no-such-named-key", Where: []string{key},
			Detail: fmt.Sprintf("the catalogue of %s has no key named %q there", c.Name, text.Line(key, text.MaxLine)),
			Remedy: "See what it has: plumlatch cloud keys " + c.Name,
		}
	}
	return nil
}

// regionsOf are the regions of a cloud, or those of them that are named.
func (s *Service) regionsOf(c record.Cloud, named []string) ([]string, error) {
	var all []string
	if c.Said != nil {
		for _, z := range c.Said.Zones {
			if !slices.Contains(all, z.Region) {
				all = append(all, z.Region)
			}
		}
	}
	for _, r := range named {
		if !slices.Contains(all, r) {
			return nil, invalid("region", fmt.Sprintf("%s has no region %q; it has %s", c.Name, r, strings.Join(all, ", ")))
		}
	}
	if len(named) > 0 {
		return named, nil
	}
	return all, nil
}

func invalid(field, detail string) error {
	return &problem.Problem{Kind: problem.Invalid, Code: "bad-" + field, Field: field, Detail: detail}
}

// lineOf is a record's public key as a cloud is given it.
func lineOf(k record.Key) string { return keys.LineOf(k) }

// sumOf is the digest of a key in one line.
func sumOf(line string) ([]byte, bool) {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return nil, false
	}
	return keypair.Public{Blob: public.Marshal()}.SHA256(), true
}
