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

// Traced is a record that a fingerprint or a public key was found to be.
type Traced struct {
	// Key is nil where it is a host key.
	Key *record.Key
	// Instance is the name of the instance whose host key it is.
	Instance string
	// Matched says what matched.
	Matched string
	// Logins are the first of those that the key opens.
	Logins []record.Opening
}

// Trace is what a text was found to be.
type Trace struct {
	ReadAs   string
	Compared []string
	Matches  []Traced
}

var compared = map[string][]string{
	"sha256": {"SHA-256 of keys", "SHA-256 of host keys"},
	"md5":    {"MD5 of keys as OpenSSH prints it", "MD5 of keys over the SPKI DER"},
	"sha1":   {"SHA-1 over the PKCS#8 DER of private keys that were at hand"},
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
		t.Matches = append(t.Matches, Traced{Key: &k, Matched: matched, Logins: opens.Items})
	}
	if digest.Kind != "sha256" {
		return t, nil
	}
	instances, err := s.store.InstancesWithHostKey(ctx, digest.Sum)
	for _, i := range instances {
		t.Matches = append(t.Matches, Traced{Instance: i.Name, Matched: "SHA-256 of a host key"})
	}
	return t, err
}
