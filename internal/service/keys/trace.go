package keys

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
)

// TracedKind is what a fingerprint was found to be of.
type TracedKind string

// The kinds. An authority is one of TrustedUserCAKeys; former is a key that was in a login and is no longer there,
// and a named key is one that a program named when the server would have asked it.
const (
	TracedKey       TracedKind = "key"
	TracedHostKey   TracedKind = "host key"
	TracedStranger  TracedKind = "stranger"
	TracedAuthority TracedKind = "authority"
	TracedGroup     TracedKind = "group key"
	TracedFormer    TracedKind = "former"
	TracedNamed     TracedKind = "named key"
)

// Traced is what a fingerprint or a public key was found to be.
type Traced struct {
	Kind TracedKind
	// Name is that of the key; of the instance, for a host key; or of the login.
	Name string
	// Key is nil for what is no recorded key, Stranger for what is none.
	Key      *record.Key
	Stranger *record.Stranger
	// Matched says what matched.
	Matched string
	// Former is nil for what is in place, and HostKey for what is none.
	Former  *record.FormerLineIn
	HostKey *record.HostKeyOf
	// Logins are the first of those that the key opens.
	Logins []record.Opening
	// Setting says when an authority or a named key was read of a server's settings.
	Setting *record.LoginSetting
}

// Trace is what a text was found to be.
type Trace struct {
	ReadAs   string
	Compared []string
	Matches  []Traced
}

var compared = map[string][]string{
	"sha256": {"SHA-256 of keys", "SHA-256 of host keys", "SHA-256 of strangers", "SHA-256 of certificate authorities",
		"SHA-256 of keys that were in a login and are gone", "SHA-256 of keys that programs name",
		"SHA-256 of keys that clouds hand to groups"},
	"md5": {
		"MD5 of keys as OpenSSH prints it", "MD5 of keys over the SPKI DER", "MD5 of strangers as OpenSSH prints it",
		"MD5 of host keys as OpenSSH prints it", "MD5 of keys that were in a login and are gone, as OpenSSH prints it",
	},
	"sha1": {"SHA-1 over the PKCS#8 DER of private keys that were at hand"},
}

// maxTracedLogins is how many logins a trace tells of.
const maxTracedLogins = 50

// Trace says which record a fingerprint, in any spelling, or a public key, in
// any form, is, and what it opens.
func (s *Service) Trace(ctx context.Context, text string) (Trace, error) {
	var t Trace
	digest, ok := keypair.ReadFingerprint(text)
	if ok {
		t.ReadAs = fmt.Sprintf("a fingerprint: %s, %d bytes", strings.ToUpper(digest.Kind), len(digest.Sum))
	} else {
		file, err := keypair.ReadPublic(text)
		var refused *keypair.Refusal
		if errors.As(err, &refused) && (refused.Code == keypair.CodeNoType || refused.Code == keypair.CodeUnknownType) {
			return t, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "not-recognised",
				Field:  "text",
				Detail: "this is neither a fingerprint nor a public key that is known here",
				Remedy: "Give a fingerprint (SHA-256, MD5, SHA-1 or SSHFP, in any spelling) or a public key in any form",
			}
		}
		if err != nil {
			return t, problem.FromRefusal("text", err)
		}
		t.ReadAs = fmt.Sprintf("a public key: %s, %s", Describe(file.Public), keypair.FormatSHA256(file.SHA256()))
		digest = keypair.Digest{Kind: "sha256", Sum: file.SHA256()}
	}
	t.Compared = compared[digest.Kind]
	keys, err := s.store.KeysWithDigest(ctx, digest.Kind, digest.Sum)
	if err != nil {
		return t, err
	}
	for _, k := range keys {
		opens, err := s.store.Opens(ctx, k.ID, record.Page{Limit: maxTracedLogins})
		if err != nil {
			return t, err
		}
		matched := map[string]string{
			"sha256": "SHA-256",
			"md5":    "MD5 as OpenSSH prints it",
			"sha1":   "SHA-1 over the PKCS#8 DER",
		}[digest.Kind]
		if digest.Kind == "md5" && string(k.SPKIMD5) == string(digest.Sum) {
			matched = "MD5 over the SPKI DER"
		}
		t.Matches = append(t.Matches, Traced{Kind: TracedKey, Name: k.Name, Key: &k, Matched: matched, Logins: opens.Items})
	}
	beyond, err := s.traceBeyond(ctx, digest)
	t.Matches = append(t.Matches, beyond...)
	return t, err
}

// traceBeyond looks for a fingerprint among what is no recorded key: strangers, host keys, authorities and keys that
// programs name.
func (s *Service) traceBeyond(ctx context.Context, digest keypair.Digest) (found []Traced, err error) {
	if digest.Kind != "sha256" && digest.Kind != "md5" {
		return nil, nil
	}
	strangers, err := s.store.StrangersWith(ctx, digest.Kind, digest.Sum, maxTracedLogins)
	if err != nil {
		return nil, err
	}
	matched := map[string]string{"sha256": "SHA-256", "md5": "MD5 as OpenSSH prints it"}[digest.Kind]
	for _, g := range strangers {
		found = append(found, Traced{
			Kind: TracedStranger, Name: g.OSUser + "@" + g.InstanceName, Matched: matched, Stranger: &g.Stranger,
		})
	}
	former, err := s.store.FormerLinesWith(ctx, digest.Kind, digest.Sum, maxTracedLogins)
	if err != nil {
		return found, err
	}
	for _, f := range former {
		found = append(found, Traced{
			Kind: TracedFormer, Name: f.OSUser + "@" + f.InstanceName, Matched: matched, Former: &f,
		})
	}
	hosts, err := s.store.HostKeysWith(ctx, digest.Kind, digest.Sum, maxTracedLogins)
	if err != nil {
		return found, err
	}
	for _, h := range hosts {
		found = append(found, Traced{
			Kind: TracedHostKey, Name: h.InstanceName, Matched: matched + " of a host key", HostKey: &h,
		})
	}
	if digest.Kind != "sha256" {
		return found, nil
	}
	logins, err := s.store.LoginsOfAuthority(ctx, keypair.FormatSHA256(digest.Sum), maxTracedLogins)
	for _, l := range logins {
		found = append(found, Traced{
			Kind: TracedAuthority, Name: l.Name, Matched: "SHA-256 of a certificate authority", Setting: &l,
		})
	}
	if err != nil {
		return found, err
	}
	logins, err = s.store.LoginsOfNamedKey(ctx, keypair.FormatSHA256(digest.Sum), maxTracedLogins)
	for _, l := range logins {
		found = append(found, Traced{
			Kind: TracedNamed, Name: l.Name, Matched: "SHA-256 of a key that a program names", Setting: &l,
		})
	}
	if err != nil {
		return found, err
	}
	groups, err := s.store.LoginsOfGroupKey(ctx, digest.Sum, maxTracedLogins)
	for _, g := range groups {
		found = append(found, Traced{
			Kind: TracedGroup, Name: g.Login, Matched: "SHA-256 of " + g.Way().Text,
		})
	}
	return found, err
}
